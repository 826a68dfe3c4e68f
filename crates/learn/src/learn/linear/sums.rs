//! Sums over all rows at given coefficients.

use rayon::prelude::*;

use super::Loss;
use super::columns::{DesignColumns, NONE};
use super::matrix::Symmetric;
use super::products::{dot, dots};
use crate::learn::Target;

/// Rows that are summed up together: few enough for a hundred features of them to
/// stay in the cache, and fixed, so that sums do not depend on threads.
const BLOCK: usize = 512;

/// Blocks that one thread sums up at a time.
const BLOCKS: usize = 16;

/// The loss of all rows with its derivatives, added up in a fixed order.
pub struct LossSums {
    /// Less the derivative of the loss, intercept first.
    pub descent: Vec<f64>,
    /// Second derivatives of the loss.
    pub curvature: Symmetric,
    /// The loss.
    pub loss: f64,
    /// The greatest distance from 0 of what the features of a row add up to.
    pub farthest: f64,
}

impl LossSums {
    /// Adds up all rows at the coefficients given, intercept first.
    pub fn at<L: Loss>(columns: &DesignColumns, target: &Target, beta: &[f64]) -> Self {
        let p = beta.len();
        let blocks: Vec<LossSums> = (0..target.rows().div_ceil(BLOCK * BLOCKS))
            .into_par_iter()
            .map(|part| {
                let blocks = part * BLOCKS..target.rows().div_ceil(BLOCK).min((part + 1) * BLOCKS);
                let mut sums = Self::nothing(p);
                blocks.for_each(|block| sums.add(Self::of_block::<L>(columns, target, beta, block * BLOCK)));
                sums
            })
            .collect();
        let mut sums = Self::nothing(p);
        blocks.into_iter().for_each(|block| sums.add(block));
        sums
    }

    fn nothing(p: usize) -> Self {
        Self { descent: vec![0.0; p], curvature: Symmetric::zeros(p), loss: 0.0, farthest: 0.0 }
    }

    fn add(&mut self, other: Self) {
        self.descent.iter_mut().zip(&other.descent).for_each(|(own, more)| *own += more);
        self.curvature.add(&other.curvature);
        self.loss += other.loss;
        self.farthest = self.farthest.max(other.farthest);
    }

    fn of_block<L: Loss>(columns: &DesignColumns, target: &Target, beta: &[f64], start: usize) -> Self {
        let end = (start + BLOCK).min(target.rows());
        let n = end - start;
        let p = beta.len();
        let numbers: Vec<(usize, &[f64])> =
            columns.numbers.iter().map(|(at, values)| (at + 1, &values[start..end])).collect();
        // Places among the coefficients, row by row; one past the last where none of
        // a column's indicators is 1, so that what is added there can be dropped.
        let codes: Vec<Vec<usize>> = columns
            .codes
            .iter()
            .map(|of| {
                let place = |&code: &u16| if code == NONE { p } else { of.features[usize::from(code)] + 1 };
                of.of_row[start..end].iter().map(place).collect()
            })
            .collect();
        let mut eta = vec![beta[0]; n];
        for (place, column) in &numbers {
            let b = beta[*place];
            eta.iter_mut().zip(*column).for_each(|(e, x)| *e += b * x);
        }
        let steps: Vec<f64> = beta.iter().copied().chain([0.0]).collect();
        for places in &codes {
            eta.iter_mut().zip(places).for_each(|(e, &place)| *e += steps[place]);
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
        let mut descent = vec![0.0; p + 1];
        // Row by row, with a place that is dropped at the end of each.
        let mut products = vec![0.0; (p + 1) * (p + 1)];
        let place = |a: usize, b: usize| a * (p + 1) + b;
        descent[0] = sum(&slope);
        products[0] = sum(&weight);
        let mut weighted = [vec![0.0; n], vec![0.0; n]];
        // Two features at a time share what is fetched of every other one.
        for (pair, both) in numbers.chunks(2).enumerate() {
            for (side, (at, x)) in both.iter().enumerate() {
                descent[*at] = dot(&slope, x);
                weighted[side].iter_mut().zip(&weight).zip(*x).for_each(|((wx, w), x)| *wx = w * x);
                products[place(*at, 0)] = sum(&weighted[side]);
            }
            for (other, z) in &numbers[..=2 * pair] {
                let dots = dots([&weighted[0], &weighted[1]], z);
                both.iter().zip(dots).for_each(|((at, _), dot)| products[place(*at, *other)] = dot);
            }
            if let [_, (at, x)] = both {
                products[place(*at, *at)] = dot(&weighted[1], x);
            }
            for ((at, _), weighted) in both.iter().zip(&weighted) {
                let row = &mut products[place(*at, 0)..place(*at + 1, 0)];
                for places in &codes {
                    places.iter().zip(weighted).for_each(|(&other, wx)| row[other] += wx);
                }
            }
        }
        for (first, places) in codes.iter().enumerate() {
            for i in 0..n {
                let row = place(places[i], 0);
                descent[places[i]] += slope[i];
                products[row] += weight[i];
                products[row + places[i]] += weight[i];
                codes[..first].iter().for_each(|others| products[row + others[i]] += weight[i]);
            }
        }
        descent.truncate(p);
        // Each product was put on one side of the diagonal only.
        let curvature = Symmetric::from_fn(p, |a, b| {
            if a == b { products[place(a, a)] } else { products[place(a, b)] + products[place(b, a)] }
        });
        Self { descent, curvature, loss, farthest }
    }
}

fn sum(a: &[f64]) -> f64 {
    a.iter().sum()
}
