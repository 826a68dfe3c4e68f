//! Studies: what is asked of a table, and what was found so far.

use actix_web::http::header::ETAG;
use actix_web::{HttpResponse, web};
use pronoia_core::study::Outcome;
use pronoia_service::studies::CreateStudy;
use pronoia_service::study_view::StudyView;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::super::answer::{ApiError, ApiProblem, entity_tag};
use super::Program;
use crate::App;

/// A study.
#[derive(Debug, Serialize, ToSchema)]
pub struct Study {
    /// Its key.
    pub id: i64,
    /// The question.
    pub title: String,
    /// `churn`, `credit`, `response` or `other`.
    pub question: String,
    /// The table that it is asked of.
    pub table: i64,
    /// What the event is, in words; none until somebody has said so.
    pub event: Option<String>,
    /// Its candidates.
    pub candidates: Vec<CandidateSummary>,
    /// On whom the policy acts, in words; none until one is kept.
    pub policy: Option<String>,
}

/// A candidate.
#[derive(Debug, Serialize, ToSchema)]
pub struct CandidateSummary {
    /// Its key.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// `queued`, `fitted`, `failed` or `stopped`.
    pub state: String,
    /// Whether it was fitted on other choices than the present ones.
    pub stale: bool,
    /// Area under the ROC curve on customers that it had not met.
    pub area_under_roc: Option<f64>,
    /// Mean log loss on the same.
    pub log_loss: Option<f64>,
}

impl Study {
    fn of(view: &StudyView) -> Result<Self, ApiError> {
        let mut candidates = Vec::new();
        for model in &view.models {
            let judged = model.judged()?;
            candidates.push(CandidateSummary {
                id: model.id,
                name: model.name.clone(),
                state: model.state.clone(),
                stale: view.is_stale(model),
                area_under_roc: judged.as_ref().map(|judged| judged.area_under_roc),
                log_loss: judged.as_ref().map(|judged| judged.log_loss),
            });
        }
        Ok(Self {
            id: view.study.id,
            title: view.study.title.clone(),
            question: view.study.question.clone(),
            table: view.table.id,
            event: view.state.outcome.as_ref().map(Outcome::words),
            candidates,
            policy: view.state.policy.as_ref().map(|chosen| chosen.policy.rule.in_words()),
        })
    }
}

/// The studies of the workspace, newest first.
#[utoipa::path(
    get,
    path = "/api/v1/studies",
    responses(
        (status = 200, description = "The studies", body = Vec<Study>),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn all(app: web::Data<App>, program: Program) -> Result<HttpResponse, ApiError> {
    let mut studies = Vec::new();
    for study in app.store.studies(program.workspace).await? {
        studies.push(Study::of(&StudyView::load(&app, program.workspace, study.id).await?)?);
    }
    Ok(HttpResponse::Ok().json(studies))
}

/// A study.
#[utoipa::path(
    get,
    path = "/api/v1/studies/{id}",
    params(("id" = i64, Path, description = "The study")),
    responses(
        (status = 200, description = "The study", body = Study),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such study in this workspace", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn one(app: web::Data<App>, program: Program, id: web::Path<i64>) -> Result<HttpResponse, ApiError> {
    let view = StudyView::load(&app, program.workspace, *id).await?;
    let tag = (ETAG, entity_tag(view.study.revision));
    Ok(HttpResponse::Ok().insert_header(tag).json(Study::of(&view)?))
}

/// A question about a table.
#[derive(Debug, Deserialize, ToSchema)]
pub struct NewStudy {
    /// The table.
    pub table: i64,
    /// The question in a sentence.
    pub title: String,
    /// `churn`, `credit`, `response` or `other`.
    pub question: String,
    /// The column that says what happened.
    pub outcome: String,
    /// Its value where the event happened.
    pub event: String,
}

/// Begins a study, says what the event is, and leaves out what is proposed to be left out.
#[utoipa::path(
    post,
    path = "/api/v1/studies",
    request_body = NewStudy,
    responses(
        (status = 201, description = "The study", body = Study),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such table in this workspace", body = ApiProblem),
        (status = 413, description = "Too many bytes", body = ApiProblem),
        (status = 415, description = "Not JSON", body = ApiProblem),
        (status = 422, description = "The question cannot be asked; the sentence says why", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn begin(
    app: web::Data<App>,
    program: Program,
    asked: Result<web::Json<NewStudy>, actix_web::Error>,
) -> Result<HttpResponse, ApiError> {
    let asked = asked.map_err(|e| ApiError::of_body(&e))?;
    let NewStudy { table, title, question, outcome, event } = asked.into_inner();
    let outcome = Some(Outcome::is(&outcome, &event));
    let study = app.perform(program.actor(), CreateStudy { table, title, question, outcome }).await?.id;
    Ok(HttpResponse::Created().json(Study::of(&StudyView::load(&app, program.workspace, study).await?)?))
}
