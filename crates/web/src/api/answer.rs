//! What a program is told that cannot be answered.

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, HttpResponseBuilder, ResponseError};
use pronoia_store::StoreError;
use serde::Serialize;
use thiserror::Error;
use utoipa::ToSchema;

use pronoia_service::ServiceError;

/// Why there is no answer.
#[derive(Debug, Error)]
pub enum ApiError {
    /// No key, or one that opens nothing.
    #[error("Send a key that opens this release, as “Authorization: Bearer pr_…”.")]
    NoKey,
    /// The key is to another release, or there is none of this name.
    #[error("There is no release “{0}” that this key opens.")]
    NotFound(String),
    /// Called too often.
    #[error("This key is good for {0} calls a minute; try again in {1} seconds.")]
    TooOften(u32, u64),
    /// The body cannot be understood.
    #[error("{0}")]
    Refused(String),
    /// Too many customers at once.
    #[error("{0}")]
    TooLarge(String),
    /// Neither JSON nor CSV.
    #[error("Send customers as application/json or as text/csv; this is {0}.")]
    Unsupported(String),
    /// No key to a workspace, or one that opens nothing.
    #[error("Send a key of the workspace, as “Authorization: Bearer pw_…”; they are made at /programs.")]
    NoProgramKey,
    /// What is asked for is not there.
    #[error("{0}")]
    NotThere(String),
    /// What stands behind the question mark of the address cannot be read.
    #[error("{0}")]
    BadQuery(String),
    /// The study has another revision than the one that was looked at; its present tag.
    #[error("The study was changed since: its entity tag is {0}. Read it again, and repeat what you want.")]
    Changed(String),
    /// Somebody changed the same in the meantime.
    #[error("{0}")]
    Overtaken(String),
    /// Whoever asks may not do this.
    #[error("{0}")]
    NotAllowed(&'static str),
    /// Not JSON.
    #[error("Send JSON as application/json.")]
    NotJson,
    /// Not now; what the caller may do is to try again.
    #[error("{0}")]
    NotNow(String),
    /// Ours.
    #[error("{0}")]
    Broken(String),
}

impl From<StoreError> for ApiError {
    fn from(e: StoreError) -> Self {
        match e {
            StoreError::NotFound(_) | StoreError::PutAway => Self::NotThere(e.to_string()),
            StoreError::Refused(_) | StoreError::TooWide(_) => Self::Refused(e.to_string()),
            StoreError::Overtaken(_) => Self::Overtaken(e.to_string()),
            StoreError::Unreachable => Self::NotNow("The database is away; try again shortly.".into()),
            StoreError::Busy(_) | StoreError::DiskFull | StoreError::UploadsFull => Self::NotNow(e.to_string()),
            StoreError::Damaged(_) | StoreError::Database(_) | StoreError::Stopped | StoreError::LeaseLost => {
                Self::Broken(e.to_string())
            }
        }
    }
}

impl From<ServiceError> for ApiError {
    fn from(e: ServiceError) -> Self {
        match e {
            ServiceError::Store(e) => e.into(),
            ServiceError::NotFound => Self::NotThere("There is no such thing in this workspace.".into()),
            ServiceError::TooLarge(sentence) => Self::TooLarge(sentence),
            ServiceError::Refused(sentence) => Self::Refused(sentence),
            ServiceError::NotAllowed(sentence) => Self::NotAllowed(sentence),
            ServiceError::Overtaken(entered) => {
                Self::Overtaken(format!("The same was changed in the meantime: {}", entered.join("; ")))
            }
            other => Self::Broken(other.to_string()),
        }
    }
}

impl ApiError {
    /// Why a body cannot be read as JSON.
    pub fn of_body(e: &actix_web::Error) -> Self {
        match e.as_response_error().status_code() {
            StatusCode::PAYLOAD_TOO_LARGE => Self::TooLarge("The body is too large.".into()),
            StatusCode::UNSUPPORTED_MEDIA_TYPE => Self::NotJson,
            _ if e.to_string().contains("Content type") => Self::NotJson,
            _ => Self::Refused(format!("The body cannot be read: {e}.")),
        }
    }
}

/// What is told instead of an answer: problem details (RFC 9457).
#[derive(Debug, Serialize, ToSchema)]
pub struct ApiProblem {
    /// What kind of problem it is; none but its status, `about:blank`.
    #[serde(rename = "type")]
    pub kind: &'static str,
    /// The reason of the status.
    pub title: &'static str,
    /// The status of the answer.
    pub status: u16,
    /// What is wrong and what to do, in a sentence.
    pub detail: String,
    /// The same as `detail`.
    pub error: String,
}

/// Writes problem details.
fn problem(response: &mut HttpResponseBuilder, status: StatusCode, detail: String) -> HttpResponse {
    let title = status.canonical_reason().unwrap_or("Problem");
    let problem =
        ApiProblem { kind: "about:blank", title, status: status.as_u16(), detail: detail.clone(), error: detail };
    response.content_type("application/problem+json").json(problem)
}

/// The entity tag of a study with this revision.
pub fn entity_tag(revision: i64) -> String {
    format!("\"{revision}\"")
}

impl ResponseError for ApiError {
    fn status_code(&self) -> StatusCode {
        match self {
            Self::NoKey | Self::NoProgramKey => StatusCode::UNAUTHORIZED,
            Self::BadQuery(_) => StatusCode::BAD_REQUEST,
            Self::NotFound(_) | Self::NotThere(_) => StatusCode::NOT_FOUND,
            Self::TooOften(..) => StatusCode::TOO_MANY_REQUESTS,
            Self::Refused(_) => StatusCode::UNPROCESSABLE_ENTITY,
            Self::NotAllowed(_) => StatusCode::FORBIDDEN,
            Self::Overtaken(_) => StatusCode::CONFLICT,
            Self::Changed(_) => StatusCode::PRECONDITION_FAILED,
            Self::TooLarge(_) => StatusCode::PAYLOAD_TOO_LARGE,
            Self::Unsupported(_) | Self::NotJson => StatusCode::UNSUPPORTED_MEDIA_TYPE,
            Self::NotNow(_) => StatusCode::SERVICE_UNAVAILABLE,
            Self::Broken(_) => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        let status = self.status_code();
        if status.is_server_error() {
            tracing::error!("{self:?}");
        }
        let mut response = HttpResponse::build(status);
        match self {
            Self::NoKey | Self::NoProgramKey => drop(response.insert_header(("WWW-Authenticate", "Bearer"))),
            Self::TooOften(_, seconds) => drop(response.insert_header(("Retry-After", seconds.to_string()))),
            Self::NotNow(_) => drop(response.insert_header(("Retry-After", "5"))),
            _ => {}
        }
        problem(&mut response, status, self.to_string())
    }
}

/// For every address that leads nowhere.
pub async fn nothing_here() -> HttpResponse {
    let detail = "There is nothing at this address; see /api/v1/openapi.json.".to_owned();
    problem(&mut HttpResponse::NotFound(), StatusCode::NOT_FOUND, detail)
}
