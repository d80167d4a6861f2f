//! Undoing the marks that the system puts into what is read from a port (`PARMRK`, POSIX termios): FF 00 X for a character X with a
//! fault, FF 00 00 for a break, FF FF for a sound FF.

use usus::{Fault, FaultKind};

use super::Counters;

/// Takes marks out, whatever pieces they come in.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Unmark {
    state: State,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum State {
    #[default]
    Plain,
    /// Behind FF.
    Escape,
    /// Behind FF 00.
    Faulty,
}

/// What else is known about the faults of a piece.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Marked {
    /// How the driver's counts have grown with it, if it has any.
    pub(crate) counted: Option<Counters>,
    /// Whether characters have a parity bit.
    pub(crate) parity: bool,
}

impl Unmark {
    /// Adds the bytes of a piece to `bytes`, and its faults to `faults`, by index in `bytes`. A break is a fault without a byte.
    pub(crate) fn take(&mut self, piece: &[u8], marked: Marked, bytes: &mut Vec<u8>, faults: &mut Vec<Fault>) {
        let mut left = marked.counted.unwrap_or_default();
        for &byte in piece {
            match (self.state, byte) {
                (State::Plain, 0xFF) => self.state = State::Escape,
                (State::Plain, byte) => bytes.push(byte),
                (State::Escape, 0x00) => self.state = State::Faulty,
                (State::Escape, byte) => {
                    // FF FF is FF. Any other byte cannot stand here; it is kept.
                    bytes.push(0xFF);
                    if byte != 0xFF {
                        bytes.push(byte);
                    }
                    self.state = State::Plain;
                }
                (State::Faulty, byte) => {
                    let kind = kind(byte, marked, &mut left);
                    faults.push(Fault { at: bytes.len(), kind });
                    if kind != FaultKind::Break {
                        bytes.push(byte);
                    }
                    self.state = State::Plain;
                }
            }
        }
    }
}

/// Which fault it is. The marks do not say; the driver's counts tell it, as far as they go.
fn kind(byte: u8, marked: Marked, left: &mut Counters) -> FaultKind {
    let usual = if marked.parity { FaultKind::Parity } else { FaultKind::Framing };
    if marked.counted.is_none() {
        return if byte == 0 { FaultKind::Break } else { usual };
    }
    let mut one_of = |kind: FaultKind| {
        let count = match kind {
            FaultKind::Break => &mut left.breaks,
            FaultKind::Parity => &mut left.parity,
            _ => &mut left.framing,
        };
        let some = *count > 0;
        *count = count.saturating_sub(1);
        some
    };
    let order = [FaultKind::Break, FaultKind::Framing, FaultKind::Parity];
    let possible = order.into_iter().filter(|kind| *kind != FaultKind::Break || byte == 0);
    for kind in possible {
        if one_of(kind) {
            return kind;
        }
    }
    usual
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unmark(pieces: &[&[u8]], marked: Marked) -> (Vec<u8>, Vec<(usize, FaultKind)>) {
        let (mut unmark, mut bytes, mut faults) = (Unmark::default(), Vec::new(), Vec::new());
        for piece in pieces {
            unmark.take(piece, marked, &mut bytes, &mut faults);
        }
        (bytes, faults.iter().map(|fault| (fault.at, fault.kind)).collect())
    }

    #[test]
    fn marks_are_undone_wherever_they_are_split() {
        let read = [1, 0xFF, 0xFF, 2, 0xFF, 0, 0x41, 0xFF, 0, 0, 3, 0xFF, 0, 0xFF];
        let expected = unmark(&[&read], Marked::default());
        assert_eq!(expected.0, [1, 0xFF, 2, 0x41, 3, 0xFF]);
        assert_eq!(expected.1, [(3, FaultKind::Framing), (4, FaultKind::Break), (5, FaultKind::Framing)]);
        for split in 0..=read.len() {
            assert_eq!(unmark(&[&read[..split], &read[split..]], Marked::default()), expected);
        }
    }

    #[test]
    fn the_drivers_counts_say_which_fault_it_is() {
        let read = [0xFF, 0, 0x41, 0xFF, 0, 0, 0xFF, 0, 0, 0xFF, 0, 0x42];
        let counted = |framing, parity, breaks| Marked {
            counted: Some(Counters { framing, parity, breaks, ..Counters::default() }),
            parity: true,
        };
        use FaultKind::{Break, Framing, Parity};
        for (marked, kinds) in [
            (counted(0, 4, 0), [Parity, Parity, Parity, Parity]),
            (counted(1, 2, 1), [Framing, Break, Parity, Parity]),
            (counted(2, 0, 2), [Framing, Break, Break, Framing]),
            (counted(0, 0, 0), [Parity, Parity, Parity, Parity]),
            (Marked { counted: None, parity: true }, [Parity, Break, Break, Parity]),
            (Marked { counted: None, parity: false }, [Framing, Break, Break, Framing]),
        ] {
            let found: Vec<FaultKind> = unmark(&[&read], marked).1.into_iter().map(|(_, kind)| kind).collect();
            assert_eq!(found, kinds, "{marked:?}");
        }
    }
}
