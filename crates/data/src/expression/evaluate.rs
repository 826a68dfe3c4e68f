//! Computing a checked expression, operator by operator over whole columns.

use std::cmp::Ordering;

use arrow_arith::boolean::{and_kleene, not, or_kleene};
use arrow_array::{Array, ArrayAccessor, BooleanArray, Date32Array, Float64Array};

use super::functions::call;
use super::run::Run;
use super::tree::{Arithmetic, Comparison, ExpressionNode};
use super::values::ordering;
use super::{Type, Vector};
use crate::table::{ColumnValues, Words};
use crate::{Column, Table};

/// The values of an expression.
#[derive(Debug, Clone)]
pub struct Evaluated {
    /// One per row.
    pub values: Vector,
    /// How often an operation had no value although nothing in it was missing:
    /// a division by zero, the logarithm of what is not positive, a result too
    /// large for a number.
    pub undefined: u64,
}

pub(super) fn evaluate(node: &ExpressionNode, inputs: &[(String, Type)], table: &Table) -> Result<Evaluated, String> {
    let mut columns = Vec::new();
    for (name, kind) in inputs {
        let column = table.column(name).ok_or_else(|| format!("The expression reads “{name}”, which is not there."))?;
        if Type::of(column.kind) != *kind {
            let found = Type::of(column.kind).word();
            return Err(format!("The expression reads “{name}” as {}; it is {found} now.", kind.word()));
        }
        columns.push(column);
    }
    let mut run = Run { columns, rows: table.rows(), undefined: 0 };
    let values = run.value(node);
    Ok(Evaluated { values, undefined: run.undefined })
}

impl Run<'_> {
    pub fn value(&mut self, node: &ExpressionNode) -> Vector {
        match node {
            ExpressionNode::Column(at) => match &self.columns[*at].values {
                ColumnValues::Numbers(a) => Vector::Number(a.clone()),
                ColumnValues::Words(w) => Vector::Text(w.clone()),
                ColumnValues::Dates(a) => Vector::Day(a.clone()),
            },
            ExpressionNode::Number(x) => Vector::Number(Float64Array::from_value(*x, self.rows)),
            ExpressionNode::Text(text) => Vector::Text(Words::constant(text, self.rows)),
            ExpressionNode::Day(day) => Vector::Day(Date32Array::from_value(*day, self.rows)),
            ExpressionNode::Truth(b) => Vector::Truth(BooleanArray::from(vec![*b; self.rows])),
            ExpressionNode::Missing(kind) => self.missing(*kind),
            ExpressionNode::Minus(inner) => self.each_number(inner, |x| -x),
            ExpressionNode::Arithmetic(how, both) => {
                let (a, b) = self.both(both);
                let (a, b) = (a.numbers(), b.numbers());
                match how {
                    Arithmetic::Plus => self.each_pair(a, b, |x, y| x + y),
                    Arithmetic::Minus => self.each_pair(a, b, |x, y| x - y),
                    Arithmetic::Times => self.each_pair(a, b, |x, y| x * y),
                    // Zero over zero and one over zero both come out as not finite.
                    Arithmetic::Over => self.each_pair(a, b, |x, y| x / y),
                }
            }
            ExpressionNode::DaysBetween(both) => {
                let (a, b) = self.both(both);
                let (a, b) = (a.days(), b.days());
                let days = |row| {
                    (a.is_valid(row) && b.is_valid(row)).then(|| f64::from(a.value(row)) - f64::from(b.value(row)))
                };
                Vector::Number((0..self.rows).map(days).collect())
            }
            ExpressionNode::DaysLater(both) => {
                let (a, b) = self.both(both);
                let (a, b) = (a.days(), b.numbers());
                let mut lost = 0;
                let later = (0..self.rows).map(|row| {
                    let (day, days) = (a.is_valid(row).then(|| a.value(row))?, b.is_valid(row).then(|| b.value(row))?);
                    let day = f64::from(day) + days.round_ties_even();
                    let fits = day.abs() < 2_900_000.0;
                    lost += u64::from(!fits);
                    fits.then_some(day as i32)
                });
                let later = later.collect();
                self.undefined += lost;
                Vector::Day(later)
            }
            ExpressionNode::Compare(how, both) => {
                let (a, b) = self.both(both);
                Vector::Truth(compare(*how, &a, &b))
            }
            ExpressionNode::And(both) => self.logic(both, and_kleene),
            ExpressionNode::Or(both) => self.logic(both, or_kleene),
            ExpressionNode::Not(inner) => {
                let inner = self.value(inner);
                // Fails only for arrays of unequal length, and there is one.
                Vector::Truth(not(inner.truths()).unwrap_or_else(|_| inner.truths().clone()))
            }
            ExpressionNode::IsMissing(inner) => {
                let inner = self.value(inner);
                Vector::Truth((0..self.rows).map(|row| Some(inner.is_missing(row))).collect())
            }
            ExpressionNode::OneOf(inner, constants) => {
                let inner = self.value(inner);
                Vector::Truth(is_one_of(&inner, constants))
            }
            ExpressionNode::Like(inner, form) => {
                let form: Vec<char> = form.chars().collect();
                let inner = self.value(inner);
                let fits: Vec<bool> =
                    inner.text().levels().map(|l| is_like(&l.chars().collect::<Vec<_>>(), &form)).collect();
                Vector::Truth((0..self.rows).map(|row| inner.text().code(row).map(|code| fits[code])).collect())
            }
            ExpressionNode::Case(branches, last) => {
                let conditions: Vec<Vector> = branches.iter().map(|b| self.value(&b.0)).collect();
                let mut results: Vec<Vector> = branches.iter().map(|b| self.value(&b.1)).collect();
                results.push(self.value(last));
                let taken = |row: usize| {
                    let is_true = |c: &Vector| c.truths().is_valid(row) && c.truths().value(row);
                    Some(conditions.iter().position(is_true).unwrap_or(branches.len()))
                };
                Vector::choose(&results, taken, self.rows)
            }
            ExpressionNode::Call(function, arguments) => {
                let values: Vec<Vector> = arguments.iter().map(|a| self.value(a)).collect();
                call(self, *function, &values)
            }
        }
    }

    fn missing(&self, kind: Type) -> Vector {
        match kind {
            Type::Number => Vector::Number(Float64Array::new_null(self.rows)),
            Type::Day => Vector::Day(Date32Array::new_null(self.rows)),
            Type::Truth => Vector::Truth(BooleanArray::new_null(self.rows)),
            Type::Text => Vector::Text(Words::from_rows((0..self.rows).map(|_| None))),
        }
    }

    fn both(&mut self, both: &[ExpressionNode; 2]) -> (Vector, Vector) {
        (self.value(&both[0]), self.value(&both[1]))
    }

    fn logic(
        &mut self,
        both: &[ExpressionNode; 2],
        how: fn(&BooleanArray, &BooleanArray) -> Result<BooleanArray, arrow_schema::ArrowError>,
    ) -> Vector {
        let (a, b) = self.both(both);
        // Fails only for arrays of unequal length; these have one length.
        Vector::Truth(how(a.truths(), b.truths()).unwrap_or_else(|_| BooleanArray::new_null(self.rows)))
    }

    fn each_number(&mut self, inner: &ExpressionNode, f: impl Fn(f64) -> f64) -> Vector {
        let inner = self.value(inner);
        self.map(inner.numbers(), f)
    }
}

/// Computes a node over these columns, of which it knows by their places.
pub fn value_of(node: &ExpressionNode, columns: Vec<&Column>, rows: usize) -> Vector {
    Run { columns, rows, undefined: 0 }.value(node)
}

/// Whether values are among constants; missing where they are.
fn is_one_of(values: &Vector, constants: &[ExpressionNode]) -> BooleanArray {
    match values {
        Vector::Text(words) => {
            let is = |level: &str| constants.iter().any(|c| matches!(c, ExpressionNode::Text(text) if text == level));
            let found: Vec<bool> = words.levels().map(is).collect();
            (0..words.len()).map(|row| words.code(row).map(|code| found[code])).collect()
        }
        Vector::Number(numbers) => {
            let is = |x: f64| constants.iter().any(|c| matches!(c, ExpressionNode::Number(number) if *number == x));
            numbers.iter().map(|x| x.map(is)).collect()
        }
        Vector::Day(days) => {
            let is = |x: i32| constants.iter().any(|c| matches!(c, ExpressionNode::Day(day) if *day == x));
            days.iter().map(|x| x.map(is)).collect()
        }
        Vector::Truth(truths) => {
            let is = |x: bool| constants.iter().any(|c| matches!(c, ExpressionNode::Truth(truth) if *truth == x));
            truths.iter().map(|x| x.map(is)).collect()
        }
    }
}

/// Compares row by row; missing if either side is.
pub(super) fn compare(how: Comparison, a: &Vector, b: &Vector) -> BooleanArray {
    match (a, b) {
        (Vector::Number(x), Vector::Number(y)) => return compare_all(how, x, y),
        (Vector::Day(x), Vector::Day(y)) => return compare_all(how, x, y),
        // Sorting the words once is worth it where each stands in many rows.
        (Vector::Text(x), Vector::Text(y)) if (x.level_count() + y.level_count()) * 8 <= x.len() => {
            let mut words: Vec<&str> = x.levels().chain(y.levels()).collect();
            words.sort_unstable();
            words.dedup();
            let places = |of: &Words| -> Vec<i32> {
                of.levels().map(|level| words.partition_point(|word| *word < level) as i32).collect()
            };
            return compare_all(how, &x.by_level(&places(x)), &y.by_level(&places(y)));
        }
        _ => {}
    }
    let holds = |order: Ordering| match how {
        Comparison::Equal => order == Ordering::Equal,
        Comparison::Different => order != Ordering::Equal,
        Comparison::Less => order == Ordering::Less,
        Comparison::LessOrEqual => order != Ordering::Greater,
        Comparison::Greater => order == Ordering::Greater,
        Comparison::GreaterOrEqual => order != Ordering::Less,
    };
    let rows = a.len();
    let orders = ordering(a, b);
    (0..rows).map(|row| orders(row).map(holds)).collect()
}

/// Compares whole arrays at once.
fn compare_all<A: ArrayAccessor<Item: PartialOrd>>(how: Comparison, x: A, y: A) -> BooleanArray {
    match how {
        Comparison::Equal => BooleanArray::from_binary(x, y, |a, b| a == b),
        Comparison::Different => BooleanArray::from_binary(x, y, |a, b| a != b),
        Comparison::Less => BooleanArray::from_binary(x, y, |a, b| a < b),
        Comparison::LessOrEqual => BooleanArray::from_binary(x, y, |a, b| a <= b),
        Comparison::Greater => BooleanArray::from_binary(x, y, |a, b| a > b),
        Comparison::GreaterOrEqual => BooleanArray::from_binary(x, y, |a, b| a >= b),
    }
}

/// Whether text has a form: `%` stands for any letters, `_` for one, and what
/// follows a backslash for itself. Looks back at most to the last `%`.
fn is_like(text: &[char], form: &[char]) -> bool {
    let (mut t, mut f) = (0, 0);
    let mut back: Option<(usize, usize)> = None;
    while t < text.len() {
        let literal = form.get(f) == Some(&'\\') && f + 1 < form.len();
        let fits = match form.get(f) {
            Some('%') => {
                back = Some((t, f + 1));
                f += 1;
                continue;
            }
            Some('_') => true,
            Some('\\') if literal => form[f + 1] == text[t],
            Some(c) => *c == text[t],
            None => false,
        };
        if fits {
            t += 1;
            f += if literal { 2 } else { 1 };
        } else if let Some((from, after)) = back {
            back = Some((from + 1, after));
            (t, f) = (from + 1, after);
        } else {
            return false;
        }
    }
    form[f..].iter().all(|&c| c == '%')
}
