//! A policy weighed on judged customers.

use std::borrow::Cow;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use super::action::PolicyAction;
use super::curve::{Best, ExpectedProfit, ProfitCurve};
use super::decision::ConfusionCounts;
use super::economics::Economics;
use super::offers::Given;
use super::payoff::{Payoff, Payoffs};
use super::population::Population;
use super::ranking::{CurveError, Ranking};
use super::rule::{CutOff, Order, Rule};
use super::sums::{CustomerPayoffs, OutcomeSums};

/// How a policy is weighed.
#[derive(Debug, Clone, Copy)]
pub struct EvaluationScale<'a> {
    /// Whom the money is for.
    pub population: &'a Population,
    /// By what share of itself every assumption may be off, either way; 0 where they are taken to
    /// be certain.
    pub doubt: f64,
    /// Governs the resamples.
    pub seed: u64,
}

/// Judged customers one by one.
#[derive(Debug, Clone)]
pub struct EvaluatedCustomers<'a> {
    /// Their probabilities, among the population.
    pub probability: Cow<'a, [f64]>,
    /// What happened.
    pub event: &'a [bool],
    /// Their amounts, and what each is offered.
    pub values: &'a Given,
}

/// What a rule comes to.
#[derive(Debug, Clone)]
pub struct PolicyEvaluation {
    /// The customers in the order of the rule, with keys as they are among the population.
    pub ranking: Ranking,
    /// Profit over the share acted on.
    pub curve: ProfitCurve,
    /// The best point that keeps to the limits.
    pub best: Best,
    /// The last point that keeps to the limits.
    pub limit: usize,
    /// Down to where is acted.
    pub position: usize,
    /// Down to where somebody looks, if anywhere.
    pub refer: Option<usize>,
    /// How many of the population each judged customer stands for.
    pub weights: Payoff,
    /// The customers in that order, where they were weighed one by one.
    pub order: Option<Vec<usize>>,
}

impl PolicyEvaluation {
    /// Weighs a rule that goes by probability where amounts are the same for everybody; counts
    /// are enough.
    pub fn counted(ranking: &Ranking, economics: &Economics<f64>, rule: &Rule, scale: &EvaluationScale) -> Self {
        let mut ranking = ranking.clone();
        let shift = scale.population.shift();
        ranking.stands.iter_mut().for_each(|stand| stand.cut_off = shift.there(stand.cut_off));
        let sums = OutcomeSums::of(&ranking, &CustomerPayoffs::Same(economics.payoffs()));
        let doubted = |r| OutcomeSums::of(&ranking, &CustomerPayoffs::Same(scale.doubted(economics, r).payoffs()));
        let curve = scale.curve(&ranking, &sums, doubted);
        Self::new(ranking, curve, rule, scale, None)
    }

    /// Weighs a rule on customers one by one.
    ///
    /// # Errors
    /// [`CurveError::NoRows`].
    pub fn each(customers: &EvaluatedCustomers, rule: &Rule, scale: &EvaluationScale) -> Result<Self, CurveError> {
        let payoffs = |customer: usize| customers.values.payoffs_of(customer);
        let key: Vec<f64> = match rule.by {
            Order::Probability => customers.probability.to_vec(),
            by => customers.probability.iter().enumerate().map(|(at, &p)| by.key(p, &payoffs(at))).collect(),
        };
        let (ranking, order) = Ranking::ordered(&key, customers.event, &rule.keys())?;
        let worths = |payoffs: &(dyn Fn(usize) -> Payoffs + Sync)| {
            OutcomeSums::of(&ranking, &CustomerPayoffs::Each { order: &order, event: customers.event, payoffs })
        };
        let typical = customers.values.typical();
        let doubted = |r| worths(&customers.values.under(&scale.doubted(&typical, r)));
        let curve = scale.curve(&ranking, &worths(&payoffs), doubted);
        Ok(Self::new(ranking, curve, rule, scale, Some(order)))
    }

    fn new(
        ranking: Ranking,
        curve: ProfitCurve,
        rule: &Rule,
        scale: &EvaluationScale,
        order: Option<Vec<usize>>,
    ) -> Self {
        let weights = scale.population.weights(ranking.rows as f64, ranking.events as f64);
        Self { ranking, best: curve.best, limit: 0, position: 0, refer: None, weights, order, curve }.under(rule)
    }

    /// The same customers under the line and the limits of another rule with the same order, without
    /// weighing them again. Of [`Weighing::each`], only keys that its own rule names are sure to part customers.
    #[must_use]
    pub fn under(mut self, rule: &Rule) -> Self {
        let mut limits = rule.limits.clone();
        if rule.by != Order::Probability {
            limits.push(CutOff::Least(f64::MIN_POSITIVE));
        }
        self.limit = self.curve.last_within(&limits);
        self.best = Best::of(&self.curve.points[..=self.limit]);
        limits.push(rule.line);
        self.position = self.curve.last_within(&limits);
        let refer = rule.refer_from.map(|from| self.curve.last_within(&[CutOff::Least(from)]));
        self.refer = refer.map(|refer| refer.max(self.position));
        self
    }

    /// What the rule promises.
    pub fn expected(&self) -> ExpectedProfit {
        match self.refer {
            Some(refer) => self.curve.referring(self.position, refer),
            None => self.curve.at(self.position),
        }
    }

    /// Customers referred, and events among them.
    pub fn referred(&self) -> (f64, f64) {
        let to = self.curve.points[self.refer.unwrap_or(self.position)];
        let from = self.curve.points[self.position];
        (to.acted - from.acted, to.events - from.events)
    }

    /// The same rule drawn at another point.
    #[must_use]
    pub fn moved_to(mut self, position: usize) -> Self {
        self.position = position.min(self.curve.points.len() - 1);
        self.refer = self.refer.map(|refer| refer.max(self.position));
        self
    }

    /// Whom it acts on, in numbers.
    pub fn counted_decision(&self) -> ConfusionCounts<'static> {
        let point = self.curve.points[self.position];
        let (referred, events) = self.referred();
        ConfusionCounts::Counted {
            act: Payoff { event: point.events, other: point.acted - point.events },
            refer: Payoff { event: events, other: referred - events },
        }
    }

    /// What is done about each customer, where they were weighed one by one.
    pub fn actions(&self) -> Option<Vec<PolicyAction>> {
        self.actions_at(self.position, self.refer)
    }

    /// The same with the lines at other points.
    pub(super) fn actions_at(&self, position: usize, refer: Option<usize>) -> Option<Vec<PolicyAction>> {
        let order = self.order.as_ref()?;
        let mut actions = vec![PolicyAction::Leave; order.len()];
        let acted = |at: usize| self.ranking.stands[at].acted as usize;
        let place = |action: PolicyAction, rows: &[usize], actions: &mut Vec<PolicyAction>| {
            rows.iter().for_each(|&row| actions[row] = action);
        };
        let line = acted(position);
        place(PolicyAction::Act, &order[..line], &mut actions);
        if let Some(refer) = refer {
            place(PolicyAction::Refer, &order[line..acted(refer)], &mut actions);
        }
        Some(actions)
    }
}

impl EvaluatedCustomers<'_> {
    /// How many of the population are acted on with each offer, down to every point of a curve that
    /// was drawn from these customers.
    pub fn by_offer(&self, weighing: &PolicyEvaluation) -> Vec<Vec<f64>> {
        let mut so_far = vec![0.0; self.values.offered().count()];
        let order = weighing.order.as_deref().unwrap_or_default();
        let stands = &weighing.ranking.stands;
        let mut all = vec![so_far.clone()];
        for pair in stands.windows(2) {
            for &customer in &order[pair[0].acted as usize..pair[1].acted as usize] {
                so_far[self.values.offer_of(customer)] += weighing.weights.happened(self.event[customer]);
            }
            all.push(so_far.clone());
        }
        all
    }
}

impl EvaluationScale<'_> {
    fn curve<'s>(
        &self,
        ranking: &Ranking,
        sums: &'s [OutcomeSums],
        doubted: impl Fn(u64) -> Vec<OutcomeSums> + Sync,
    ) -> ProfitCurve {
        let in_resample = |r: u64| -> Cow<'s, [OutcomeSums]> {
            if self.doubt > 0.0 { Cow::Owned(doubted(r)) } else { Cow::Borrowed(sums) }
        };
        ProfitCurve::from_sums(ranking, sums, in_resample, self.population, self.seed)
    }

    /// Amounts as they may be, each drawn evenly from as far as it may be off.
    fn doubted(&self, typical: &Economics<f64>, resample: u64) -> Economics<f64> {
        let mut rng = ChaCha8Rng::seed_from_u64(self.seed.wrapping_add(resample << 32));
        typical.map(|assumption, &amount| {
            let off = self.doubt * (2.0 * rng.random::<f64>() - 1.0);
            assumption.nearest_possible(amount * (1.0 + off))
        })
    }
}
