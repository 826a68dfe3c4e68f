//! Values of one type, one per row.

use std::cmp::Ordering;

use arrow_array::builder::BooleanBuilder;
use arrow_array::{Array, BooleanArray, Date32Array, Float64Array};

use crate::table::{ColumnBuilder, ColumnValues, Words};
use crate::{Column, Kind};

/// The values of an expression; missing ones are null.
#[derive(Debug, Clone)]
pub enum Vector {
    /// Finite numbers.
    Number(Float64Array),
    /// Text.
    Text(Words),
    /// Days since 1970-01-01.
    Day(Date32Array),
    /// True or false.
    Truth(BooleanArray),
}

impl Vector {
    /// Number of rows.
    pub fn len(&self) -> usize {
        match self {
            Self::Number(a) => a.len(),
            Self::Text(w) => w.len(),
            Self::Day(a) => a.len(),
            Self::Truth(a) => a.len(),
        }
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Whether the value in `row` is missing.
    pub fn is_missing(&self, row: usize) -> bool {
        match self {
            Self::Number(a) => a.is_null(row),
            Self::Text(w) => w.code(row).is_none(),
            Self::Day(a) => a.is_null(row),
            Self::Truth(a) => a.is_null(row),
        }
    }

    /// As a column of a table; truth is written yes and no.
    pub fn into_column(self, name: &str) -> Column {
        let (kind, values) = match self {
            Self::Number(a) => (Kind::Number, ColumnValues::Numbers(a)),
            Self::Text(w) => (Kind::Category, ColumnValues::Words(w)),
            Self::Day(a) => (Kind::Date, ColumnValues::Dates(a)),
            Self::Truth(a) => {
                let mut built = ColumnBuilder::new(name, Kind::YesNo);
                for truth in &a {
                    match truth {
                        Some(true) => built.push_word("yes"),
                        Some(false) => built.push_word("no"),
                        None => built.push_missing(),
                    }
                }
                return built.finish();
            }
        };
        Column { name: name.to_owned(), kind, values }
    }

    /// The numbers; the check has made sure that there are.
    pub(super) fn numbers(&self) -> &Float64Array {
        match self {
            Self::Number(a) => a,
            _ => unreachable!("checked to be numbers"),
        }
    }

    /// The text; the check has made sure that there is.
    pub(super) fn text(&self) -> &Words {
        match self {
            Self::Text(w) => w,
            _ => unreachable!("checked to be text"),
        }
    }

    /// The days; the check has made sure that there are.
    pub(super) fn days(&self) -> &Date32Array {
        match self {
            Self::Day(a) => a,
            _ => unreachable!("checked to be days"),
        }
    }

    /// The truths; the check has made sure that there are.
    pub(super) fn truths(&self) -> &BooleanArray {
        match self {
            Self::Truth(a) => a,
            _ => unreachable!("checked to be true or false"),
        }
    }

    /// For every row the value of the vector that is chosen for it; missing
    /// where none is. All vectors are of one type.
    pub(super) fn choose(vectors: &[Vector], chosen: impl Fn(usize) -> Option<usize>, rows: usize) -> Vector {
        let of = |row: usize| chosen(row).map(|at| &vectors[at]).filter(|v| !v.is_missing(row));
        match &vectors[0] {
            Self::Number(_) => Self::Number((0..rows).map(|row| of(row).map(|v| v.numbers().value(row))).collect()),
            Self::Day(_) => Self::Day((0..rows).map(|row| of(row).map(|v| v.days().value(row))).collect()),
            Self::Truth(_) => {
                let mut built = BooleanBuilder::with_capacity(rows);
                (0..rows).for_each(|row| built.append_option(of(row).map(|v| v.truths().value(row))));
                Self::Truth(built.finish())
            }
            Self::Text(_) => Self::Text(Words::from_rows((0..rows).map(|row| of(row).and_then(|v| v.text().get(row))))),
        }
    }
}

/// How the two values of a row stand to each other; none if either is missing.
pub(super) fn ordering<'a>(a: &'a Vector, b: &'a Vector) -> Box<dyn Fn(usize) -> Option<Ordering> + 'a> {
    let missing = move |row: usize| a.is_missing(row) || b.is_missing(row);
    match (a, b) {
        (Vector::Text(x), Vector::Text(y)) => {
            let (left, right): (Vec<&str>, Vec<&str>) = (x.levels().collect(), y.levels().collect());
            Box::new(move |row| Some(left[x.code(row)?].cmp(right[y.code(row)?])))
        }
        (Vector::Number(x), Vector::Number(y)) => {
            Box::new(move |row| (!missing(row)).then(|| x.value(row).partial_cmp(&y.value(row)))?)
        }
        (Vector::Day(x), Vector::Day(y)) => {
            Box::new(move |row| (!missing(row)).then(|| x.value(row).cmp(&y.value(row))))
        }
        (Vector::Truth(x), Vector::Truth(y)) => {
            Box::new(move |row| (!missing(row)).then(|| x.value(row).cmp(&y.value(row))))
        }
        _ => unreachable!("checked to be alike"),
    }
}
