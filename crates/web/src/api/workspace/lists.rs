//! Lists, scored for a program.

use actix_web::{HttpResponse, web};
use pronoia_core::score::Extras;
use pronoia_core::write::FileFormat;
use pronoia_service::Queued;
use pronoia_service::lists::{ImportList, ScoreList};
use pronoia_store::{StoreError, list};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::super::answer::{ApiError, ApiProblem};
use super::Program;

use super::jobs::queued;
use crate::App;
use crate::file_download::Taking;

/// A list of a study.
#[derive(Debug, Serialize, ToSchema)]
pub struct List {
    /// Its key.
    pub id: i64,
    /// The table of its customers.
    pub table: i64,
    /// `matched`, `scoring`, `scored`, `failed` or `stopped`.
    pub state: String,
    /// Columns that the model needs and that the list does not have; somebody has to say at its page
    /// what they are.
    pub lacking: Vec<String>,
    /// How many are to be acted on.
    pub acted: Option<i64>,
    /// What acting on them is expected to gain.
    pub expected_gain: Option<f64>,
}

async fn find(app: &App, program: Program, (study, id): (i64, i64)) -> Result<list::Model, ApiError> {
    let study = app.store.study(program.workspace, study).await?;
    let lists = app.store.lists(study.id).await?;
    lists.into_iter().find(|list| list.id == id).ok_or(StoreError::NotFound("This list").into())
}

/// The lists of a study, newest first.
#[utoipa::path(
    get,
    path = "/api/v1/studies/{id}/lists",
    params(("id" = i64, Path, description = "The study")),
    responses(
        (status = 200, description = "The lists", body = Vec<List>),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such study in this workspace", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn all(app: web::Data<App>, program: Program, id: web::Path<i64>) -> Result<HttpResponse, ApiError> {
    let study = app.store.study(program.workspace, *id).await?;
    let mut lists = Vec::new();
    for list in app.store.lists(study.id).await? {
        let lacking = list.matched()?.lacking().into_iter().map(str::to_owned).collect();
        lists.push(List {
            id: list.id,
            table: list.table_id,
            state: list.state,
            lacking,
            acted: list.acted,
            expected_gain: list.gain,
        });
    }
    Ok(HttpResponse::Ok().json(lists))
}

/// Customers that are to be scored.
#[derive(Debug, Deserialize, ToSchema)]
pub struct NewList {
    /// Their table.
    pub table: i64,
}

/// Takes a table as a list, and matches it to the model of the policy.
#[utoipa::path(
    post,
    path = "/api/v1/studies/{id}/lists",
    params(("id" = i64, Path, description = "The study")),
    request_body = NewList,
    responses(
        (status = 202, description = "It is being matched", body = Queued),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such study or table in this workspace", body = ApiProblem),
        (status = 413, description = "Too many bytes", body = ApiProblem),
        (status = 415, description = "Not JSON", body = ApiProblem),
        (status = 422, description = "No policy is kept, or the body cannot be read", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn bring(
    app: web::Data<App>,
    program: Program,
    id: web::Path<i64>,
    brought: Result<web::Json<NewList>, actix_web::Error>,
) -> Result<HttpResponse, ApiError> {
    app.store.study(program.workspace, *id).await?;
    let brought = brought.map_err(|e| ApiError::of_body(&e))?;
    Ok(queued(app.perform(program.actor(), ImportList { study: *id, table: brought.table }).await?.job))
}

/// What a scored list is to hold beside probability and decision.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(default)]
pub struct ScoringRequest {
    /// The probability of the other outcome, too.
    pub other_probability: bool,
    /// What acting is expected to gain.
    pub gain: bool,
    /// The tenth of the customers judged that the probability falls into.
    pub band: bool,
    /// What the model had not met.
    pub remarks: bool,
    /// So many of the greatest reasons.
    pub reasons: usize,
}

/// Scores a list that is matched.
#[utoipa::path(
    post,
    path = "/api/v1/studies/{id}/lists/{list}/score",
    params(("id" = i64, Path, description = "The study"), ("list" = i64, Path, description = "The list")),
    request_body = ScoringRequest,
    responses(
        (status = 202, description = "It is being scored", body = Queued),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such list in this workspace", body = ApiProblem),
        (status = 413, description = "Too many bytes", body = ApiProblem),
        (status = 415, description = "Not JSON", body = ApiProblem),
        (status = 422, description = "It cannot be scored; the sentence says why", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn score(
    app: web::Data<App>,
    program: Program,
    path: web::Path<(i64, i64)>,
    wanted: Result<web::Json<ScoringRequest>, actix_web::Error>,
) -> Result<HttpResponse, ApiError> {
    let list = find(&app, program, *path).await?;
    let wanted = wanted.map_err(|e| ApiError::of_body(&e))?.into_inner();
    let ScoringRequest { other_probability, gain, band, remarks, reasons } = wanted;
    let extras = Extras { other_probability, gain, band, remarks, reasons };
    Ok(queued(app.perform(program.actor(), ScoreList { study: path.0, list: list.id, extras }).await?.job))
}

/// A scored list as a file.
#[utoipa::path(
    get,
    path = "/api/v1/studies/{id}/lists/{list}/scored.{form}",
    params(
        ("id" = i64, Path, description = "The study"),
        ("list" = i64, Path, description = "The list"),
        ("form" = String, Path, description = "csv, xlsx, parquet or jsonl"),
    ),
    responses(
        (status = 200, description = "The file", content((String = "text/csv"))),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such list or form", body = ApiProblem),
        (status = 422, description = "It is not scored yet, or does not fit the form", body = ApiProblem),
        (status = 429, description = "Called too often", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn take(
    app: web::Data<App>,
    program: Program,
    path: web::Path<(i64, i64, String)>,
) -> Result<HttpResponse, ApiError> {
    let (study, id, form) = path.into_inner();
    let form = FileFormat::of_extension(&form).ok_or(StoreError::NotFound("This form"))?;
    let list = find(&app, program, (study, id)).await?;
    let scored = list.scored_id.ok_or_else(|| ApiError::Refused("The list is not scored yet.".into()))?;
    let table = app.store.table(program.workspace, scored).await?;
    let columns = table.names()?;
    let rows = table.rows as u64;
    let taking = Taking { table: &table, columns, also: Vec::new(), rows, keep: None };
    Ok(taking.sent(&app, "scored", form).await?)
}
