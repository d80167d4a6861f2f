//! What a request and its answer say of the registers of a unit.

use super::length::word;
use crate::format::Table;

/// A range of a table, and what stands in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Carried<'m> {
    pub(crate) table: Table,
    pub(crate) address: usize,
    pub(crate) count: usize,
    /// Whether the request wrote it.
    pub(crate) is_written: bool,
    said: Said<'m>,
}

/// What is said of a range.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Said<'m> {
    /// A bit for each address, the lowest of a byte first.
    Bits(&'m [u8]),
    /// Two bytes for each address.
    Words(&'m [u8]),
    /// Which bits of a register stay, and what the others become.
    Mask(u16, u16),
    /// That it is written, and not what.
    Nothing,
}

impl<'m> Carried<'m> {
    /// The register at an address of the range, or a bit as 0 or 1, if that is known. `old` is what stood there, if that is.
    pub(crate) fn at(&self, address: usize, old: Option<u16>) -> Option<u16> {
        let place = address.checked_sub(self.address).filter(|place| *place < self.count)?;
        match self.said {
            Said::Bits(bytes) => Some((*bytes.get(place / 8)? >> (place % 8) & 1).into()),
            Said::Words(bytes) => Some(u16::from_be_bytes([*bytes.get(2 * place)?, *bytes.get(2 * place + 1)?])),
            Said::Mask(and, or) => old.map(|old| (old & and) | (or & !and)),
            Said::Nothing => None,
        }
    }
}

/// What a request writes, and what its answer tells, in the order in which the unit does both. `answer` is nothing for what is written to all units, which
/// nobody answers.
pub(crate) fn carried<'m>(request: &'m [u8], answer: Option<&'m [u8]>) -> [Option<Carried<'m>>; 2] {
    let Some(&code) = request.get(1) else { return [None; 2] };
    let range = |table, at: usize, count: usize, is_written, said| {
        Some(Carried { table, address: word(request, at), count, is_written, said })
    };
    let told = || answer.filter(|answer| answer.get(1) == Some(&code)).and_then(|answer| answer.get(3..));
    let read_bits = |table| told().and_then(|bits| range(table, 2, word(request, 4), false, Said::Bits(bits)));
    let read = |table| told().and_then(|words| range(table, 2, word(request, 4), false, Said::Words(words)));
    let sent = |from: usize| request.get(from..).unwrap_or_default();
    let (coils, registers) = (Table::Coil, Table::HoldingRegister);
    match code {
        1 => [read_bits(coils), None],
        2 => [read_bits(Table::DiscreteInput), None],
        3 => [read(registers), None],
        4 => [read(Table::InputRegister), None],
        5 => [range(coils, 2, 1, true, Said::Bits(if request.get(4) == Some(&0xFF) { &[1] } else { &[0] })), None],
        6 => [range(registers, 2, 1, true, Said::Words(sent(4))), None],
        15 => [range(coils, 2, word(request, 4), true, Said::Bits(sent(7))), None],
        16 => [range(registers, 2, word(request, 4), true, Said::Words(sent(7))), None],
        22 => {
            let [and, or] = [4, 6].map(|at| word(request, at) as u16);
            [range(registers, 2, 1, true, Said::Mask(and, or)), None]
        }
        23 => [range(registers, 6, word(request, 8), true, Said::Words(sent(11))), read(registers)],
        _ => [None; 2],
    }
}

/// What a request may have written that nobody knows to be done.
pub(crate) fn perhaps_written(request: &[u8]) -> Option<Carried<'_>> {
    let [written, _] = carried(request, None);
    written.filter(|carried| carried.is_written).map(|carried| Carried { said: Said::Nothing, ..carried })
}
