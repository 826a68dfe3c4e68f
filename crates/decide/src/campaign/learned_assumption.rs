//! What a campaign teaches about the assumptions that it was made with.

use serde::{Deserialize, Serialize};

use super::results::Effect;
use crate::decide::{Assumption, Economics};

/// An assumption beside what was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Learned {
    /// The word for it.
    pub word: String,
    /// Its name.
    pub name: String,
    /// What was assumed.
    pub assumed: f64,
    /// What was found.
    pub found: f64,
    /// The 95 % interval of that.
    pub interval: (f64, f64),
}

impl Learned {
    /// What the event rates of both groups say about the chance that acting works: for an offer the
    /// share of leavers whom it keeps, for a contact the share of those who respond who would have
    /// bought without it. None for other questions, or where a group has no events.
    pub fn of(economics: &Economics<f64>, effect: &Effect) -> Option<Self> {
        let (ratio, low, high) = effect.ratio?;
        let (word, found, interval) = match economics {
            Economics::Churn(_) => ("save_rate", 1.0 - ratio, (1.0 - high, 1.0 - low)),
            Economics::Response(_) => ("anyway", 1.0 / ratio, (1.0 / high, 1.0 / low)),
            Economics::Credit(_) | Economics::Plain(_) => return None,
        };
        let (assumption, &assumed): (Assumption, &f64) =
            economics.amounts().into_iter().find(|(assumption, _)| assumption.word == word)?;
        Some(Self { word: word.into(), name: assumption.name.into(), assumed, found, interval })
    }

    /// Whether what was assumed may well be true.
    pub fn agrees(&self) -> bool {
        (self.interval.0..=self.interval.1).contains(&self.assumed)
    }
}

impl Economics<f64> {
    /// How many of customers with this probability have the event, left alone and acted on; none
    /// where acting is not assumed to change that.
    pub fn rates(&self, probability: f64) -> Option<[f64; 2]> {
        match self {
            Self::Churn(a) => Some([probability, probability * (1.0 - a.save_rate)]),
            Self::Response(a) => Some([probability * a.anyway, probability * (a.reach + (1.0 - a.reach) * a.anyway)]),
            Self::Credit(_) | Self::Plain(_) => None,
        }
    }

    /// What a customer brought, with these amounts, by whether they were acted on and what happened;
    /// none for lending, where those who are declined bring nothing that could be compared.
    pub fn brought(&self, acted: bool, event: bool) -> Option<f64> {
        let payoffs = self.payoffs();
        match self {
            Self::Churn(a) => {
                let kept = if event { 0.0 } else { a.value() };
                let offer = if event { 0.0 } else { a.stayers_take * a.offer_cost };
                Some(kept - if acted { offer + a.contact_cost } else { 0.0 })
            }
            Self::Response(a) => {
                let bought = if event { a.margin } else { 0.0 };
                let given = if event { a.incentive } else { 0.0 };
                Some(bought - if acted { given + a.contact_cost } else { 0.0 })
            }
            Self::Plain(_) => Some(if acted { payoffs.act } else { payoffs.leave }.happened(event)),
            Self::Credit(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::question::Question;
    use pronoia_data::stats::Count;

    #[test]
    fn the_save_rate_is_the_share_of_leavers_who_stayed() {
        let economics = Economics::usual(Question::Churn);
        let effect = Effect::of(Count { rows: 2_000, events: 492 }, Count { rows: 2_000, events: 600 });
        let learned = Learned::of(&economics, &effect).expect("a save rate");
        assert_eq!(learned.word, "save_rate");
        assert!((learned.found - 0.18).abs() < 1e-12 && learned.assumed == 0.25, "{learned:?}");
        assert!(learned.interval.0 < 0.18 && 0.18 < learned.interval.1 && learned.agrees(), "{learned:?}");
        let effect = Effect::of(Count { rows: 20_000, events: 5_700 }, Count { rows: 20_000, events: 6_000 });
        assert!(!Learned::of(&economics, &effect).expect("a save rate").agrees());
        assert!(Learned::of(&Economics::usual(Question::Credit), &effect).is_none());
    }

    #[test]
    fn those_who_buy_anyway_are_seen_in_the_control_group() {
        let economics = Economics::usual(Question::Response);
        let effect = Effect::of(Count { rows: 10_000, events: 800 }, Count { rows: 10_000, events: 200 });
        let learned = Learned::of(&economics, &effect).expect("a share");
        assert!((learned.found - 0.25).abs() < 1e-12 && !learned.agrees(), "{learned:?}");
        assert!(learned.interval.0 < 0.25 && 0.25 < learned.interval.1);
        let [without, with] = economics.rates(0.2).expect("rates");
        assert!((without - 0.02).abs() < 1e-12 && (with - 0.2).abs() < 1e-12);
    }
}
