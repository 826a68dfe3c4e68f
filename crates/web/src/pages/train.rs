//! Train: candidates and how they are fitted.

pub(super) mod detail;
pub mod families;
pub mod tuning;

use std::sync::Arc;

use actix_web::web;
use askama::Template;
use pronoia_core::learn::Family;
use pronoia_core::study::Verdict;
use pronoia_store::jobs::Work;
use pronoia_store::{candidates, job};
use serde::Deserialize;

use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::definitions::{self, Meanings};
use crate::error::html;
use crate::frame::Frame;
use crate::session::Visitor;
pub use detail::CandidateDetail;
pub(super) use detail::{DetailTable, card};
use families::{FamilyForm, made_by};
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_service::train::ProveReproducibility;
use pronoia_service::train::{FitCandidate, FitEnsemble, RefitCandidate, RemoveCandidate};
use tuning::InShort;

#[derive(Template)]
#[template(path = "train/train.html")]
struct TrainPage {
    frame: Frame,
    base: String,
    ready: bool,
    going_in: usize,
    should_not: usize,
    candidates: Vec<CandidateLine>,
    /// How many of them can be members of a blend.
    blendable: usize,
    families: Vec<FamilyForm>,
    searches: Vec<InShort>,
    searched: Vec<(Family, bool)>,
    budget: (usize, f64),
    priced: bool,
    open: Option<CandidateDetail>,
    /// Of the newest candidate that was judged.
    meaning: Meanings,
}

struct CandidateLine {
    model: Arc<candidates::StoredCandidate>,
    settings: String,
    state: &'static str,
    figure: String,
    stale: bool,
    open: bool,
    /// Whether it can be a member of a blend: fitted on the present choices, and no
    /// blend itself.
    can_be_blended: bool,
    /// The job that fitted it, or does.
    job: Option<i64>,
    /// That job, while it waits or runs.
    running: Option<job::Model>,
}

/// Which candidate is open.
#[derive(Deserialize)]
pub struct TrainQuery {
    model: Option<i64>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<TrainQuery>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let jobs = app.store.fits_of_study(view.study.id).await?;
    let (mut candidates, mut meaning) = (Vec::new(), Meanings::new());
    for model in view.models.iter().rev() {
        let judged = model.judged()?;
        if let Some(e) = judged.filter(|_| meaning.is_empty()) {
            meaning.push(("AUC (ROC)", definitions::area(e, &model.name, view.study.kind())));
        }
        let figure = match (judged, &model.error) {
            (Some(e), _) => format!(
                "AUC (ROC) {} on {} {} rows; fitted in {} s",
                text::fixed(e.area_under_roc, 3),
                text::count(e.rows),
                model.fitted_on()?.split.judged_on(),
                text::fixed(model.fit_seconds.unwrap_or(0.0), 2)
            ),
            (None, Some(error)) => error.clone(),
            _ => String::new(),
        };
        let recipe = model.recipe()?;
        let job = jobs.iter().find(|job| job.is_to(&Work::Fit { model: model.id }));
        let stale = view.is_stale(model);
        candidates.push(CandidateLine {
            settings: made_by(&recipe),
            can_be_blended: model.state == "fitted" && !stale && recipe.members().len() == 1,
            job: job.map(|job| job.id),
            running: job.filter(|job| model.state == "queued" && job.finished_at.is_none()).cloned(),
            state: match model.state.as_str() {
                "queued" => "in progress",
                "fitted" => "fitted",
                "failed" => "not fitted",
                _ => "stopped",
            },
            figure,
            stale,
            open: query.model == Some(model.id),
            model: Arc::clone(model),
        });
    }
    let open = match query.model.filter(|id| view.models.iter().any(|m| m.id == *id && m.state == "fitted")) {
        Some(id) => Some(CandidateDetail::of(&app.store.model(id).await?)?),
        None => None,
    };
    let base = view.href("train");
    let rows = app.store.searches(view.study.id).await?;
    let searches = rows.iter().map(|row| InShort::of(row, &base)).collect::<Result<_, _>>()?;
    let frame = Frame::of_study(&app, &visitor, &view, 4).await?;
    html(&TrainPage {
        frame,
        base,
        ready: view.state.outcome.is_some(),
        going_in: view.state.columns.iter().filter(|c| c.goes_in()).count(),
        should_not: view.state.columns.iter().filter(|c| c.stands_under() == Verdict::ShouldNotGoIn).count(),
        blendable: candidates.iter().filter(|c| c.can_be_blended).count(),
        candidates,
        families: FamilyForm::all(),
        searches,
        searched: tuning::families(),
        budget: pronoia_service::train::BUDGET,
        priced: view.state.policy.is_some(),
        open,
        meaning,
    })
}

/// Family and settings as typed.
#[derive(Deserialize)]
pub struct FitForm {
    csrf: String,
    family: String,
    #[serde(flatten)]
    settings: std::collections::BTreeMap<String, String>,
}

/// Puts a candidate in the queue.
pub async fn begin(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<FitForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let FitForm { family, mut settings, .. } = form.into_inner();
    settings.retain(|_, value| !value.trim().is_empty());
    app.perform(visitor.actor(), FitCandidate { study: path.id, family, settings }).await?;
    see_other(&format!("/studies/{}/train", path.id))
}

/// Puts a blend of the candidates that were ticked in the queue.
pub async fn blend(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Vec<(String, String)>>,
) -> PageResult {
    let value = |name: &str| form.iter().find(|field| field.0 == name).map_or("", |field| field.1.as_str());
    visitor.check(value("csrf"))?;
    let candidates = form.iter().filter(|field| field.0 == "with").filter_map(|field| field.1.parse().ok()).collect();
    let mix = value("mix").to_owned();
    app.perform(visitor.actor(), FitEnsemble { study: path.id, candidates, mix }).await?;
    see_other(&format!("/studies/{}/train", path.id))
}

/// A candidate that something is to be done with.
#[derive(Deserialize)]
pub struct OfCandidate {
    pub(super) csrf: String,
    pub(super) model: i64,
}

/// Puts a candidate that was stopped, failed or is stale in the queue again,
/// with the same settings on the present columns.
pub async fn again(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), RefitCandidate { study: path.id, candidate: form.model }).await?;
    see_other(&format!("/studies/{}/train", path.id))
}

/// Takes a candidate off the list; lists and policies that use it keep it.
pub async fn retire(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), RemoveCandidate { study: path.id, candidate: form.model }).await?;
    see_other(&format!("/studies/{}/train", path.id))
}

/// Fits a candidate once more on what it was fitted on, to see that it comes out the same.
pub async fn prove(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), ProveReproducibility { study: path.id, candidate: form.model }).await?;
    see_other(&format!("/studies/{}/train?model={}#open", path.id, form.model))
}
