//! Gradients as whole numbers, two to a word.
//!
//! A row's gradient and hessian are rounded to whole multiples of a unit and
//! packed into one 64-bit word, gradient above hessian, so that adding words
//! adds both (quantised training after Shi et al. 2022). Whole numbers may be
//! added in any order, which makes a tree the same for any number of threads.
//! Where the values are whole numbers already, nothing is rounded at all.

use rayon::prelude::*;

/// The finest that a value is told apart.
const FINEST: f64 = (1u32 << 20) as f64;

/// Packed gradients of all rows, and what their units are.
#[derive(Debug, Clone, Default)]
pub struct Quantised {
    /// One word per row.
    pub(super) packed: Vec<i64>,
    /// What one unit of the gradient stands for.
    pub(super) gradient_unit: f64,
    /// What one unit of the hessian stands for.
    pub(super) hessian_unit: f64,
}

impl Quantised {
    /// Packs a gradient and a hessian of 0 or more for each row. What is lost
    /// in rounding is as often gained, by a lot that `seed` governs.
    pub fn pack(&mut self, pairs: &[[f32; 2]], seed: u64) {
        let most = |side: usize| pairs.par_iter().map(|pair| pair[side].abs()).reduce(|| 0.0, f32::max);
        let rows = pairs.len().max(1) as f64;
        let fits = f64::from(most(0)) * rows < 2f64.powi(31) && f64::from(most(1)) * rows < 2f64.powi(32);
        let whole = fits && pairs.par_iter().all(|pair| pair.iter().all(|x| x.fract() == 0.0));
        // Sums of all rows must fit into 31 bits for gradients and 32 for hessians.
        let steps = |bits: i32| (2f64.powi(bits) / rows - 1.0).floor().clamp(1.0, FINEST);
        let unit = |most: f32, bits| if whole || most <= 0.0 { 1.0 } else { f64::from(most) / steps(bits) };
        (self.gradient_unit, self.hessian_unit) = (unit(most(0), 31), unit(most(1), 32));
        let (by_gradient, by_hessian) = (1.0 / self.gradient_unit, 1.0 / self.hessian_unit);
        self.packed.resize(pairs.len(), 0);
        self.packed.par_iter_mut().enumerate().with_min_len(8_192).for_each(|(row, word)| {
            let [gradient, hessian] = pairs[row].map(f64::from);
            let lot = if whole { [0.5, 0.5] } else { lots(seed, row) };
            let g = floor(gradient * by_gradient + lot[0]);
            // A hessian is 0 or more, and so is its lot.
            let h = (hessian * by_hessian + lot[1]) as i64;
            *word = (g << 32) + h;
        });
    }

    /// The word of a row.
    pub fn packed(&self, row: u32) -> i64 {
        self.packed[row as usize]
    }

    /// The gradient and the hessian that a sum of words stands for.
    pub fn sums(&self, word: i64) -> GradientSums {
        let hessian = word as u32;
        let gradient = (word - i64::from(hessian)) >> 32;
        GradientSums { gradient: gradient as f64 * self.gradient_unit, hessian: f64::from(hessian) * self.hessian_unit }
    }
}

/// The greatest whole number that is not above `x`, without asking a library.
fn floor(x: f64) -> i64 {
    let towards_nothing = x as i64;
    towards_nothing - i64::from(towards_nothing as f64 > x)
}

/// Two numbers from 0 to below 1 that depend on nothing but seed and row
/// (the finaliser of Steele, Lea & Flood 2014).
fn lots(seed: u64, row: usize) -> [f64; 2] {
    let mut z = seed.wrapping_add((row as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15));
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^= z >> 31;
    [(z >> 32) as f64, (z & 0xffff_ffff) as f64].map(|x| x / 2f64.powi(32))
}

/// Gradient and hessian of some rows together.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct GradientSums {
    /// Sum of the gradients.
    pub gradient: f64,
    /// Sum of the hessians.
    pub hessian: f64,
}

impl GradientSums {
    pub(super) fn add(&mut self, other: GradientSums) {
        self.gradient += other.gradient;
        self.hessian += other.hessian;
    }

    pub(super) fn less(self, other: GradientSums) -> GradientSums {
        GradientSums { gradient: self.gradient - other.gradient, hessian: self.hessian - other.hessian }
    }
}
