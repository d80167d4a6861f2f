//! Computing a CRC of any parameters, eight bytes at a time.
//!
//! # How
//!
//! The register is worked on with its next bits lowest, so that one loop serves both directions: a reflected CRC is like that by
//! itself; of one that is not, the register is kept at the top of the word and its bytes are swapped. One step takes a byte:
//!
//! ```text
//! register = register >> 8 ^ table[0][(register ^ byte) & 0xFF]
//! ```
//!
//! `table[k][byte]` is what `byte` has become `k` bytes later, so eight steps are eight independent look-ups ("slicing by 8",
//! Kounavis and Berry 2005). Registers of up to 64 bits are used up by eight bytes. The one wider CRC of the catalogue goes byte by
//! byte on a wider register.

use alloc::sync::Arc;
use alloc::vec::Vec;

use super::CyclicParameters;

/// A CRC with its tables. Those of at most 32 bits have small tables, which leave room for others in the processor's nearest memory.
#[derive(Clone)]
pub(super) enum Cyclic {
    Small { parameters: CyclicParameters, tables: Arc<[[u32; 256]; 8]>, begun: u64 },
    Narrow { parameters: CyclicParameters, tables: Arc<[[u64; 256]; 8]>, begun: u64 },
    Wide { parameters: CyclicParameters, table: Arc<[u128]> },
}

/// A CRC of at most 32 bits.
#[derive(Clone, Copy)]
pub(crate) struct Small<'t> {
    tables: &'t [[u32; 256]; 8],
}

impl Small<'_> {
    /// What the bytes at a place leave in an empty register; nothing if they are not there.
    #[inline(always)]
    pub(crate) fn left_by(&self, place: &Place, wide: &[u8]) -> Option<u64> {
        let register = step(self.tables, word(wide.get(place.from..)?) << (place.too_many & 63));
        Some(eight_by_eight(self.tables, register, wide.get(place.eights..place.to)?))
    }
}

/// A place that is known before the bytes are, with what is known then about running them through a register.
#[derive(Clone, Copy)]
pub(crate) struct Place {
    pub(crate) from: usize,
    pub(crate) to: usize,
    /// Where eights begin, up to the end.
    eights: usize,
    /// How many bits the bytes before them are short of eight bytes.
    too_many: u32,
}

impl Place {
    pub(crate) fn new(from: usize, to: usize) -> Place {
        let front = front(to - from);
        Place { from, to, eights: from + front, too_many: 64 - 8 * front as u32 }
    }
}

/// How many of so many bytes stand before eights: one to eight if there are any, so that neighbouring numbers take the same way.
#[inline(always)]
fn front(length: usize) -> usize {
    match length.checked_sub(1) {
        Some(last) => last % 8 + 1,
        None => 0,
    }
}

impl Cyclic {
    pub(super) fn new(parameters: CyclicParameters) -> Cyclic {
        let first: Vec<u128> = (0..256).map(|byte| wide_step(&parameters, byte as u8)).collect();
        // Registers of up to 64 bits are in the low half of their working form.
        let begun = begin(&parameters) as u64;
        match parameters.width {
            0..=32 => {
                let mut tables = [[0u32; 256]; 8];
                for (table, slice) in tables.iter_mut().zip(slices(&first)) {
                    *table = slice.map(|entry| entry as u32);
                }
                Cyclic::Small { parameters, tables: Arc::new(tables), begun }
            }
            33..=64 => {
                let mut tables = [[0u64; 256]; 8];
                for (table, slice) in tables.iter_mut().zip(slices(&first)) {
                    *table = slice;
                }
                Cyclic::Narrow { parameters, tables: Arc::new(tables), begun }
            }
            _ => Cyclic::Wide { parameters, table: first.into() },
        }
    }

    pub(super) fn parameters(&self) -> &CyclicParameters {
        let (Cyclic::Small { parameters, .. } | Cyclic::Narrow { parameters, .. } | Cyclic::Wide { parameters, .. }) =
            self;
        parameters
    }

    /// Whether its bits come lowest first; nothing if they come in otherwise than they go out.
    pub(super) fn is_reflected(&self) -> Option<bool> {
        let parameters = self.parameters();
        (parameters.reflect_input == parameters.reflect_output).then_some(parameters.reflect_input)
    }

    /// The CRC of at most 64 bits, without a detour over wider words.
    #[inline(always)]
    pub(super) fn narrow(&self, bytes: &[u8]) -> Option<u64> {
        Some(value(self.parameters(), self.register(bytes)?))
    }

    /// Its tables, if it has at most 32 bits.
    pub(super) fn small(&self) -> Option<Small<'_>> {
        match self {
            Cyclic::Small { tables, .. } => Some(Small { tables }),
            _ => None,
        }
    }

    /// What bytes leave in a register of at most 64 bits.
    #[inline(always)]
    pub(super) fn register(&self, bytes: &[u8]) -> Option<u64> {
        match self {
            Cyclic::Small { tables, begun, .. } => Some(run(tables, *begun, bytes)),
            larger => larger.register_of_larger(bytes),
        }
    }

    #[inline(never)]
    fn register_of_larger(&self, bytes: &[u8]) -> Option<u64> {
        match self {
            Cyclic::Narrow { tables, begun, .. } => Some(run(tables, *begun, bytes)),
            _ => None,
        }
    }

    pub(super) fn of(&self, bytes: &[u8]) -> u128 {
        match self {
            Cyclic::Small { .. } | Cyclic::Narrow { .. } => self.narrow(bytes).unwrap_or_default().into(),
            Cyclic::Wide { parameters, table } => {
                let step = |register: u128, byte: &u8| register >> 8 ^ table[((register as u8) ^ byte) as usize];
                finish(parameters, bytes.iter().fold(begin(parameters), step))
            }
        }
    }
}

/// The CRC that a register of at most 64 bits holds.
#[inline(always)]
fn value(parameters: &CyclicParameters, register: u64) -> u64 {
    let value = match parameters.reflect_input {
        true => register,
        // The register's bytes are swapped, at the top of a wider word: the low half here.
        false => register.swap_bytes() >> (64 - parameters.width),
    };
    let value = match parameters.reflect_input == parameters.reflect_output {
        true => value,
        false => value.reverse_bits() >> (64 - parameters.width),
    };
    value ^ parameters.final_xor as u64
}

/// What a byte has become so many bytes later, for 0 to 7 of them.
fn slices(first: &[u128]) -> impl Iterator<Item = [u64; 256]> {
    let first: [u64; 256] = core::array::from_fn(|byte| first[byte] as u64);
    core::iter::successors(Some(first), move |before| {
        Some(before.map(|before| before >> 8 ^ first[(before & 0xFF) as usize]))
    })
}

/// Runs bytes through a register.
///
/// The bytes in front that make no eight are taken as an eight that begins with zeros, which change nothing once the register's own bytes
/// are put onto the bytes that they meet.
#[inline(always)]
fn run<T: Copy + Into<u64>>(tables: &[[T; 256]; 8], mut register: u64, bytes: &[u8]) -> u64 {
    let first = front(bytes.len());
    if first == 0 {
        return register;
    }
    let met = (word(bytes) ^ register) << (64 - 8 * first);
    register = register >> (4 * first) >> (4 * first) ^ step(tables, met);
    eight_by_eight(tables, register, &bytes[first..])
}

/// Runs as many eights as there are through a register.
#[inline(always)]
fn eight_by_eight<T: Copy + Into<u64>>(tables: &[[T; 256]; 8], mut register: u64, bytes: &[u8]) -> u64 {
    for eight in bytes.as_chunks::<8>().0 {
        register = step(tables, register ^ u64::from_le_bytes(*eight));
    }
    register
}

/// The first eight bytes as a word, low byte first.
#[inline(always)]
fn word(bytes: &[u8]) -> u64 {
    match bytes.first_chunk::<8>() {
        Some(eight) => u64::from_le_bytes(*eight),
        None => short_word(bytes),
    }
}

/// Fewer than eight bytes as a word, low byte first.
#[cold]
fn short_word(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte))
}

/// What eight bytes, the register among them, leave in it.
#[inline(always)]
fn step<T: Copy + Into<u64>>(tables: &[[T; 256]; 8], word: u64) -> u64 {
    let bytes = word.to_le_bytes();
    let look = |table: usize, byte: usize| -> u64 { tables[table][usize::from(bytes[byte])].into() };
    look(7, 0) ^ look(6, 1) ^ look(5, 2) ^ look(4, 3) ^ look(3, 4) ^ look(2, 5) ^ look(1, 6) ^ look(0, 7)
}

/// The working form of a register: reflected, or at the top of the word with its bytes swapped.
fn begin(parameters: &CyclicParameters) -> u128 {
    match parameters.reflect_input {
        true => reflect(parameters.initial, parameters.width),
        false => (parameters.initial << (128 - parameters.width)).swap_bytes(),
    }
}

/// What one byte does to an empty register, bit by bit, in working form.
fn wide_step(parameters: &CyclicParameters, byte: u8) -> u128 {
    if parameters.reflect_input {
        let polynomial = reflect(parameters.polynomial, parameters.width);
        return (0..8).fold(u128::from(byte), |value, _| value >> 1 ^ if value & 1 == 1 { polynomial } else { 0 });
    }
    let polynomial = parameters.polynomial << (128 - parameters.width);
    let top = 1u128 << 127;
    let begun = u128::from(byte) << 120;
    (0..8).fold(begun, |value, _| value << 1 ^ if value & top != 0 { polynomial } else { 0 }).swap_bytes()
}

fn finish(parameters: &CyclicParameters, register: u128) -> u128 {
    let value = match parameters.reflect_input {
        true => register,
        false => register.swap_bytes() >> (128 - parameters.width),
    };
    let value =
        if parameters.reflect_input == parameters.reflect_output { value } else { reflect(value, parameters.width) };
    value ^ parameters.final_xor
}

fn reflect(value: u128, width: u8) -> u128 {
    value.reverse_bits() >> (128 - width)
}
