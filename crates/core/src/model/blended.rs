//! How the members of a blend are put together.

use serde::{Deserialize, Serialize};

use super::recipe::Mix;
use pronoia_data::split::Fold;
use pronoia_data::stats::log_loss_of_log_odds;
use pronoia_learn::calibrate::regression;
use pronoia_learn::learn::{FitError, Target};

/// How the members of a blend are put together: their log-odds, each times its
/// share, are added to a constant.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Blended {
    /// What the shares follow.
    pub mix: Mix,
    /// The constant.
    pub intercept: f64,
    /// How much the log-odds of each member count, at least 0.
    pub shares: Vec<f64>,
    /// Mean log loss of each member on rows that it had not met.
    pub losses: Vec<f64>,
    /// Mean log loss of the blend on the same rows, which neither members nor
    /// shares had met.
    pub loss: f64,
    /// Those rows.
    pub rows: u64,
}

impl Blended {
    /// Shares from what members said of rows that they had not met:
    /// `told[m][i]` are the log-odds of member `m` for row `i` of the target, and
    /// `of_row[i]` says which fold the row is in.
    ///
    /// # Errors
    /// [`FitError::OneSided`] if all rows have the same outcome.
    pub(super) fn fit(mix: Mix, told: &[Vec<f64>], target: &Target, of_row: &[usize]) -> Result<Self, FitError> {
        let mut apart = vec![0.0; target.rows()];
        for turn in Fold::of(of_row) {
            let learned = target.take(&turn.learned);
            let columns: Vec<Vec<f64>> = told.iter().map(|member| turn.of_learned(member)).collect();
            let (intercept, shares) = weighed(mix, &columns, &learned)?;
            turn.put(turn.judged.iter().map(|&at| sum(intercept, &shares, told, at)), &mut apart);
        }
        let (intercept, shares) = weighed(mix, told, target)?;
        Ok(Self {
            mix,
            intercept,
            shares,
            losses: told.iter().map(|member| mean_loss(member, target)).collect(),
            loss: mean_loss(&apart, target),
            rows: target.rows() as u64,
        })
    }

    /// Log-odds of every row by the blend, from those by its members.
    pub(super) fn log_odds(&self, told: &[Vec<f64>]) -> Vec<f64> {
        let rows = told.first().map_or(0, Vec::len);
        (0..rows).map(|at| sum(self.intercept, &self.shares, told, at)).collect()
    }
}

fn sum(intercept: f64, shares: &[f64], told: &[Vec<f64>], at: usize) -> f64 {
    intercept + shares.iter().zip(told).map(|(share, member)| share * member[at]).sum::<f64>()
}

fn mean_loss(log_odds: &[f64], target: &Target) -> f64 {
    let total = target.total(true) + target.total(false);
    let loss = |at: usize| target.weight(at) * log_loss_of_log_odds(log_odds[at], target.event[at]);
    (0..target.rows()).map(loss).sum::<f64>() / total
}

/// Constant and shares of greatest likelihood among those that the mix allows.
fn weighed(mix: Mix, told: &[Vec<f64>], target: &Target) -> Result<(f64, Vec<f64>), FitError> {
    if target.total(true) <= 0.0 || target.total(false) <= 0.0 {
        return Err(FitError::OneSided { rows: target.rows() });
    }
    let members = told.len();
    match mix {
        // Averages of log-odds are too cautious where members err apart; a line mends that.
        Mix::Average => {
            let equal = vec![1.0 / members as f64; members];
            let mean: Vec<f64> = (0..target.rows()).map(|at| sum(0.0, &equal, told, at)).collect();
            let found = regression(&[mean], target)?;
            let slope = found[1].max(0.0);
            Ok((found[0], vec![slope / members as f64; members]))
        }
        // Whoever would count less than nothing is left out, the worst first.
        Mix::Stacked => {
            let mut kept: Vec<usize> = (0..members).collect();
            loop {
                let columns: Vec<Vec<f64>> = kept.iter().map(|&member| told[member].clone()).collect();
                let found = regression(&columns, target)?;
                let worst = (0..kept.len()).min_by(|&a, &b| found[a + 1].total_cmp(&found[b + 1]));
                match worst {
                    Some(at) if found[at + 1] < 0.0 => drop(kept.remove(at)),
                    _ => {
                        let mut shares = vec![0.0; members];
                        kept.iter().zip(&found[1..]).for_each(|(&member, &share)| shares[member] = share);
                        return Ok((found[0], shares));
                    }
                }
            }
        }
    }
}
