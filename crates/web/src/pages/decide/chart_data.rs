//! What the script draws: the thousand, and the profit curve below it.

use pronoia_core::decide::{Order, Thousand};
use pronoia_core::number;
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form;
use pronoia_service::study_view::whom;
use pronoia_service::text;
use serde::Serialize;

use super::{Today, offers};

/// Everything that is drawn, and all that is written beside it while the line moves.
#[derive(Serialize)]
pub struct Board {
    marks: Vec<Vec<u8>>,
    /// Share, key, acted on, events, worth, its band, spent, and what referring brings.
    points: Vec<[f64; 9]>,
    at: usize,
    refer: Option<usize>,
    best: usize,
    from: usize,
    to: usize,
    /// The last point that keeps to the limits.
    limit: usize,
    /// All events of the population.
    events: f64,
    /// What the key is.
    by: &'static str,
    break_even: String,
    /// The worth of the best that can be done, in two cut-offs or one.
    best_worth: f64,
    /// What the decision is worth, and its band, where the line stands now.
    here: [f64; 3],
    /// Share and worth of today's rule.
    today: Option<(f64, f64)>,
    /// Formula and worth of every outcome.
    outcomes: Vec<[String; 2]>,
    /// What each amount that is worked out comes to on average.
    means: Vec<(String, Option<String>)>,
    /// How many are given each offer, point by point, where there are several.
    given: Vec<Vec<f64>>,
    act: &'static str,
    whom: String,
}

impl Board {
    pub fn of(situation: &Situation, today: Option<Today>) -> Self {
        let weighing = &situation.weighing;
        let rule = &situation.chosen.policy.rule;
        let here = weighing.expected();
        let (best, best_worth) = best(situation);
        let policy = &situation.chosen.policy;
        let points = weighing.curve.points.iter().map(|p| {
            let key = if rule.by == Order::Probability { p.cut_off.min(1.0) } else { p.cut_off };
            [p.share, key, p.acted, p.events, p.profit, p.low, p.high, p.spent, p.referring]
        });
        Self {
            marks: Thousand::of(&weighing.ranking)
                .marks
                .iter()
                .map(|column| column.iter().map(|&mark| u8::from(mark)).collect())
                .collect(),
            points: points.collect(),
            at: weighing.position,
            refer: weighing.refer,
            best,
            from: weighing.best.from,
            to: weighing.best.to,
            limit: weighing.limit,
            events: weighing.curve.all_events(),
            by: policy_form::key_word(rule.by),
            break_even: offers::break_even(policy),
            best_worth,
            here: [here.profit, here.low, here.high],
            today: today.map(|today| (today.share, today.expected.profit)),
            outcomes: offers::outcomes(situation).into_iter().map(|o| [o.formula, o.worth]).collect(),
            means: offers::means(policy),
            given: offers::given(situation),
            act: situation.view.study.kind().act(),
            whom: whom(&situation.chosen.population, &situation.chosen.currency),
        }
    }

    pub fn json(&self) -> Result<String, ServiceError> {
        serde_json::to_string(self).map_err(|e| ServiceError::Refused(e.to_string()))
    }
}

/// Where acting is best with as many cut-offs as there are, and what that is worth.
pub fn best(situation: &Situation) -> (usize, f64) {
    let weighing = &situation.weighing;
    match weighing.refer {
        Some(_) => {
            let (act, refer) = weighing.curve.best_referring(weighing.limit);
            (act, weighing.curve.referring(act, refer).profit)
        }
        None => (weighing.best.at, weighing.curve.points[weighing.best.at].profit),
    }
}

/// How far a point is from the best, in words.
pub fn behind(difference: f64) -> String {
    if difference < 0.005 { "the best point".into() } else { format!("{} below the best", text::money(difference)) }
}

/// A key as it is read.
pub fn key(by: Order, value: f64) -> String {
    match by {
        Order::Probability => number::fixed(value.min(1.0), 3),
        Order::Gain | Order::GainPerCost => number::fixed(value, 2),
    }
}
