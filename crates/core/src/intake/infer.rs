//! What kind of values a column holds, from all of its fields.

use std::collections::HashMap;

use super::record::Told;
use super::value::{DateOrder, DecimalMark, ValueFormat, is_missing_mark, parse_date, parse_number};
use crate::Kind;

/// Distinct values counted exactly up to here; beyond, a column counts as "many".
const MOST_DISTINCT: usize = 5_000;

/// A column is read as numbers or dates if no more than this share of its
/// fields does not read so: a few slips of the pen do not turn it into text.
const SLIPS: f64 = 0.01;

const ORDERS: [DateOrder; 3] = [DateOrder::YearMonthDay, DateOrder::DayMonthYear, DateOrder::MonthDayYear];

/// Running tallies over the fields of one column.
#[derive(Debug, Default)]
pub(super) struct Tally {
    filled: u64,
    points: u64,
    commas: u64,
    comma_for_certain: u64,
    point_for_certain: u64,
    dates: [u64; 3],
    digits_only: u64,
    leading_zero: u64,
    too_long_for_number: u64,
    width: Option<usize>,
    widths_differ: bool,
    letters: u64,
    spaced: u64,
    distinct: HashMap<String, u64>,
    many: bool,
    told_text: u64,
    failures: u64,
}

impl Tally {
    /// Takes in one field, and what the format says of it.
    pub fn see(&mut self, field: &str, told: Told) {
        if told == Told::Failure {
            self.failures += 1;
            return;
        }
        let field = field.trim();
        if is_missing_mark(field) {
            return;
        }
        self.told_text += u64::from(told == Told::Text);
        self.filled += 1;
        self.letters += field.chars().count() as u64;
        self.spaced += u64::from(field.contains(' '));
        if !self.many {
            if let Some(n) = self.distinct.get_mut(field) {
                *n += 1;
            } else if self.distinct.len() < MOST_DISTINCT {
                self.distinct.insert(field.to_owned(), 1);
            } else {
                self.many = true;
            }
        }
        if !field.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '-' | '+' | '.' | ',' | '−')) {
            return;
        }
        let point = parse_number(field, DecimalMark::Point).is_some();
        // What the file knows as a number says nothing about how others are written;
        // without a mark it reads the same either way.
        let marked = field.bytes().any(|b| matches!(b, b'.' | b','));
        let comma =
            if told == Told::Number || !marked { point } else { parse_number(field, DecimalMark::Comma).is_some() };
        self.points += u64::from(point);
        self.commas += u64::from(comma);
        self.comma_for_certain += u64::from(comma && !point);
        self.point_for_certain += u64::from(point && !comma);
        // A day has two marks between its parts.
        if field.bytes().filter(|b| matches!(b, b'-' | b'/' | b'.')).take(2).count() == 2 {
            for (seen, order) in self.dates.iter_mut().zip(ORDERS) {
                *seen += u64::from(parse_date(field, order).is_some());
            }
        }
        if field.bytes().all(|b| b.is_ascii_digit()) {
            self.digits_only += 1;
            self.leading_zero += u64::from(field.len() > 1 && field.starts_with('0'));
            self.too_long_for_number += u64::from(field.len() > 15);
            match self.width {
                None => self.width = Some(field.len()),
                Some(w) => self.widths_differ |= w != field.len(),
            }
        }
    }

    /// How many filled fields do not read in that way of writing.
    pub fn misfits(&self, format: ValueFormat) -> u64 {
        let fits = match format {
            ValueFormat::Text => self.filled,
            ValueFormat::Number { mark: DecimalMark::Point } => self.points,
            ValueFormat::Number { mark: DecimalMark::Comma } => self.commas,
            ValueFormat::Date { order } => ORDERS.iter().zip(self.dates).find(|(o, _)| **o == order).map_or(0, |d| d.1),
        };
        self.filled - fits + self.failures
    }

    /// How many fields read as a number only with a decimal comma, less those
    /// that do only with a decimal point.
    pub fn comma_vote(&self) -> i64 {
        self.comma_for_certain as i64 - self.point_for_certain as i64
    }

    /// The kind, the way of writing and the reason, for a column of this name.
    ///
    /// `comma_file` says how the rest of the file writes decimals, for columns
    /// that leave it open.
    pub fn conclude(&self, name: &str, comma_file: bool) -> (Kind, ValueFormat, String) {
        let text = |kind, reason: &str| (kind, ValueFormat::Text, reason.to_owned());
        if self.filled == 0 {
            return text(Kind::Category, "every value is missing");
        }
        if let Some(reason) = self.answers() {
            return text(Kind::YesNo, &reason);
        }
        let enough = |n: u64| n as f64 >= self.filled as f64 * (1.0 - SLIPS);
        if enough(self.digits_only) {
            if enough(self.told_text) {
                return text(Kind::Code, "digits that the file keeps as text");
            }
            if self.leading_zero > 0 {
                return text(Kind::Code, "digits with leading zeros name something");
            }
            if self.too_long_for_number > 0 {
                return text(Kind::Code, "more digits than a quantity has");
            }
            if names_a_code(name) {
                return text(Kind::Code, "digits, but the name says that they name something");
            }
        }
        let dates = self.dates.iter().max().copied().unwrap_or(0);
        let mark = if self.comma_vote() > 0 || (self.comma_vote() == 0 && comma_file) {
            DecimalMark::Comma
        } else {
            DecimalMark::Point
        };
        let numbers = if mark == DecimalMark::Comma { self.commas } else { self.points };
        if enough(dates) && dates >= numbers {
            let fits: Vec<DateOrder> =
                ORDERS.into_iter().zip(self.dates).filter(|&(_, n)| n == dates).map(|(o, _)| o).collect();
            let reason =
                if fits.len() > 1 { "dates; day and month could be the other way round" } else { "reads as dates" };
            return (Kind::Date, ValueFormat::Date { order: fits[0] }, reason.into());
        }
        if enough(numbers) {
            return (Kind::Number, ValueFormat::Number { mark }, "reads as numbers".into());
        }
        let distinct = self.distinct.len() as f64;
        let mean_length = self.letters as f64 / self.filled as f64;
        let nearly_all_differ = self.many || distinct > self.filled as f64 * 0.9;
        if nearly_all_differ
            && self.filled > 20
            && self.spaced as f64 <= self.filled as f64 * 0.05
            && mean_length < 40.0
        {
            return text(Kind::Code, "short values that nearly all differ");
        }
        if mean_length > 30.0 || (nearly_all_differ && self.filled > 20) {
            return text(Kind::Text, "long or nearly all different");
        }
        text(Kind::Category, "a limited set of values")
    }

    fn answers(&self) -> Option<String> {
        const PAIRS: [(&str, &str); 9] = [
            ("yes", "no"),
            ("y", "n"),
            ("true", "false"),
            ("t", "f"),
            ("1", "0"),
            ("ja", "nein"),
            ("oui", "non"),
            ("j", "n"),
            ("x", ""),
        ];
        if self.many || self.distinct.len() > 2 || self.distinct.is_empty() {
            return None;
        }
        let values: Vec<String> = self.distinct.keys().map(|v| v.to_lowercase()).collect();
        let is_pair = |(yes, no): &(&str, &str)| values.iter().all(|v| v == yes || v == no) && values.len() == 2;
        PAIRS.iter().find(|p| is_pair(p)).map(|(yes, no)| format!("only {yes} and {no}"))
    }
}

/// Names under which digits are names: postcodes, branch and district numbers.
fn names_a_code(name: &str) -> bool {
    let lower = name.to_lowercase();
    let words: Vec<&str> = lower.split(|c: char| !c.is_alphanumeric()).collect();
    words.iter().any(|w| {
        matches!(
            *w,
            "id" | "code" | "postcode" | "zip" | "plz" | "ref" | "district" | "branch" | "key" | "iban" | "phone"
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(name: &str, fields: &[&str]) -> (Kind, ValueFormat) {
        let mut tally = Tally::default();
        fields.iter().for_each(|f| tally.see(f, Told::Nothing));
        let (kind, format, _) = tally.conclude(name, false);
        (kind, format)
    }

    #[test]
    fn kinds_are_told_by_the_values() {
        let number = ValueFormat::Number { mark: DecimalMark::Point };
        assert_eq!(of("fee", &["1.5", "2", "NA", ""]), (Kind::Number, number));
        assert_eq!(of("fee", &["1,5", "2,25"]).1, ValueFormat::Number { mark: DecimalMark::Comma });
        assert_eq!(of("member", &["0012", "0345"]).0, Kind::Code);
        assert_eq!(of("district", &["12", "345"]).0, Kind::Code);
        assert_eq!(of("vip", &["Y", "N", "Y"]).0, Kind::YesNo);
        assert_eq!(of("tier", &["Plus", "Basic", "Plus"]).0, Kind::Category);
        assert_eq!(of("joined", &["2024-01-31", "2023-12-01"]).0, Kind::Date);
        assert_eq!(of("joined", &["31/01/2024", "01/12/2023"]).1, ValueFormat::Date { order: DateOrder::DayMonthYear });
    }

    #[test]
    fn a_slip_in_a_hundred_leaves_a_column_of_numbers() {
        let mut fields = vec!["7"; 150];
        fields.push("seven");
        assert_eq!(of("visits", &fields).0, Kind::Number);
        fields.extend(["eight"; 5]);
        assert_eq!(of("visits", &fields).0, Kind::Category);
    }
}
