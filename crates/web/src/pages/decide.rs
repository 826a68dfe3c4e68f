//! Decide: what acting is worth, for how many, and on whom.

pub mod ablation;
mod amounts;
mod chart_data;
pub mod customer;
pub mod groups;
pub mod importance;
mod map;
mod offers;
pub mod policy_sheet;
pub(super) mod report;
mod rules;
mod sensitivity;
mod summary;
mod views;

use actix_web::{HttpResponse, web};
use askama::Template;
use pronoia_core::decide::{Amount, Economics, ExpectedProfit, Order, Payoff};
use pronoia_core::question::Question;
use serde::Deserialize;

use super::compare::rule;
use super::{PageResult, Signed, StudyPath, once_each, see_other};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::run_blocking::apart;
use crate::session::Visitor;
use amounts::AmountField;
use chart_data::Board;
use offers::{OfferFields, OutcomeLine};
use pronoia_service::ServiceError;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::{self, TypedFields};
use pronoia_service::decide::{ConfirmPolicy, KeepPolicy};
use pronoia_service::jobs::Confirmation;
use pronoia_service::study_view::{StudyView, whom};
use pronoia_service::text;
use rules::RuleLine;
use sensitivity::Assumptions;
use summary::Here;
use views::{DecideView, DecideViews};

#[derive(Template)]
#[template(path = "decide/decide.html")]
struct DecidePage {
    frame: Frame,
    views: DecideViews,
    base: String,
    train: String,
    question: Question,
    view: Option<View>,
    confirmed: Option<Confirmed>,
    policy_kept: bool,
    policy_stale: bool,
    /// What the customers are called that the policy was chosen on.
    judged_on: &'static str,
    test_openings: i32,
}

/// Everything the page shows about one model under one set of amounts.
struct View {
    model_id: i64,
    models: Vec<(i64, String)>,
    amounts: Vec<AmountField>,
    /// Amounts that are seldom other than usual, and whether one is.
    more_amounts: Vec<AmountField>,
    more_told: bool,
    /// Whether an amount differs between customers.
    averaged: bool,
    /// The name of the first offer, and the fields of others.
    offer_name: String,
    offers: Vec<OfferFields>,
    several: bool,
    currency: String,
    population: String,
    event_rate: String,
    /// The event rate of the customers judged, as per cent.
    judged_rate: String,
    doubt: String,
    order: Order,
    /// Where the same is done with the same amounts for everybody, so that both orders are one.
    same_for_all: bool,
    line: (String, &'static str),
    /// Limits as their fields have them: customers, money, of every 100.
    limits: [String; 3],
    limited: bool,
    /// Whether acting takes anything out of a budget.
    spends: bool,
    /// From where somebody looks, where the question knows of that.
    refer_from: Option<String>,
    whom: String,
    here: Here,
    data: String,
    judged: String,
    lacking: Option<String>,
    unsaved: bool,
    /// Whether nobody has said yet what anything is worth.
    examples: bool,
    table: Vec<[String; 5]>,
    parts: DecideParts,
}

/// What stands below the curve: other rules, and what is assumed.
#[derive(Template)]
#[template(path = "decide/parts.html")]
struct PartsPage {
    p: DecideParts,
}

/// Other rules, and what is assumed.
#[derive(Clone)]
pub struct DecideParts {
    outcomes: Vec<OutcomeLine>,
    rules: Vec<RuleLine>,
    rules_finding: String,
    assumptions: Assumptions,
}

impl DecideParts {
    /// Worked out once, which takes a while for customers one by one where they are many.
    fn of(app: &App, situation: &Situation, today: Option<Today>, typed: &TypedFields) -> Result<Self, ServiceError> {
        let map = ["across", "down", "line_again"].map(|field| typed.field(field));
        let acted_today = today.map(|today| (today.share, today.expected));
        let from =
            serde_json::json!(["decide", situation.weighed_from, situation.chosen, map, acted_today]).to_string();
        if let Some(kept) = app.view::<Self>(&from) {
            return Ok(Self::clone(&kept));
        }
        let (rules, rules_finding) = rules::of(situation, today)?;
        let outcomes = offers::outcomes(situation);
        let anew = Self { outcomes, rules, rules_finding, assumptions: Assumptions::of(situation, typed) };
        Ok(Self::clone(&app.keep_view(from, anew)))
    }
}

/// The rule by which customers are acted on today.
#[derive(Clone, Copy)]
struct Today {
    /// Share of customers acted on.
    share: f64,
    expected: ExpectedProfit,
}

struct Confirmed {
    found: Confirmation,
    is_this_policy: bool,
}

impl View {
    async fn of(app: &App, situation: &Situation<'_>, typed: &TypedFields) -> Result<Self, ServiceError> {
        let Situation { view, model, chosen, typical, weighing, .. } = situation;
        let question = view.study.kind();
        let rule = &chosen.policy.rule;
        let points = &weighing.curve.points;
        let today = today(app, situation).await?;
        let rows = (0..=20).map(|i| points[i * (points.len() - 1) / 20]).map(|p| {
            [
                text::percent(p.share),
                chart_data::key(rule.by, p.cut_off),
                text::fixed(p.acted, 0),
                text::fixed(p.events, 0),
                format!("{} ({} – {})", text::money(p.profit), text::money(p.low), text::money(p.high)),
            ]
        });
        let (line, line_as) = policy_form::written(rule.line, rule.by);
        let limit = |kind: &str| {
            let limits = rule.limits.iter().map(|limit| policy_form::written(*limit, rule.by));
            limits.filter(|(_, there)| *there == kind).map(|(value, _)| figure(value)).next().unwrap_or_default()
        };
        let whom = whom(&chosen.population, &chosen.currency);
        Ok(Self {
            model_id: model.id,
            models: view.fitted().map(|m| (m.id, m.name.clone())).collect(),
            amounts: amounts::fields(chosen, false),
            more_amounts: amounts::fields(chosen, true),
            more_told: chosen
                .policy
                .economics
                .amounts()
                .iter()
                .any(|(assumption, amount)| assumption.optional && **amount != Amount::Same(assumption.usual)),
            averaged: !offers::amounts_are_same_for_all(&chosen.policy),
            offer_name: chosen.policy.offers.first.clone(),
            offers: OfferFields::of(&chosen.policy),
            several: !chosen.policy.offers.is_single(),
            currency: chosen.currency.clone(),
            population: chosen.population.customers.map_or(String::new(), |n| text::fixed(n, 0)),
            event_rate: chosen.population.event_rate.map_or(String::new(), |r| text::plain_share(r.population)),
            judged_rate: text::fixed(situation.by_probability.rate() * 100.0, 1),
            doubt: if situation.doubt > 0.0 { text::plain_share(situation.doubt) } else { String::new() },
            order: rule.by,
            same_for_all: chosen.policy.is_same_for_all(),
            line: (figure(line), line_as),
            limited: !rule.limits.is_empty(),
            limits: ["count", "budget", "precision"].map(limit),
            spends: typical.payoffs().spent != Payoff::default(),
            refer_from: typical
                .payoffs()
                .refer
                .map(|_| rule.refer_from.map_or(String::new(), |from| text::fixed(from.min(1.0), 3))),
            here: Here::of(situation),
            data: Board::of(situation, today).json()?,
            judged: format!(
                "Evaluated on {} {} customers, {} of whom {}. Shaded: 90 % CI (bootstrap){}.{}",
                text::count(weighing.ranking.rows),
                model.fitted_on()?.split.judged_on(),
                text::count(weighing.ranking.events),
                question.event_verb(),
                match situation.doubt {
                    0.0 => String::new(),
                    doubt => format!(", with every amount up to {} off", text::percent(doubt)),
                },
                once_each(&view.state)
            ),
            lacking: situation.detail.as_ref().filter(|d| d.lacking > 0).map(|d| {
                format!(
                    "For {} an amount has no value; the mean of the others is used.",
                    text::counted(d.lacking as usize, "customer", "customers")
                )
            }),
            unsaved: !situation.is_kept(),
            examples: view.state.policy.is_none() && chosen.policy.economics == Economics::usual(question).chosen(),
            table: rows.collect(),
            parts: DecideParts::of(app, situation, today, typed)?,
            whom,
        })
    }
}

/// A value for a field, without noise after the sixth decimal.
fn figure(value: f64) -> String {
    format!("{}", (value * 1e6).round() / 1e6)
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    typed: web::Query<TypedFields>,
) -> PageResult {
    html(&apart(async move || decided(&app, &visitor, path.id, &typed).await).await?)
}

async fn decided(app: &App, visitor: &Visitor, study: i64, typed: &TypedFields) -> Result<DecidePage, ServiceError> {
    let study = StudyView::load(app, visitor.workspace_id(), study).await?;
    let situation = Situation::of(app, &study, typed).await?;
    let view = match &situation {
        Some(situation) => Some(View::of(app, situation, typed).await?),
        None => None,
    };
    Ok(DecidePage {
        frame: Frame::of_study(app, visitor, &study, 6).await?,
        views: DecideViews::of(&study, DecideView::Line),
        base: study.href("decide"),
        train: study.href("train"),
        question: study.study.kind(),
        view,
        confirmed: confirmed(&study)?,
        policy_kept: study.state.policy.is_some(),
        policy_stale: study.policy_model().is_some_and(|(_, m)| study.is_stale(m)),
        judged_on: study.state.split.judged_on(),
        test_openings: study.study.test_openings,
    })
}

/// What the sealed test said, if it was opened.
fn confirmed(study: &StudyView) -> Result<Option<Confirmed>, ServiceError> {
    let Some(value) = study.study.confirmation.clone() else { return Ok(None) };
    let found: Confirmation = serde_json::from_value(value).map_err(pronoia_store::StoreError::from)?;
    Ok(Some(Confirmed { is_this_policy: study.state.policy.as_ref().is_some_and(|p| found.is_of(p)), found }))
}

/// What the script draws, for amounts that were just typed.
pub async fn curve(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    typed: web::Query<TypedFields>,
) -> PageResult {
    let board = apart(async move || {
        let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
        let situation = Situation::of(&app, &study, &typed).await?.ok_or(ServiceError::NotFound)?;
        let today = today(&app, &situation).await?;
        Board::of(&situation, today).json()
    });
    Ok(HttpResponse::Ok().content_type("application/json").body(board.await?))
}

/// What stands below the curve, for amounts that were just typed, or a line that was moved.
pub async fn parts(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    typed: web::Query<TypedFields>,
) -> PageResult {
    let parts = apart(async move || {
        let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
        let situation = Situation::of(&app, &study, &typed).await?.ok_or(ServiceError::NotFound)?;
        let today = today(&app, &situation).await?;
        DecideParts::of(&app, &situation, today, &typed)
    });
    html(&PartsPage { p: parts.await? })
}

/// What today's rule came to, and would bring.
async fn today(app: &App, situation: &Situation<'_>) -> Result<Option<Today>, ServiceError> {
    let found = rule::tried(app, situation.view).await?;
    Ok(found.map(|found| Today {
        share: found.counts.acted() as f64 / found.counts.rows().max(1) as f64,
        expected: found.expected(&situation.typical.payoffs(), &situation.chosen.population),
    }))
}

/// A policy as typed, signed.
#[derive(Deserialize)]
pub struct PolicyForm {
    csrf: String,
    #[serde(flatten)]
    typed: TypedFields,
}

/// Keeps the policy.
pub async fn keep(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<PolicyForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), KeepPolicy { study: path.id, policy: form.into_inner().typed }).await?;
    see_other(&format!("/studies/{}/decide", path.id))
}

/// Opens the sealed test for the policy kept.
pub async fn confirm(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let job = app.perform(visitor.actor(), ConfirmPolicy { study: path.id }).await?.job;
    see_other(&format!("/jobs/{job}"))
}
