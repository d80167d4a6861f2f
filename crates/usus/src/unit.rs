//! Units of measurement and exact conversion between them.
//!
//! Units are written as UCUM codes (The Unified Code for Units of Measure) or as people customarily write them; both stand
//! in one row of the table. A unit that is not in the table may be declared all the same: it converts only to itself.

/// One unit: `value * numerator / denominator + offset.0 / offset.1` gives the value in the base unit of its dimension.
struct Unit {
    spellings: &'static [&'static str],
    dimension: Dimension,
    numerator: i128,
    denominator: i128,
    offset: (i128, i128),
}

/// What a unit measures. Only units of one dimension convert into each other.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Dimension {
    Length,
    Speed,
    Temperature,
    Pressure,
    Force,
    Mass,
    Time,
    Frequency,
    Angle,
    Fraction,
    Voltage,
    Current,
    Volume,
}

use Dimension::{
    Angle, Current, Force, Fraction, Frequency, Length, Mass, Pressure, Speed, Temperature, Time, Voltage, Volume,
};

const fn unit(spellings: &'static [&'static str], dimension: Dimension, numerator: i128, denominator: i128) -> Unit {
    Unit { spellings, dimension, numerator, denominator, offset: (0, 1) }
}

/// Factors are exact by definition: the international foot, pound and nautical mile, standard gravity 9.80665 m/s².
/// Base units: m, m/s, K, Pa, N, kg, s, Hz, degree, 1, V, A, litre. (Radians are left out: their factor is irrational.)
const UNITS: &[Unit] = &[
    unit(&["m"], Length, 1, 1),
    unit(&["mm"], Length, 1, 1_000),
    unit(&["cm"], Length, 1, 100),
    unit(&["km"], Length, 1_000, 1),
    unit(&["ft", "[ft_i]"], Length, 3_048, 10_000),
    unit(&["in", "[in_i]"], Length, 254, 10_000),
    unit(&["fathom", "[fth_i]"], Length, 18_288, 10_000),
    unit(&["nmi", "NM", "[nmi_i]"], Length, 1_852, 1),
    unit(&["m/s"], Speed, 1, 1),
    unit(&["mm/s"], Speed, 1, 1_000),
    unit(&["km/h"], Speed, 10, 36),
    unit(&["kn", "[kn_i]"], Speed, 1_852, 3_600),
    unit(&["mph", "[mi_i]/h"], Speed, 44_704, 100_000),
    unit(&["ft/s", "[ft_i]/s"], Speed, 3_048, 10_000),
    unit(&["K"], Temperature, 1, 1),
    Unit { spellings: &["°C", "Cel"], dimension: Temperature, numerator: 1, denominator: 1, offset: (27_315, 100) },
    Unit { spellings: &["°F", "[degF]"], dimension: Temperature, numerator: 5, denominator: 9, offset: (45_967, 180) },
    unit(&["Pa"], Pressure, 1, 1),
    unit(&["hPa"], Pressure, 100, 1),
    unit(&["kPa"], Pressure, 1_000, 1),
    unit(&["MPa"], Pressure, 1_000_000, 1),
    unit(&["mbar"], Pressure, 100, 1),
    unit(&["bar"], Pressure, 100_000, 1),
    unit(&["psi", "[psi]"], Pressure, 44_482_216_152_605, 6_451_600_000),
    unit(&["inHg", "[in_i'Hg]"], Pressure, 3_386_389, 1_000),
    unit(&["N"], Force, 1, 1),
    unit(&["kN"], Force, 1_000, 1),
    unit(&["kgf"], Force, 980_665, 100_000),
    unit(&["lbf", "[lbf_av]"], Force, 44_482_216_152_605, 10_000_000_000_000),
    unit(&["kg"], Mass, 1, 1),
    unit(&["g"], Mass, 1, 1_000),
    unit(&["t"], Mass, 1_000, 1),
    unit(&["lb", "[lb_av]"], Mass, 45_359_237, 100_000_000),
    unit(&["s"], Time, 1, 1),
    unit(&["ms"], Time, 1, 1_000),
    unit(&["us", "µs"], Time, 1, 1_000_000),
    unit(&["min"], Time, 60, 1),
    unit(&["h"], Time, 3_600, 1),
    unit(&["d"], Time, 86_400, 1),
    unit(&["Hz"], Frequency, 1, 1),
    unit(&["kHz"], Frequency, 1_000, 1),
    unit(&["rpm", "/min", "1/min"], Frequency, 1, 60),
    unit(&["°", "deg"], Angle, 1, 1),
    unit(&["1"], Fraction, 1, 1),
    unit(&["%"], Fraction, 1, 100),
    unit(&["‰", "[ppth]"], Fraction, 1, 1_000),
    unit(&["ppm", "[ppm]"], Fraction, 1, 1_000_000),
    unit(&["V"], Voltage, 1, 1),
    unit(&["mV"], Voltage, 1, 1_000),
    unit(&["A"], Current, 1, 1),
    unit(&["mA"], Current, 1, 1_000),
    unit(&["l", "L"], Volume, 1, 1),
    unit(&["ml", "mL"], Volume, 1, 1_000),
    unit(&["m3", "m³"], Volume, 1_000, 1),
];

fn find(spelling: &str) -> Option<&'static Unit> {
    UNITS.iter().find(|unit| unit.spellings.contains(&spelling))
}

/// An exact conversion: `value * numerator / denominator + addend.0 / addend.1`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Conversion {
    pub(crate) numerator: i128,
    pub(crate) denominator: i128,
    pub(crate) addend: (i128, i128),
}

impl Conversion {
    /// Whether it leaves every value as it is.
    pub(crate) fn is_identity(self) -> bool {
        self.numerator == self.denominator && self.addend.0 == 0
    }
}

/// The conversion from one unit to another; nothing if they measure different things or one is unknown.
pub(crate) fn conversion(from: &str, to: &str) -> Option<Conversion> {
    if from == to {
        return Some(Conversion { numerator: 1, denominator: 1, addend: (0, 1) });
    }
    let (from, to) = (find(from)?, find(to)?);
    if from.dimension != to.dimension {
        return None;
    }
    let (numerator, denominator) = reduce(from.numerator * to.denominator, from.denominator * to.numerator);
    // (from.offset - to.offset) / to.factor
    let difference = (from.offset.0 * to.offset.1 - to.offset.0 * from.offset.1, from.offset.1 * to.offset.1);
    let addend = reduce(difference.0 * to.denominator, difference.1 * to.numerator);
    Some(Conversion { numerator, denominator, addend })
}

fn reduce(numerator: i128, denominator: i128) -> (i128, i128) {
    let (mut a, mut b) = (numerator.abs(), denominator);
    while b != 0 {
        (a, b) = (b, a % b);
    }
    (numerator / a.max(1), denominator / a.max(1))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::Decimal;
    use alloc::string::ToString;

    #[test]
    fn values_convert_exactly_and_round_once() {
        for (value, from, to, places, wanted) in [
            ("10", "kn", "m/s", 3, "5.144"),
            ("10", "kn", "km/h", 2, "18.52"),
            ("36", "km/h", "m/s", 1, "10.0"),
            ("98.6", "°F", "°C", 2, "37.00"),
            ("-40", "°C", "°F", 1, "-40.0"),
            ("0", "K", "°C", 2, "-273.15"),
            ("1.01325", "bar", "hPa", 2, "1013.25"),
            ("1", "psi", "Pa", 3, "6894.757"),
            ("100", "ft", "m", 2, "30.48"),
            ("2.5", "cm", "in", 4, "0.9843"),
            ("0.125", "1", "%", 1, "12.5"),
            ("0.5", "mm", "cm", 1, "0.0"),
            ("1.5", "mm", "cm", 1, "0.2"),
            ("1500", "rpm", "Hz", 1, "25.0"),
        ] {
            let conversion = conversion(from, to).unwrap();
            let value = Decimal::parse(value.as_bytes()).unwrap();
            let result =
                value.convert(conversion.numerator, conversion.denominator, conversion.addend, places).unwrap();
            assert_eq!(result.to_string(), wanted, "{value} {from} in {to}");
        }
        assert!(conversion("m", "s").is_none());
        assert!(conversion("bananas", "m").is_none());
        assert!(conversion("bananas", "bananas").unwrap().is_identity());
    }
}
