//! Logarithms: a core without the standard library has none.

/// The natural logarithm. The mantissa's by the series of (m-1)/(m+1).
pub(crate) fn ln(value: f64) -> f64 {
    let bits = value.to_bits();
    let exponent = (bits >> 52) as i64 - 1_023;
    let mantissa = f64::from_bits(bits & 0x000F_FFFF_FFFF_FFFF | 0x3FF0_0000_0000_0000);
    let step = (mantissa - 1.0) / (mantissa + 1.0);
    let square = step * step;
    let series = (0..12).rev().fold(0.0, |sum, term| sum * square + 1.0 / f64::from(2 * term + 1));
    exponent as f64 * core::f64::consts::LN_2 + 2.0 * step * series
}

/// The logarithm to the base of 2.
pub(crate) fn log2(value: f64) -> f64 {
    ln(value) / core::f64::consts::LN_2
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn logarithms() {
        for value in [1e-9, 0.3, 1.0, 1.999_999, 2.0, 7.25, 1e12] {
            assert!((ln(value) - value.ln()).abs() < 1e-9, "{value}");
        }
    }
}
