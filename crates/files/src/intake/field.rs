//! One field: its text, what the format says of it, and the number that it plainly is.

use pronoia_data::value::{DecimalMark, is_missing_mark, parse_number};

/// What the format itself says about a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum FieldKind {
    /// Nothing: the field is as somebody wrote it.
    Nothing,
    /// It is text, even where it consists of digits.
    Text,
    /// It is a number, written with a decimal point.
    Number,
    /// It is a day, written year-month-day.
    Day,
    /// It is the message of a formula that failed.
    Failure,
}

/// One field of a row.
#[derive(Debug, Clone, Copy)]
pub(super) struct RowField<'a> {
    /// Trimmed.
    pub text: &'a str,
    pub told: FieldKind,
    /// The number it is, if it consists of figures with at most one point between them.
    pub plain: Option<PlainNumber>,
}

impl<'a> RowField<'a> {
    /// A field as it stands, and what the format says of it.
    pub fn of(text: &'a str, told: FieldKind) -> Self {
        let plain = PlainNumber::read(text.as_bytes());
        Self { text: if plain.is_some() { text } else { text.trim() }, told, plain }
    }

    /// Whether it stands for “no value”.
    pub fn is_missing(&self) -> bool {
        self.plain.is_none() && is_missing_mark(self.text)
    }

    /// The number it is with that decimal mark.
    pub fn number(&self, mark: DecimalMark) -> Option<f64> {
        match &self.plain {
            Some(plain) if mark == DecimalMark::Point || plain.decimals.is_none() => Some(plain.number),
            _ => parse_number(self.text, mark),
        }
    }
}

/// A number written in figures: a minus or none, digits, and a point and more digits or none.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct PlainNumber {
    /// The number, read with a decimal point.
    pub number: f64,
    /// Whether there is a minus.
    pub negative: bool,
    /// Digits before the point.
    pub whole: usize,
    /// Digits after the point; none without one.
    pub decimals: Option<usize>,
}

/// So many digits make a whole number that a double holds exactly.
const MOST_DIGITS: usize = 15;

/// Powers of ten, all of which a double holds exactly.
const TENS: [f64; MOST_DIGITS + 1] =
    [1.0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15];

impl PlainNumber {
    /// Reads a field that is written so; none if it is not, or has more digits than 15.
    ///
    /// Digits without the point and the power of ten are exact, so that their quotient is the
    /// number next to what is written (Clinger 1990, “How to read floating point numbers accurately”).
    fn read(field: &[u8]) -> Option<Self> {
        let (negative, figures) = match field {
            [b'-', figures @ ..] => (true, figures),
            figures => (false, figures),
        };
        if figures.is_empty() || figures.len() > MOST_DIGITS + 1 {
            return None;
        }
        let (mut digits, mut point) = (0u64, None);
        for (at, byte) in figures.iter().enumerate() {
            match byte {
                b'0'..=b'9' => digits = digits * 10 + u64::from(byte - b'0'),
                b'.' if point.is_none() => point = Some(at),
                _ => return None,
            }
        }
        let (whole, decimals) = match point {
            Some(at) => (at, Some(figures.len() - at - 1)),
            None => (figures.len(), None),
        };
        if whole == 0 || decimals == Some(0) || whole + decimals.unwrap_or(0) > MOST_DIGITS {
            return None;
        }
        let size = digits as f64 / TENS[decimals.unwrap_or(0)];
        Some(Self { number: if negative { -size } else { size }, negative, whole, decimals })
    }

    /// Whether it is a number with a decimal comma too: without any mark, or where the
    /// point stands between thousands.
    pub fn reads_with_comma(&self) -> bool {
        self.decimals.is_none_or(|decimals| decimals == 3 && self.whole <= 3)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_plain_number_is_what_any_number_is(text in "-?[0-9]{1,9}(\\.[0-9]{1,9})?") {
            let general = text.parse::<f64>().ok();
            if let Some(plain) = PlainNumber::read(text.as_bytes()) {
                prop_assert_eq!(Some(plain.number.to_bits()), general.map(f64::to_bits));
                prop_assert_eq!(plain.reads_with_comma(), parse_number(&text, DecimalMark::Comma).is_some());
            } else {
                prop_assert!(text.bytes().filter(u8::is_ascii_digit).count() > MOST_DIGITS);
            }
        }
    }

    #[test]
    fn what_is_more_than_figures_is_not_plain() {
        for text in ["", "-", ".", "1.", ".5", "+1", "1,5", "1e3", "1.2.3", "--1", "1-", " 1", "1234567890123456"] {
            assert_eq!(PlainNumber::read(text.as_bytes()), None, "{text}");
        }
    }
}
