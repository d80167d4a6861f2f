//! Checksums over bytes: what is computed, not where it stands.

mod algorithm;
mod alias;
mod catalogue;
mod cyclic;
mod overlaps;
mod sums;

use alloc::boxed::Box;
use alloc::string::ToString;
use alloc::vec::Vec;
use core::fmt;

use crate::integer::Order;
pub use algorithm::Algorithm;
pub(crate) use alias::meant;
use cyclic::Cyclic;
pub(crate) use cyclic::{Place, Small};
pub(crate) use overlaps::{Overlaps, Stretch};
pub use sums::{Complement, Modulus, SumParameters};

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
    /// The parameters of a sum; nothing of a CRC.
    pub sum: Option<SumParameters>,
}

/// The parameters of a CRC, in the terms of the catalogue.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct CyclicParameters {
    /// Bits of the register: those of a CRC by its parameters are 1 to 64.
    pub width: u8,
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

impl CyclicParameters {
    /// A CRC of so many bits that begins with zero, and whose bits come highest first.
    pub fn new(width: u8, polynomial: u128) -> CyclicParameters {
        let (reflect_input, reflect_output) = (false, false);
        CyclicParameters { width, polynomial, initial: 0, reflect_input, reflect_output, final_xor: 0 }
    }
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
    /// All bytes added up, and of that the bits of a mask.
    Plain(u64),
    /// All bytes xored together.
    Xor,
    Sum(SumParameters),
    Cyclic(Cyclic),
}

impl Checksum {
    /// The checksum of that name: see [`Checksum::names`].
    ///
    /// ```
    /// use usus::checksum::Checksum;
    /// let checksum = Checksum::named("CRC-16/MODBUS").unwrap();
    /// assert_eq!(checksum.of(b"123456789"), 0x4B37);
    /// ```
    pub fn named(name: &str) -> Option<Checksum> {
        if let Some((_, sum)) = catalogue::sums().find(|(known, _)| *known == name) {
            return Some(Checksum::of_sum(name, sum));
        }
        let entry = catalogue::all().find(|entry| entry.name == name)?;
        Some(Checksum::of_cyclic(name, entry.parameters))
    }

    /// The checksum of an algorithm; nothing if there is none of its name, or its parameters do not go together.
    ///
    /// ```
    /// use usus::checksum::{Algorithm, Checksum, Complement, SumParameters};
    /// let mut negated = SumParameters::of_bytes(8);
    /// negated.complement = Complement::Two;
    /// let checksum = Checksum::new(&Algorithm::Sum(negated)).unwrap();
    /// assert_eq!(checksum.of(&[1, 2, 3]), 0xFA);
    /// assert_eq!(checksum.name(), "{ bits = 8, complement = \"two\" }");
    /// ```
    pub fn new(algorithm: &Algorithm) -> Option<Checksum> {
        if algorithm.flaw().is_some() {
            return None;
        }
        match algorithm {
            Algorithm::Named(name) => Checksum::named(name),
            Algorithm::Cyclic(parameters) => Some(Checksum::of_cyclic(&algorithm.to_string(), *parameters)),
            Algorithm::Sum(sum) => Some(Checksum::of_sum(&algorithm.to_string(), *sum)),
        }
    }

    fn of_sum(name: &str, sum: SumParameters) -> Checksum {
        let plain = SumParameters { is_xor: sum.is_xor, ..SumParameters::of_bytes(sum.bits) };
        let engine = match sum {
            sum if sum != plain || (sum.is_xor && sum.bits != 8) => Engine::Sum(sum),
            sum if sum.is_xor => Engine::Xor,
            sum => Engine::Plain(u64::MAX >> (64 - sum.bits)),
        };
        Checksum { name: name.into(), width: sum.width(), engine }
    }

    fn of_cyclic(name: &str, parameters: CyclicParameters) -> Checksum {
        Checksum { name: name.into(), width: parameters.width, engine: Engine::Cyclic(Cyclic::new(parameters)) }
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
            // Eight bits are added up side by side.
            Engine::Plain(0xFF) => bytes.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)).into(),
            Engine::Plain(mask) => (bytes.iter().map(|byte| u64::from(*byte)).sum::<u64>() & mask).into(),
            Engine::Xor => xor(bytes).into(),
            Engine::Sum(sum) => sum.checksum(bytes),
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

    /// The largest value that it can have.
    pub(crate) fn most(&self) -> u128 {
        match &self.engine {
            Engine::Sum(sum) => sum.most(),
            _ => u128::MAX >> (128 - self.width),
        }
    }

    /// Every name that [`Checksum::named`] knows.
    pub fn names() -> impl Iterator<Item = &'static str> + Clone {
        catalogue::sums().map(|(name, _)| name).chain(catalogue::all().map(|entry| entry.name))
    }

    /// All checksums there are, with their parameters and check values: the sums first, then the CRC catalogue by width.
    pub fn catalogue() -> Vec<CatalogueEntry> {
        let sums = catalogue::sums().map(|(name, sum)| CatalogueEntry {
            name,
            width: sum.width(),
            check: sum.checksum(b"123456789"),
            cyclic: None,
            sum: Some(sum),
        });
        let cyclic = catalogue::all().map(|of| CatalogueEntry {
            name: of.name,
            width: of.parameters.width,
            check: of.check,
            cyclic: Some(of.parameters),
            sum: None,
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
