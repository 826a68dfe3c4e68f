//! The rule by which customers are acted on today, beside the candidates.

use actix_web::web;
use pronoia_core::Kind;
use pronoia_core::decide::{FixedRule, Payoff};
use pronoia_core::evaluate::Confusion;
use pronoia_core::expression::name_of;
use pronoia_service::ServiceError;
use pronoia_service::compare::SetTodaysRule;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::jobs::Work;
use serde::Deserialize;

use super::Money;
use super::measures::{self, ComparedCandidate, Set};
use crate::App;
use crate::error::{PageResult, see_other};
use crate::pages::{StudyPath, is_asked};
use crate::session::Visitor;

/// The rule as the page shows it.
pub struct RuleView {
    /// As it was written; empty if there is none.
    pub condition: String,
    /// What it came to under the present choices.
    pub found: Option<FixedRule>,
    /// Whether it is being tried.
    pub running: bool,
    /// What one could look like, of the columns of this study; empty where there is one.
    pub example: String,
}

impl RuleView {
    /// The rule of a study, and what it came to.
    pub async fn of(app: &App, view: &StudyView) -> Result<Self, ServiceError> {
        let Some(condition) = view.state.todays_rule.clone() else {
            return Ok(Self { condition: String::new(), found: None, running: false, example: example(view)? });
        };
        let found = tried(app, view).await?;
        let running = is_asked(app, &view.study, &Work::Rule { study: view.study.id }).await?;
        Ok(Self { condition, found, running, example: String::new() })
    }

    /// In words, what is to be known of the figures.
    pub fn remark(&self) -> Option<String> {
        let found = self.found.as_ref().filter(|found| found.unknown > 0)?;
        Some(format!(
            "For {} the rule has no value, because something is missing; they are not selected.",
            text::counted(found.unknown as usize, "customer", "customers")
        ))
    }
}

/// What the rule of a study came to under the present choices, if there is one.
pub async fn tried(app: &App, view: &StudyView) -> Result<Option<FixedRule>, ServiceError> {
    let Some(condition) = &view.state.todays_rule else { return Ok(None) };
    let Some(tried) = app.store.rule_tried(view.study.id).await? else { return Ok(None) };
    Ok(tried.under(condition, view.state.basis().as_ref())?)
}

/// A condition on the first columns that go in and are numbers, about where half of the customers are.
fn example(view: &StudyView) -> Result<String, ServiceError> {
    let figures = view.table.figures()?;
    let goes_in = |name: &str| view.state.columns.iter().any(|c| c.name == name && c.goes_in());
    let numbers = figures.columns.iter().filter(|c| c.kind == Kind::Number && c.distinct > 2 && goes_in(&c.name));
    let halves = numbers.filter_map(|c| Some((name_of(&c.name), c.numbers.as_ref()?.median)));
    let parts: Vec<String> =
        halves.take(2).zip(["<", ">="]).map(|((name, median), sign)| format!("{name} {sign} {median}")).collect();
    Ok(parts.join(" AND "))
}

/// A line that no model is needed for.
pub struct Baseline {
    pub name: &'static str,
    /// Profit, with the ends of its interval where it has one.
    pub profit: Option<(String, Option<[String; 2]>)>,
    pub figures: Vec<String>,
}

/// What needs no model: nobody, everybody, and the rule of today.
pub fn baselines(
    set: Set,
    judged: Option<&ComparedCandidate>,
    rule: &RuleView,
    money: Option<&Money>,
) -> Vec<Baseline> {
    let Some(judged) = judged else { return Vec::new() };
    let (rows, events) = (judged.evaluation.rows, judged.evaluation.events);
    let nobody = Confusion { missed: events, left_alone: rows - events, ..Confusion::default() };
    let everybody = Confusion { hits: events, false_alarms: rows - events, ..Confusion::default() };
    let profit = |counts: Confusion| {
        money.map(|money| {
            let expected = FixedRule { counts, unknown: 0 }.expected(&money.payoffs, &money.population);
            let sure = counts == nobody && money.payoffs.leave == Payoff::default();
            (
                if sure { "0".into() } else { text::money(expected.profit) },
                (!sure).then(|| [expected.low, expected.high].map(text::money)),
            )
        })
    };
    let rate = measures::rate(&judged.evaluation);
    let ordered = |found: f64| match set {
        Set::Order => vec!["0.500".into(), text::fixed(rate, 3), "0.000".into(), text::percent(found)],
        _ => Vec::new(),
    };
    let figures = |counts: &Confusion| match set {
        Set::Actions => measures::of_actions(counts),
        _ => Vec::new(),
    };
    let line = |name, profit, figures: Vec<String>| {
        let blank = set.measures().iter().map(|_| "–".to_owned());
        Baseline { name, profit, figures: if figures.is_empty() { blank.collect() } else { figures } }
    };
    let mut lines = vec![line("predicting “no” for everyone", profit(nobody), {
        let ordered = ordered(measures::FIRST);
        if ordered.is_empty() { figures(&nobody) } else { ordered }
    })];
    lines.push(line("acting on everyone", profit(everybody), figures(&everybody)));
    if let Some(found) = &rule.found {
        lines.push(line("today’s rule", profit(found.counts), figures(&found.counts)));
    }
    lines
}

/// The rule as typed.
#[derive(Deserialize)]
pub struct RuleForm {
    csrf: String,
    condition: String,
}

/// Keeps the rule of today, and has it tried; an empty one is taken away.
pub async fn keep(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<RuleForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let condition = form.into_inner().condition;
    app.perform(visitor.actor(), SetTodaysRule { study: path.id, condition }).await?;
    see_other(&format!("/studies/{}/compare#figures", path.id))
}
