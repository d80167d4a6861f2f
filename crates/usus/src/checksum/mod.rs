//! Checksums over bytes: what is computed, not where it stands.

mod alias;
mod catalogue;
mod cyclic;
mod overlaps;

use alloc::boxed::Box;
use alloc::vec::Vec;
use core::fmt;

use crate::integer::Order;
pub(crate) use alias::meant;
use cyclic::Cyclic;
pub(crate) use cyclic::{Place, Small};
pub(crate) use overlaps::{Overlaps, Stretch};

/// Sums that are no CRC, by name: plain sums of the bytes modulo 2^8 and 2^16, and the bytes xored together.
const SUMS: [&str; 3] = ["SUM-8", "SUM-16", "XOR-8"];

/// One of the checksums that there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct CatalogueEntry {
    /// Its name.
    pub name: &'static str,
    /// Its width in bits.
    pub width: u8,
    /// The checksum of the nine digits "123456789".
    pub check: u128,
    /// The parameters of a CRC; nothing of a sum.
    pub cyclic: Option<CyclicParameters>,
}

/// The parameters of a CRC, in the terms of the catalogue.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct CyclicParameters {
    /// The polynomial without its highest power, the highest bit first.
    pub polynomial: u128,
    /// What the register begins with.
    pub initial: u128,
    /// Whether each byte goes in with its lowest bit first.
    pub reflect_input: bool,
    /// Whether the register comes out reversed.
    pub reflect_output: bool,
    /// What the result is xored with.
    pub final_xor: u128,
}

/// A checksum ready to be computed.
#[derive(Clone)]
pub struct Checksum {
    name: Box<str>,
    width: u8,
    engine: Engine,
}

#[derive(Clone)]
enum Engine {
    Sum8,
    Sum16,
    Xor8,
    Cyclic(Cyclic),
}

impl Checksum {
    /// The checksum of that name: `SUM-8`, `SUM-16`, `XOR-8`, or a CRC by its catalogue name.
    ///
    /// ```
    /// use usus::checksum::Checksum;
    /// let checksum = Checksum::named("CRC-16/MODBUS").unwrap();
    /// assert_eq!(checksum.of(b"123456789"), 0x4B37);
    /// ```
    pub fn named(name: &str) -> Option<Checksum> {
        let (engine, width) = match name {
            "SUM-8" => (Engine::Sum8, 8),
            "SUM-16" => (Engine::Sum16, 16),
            "XOR-8" => (Engine::Xor8, 8),
            _ => {
                let parameters = catalogue::all().find(|parameters| parameters.name == name)?;
                (Engine::Cyclic(Cyclic::new(parameters)), parameters.width)
            }
        };
        Some(Checksum { name: name.into(), width, engine })
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its width in bits.
    pub fn width(&self) -> u8 {
        self.width
    }

    /// The checksum of `bytes`.
    pub fn of(&self, bytes: &[u8]) -> u128 {
        match &self.engine {
            Engine::Sum8 => bytes.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)).into(),
            Engine::Sum16 => bytes.iter().fold(0u16, |sum, byte| sum.wrapping_add(u16::from(*byte))).into(),
            Engine::Xor8 => xor(bytes).into(),
            Engine::Cyclic(cyclic) => cyclic.of(bytes),
        }
    }

    /// The checksum of `bytes` where 64 bits are enough for its working: all but the widest.
    #[inline(always)]
    pub(crate) fn narrow(&self, bytes: &[u8]) -> Option<u64> {
        match &self.engine {
            Engine::Cyclic(cyclic) => cyclic.narrow(bytes),
            _ => Some(self.of(bytes) as u64),
        }
    }

    /// What bytes leave in the register of a CRC of at most 64 bits; nothing of other checksums.
    #[inline(always)]
    pub(crate) fn register(&self, bytes: &[u8]) -> Option<u64> {
        match &self.engine {
            Engine::Cyclic(cyclic) => cyclic.register(bytes),
            _ => None,
        }
    }

    /// The working of a CRC of at most 32 bits, for a loop that is about no other checksum.
    pub(crate) fn small(&self) -> Option<Small<'_>> {
        if let Engine::Cyclic(cyclic) = &self.engine { cyclic.small() } else { None }
    }

    /// What any bytes with their own checksum behind them leave in the register, if that is always the same: of a CRC whose bytes are sent
    /// in the order in which their bits are computed.
    pub(crate) fn residue(&self, order: Order) -> Option<u64> {
        let Engine::Cyclic(cyclic) = &self.engine else { return None };
        let own = if cyclic.is_reflected()? { Order::Little } else { Order::Big };
        if order != own || self.width > 64 || !self.width.is_multiple_of(8) {
            return None;
        }
        let size = usize::from(self.width / 8);
        let value = self.narrow(&[])?;
        match order {
            Order::Little => self.register(&value.to_le_bytes()[..size]),
            Order::Big => self.register(&value.to_be_bytes()[8 - size..]),
            Order::Letters(_) => None,
        }
    }

    /// Every name that [`Checksum::named`] knows.
    pub fn names() -> impl Iterator<Item = &'static str> + Clone {
        SUMS.into_iter().chain(catalogue::all().map(|parameters| parameters.name))
    }

    /// All checksums there are, with their parameters and check values: the sums first, then the CRC catalogue by width.
    pub fn catalogue() -> Vec<CatalogueEntry> {
        let sums = SUMS.into_iter().filter_map(|name| {
            let checksum = Checksum::named(name)?;
            Some(CatalogueEntry { name, width: checksum.width, check: checksum.of(b"123456789"), cyclic: None })
        });
        let cyclic = catalogue::all().map(|of| CatalogueEntry {
            name: of.name,
            width: of.width,
            check: of.check,
            cyclic: Some(CyclicParameters {
                polynomial: of.polynomial,
                initial: of.initial,
                reflect_input: of.reflect_input,
                reflect_output: of.reflect_output,
                final_xor: of.final_xor,
            }),
        });
        sums.chain(cyclic).collect()
    }
}

/// All bytes xored together.
pub(crate) fn xor(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0, |sum, byte| sum ^ byte)
}

impl fmt::Debug for Checksum {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Checksum({})", self.name)
    }
}
