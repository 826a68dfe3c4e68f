//! The functions of expressions.

use std::cmp::Ordering;

use arrow_array::{Array, Date32Array};
use chrono::{Datelike, NaiveDate};

use super::Vector;
use super::run::Run;
use super::tree::Function;
use super::values::ordering;
use crate::table::Words;

/// Calls a function on values that the check has found to fit.
pub(super) fn call(run: &mut Run, function: Function, values: &[Vector]) -> Vector {
    let rows = run.rows;
    let first = &values[0];
    match function {
        Function::Abs => run.map(first.numbers(), f64::abs),
        Function::Round => run.map(first.numbers(), f64::round_ties_even),
        Function::Floor => run.map(first.numbers(), f64::floor),
        Function::Ceil => run.map(first.numbers(), f64::ceil),
        // Not a number below zero, and minus infinity at zero, are no values.
        Function::Sqrt => run.map(first.numbers(), f64::sqrt),
        Function::Ln => run.map(first.numbers(), f64::ln),
        Function::Exp => run.map(first.numbers(), f64::exp),
        Function::Least => extreme(values, Ordering::Less, rows),
        Function::Greatest => extreme(values, Ordering::Greater, rows),
        Function::Coalesce => {
            let present = |row: usize| values.iter().position(|v| !v.is_missing(row));
            Vector::choose(values, present, rows)
        }
        Function::NullIf => {
            let orders = ordering(&values[0], &values[1]);
            Vector::choose(values, |row| (orders(row) != Some(Ordering::Equal)).then_some(0), rows)
        }
        Function::Length => {
            let lengths: Vec<f64> = first.text().levels().map(|l| l.chars().count() as f64).collect();
            Vector::Number((0..rows).map(|row| first.text().code(row).map(|code| lengths[code])).collect())
        }
        Function::Lower => Vector::Text(first.text().map(str::to_lowercase)),
        Function::Upper => Vector::Text(first.text().map(str::to_uppercase)),
        Function::Trim => Vector::Text(first.text().map(|l| l.trim_matches(' ').to_owned())),
        Function::Concat => {
            let (a, b) = (first.text(), values[1].text());
            let joined: Vec<Option<String>> =
                (0..rows).map(|row| Some(format!("{}{}", a.get(row)?, b.get(row)?))).collect();
            Vector::Text(Words::from_rows(joined.iter().map(Option::as_deref)))
        }
        Function::Year => date_part(first.days(), |d| f64::from(d.year())),
        Function::Month => date_part(first.days(), |d| f64::from(d.month())),
        Function::DayOfMonth => date_part(first.days(), |d| f64::from(d.day())),
        Function::DayOfWeek => date_part(first.days(), |d| f64::from(d.weekday().num_days_from_sunday())),
    }
}

fn date_part(days: &Date32Array, part: impl Fn(NaiveDate) -> f64) -> Vector {
    let of = |row: usize| days.is_valid(row).then(|| NaiveDate::from_epoch_days(days.value(row)).map(&part))?;
    Vector::Number((0..days.len()).map(of).collect())
}

/// The least or the greatest of the values that are not missing.
fn extreme(values: &[Vector], wanted: Ordering, rows: usize) -> Vector {
    let orders: Vec<Vec<_>> = values.iter().map(|a| values.iter().map(|b| ordering(a, b)).collect()).collect();
    let best = |row: usize| {
        let mut best: Option<usize> = None;
        for at in 0..values.len() {
            if values[at].is_missing(row) {
                continue;
            }
            best = Some(match best {
                Some(b) if orders[at][b](row) != Some(wanted) => b,
                _ => at,
            });
        }
        best
    };
    Vector::choose(values, best, rows)
}
