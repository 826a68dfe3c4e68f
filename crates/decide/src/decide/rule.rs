//! The rule by which customers are acted on: who comes first, and down to where.

use pronoia_data::number;
use serde::{Deserialize, Serialize};

use super::payoff::Payoffs;

/// On whom to act.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rule {
    /// Who comes first.
    pub by: Order,
    /// Down to where.
    pub line: CutOff,
    /// What else holds, wherever the line is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<CutOff>,
    /// Somebody looks at those below the line with at least this probability.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refer_from: Option<f64>,
}

/// Which customers come first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// Those most likely to have the event.
    #[default]
    Probability,
    /// Those on whom acting is expected to gain most.
    Gain,
    /// Those on whom a unit of a budget is expected to gain most.
    GainPerCost,
}

/// Down to where customers are acted on. Customers who come equally early are never parted; no
/// more are acted on than a limit allows.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CutOff {
    /// All who have at least this: a probability, or a gain, by the order.
    Least(f64),
    /// So many customers.
    Customers(f64),
    /// A share of all customers.
    Share(f64),
    /// As many as so much money allows.
    Budget(f64),
    /// As many as leave at least this share with the event among them.
    Precision(f64),
}

impl Rule {
    /// Act on everybody with at least this probability.
    pub fn cut_off(probability: f64) -> Self {
        Self { by: Order::Probability, line: CutOff::Least(probability), limits: vec![], refer_from: None }
    }

    /// Act on everybody on whom acting is expected to gain.
    pub fn value_aware() -> Self {
        // The least number above nothing: what gains nothing is left alone.
        Self { by: Order::Gain, line: CutOff::Least(f64::MIN_POSITIVE), limits: vec![], refer_from: None }
    }

    /// The keys at which it changes what is done.
    pub(super) fn keys(&self) -> Vec<f64> {
        let gains = (self.by != Order::Probability).then_some(f64::MIN_POSITIVE);
        self.bounds().filter_map(CutOff::least).chain(self.refer_from).chain(gains).collect()
    }

    /// The line and all limits.
    pub(super) fn bounds(&self) -> impl Iterator<Item = &CutOff> {
        std::iter::once(&self.line).chain(&self.limits)
    }
}

/// Customers from the first down to one, for a population.
#[derive(Debug, Clone, Copy)]
pub struct SoFar {
    /// The key of the last.
    pub key: f64,
    /// How many.
    pub acted: f64,
    /// Their share of all.
    pub share: f64,
    /// What acting on them takes out of a budget.
    pub spent: f64,
    /// How many of them have the event.
    pub events: f64,
}

impl CutOff {
    /// Whether acting on so many keeps to it.
    pub fn allows(&self, so_far: &SoFar) -> bool {
        // A limit is not missed by the rounding of a sum.
        let within = |used: f64, limit: f64| used <= limit * (1.0 + 1e-9);
        match *self {
            Self::Least(least) => so_far.key >= least,
            Self::Customers(customers) => within(so_far.acted, customers),
            Self::Share(share) => within(so_far.share, share),
            Self::Budget(budget) => within(so_far.spent, budget),
            Self::Precision(least) => within(least * so_far.acted, so_far.events),
        }
    }

    /// The least key that it asks for, if that is all it asks.
    pub(super) fn least(&self) -> Option<f64> {
        if let Self::Least(least) = self { Some(*least) } else { None }
    }

    /// Whether more customers may keep to it although fewer did not.
    pub fn may_recover(&self) -> bool {
        matches!(self, Self::Precision(_))
    }
}

impl Rule {
    /// Whom it acts on, as a few words: “P ≥ 0.231”.
    pub fn in_short(&self) -> String {
        match (self.line, self.by) {
            (CutOff::Least(p), Order::Probability) if p > 1.0 => "nobody".into(),
            (CutOff::Least(p), Order::Probability) => format!("P ≥ {}", number::fixed(p, 3)),
            (CutOff::Least(least), _) if least <= f64::MIN_POSITIVE => "incremental profit above 0".into(),
            (CutOff::Least(least), Order::Gain) => format!("incremental profit ≥ {}", number::fixed(least, 2)),
            (CutOff::Least(least), Order::GainPerCost) => {
                format!("incremental profit per cost ≥ {}", number::fixed(least, 2))
            }
            (CutOff::Customers(n), _) => format!("first {}", number::fixed(n, 0)),
            (CutOff::Share(share), _) => format!("first {}", number::percent(share)),
            (CutOff::Budget(money), _) => format!("for up to {}", number::money(money)),
            (CutOff::Precision(least), _) => format!("{} right", number::percent(least)),
        }
    }

    /// Whom it acts on, in words that follow “acting”.
    pub fn in_words(&self) -> String {
        let order = match self.by {
            Order::Probability => "highest probability first",
            Order::Gain => "highest incremental profit first",
            Order::GainPerCost => "highest incremental profit per cost first",
        };
        let line = match self.line {
            CutOff::Least(_) => format!("where {}", self.in_short()),
            CutOff::Customers(n) => format!("on {} customers, {order}", number::fixed(n, 0)),
            CutOff::Share(share) => format!("on {} of all, {order}", number::percent(share)),
            CutOff::Budget(money) => format!("for up to {}, {order}", number::money(money)),
            CutOff::Precision(least) => format!("while {} of them have the event, {order}", number::percent(least)),
        };
        let limits = self.limits.iter().map(|limit| match *limit {
            CutOff::Least(least) => format!("from {} on", number::plain(least)),
            CutOff::Customers(n) => format!("on {} customers at most", number::fixed(n, 0)),
            CutOff::Share(share) => format!("on {} of them at most", number::percent(share)),
            CutOff::Budget(money) => format!("for {} at most", number::money(money)),
            CutOff::Precision(least) => format!("while {} of them have the event", number::percent(least)),
        });
        let refer = self.refer_from.map(|from| format!("manual review from P ≥ {}", number::fixed(from, 3)));
        std::iter::once(line).chain(limits).chain(refer).collect::<Vec<_>>().join(", ")
    }
}

/// Less than anything costs.
const FREE: f64 = 1e-9;

impl Order {
    /// By what a customer comes before others.
    pub fn key(self, probability: f64, payoffs: &Payoffs) -> f64 {
        match self {
            Self::Probability => probability,
            Self::Gain => payoffs.gain().expected(probability),
            Self::GainPerCost => {
                let gain = payoffs.gain().expected(probability);
                let spent = payoffs.spent.expected(probability);
                // What costs nothing comes before everything that does.
                if gain > 0.0 { gain / spent.max(FREE) } else { gain }
            }
        }
    }

    /// Whether anybody with this key is ever acted on.
    pub(super) fn gains(self, key: f64) -> bool {
        self == Self::Probability || key > 0.0
    }
}
