//! The registers of units on a bus: `[unit.NAME]` with its `points`, and `[[point]]` of any unit.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::field::read_keys;
use super::keys::{Keys, unknown_word};
use super::read_composed::{read_latest, read_span};
use super::{Field, Latest, Spanned};
use crate::limits;
use crate::problem::{ProblemKind, Problems};
use crate::time::Span;

/// `[unit.NAME]`: a unit on a Modbus line, or several of one kind, and what its registers mean. Each answer that tells some of them, and each write, gives a
/// record of that name.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Unit {
    /// The kind of its records.
    pub name: Spanned<String>,
    /// `title`, for people.
    pub title: Option<String>,
    /// `id`: its address on the bus, or those of several units that are alike.
    pub ids: Vec<Spanned<u8>>,
    /// `points`, and the `[[point]]` that name its address.
    pub points: Vec<Point>,
    /// `latest`: fields copied from other records.
    pub latest: Vec<Latest>,
}

impl Unit {
    /// A unit without points.
    pub fn new(name: impl Into<String>, id: u8) -> Unit {
        let ids = [Spanned::from(id)].into();
        Unit { name: name.into().into(), title: None, ids, points: Vec::new(), latest: Vec::new() }
    }
}

/// A value in the registers of a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Point {
    /// What it is: its name, type, scale and so on. Nothing in it says a place.
    pub field: Field,
    /// `table`.
    pub table: Table,
    /// `address`: the first of its registers, as the protocol counts, from 0.
    pub address: u16,
    /// `within`: how far apart in time its registers may be read, where no one answer has all of them; nothing if only one answer will do.
    pub within: Option<Span>,
}

impl Point {
    /// A value that begins at an address of a table.
    pub fn new(field: Field, table: Table, address: u16) -> Point {
        Point { field, table, address, within: None }
    }
}

/// What of a unit an address counts, as the MODBUS Application Protocol Specification V1.1b3 names it in its chapter 4.3.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[allow(missing_docs)]
pub enum Table {
    Coil,
    DiscreteInput,
    InputRegister,
    HoldingRegister,
}

impl Table {
    /// The words for them, each with the digit that sheets print before the number.
    const WORDS: [(&'static str, u32, Table); 4] = [
        ("coil", 0, Table::Coil),
        ("discrete_input", 1, Table::DiscreteInput),
        ("input_register", 3, Table::InputRegister),
        ("holding_register", 4, Table::HoldingRegister),
    ];

    /// The word for it in format files.
    pub fn word(self) -> &'static str {
        Table::WORDS.into_iter().find(|(_, _, table)| *table == self).map_or("", |(word, ..)| word)
    }

    /// Whether it has bits, not registers.
    pub fn is_bits(self) -> bool {
        matches!(self, Table::Coil | Table::DiscreteInput)
    }

    /// The number that sheets print for an address: the digit of the table, and the address counted from 1.
    pub fn reference(self, address: u16) -> u32 {
        let digit = Table::WORDS.into_iter().find(|(_, _, table)| *table == self).map_or(0, |(_, digit, _)| digit);
        let number = u32::from(address) + 1;
        digit * if number < 10_000 { 10_000 } else { 100_000 } + number
    }

    /// The table and the address of such a number, which has five or six digits; those of coils may lack their zeros.
    pub fn of_reference(reference: &str) -> Option<(Table, u16)> {
        let is_number = reference.len() <= 6 && reference.bytes().all(|byte| byte.is_ascii_digit());
        let number: u32 = reference.parse().ok().filter(|_| is_number)?;
        let one = if reference.len() == 6 { 100_000 } else { 10_000 };
        let (digit, number) = (number / one, number % one);
        let table = Table::WORDS.into_iter().find(|(_, of, _)| *of == digit)?.2;
        Some((table, u16::try_from(number.checked_sub(1)?).ok()?))
    }

    /// Reads a word as sheets write it, too: `Holding registers`.
    fn parse(text: &str) -> Option<Table> {
        let word: String =
            text.trim().chars().map(|c| if c.is_alphabetic() { c.to_ascii_lowercase() } else { '_' }).collect();
        let word = word.strip_suffix('s').unwrap_or(&word);
        Table::WORDS.into_iter().find(|(known, ..)| *known == word).map(|(.., table)| table)
    }
}

/// Reads `[unit.NAME]`, and puts every `[[point]]` to the unit whose address it names.
pub(super) fn read_units(keys: &mut Keys<'_, '_>) -> Vec<Unit> {
    let mut units: Vec<Unit> = Vec::new();
    for (name, table) in super::read_composed::named(keys, "unit", "units") {
        let mut inner = Keys::new(table, name.span.clone(), "`[unit.NAME]`", keys.problems);
        let title = inner.text("title").map(|title| title.value);
        let ids = read_ids(&mut inner);
        let mut points = Vec::new();
        for (table, span) in inner.tables("points").into_iter().take(limits::FIELDS) {
            let (id, point) = read_point(table, span, inner.problems);
            if let Some(id) = id {
                let with = "a unit that has an `id` of its own".to_string();
                inner.problem(id.span, ProblemKind::Conflict { key: "unit_id", with });
            }
            points.extend(point);
        }
        let latest = read_latest(&mut inner);
        inner.done();
        units.push(Unit { name, title, ids, points, latest });
    }
    let mut tables = keys.tables("point");
    tables.extend(keys.tables("points"));
    for (table, span) in tables.into_iter().take(limits::FIELDS) {
        let (id, point) = read_point(table, span.clone(), keys.problems);
        let Some(id) = id else {
            keys.problem(span, ProblemKind::MissingKey { key: "unit_id", table: "`[[point]]`" });
            continue;
        };
        let Some(point) = point else { continue };
        let is_its = |unit: &&mut Unit| unit.ids.iter().any(|known| known.value == id.value);
        match units.iter_mut().find(is_its) {
            Some(unit) => unit.points.push(point),
            None => {
                let name = Spanned { span, value: alloc::format!("unit_{}", id.value) };
                units.push(Unit { points: [point].into(), ids: [id].into(), ..Unit { name, ..Unit::new("", 0) } });
            }
        }
    }
    if let Some(unit) = units.get(limits::KINDS) {
        let kind = ProblemKind::TooMany { what: "units", found: units.len(), limit: limits::KINDS };
        keys.problem(unit.name.span.clone(), kind);
    }
    units
}

/// `id`: one address, or several.
fn read_ids(keys: &mut Keys<'_, '_>) -> Vec<Spanned<u8>> {
    let Some(value) = keys.value("id") else {
        keys.missing("id");
        return Vec::new();
    };
    let items = match value.get_ref() {
        DeValue::Array(items) => items.iter().collect(),
        _ => [value].to_vec(),
    };
    let mut ids: Vec<Spanned<u8>> = Vec::new();
    for item in items {
        let id = super::keys::integer(item.get_ref()).and_then(|id| u8::try_from(id).ok()).filter(|id| *id > 0);
        match id {
            Some(id) if ids.iter().any(|known| known.value == id) => {
                keys.problem(item.span(), ProblemKind::Twice { what: "address", name: id.to_string() });
            }
            Some(value) => ids.push(Spanned { span: item.span(), value }),
            None => keys.wrong("id", "an address from 1 to 255, or several", item),
        }
    }
    ids
}

/// Reads a point, and the address of the unit that it names.
fn read_point(
    table: &DeTable<'_>,
    span: Range<usize>,
    problems: &mut Problems,
) -> (Option<Spanned<u8>>, Option<Point>) {
    let mut keys = Keys::new(table, span, "a point", problems);
    let (id, point) = read_point_keys(&mut keys);
    keys.done();
    (id, point)
}

/// All keys that a point may have.
pub(super) fn known_keys() -> Vec<&'static str> {
    let (table, mut problems) = (DeTable::new(), Problems::default());
    let mut keys = Keys::new(&table, 0..0, "a point", &mut problems);
    read_point_keys(&mut keys);
    keys.known()
}

fn read_point_keys(keys: &mut Keys<'_, '_>) -> (Option<Spanned<u8>>, Option<Point>) {
    let mut field = read_keys(keys, 0);
    // What a run of values calls so is a register here.
    let address = field.address.take();
    let id = keys.within("unit_id", 1, 255).map(|id| Spanned { span: id.span, value: id.value as u8 });
    let table = keys.text("table").and_then(|text| {
        let table = Table::parse(&text.value);
        if table.is_none() {
            let words = Table::WORDS.iter().map(|(word, ..)| *word);
            keys.problem(text.span.clone(), unknown_word("table of a unit", &text.value, words));
        }
        table.map(|table| Spanned { span: text.span, value: table })
    });
    let reference = read_reference(keys);
    let within = read_span(keys, "within");
    let place = match (table, address, reference) {
        (Some(table), None, Some((span, reference))) if table.value != reference.0 => {
            let kind = ProblemKind::Senseless("`table` and the first digit of `reference` say different things");
            keys.problem(span, kind);
            None
        }
        (_, None, Some((_, place))) => Some(place),
        (_, Some(address), Some(_)) => {
            let kind = ProblemKind::Senseless("one of `address` and `reference` says the place, not both");
            keys.problem(address.span, kind);
            None
        }
        (Some(table), Some(address), None) => match u16::try_from(address.value) {
            Ok(address) => Some((table.value, address)),
            Err(_) => {
                let found = i64::try_from(address.value).unwrap_or(i64::MAX);
                let kind = ProblemKind::OutOfBounds { key: "address", found, least: 0, most: u16::MAX.into() };
                keys.problem(address.span, kind);
                None
            }
        },
        (table, address, None) => {
            // One that is not right has been told.
            let key = if table.is_none() && address.is_some() { "table" } else { "address" };
            if keys.value(key).is_none() && keys.value("reference").is_none() {
                keys.missing(key);
            }
            None
        }
    };
    (id, place.map(|(table, address)| Point { field, table, address, within }))
}

/// `reference`: a number as sheets print it, or its digits.
fn read_reference(keys: &mut Keys<'_, '_>) -> Option<(Range<usize>, (Table, u16))> {
    let value = keys.value("reference")?;
    let digits = match value.get_ref() {
        DeValue::String(text) => Some(text.trim().to_string()),
        number => super::keys::integer(number).map(|number| number.to_string()),
    };
    let place = digits.and_then(|digits| Table::of_reference(&digits));
    if place.is_none() {
        keys.wrong(
            "reference",
            "a number as sheets print it, such as 40011 or 300011: a digit for the table, and the rest counts from 1",
            value,
        );
    }
    Some((value.span(), place?))
}
