//! Whether a model keeps what it promised, once it is known what happened.

use serde::{Deserialize, Serialize};

use pronoia_data::evaluate::delong::{self, Area};
use pronoia_data::evaluate::{brier, log_loss};

/// Standard errors from which on a difference is no longer put down to chance: once in a hundred times.
const BY_CHANCE: f64 = 2.576;

/// What a model said of customers, and what happened to them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Performance {
    /// Customers of whom it is known.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// Events that the probabilities add up to.
    pub expected: f64,
    /// Standard deviation of the number of events, were the probabilities right.
    pub spread: f64,
    /// Area under the ROC curve and its standard error; none where all had one outcome.
    pub area: Option<(f64, f64)>,
    /// The same as it was judged before it was put to use.
    pub promised: Option<(f64, f64)>,
    /// Mean log loss.
    pub log_loss: f64,
    /// Mean squared difference between probability and outcome.
    pub brier: f64,
}

impl Performance {
    /// Compares probabilities with what happened, row by row; `promised` is the area that was told of
    /// the model.
    pub fn of(probability: &[f64], event: &[bool], promised: Option<Area>) -> Self {
        let pair = |area: Area| (area.value, area.se);
        Self {
            rows: event.len() as u64,
            events: event.iter().filter(|&&event| event).count() as u64,
            expected: probability.iter().sum(),
            spread: probability.iter().map(|p| p * (1.0 - p)).sum::<f64>().sqrt(),
            area: delong::area(probability, event).map(pair),
            promised: promised.map(pair),
            log_loss: log_loss(probability, event, None),
            brier: brier(probability, event, None),
        }
    }

    /// Whether so many events differ from those expected by more than chance.
    pub fn is_off(&self) -> bool {
        (self.events as f64 - self.expected).abs() > BY_CHANCE * self.spread
    }

    /// Whether it tells customers apart worse than promised, by more than chance.
    pub fn is_duller(&self) -> bool {
        match (self.area, self.promised) {
            (Some((found, error)), Some((promised, of_promise))) => {
                promised - found > BY_CHANCE * error.hypot(of_promise)
            }
            _ => false,
        }
    }

    /// Events for every one expected, with its 95 % interval.
    pub fn ratio(&self) -> Option<(f64, f64, f64)> {
        if self.expected <= 0.0 {
            return None;
        }
        let (ratio, half) = (self.events as f64 / self.expected, 1.96 * self.spread / self.expected);
        Some((ratio, (ratio - half).max(0.0), ratio + half))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    /// Customers whose true probability is that told times `off`, some of them told by lot.
    fn customers(rows: usize, off: f64, blind: f64, seed: u64) -> (Vec<f64>, Vec<bool>) {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let told: Vec<f64> = (0..rows).map(|_| 0.02 + 0.5 * rng.random::<f64>().powi(2)).collect();
        let event = told.iter().map(|p| rng.random::<f64>() < p * off).collect();
        let mean = told.iter().sum::<f64>() / rows as f64;
        let told = told.into_iter().map(|p| if rng.random::<f64>() < blind { mean } else { p }).collect();
        (told, event)
    }

    #[test]
    fn a_model_that_keeps_its_promise_is_seldom_blamed_and_others_are_found_out() {
        let (told, event) = customers(20_000, 1.0, 0.0, 1);
        let promised = delong::area(&told, &event);
        let mut blamed = 0;
        for seed in 2..302 {
            let (told, event) = customers(2_000, 1.0, 0.0, seed);
            let kept = Performance::of(&told, &event, promised);
            blamed += u32::from(kept.is_off()) + u32::from(kept.is_duller());
            let (ratio, low, high) = kept.ratio().expect("events are expected");
            assert!(low < ratio && ratio < high);
        }
        // Two questions of 300, each wrong once in a hundred or, of one side, in two hundred times.
        assert!(blamed <= 12, "{blamed}");
        let (told, event) = customers(2_000, 1.4, 0.0, 1);
        assert!(Performance::of(&told, &event, promised).is_off());
        let (told, event) = customers(2_000, 1.0, 0.6, 1);
        let duller = Performance::of(&told, &event, promised);
        assert!(duller.is_duller() && !duller.is_off(), "{duller:?}");
        let nobody = Performance::of(&[0.5], &[false], promised);
        assert!(nobody.area.is_none() && !nobody.is_duller());
    }
}
