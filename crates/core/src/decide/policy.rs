//! The economics plus the rule that turns a probability into an action.

use serde::{Deserialize, Serialize};

use super::economics::{Economics, EconomicsError};
use super::front::{Cut, Front};
use super::offers::{Offered, Offers};
use super::payoff::Payoffs;
use crate::Table;
use crate::number;

/// Economics and rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Policy {
    /// What outcomes are worth; where there are several offers, with the first of them.
    pub economics: Economics,
    /// What can be offered.
    #[serde(default, skip_serializing_if = "Offers::is_single")]
    pub offers: Offers,
    /// On whom to act.
    pub rule: Rule,
}

/// On whom to act.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rule {
    /// Who comes first.
    pub by: Order,
    /// Down to where.
    pub line: Line,
    /// What else holds, wherever the line is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Line>,
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
pub enum Line {
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

/// What is done about a customer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// Act.
    Act,
    /// Have somebody look.
    Refer,
    /// Leave alone.
    Leave,
}

impl Policy {
    /// Whether there is one offer, with every amount the same for everybody.
    pub fn is_same_for_all(&self) -> bool {
        self.offers.is_single() && self.economics.is_same_for_all()
    }

    /// The columns that amounts are worked out from, each once.
    pub fn inputs(&self) -> Vec<String> {
        let mut inputs: Vec<String> = Vec::new();
        for name in self.offers.each(&self.economics).iter().flat_map(Economics::inputs) {
            if !inputs.contains(&name) {
                inputs.push(name);
            }
        }
        inputs
    }

    /// Works out every amount for rows of a table, and writes down in the choice what formulas come
    /// to on average; also for how many rows one of them had no value, who are given the mean of
    /// the others.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first amount that cannot be, for anybody.
    pub fn worked_out(&mut self, table: &Table, rows: &[usize]) -> Result<(Offered, u64), EconomicsError> {
        self.offers.worked_out(&mut self.economics, table, rows)
    }

    /// Works out every amount for the rows of a list; also for how many rows one of them has no
    /// value that it may be, who are given what it came to on average when it was chosen.
    ///
    /// # Errors
    /// [`EconomicsError`] if one cannot be worked out on this table.
    pub fn applied(&self, list: &Table) -> Result<(Offered, u64), EconomicsError> {
        self.offers.applied(&self.economics, list)
    }
}

/// Less than anything costs.
const FREE: f64 = 1e-9;

impl Rule {
    /// Act on everybody with at least this probability.
    pub fn cut_off(probability: f64) -> Self {
        Self { by: Order::Probability, line: Line::Least(probability), limits: vec![], refer_from: None }
    }

    /// Act on everybody on whom acting is expected to gain.
    pub fn value_aware() -> Self {
        // The least number above nothing: what gains nothing is left alone.
        Self { by: Order::Gain, line: Line::Least(f64::MIN_POSITIVE), limits: vec![], refer_from: None }
    }

    /// The keys at which it changes what is done.
    pub(super) fn keys(&self) -> Vec<f64> {
        let gains = (self.by != Order::Probability).then_some(f64::MIN_POSITIVE);
        self.bounds().filter_map(Line::least).chain(self.refer_from).chain(gains).collect()
    }

    /// The line and all limits.
    pub(super) fn bounds(&self) -> impl Iterator<Item = &Line> {
        std::iter::once(&self.line).chain(&self.limits)
    }

    /// What is done about each of some customers, by their probabilities and what each is worth;
    /// together they stand for `size` customers.
    pub fn actions(&self, probability: &[f64], payoffs: impl Fn(usize) -> Payoffs, size: f64) -> Vec<Action> {
        let worth: Vec<Payoffs> = (0..probability.len()).map(payoffs).collect();
        let keys = || worth.iter().zip(probability).map(|(worth, &p)| self.by.key(p, worth));
        let cut = self.fixed_cut().unwrap_or_else(|| {
            let mut front = Front::of(self, probability.len(), size);
            for ((key, worth), &p) in keys().zip(&worth).zip(probability) {
                front.meet(key, worth.spent.expected(p), p);
            }
            front.cut()
        });
        keys().zip(probability).map(|(key, &p)| self.action(cut, key, p)).collect()
    }

    /// What is done about a customer with this key and probability.
    pub fn action(&self, cut: Cut, key: f64, probability: f64) -> Action {
        if cut.acts(key) {
            Action::Act
        } else if self.refer_from.is_some_and(|from| probability >= from) {
            Action::Refer
        } else {
            Action::Leave
        }
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

impl Line {
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
            (Line::Least(p), Order::Probability) if p > 1.0 => "nobody".into(),
            (Line::Least(p), Order::Probability) => format!("P ≥ {}", number::fixed(p, 3)),
            (Line::Least(least), _) if least <= f64::MIN_POSITIVE => "gain above 0".into(),
            (Line::Least(least), Order::Gain) => format!("gain ≥ {}", number::fixed(least, 2)),
            (Line::Least(least), Order::GainPerCost) => format!("gain per cost ≥ {}", number::fixed(least, 2)),
            (Line::Customers(n), _) => format!("first {}", number::fixed(n, 0)),
            (Line::Share(share), _) => format!("first {}", number::percent(share)),
            (Line::Budget(money), _) => format!("for up to {}", number::money(money)),
            (Line::Precision(least), _) => format!("{} right", number::percent(least)),
        }
    }

    /// Whom it acts on, in words that follow “acting”.
    pub fn in_words(&self) -> String {
        let order = match self.by {
            Order::Probability => "the most likely first",
            Order::Gain => "those first who gain most",
            Order::GainPerCost => "those first who gain most for what they cost",
        };
        let line = match self.line {
            Line::Least(_) => format!("where {}", self.in_short()),
            Line::Customers(n) => format!("on {} customers, {order}", number::fixed(n, 0)),
            Line::Share(share) => format!("on {} of all, {order}", number::percent(share)),
            Line::Budget(money) => format!("for up to {}, {order}", number::money(money)),
            Line::Precision(least) => format!("while {} of them have the event, {order}", number::percent(least)),
        };
        let limits = self.limits.iter().map(|limit| match *limit {
            Line::Least(least) => format!("from {} on", number::plain(least)),
            Line::Customers(n) => format!("on {} customers at most", number::fixed(n, 0)),
            Line::Share(share) => format!("on {} of them at most", number::percent(share)),
            Line::Budget(money) => format!("for {} at most", number::money(money)),
            Line::Precision(least) => format!("while {} of them have the event", number::percent(least)),
        });
        let refer = self.refer_from.map(|from| format!("having somebody look from P ≥ {} on", number::fixed(from, 3)));
        std::iter::once(line).chain(limits).chain(refer).collect::<Vec<_>>().join(", ")
    }
}

impl Action {
    /// The word for it in scored lists.
    pub fn word(self) -> &'static str {
        match self {
            Self::Act => "act",
            Self::Refer => "refer",
            Self::Leave => "leave",
        }
    }
}

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

#[cfg(test)]
mod tests {
    use super::super::Payoff;
    use super::*;
    use proptest::prelude::*;

    fn worth(event: f64, other: f64, spent: f64) -> Payoffs {
        Payoffs { act: Payoff { event, other }, spent: Payoff { event: spent, other: spent }, ..Payoffs::default() }
    }

    fn acted(actions: &[Action]) -> Vec<usize> {
        (0..actions.len()).filter(|&at| actions[at] == Action::Act).collect()
    }

    #[test]
    fn a_line_can_be_drawn_in_five_ways() {
        let p = [0.9, 0.5, 0.5, 0.2, 0.1];
        let by = |line| {
            let rule = Rule { by: Order::Probability, line, limits: vec![], refer_from: None };
            acted(&rule.actions(&p, |_| worth(10.0, -2.0, 3.0), 500.0))
        };
        assert_eq!(by(Line::Least(0.5)), [0, 1, 2]);
        assert_eq!(by(Line::Customers(250.0)), [0], "the two with 0.5 are not parted");
        assert_eq!(by(Line::Customers(300.0)), [0, 1, 2]);
        assert_eq!(by(Line::Share(0.8)), [0, 1, 2, 3]);
        assert_eq!(by(Line::Budget(1_199.0)), [0, 1, 2]);
        assert_eq!(by(Line::Budget(1_200.0)), [0, 1, 2, 3]);
        assert_eq!(by(Line::Precision(0.5)), [0, 1, 2, 3], "2.1 of 4");
        assert_eq!(by(Line::Precision(0.95)), Vec::<usize>::new());
    }

    #[test]
    fn a_budget_goes_to_whom_it_gains_most_and_never_to_a_loss() {
        let p = [0.5, 0.5, 0.5, 0.1];
        let payoffs = |at: usize| {
            [worth(100.0, 0.0, 40.0), worth(60.0, 0.0, 10.0), worth(50.0, 0.0, 10.0), worth(1.0, -9.0, 1.0)][at]
        };
        let by = |by, line| acted(&Rule { by, line, limits: vec![], refer_from: None }.actions(&p, payoffs, 4.0));
        assert_eq!(by(Order::GainPerCost, Line::Budget(20.0)), [1, 2]);
        assert_eq!(by(Order::Gain, Line::Budget(40.0)), [0]);
        assert_eq!(by(Order::Gain, Line::Share(1.0)), [0, 1, 2], "acting on the last would lose");
        assert_eq!(acted(&Rule::value_aware().actions(&p, payoffs, 4.0)), [0, 1, 2]);
    }

    #[test]
    fn limits_hold_wherever_the_line_is() {
        let p = [0.9, 0.8, 0.2, 0.7];
        let by = |line, limits| {
            let rule = Rule { by: Order::Probability, line, limits, refer_from: None };
            acted(&rule.actions(&p, |_| worth(10.0, -2.0, 3.0), 4.0))
        };
        assert_eq!(by(Line::Least(0.1), vec![Line::Customers(3.0)]), [0, 1, 3]);
        assert_eq!(by(Line::Least(0.1), vec![Line::Customers(3.0), Line::Precision(0.85)]), [0, 1]);
        assert_eq!(by(Line::Least(0.75), vec![Line::Customers(3.0)]), [0, 1]);
        assert_eq!(by(Line::Precision(0.65), vec![Line::Budget(8.0)]), [0, 1]);
    }

    #[test]
    fn between_two_cut_offs_somebody_looks() {
        let rule = Rule { refer_from: Some(0.2), ..Rule::cut_off(0.5) };
        let actions = rule.actions(&[0.1, 0.2, 0.5, 0.49], |_| Payoffs::default(), 4.0);
        assert_eq!(actions, [Action::Leave, Action::Refer, Action::Act, Action::Refer]);
    }

    proptest! {
        #[test]
        fn acting_where_each_gains_is_never_expected_to_bring_less_than_one_cut_off(
            customers in prop::collection::vec((0.0..1.0f64, -50.0..200.0f64, -60.0..10.0f64), 1..60),
        ) {
            let p: Vec<f64> = customers.iter().map(|c| c.0).collect();
            let payoffs = |at: usize| worth(customers[at].1, customers[at].2, 1.0);
            let expected = |rule: Rule| -> f64 {
                acted(&rule.actions(&p, payoffs, p.len() as f64)).into_iter().map(|at| payoffs(at).gain().expected(p[at])).sum()
            };
            let aware = expected(Rule::value_aware());
            for cut_off in p.iter().copied().chain([0.0, 1.1]) {
                let single = expected(Rule::cut_off(cut_off));
                prop_assert!(aware >= single - 1e-9 * (1.0 + single.abs()), "{} {}", aware, single);
            }
            for (share, budget) in [(0.1, 5.0), (0.5, 20.0)] {
                let rule = Rule { by: Order::Gain, line: Line::Share(share), limits: vec![], refer_from: None };
                let n = acted(&rule.actions(&p, payoffs, p.len() as f64)).len() as f64;
                prop_assert!(n <= share * p.len() as f64 * (1.0 + 1e-9));
                let rule = Rule { by: Order::GainPerCost, line: Line::Budget(budget), limits: vec![], refer_from: None };
                prop_assert!(acted(&rule.actions(&p, payoffs, p.len() as f64)).len() as f64 <= budget * (1.0 + 1e-9));
            }
        }
    }
}
