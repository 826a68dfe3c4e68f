//! Small words for pages: times, and figures for templates.

use chrono::{DateTime, Utc};
use pronoia_core::value::{DecimalMark, parse_number};
use std::borrow::Borrow;

use pronoia_core::number;
pub use pronoia_core::sentence::listed;

/// A count; templates pass figures by reference, code by value.
pub fn count(n: impl Borrow<u64>) -> String {
    number::count(*n.borrow())
}

/// A number with a fixed count of decimals.
pub fn fixed(x: impl Borrow<f64>, decimals: usize) -> String {
    number::fixed(*x.borrow(), decimals)
}

/// An amount of money.
pub fn money(x: impl Borrow<f64>) -> String {
    number::money(*x.borrow())
}

/// An amount of money with what it is counted in, where that was said.
pub fn money_in(x: impl Borrow<f64>, currency: &str) -> String {
    if currency.is_empty() { money(x) } else { format!("{} {currency}", money(x)) }
}

/// What is added or taken away, with its sign.
pub fn signed(x: f64) -> String {
    let written = number::fixed(x, 2);
    if x > 0.0 { format!("+{written}") } else { written }
}

/// A share as per cent.
pub fn percent(share: f64) -> String {
    number::percent(share)
}

/// A moment as it is read beside an entry: `23 Nov 14:06`.
pub fn moment(at: &DateTime<Utc>) -> String {
    at.format("%-d %b %H:%M").to_string()
}

/// A count that is stored signed.
pub fn count_of(n: impl Borrow<i64>) -> String {
    count(n.borrow().unsigned_abs())
}

/// Bytes in the unit that suits them.
pub fn bytes(n: u64) -> String {
    match n {
        0..1_000 => format!("{n} bytes"),
        1_000..1_000_000 => format!("{} kB", fixed(n as f64 / 1e3, 1)),
        1_000_000..1_000_000_000 => format!("{} MB", fixed(n as f64 / 1e6, 1)),
        _ => format!("{} GB", fixed(n as f64 / 1e9, 1)),
    }
}

/// One, or a count with the plural.
pub fn counted(n: impl Borrow<usize>, one: &str, many: &str) -> String {
    let n = *n.borrow();
    if n == 1 { format!("1 {one}") } else { format!("{} {many}", count(n as u64)) }
}

/// A share as per cent for a field, without trailing noise: `25`, `12.5`.
pub fn plain_share(share: impl Borrow<f64>) -> String {
    format!("{}", (share.borrow() * 1e8).round() / 1e6)
}

/// Reads a number that somebody typed, with a point or a comma before its decimals.
///
/// # Errors
/// A sentence if it is none.
pub fn typed_number(text: &str) -> Result<f64, String> {
    let read = parse_number(text, DecimalMark::Point).or_else(|| parse_number(text, DecimalMark::Comma));
    read.ok_or_else(|| format!("“{text}” is not a number."))
}
