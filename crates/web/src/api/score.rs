//! Customers scored for another program.

use std::time::Instant;

use actix_web::http::header::CONTENT_TYPE;
use actix_web::{HttpRequest, HttpResponse, web};
use pronoia_core::intake::read_table;
use pronoia_core::progress::Unwatched;
use pronoia_core::score::{
    By, ColumnAnswers, DECISION, Extras, GAIN, OFFER, PROBABILITY, REMARK, ScoredCustomers, Scoring, match_list,
    table_of,
};
use pronoia_core::watch::CustomerTally;
use pronoia_core::write::FileFormat;
use pronoia_core::{Kind, Table};
use pronoia_service::release_calls::Ready;
use pronoia_service::text;
use pronoia_store::release;
use pronoia_store::releases::Use;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

use super::answer::{ApiError, ApiProblem};
use super::key_cache::opened;
use crate::App;

/// Customers of a call at most.
const MOST: usize = 10_000;

/// Customers that are scored on the thread that answers; more are handed to another.
const FEW: usize = 50;

/// Customers to be scored.
#[derive(Debug, Deserialize, ToSchema)]
pub struct Request {
    /// An object per customer, with the columns that the model was made from; what is absent is missing.
    #[schema(value_type = Vec<Object>)]
    pub customers: Vec<Map<String, Value>>,
}

/// The scores.
#[derive(Debug, Serialize, ToSchema)]
pub struct ScoreResponse {
    /// The release that answered.
    pub release: String,
    /// The version of it.
    pub version: i32,
    /// One entry per customer, in the order of the call.
    pub customers: Vec<Customer>,
}

/// A customer.
#[derive(Debug, Serialize, ToSchema)]
pub struct Customer {
    /// The probability of the event.
    pub probability: f64,
    /// What the policy does: `act`, `refer` or `leave`.
    pub decision: String,
    /// What is offered, where there are several offers and the customer is acted on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offer: Option<String>,
    /// What acting is expected to gain over leaving alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected_gain: Option<f64>,
    /// What the model had not met, in a few words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remark: Option<String>,
}

/// Scores customers with the version of a release that answers.
#[utoipa::path(
    post,
    path = "/api/v1/releases/{name}/score",
    params(("name" = String, Path, description = "The release")),
    request_body(content((Request = "application/json"), (String = "text/csv")), description = "Customers: objects, or rows with a heading"),
    responses(
        (status = 200, description = "Their scores; for CSV the rows with columns added", content((ScoreResponse = "application/json"), (String = "text/csv"))),
        (status = 401, description = "No key, or one that opens nothing", body = ApiProblem),
        (status = 404, description = "No such release for this key", body = ApiProblem),
        (status = 413, description = "Too many customers or bytes", body = ApiProblem),
        (status = 415, description = "Neither JSON nor CSV", body = ApiProblem),
        (status = 422, description = "Customers that cannot be read; the sentence says which and why", body = ApiProblem),
        (status = 429, description = "Called too often; Retry-After says for how long", body = ApiProblem),
        (status = 503, description = "The database is away", body = ApiProblem),
    ),
    security(("key" = []))
)]
pub async fn score(
    app: web::Data<App>,
    request: HttpRequest,
    name: web::Path<String>,
    body: Result<web::Bytes, actix_web::Error>,
) -> Result<HttpResponse, ApiError> {
    let began = Instant::now();
    let opened = opened(&app, &request, &name).await?;
    let release = opened.release;
    let drawn = body.as_ref().map_or(0.0, |body| draw(body));
    let version = release.version_for(drawn).ok_or_else(|| ApiError::NotFound(name.clone()))?;
    let per_minute = opened.key.per_minute.max(0).unsigned_abs();
    let counted = app.release_calls.limits.count(opened.key.id, per_minute);
    let answered = match counted {
        Err(seconds) => Err(ApiError::TooOften(per_minute, seconds)),
        Ok(()) => answer(&app, &request, &release, version, body).await,
    };
    let mut met = CustomerTally::default();
    let used = match &answered {
        Ok((_, answered)) => {
            let scored = &answered.scored;
            met.add(&answered.met);
            let remark = scored.table.column(REMARK);
            let micros = began.elapsed().as_micros() as i64;
            Use {
                calls: 1,
                customers: scored.table.rows() as i64,
                acted: scored.account.acted as i64,
                remarked: remark.map_or(0, |remark| (remark.len() - remark.missing()) as i64),
                micros,
                slowest: micros,
                ..Use::default()
            }
        }
        Err(_) => Use { refused: 1, ..Use::default() },
    };
    app.release_calls.count((release.id, version), used, &met);
    answered.map(|(response, _)| response)
}

/// A number from 0 up to 1 that belongs to a call: two versions of a release share the calls by it, so
/// that a program that repeats a call gets the same answer.
fn draw(body: &[u8]) -> f64 {
    let digest = Sha256::digest(body);
    let first = digest.iter().take(6).fold(0u64, |sum, byte| (sum << 8) | u64::from(*byte));
    first as f64 / (1u64 << 48) as f64
}

async fn answer(
    app: &App,
    request: &HttpRequest,
    release: &release::Model,
    version: i64,
    body: Result<web::Bytes, actix_web::Error>,
) -> Result<(HttpResponse, Answered), ApiError> {
    let body = body.map_err(|e| match e.as_response_error().status_code() {
        actix_web::http::StatusCode::PAYLOAD_TOO_LARGE => {
            ApiError::TooLarge(format!("A call holds {} at most; send several.", text::bytes(super::MOST_BYTES as u64)))
        }
        _ => ApiError::Refused(format!("The body could not be read: {e}.")),
    })?;
    let sent = request.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let media_type = sent.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let ready = app.release_calls.ready(app, (release.workspace_id, version)).await?;
    match media_type.as_str() {
        "application/json" | "" => {
            let request: Request = serde_json::from_slice(&body)
                .map_err(|e| ApiError::Refused(format!("This is not {{\"customers\": [{{…}}, …]}}: {e}.")))?;
            few_enough(request.customers.len())?;
            let answered = if request.customers.len() <= FEW {
                scored_by(&ready, &request).map_err(ApiError::Refused)?
            } else {
                let ready = std::sync::Arc::clone(&ready);
                beside(move || scored_by(&ready, &request).map_err(ApiError::Refused)).await?
            };
            let response = ScoreResponse {
                release: release.name.clone(),
                version: ready.number,
                customers: customers(&answered.scored.table),
            };
            Ok((HttpResponse::Ok().json(response), answered))
        }
        "text/csv" => {
            let ready = std::sync::Arc::clone(&ready);
            let (bytes, answered) = beside(move || csv(&ready, &body)).await?;
            Ok((HttpResponse::Ok().content_type(FileFormat::Csv.media_type()).body(bytes), answered))
        }
        other => Err(ApiError::Unsupported(other.to_owned())),
    }
}

fn few_enough(customers: usize) -> Result<(), ApiError> {
    if customers <= MOST {
        return Ok(());
    }
    Err(ApiError::TooLarge(format!(
        "A call holds {} customers at most; this has {}. Send several, or import them as a list.",
        text::count(MOST as u64),
        text::count(customers as u64)
    )))
}

/// Works beside the threads that answer.
async fn beside<T: Send + 'static>(work: impl FnOnce() -> Result<T, ApiError> + Send + 'static) -> Result<T, ApiError> {
    web::block(work).await.map_err(|e| ApiError::Broken(e.to_string()))?
}

/// Customers that were scored, and what they are like.
pub struct Answered {
    pub scored: ScoredCustomers,
    pub met: CustomerTally,
}

/// Scores customers with a version.
///
/// # Errors
/// A sentence that says which customer cannot be read, and why.
pub fn scored_by(ready: &Ready, request: &Request) -> Result<Answered, String> {
    let mut needed: Vec<(&str, Kind)> = ready.model.inputs().map(|input| (input.name.as_str(), input.kind)).collect();
    needed.extend(ready.of_policy.iter().map(|(name, kind)| (name.as_str(), *kind)));
    let table = table_of(&request.customers, &needed)?;
    scored(ready, &table, &table)
}

fn scored(ready: &Ready, list: &Table, matched: &Table) -> Result<Answered, String> {
    let policy = &ready.chosen.policy;
    let by = By::Policy { policy, population: &ready.chosen.population, steps: &ready.steps };
    let extras = Extras { gain: true, remarks: true, ..Extras::default() };
    let scored = Scoring { model: &ready.model, by: Some(by), extras, tenths: &[] }.of(list, matched, &[])?;
    let told = scored.table.column(PROBABILITY);
    let told: Vec<f64> = (0..list.rows()).filter_map(|row| told?.number(row)).collect();
    Ok(Answered { met: CustomerTally::of(&ready.expected, matched, &told), scored })
}

/// What a call is answered with, to be read.
pub fn written(release: &str, ready: &Ready, scored: &ScoredCustomers) -> String {
    let response =
        ScoreResponse { release: release.to_owned(), version: ready.number, customers: customers(&scored.table) };
    serde_json::to_string_pretty(&response).unwrap_or_else(|e| e.to_string())
}

fn csv(ready: &Ready, body: &[u8]) -> Result<(Vec<u8>, Answered), ApiError> {
    let (list, scan) = read_table(body, &Unwatched).map_err(|e| ApiError::Refused(e.to_string()))?;
    if scan.rejected > 0 {
        return Err(ApiError::Refused(format!(
            "{} cannot be read; correct them and send all again.",
            text::counted(scan.rejected as usize, "row", "rows")
        )));
    }
    few_enough(list.rows())?;
    let (report, matched) = match_list(&ready.model, &ready.names_of_policy(), &list, &ColumnAnswers::new());
    if !report.is_complete() {
        let lacking = report.lacking().join(", ");
        return Err(ApiError::Refused(format!("Columns that are needed are missing: {lacking}.")));
    }
    let answered = scored(ready, &list, &matched).map_err(ApiError::Refused)?;
    let mut bytes = Vec::new();
    FileFormat::Csv.write(&answered.scored.table, &mut bytes).map_err(|e| ApiError::Refused(e.to_string()))?;
    Ok((bytes, answered))
}

fn customers(table: &Table) -> Vec<Customer> {
    let text = |name: &str, row: usize| table.column(name).and_then(|column| column.text(row));
    let number = |name: &str, row: usize| table.column(name).and_then(|column| column.number(row));
    let customer = |row: usize| Customer {
        probability: number(PROBABILITY, row).unwrap_or_default(),
        decision: text(DECISION, row).unwrap_or_default(),
        offer: text(OFFER, row),
        expected_gain: number(GAIN, row),
        remark: text(REMARK, row),
    };
    (0..table.rows()).map(customer).collect()
}
