//! Train: candidates and how they are fitted.

pub(super) mod detail;
pub mod families;
pub mod tuning;

use std::sync::Arc;

use actix_web::web;
use askama::Template;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::{Ensemble, Mix, Recipe};
use pronoia_core::study::{Basis, Verdict};
use pronoia_store::fits::NewFit;
use pronoia_store::jobs::Work;
use pronoia_store::{candidates, job};
use serde::Deserialize;

use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::definitions::{self, Meanings};
use crate::error::{PageError, html};
use crate::frame::Frame;
use crate::session::Visitor;
pub use detail::CandidateDetail;
pub(super) use detail::{DetailTable, card};
use families::{FamilyForm, made_by};
use pronoia_service::ServiceError;
use pronoia_service::budget::bytes_needed;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
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
        budget: tuning::BUDGET,
        priced: view.state.policy.is_some(),
        open,
        meaning,
    })
}

/// What a candidate would be fitted on now; better refused here than by the job.
fn ready_basis(view: &StudyView) -> Result<Basis, ServiceError> {
    let basis = view.state.basis().ok_or_else(|| ServiceError::Refused("First set the outcome, at Prepare.".into()))?;
    if basis.predictors.is_empty() {
        return Err(ServiceError::Refused(
            "There are no predictors. Give at least one column the role “predictor”, at Prepare.".into(),
        ));
    }
    basis.columns_read(&view.table.kinds()?).map_err(|e| ServiceError::Refused(e.to_string()))?;
    Ok(basis)
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
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let basis = ready_basis(&view)?;
    let mut settings = Settings::of_family(&form.family).ok_or(ServiceError::NotFound)?;
    for (name, value) in form.settings.iter().filter(|(_, v)| !v.trim().is_empty()) {
        settings.set(name, value).map_err(|e| ServiceError::Refused(e.to_string()))?;
    }
    fit(&app, &view, &settings.into(), &basis).await?;
    see_other(&view.href("train"))
}

/// Fits a candidate beside those that are there, on the present choices; the job.
pub async fn fit_beside(app: &App, view: &StudyView, recipe: &Recipe) -> Result<i64, ServiceError> {
    fit(app, view, recipe, &ready_basis(view)?).await
}

/// Puts a candidate in the queue, and gives the job; refused here rather than by the job if there
/// will never be memory for it.
async fn fit(app: &App, view: &StudyView, recipe: &Recipe, basis: &Basis) -> Result<i64, ServiceError> {
    app.memory.check(bytes_needed(&view.table, basis, recipe)?).map_err(ServiceError::Refused)?;
    let fit = NewFit { name: recipe.name(), recipe, basis, seed: view.state.split.seed };
    let model = app.store.queue_fit(&view.study, &fit, None).await?;
    let jobs = app.store.jobs_to(view.study.workspace_id, &Work::Fit { model }).await?;
    Ok(jobs.first().map_or(0, |job| job.id))
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
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let basis = ready_basis(&view)?;
    let mix: Mix = value("mix").parse().map_err(ServiceError::Refused)?;
    let mut members = Vec::new();
    for (_, id) in form.iter().filter(|field| field.0 == "with") {
        let model = view.fitted().find(|m| m.id.to_string() == *id).ok_or_else(|| {
            ServiceError::Refused(
                "One of the candidates is gone, or is not fitted. Tick those that are there now.".into(),
            )
        })?;
        if view.is_stale(model) {
            return Err(ServiceError::Refused(format!(
                "{} is stale. Fit it again, then add it to an ensemble.",
                model.name
            ))
            .into());
        }
        members.extend(model.recipe()?.members().iter().cloned());
    }
    let blend = Ensemble::new(mix, members).map_err(ServiceError::Refused)?;
    fit(&app, &view, &Recipe::Blend(blend), &basis).await?;
    see_other(&view.href("train"))
}

/// A candidate that something is to be done with.
#[derive(Deserialize)]
pub struct OfCandidate {
    csrf: String,
    model: i64,
}

/// The study, and the candidate on its list that a signed form asks for.
async fn asked_for(
    app: &App,
    visitor: &Visitor,
    study: i64,
    form: &OfCandidate,
) -> Result<(StudyView, Arc<candidates::StoredCandidate>), PageError> {
    visitor.check(&form.csrf)?;
    let view = StudyView::load(app, visitor.workspace_id(), study).await?;
    let model = view.models.iter().find(|m| m.id == form.model).cloned().ok_or(ServiceError::NotFound)?;
    Ok((view, model))
}

/// The same, of a candidate that is fitted.
pub(super) async fn fitted_asked_for(
    app: &App,
    visitor: &Visitor,
    study: i64,
    form: &OfCandidate,
) -> Result<(StudyView, Arc<candidates::StoredCandidate>), PageError> {
    let (view, model) = asked_for(app, visitor, study, form).await?;
    if model.state == "fitted" { Ok((view, model)) } else { Err(ServiceError::NotFound.into()) }
}

/// Puts a candidate that was stopped, failed or is stale in the queue again,
/// with the same settings on the present columns.
pub async fn again(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    let (view, model) = asked_for(&app, &visitor, path.id, &form).await?;
    if model.state != "queued" {
        fit_again(&app, &view, &model, &model.recipe()?).await?;
    }
    see_other(&view.href("train"))
}

/// Fits a candidate in another's place, by a recipe of its own.
pub(super) async fn fit_again(
    app: &App,
    view: &StudyView,
    model: &candidates::StoredCandidate,
    recipe: &Recipe,
) -> Result<(), ServiceError> {
    let basis = ready_basis(view)?;
    app.memory.check(bytes_needed(&view.table, &basis, recipe)?).map_err(ServiceError::Refused)?;
    let fit = NewFit { name: &model.name, recipe, basis: &basis, seed: view.state.split.seed };
    app.store.queue_fit(&view.study, &fit, Some(model.id)).await?;
    Ok(())
}

/// Takes a candidate off the list; lists and policies that use it keep it.
pub async fn retire(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    let (view, model) = asked_for(&app, &visitor, path.id, &form).await?;
    if model.state == "queued" {
        return Err(ServiceError::Refused(format!("{} is being fitted. Cancel its job first.", model.name)).into());
    }
    app.store.retire_model(model.id).await?;
    let chosen = format!("{} removed from the list", model.name);
    app.store.note(view.study.id, Some(visitor.account_id()), &chosen, "what uses it keeps it").await?;
    see_other(&view.href("train"))
}

/// Fits a candidate once more on what it was fitted on, to see that it comes out the same.
pub async fn prove(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OfCandidate>,
) -> PageResult {
    let (view, model) = fitted_asked_for(&app, &visitor, path.id, &form).await?;
    let work = Work::Prove { model: model.id };
    super::ask_once(
        &app,
        &view.study,
        &format!("Refitting {} to prove reproducibility", model.name.to_lowercase()),
        &work,
    )
    .await?;
    see_other(&format!("{}?model={}#open", view.href("train"), model.id))
}
