//! Train: candidates and how they are fitted.

mod detail;
pub mod families;
pub mod search;

use actix_web::web;
use askama::Template;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::study::{Basis, Verdict};
use pronoia_store::jobs::Work;
use pronoia_store::model;
use serde::Deserialize;

use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::error::{PageError, html};
use crate::frame::{Frame, StudyView};
use crate::session::Visitor;
use crate::text;
use detail::Detail;
use families::{FamilyForm, described};
use search::InShort;

#[derive(Template)]
#[template(path = "train.html")]
struct Page {
    frame: Frame,
    base: String,
    ready: bool,
    going_in: usize,
    should_not: usize,
    candidates: Vec<Candidate>,
    families: Vec<FamilyForm>,
    searches: Vec<InShort>,
    searched: Vec<(Family, bool)>,
    budget: (usize, f64),
    priced: bool,
    open: Option<Detail>,
}

struct Candidate {
    model: model::Model,
    settings: String,
    state: &'static str,
    figure: String,
    stale: bool,
    open: bool,
}

/// Which candidate is open.
#[derive(Deserialize)]
pub struct Query {
    model: Option<i64>,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<Query>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let mut candidates = Vec::new();
    for model in view.models.iter().rev() {
        let figure = match (model.judged()?, &model.error) {
            (Some(e), _) => format!(
                "area under ROC {} on {} {} rows; fitted in {} s",
                text::fixed(e.area_under_roc, 3),
                text::count(e.rows),
                model.fitted_on()?.split.judged_on(),
                text::fixed(model.fit_seconds.unwrap_or(0.0), 2)
            ),
            (None, Some(error)) => error.clone(),
            _ => String::new(),
        };
        candidates.push(Candidate {
            settings: described(&model.asked()?),
            state: match model.state.as_str() {
                "queued" => "in the works",
                "fitted" => "fitted",
                "failed" => "not fitted",
                _ => "stopped",
            },
            figure,
            stale: view.is_stale(model),
            open: query.model == Some(model.id),
            model: model.clone(),
        });
    }
    let open = match query.model.filter(|id| view.models.iter().any(|m| m.id == *id && m.state == "fitted")) {
        Some(id) => Some(Detail::of(&app.store.model(id).await?)?),
        None => None,
    };
    let base = view.href("train");
    let rows = app.store.searches(view.study.id).await?;
    let searches = rows.iter().map(|row| InShort::of(row, &base)).collect::<Result<_, _>>()?;
    let frame = Frame::of_study(&app, &visitor, &view, 4).await?;
    html(&Page {
        frame,
        base,
        ready: view.state.outcome.is_some(),
        going_in: view.state.columns.iter().filter(|c| c.goes_in()).count(),
        should_not: view.state.columns.iter().filter(|c| c.stands_under() == Verdict::ShouldNotGoIn).count(),
        candidates,
        families: FamilyForm::all(),
        searches,
        searched: search::families(),
        budget: search::BUDGET,
        priced: view.state.policy.is_some(),
        open,
    })
}

/// What a candidate would be fitted on now; better refused here than by the job.
fn ready_basis(view: &StudyView) -> Result<Basis, PageError> {
    let basis = view.state.basis().ok_or_else(|| {
        PageError::Refused("Say first what happened, at Prepare: without an outcome nothing can be learned.".into())
    })?;
    if basis.predictors.is_empty() {
        return Err(PageError::Refused(
            "No column goes in. Give at least one the role “predictor”, at Prepare.".into(),
        ));
    }
    basis.columns_read(&super::steps::kinds_of(view)?).map_err(|e| PageError::Refused(e.to_string()))?;
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
    let mut settings = Settings::of_family(&form.family).ok_or(PageError::NotFound)?;
    for (name, value) in form.settings.iter().filter(|(_, v)| !v.trim().is_empty()) {
        settings.set(name, value).map_err(|e| PageError::Refused(e.to_string()))?;
    }
    let of_family = view.models.iter().filter(|m| m.name.starts_with(settings.name())).count();
    let name =
        if of_family == 0 { settings.name().to_owned() } else { format!("{} {}", settings.name(), of_family + 1) };
    let id = app.store.add_model(view.study.id, &name, &settings, &basis, view.state.split.seed).await?;
    app.store
        .enqueue(
            visitor.workspace_id(),
            Some(view.study.id),
            &format!("Fitting {}", name.to_lowercase()),
            &Work::Fit { model: id },
        )
        .await?;
    see_other(&view.href("train"))
}

/// A candidate to be fitted once more.
#[derive(Deserialize)]
pub struct Again {
    csrf: String,
    model: i64,
}

/// Puts a candidate that was stopped, failed or is stale in the queue again,
/// with the same settings on the present columns.
pub async fn again(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Again>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let model = view.models.iter().find(|m| m.id == form.model).ok_or(PageError::NotFound)?;
    let basis = view.state.basis().ok_or(PageError::NotFound)?;
    if model.state == "queued" {
        return see_other(&view.href("train"));
    }
    let seed = view.state.split.seed;
    let id = app.store.add_model(view.study.id, &model.name, &model.asked()?, &basis, seed).await?;
    app.store.retire_model(model.id).await?;
    let title = format!("Fitting {}", model.name.to_lowercase());
    app.store.enqueue(visitor.workspace_id(), Some(view.study.id), &title, &Work::Fit { model: id }).await?;
    see_other(&view.href("train"))
}
