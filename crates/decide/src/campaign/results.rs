//! What a campaign changed: those acted on against those held back, as they were assigned.

use serde::{Deserialize, Serialize};

use pronoia_data::stats::{Count, Z95};

/// Pseudo-observations that widen the interval of a difference of two shares enough for small
/// groups (Agresti & Caffo 2000).
const ADDED: f64 = 1.0;

/// A customer of a campaign, once it is known what happened.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Happened {
    /// The arm: nothing for the control group.
    pub arm: Option<usize>,
    /// What was said beforehand.
    pub probability: f64,
    /// The band of probabilities, 0 being the most likely.
    pub band: usize,
    /// Whether the event happened.
    pub event: bool,
    /// What the customer brought, all costs taken off, where that is known.
    pub money: Option<f64>,
}

/// What acting changed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Effect {
    /// Those acted on, and how many of them had the event.
    pub acted: Count,
    /// Those held back.
    pub control: Count,
    /// Share with the event among those acted on less that among those held back.
    pub difference: f64,
    /// Its 95 % interval.
    pub interval: (f64, f64),
    /// Share among those acted on over that among those held back, and its 95 % interval
    /// (Katz et al. 1978); none where either is nothing.
    pub ratio: Option<(f64, f64, f64)>,
}

/// What acting changed within a band of probabilities.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct EffectStratum {
    /// Least and greatest probability.
    pub from: f64,
    /// Greatest.
    pub to: f64,
    /// Mean of what was said beforehand of those held back.
    pub said: f64,
    /// The same of those acted on.
    pub said_acted: f64,
    /// What acting changed.
    pub effect: Effect,
}

/// What came of a campaign.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Results {
    /// All acts together against the control group.
    pub all: Effect,
    /// Every act against the control group.
    pub acts: Vec<Effect>,
    /// By bands of probabilities, the most likely first.
    pub bands: Vec<EffectStratum>,
    /// What acting brought in money over leaving alone, for all acted on, with its 95 % interval;
    /// none where no money is known.
    pub money: Option<(f64, f64, f64)>,
}

impl Effect {
    /// Compares two groups that were drawn by lot.
    pub fn of(acted: Count, control: Count) -> Self {
        let adjusted = |count: Count| {
            let n = count.rows as f64 + 2.0 * ADDED;
            let rate = (count.events as f64 + ADDED) / n;
            (rate, rate * (1.0 - rate) / n)
        };
        let ((with, var_with), (without, var_without)) = (adjusted(acted), adjusted(control));
        let reach = Z95 * (var_with + var_without).sqrt();
        let middle = with - without;
        let ratio = (acted.events > 0 && control.events > 0).then(|| {
            let ratio = acted.rate() / control.rate();
            let part = |count: Count| (1.0 - count.rate()) / count.events as f64;
            let reach = Z95 * (part(acted) + part(control)).sqrt();
            (ratio, ratio * (-reach).exp(), ratio * reach.exp())
        });
        Self {
            acted,
            control,
            difference: acted.rate() - control.rate(),
            interval: ((middle - reach).max(-1.0), (middle + reach).min(1.0)),
            ratio,
        }
    }

    /// Whether acting clearly changed anything.
    pub fn is_clear(&self) -> bool {
        self.interval.0 > 0.0 || self.interval.1 < 0.0
    }
}

impl Results {
    /// Compares customers as they were assigned, whatever was done about them in the end, so that
    /// nothing but the lot tells the groups apart. `acts` is how many acts there are.
    ///
    /// None without a control group, or without anybody acted on: then nothing can be said.
    pub fn of(customers: &[Happened], acts: usize) -> Option<Self> {
        let count = |chosen: &dyn Fn(&Happened) -> bool| {
            let mut count = Count::default();
            customers.iter().filter(|c| chosen(c)).for_each(|c| count.add(c.event));
            count
        };
        let control = count(&|c| c.arm.is_none());
        let acted = count(&|c| c.arm.is_some());
        if control.rows == 0 || acted.rows == 0 {
            return None;
        }
        let bands = customers.iter().map(|c| c.band + 1).max().unwrap_or(0);
        let band = |at: usize| {
            let here = || customers.iter().filter(move |c| c.band == at);
            let [acted, control] = [true, false].map(|acted| count(&|c| c.band == at && c.arm.is_some() == acted));
            let mean = |of: bool| {
                let said = || here().filter(|c| c.arm.is_some() == of).map(|c| c.probability);
                said().sum::<f64>() / said().count().max(1) as f64
            };
            let ends = here().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), c| {
                (low.min(c.probability), high.max(c.probability))
            });
            (acted.rows > 0 && control.rows > 0).then(|| EffectStratum {
                from: ends.0,
                to: ends.1,
                said: mean(false),
                said_acted: mean(true),
                effect: Effect::of(acted, control),
            })
        };
        Some(Self {
            all: Effect::of(acted, control),
            acts: (0..acts).map(|act| Effect::of(count(&|c| c.arm == Some(act)), control)).collect(),
            bands: (0..bands).filter_map(band).collect(),
            money: money(customers),
        })
    }
}

/// What those acted on brought more than those held back, a customer on average, times how many
/// they are; by Welch's unequal variances.
fn money(customers: &[Happened]) -> Option<(f64, f64, f64)> {
    let side = |acted: bool| -> Option<(f64, f64, f64)> {
        let all: Vec<f64> =
            customers.iter().filter(|c| c.arm.is_some() == acted).map(|c| c.money).collect::<Option<_>>()?;
        let n = all.len() as f64;
        if n < 2.0 {
            return None;
        }
        let mean = all.iter().sum::<f64>() / n;
        let variance = all.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / (n - 1.0);
        Some((n, mean, variance / n))
    };
    let ((n, with, var_with), (_, without, var_without)) = (side(true)?, side(false)?);
    let reach = Z95 * (var_with + var_without).sqrt();
    let each = with - without;
    Some((n * each, n * (each - reach), n * (each + reach)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    /// Customers of whom acting keeps a share of those who would leave, each of them worth 100.
    fn campaign(seed: u64, saved: f64) -> (Vec<Happened>, f64) {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let mut truth = 0.0;
        let customers = (0..900).map(|i| {
            let probability = 0.1 + 0.5 * rng.random::<f64>();
            let arm = (i % 3 > 0).then_some(0);
            let would = rng.random::<f64>() < probability;
            let kept = arm.is_some() && would && rng.random::<f64>() < saved;
            truth += if arm.is_some() { -probability * saved } else { 0.0 };
            let event = would && !kept;
            let money = if event { 0.0 } else { 100.0 } - if arm.is_some() { 4.0 } else { 0.0 };
            let band = usize::from(probability < 0.35);
            Happened { arm, probability, band, event, money: Some(money) }
        });
        (customers.collect(), truth)
    }

    #[test]
    fn the_interval_covers_the_true_effect_about_as_often_as_it_says() {
        let (mut covered, mut by_money) = (0, 0);
        for seed in 0..300 {
            let (customers, truth) = campaign(seed, 0.3);
            let found = Results::of(&customers, 1).expect("both groups");
            let true_difference = truth / found.all.acted.rows as f64;
            covered += u32::from(found.all.interval.0 <= true_difference && true_difference <= found.all.interval.1);
            let money = found.money.expect("known");
            let true_money = -truth * 100.0 - 4.0 * found.all.acted.rows as f64;
            by_money += u32::from(money.1 <= true_money && true_money <= money.2);
        }
        println!("difference covered {covered}, money covered {by_money} of 300");
        for covered in [covered, by_money] {
            assert!((f64::from(covered) / 300.0 - 0.95).abs() <= 0.03, "{covered} of 300");
        }
    }

    #[test]
    fn money_is_what_adding_up_the_ledger_gives() {
        let (customers, _) = campaign(7, 0.3);
        let found = Results::of(&customers, 1).expect("both groups").money.expect("known");
        let sum = |acted: bool| {
            let side: Vec<f64> =
                customers.iter().filter(|c| c.arm.is_some() == acted).filter_map(|c| c.money).collect();
            (side.iter().sum::<f64>(), side.len() as f64)
        };
        let ((with, n), (without, m)) = (sum(true), sum(false));
        assert!((found.0 - (with - without / m * n)).abs() < 1e-6, "{found:?}");
        let unknown: Vec<Happened> = customers.iter().map(|c| Happened { money: None, ..*c }).collect();
        assert_eq!(Results::of(&unknown, 1).expect("both groups").money, None);
    }

    #[test]
    fn bands_and_acts_add_up_and_without_a_control_group_nothing_is_said() {
        let (mut customers, _) = campaign(3, 0.3);
        customers.iter_mut().enumerate().filter(|(i, _)| i % 3 == 2).for_each(|(_, c)| c.arm = Some(1));
        let found = Results::of(&customers, 2).expect("both groups");
        assert_eq!(found.acts.iter().map(|act| act.acted.rows).sum::<u64>(), found.all.acted.rows);
        assert_eq!(found.bands.iter().map(|band| band.effect.control.events).sum::<u64>(), found.all.control.events);
        assert!(found.bands[0].from >= found.bands[1].to, "highest probability first: {:?}", found.bands);
        let all: Vec<Happened> = customers.iter().filter(|c| c.arm.is_some()).copied().collect();
        assert_eq!(Results::of(&all, 2), None);
    }
}
