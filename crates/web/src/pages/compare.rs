//! Compare: which candidate, in money first.

use actix_web::web;
use askama::Template;
use pronoia_core::cautions;
use pronoia_core::evaluate::{Confusion, Evaluation};
use pronoia_core::study::Question;
use pronoia_store::model;
use serde::Deserialize;

use super::{PageResult, StudyPath};
use crate::App;
use crate::error::{PageError, html};
use crate::frame::{Frame, StudyView, whom};
use crate::session::Visitor;
use crate::text;

#[derive(Template)]
#[template(path = "compare.html")]
struct Page {
    frame: Frame,
    /// What no model was shown, though it goes with the outcome.
    left_out: Option<String>,
    heading: String,
    base: String,
    decide: String,
    priced: bool,
    whom: String,
    standing: Option<String>,
    lines: Vec<Line>,
    everyone_no: String,
    judged_on: String,
    confusion: Option<ConfusionView>,
    meaning: Vec<(&'static str, String)>,
    roc: Option<String>,
    gain: Option<String>,
    gain_finding: String,
    roc_finding: String,
    question: Question,
}

struct Line {
    id: i64,
    name: String,
    stale: bool,
    open: bool,
    best_profit: Option<[String; 3]>,
    low: f64,
    high: f64,
    area: String,
    precision_area: String,
    log_loss: String,
    accuracy: String,
    seconds: String,
}

struct ConfusionView {
    name: String,
    cut_off: String,
    counts: Confusion,
    of_acted: String,
    of_events: String,
}

/// Which candidate's counts are shown, and at what cut-off.
#[derive(Deserialize)]
pub struct Query {
    model: Option<i64>,
    cut_off: Option<f64>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<Query>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let chosen = view.state.policy.clone();
    let population = chosen.as_ref().and_then(|p| p.population);
    let prices = chosen.as_ref().map(|p| p.policy.economics.prices());
    let mut judged: Vec<(&model::Model, Evaluation)> = Vec::new();
    for model in view.fitted() {
        if let Some(evaluation) = model.judged()? {
            judged.push((model, evaluation));
        }
    }
    let opened = query.model.or(view.best()?.map(|m| m.id));
    let (mut standing, mut lines) = (Vec::new(), Vec::new());
    let mut all = None;
    for (model, evaluation) in &judged {
        let mut line = line(&view, model, evaluation, opened)?;
        if let (Some(prices), Some(ranking)) = (&prices, model.ranked()?) {
            let curve = ranking.profit(prices, population.unwrap_or(1_000.0));
            let best = curve[pronoia_core::decide::Best::of(&curve).at];
            all = curve.last().map(|p| p.profit);
            line.0.best_profit = Some([text::money(best.profit), text::money(best.low), text::money(best.high)]);
            (line.0.low, line.0.high) = (best.low, best.high);
            line.1 = best.profit;
            standing.push(serde_json::json!({
                "name": model.name, "profit": best.profit, "low": best.low, "high": best.high,
                "stale": line.0.stale,
            }));
        }
        lines.push(line);
    }
    // Money first where there is a price, otherwise the least log loss.
    lines.sort_by(|a, b| b.1.total_cmp(&a.1));
    standing.sort_by(|a, b| b["profit"].as_f64().unwrap_or(0.0).total_cmp(&a["profit"].as_f64().unwrap_or(0.0)));
    let heading = heading(&lines, prices.is_some(), population);
    let standing =
        (!standing.is_empty()).then(|| serde_json::json!({ "lines": standing, "none": 0.0, "all": all }).to_string());
    let first = judged.first().map(|j| &j.1);
    let everyone_no = first.map_or(String::new(), |e| text::percent(e.accuracy_of_no()));
    let judged_on = first.map_or(String::new(), |e| {
        format!(
            "{} {} customers, {} of whom {}.{}",
            text::count(e.rows),
            view.state.split.judged_on(),
            text::count(e.events),
            view.study.kind().event_verb(),
            super::once_each(&view.state)
        )
    });
    let curve = |pick: fn(&Evaluation) -> &Vec<pronoia_core::evaluate::CurvePoint>, x: &str, y: &str| {
        (!judged.is_empty()).then(|| {
            let lines: Vec<_> = judged
                .iter()
                .map(|(m, e)| serde_json::json!({ "name": m.name, "points": pick(e).iter().map(|p| [p.x, p.y]).collect::<Vec<_>>() }))
                .collect();
            serde_json::json!({ "x": x, "y": y, "percent": true, "diagonal": true, "lines": lines }).to_string()
        })
    };
    let meaning = judged.iter().find(|(m, _)| Some(m.id) == opened).map_or(Vec::new(), |(m, e)| meaning(&view, m, e));
    let confusion = confusion(&view, opened, query.cut_off)?;
    let events = view.study.kind().events_noun();
    let (mut gain_finding, mut roc_finding) = (String::new(), String::new());
    if let Some((model, e)) = judged.iter().find(|(m, _)| Some(m.id) == opened) {
        let found = e.gain.iter().rfind(|p| p.x <= 0.2).map_or(0.0, |p| p.y);
        gain_finding = format!(
            "Acting on the first 20 % by {} finds {} of the {events}",
            model.name.to_lowercase(),
            text::percent(found)
        );
        let others = e.roc.iter().find(|p| p.y >= 0.5).map_or(1.0, |p| p.x);
        roc_finding = format!(
            "Finding half of the {events} by {} takes acting on {} of the others",
            model.name.to_lowercase(),
            text::percent(others)
        );
    }
    let left_out = match app.store.finding(view.study.id).await? {
        Some(finding) if !judged.is_empty() => cautions::left_out(&view.state, &finding.found()?),
        _ => None,
    };
    html(&Page {
        frame: Frame::of_study(&app, &visitor, &view, 5).await?,
        left_out,
        heading,
        base: view.href("compare"),
        decide: view.href("decide"),
        priced: prices.is_some(),
        whom: whom(population),
        standing,
        lines: lines.into_iter().map(|l| l.0).collect(),
        everyone_no,
        judged_on,
        confusion,
        meaning,
        roc: curve(|e| &e.roc, "share of the others acted on", &format!("share of {events} found")),
        gain: curve(|e| &e.gain, "share of customers acted on", &format!("share of {events} found")),
        gain_finding,
        roc_finding,
        question: view.study.kind(),
    })
}

/// A line of the table, and what it is sorted by.
fn line(view: &StudyView, model: &model::Model, e: &Evaluation, opened: Option<i64>) -> Result<(Line, f64), PageError> {
    let accuracy = match model.ranked()? {
        Some(ranking) => text::percent(ranking.confusion(ranking.position_of(0.5)).accuracy()),
        None => "–".into(),
    };
    let line = Line {
        id: model.id,
        name: model.name.clone(),
        stale: view.is_stale(model),
        open: opened == Some(model.id),
        best_profit: None,
        low: f64::NEG_INFINITY,
        high: f64::INFINITY,
        area: text::fixed(e.area_under_roc, 3),
        precision_area: text::fixed(e.average_precision, 3),
        log_loss: text::fixed(e.log_loss, 4),
        accuracy,
        seconds: text::fixed(model.fit_seconds.unwrap_or(0.0), 2),
    };
    Ok((line, -e.log_loss))
}

/// Every measure in plain words, with the counts of the candidate that is open.
fn meaning(view: &StudyView, model: &model::Model, e: &Evaluation) -> Vec<(&'static str, String)> {
    let question = view.study.kind();
    let (left, stayed, events) = (question.event_verb(), question.other_verb(), question.events_noun());
    let rate = e.events as f64 / e.rows.max(1) as f64;
    let rate_loss = -(rate * rate.ln() + (1.0 - rate) * (1.0 - rate).ln());
    vec![
        (
            "area under ROC",
            format!(
                "Take one of the {} customers who {left} and one of the {} who {stayed}: {} puts the first above the second in {} of 100 such pairs. By chance it would be 50.",
                text::count(e.events),
                text::count(e.rows - e.events),
                model.name,
                text::fixed(e.area_under_roc * 100.0, 0)
            ),
        ),
        (
            "precision–recall",
            format!(
                "Going down the list from the most likely, {} of 100 reached at the place of each of the {} {events} are {events} themselves, on average. In a list in any order it would be {}.",
                text::fixed(e.average_precision * 100.0, 0),
                text::count(e.events),
                text::fixed(rate * 100.0, 0)
            ),
        ),
        (
            "log loss",
            format!(
                "How surprised the probabilities are by what happened to the {} customers; less is better. Giving everyone the overall rate, {}, would score {}.",
                text::count(e.rows),
                text::percent(rate),
                text::fixed(rate_loss, 4)
            ),
        ),
        (
            "accuracy",
            format!(
                "Share called rightly when acting from a probability of 0.5. Saying “no” to everyone is right for {} of {}, so that accuracy says little here.",
                text::count(e.rows - e.events),
                text::count(e.rows)
            ),
        ),
    ]
}

fn heading(lines: &[(Line, f64)], priced: bool, population: Option<f64>) -> String {
    let Some((best, value)) = lines.first() else { return "Nothing is fitted yet.".into() };
    match lines.get(1) {
        None if priced => format!("{} can be worth {} {}.", best.name, text::money(*value), whom(population)),
        None => format!("{} is the only candidate so far.", best.name),
        Some((second, other)) if priced => format!(
            "Most comes from {}: {} {}, {} more than from {}{}.",
            best.name.to_lowercase(),
            text::money(*value),
            whom(population),
            text::money(value - other),
            second.name.to_lowercase(),
            if second.high >= best.low { ", which may be chance" } else { "" }
        ),
        Some((second, _)) => format!(
            "The outcome is told best by {}: log loss {}, against {} by {}.",
            best.name.to_lowercase(),
            best.log_loss,
            second.log_loss,
            second.name.to_lowercase()
        ),
    }
}

fn confusion(view: &StudyView, opened: Option<i64>, asked: Option<f64>) -> Result<Option<ConfusionView>, PageError> {
    let Some(model) = view.fitted().find(|m| Some(m.id) == opened) else { return Ok(None) };
    let Some(ranking) = model.ranked()? else { return Ok(None) };
    let policy = view.state.policy.as_ref().filter(|p| p.model_id == model.id).map(|p| p.policy.cut_off);
    let cut_off =
        asked.filter(|c| (0.0..=1.0).contains(c)).or(policy).unwrap_or(ranking.events as f64 / ranking.rows as f64);
    let position = ranking.position_of(cut_off);
    let counts = ranking.confusion(position);
    Ok(Some(ConfusionView {
        name: model.name.clone(),
        cut_off: text::fixed(cut_off, 3),
        of_acted: text::fixed(counts.precision() * 100.0, 0),
        of_events: text::fixed(counts.recall() * 100.0, 0),
        counts,
    }))
}
