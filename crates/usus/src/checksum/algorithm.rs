//! What a declaration names as its checksum: a name, or the parameters of one that has none.

use alloc::string::{String, ToString};
use core::fmt;

use super::{Checksum, Complement, CyclicParameters, Modulus, SumParameters, catalogue};
use crate::integer::Integer;

/// A checksum by its name or by its parameters.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Algorithm {
    /// One that [`Checksum::names`] has.
    Named(String),
    /// A CRC.
    Cyclic(CyclicParameters),
    /// A sum, or two in a row.
    Sum(SumParameters),
}

impl Algorithm {
    /// Why it cannot be computed, if it cannot.
    pub(crate) fn flaw(&self) -> Option<&'static str> {
        match self {
            Algorithm::Named(name) => Checksum::named(name).is_none().then_some("there is no checksum of this name"),
            Algorithm::Cyclic(of) if !(1..=64).contains(&of.width) => Some("a CRC has 1 to 64 bits"),
            Algorithm::Cyclic(of) => {
                let is_wider = |number: u128| number >> of.width != 0;
                match () {
                    () if is_wider(of.polynomial) => {
                        Some("such a polynomial needs more bits: it is written without its highest power")
                    }
                    () if is_wider(of.initial) => Some("the first value needs more bits"),
                    () if is_wider(of.final_xor) => Some("`final` needs more bits"),
                    () if of.polynomial & 1 == 0 => {
                        Some("every polynomial of a checksum is odd: is it written with its lowest bit first?")
                    }
                    () => None,
                }
            }
            Algorithm::Sum(sum) => sum.flaw(),
        }
    }

    /// The name of what the parameters are, if it has one.
    pub fn name(&self) -> Option<&str> {
        match self {
            Algorithm::Named(name) => Some(name),
            Algorithm::Cyclic(of) => catalogue::all().find(|entry| entry.parameters == *of).map(|entry| entry.name),
            Algorithm::Sum(of) => catalogue::sums().find(|(_, sum)| sum == of).map(|(name, _)| name),
        }
    }

    /// The same by its name, if it has one.
    pub fn by_name(self) -> Algorithm {
        match self.name().map(ToString::to_string) {
            Some(name) => Algorithm::Named(name),
            None => self,
        }
    }
}

impl From<&str> for Algorithm {
    fn from(name: &str) -> Algorithm {
        Algorithm::Named(name.to_string())
    }
}

impl From<String> for Algorithm {
    fn from(name: String) -> Algorithm {
        Algorithm::Named(name)
    }
}

impl fmt::Display for Algorithm {
    /// A name as it is, parameters as `algorithm` takes them: `{ bits = 8, complement = "two" }`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Algorithm::Named(name) => f.write_str(name),
            Algorithm::Cyclic(of) => {
                let digits = usize::from(of.width).div_ceil(4) + 2;
                write!(f, "{{ width = {}, polynomial = {:#0digits$X}", of.width, of.polynomial)?;
                for (key, number) in [("initial", of.initial), ("final", of.final_xor)] {
                    if number != 0 {
                        write!(f, ", {key} = {number:#0digits$X}")?;
                    }
                }
                match (of.reflect_input, of.reflect_output) {
                    (false, false) => {}
                    (true, true) => write!(f, ", reflected = true")?,
                    (true, false) => write!(f, ", reflected = \"input\"")?,
                    (false, true) => write!(f, ", reflected = \"output\"")?,
                }
                write!(f, " }}")
            }
            Algorithm::Sum(of) => sum(of, f),
        }
    }
}

fn sum(of: &SumParameters, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let mut and = "{ ";
    let mut key = |f: &mut fmt::Formatter<'_>, key: &str, value: &dyn fmt::Display| {
        write!(f, "{}{key} = {value}", core::mem::replace(&mut and, ", "))
    };
    if of.is_xor {
        key(f, "xor", &true)?;
    }
    if of.sums != 1 {
        key(f, "sums", &of.sums)?;
    }
    if !matches!(of.of, Integer { bytes: 1, .. }) {
        key(f, "of", &format_args!("\"{}\"", of.of))?;
    }
    key(f, "bits", &of.bits)?;
    match of.modulus {
        Modulus::Bits => {}
        Modulus::Number(modulus) => key(f, "modulus", &modulus)?,
        Modulus::EndAround => key(f, "modulus", &"\"end-around\"")?,
    }
    match of.initial {
        [0, 0] => {}
        [first, 0] if of.sums == 1 => key(f, "initial", &format_args!("{first:#X}"))?,
        [first, second] => key(f, "initial", &format_args!("[{first:#X}, {second:#X}]"))?,
    }
    match of.complement {
        Complement::None => {}
        Complement::One => key(f, "complement", &"\"one\"")?,
        Complement::Two => key(f, "complement", &"\"two\"")?,
    }
    write!(f, " }}")
}
