//! What a decision means for groups of customers.

use serde::{Deserialize, Serialize};

use super::action::PolicyAction;
use super::curve::ExpectedProfit;
use super::difference::gain_between;
use super::payoff::{Payoff, Payoffs};
use pronoia_data::drivers::Grouping;
use pronoia_data::stats::{Count, Z95};

/// A decision on one group.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct GroupDecision {
    /// The group.
    pub label: String,
    /// Its customers.
    pub all: Count,
    /// Those of them acted on, as events: how many of the group are.
    pub acted: Count,
    /// Those acted on, and how many of them have the event: precision.
    pub right: Count,
    /// Those with the event, and how many of them are acted on: recall.
    pub found: Count,
    /// Mean probability.
    pub said: f64,
    /// What the decision gains on the group, over leaving it alone.
    pub gain: ExpectedProfit,
    /// Share acted on here over that among all others, and its 95 % interval (Katz et al. 1978);
    /// none where either is nothing.
    pub ratio: Option<(f64, f64, f64)>,
}

impl GroupDecision {
    /// Looks at every group. `actions`, `probability`, `event` and the codes of the grouping belong
    /// to the same customers, each of whom stands for `weights` of the population.
    pub fn of_all(
        grouping: &Grouping,
        (actions, probability): (&[PolicyAction], &[f64]),
        event: &[bool],
        payoffs: impl Fn(usize) -> Payoffs,
        weights: Payoff,
    ) -> Vec<Self> {
        let acts = |at: usize| actions[at] == PolicyAction::Act;
        let everybody =
            Count { rows: event.len() as u64, events: (0..event.len()).filter(|&at| acts(at)).count() as u64 };
        grouping
            .groups
            .iter()
            .enumerate()
            .map(|(code, group)| {
                let rows: Vec<usize> = (0..event.len()).filter(|&at| usize::from(grouping.codes[at]) == code).collect();
                let (mut all, mut acted, mut right, mut found) =
                    (Count::default(), Count::default(), Count::default(), Count::default());
                let mut said = 0.0;
                for &at in &rows {
                    all.add(event[at]);
                    acted.add(acts(at));
                    said += probability[at];
                    if acts(at) {
                        right.add(event[at]);
                    }
                    if event[at] {
                        found.add(acts(at));
                    }
                }
                let here: Vec<PolicyAction> = rows.iter().map(|&at| actions[at]).collect();
                let happened: Vec<bool> = rows.iter().map(|&at| event[at]).collect();
                let left_alone = vec![PolicyAction::Leave; here.len()];
                let gain = gain_between([&here, &left_alone], |at| payoffs(rows[at]), &happened, weights);
                let others = Count { rows: everybody.rows - acted.rows, events: everybody.events - acted.events };
                let label = group.label.clone();
                let said = said / rows.len().max(1) as f64;
                Self { label, all, acted, right, found, said, gain, ratio: ratio(acted, others) }
            })
            .collect()
    }

    /// Whether the group is clearly acted on more or less often than the others.
    pub fn differs(&self) -> bool {
        self.ratio.is_some_and(|(_, low, high)| low > 1.0 || high < 1.0)
    }

    /// Whether what is said of the group on average lies outside what happened to it.
    pub fn is_misjudged(&self) -> bool {
        let (low, high) = self.all.interval();
        self.said < low || self.said > high
    }
}

fn ratio(here: Count, others: Count) -> Option<(f64, f64, f64)> {
    if here.events == 0 || others.events == 0 {
        return None;
    }
    let ratio = here.rate() / others.rate();
    let part = |count: Count| (1.0 - count.rate()) / count.events as f64;
    let reach = Z95 * (part(here) + part(others)).sqrt();
    Some((ratio, ratio * (-reach).exp(), ratio * reach.exp()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::Kind;
    use pronoia_data::table::ColumnBuilder;

    #[test]
    fn every_customer_is_counted_in_the_group_they_belong_to() {
        let mut band = ColumnBuilder::new("band", Kind::Category);
        let (mut actions, mut event, mut probability) = (vec![], vec![], vec![]);
        for i in 0..400 {
            let old = i % 4 == 0;
            band.push_word(if old { "old" } else { "young" });
            actions.push(if i % 8 == 0 || i % 10 == 1 { PolicyAction::Act } else { PolicyAction::Leave });
            event.push(i % 5 == 0);
            probability.push(if old { 0.9 } else { 0.2 });
        }
        let column = band.finish();
        let rows: Vec<usize> = (0..400).collect();
        let grouping = Grouping::of(&column, &rows, &event, 10);
        let payoffs = Payoffs { act: Payoff { event: 10.0, other: -2.0 }, ..Payoffs::default() };
        let weights = Payoff { event: 2.0, other: 2.0 };
        let found = GroupDecision::of_all(&grouping, (&actions, &probability), &event, |_| payoffs, weights);
        let of = |label: &str| found.iter().find(|g| g.label == label).expect("a group");
        let (old, young) = (of("old"), of("young"));
        assert_eq!((old.all.rows, young.all.rows), (100, 300));
        // Every eighth customer is old, and of those every fifth has the event.
        assert_eq!((old.acted.events, old.right.rows, old.right.events), (50, 50, 10));
        assert_eq!((old.found.rows, old.found.events), (20, 10));
        assert!((old.gain.profit - 2.0 * (10.0 * 10.0 - 40.0 * 2.0)).abs() < 1e-9);
        let (ratio, low, high) = old.ratio.expect("a ratio");
        let other = young.acted.events as f64 / 300.0;
        assert!((ratio - 0.5 / other).abs() < 1e-12 && low < ratio && ratio < high && old.differs());
        let (back, ..) = young.ratio.expect("a ratio");
        assert!((back * ratio - 1.0).abs() < 1e-12, "two groups are each other's others");
        assert!(old.is_misjudged() && !young.is_misjudged(), "{old:?} {young:?}");
        let everywhere: f64 = found.iter().map(|g| g.gain.profit).sum();
        let by_hand: f64 =
            (0..400).filter(|&i| actions[i] == PolicyAction::Act).map(|i| if event[i] { 20.0 } else { -4.0 }).sum();
        assert!((everywhere - by_hand).abs() < 1e-9);
    }
}
