//! What kind of values a column holds, from all of its fields.

use hashbrown::HashSet;

use super::field::{FieldKind, PlainNumber, RowField};
use pronoia_data::Kind;
use pronoia_data::value::{DateOrder, DecimalMark, ValueFormat, parse_date, parse_number};

/// Distinct values counted exactly up to here; beyond, a column counts as "many".
const MOST_DISTINCT: usize = 5_000;

/// A column is read as numbers or dates if no more than this share of its
/// fields does not read so: a few slips of the pen do not turn it into text.
const SLIPS: f64 = 0.01;

const ORDERS: [DateOrder; 3] = [DateOrder::YearMonthDay, DateOrder::DayMonthYear, DateOrder::MonthDayYear];

/// Running tallies over the fields of one column.
#[derive(Debug, Default)]
pub(super) struct KindTally {
    filled: u64,
    points: u64,
    commas: u64,
    comma_for_certain: u64,
    point_for_certain: u64,
    dates: [u64; 3],
    digits_only: u64,
    leading_zero: u64,
    too_long_for_number: u64,
    letters: u64,
    spaced: u64,
    distinct: HashSet<String>,
    many: bool,
    told_text: u64,
    failures: u64,
}

impl KindTally {
    /// Takes in a field that occurs so many times.
    pub fn see(&mut self, field: &RowField, times: u64) {
        if field.told == FieldKind::Failure {
            self.failures += times;
            return;
        }
        if field.is_missing() {
            return;
        }
        if field.told == FieldKind::Text {
            self.told_text += times;
        }
        self.filled += times;
        self.distinguish(field.text);
        match &field.plain {
            Some(plain) => self.see_plain(field, plain, times),
            None => self.see_any(field, times),
        }
    }

    fn distinguish(&mut self, text: &str) {
        if self.many || self.distinct.contains(text) {
            return;
        }
        self.many = self.distinct.len() == MOST_DISTINCT;
        if !self.many {
            self.distinct.insert(text.to_owned());
        }
    }

    /// A number in plain figures, which is never a day.
    fn see_plain(&mut self, field: &RowField, plain: &PlainNumber, times: u64) {
        self.letters += times * field.text.len() as u64;
        // What the file knows as a number says nothing about how others are written.
        let comma = field.told == FieldKind::Number || plain.reads_with_comma();
        self.see_number(true, comma, times);
        if !plain.negative && plain.decimals.is_none() {
            self.see_digits(field.text, times);
        }
    }

    fn see_any(&mut self, field: &RowField, times: u64) {
        let (text, told) = (field.text, field.told);
        self.letters += times * text.chars().count() as u64;
        if text.contains(' ') {
            self.spaced += times;
        }
        if !text.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '-' | '+' | '.' | ',' | '−')) {
            return;
        }
        let point = parse_number(text, DecimalMark::Point).is_some();
        // Without a mark it reads the same either way.
        let marked = text.bytes().any(|b| matches!(b, b'.' | b','));
        let comma =
            if told == FieldKind::Number || !marked { point } else { parse_number(text, DecimalMark::Comma).is_some() };
        self.see_number(point, comma, times);
        // A day has two marks between its parts.
        if text.bytes().filter(|b| matches!(b, b'-' | b'/' | b'.')).take(2).count() == 2 {
            for (seen, order) in self.dates.iter_mut().zip(ORDERS) {
                if parse_date(text, order).is_some() {
                    *seen += times;
                }
            }
        }
        if text.bytes().all(|b| b.is_ascii_digit()) {
            self.see_digits(text, times);
        }
    }

    /// A number with a decimal point, with a decimal comma, or with either.
    fn see_number(&mut self, point: bool, comma: bool, times: u64) {
        let of = |counts: bool| if counts { times } else { 0 };
        self.points += of(point);
        self.commas += of(comma);
        self.comma_for_certain += of(comma && !point);
        self.point_for_certain += of(point && !comma);
    }

    fn see_digits(&mut self, digits: &str, times: u64) {
        let of = |counts: bool| if counts { times } else { 0 };
        self.digits_only += times;
        self.leading_zero += of(digits.len() > 1 && digits.starts_with('0'));
        self.too_long_for_number += of(digits.len() > 15);
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

    /// Whether more fields of a file read as numbers only with a decimal comma
    /// than only with a decimal point.
    pub fn comma_file<'a>(columns: impl Iterator<Item = &'a Self>) -> bool {
        columns.map(Self::comma_vote).sum::<i64>() > 0
    }

    /// How many fields read as a number only with a decimal comma, less those
    /// that do only with a decimal point.
    fn comma_vote(&self) -> i64 {
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
        let values: Vec<String> = self.distinct.iter().map(|v| v.to_lowercase()).collect();
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
        let mut tally = KindTally::default();
        fields.iter().for_each(|f| tally.see(&RowField::of(f, FieldKind::Nothing), 1));
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
