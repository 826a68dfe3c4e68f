//! What one field says: missing, a number in some notation, a day in some order.

use serde::{Deserialize, Serialize};

/// The mark between units and decimals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DecimalMark {
    /// `1234.5`, thousands by comma, space or apostrophe.
    Point,
    /// `1234,5`, thousands by point, space or apostrophe.
    Comma,
}

/// The order of the parts of a date written in figures.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DateOrder {
    /// `2024-03-31`, with or without a time of day after it.
    YearMonthDay,
    /// `31.03.2024`, `31/03/2024`.
    DayMonthYear,
    /// `03/31/2024`.
    MonthDayYear,
}

impl DateOrder {
    /// The two orders between which days up to the twelfth leave the choice.
    pub const BOTH_WAYS: [DateOrder; 2] = [Self::DayMonthYear, Self::MonthDayYear];

    /// How it is named on the preview.
    pub fn word(self) -> &'static str {
        match self {
            Self::YearMonthDay => "year-month-day",
            Self::DayMonthYear => "day-month-year",
            Self::MonthDayYear => "month-day-year",
        }
    }
}

/// How the values of a column are written in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "as")]
pub enum ValueFormat {
    /// Quantities.
    Number {
        /// Decimal mark.
        mark: DecimalMark,
    },
    /// Calendar days.
    Date {
        /// Order of the parts.
        order: DateOrder,
    },
    /// Text, kept letter for letter.
    Text,
}

impl ValueFormat {
    /// How it is named on the preview.
    pub fn word(self) -> &'static str {
        match self {
            Self::Number { mark: DecimalMark::Point } => "decimal point",
            Self::Number { mark: DecimalMark::Comma } => "decimal comma",
            Self::Date { order } => order.word(),
            Self::Text => "as written",
        }
    }
}

/// Whether a trimmed field stands for "no value".
pub fn is_missing_mark(field: &str) -> bool {
    matches!(
        field,
        "" | "NA" | "N/A" | "n/a" | "#N/A" | "null" | "NULL" | "Null" | "NaN" | "nan" | "-" | "–" | "?" | "\\N"
    )
}

/// Reads a number in the notation given; none if it is not one.
///
/// Thousands marks are accepted only where they stand between groups of three
/// digits, so that `1,2` with a decimal point is no number.
pub fn parse_number(field: &str, mark: DecimalMark) -> Option<f64> {
    let field = field.trim();
    // The common case needs no rewriting.
    if mark == DecimalMark::Point
        && let Ok(x) = field.parse::<f64>()
    {
        let is_figures = field.bytes().any(|b| b.is_ascii_digit());
        return (is_figures && x.is_finite()).then_some(x);
    }
    let (decimal, thousands) = match mark {
        DecimalMark::Point => ('.', ','),
        DecimalMark::Comma => (',', '.'),
    };
    let (negative, body) = match field.strip_prefix(['-', '−']) {
        Some(rest) => (true, rest),
        None => (false, field.strip_prefix('+').unwrap_or(field)),
    };
    let (mantissa, exponent) = match body.find(['e', 'E']) {
        Some(at) => (&body[..at], &body[at..]),
        None => (body, ""),
    };
    let (whole, fraction) = match mantissa.split_once(decimal) {
        Some((w, f)) => (w, Some(f)),
        None => (mantissa, None),
    };
    let is_mark = |c: char| c == thousands || matches!(c, ' ' | '\u{a0}' | '\u{202f}' | '\'' | '’');
    let mut text = String::with_capacity(field.len() + 1);
    if negative {
        text.push('-');
    }
    for (i, group) in whole.split(is_mark).enumerate() {
        let fits = group.bytes().all(|b| b.is_ascii_digit())
            && if i == 0 { !whole.contains(is_mark) || (1..=3).contains(&group.len()) } else { group.len() == 3 };
        if !fits {
            return None;
        }
        text.push_str(group);
    }
    if let Some(fraction) = fraction {
        if !fraction.bytes().all(|b| b.is_ascii_digit()) {
            return None;
        }
        text.push('.');
        text.push_str(fraction);
    }
    if !text.bytes().any(|b| b.is_ascii_digit()) {
        return None;
    }
    text.push_str(exponent);
    text.parse::<f64>().ok().filter(|x| x.is_finite())
}

/// Reads a day as days since 1970-01-01; a time of day after it is passed over.
pub fn parse_date(field: &str, order: DateOrder) -> Option<i32> {
    let day = field.trim().split([' ', 'T']).next()?;
    let mut parts = day.split(['-', '/', '.']);
    let (a, b, c) = (parts.next()?, parts.next()?, parts.next()?);
    if parts.next().is_some() {
        return None;
    }
    let figure = |s: &str| -> Option<i32> {
        ((1..=4).contains(&s.len()) && s.bytes().all(|b| b.is_ascii_digit())).then(|| s.parse().ok())?
    };
    let (y, m, d) = match order {
        DateOrder::YearMonthDay => (a, b, c),
        DateOrder::DayMonthYear => (c, b, a),
        DateOrder::MonthDayYear => (c, a, b),
    };
    if y.len() != 4 || m.len() > 2 || d.len() > 2 {
        return None;
    }
    let date =
        chrono::NaiveDate::from_ymd_opt(figure(y)?, u32::try_from(figure(m)?).ok()?, u32::try_from(figure(d)?).ok()?)?;
    Some(date.to_epoch_days())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_in_the_notation_of_the_file() {
        use DecimalMark::{Comma, Point};
        assert_eq!(parse_number("1234.5", Point), Some(1234.5));
        assert_eq!(parse_number("1,234.5", Point), Some(1234.5));
        assert_eq!(parse_number("1.234,5", Comma), Some(1234.5));
        assert_eq!(parse_number("1 234,5", Comma), Some(1234.5));
        assert_eq!(parse_number("−12", Point), Some(-12.0));
        assert_eq!(parse_number("1e3", Comma), Some(1000.0));
        for bad in ["1,2", "12,34,567", "abc", "", ".", "inf", "NaN", "0x10", "1.2.3", "1e999"] {
            assert_eq!(parse_number(bad, Point), None, "{bad}");
        }
    }

    #[test]
    fn days_are_read_in_each_order_and_impossible_ones_refused() {
        use DateOrder::{DayMonthYear, MonthDayYear, YearMonthDay};
        let day = parse_date("2024-03-31", YearMonthDay);
        assert!(day.is_some());
        assert_eq!(parse_date("31.03.2024", DayMonthYear), day);
        assert_eq!(parse_date("03/31/2024", MonthDayYear), day);
        assert_eq!(parse_date("2024-03-31T12:00:00", YearMonthDay), day);
        assert_eq!(parse_date("31/03/2024", MonthDayYear), None);
        assert_eq!(parse_date("2023-02-29", YearMonthDay), None);
        assert_eq!(parse_date("1.2", DayMonthYear), None);
    }
}
