//! One computation of an expression, and the operations without a value that it has met.

use arrow_array::{Array, Float64Array};

use super::Vector;
use crate::Column;

/// One computation.
pub(super) struct Run<'a> {
    pub(super) columns: Vec<&'a Column>,
    pub(super) rows: usize,
    pub(super) undefined: u64,
}

impl Run<'_> {
    /// Applies `f` to every number; what is not finite is missing and counted.
    pub fn map(&mut self, a: &Float64Array, f: impl Fn(f64) -> f64) -> Vector {
        let mapped: Float64Array = arrow_arith::arity::unary(a, f);
        self.settled(mapped)
    }

    /// Applies `f` to pairs of numbers, as [`Run::map`].
    pub fn each_pair(&mut self, a: &Float64Array, b: &Float64Array, f: impl Fn(f64, f64) -> f64) -> Vector {
        // Fails only for arrays of unequal length; these have one length.
        let mapped: Float64Array =
            arrow_arith::arity::binary(a, b, f).unwrap_or_else(|_| Float64Array::new_null(self.rows));
        self.settled(mapped)
    }

    /// Takes out what is not finite, and makes the negative zero the zero.
    fn settled(&mut self, a: Float64Array) -> Vector {
        let wrong = (0..a.len()).filter(|&row| !a.value(row).is_finite() && a.is_valid(row)).count();
        self.undefined += wrong as u64;
        if wrong == 0 {
            return Vector::Number(a);
        }
        Vector::Number(a.iter().map(|x| x.filter(|x| x.is_finite())).collect())
    }
}
