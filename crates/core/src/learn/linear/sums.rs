//! Sums over all rows at given coefficients.

use nalgebra::{DMatrix, DVector};
use rayon::prelude::*;

use super::Loss;
use crate::learn::Target;
use crate::prepare::Design;

/// Rows that are summed up together: few enough for a hundred features of them to
/// stay in the cache, and fixed, so that sums do not depend on threads.
const BLOCK: usize = 512;

/// Blocks that one thread sums up at a time.
const BLOCKS: usize = 16;

/// The loss of all rows with its derivatives, added up in a fixed order.
pub struct Sums {
    /// Less the derivative of the loss, intercept first.
    pub descent: DVector<f64>,
    /// Second derivatives of the loss.
    pub curvature: DMatrix<f64>,
    /// The loss.
    pub loss: f64,
    /// The greatest distance from 0 of what the features of a row add up to.
    pub farthest: f64,
}

impl Sums {
    /// Adds up all rows at the coefficients given, intercept first.
    pub fn at<L: Loss>(design: &Design, target: &Target, beta: &DVector<f64>) -> Self {
        let p = beta.len();
        let blocks: Vec<Sums> = (0..target.rows().div_ceil(BLOCK * BLOCKS))
            .into_par_iter()
            .map(|part| {
                let blocks = part * BLOCKS..target.rows().div_ceil(BLOCK).min((part + 1) * BLOCKS);
                let mut sums = Self::nothing(p);
                blocks.for_each(|block| sums.add(Self::of_block::<L>(design, target, beta, block * BLOCK)));
                sums
            })
            .collect();
        let mut sums = Self::nothing(p);
        blocks.into_iter().for_each(|block| sums.add(block));
        sums
    }

    fn nothing(p: usize) -> Self {
        Self { descent: DVector::zeros(p), curvature: DMatrix::zeros(p, p), loss: 0.0, farthest: 0.0 }
    }

    fn add(&mut self, other: Self) {
        self.descent += other.descent;
        self.curvature += other.curvature;
        self.loss += other.loss;
        self.farthest = self.farthest.max(other.farthest);
    }

    fn of_block<L: Loss>(design: &Design, target: &Target, beta: &DVector<f64>, start: usize) -> Self {
        let end = (start + BLOCK).min(target.rows());
        let n = end - start;
        let p = beta.len();
        let columns: Vec<&[f64]> = design.features().iter().map(|f| &f.numbers()[start..end]).collect();
        let mut eta = vec![beta[0]; n];
        for (column, b) in columns.iter().zip(beta.iter().skip(1)) {
            eta.iter_mut().zip(*column).for_each(|(e, x)| *e += b * x);
        }
        let (mut loss, mut farthest) = (0.0, 0.0f64);
        let (mut slope, mut weight) = (vec![0.0; n], vec![0.0; n]);
        for i in 0..n {
            let counts = target.weight(start + i);
            let [value, down, bend] = L::of(eta[i], target.event[start + i]);
            loss += counts * value;
            farthest = farthest.max(eta[i].abs());
            slope[i] = counts * down;
            weight[i] = counts * bend;
        }
        let mut descent = DVector::zeros(p);
        let mut curvature = DMatrix::zeros(p, p);
        descent[0] = sum(&slope);
        curvature[(0, 0)] = sum(&weight);
        let mut weighted = vec![0.0; n];
        for (j, x) in columns.iter().enumerate() {
            descent[j + 1] = dot(&slope, x);
            weighted.iter_mut().zip(&weight).zip(*x).for_each(|((wx, w), x)| *wx = w * x);
            curvature[(j + 1, 0)] = sum(&weighted);
            for (k, z) in columns.iter().enumerate().take(j + 1) {
                curvature[(j + 1, k + 1)] = dot(&weighted, z);
            }
        }
        curvature.fill_upper_triangle_with_lower_triangle();
        Self { descent, curvature, loss, farthest }
    }
}

/// Eight running sums keep the processor's lanes busy; their order is fixed.
fn dot(a: &[f64], b: &[f64]) -> f64 {
    let mut lanes = [0.0; 8];
    let (a8, b8) = (a.chunks_exact(8), b.chunks_exact(8));
    let rest: f64 = a8.remainder().iter().zip(b8.remainder()).map(|(x, y)| x * y).sum();
    for (x, y) in a8.zip(b8) {
        for lane in 0..8 {
            lanes[lane] += x[lane] * y[lane];
        }
    }
    lanes.iter().sum::<f64>() + rest
}

fn sum(a: &[f64]) -> f64 {
    a.iter().sum()
}
