//! A model, what it said of the customers judged, and what was chosen about it.

use std::borrow::Cow;
use std::sync::Arc;

use pronoia_core::decide::{
    Alternative, ChosenAgain, ConfusionCounts, CutOff, Each, Economics, EvaluatedCustomers, EvaluationScale, Given,
    Order, Policy, PolicyAction, PolicyEvaluation, Ranking, Rule, alternatives,
};
use pronoia_core::study::ChosenPolicy;
use pronoia_store::candidates::StoredCandidate;
use pronoia_store::model;

use super::policy_form::TypedFields;
use crate::App;
use crate::error::ServiceError;
use crate::prediction_cache::CandidatePredictions;
use crate::prepare::steps::types_of;
use crate::study_view::StudyView;

/// Governs the resamples behind bands.
const SEED: u64 = 1;

/// A policy on the customers judged.
pub struct Situation<'a> {
    /// The study.
    pub view: &'a StudyView,
    /// The candidate.
    pub model: &'a StoredCandidate,
    /// By probability, as the model left it.
    pub by_probability: Arc<Ranking>,
    /// The policy.
    pub chosen: ChosenPolicy,
    /// Its amounts, those that differ by customer at their means.
    pub typical: Economics<f64>,
    /// The policy evaluated.
    pub weighing: PolicyEvaluation,
    /// The customers one by one, where they have to be looked at so.
    pub detail: Option<CustomerPredictions>,
    /// By which share of itself every assumption may be off.
    pub doubt: f64,
    /// From what the customers were weighed.
    pub weighed_from: String,
}

/// Customers one by one.
pub struct CustomerPredictions {
    book: Arc<CandidatePredictions>,
    /// Probabilities among the population.
    probability: Vec<f64>,
    /// Amounts by customer.
    pub values: Given,
    /// Customers for whom an amount had no value.
    pub lacking: u64,
}

impl CustomerPredictions {
    /// The customers as a policy is evaluated on them.
    pub fn customers(&self) -> EvaluatedCustomers<'_> {
        EvaluatedCustomers {
            probability: Cow::Borrowed(&self.probability),
            event: &self.book.event,
            values: &self.values,
        }
    }
}

impl<'a> Situation<'a> {
    /// Puts together what was typed, what was kept, and what is usual.
    pub async fn of(app: &App, view: &'a StudyView, typed: &TypedFields) -> Result<Option<Self>, ServiceError> {
        let kept = view.state.policy.as_ref();
        let wanted = typed.model()?.or(kept.map(|p| p.model_id)).or(view.best()?.map(|m| m.id));
        let model = match view.fitted().find(|m| Some(m.id) == wanted) {
            Some(model) => model,
            None => match view.best()? {
                Some(model) => model,
                None => return Ok(None),
            },
        };
        let Some(by_probability) = app.evaluations.ranking(app, model.id).await? else { return Ok(None) };
        let columns = types_of(view)?;
        let economics = typed.economics(view.study.kind(), kept.map(|p| &p.policy.economics), &columns)?;
        let offers = typed.offers(&economics, kept.map(|p| &p.policy.offers), &columns)?;
        let population = typed.population(kept, by_probability.rate())?;
        let currency = typed.currency(kept)?;
        let doubt = typed.doubt()?;
        // What was kept for another model does not hold for this one.
        let kept_rule = kept.filter(|p| p.model_id == model.id).map(|p| &p.policy.rule);
        let by = typed.order(kept_rule)?;
        let limits = typed.limits(kept_rule)?;
        let typed_line = typed.line(by)?;
        let line = typed_line.or(kept_rule.filter(|rule| rule.by == by).map(|rule| rule.line));
        let refer_from = typed.refer_from(kept_rule)?.filter(|_| by == Order::Probability);
        // Until somebody says where, everybody who gains, or else the best point.
        let undecided = line.is_none();
        let line = line.unwrap_or(CutOff::Least(f64::MIN_POSITIVE));
        let mut policy = Policy { economics, offers, rule: Rule { by, line, limits, refer_from } };

        let same_for_all = policy.is_same_for_all();
        let detail = match by == Order::Probability && same_for_all {
            true => None,
            false => Some(detail(app, view, model, &mut policy, &population).await?),
        };
        let typical = policy.economics.typical();
        let scaled = (population, doubt);
        // Where customers are counted, one curve serves every line that is drawn on it.
        let weighed_from = match &detail {
            Some(_) => serde_json::json!([model.id, policy, population, doubt]),
            None => serde_json::json!([model.id, typical, population, doubt]),
        };
        let weighed_from = weighed_from.to_string();
        let (mut weighing, detail) = match (app.policy_evaluations.get(&weighed_from), detail) {
            (Some(kept), Some(detail)) => (PolicyEvaluation::clone(&kept), Some(detail)),
            (Some(kept), None) => (PolicyEvaluation::clone(&kept).under(&policy.rule), None),
            (None, detail) => {
                let (ranking, rule) = (Arc::clone(&by_probability), policy.rule.clone());
                let (weighing, detail) = weigh((ranking, detail), (typical, rule), scaled).await?;
                (PolicyEvaluation::clone(&app.policy_evaluations.put(weighed_from.clone(), weighing)), detail)
            }
        };
        if undecided && by == Order::Probability {
            let first_time = typed.field("refer_from").is_none() && kept_rule.is_none();
            let payoffs = typical.payoffs();
            let referring = first_time && payoffs.refer.is_some();
            let proposal = weighing.proposed(same_for_all.then_some(&payoffs), referring);
            let position = |least: f64| weighing.curve.last_within(&[CutOff::Least(least)]);
            let at = position(proposal.act);
            policy.rule.line = CutOff::Least(proposal.act);
            if referring {
                policy.rule.refer_from = proposal.refer;
                weighing.refer = proposal.refer.map(|from| position(from).max(at));
            }
            weighing = weighing.moved_to(at);
        }
        let promised = Some(weighing.expected());
        let chosen = ChosenPolicy { model_id: model.id, policy, population, currency, promised };
        Ok(Some(Self { view, model, by_probability, chosen, typical, weighing, detail, doubt, weighed_from }))
    }

    /// Whether it is the policy that was kept.
    pub fn is_kept(&self) -> bool {
        self.view.state.policy.as_ref().is_some_and(|kept| {
            let anew = ChosenPolicy { promised: kept.promised, ..self.chosen.clone() };
            *kept == anew
        })
    }

    /// The customers judged, for a line that may be drawn anywhere.
    pub fn chosen_again(&self) -> ChosenAgain<'_> {
        let one_by_one = self.detail.as_ref().zip(self.weighing.order.as_ref());
        let each = one_by_one.filter(|(detail, _)| !detail.values.is_same_for_all()).map(|(detail, order)| Each {
            order,
            event: &detail.book.event,
            values: &detail.values,
        });
        ChosenAgain { ranking: &self.weighing.ranking, weights: self.weighing.weights, each }
    }

    /// The key from which customers are acted on.
    pub fn line(&self) -> f64 {
        self.weighing.curve.points[self.weighing.position].cut_off
    }

    /// What is done about a customer with this key and this probability, among the population.
    pub fn action(&self, key: f64, probability: f64) -> PolicyAction {
        let refer_from = self.chosen.policy.rule.refer_from;
        match refer_from {
            _ if key >= self.line() => PolicyAction::Act,
            Some(from) if probability >= from => PolicyAction::Refer,
            _ => PolicyAction::Leave,
        }
    }

    /// What other rules would bring.
    pub fn alternatives(&self) -> Result<Vec<Alternative>, ServiceError> {
        let rule = &self.chosen.policy.rule;
        let Some(detail) = &self.detail else {
            return Ok(alternatives::counted(&self.weighing, &self.typical, rule));
        };
        let scale = EvaluationScale { population: &self.chosen.population, doubt: self.doubt, seed: SEED };
        alternatives::each(&self.weighing, &detail.customers(), rule, &scale)
            .map_err(|e| ServiceError::Refused(e.to_string()))
    }

    /// Hands over whom is acted on, for amounts that may be other ones.
    pub fn with_decision<T>(&self, look: impl FnOnce(&ConfusionCounts) -> T) -> T {
        match (&self.detail, self.weighing.actions()) {
            (Some(detail), Some(actions)) if !detail.values.is_same_for_all() => {
                let (values, event): (_, &[bool]) = (&detail.values, &detail.book.event);
                look(&ConfusionCounts::Each { values, actions: &actions, event, weights: self.weighing.weights })
            }
            _ => look(&self.weighing.counted_decision()),
        }
    }
}

async fn detail(
    app: &App,
    view: &StudyView,
    model: &model::Model,
    policy: &mut Policy,
    population: &pronoia_core::decide::Population,
) -> Result<CustomerPredictions, ServiceError> {
    let book = app.predictions.open(app, view, model, policy.inputs()).await?;
    let shift = population.shift();
    let mut asked = policy.clone();
    let (detail, asked) = tokio::task::spawn_blocking(move || {
        let (offered, lacking) = asked.worked_out(&book.table, &book.rows)?;
        let probability: Vec<f64> = book.probability.iter().map(|&p| shift.there(p)).collect();
        let values = offered.given(asked.rule.by, &probability);
        Ok::<_, pronoia_core::decide::EconomicsError>((
            CustomerPredictions { book, probability, values, lacking },
            asked,
        ))
    })
    .await
    .map_err(|e| ServiceError::Refused(format!("The amounts could not be computed: {e}.")))?
    .map_err(|e| ServiceError::Refused(e.to_string()))?;
    *policy = asked;
    Ok(detail)
}

/// Weighs a rule, on customers one by one where they are at hand, away from the threads that answer pages.
async fn weigh(
    (ranking, detail): (Arc<Ranking>, Option<CustomerPredictions>),
    (typical, rule): (Economics<f64>, Rule),
    (population, doubt): (pronoia_core::decide::Population, f64),
) -> Result<(PolicyEvaluation, Option<CustomerPredictions>), ServiceError> {
    tokio::task::spawn_blocking(move || {
        let scale = EvaluationScale { population: &population, doubt, seed: SEED };
        let weighing = match &detail {
            Some(detail) => PolicyEvaluation::each(&detail.customers(), &rule, &scale)?,
            None => PolicyEvaluation::counted(&ranking, &typical, &rule, &scale),
        };
        Ok::<_, pronoia_core::decide::CurveError>((weighing, detail))
    })
    .await
    .map_err(|e| ServiceError::Refused(format!("The curve could not be computed: {e}.")))?
    .map_err(|e| ServiceError::Refused(e.to_string()))
}
