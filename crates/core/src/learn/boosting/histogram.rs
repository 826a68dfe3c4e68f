//! Sums of gradients per bin.

use rayon::prelude::*;

use super::binning::Binned;

/// Gradient, hessian and rows of one bin.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Bin {
    pub gradient: f64,
    pub hessian: f64,
    pub rows: u32,
}

impl Bin {
    pub fn add(&mut self, other: &Bin) {
        self.gradient += other.gradient;
        self.hessian += other.hessian;
        self.rows += other.rows;
    }

    pub fn less(&self, other: &Bin) -> Bin {
        Bin {
            gradient: self.gradient - other.gradient,
            hessian: self.hessian - other.hessian,
            rows: self.rows - other.rows,
        }
    }
}

/// The bins of all features at one node; 256 per feature, the last for missing.
pub(super) struct Histogram {
    features: Vec<Vec<Bin>>,
}

impl Histogram {
    /// Sums over the rows of a node. Every feature is summed by one thread in
    /// the order of the rows, so that the sums do not depend on threads.
    pub fn of(binned: &Binned, rows: &[u32], gradients: &[[f32; 2]]) -> Self {
        let ordered: Vec<[f32; 2]> = rows.iter().map(|&r| gradients[r as usize]).collect();
        let features = binned
            .features
            .par_iter()
            .map(|feature| {
                let mut bins = vec![Bin::default(); 256];
                for (&row, gh) in rows.iter().zip(&ordered) {
                    let bin = &mut bins[usize::from(feature.bins[row as usize])];
                    bin.gradient += f64::from(gh[0]);
                    bin.hessian += f64::from(gh[1]);
                    bin.rows += 1;
                }
                bins
            })
            .collect();
        Self { features }
    }

    /// What is left of a parent when one child is taken away.
    pub fn less(mut self, child: &Histogram) -> Self {
        for (mine, theirs) in self.features.iter_mut().zip(&child.features) {
            mine.iter_mut().zip(theirs).for_each(|(a, b)| *a = a.less(b));
        }
        self
    }

    /// The bins of each feature.
    pub fn features(&self) -> &[Vec<Bin>] {
        &self.features
    }
}
