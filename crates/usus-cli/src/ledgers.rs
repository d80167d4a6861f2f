//! The account of all lines of a decoder, and of what lies inside of them.

use usus::{Decoder, Ledger};

/// The ledgers of a source's lines together, and of what their records carry: bytes of that are bytes of the lines, too.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ledgers {
    pub(crate) lines: Ledger,
    /// By the field that carries them, as `record.field`.
    pub(crate) inside: Vec<(String, Ledger)>,
}

impl Ledgers {
    pub(crate) fn of(decoder: &Decoder) -> Ledgers {
        let mut all = Ledgers::default();
        for line in decoder.lines() {
            all.lines.add(&decoder.ledger(line));
        }
        for inside in decoder.lines_inside() {
            all.inside_of(inside.field).add(&decoder.ledger(inside.line));
        }
        all
    }

    pub(crate) fn add(&mut self, other: &Ledgers) {
        self.lines.add(&other.lines);
        for (field, ledger) in &other.inside {
            self.inside_of(field).add(ledger);
        }
    }

    fn inside_of(&mut self, field: &str) -> &mut Ledger {
        let index = self.inside.iter().position(|(known, _)| known == field).unwrap_or_else(|| {
            self.inside.push((field.to_owned(), Ledger::default()));
            self.inside.len() - 1
        });
        &mut self.inside[index].1
    }

    /// All of them, with the fields that carry what lies inside.
    pub(crate) fn named(&self) -> impl Iterator<Item = (&Ledger, Option<&str>)> {
        let inside = self.inside.iter().map(|(field, ledger)| (ledger, Some(field.as_str())));
        std::iter::once((&self.lines, None)).chain(inside)
    }

    fn all(&self) -> impl Iterator<Item = &Ledger> {
        self.named().map(|(ledger, _)| ledger)
    }

    /// Records of each kind, in the order of the schema.
    pub(crate) fn records(&self) -> Vec<u64> {
        let mut records = Vec::new();
        for ledger in self.all() {
            records.resize(records.len().max(ledger.records.len()), 0);
            ledger.records.iter().zip(&mut records).for_each(|(count, sum)| *sum += count);
        }
        records
    }

    /// Whether every byte is booked, and none is pending.
    pub(crate) fn balance(&self) -> bool {
        self.all().all(|ledger| ledger.balances() && ledger.pending == 0)
    }
}
