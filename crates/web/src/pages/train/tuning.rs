//! Searches over families and settings: asked for, and what came of them.

use actix_web::web;
use askama::Template;
use pronoia_core::learn::Family;
use pronoia_core::tune::{Ended, SEARCHED, TriedCandidate, TuningMeasure, TuningRun};
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_service::train::BeginSearch;
use pronoia_store::search;
use serde::Deserialize;

use super::families::described;
use crate::App;
use crate::error::{PageResult, html, see_other};
use crate::frame::Frame;
use crate::session::Visitor;

/// The families of the form, and whether each is ticked.
pub fn families() -> Vec<(Family, bool)> {
    Family::ALL.into_iter().map(|family| (family, SEARCHED.contains(&family.word))).collect()
}

/// A search in a line.
pub struct InShort {
    pub href: String,
    pub when: String,
    pub sentence: String,
}

impl InShort {
    /// A search of a study.
    pub fn of(row: &search::Model, base: &str) -> Result<Self, ServiceError> {
        let search = row.so_far()?;
        let tried = text::counted(search.tried.len(), "candidate tried", "candidates tried");
        let best = search.best().map_or(String::new(), |best| {
            format!("; best so far {}, {}", best.settings.name().to_lowercase(), shown(search.plan.measure, best))
        });
        let state = match row.state.as_str() {
            "queued" => "in progress",
            "done" => "ended",
            "failed" => "failed",
            _ => "stopped",
        };
        Ok(Self {
            href: format!("{base}/search/{}", row.id),
            when: text::moment(&row.created_at),
            sentence: format!("{state}; {tried}{best}"),
        })
    }
}

/// The measure of a candidate in words.
fn shown(measure: TuningMeasure, tried: &TriedCandidate) -> String {
    let loss = tried.loss();
    match measure {
        TuningMeasure::LogLoss => format!("log loss {} ± {}", text::fixed(loss, 4), text::fixed(tried.error(), 4)),
        TuningMeasure::Area => format!("AUC (ROC) {} ± {}", text::fixed(1.0 - loss, 4), text::fixed(tried.error(), 4)),
        TuningMeasure::Profit(_) => {
            format!("{} ± {} per {} customers", text::money(-loss), text::money(tried.error()), text::count(1_000))
        }
    }
}

#[derive(Template)]
#[template(path = "train/tuning.html")]
struct TuningPage {
    frame: Frame,
    train: String,
    heading: String,
    sentence: String,
    problem: Option<String>,
    lines: Vec<TriedLine>,
    curve: Option<String>,
    finding: String,
    /// Why another candidate than the best was taken.
    instead: Option<String>,
    found: Option<(String, String)>,
}

struct TriedLine {
    number: usize,
    family: &'static str,
    settings: String,
    measure: String,
    seconds: String,
    best: bool,
}

/// Which search.
#[derive(Deserialize)]
pub struct SearchPath {
    id: i64,
    search: i64,
}

/// What a search has tried.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<SearchPath>) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let row = app.store.search(path.search).await?;
    if row.study_id != view.study.id {
        return Err(ServiceError::NotFound.into());
    }
    let search = row.so_far()?;
    let train = view.href("train");
    let heading = match search.best() {
        Some(best) => format!("Best of {}: {}.", search.tried.len(), best.settings.name().to_lowercase()),
        None => "Nothing is tried yet.".into(),
    };
    let instead = row.model_id.and_then(|_| instead(&search));
    let found = row.model_id.and_then(|id| view.models.iter().find(|m| m.id == id));
    let (curve, finding) = curve(&search);
    html(&TuningPage {
        frame: Frame::of_study(&app, &visitor, &view, 4).await?,
        heading,
        sentence: sentence(&row, &search),
        problem: row.error.clone(),
        lines: lines(&search),
        curve,
        finding,
        instead,
        found: found.map(|m| (format!("{train}?model={}#open", m.id), m.name.clone())),
        train,
    })
}

/// How candidates were judged, and why the search ended.
fn sentence(row: &search::Model, search: &TuningRun) -> String {
    let judged = match search.plan.measure {
        TuningMeasure::LogLoss => "log loss".to_owned(),
        TuningMeasure::Area => "AUC (ROC)".to_owned(),
        TuningMeasure::Profit(_) => format!("profit at the best cut-off, per {} customers", text::count(1_000)),
    };
    let why = match (row.ended(), row.state.as_str()) {
        (Some(Ended::Candidates), _) => "It ended with the number of candidates asked for.",
        (Some(Ended::Time), _) => "It ended at its time limit.",
        (Some(Ended::NothingMore), _) => "It ended because the last candidates brought no improvement.",
        (None, "queued") => "It is running.",
        (None, "stopped") => "It was cancelled; what was tried stays.",
        _ => "",
    };
    format!("Evaluated by out-of-fold {judged} on training rows. Seed {}. {why}", search.plan.seed)
}

/// Why another candidate than the best was taken, if so.
fn instead(search: &TuningRun) -> Option<String> {
    let ((found, behind), best) = search.found().zip(search.best())?;
    let number = search.tried.iter().position(|tried| tried == found)? + 1;
    let figure = |x: f64| match search.plan.measure {
        TuningMeasure::LogLoss | TuningMeasure::Area => text::fixed(x, 4),
        TuningMeasure::Profit(_) => text::money(x),
    };
    (found.settings.family() != best.settings.family()).then(|| {
        format!(
            "Candidate {number}, {}, is behind by {} ± {} (standard error), within one standard error, and easier to interpret. It was taken.",
            found.settings.name().to_lowercase(),
            figure(behind.by),
            figure(behind.error)
        )
    })
}

fn lines(search: &TuningRun) -> Vec<TriedLine> {
    let best = search.best();
    let mut lines: Vec<(usize, &TriedCandidate)> = search.tried.iter().enumerate().collect();
    lines.sort_by(|a, b| a.1.loss().total_cmp(&b.1.loss()));
    let line = |(at, tried): (usize, &TriedCandidate)| TriedLine {
        number: at + 1,
        family: tried.settings.name(),
        settings: described(&tried.settings),
        measure: match &tried.failed {
            Some(why) => why.clone(),
            None if tried.loss().is_infinite() => "stopped after one fold".into(),
            None => shown(search.plan.measure, tried),
        },
        seconds: text::fixed(tried.seconds, 1),
        best: Some(tried) == best,
    };
    lines.into_iter().map(line).collect()
}

/// The best so far, candidate by candidate.
fn curve(search: &TuningRun) -> (Option<String>, String) {
    let mut best = f64::INFINITY;
    let mut points = Vec::new();
    for (at, tried) in search.tried.iter().enumerate() {
        best = best.min(tried.loss());
        if best.is_finite() {
            let value = match search.plan.measure {
                TuningMeasure::LogLoss => best,
                TuningMeasure::Area => 1.0 - best,
                TuningMeasure::Profit(_) => -best,
            };
            points.push([at as f64 + 1.0, value]);
        }
    }
    let Some(last) = search.tried.iter().position(|t| Some(t) == search.best()) else { return (None, String::new()) };
    let y = match search.plan.measure {
        TuningMeasure::LogLoss => "log loss",
        TuningMeasure::Area => "AUC (ROC)",
        TuningMeasure::Profit(_) => "profit",
    };
    let finding = format!("The best was candidate {} of {}", last + 1, search.tried.len());
    let data = serde_json::json!({ "x": "candidates", "y": y, "lines": [{ "name": "best so far", "points": points }] });
    ((points.len() > 1).then(|| data.to_string()), finding)
}

/// Asks for a search.
pub async fn begin(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<super::StudyPath>,
    form: web::Form<Vec<(String, String)>>,
) -> PageResult {
    let value = |name: &str| form.iter().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    visitor.check(value("csrf"))?;
    let number = |name: &str, label: &str| match value(name) {
        "" => Ok(None),
        typed => text::typed_number(typed).map(Some).map_err(|e| ServiceError::Refused(format!("{label}: {e}"))),
    };
    let search = BeginSearch {
        study: path.id,
        families: form.iter().filter(|f| f.0 == "families").map(|f| f.1.clone()).collect(),
        measure: value("measure").to_owned(),
        candidates: number("candidates", "Candidates at most")?,
        minutes: number("minutes", "Minutes at most")?,
    };
    let search = app.perform(visitor.actor(), search).await?.id;
    see_other(&format!("/studies/{}/train/search/{search}", path.id))
}
