//! What is being worked at.

use actix_web::{HttpResponse, web};
use serde::Serialize;
use utoipa::ToSchema;

use pronoia_service::Queued;

use super::super::answer::{ApiError, ApiProblem};
use super::Program;
use crate::App;

/// A job.
#[derive(Debug, Serialize, ToSchema)]
pub struct JobSummary {
    /// Its key.
    pub id: i64,
    /// What it is for.
    pub title: String,
    /// `queued`, `running`, `done`, `failed` or `stopped`.
    pub state: String,
    /// Where it is, in words.
    pub stage: String,
    /// Share done, 0 to 1.
    pub share: f64,
    /// Why it failed, or the page that shows what came of it.
    pub outcome: Option<String>,
}

/// Put in the queue.
pub fn queued(job: i64) -> HttpResponse {
    HttpResponse::Accepted().json(Queued { job })
}

/// How far a job is.
#[utoipa::path(
    get,
    path = "/api/v1/jobs/{id}",
    params(("id" = i64, Path, description = "The job")),
    responses(
        (status = 200, description = "Its progress", body = JobSummary),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such job in this workspace", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn one(app: web::Data<App>, program: Program, id: web::Path<i64>) -> Result<HttpResponse, ApiError> {
    let job = app.store.job(program.workspace, *id).await?;
    Ok(HttpResponse::Ok().json(JobSummary {
        id: job.id,
        title: job.title,
        state: job.state,
        stage: job.stage,
        share: job.share,
        outcome: job.outcome,
    }))
}
