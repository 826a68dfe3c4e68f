//! A symmetric matrix, and its factor by Cholesky (Golub & Van Loan 2013, algorithms 3.1.1 and 4.2.1).

use std::ops::{Index, IndexMut};

use super::products::dot;

/// A symmetric matrix, row after row.
#[derive(Debug, Clone, PartialEq)]
pub struct Symmetric {
    side: usize,
    values: Vec<f64>,
}

impl Symmetric {
    /// One that holds only zeros.
    pub fn zeros(side: usize) -> Self {
        Self { side, values: vec![0.0; side * side] }
    }

    /// One whose values are given by row and column, in the same way on both sides of the diagonal.
    pub fn from_fn(side: usize, value: impl Fn(usize, usize) -> f64) -> Self {
        Self { side, values: (0..side * side).map(|at| value(at / side, at % side)).collect() }
    }

    pub fn side(&self) -> usize {
        self.side
    }

    /// A row, which is a column as well.
    pub fn row(&self, at: usize) -> &[f64] {
        &self.values[at * self.side..(at + 1) * self.side]
    }

    pub fn diagonal(&self) -> impl Iterator<Item = f64> {
        (0..self.side).map(|at| self[(at, at)])
    }

    /// Adds another of the same side.
    pub fn add(&mut self, other: &Self) {
        self.values.iter_mut().zip(&other.values).for_each(|(own, more)| *own += more);
    }

    /// The lower triangle whose product with its transpose this is; none where it is not positive definite.
    pub fn cholesky(&self) -> Option<Cholesky> {
        let mut lower = Self::zeros(self.side);
        for row in 0..self.side {
            for column in 0..=row {
                let known = dot(&lower.row(row)[..column], &lower.row(column)[..column]);
                let left = self[(row, column)] - known;
                lower[(row, column)] = if row > column {
                    left / lower[(column, column)]
                } else if left > 0.0 {
                    left.sqrt()
                } else {
                    return None;
                };
            }
        }
        Some(Cholesky(lower))
    }
}

impl Index<(usize, usize)> for Symmetric {
    type Output = f64;

    fn index(&self, (row, column): (usize, usize)) -> &f64 {
        &self.values[row * self.side + column]
    }
}

impl IndexMut<(usize, usize)> for Symmetric {
    fn index_mut(&mut self, (row, column): (usize, usize)) -> &mut f64 {
        &mut self.values[row * self.side + column]
    }
}

/// The lower triangle of a factored matrix.
#[derive(Debug)]
pub struct Cholesky(Symmetric);

impl Cholesky {
    /// The pivots.
    pub fn diagonal(&self) -> impl Iterator<Item = f64> {
        self.0.diagonal()
    }

    /// What the matrix takes to `b`.
    pub fn solve(&self, b: &[f64]) -> Vec<f64> {
        let mut x = self.forward(b.to_vec());
        for row in (0..x.len()).rev() {
            let solved = x[row] / self.0[(row, row)];
            x[row] = solved;
            x[..row].iter_mut().zip(self.0.row(row)).for_each(|(x, l)| *x -= solved * l);
        }
        x
    }

    /// The diagonal of the inverse of the matrix.
    pub fn inverse_diagonal(&self) -> Vec<f64> {
        let side = self.0.side;
        let unit = |at: usize| (0..side).map(|row| f64::from(u8::from(row == at))).collect();
        (0..side).map(|at| self.forward(unit(at)).iter().map(|y| y * y).sum()).collect()
    }

    fn forward(&self, mut b: Vec<f64>) -> Vec<f64> {
        for row in 0..b.len() {
            let known = dot(&self.0.row(row)[..row], &b[..row]);
            b[row] = (b[row] - known) / self.0[(row, row)];
        }
        b
    }
}

#[cfg(test)]
mod tests {
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    use super::*;

    #[test]
    fn what_is_not_positive_definite_has_no_factor() {
        for values in [[[1.0, 2.0], [2.0, 1.0]], [[0.0, 0.0], [0.0, 1.0]], [[1.0, f64::NAN], [f64::NAN, 1.0]]] {
            assert!(Symmetric::from_fn(2, |a, b| values[a][b]).cholesky().is_none(), "{values:?}");
        }
    }

    #[test]
    fn the_factor_solves_and_inverts() {
        for seed in 0..50 {
            let mut rng = ChaCha8Rng::seed_from_u64(seed);
            let side = rng.random_range(1..12);
            let mut drawn = |n: usize| -> Vec<f64> { (0..n).map(|_| rng.random_range(-1.0..1.0)).collect() };
            let (rows, right) = (drawn(side * side), drawn(side));
            // A product with its own transpose, and somewhat more on the diagonal.
            let row = |at: usize| &rows[at * side..(at + 1) * side];
            let matrix = Symmetric::from_fn(side, |a, b| dot(row(a), row(b)) + f64::from(u8::from(a == b)));
            let factor = matrix.cholesky().expect("positive definite");
            let solved = factor.solve(&right);
            for (row, b) in right.iter().enumerate() {
                assert!((dot(matrix.row(row), &solved) - b).abs() < 1e-9, "seed {seed}");
            }
            for (at, found) in factor.inverse_diagonal().into_iter().enumerate() {
                let unit: Vec<f64> = (0..side).map(|row| f64::from(u8::from(row == at))).collect();
                assert!((factor.solve(&unit)[at] - found).abs() < 1e-9, "seed {seed}");
            }
        }
    }
}
