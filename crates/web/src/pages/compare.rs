//! Compare: which candidate, in money first.

mod curves;
mod cut_off_counts;
pub mod diagnostics;
mod measures;
mod pair;
pub mod rule;

use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::Arc;

use actix_web::web;
use askama::Template;
use pronoia_core::cautions;
use pronoia_core::decide::{
    self, CustomerPayoffs, Economics, ExpectedProfit, Order, Payoffs, Population, Ranking, Rule,
};
use pronoia_core::evaluate::Confusion;
use pronoia_core::question::Question;
use pronoia_core::study::ChosenPolicy;
use pronoia_service::ServiceError;
use pronoia_service::candidate_profit::CandidateProfit;
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::TypedFields;
use pronoia_service::evaluation_cache::CandidateFigures;
use pronoia_service::study_view::{StudyView, whom};
use pronoia_service::text;
use pronoia_store::jobs::Work;
use pronoia_store::model;

use super::{PageResult, StudyPath};
use crate::App;
use crate::definitions::Meanings;
use crate::error::html;
use crate::frame::Frame;
use crate::run_blocking::apart;
use crate::session::Visitor;
use curves::{CurveChart, CurveKind};
use cut_off_counts::{PartLine, parts};
use diagnostics::CloserView;
use measures::{CompareMeasure, ComparedCandidate, Set};
use pair::PairView;
use rule::{Baseline, RuleView, baselines};

#[derive(Template)]
#[template(path = "compare/compare.html")]
struct ComparePage {
    frame: Frame,
    /// What no model was shown, though it goes with the outcome.
    left_out: Option<String>,
    heading: String,
    base: String,
    decide: String,
    priced: bool,
    whom: String,
    standing: Option<String>,
    sets: Vec<Link>,
    /// What is asked for, as fields of a form that asks for something else.
    asked: CompareQuery,
    profit_sort: Option<String>,
    headings: Vec<Link>,
    lines: Vec<CompareLine>,
    baselines: Vec<Baseline>,
    rule: RuleView,
    acting: String,
    judged_on: String,
    confusion: Option<ConfusionView>,
    meaning: Meanings,
    kinds: Vec<Link>,
    curve: Option<CurveChart>,
    laid_over: usize,
    pair: Option<PairView>,
    closer: Option<CloserView>,
    /// Whether a closer look is under way.
    looking_closer: bool,
    question: Question,
}

/// Somewhere to go, or where one is.
struct Link {
    label: &'static str,
    href: String,
    here: bool,
}

struct CompareLine {
    id: i64,
    name: String,
    href: String,
    stale: bool,
    open: bool,
    with: bool,
    best_profit: Option<[String; 3]>,
    figures: Vec<String>,
}

struct ConfusionView {
    id: i64,
    name: String,
    cut_off: String,
    counts: Confusion,
    of_acted: String,
    of_events: String,
    parts: Vec<PartLine>,
}

/// What is asked for in the address.
struct CompareQuery {
    /// The candidate whose counts are shown.
    model: Option<i64>,
    /// At what cut-off.
    cut_off: Option<f64>,
    set: Set,
    /// What the lines are sorted by; none for money, or log loss without a price.
    sort: Option<String>,
    kind: CurveKind,
    /// Candidates laid over each other.
    with: Vec<i64>,
}

impl CompareQuery {
    fn of(query: &[(String, String)]) -> Self {
        let value = |name: &str| query.iter().find(|q| q.0 == name).map(|q| q.1.as_str());
        let keys = |name: &'static str| query.iter().filter(move |q| q.0 == name).filter_map(|q| q.1.parse().ok());
        Self {
            model: keys("model").next(),
            cut_off: value("cut_off").and_then(|c| text::typed_number(c).ok()).filter(|c| (0.0..=1.0).contains(c)),
            set: Set::ALL.into_iter().find(|s| Some(s.word()) == value("measures")).unwrap_or(Set::Order),
            sort: value("sort").map(str::to_owned),
            kind: CurveKind::ALL.into_iter().find(|k| Some(k.word()) == value("curve")).unwrap_or(CurveKind::Gain),
            with: keys("with").collect(),
        }
    }

    /// The address with one thing asked for otherwise; none for `value` leaves it out.
    fn href(&self, base: &str, change: &str, value: Option<&str>) -> String {
        let mut parts: Vec<String> = Vec::new();
        let mut add = |name: &str, here: Option<String>| {
            let kept = if name == change { value.map(str::to_owned) } else { here };
            parts.extend(kept.map(|v| format!("{name}={}", crate::frame::encoded(&v))));
        };
        add("model", self.model.map(|m| m.to_string()));
        add("cut_off", self.cut_off.filter(|_| change != "model").map(|c| c.to_string()));
        add("measures", Some(self.set.word().into()));
        add("sort", self.sort.clone());
        add("curve", (self.kind != CurveKind::Gain).then(|| self.kind.word().into()));
        parts.extend(self.with.iter().map(|id| format!("with={id}")));
        if parts.is_empty() { base.to_owned() } else { format!("{base}?{}", parts.join("&")) }
    }
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<Vec<(String, String)>>,
) -> PageResult {
    html(&apart(async move || compared(&app, &visitor, path.id, CompareQuery::of(&query)).await).await?)
}

async fn compared(app: &App, visitor: &Visitor, study: i64, asked: CompareQuery) -> Result<ComparePage, ServiceError> {
    let view = StudyView::load(app, visitor.workspace_id(), study).await?;
    let question = view.study.kind();
    let money = view.state.policy.as_ref().map(Money::of);
    let share = acted_share(app, &view).await?;
    let figures = app.evaluations.of(app, view.fitted().map(|model| model.id)).await?;
    let mut candidates = candidates(app, &view, figures, money.as_ref(), share);
    let none_and_all = candidates.first().and_then(|c| c.worth.as_ref()).map(|worth| [worth.none, worth.all]);
    let sorted_by = asked.set.measures().iter().find(|m| Some(m.word) == asked.sort.as_deref());
    candidates.sort_by(|a, b| order(a, b, sorted_by));
    let opened = asked.model.or(view.best()?.map(|m| m.id));
    let open = candidates.iter().find(|c| Some(c.model.id) == opened);
    let ticked: Vec<&ComparedCandidate> = candidates.iter().filter(|c| asked.with.contains(&c.model.id)).collect();
    // Without a tick, the candidate that is open, and the best of the others.
    let drawn: Vec<&ComparedCandidate> = if ticked.is_empty() {
        let others = candidates.iter().filter(|c| Some(c.model.id) != opened).take(1);
        open.into_iter().chain(others).collect()
    } else {
        ticked.clone()
    };
    let pair = match ticked[..] {
        [a, b] => pair(app, [a, b], money.as_ref()).await?,
        _ => None,
    };
    let base = view.href("compare");
    let first = candidates.first();
    let judged_on = first.map_or(String::new(), |c| {
        format!(
            "{} {} customers, {} of whom {}.{}",
            text::count(c.evaluation.rows),
            view.state.split.judged_on(),
            text::count(c.evaluation.events),
            question.event_verb(),
            super::once_each(&view.state)
        )
    });
    let rule = RuleView::of(app, &view).await?;
    let whole = match open {
        Some(candidate) => Some(app.store.model(candidate.model.id).await?),
        None => None,
    };
    let closer = whole.as_ref().map(|row| CloserView::of(row, money.as_ref())).transpose()?.flatten();
    let looking_closer = match open {
        Some(candidate) => {
            let work = Work::Closer { model: candidate.model.id };
            super::is_asked(app, &view.study, &work).await?
        }
        None => false,
    };
    let confusion = match (open, &whole) {
        (Some(candidate), Some(row)) => confusion(&view, candidate, row, asked.cut_off)?,
        _ => None,
    };
    let today = match (&money, &rule.found) {
        (Some(money), Some(found)) => Some(found.expected(&money.payoffs, &money.population)),
        _ => None,
    };
    let left_out = match app.store.finding(view.study.id).await? {
        Some(finding) if !candidates.is_empty() => cautions::excluded_columns(&view.state, &finding.found()?),
        _ => None,
    };
    let link = |label, href, here| Link { label, href, here };
    Ok(ComparePage {
        frame: Frame::of_study(app, visitor, &view, 5).await?,
        left_out,
        heading: heading(&candidates, money.as_ref(), sorted_by),
        decide: view.href("decide"),
        priced: money.is_some(),
        whom: money.as_ref().map_or(String::new(), Money::whom),
        standing: standing(&view, &candidates, none_and_all, today),
        sets: Set::ALL
            .iter()
            .filter(|set| money.is_some() || **set != Set::Money)
            .map(|s| link(s.label(), asked.href(&base, "measures", Some(s.word())), *s == asked.set))
            .collect(),
        profit_sort: sorted_by.is_some().then(|| asked.href(&base, "sort", None)),
        headings: asked
            .set
            .measures()
            .iter()
            .map(|m| link(m.name, asked.href(&base, "sort", Some(m.word)), Some(m.word) == sorted_by.map(|s| s.word)))
            .collect(),
        lines: candidates.iter().map(|c| line(&view, c, &asked, &base, opened)).collect(),
        baselines: baselines(asked.set, first, &rule, money.as_ref()),
        rule,
        acting: text::percent(share),
        judged_on,
        confusion,
        meaning: open.map_or(Vec::new(), |c| measures::meaning(asked.set, c, question)),
        kinds: CurveKind::ALL
            .iter()
            .map(|k| link(k.label(), asked.href(&base, "curve", Some(k.word())), *k == asked.kind))
            .collect(),
        curve: asked.kind.of(&drawn, question),
        laid_over: drawn.len(),
        pair,
        closer,
        looking_closer,
        base,
        asked,
        question,
    })
}

/// What figures of money need to know.
pub struct Money {
    /// Amounts of a customer who is average in every one.
    typical: Economics<f64>,
    payoffs: Payoffs,
    population: Population,
    currency: String,
    /// The same amounts for the same customers, as a text.
    key: String,
}

impl Money {
    fn of(chosen: &ChosenPolicy) -> Self {
        let (typical, population) = (chosen.policy.economics.typical(), chosen.population);
        let key = serde_json::json!([typical, population]).to_string();
        Self { payoffs: typical.payoffs(), typical, population, currency: chosen.currency.clone(), key }
    }

    /// What a candidate is worth, by how it orders the customers that it was judged on.
    fn worth(&self, app: &App, model: i64, ranking: &Ranking) -> Arc<CandidateProfit> {
        let from = (model, self.key.clone());
        app.candidate_profits.get(&from).unwrap_or_else(|| {
            let curve = decide::ProfitCurve::of(ranking, &CustomerPayoffs::Same(self.payoffs), &self.population, SEED);
            let maximum = decide::expected_maximum_of(ranking, &self.typical, &self.population);
            let best = curve.points[curve.best.at];
            app.candidate_profits
                .put(from, CandidateProfit { best, maximum, none: curve.none().profit, all: curve.all().profit })
        })
    }

    fn whom(&self) -> String {
        whom(&self.population, &self.currency)
    }
}

/// Governs the resamples behind intervals.
const SEED: u64 = 1;

/// The probability from which a rule acts, if it is that.
fn cut_off_of(rule: &Rule) -> Option<f64> {
    match (rule.by, rule.line) {
        (Order::Probability, decide::CutOff::Least(cut_off)) => Some(cut_off),
        _ => None,
    }
}

/// The share of customers that the policy acts on; a fifth, where there is none or it acts on nobody.
async fn acted_share(app: &App, view: &StudyView) -> Result<f64, ServiceError> {
    if view.policy_model().is_none() {
        return Ok(measures::FIRST);
    }
    let weighing = match Situation::of(app, view, &TypedFields::default()).await {
        Ok(situation) => situation.map(|situation| situation.weighing),
        // Decide says why it cannot be weighed; candidates are compared all the same.
        Err(ServiceError::Refused(_)) => None,
        Err(e) => return Err(e),
    };
    let share = weighing.map(|weighing| weighing.curve.points[weighing.position].share);
    Ok(share.filter(|share| *share > 0.0).unwrap_or(measures::FIRST))
}

fn candidates<'v>(
    app: &App,
    view: &'v StudyView,
    mut figures: HashMap<i64, CandidateFigures>,
    money: Option<&Money>,
    share: f64,
) -> Vec<ComparedCandidate<'v>> {
    let mut judged = Vec::new();
    for model in view.fitted() {
        let Some(CandidateFigures { evaluation, ranking }) = figures.remove(&model.id) else { continue };
        let worth = money.zip(ranking.as_ref()).map(|(money, ranking)| money.worth(app, model.id, ranking));
        let counts = ranking.as_ref().map_or(Confusion::default(), |r| {
            let wanted = (share * r.rows as f64).round() as u64;
            r.confusion(r.stands.partition_point(|s| s.acted < wanted))
        });
        judged.push(ComparedCandidate { model, evaluation, ranking, worth, counts });
    }
    judged
}

/// Best first: by a measure that was asked for, by money, or by log loss.
fn order(a: &ComparedCandidate, b: &ComparedCandidate, by: Option<&CompareMeasure>) -> Ordering {
    match (by, a.best(), b.best()) {
        (Some(measure), ..) => {
            let ordering = (measure.value)(a).total_cmp(&(measure.value)(b));
            if measure.more_is_better { ordering.reverse() } else { ordering }
        }
        (None, Some(a), Some(b)) => b.profit.total_cmp(&a.profit),
        _ => a.evaluation.log_loss.total_cmp(&b.evaluation.log_loss),
    }
}

fn line(view: &StudyView, c: &ComparedCandidate, asked: &CompareQuery, base: &str, opened: Option<i64>) -> CompareLine {
    let id = c.model.id;
    CompareLine {
        id,
        name: c.model.name.clone(),
        href: asked.href(base, "model", Some(&id.to_string())),
        stale: view.is_stale(c.model),
        open: Some(id) == opened,
        with: asked.with.contains(&id),
        best_profit: c.best().map(|b| [b.profit, b.low, b.high].map(text::money)),
        figures: asked.set.measures().iter().map(|m| (m.show)(c)).collect(),
    }
}

/// Candidates on a money axis, the best first.
fn standing(
    view: &StudyView,
    candidates: &[ComparedCandidate],
    none_and_all: Option<[f64; 2]>,
    today: Option<ExpectedProfit>,
) -> Option<String> {
    let mut priced: Vec<_> = candidates.iter().filter_map(|c| c.best().map(|best| (c, best))).collect();
    priced.sort_by(|a, b| b.1.profit.total_cmp(&a.1.profit));
    let lines: Vec<_> = priced
        .iter()
        .map(|(c, best)| {
            serde_json::json!({
                "name": c.model.name, "profit": best.profit, "low": best.low, "high": best.high,
                "stale": view.is_stale(c.model),
            })
        })
        .collect();
    (!lines.is_empty())
        .then(|| serde_json::json!({ "lines": lines, "none": none_and_all.map(|b| b[0]), "all": none_and_all.map(|b| b[1]), "today": today }).to_string())
}

fn heading(candidates: &[ComparedCandidate], money: Option<&Money>, sorted_by: Option<&CompareMeasure>) -> String {
    let Some(best) = candidates.first() else { return "No model is fitted yet.".into() };
    let name = &best.model.name;
    let whom = money.map_or(String::new(), Money::whom);
    match (candidates.get(1), sorted_by) {
        (Some(second), Some(measure)) => format!(
            "By {}, {} is first: {}, against {} of {}.",
            measure.name,
            name.to_lowercase(),
            (measure.show)(best),
            (measure.show)(second),
            second.model.name.to_lowercase()
        ),
        (None, _) if money.is_some() => {
            let profit = best.best().map_or(String::new(), |b| text::money(b.profit));
            format!("{name}: expected profit {profit} {whom}.")
        }
        (None, _) => format!("{name} is the only candidate so far."),
        (Some(second), None) => match (best.best(), second.best()) {
            (Some(a), Some(b)) if a.profit - b.profit < 0.005 => format!(
                "{} and {} have the same expected profit: {} {}.",
                name.to_lowercase(),
                second.model.name.to_lowercase(),
                text::money(a.profit),
                whom
            ),
            (Some(a), Some(b)) => format!(
                "Highest expected profit: {}, {} {}, {} more than {}{}.",
                name.to_lowercase(),
                text::money(a.profit),
                whom,
                text::money(a.profit - b.profit),
                second.model.name.to_lowercase(),
                if b.high >= a.low { ", not a significant difference" } else { "" }
            ),
            _ => format!(
                "Lowest log loss: {}, {}, against {} of {}.",
                name.to_lowercase(),
                text::fixed(best.evaluation.log_loss, 4),
                text::fixed(second.evaluation.log_loss, 4),
                second.model.name.to_lowercase()
            ),
        },
    }
}

async fn pair(
    app: &App,
    [a, b]: [&ComparedCandidate<'_>; 2],
    money: Option<&Money>,
) -> Result<Option<PairView>, ServiceError> {
    let Some(paired) = app.store.paired(a.model.id, b.model.id).await? else { return Ok(None) };
    // Each from its own best point, or on as many customers as all are compared at.
    let from = |c: &ComparedCandidate| {
        let acted = || {
            c.ranking
                .as_ref()
                .map_or(1.0, |r| r.stands[r.stands.partition_point(|s| s.acted < c.counts.acted())].cut_off)
        };
        c.best().map_or_else(acted, |best| best.cut_off)
    };
    Ok(Some(PairView::of([a, b], [from(a), from(b)], &paired, money)))
}

fn confusion(
    view: &StudyView,
    c: &ComparedCandidate,
    row: &model::Model,
    asked: Option<f64>,
) -> Result<Option<ConfusionView>, ServiceError> {
    let Some(ranking) = c.ranking.as_ref() else { return Ok(None) };
    let policy =
        view.state.policy.as_ref().filter(|p| p.model_id == c.model.id).and_then(|p| cut_off_of(&p.policy.rule));
    let cut_off = asked.or(policy).unwrap_or(ranking.events as f64 / ranking.rows as f64);
    let counts = ranking.confusion(ranking.position_of(cut_off));
    Ok(Some(ConfusionView {
        id: c.model.id,
        name: c.model.name.clone(),
        cut_off: text::fixed(cut_off, 3),
        of_acted: text::fixed(counts.precision() * 100.0, 0),
        of_events: text::fixed(counts.recall() * 100.0, 0),
        parts: parts(view, row, ranking, cut_off)?,
        counts,
    }))
}
