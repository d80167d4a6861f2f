//! What is different between two runs of rows: matched by where they stood in the stream, in memory that does not grow with them.

use std::collections::{BTreeMap, HashMap, VecDeque};

use usus::Decimal;

use super::rows::{Row, Rows};

/// A row that the other side has passed by so many bytes has none there.
const PASSED: u64 = 1 << 20;

/// Where a row stands.
type Stream = (String, String);
type Place = (u64, String, Vec<u64>);

/// The differences of one kind of record, or of one table.
#[derive(Debug, Default)]
pub(super) struct Kind {
    pub(super) rows: [u64; 2],
    /// Rows of which the other side has none.
    pub(super) alone: [Count; 2],
    pub(super) changed: u64,
    /// By field, with the items of a group together.
    pub(super) fields: BTreeMap<String, Field>,
}

/// How many, and where the first is.
#[derive(Debug, Default)]
pub(super) struct Count {
    pub(super) count: u64,
    pub(super) first: Option<(Stream, u64)>,
}

/// What has changed in a field.
#[derive(Debug, Default)]
pub(super) struct Field {
    /// Rows in which both sides have it.
    pub(super) rows: u64,
    pub(super) changed: u64,
    /// The first: where, and what stood there before and after.
    pub(super) first: Option<(Stream, u64, [Option<String>; 2])>,
    /// Rows in which only one side has such a field.
    pub(super) alone: [u64; 2],
}

#[derive(Default)]
pub(super) struct Difference {
    pub(super) kinds: BTreeMap<String, Kind>,
}

/// One side, as far as it has been read.
struct Side {
    rows: Option<Rows>,
    waiting: HashMap<Stream, BTreeMap<Place, VecDeque<Row>>>,
    /// How far each stream has been read.
    at: HashMap<Stream, u64>,
    total: u64,
}

impl Side {
    fn new(rows: Option<Rows>) -> Side {
        Side { rows, waiting: HashMap::new(), at: HashMap::new(), total: 0 }
    }

    fn next(&mut self) -> Result<Option<Row>, String> {
        let row = self.rows.as_mut().and_then(Iterator::next).transpose()?;
        match &row {
            Some(row) => {
                let at = self.at.entry(row.stream.clone()).or_default();
                if row.offset > *at {
                    self.total += row.offset - *at;
                    *at = row.offset;
                }
            }
            None => self.rows = None,
        }
        Ok(row)
    }
}

impl Difference {
    /// Reads both to their ends.
    pub(super) fn read(&mut self, old: Option<Rows>, new: Option<Rows>) -> Result<(), String> {
        let mut sides = [Side::new(old), Side::new(new)];
        loop {
            let [old, new] = &sides;
            let side = match (&old.rows, &new.rows) {
                (None, None) => break,
                (Some(_), None) => 0,
                (None, Some(_)) => 1,
                (Some(_), Some(_)) => usize::from(old.total > new.total),
            };
            let Some(row) = sides[side].next()? else {
                self.settle(&mut sides, side, None);
                continue;
            };
            let kind = self.kinds.entry(row.kind.clone()).or_default();
            kind.rows[side] += 1;
            let place = (row.offset, row.kind.clone(), row.item.clone());
            let (stream, other) = (row.stream.clone(), 1 - side);
            let found = sides[other].waiting.get_mut(&stream).and_then(|waiting| {
                let rows = waiting.get_mut(&place)?;
                let found = rows.pop_front();
                if rows.is_empty() {
                    waiting.remove(&place);
                }
                found
            });
            match (found, side) {
                (Some(old), 1) => kind.compare(&old, &row),
                (Some(new), _) => kind.compare(&row, &new),
                (None, _) => {
                    let waiting = sides[side].waiting.entry(stream.clone()).or_default();
                    waiting.entry(place).or_default().push_back(row);
                }
            }
            self.settle(&mut sides, side, Some(&stream));
        }
        for side in [0, 1] {
            for (_, waiting) in std::mem::take(&mut sides[side].waiting) {
                waiting.into_values().flatten().for_each(|row| self.alone(side, row));
            }
        }
        Ok(())
    }

    /// What waits on the other side, and this one has passed, is alone.
    fn settle(&mut self, sides: &mut [Side; 2], side: usize, stream: Option<&Stream>) {
        let other = 1 - side;
        let Some(stream) = stream else {
            // This side has ended: nothing that waits will be met.
            for (_, waiting) in std::mem::take(&mut sides[other].waiting) {
                waiting.into_values().flatten().for_each(|row| self.alone(other, row));
            }
            return;
        };
        let passed = sides[side].at.get(stream).copied().unwrap_or(0).saturating_sub(PASSED);
        let Some(waiting) = sides[other].waiting.get_mut(stream) else { return };
        while let Some(first) = waiting.first_entry().filter(|first| first.key().0 < passed) {
            for row in first.remove() {
                let kind = self.kinds.entry(row.kind.clone()).or_default();
                kind.alone[other].add(&row);
            }
        }
    }

    fn alone(&mut self, side: usize, row: Row) {
        self.kinds.entry(row.kind.clone()).or_default().alone[side].add(&row);
    }
}

impl Count {
    fn add(&mut self, row: &Row) {
        self.count += 1;
        let is_first = self.first.as_ref().is_none_or(|(stream, offset)| *stream == row.stream && row.offset < *offset);
        if is_first {
            self.first = Some((row.stream.clone(), row.offset));
        }
    }
}

impl Kind {
    fn compare(&mut self, old: &Row, new: &Row) {
        let mut changed = false;
        let find = |row: &Row, name: &str, near: usize| {
            let at = row.fields.get(near).filter(|(known, _)| known == name);
            at.or_else(|| row.fields.iter().find(|(known, _)| known == name)).map(|(_, value)| value.clone())
        };
        for (at, (name, before)) in old.fields.iter().enumerate() {
            let found = find(new, name, at);
            let field = self.fields.entry(without_items(name)).or_default();
            match found {
                None if name.starts_with("quality of ") || name.contains('[') => {
                    changed |= field.change(old, [before.clone(), None]);
                }
                None => field.alone[0] += 1,
                Some(after) if is_same(before.as_deref(), after.as_deref()) => field.rows += 1,
                Some(after) => changed |= field.change(old, [before.clone(), after]),
            }
        }
        for (at, (name, after)) in new.fields.iter().enumerate() {
            if find(old, name, at).is_some() {
                continue;
            }
            let field = self.fields.entry(without_items(name)).or_default();
            match name.starts_with("quality of ") || name.contains('[') {
                true => changed |= field.change(new, [None, after.clone()]),
                false => field.alone[1] += 1,
            }
        }
        self.changed += u64::from(changed);
    }
}

impl Field {
    fn change(&mut self, row: &Row, values: [Option<String>; 2]) -> bool {
        self.rows += 1;
        self.changed += 1;
        if self.first.is_none() {
            self.first = Some((row.stream.clone(), row.offset, values));
        }
        true
    }
}

/// `peaks[2].force` is `peaks.force`.
fn without_items(name: &str) -> String {
    let mut depth = 0;
    name.chars()
        .filter(|character| match character {
            '[' => {
                depth += 1;
                false
            }
            ']' => {
                depth -= 1;
                false
            }
            _ => depth == 0,
        })
        .collect()
}

/// Whether two values are the same: numbers by what they are worth.
fn is_same(before: Option<&str>, after: Option<&str>) -> bool {
    let (Some(before), Some(after)) = (before, after) else { return before == after };
    let number = |text: &str| Decimal::parse(text.as_bytes());
    before == after
        || matches!((number(before), number(after)), (Some(before), Some(after)) if before.compare(after).is_eq())
}
