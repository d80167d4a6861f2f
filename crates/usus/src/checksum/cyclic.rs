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

use super::catalogue::Parameters;

/// A CRC with its tables.
#[derive(Clone)]
pub(super) enum Cyclic {
    Narrow { parameters: &'static Parameters, tables: Arc<[[u64; 256]; 8]>, begun: u64 },
    Wide { parameters: &'static Parameters, table: Arc<[u128]> },
}

impl Cyclic {
    pub(super) fn new(parameters: &'static Parameters) -> Cyclic {
        let step = |byte: usize| wide_step(parameters, byte as u8);
        if parameters.width > 64 {
            return Cyclic::Wide { parameters, table: (0..256).map(step).collect() };
        }
        let first: Vec<u64> = (0..256).map(|byte| step(byte) as u64).collect();
        let mut tables = Arc::new([[0u64; 256]; 8]);
        if let Some(tables) = Arc::get_mut(&mut tables) {
            tables[0].copy_from_slice(&first);
            for index in 1..8 {
                let before = tables[index - 1];
                tables[index] = before.map(|before| before >> 8 ^ first[(before & 0xFF) as usize]);
            }
        }
        // Registers of up to 64 bits are in the low half of their working form.
        Cyclic::Narrow { parameters, tables, begun: begin(parameters) as u64 }
    }

    /// The CRC of at most 64 bits, without a detour over wider words.
    #[inline]
    pub(super) fn narrow(&self, bytes: &[u8]) -> Option<u64> {
        let Cyclic::Narrow { parameters, tables, begun } = self else { return None };
        let register = run(tables, *begun, bytes);
        let value = match parameters.reflect_input {
            true => register,
            // The register's bytes are swapped, at the top of a wider word: the low half here.
            false => register.swap_bytes() >> (64 - parameters.width),
        };
        let value = match parameters.reflect_input == parameters.reflect_output {
            true => value,
            false => value.reverse_bits() >> (64 - parameters.width),
        };
        Some(value ^ parameters.final_xor as u64)
    }

    pub(super) fn of(&self, bytes: &[u8]) -> u128 {
        match self {
            Cyclic::Narrow { .. } => self.narrow(bytes).unwrap_or_default().into(),
            Cyclic::Wide { parameters, table } => {
                let step = |register: u128, byte: &u8| register >> 8 ^ table[((register as u8) ^ byte) as usize];
                finish(parameters, bytes.iter().fold(begin(parameters), step))
            }
        }
    }
}

fn run(tables: &[[u64; 256]; 8], mut register: u64, bytes: &[u8]) -> u64 {
    let (eights, rest) = bytes.as_chunks::<8>();
    for eight in eights {
        let word = (register ^ u64::from_le_bytes(*eight)).to_le_bytes();
        register = tables[7][usize::from(word[0])]
            ^ tables[6][usize::from(word[1])]
            ^ tables[5][usize::from(word[2])]
            ^ tables[4][usize::from(word[3])]
            ^ tables[3][usize::from(word[4])]
            ^ tables[2][usize::from(word[5])]
            ^ tables[1][usize::from(word[6])]
            ^ tables[0][usize::from(word[7])];
    }
    for byte in rest {
        register = register >> 8 ^ tables[0][usize::from(register as u8 ^ byte)];
    }
    register
}

/// The working form of a register: reflected, or at the top of the word with its bytes swapped.
fn begin(parameters: &Parameters) -> u128 {
    match parameters.reflect_input {
        true => reflect(parameters.initial, parameters.width),
        false => (parameters.initial << (128 - parameters.width)).swap_bytes(),
    }
}

/// What one byte does to an empty register, bit by bit, in working form.
fn wide_step(parameters: &Parameters, byte: u8) -> u128 {
    if parameters.reflect_input {
        let polynomial = reflect(parameters.polynomial, parameters.width);
        return (0..8).fold(u128::from(byte), |value, _| value >> 1 ^ if value & 1 == 1 { polynomial } else { 0 });
    }
    let polynomial = parameters.polynomial << (128 - parameters.width);
    let top = 1u128 << 127;
    let begun = u128::from(byte) << 120;
    (0..8).fold(begun, |value, _| value << 1 ^ if value & top != 0 { polynomial } else { 0 }).swap_bytes()
}

fn finish(parameters: &Parameters, register: u128) -> u128 {
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
