//! A value as a code of 16 bits: unknown, or a number with three significant digits.
//!
//! Figures are first brought to whole numbers (processors to millionths, the rest to ones). Up to 255 a
//! number is kept exactly. Beyond, it is kept as eight significant bits and an exponent, so that the
//! error is at most 1/256 of the value: less than a pixel of any chart. Codes are in the order of their
//! values, and values that differ by a percent differ by about one or two codes, which is what makes
//! the differences between neighbours small.
//!
//! ```text
//! 0            unknown
//! 1 + v        v                    for v in 0..256
//! 257 + n      (128 + n % 128) << (n / 128 + 1)
//! ```

use crate::usage::{FIGURES, Figure};

/// A kept value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Code(pub u16);

/// How much a figure is multiplied by before it is kept.
pub fn scale(figure: Figure) -> f64 {
    if figure == Figure::Processors { 1e6 } else { 1.0 }
}

impl Code {
    /// Nothing is known.
    pub const UNKNOWN: Self = Self(0);

    /// The nearest code of a whole number.
    pub fn new(value: u64) -> Self {
        if value < 256 {
            return Self(1 + value as u16);
        }
        let bits = 64 - value.leading_zeros();
        let mut shift = bits - 8;
        // To the nearest, which may need one bit more.
        let mut mantissa = (value >> shift) + ((value >> (shift - 1)) & 1);
        if mantissa == 256 {
            mantissa = 128;
            shift += 1;
        }
        let place = u64::from(shift - 1) * 128 + (mantissa - 128);
        Self(257 + u16::try_from(place).unwrap_or(u16::MAX - 257))
    }

    /// The whole number; `None` when unknown.
    pub fn value(self) -> Option<u64> {
        match self.0 {
            0 => None,
            code @ 1..=256 => Some(u64::from(code - 1)),
            code => {
                let place = u64::from(code - 257);
                let shift = place / 128 + 1;
                let mantissa = 128 + place % 128;
                // A damaged code may ask for more than there is.
                Some(if shift > 56 { u64::MAX } else { mantissa << shift })
            }
        }
    }

    /// The code of a figure's value; negative and odd numbers are unknown.
    pub fn of_figure(figure: Figure, value: Option<f64>) -> Self {
        match value {
            Some(v) if v.is_finite() && v >= 0.0 => Self::new((v * scale(figure)).round() as u64),
            _ => Self::UNKNOWN,
        }
    }

    /// The figure's value.
    pub fn figure(self, figure: Figure) -> Option<f64> {
        self.value().map(|v| v as f64 / scale(figure))
    }
}

/// A whole row of figures as codes.
pub fn encode_row(row: &[Option<f64>; FIGURES]) -> [Code; FIGURES] {
    let mut out = [Code::UNKNOWN; FIGURES];
    for ((out, value), figure) in out.iter_mut().zip(row).zip(Figure::ALL) {
        *out = Code::of_figure(figure, *value);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn small_numbers_are_exact_and_the_largest_fits() {
        for value in 0..256 {
            assert_eq!(Code::new(value).value(), Some(value));
        }
        assert!(Code::new(u64::MAX).value().unwrap() >= u64::MAX - (u64::MAX >> 8));
        assert_eq!(Code::of_figure(Figure::Processors, Some(0.5)).figure(Figure::Processors), Some(0.499712));
        assert_eq!(Code::of_figure(Figure::Memory, Some(f64::NAN)), Code::UNKNOWN);
        assert_eq!(Code::of_figure(Figure::Memory, Some(-1.0)), Code::UNKNOWN);
    }

    proptest! {
        #[test]
        fn the_error_is_small_and_a_kept_value_is_kept_again(value in 0u64..1 << 60) {
            let code = Code::new(value);
            let kept = code.value().unwrap();
            prop_assert!(kept.abs_diff(value) as f64 <= value as f64 / 256.0 + 0.5, "{} became {}", value, kept);
            prop_assert_eq!(Code::new(kept), code);
        }

        #[test]
        fn the_order_is_that_of_the_values(a in 0u64..1 << 62, b in 0u64..1 << 62) {
            prop_assert!(a > b || Code::new(a) <= Code::new(b));
        }

        #[test]
        fn any_code_has_a_value(code in any::<u16>()) {
            prop_assert_eq!(Code(code).value().is_none(), code == 0);
        }
    }
}
