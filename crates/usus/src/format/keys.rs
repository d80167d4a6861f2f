//! Reading a TOML table key by key: each value checked for its sort, unknown keys reported when done.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::Spanned as TomlSpanned;
use toml::de::{DeTable, DeValue};

use super::{Literal, Spanned};
use crate::limits;
use crate::problem::{ProblemKind, Problems, nearest};
use crate::value::Decimal;

/// A table being read, and the problems found in it.
pub(super) struct Keys<'t, 'p> {
    table: &'t DeTable<'t>,
    span: Range<usize>,
    /// What the table is, for messages.
    name: &'static str,
    known: Vec<&'static str>,
    pub(super) problems: &'p mut Problems,
}

impl<'t, 'p> Keys<'t, 'p> {
    pub(super) fn new(
        table: &'t DeTable<'t>,
        span: Range<usize>,
        name: &'static str,
        problems: &'p mut Problems,
    ) -> Keys<'t, 'p> {
        Keys { table, span, name, known: Vec::new(), problems }
    }

    pub(super) fn span(&self) -> Range<usize> {
        self.span.clone()
    }

    /// The value of a key, if it is there. From now on the key is known.
    pub(super) fn value(&mut self, key: &'static str) -> Option<&'t TomlSpanned<DeValue<'t>>> {
        self.known.push(key);
        self.table.get(key)
    }

    pub(super) fn problem(&mut self, span: Range<usize>, kind: ProblemKind) {
        self.problems.add(span, kind);
    }

    /// Reports that a key which has to be there is not.
    pub(super) fn missing(&mut self, key: &'static str) {
        let kind = ProblemKind::MissingKey { key, table: self.name };
        self.problems.add(self.span.clone(), kind);
    }

    /// Reports a value of a wrong sort.
    pub(super) fn wrong(&mut self, key: &str, expected: &'static str, value: &TomlSpanned<DeValue<'_>>) {
        wrong(self.problems, key, expected, value);
    }

    pub(super) fn text(&mut self, key: &'static str) -> Option<Spanned<String>> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::String(text) => Some(Spanned { span: value.span(), value: text.clone().into_owned() }),
            _ => {
                self.wrong(key, "a text", value);
                None
            }
        }
    }

    pub(super) fn required_text(&mut self, key: &'static str) -> Option<Spanned<String>> {
        if !self.table.contains_key(key) {
            self.known.push(key);
            self.missing(key);
            return None;
        }
        self.text(key)
    }

    /// A text of one character or a few.
    pub(super) fn short_text(&mut self, key: &'static str) -> Option<Spanned<String>> {
        let text = self.text(key)?;
        self.check_short(key, &text).then_some(text)
    }

    /// Whether a text has one character or a few; if not, that is reported.
    pub(super) fn check_short(&mut self, key: &'static str, text: &Spanned<String>) -> bool {
        let found = match text.value.len() {
            0 => "an empty text".to_string(),
            long if long > limits::START => format!("a text of {long} bytes"),
            _ => return true,
        };
        let expected = "a text of one character or a few";
        self.problems.add(text.span.clone(), ProblemKind::WrongValue { key: key.to_string(), expected, found });
        false
    }

    /// A name: `[a-z][a-z0-9_]*`, not too long, not a word with a meaning of its own.
    pub(super) fn name(&mut self, key: &'static str) -> Option<Spanned<String>> {
        let name = self.text(key)?;
        self.checked_name(name)
    }

    pub(super) fn checked_name(&mut self, name: Spanned<String>) -> Option<Spanned<String>> {
        if super::is_name(&name.value) {
            return Some(name);
        }
        self.problems.add(name.span, ProblemKind::BadName { name: name.value });
        None
    }

    pub(super) fn integer(&mut self, key: &'static str) -> Option<Spanned<i64>> {
        let value = self.value(key)?;
        match integer(value.get_ref()) {
            Some(number) => Some(Spanned { span: value.span(), value: number }),
            None => {
                self.wrong(key, "an integer", value);
                None
            }
        }
    }

    /// An integer from `least` to `most`.
    pub(super) fn within(&mut self, key: &'static str, least: i64, most: i64) -> Option<Spanned<i64>> {
        let number = self.integer(key)?;
        if (least..=most).contains(&number.value) {
            return Some(number);
        }
        let kind = ProblemKind::OutOfBounds { key, found: number.value, least, most };
        self.problems.add(number.span, kind);
        None
    }

    /// A place or a difference of places in a frame, counted from either end.
    pub(super) fn place(&mut self, key: &'static str) -> Option<Spanned<i64>> {
        self.within(key, -(limits::FRAME as i64), limits::FRAME as i64 - 1)
    }

    /// A number of bytes, columns or items, of at least `least` and at most as many as the largest frame has bytes.
    pub(super) fn size(&mut self, key: &'static str, least: usize) -> Option<Spanned<usize>> {
        let size = self.within(key, least as i64, limits::FRAME as i64)?;
        Some(Spanned { span: size.span, value: usize::try_from(size.value).ok()? })
    }

    pub(super) fn decimal(&mut self, key: &'static str) -> Option<Spanned<Decimal>> {
        let value = self.value(key)?;
        match decimal(value.get_ref()) {
            Some(number) => Some(Spanned { span: value.span(), value: number }),
            None => {
                self.wrong(key, "a number of at most 38 digits", value);
                None
            }
        }
    }

    pub(super) fn flag(&mut self, key: &'static str) -> bool {
        let Some(value) = self.value(key) else { return false };
        match value.get_ref() {
            DeValue::Boolean(flag) => *flag,
            _ => {
                self.wrong(key, "`true` or `false`", value);
                false
            }
        }
    }

    /// One of a few words.
    pub(super) fn word<T: Copy>(&mut self, key: &'static str, what: &'static str, words: &[(&str, T)]) -> Option<T> {
        let text = self.text(key)?;
        let found = words.iter().find(|(word, _)| *word == text.value);
        if found.is_none() {
            let kind = unknown_word(what, &text.value, words.iter().map(|(word, _)| *word));
            self.problems.add(text.span, kind);
        }
        found.map(|(_, meaning)| *meaning)
    }

    /// A number or a text.
    pub(super) fn literal(&mut self, key: &'static str) -> Option<Spanned<Literal>> {
        let value = self.value(key)?;
        let found = literal(value);
        if found.is_none() {
            self.wrong(key, "a number or a text", value);
        }
        found
    }

    /// One literal or a list of them.
    pub(super) fn literals(&mut self, key: &'static str) -> Vec<Spanned<Literal>> {
        let Some(value) = self.value(key) else { return Vec::new() };
        let items = match value.get_ref() {
            DeValue::Array(items) => items.iter().collect(),
            _ => [value].to_vec(),
        };
        let mut found = Vec::new();
        for item in items {
            match literal(item) {
                Some(item) => found.push(item),
                None => self.wrong(key, "numbers or texts", item),
            }
        }
        found
    }

    pub(super) fn texts(&mut self, key: &'static str) -> Vec<Spanned<String>> {
        let Some(value) = self.value(key) else { return Vec::new() };
        let items = match value.get_ref() {
            DeValue::Array(items) => items.iter().collect(),
            _ => [value].to_vec(),
        };
        let mut found = Vec::new();
        for item in items {
            match item.get_ref() {
                DeValue::String(text) => found.push(Spanned { span: item.span(), value: text.clone().into_owned() }),
                _ => self.wrong(key, "a text or a list of texts", item),
            }
        }
        found
    }

    /// The tables of a list of tables.
    pub(super) fn tables(&mut self, key: &'static str) -> Vec<(&'t DeTable<'t>, Range<usize>)> {
        let Some(value) = self.value(key) else { return Vec::new() };
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong(key, "a list of tables", value);
            return Vec::new();
        };
        let mut found = Vec::new();
        for item in items.iter() {
            match item.get_ref() {
                DeValue::Table(table) => found.push((table, item.span())),
                _ => self.wrong(key, "a list of tables", item),
            }
        }
        found
    }

    pub(super) fn table(&mut self, key: &'static str) -> Option<(&'t DeTable<'t>, Range<usize>)> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::Table(table) => Some((table, value.span())),
            _ => {
                self.wrong(key, "a table", value);
                None
            }
        }
    }

    /// The keys that were asked for.
    pub(super) fn known(&self) -> Vec<&'static str> {
        let mut known: Vec<&'static str> = Vec::new();
        for key in &self.known {
            // Some are asked for twice.
            if !known.contains(key) {
                known.push(key);
            }
        }
        known
    }

    /// Reports the keys that nobody asked for.
    pub(super) fn done(self) {
        let known = self.known();
        for (key, _) in in_file_order(self.table) {
            if !known.contains(&key.value.as_str()) {
                let kind = ProblemKind::UnknownKey {
                    nearest: nearest(&key.value, known.iter().copied()),
                    key: key.value,
                    table: self.name,
                    known: known.clone(),
                };
                self.problems.add(key.span, kind);
            }
        }
    }
}

/// The entries of a table as they stand in the file; the parser sorts them by key.
pub(super) fn in_file_order<'t>(table: &'t DeTable<'t>) -> Vec<(Spanned<String>, &'t TomlSpanned<DeValue<'t>>)> {
    let mut entries: Vec<_> = table
        .iter()
        .map(|(key, value)| (Spanned { span: key.span(), value: key.get_ref().clone().into_owned() }, value))
        .collect();
    entries.sort_by_key(|(key, _)| key.span.start);
    entries
}

pub(super) fn wrong(problems: &mut Problems, key: &str, expected: &'static str, value: &TomlSpanned<DeValue<'_>>) {
    let found = match value.get_ref() {
        DeValue::String(text) => format!("the text \"{}\"", text.escape_debug()),
        DeValue::Integer(number) => format!("the number {number}"),
        DeValue::Float(number) => format!("the number {number}"),
        DeValue::Boolean(flag) => format!("`{flag}`"),
        DeValue::Datetime(_) => "a date".to_string(),
        DeValue::Array(_) => "a list".to_string(),
        DeValue::Table(_) => "a table".to_string(),
    };
    problems.add(value.span(), ProblemKind::WrongValue { key: key.to_string(), expected, found });
}

pub(super) fn unknown_word<'a>(
    what: &'static str,
    found: &str,
    words: impl Iterator<Item = &'a str> + Clone,
) -> ProblemKind {
    ProblemKind::UnknownWord {
        what,
        found: found.to_string(),
        nearest: nearest(found, words.clone()),
        allowed: words.map(ToString::to_string).collect(),
        note: None,
    }
}

pub(super) fn integer(value: &DeValue<'_>) -> Option<i64> {
    match value {
        DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix()).ok(),
        _ => None,
    }
}

pub(super) fn decimal(value: &DeValue<'_>) -> Option<Decimal> {
    match value {
        DeValue::Integer(number) if number.radix() == 10 => Decimal::parse(number.as_str().as_bytes()),
        DeValue::Integer(number) => {
            let number = u64::from_str_radix(number.as_str(), number.radix()).ok()?;
            Some(Decimal::from_unsigned(number))
        }
        DeValue::Float(number) => Decimal::parse(number.as_str().as_bytes()),
        _ => None,
    }
}

/// A whole number that is not negative.
pub(super) fn unsigned(value: &DeValue<'_>) -> Option<u64> {
    match value {
        DeValue::Integer(number) => u64::from_str_radix(number.as_str(), number.radix()).ok(),
        _ => None,
    }
}

pub(super) fn literal(value: &TomlSpanned<DeValue<'_>>) -> Option<Spanned<Literal>> {
    let literal = match value.get_ref() {
        DeValue::String(text) => Literal::Text(text.clone().into_owned()),
        DeValue::Boolean(flag) => Literal::Bool(*flag),
        DeValue::Integer(number) if number.radix() != 10 => {
            Literal::Bits(u64::from_str_radix(number.as_str(), number.radix()).ok()?)
        }
        number => Literal::Number(decimal(number)?),
    };
    Some(Spanned { span: value.span(), value: literal })
}

/// Bytes from hex digits in pairs, with spaces between them or not: `A5 5A`. Nothing if it is anything else.
pub fn hex_bytes(text: &str) -> Option<Vec<u8>> {
    let digits: Vec<u8> = text.bytes().filter(|byte| !byte.is_ascii_whitespace()).collect();
    if !digits.len().is_multiple_of(2) {
        return None;
    }
    let digit = |byte: u8| char::from(byte).to_digit(16).map(|digit| digit as u8);
    digits.chunks(2).map(|pair| Some(digit(pair[0])? << 4 | digit(pair[1])?)).collect()
}

/// Bytes as hex digits in pairs with blanks between them: `A5 5A`.
pub(super) fn hex_digits(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}

/// Reads a pair of integers.
pub(super) fn pair_of<T>(
    problems: &mut Problems,
    key: &str,
    expected: &'static str,
    value: &TomlSpanned<DeValue<'_>>,
    convert: impl Fn(&DeValue<'_>) -> Option<T>,
) -> Option<[T; 2]> {
    if let DeValue::Array(items) = value.get_ref()
        && items.len() == 2
        && let (Some(first), Some(second)) = (convert(items[0].get_ref()), convert(items[1].get_ref()))
    {
        return Some([first, second]);
    }
    wrong(problems, key, expected, value);
    None
}

/// A place given as a number or as a text `"3-5"`, from 1, inclusive.
pub(super) fn span_of(
    problems: &mut Problems,
    key: &'static str,
    least: usize,
    value: &TomlSpanned<DeValue<'_>>,
) -> Option<Spanned<(usize, usize)>> {
    let found = match value.get_ref() {
        DeValue::String(text) => {
            let (first, last) = text.split_once('-').unwrap_or((text, text));
            first.trim().parse().ok().zip(last.trim().parse().ok())
        }
        other => integer(other).and_then(|number| usize::try_from(number).ok()).map(|number| (number, number)),
    };
    match found {
        Some((first, last)) if least <= first && first <= last && last <= limits::FRAME => {
            Some(Spanned { span: value.span(), value: (first, last) })
        }
        _ => {
            let expected = match least {
                0 => "a number from 0, or two such as \"0-3\"",
                _ => "a number from 1, or two such as \"1-3\"",
            };
            wrong(problems, key, expected, value);
            None
        }
    }
}
