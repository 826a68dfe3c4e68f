//! What acting on the first so many customers is worth, and how sure that is.

use std::borrow::Cow;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::payoff::Payoff;
use super::population::Population;
use super::ranking::Ranking;
use super::resample::{RESAMPLES, Resample};
use super::rule::{CutOff, SoFar};
use super::sums::{CustomerPayoffs, OutcomeSums};
use pronoia_data::stats::quantile;

/// A decision whose gain is at least this share of the best is nearly as good.
const NEARLY: f64 = 0.97;

/// Profit over the share of customers acted on.
#[derive(Debug, Clone)]
pub struct ProfitCurve {
    /// From acting on none to acting on all.
    pub points: Vec<ProfitPoint>,
    /// Where it is highest.
    pub best: Best,
    /// By how much the best point is flattered by being sought on the rows that it is read on:
    /// the mean over resamples of what the best point of each promises there less what it is worth
    /// on all rows (Efron & Tibshirani 1993, section 17.6).
    pub optimism: f64,
    /// Knowing beforehand what will happen.
    pub perfect: f64,
    resamples: Vec<Resample>,
}

/// A point of the profit curve, for the population.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct ProfitPoint {
    /// Share of customers acted on.
    pub share: f64,
    /// The least key acted on.
    pub cut_off: f64,
    /// Customers acted on.
    pub acted: f64,
    /// Events among them.
    pub events: f64,
    /// Expected profit.
    pub profit: f64,
    /// Lower end of the 90 % band.
    pub low: f64,
    /// Upper end.
    pub high: f64,
    /// What acting on them takes out of a budget.
    pub spent: f64,
    /// What referring all of them would bring, compared with leaving them alone.
    pub referring: f64,
}

/// An expected profit and its 90 % interval.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct ExpectedProfit {
    /// The profit.
    pub profit: f64,
    /// Lower end.
    pub low: f64,
    /// Upper end.
    pub high: f64,
}

/// Where the curve is highest, and where it is nearly so.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Best {
    /// Position of the best point.
    pub at: usize,
    /// First position that is nearly as good.
    pub from: usize,
    /// Last position that is nearly as good.
    pub to: usize,
}

impl ProfitCurve {
    /// The curve for a population like the customers judged; `seed` governs the resamples.
    pub fn of(ranking: &Ranking, worths: &CustomerPayoffs, population: &Population, seed: u64) -> Self {
        let sums = OutcomeSums::of(ranking, worths);
        Self::from_sums(ranking, &sums, |_| Cow::Borrowed(&sums[..]), population, seed)
    }

    /// As [`Curve::of`], from what groups of customers come to; a resample may be drawn from other
    /// sums of the same customers, for assumptions that are themselves uncertain.
    pub(super) fn from_sums<'s>(
        ranking: &Ranking,
        sums: &'s [OutcomeSums],
        in_resample: impl Fn(u64) -> Cow<'s, [OutcomeSums]> + Sync,
        population: &Population,
        seed: u64,
    ) -> Self {
        let weights = population.weights(ranking.rows as f64, ranking.events as f64);
        let all = |of: fn(&OutcomeSums) -> Payoff| sums.iter().map(|sum| of(sum).weighed(weights)).sum::<f64>();
        let leave = all(|sum| sum.leave);
        let mut points = points(ranking, sums, weights, leave);
        let shares: Vec<f64> = points.iter().map(|p| p.share).collect();
        let resamples: Vec<Resample> = (0..RESAMPLES)
            .into_par_iter()
            .map(|r| Resample::draw(&in_resample(r), weights, &shares, (seed, r)))
            .collect();
        let bands: Vec<(f64, f64)> =
            (0..points.len()).into_par_iter().map(|at| interval(&resamples, |r| r.leave + r.gain[at])).collect();
        points.iter_mut().zip(bands).for_each(|(point, (low, high))| (point.low, point.high) = (low, high));
        let flattery = resamples.iter().map(|r| {
            let at = highest(&r.gain);
            r.leave + r.gain[at] - points[at].profit
        });
        Self {
            best: Best::of(&points),
            optimism: (flattery.sum::<f64>() / resamples.len() as f64).max(0.0),
            perfect: leave + all(|sum| sum.known),
            points,
            resamples,
        }
    }

    /// What its best point brings more than doing nothing about anybody, where no band is asked for.
    pub fn best_gain(ranking: &Ranking, worths: &CustomerPayoffs, population: &Population) -> f64 {
        let weights = population.weights(ranking.rows as f64, ranking.events as f64);
        let points = points(ranking, &OutcomeSums::of(ranking, worths), weights, 0.0);
        points[Best::of(&points).at].profit
    }

    /// Doing nothing about anybody.
    pub fn none(&self) -> ExpectedProfit {
        self.at(0)
    }

    /// Acting on everybody.
    pub fn all(&self) -> ExpectedProfit {
        self.at(self.points.len() - 1)
    }

    /// All events of the population.
    pub fn all_events(&self) -> f64 {
        self.points[self.points.len() - 1].events
    }

    /// Acting on as many as at a point, drawn by lot.
    pub fn by_lot(&self, at: usize) -> f64 {
        let (none, all) = (self.none().profit, self.all().profit);
        none + self.points[at].share * (all - none)
    }

    /// Acting down to a point.
    pub fn at(&self, at: usize) -> ExpectedProfit {
        let ProfitPoint { profit, low, high, .. } = self.points[at];
        ExpectedProfit { profit, low, high }
    }

    /// Acting down to one point and referring from there down to another, which is not before it.
    pub fn referring(&self, act: usize, refer: usize) -> ExpectedProfit {
        let (a, r) = (self.points[act], self.points[refer.max(act)]);
        let (low, high) = interval(&self.resamples, |sample| {
            sample.leave + sample.gain[act] + sample.refer[refer.max(act)] - sample.refer[act]
        });
        ExpectedProfit { profit: a.profit + r.referring - a.referring, low, high }
    }

    /// What acting down to one point and referring down to another brings more than doing so with
    /// two other points, on the same resamples; a point twice refers nobody.
    pub fn referring_over(&self, first: (usize, usize), second: (usize, usize)) -> ExpectedProfit {
        let in_sample = |sample: &Resample, (act, refer): (usize, usize)| {
            sample.gain[act] + sample.refer[refer] - sample.refer[act]
        };
        let (low, high) = interval(&self.resamples, |sample| in_sample(sample, first) - in_sample(sample, second));
        let profit = |(act, refer): (usize, usize)| {
            self.points[act].profit + self.points[refer].referring - self.points[act].referring
        };
        ExpectedProfit { profit: profit(first) - profit(second), low, high }
    }

    /// The two points that are best for acting, down to no further than a limit, and referring.
    pub fn best_referring(&self, limit: usize) -> (usize, usize) {
        let alone = |at: usize| self.points[at].profit - self.points[at].referring;
        let both = |(act, refer): (usize, usize)| alone(act) + self.points[refer].referring;
        let (mut act, mut best) = (0, (0, 0));
        for refer in 0..self.points.len() {
            if refer <= limit && alone(refer) > alone(act) {
                act = refer;
            }
            if both((act, refer)) > both(best) {
                best = (act, refer);
            }
        }
        best
    }

    /// The last point that keeps to some limits; acting on nobody if none does.
    pub fn last_within(&self, limits: &[CutOff]) -> usize {
        let so_far = |p: &ProfitPoint| SoFar {
            key: p.cut_off,
            acted: p.acted,
            share: p.share,
            spent: p.spent,
            events: p.events,
        };
        let allowed = |p: &ProfitPoint| limits.iter().all(|limit| limit.allows(&so_far(p)));
        self.points.iter().skip(1).rposition(allowed).map_or(0, |at| at + 1)
    }
}

fn points(ranking: &Ranking, sums: &[OutcomeSums], weights: Payoff, leave: f64) -> Vec<ProfitPoint> {
    let size: f64 = sums.iter().map(|sum| sum.customers.weighed(weights)).sum();
    let mut point = ProfitPoint {
        share: 0.0,
        cut_off: ranking.stands[0].cut_off,
        acted: 0.0,
        events: 0.0,
        profit: leave,
        low: leave,
        high: leave,
        spent: 0.0,
        referring: 0.0,
    };
    let mut points = vec![point];
    for (sum, stand) in sums.iter().zip(&ranking.stands[1..]) {
        point.acted += sum.customers.weighed(weights);
        point.events += sum.customers.event * weights.event;
        point.profit += sum.gain.weighed(weights);
        point.spent += sum.spent.weighed(weights);
        point.referring += sum.refer.weighed(weights);
        point.share = (point.acted / size).min(1.0);
        point.cut_off = stand.cut_off;
        points.push(point);
    }
    points
}

/// The 5th and 95th of what resamples come to.
fn interval(resamples: &[Resample], of: impl Fn(&Resample) -> f64) -> (f64, f64) {
    let mut all: Vec<f64> = resamples.iter().map(of).collect();
    all.sort_unstable_by(f64::total_cmp);
    (quantile(&all, 0.05), quantile(&all, 0.95))
}

/// Where values are highest; the first place where several are.
fn highest(values: &[f64]) -> usize {
    (0..values.len()).reduce(|best, at| if values[at] > values[best] { at } else { best }).unwrap_or(0)
}

impl ExpectedProfit {
    /// Without an interval.
    pub fn certain(profit: f64) -> Self {
        Self { profit, low: profit, high: profit }
    }
}

impl Best {
    /// The best point of a curve and the range that is nearly as good.
    ///
    /// Where nothing pays, the best is to act on none.
    pub fn of(points: &[ProfitPoint]) -> Self {
        let none = points.first().map_or(0.0, |p| p.profit);
        let gains: Vec<f64> = points.iter().map(|p| p.profit - none).collect();
        let at = highest(&gains);
        let floor = gains.get(at).map_or(0.0, |gain| gain * NEARLY);
        // From the first to the last: a dip between them is the noise of single customers.
        let good = |i: &usize| gains[*i] >= floor;
        let from = (0..at).find(good).unwrap_or(at);
        let to = (at..gains.len()).rfind(good).unwrap_or(at);
        Self { at, from, to }
    }
}
