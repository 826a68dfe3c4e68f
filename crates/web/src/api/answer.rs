//! What a program is told that cannot be answered.

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use pronoia_store::StoreError;
use serde::Serialize;
use thiserror::Error;
use utoipa::ToSchema;

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
    /// From the store.
    #[error("The database is away; try again shortly.")]
    Store(#[from] StoreError),
    /// Ours.
    #[error("{0}")]
    Broken(String),
}

/// What is told instead of an answer.
#[derive(Debug, Serialize, ToSchema)]
pub struct Problem {
    /// What is wrong and what to do, in a sentence.
    pub error: String,
}

impl ResponseError for ApiError {
    fn status_code(&self) -> StatusCode {
        match self {
            Self::NoKey => StatusCode::UNAUTHORIZED,
            Self::NotFound(_) => StatusCode::NOT_FOUND,
            Self::TooOften(..) => StatusCode::TOO_MANY_REQUESTS,
            Self::Refused(_) => StatusCode::UNPROCESSABLE_ENTITY,
            Self::TooLarge(_) => StatusCode::PAYLOAD_TOO_LARGE,
            Self::Unsupported(_) => StatusCode::UNSUPPORTED_MEDIA_TYPE,
            Self::Store(_) => StatusCode::SERVICE_UNAVAILABLE,
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
            Self::NoKey => drop(response.insert_header(("WWW-Authenticate", "Bearer"))),
            Self::TooOften(_, seconds) => drop(response.insert_header(("Retry-After", seconds.to_string()))),
            Self::Store(_) => drop(response.insert_header(("Retry-After", "5"))),
            _ => {}
        }
        response.json(Problem { error: self.to_string() })
    }
}

/// For every address that leads nowhere.
pub async fn nothing_here() -> HttpResponse {
    HttpResponse::NotFound()
        .json(Problem { error: "There is nothing at this address; see /api/v1/openapi.json.".into() })
}
