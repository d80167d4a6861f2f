//! Numbers in texts that are written otherwise than plainly: with a comma for the point, marks between thousands, a unit behind them, or a
//! mark that says that the value lies below or above.

use alloc::boxed::Box;

use super::{Decimal, Quality};

/// How a number is written in a text.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Notation {
    /// What stands before its places, if that is no point.
    pub(crate) decimal: Option<u8>,
    /// What may stand between thousands.
    pub(crate) thousands: Option<u8>,
    /// One of these texts stands behind it, the longest first; nothing does if there are none.
    pub(crate) suffixes: Box<[Box<[u8]>]>,
    /// The texts before it that say that the value lies below or above.
    pub(crate) limit_marks: Option<[Box<[u8]>; 2]>,
}

/// A number with more characters is invalid: it has more digits than are exact.
const LONGEST: usize = 96;

impl Notation {
    /// Whether numbers are written plainly.
    pub(crate) fn is_plain(&self) -> bool {
        *self == Notation::default()
    }

    /// A number, what is to be said about it, and which suffix it has; nothing if it is none.
    pub(crate) fn read(&self, text: &[u8]) -> Option<(Decimal, Quality, usize)> {
        let mut text = text.trim_ascii();
        let mut quality = Quality::Good;
        if let Some([below, above]) = &self.limit_marks {
            for (mark, means) in [(below, Quality::Below), (above, Quality::Above)] {
                if let Some(rest) = text.strip_prefix(&**mark).filter(|_| quality == Quality::Good) {
                    (text, quality) = (rest.trim_ascii_start(), means);
                }
            }
        }
        let mut suffix = 0;
        if !self.suffixes.is_empty() {
            suffix = self.suffixes.iter().position(|suffix| text.ends_with(suffix))?;
            text = text.get(..text.len() - self.suffixes.get(suffix)?.len())?.trim_ascii_end();
        }
        Some((self.number(text)?, quality, suffix))
    }

    /// The digits, as they would be plainly.
    fn number(&self, text: &[u8]) -> Option<Decimal> {
        if self.decimal.is_none() && self.thousands.is_none() {
            return Decimal::parse(text);
        }
        let mut plain = [0; LONGEST];
        let mut length = 0;
        // How many digits stand behind the last mark, and whether there may be another.
        let (mut digits, mut marks, mut whole) = (0, false, true);
        for &byte in text {
            let put = match byte {
                byte if whole && Some(byte) == self.thousands => {
                    // Between the first one to three digits and the next three.
                    let sound = if marks { digits == 3 } else { (1..=3).contains(&digits) };
                    if !sound {
                        return None;
                    }
                    (digits, marks) = (0, true);
                    continue;
                }
                byte if Some(byte) == self.decimal => b'.',
                b'.' if self.decimal.is_some() => return None,
                byte => byte,
            };
            if whole && !put.is_ascii_digit() && !matches!(put, b'+' | b'-') {
                if marks && digits != 3 {
                    return None;
                }
                whole = false;
            }
            digits += u32::from(put.is_ascii_digit());
            *plain.get_mut(length)? = put;
            length += 1;
        }
        if whole && marks && digits != 3 {
            return None;
        }
        Decimal::parse(plain.get(..length)?)
    }

    /// What fits such a number, as a regular expression, as short as can be.
    pub(crate) fn expression(&self) -> alloc::string::String {
        use alloc::format;
        let byte = |byte: u8| format!(r"\x{byte:02X}");
        let literal = |text: &[u8]| text.iter().map(|found| byte(*found)).collect::<alloc::string::String>();
        let point = byte(self.decimal.unwrap_or(b'.'));
        let digit = match self.thousands {
            Some(mark) => format!("[0-9{}]", byte(mark)),
            None => "[0-9]".into(),
        };
        let number = format!("[+-]?(?:[0-9]{digit}*?(?:{point}[0-9]*?)??|{point}[0-9]+?)(?:[eE][+-]?[0-9]+?)??");
        let limits = match &self.limit_marks {
            Some([below, above]) => format!(r"(?:(?:{}|{})[ \t]*)??", literal(below), literal(above)),
            None => "".into(),
        };
        if self.suffixes.is_empty() {
            return limits + &number;
        }
        let suffixes: alloc::vec::Vec<_> = self.suffixes.iter().map(|suffix| literal(suffix)).collect();
        format!(r"{limits}{number}[ \t]*?(?:{})", suffixes.join("|"))
    }
}

#[cfg(test)]
mod tests {
    use alloc::string::ToString;

    use super::*;

    #[test]
    fn numbers_in_other_notations() {
        let notation = |decimal: &[u8], thousands: &[u8], suffixes: &[&str]| Notation {
            decimal: decimal.first().copied(),
            thousands: thousands.first().copied(),
            suffixes: suffixes.iter().map(|suffix| suffix.as_bytes().into()).collect(),
            limit_marks: Some(["<", ">"].map(|mark| mark.as_bytes().into())),
        };
        let (comma, both) = (notation(b",", b"", &[]), notation(b",", b".", &["kN", "N"]));
        let marks = notation(b"", b"'", &[]);
        for (notation, text, wanted) in [
            (&comma, "-12,50", Some("-12.50")),
            (&comma, " 12 ", Some("12")),
            (&comma, "12.5", None),
            (&comma, "1,2,5", None),
            (&comma, ",5", Some("0.5")),
            (&comma, "1,5e3", Some("1500")),
            (&both, "1.234.567,8 kN", Some("1234567.8")),
            (&both, "1.234N", Some("1234")),
            (&both, "1.23N", None),
            (&both, "1234.567N", None),
            (&both, ".123N", None),
            (&both, "1.234.N", None),
            (&both, "12", None),
            (&both, "N", None),
            (&marks, "12'345.678", Some("12345.678")),
            (&marks, "12345.678", Some("12345.678")),
            (&marks, "12'345'67", None),
            (&marks, "1.234'567", None),
            (&marks, "", None),
        ] {
            let found = notation.read(text.as_bytes()).map(|(number, ..)| number.to_string());
            assert_eq!(found.as_deref(), wanted, "{text}");
        }
        for (text, wanted) in [("<0,05", Quality::Below), ("> 7", Quality::Above), ("7", Quality::Good)] {
            assert_eq!(comma.read(text.as_bytes()).map(|(_, quality, _)| quality), Some(wanted), "{text}");
        }
        assert!(comma.read(b"<>7").is_none());
        assert!(comma.read("1".repeat(400).as_bytes()).is_none());
    }
}
