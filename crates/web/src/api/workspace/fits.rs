//! Candidates, fitted for a program.

use std::collections::BTreeMap;

use actix_web::{HttpResponse, web};
use pronoia_core::learn::Settings;
use pronoia_service::Queued;
use pronoia_service::train::FitCandidate;
use serde::Deserialize;
use utoipa::ToSchema;

use super::super::answer::{ApiError, ApiProblem};
use super::Program;

use super::jobs::queued;
use crate::App;

/// A candidate to be fitted.
#[derive(Debug, Deserialize, ToSchema)]
pub struct NewCandidate {
    /// `logistic`, `scorecard`, `tree`, `forest`, `boosted`, `network`, `bayes`, `neighbours` or `svm`.
    pub family: String,
    /// Settings that are to be otherwise than usual, by their names on the command line.
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
}

/// Fits a candidate on the present choices of a study.
#[utoipa::path(
    post,
    path = "/api/v1/studies/{id}/fits",
    params(("id" = i64, Path, description = "The study")),
    request_body = NewCandidate,
    responses(
        (status = 202, description = "It is being fitted", body = Queued),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such study in this workspace", body = ApiProblem),
        (status = 413, description = "Too many bytes", body = ApiProblem),
        (status = 415, description = "Not JSON", body = ApiProblem),
        (status = 422, description = "It cannot be fitted; the sentence says why", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn begin(
    app: web::Data<App>,
    program: Program,
    id: web::Path<i64>,
    wanted: Result<web::Json<NewCandidate>, actix_web::Error>,
) -> Result<HttpResponse, ApiError> {
    let NewCandidate { family, settings } = wanted.map_err(|e| ApiError::of_body(&e))?.into_inner();
    app.store.study(program.workspace, *id).await?;
    if Settings::of_family(&family).is_none() {
        let known: Vec<&str> = pronoia_core::learn::Family::ALL.iter().map(|family| family.word).collect();
        return Err(ApiError::Refused(format!("There is no family “{family}”; there are {}.", known.join(", "))));
    }
    Ok(queued(app.perform(program.actor(), FitCandidate { study: *id, family, settings }).await?.job))
}
