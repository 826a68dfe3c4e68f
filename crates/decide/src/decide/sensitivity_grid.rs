//! What is gained where two assumptions are other than they are taken to be.

use super::assumption::Assumption;
use super::decision::ConfusionCounts;
use super::economics::Economics;
use super::reoptimised::ChosenAgain;

/// Values that an assumption may have.
#[derive(Debug, Clone, Copy)]
pub struct Along<'a> {
    /// The assumption.
    pub assumption: &'a Assumption,
    /// Its values.
    pub values: &'a [f64],
}

impl ConfusionCounts<'_> {
    /// What the decision gains for every two values, row by row of the second.
    pub fn gains_over(&self, typical: &Economics<f64>, across: Along, down: Along) -> Vec<Vec<f64>> {
        over(typical, (across, down), |economics| vec![self.gain(economics)], |gains| gains[0])
    }
}

impl ChosenAgain<'_> {
    /// The most that can be gained for every two values, row by row of the second.
    pub fn best_over(&self, typical: &Economics<f64>, across: Along, down: Along) -> Vec<Vec<f64>> {
        let most = |gains: &[f64]| gains.iter().copied().fold(0.0, f64::max);
        over(typical, (across, down), |economics| self.gains(economics), most)
    }
}

/// Gains that are straight lines in either assumption need only be added up at four places.
fn over(
    typical: &Economics<f64>,
    (across, down): (Along, Along),
    gains: impl Fn(&Economics<f64>) -> Vec<f64>,
    read: impl Fn(&[f64]) -> f64,
) -> Vec<Vec<f64>> {
    let at = |x: f64, y: f64| gains(&typical.with(across.assumption.word, x).with(down.assumption.word, y));
    let each = |of: &dyn Fn(f64, f64) -> f64| -> Vec<Vec<f64>> {
        down.values.iter().map(|&y| across.values.iter().map(|&x| of(x, y)).collect()).collect()
    };
    let ends = |values: &[f64]| match values {
        [first, .., last] if first != last => Some([*first, *last]),
        _ => None,
    };
    let straight = across.assumption.is_linear() && down.assumption.is_linear();
    let (Some([x0, x1]), Some([y0, y1]), true) = (ends(across.values), ends(down.values), straight) else {
        return each(&|x, y| read(&at(x, y)));
    };
    let corners = [at(x0, y0), at(x1, y0), at(x0, y1), at(x1, y1)];
    each(&|x, y| {
        let (right, below) = ((x - x0) / (x1 - x0), (y - y0) / (y1 - y0));
        let shares = [(1.0 - right) * (1.0 - below), right * (1.0 - below), (1.0 - right) * below, right * below];
        let between = |stand: usize| corners.iter().zip(shares).map(|(gains, share)| gains[stand] * share).sum();
        read(&(0..corners[0].len()).map(between).collect::<Vec<f64>>())
    })
}
