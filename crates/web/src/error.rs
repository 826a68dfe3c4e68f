//! A page for everything that cannot be done, in words.

use std::io::ErrorKind;

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_store::StoreError;
use thiserror::Error;

/// Why a page is not what was asked for.
#[derive(Debug, Error)]
pub enum PageError {
    /// Nobody is signed in.
    #[error("Sign in to see this page.")]
    SignedOut,
    /// The form does not come from a page of ours, or the session is over.
    #[error(
        "The form was sent from a page that is no longer valid. Nothing was changed; go back, reload the page and send it again."
    )]
    Forged,
    /// It was not done, or what was asked for is not there.
    #[error(transparent)]
    Service(#[from] ServiceError),
    /// A page could not be written.
    #[error("The page could not be written: {0}")]
    Template(#[from] askama::Error),
}

impl From<StoreError> for PageError {
    fn from(e: StoreError) -> Self {
        Self::Service(e.into())
    }
}

impl From<std::io::Error> for PageError {
    fn from(e: std::io::Error) -> Self {
        Self::Service(e.into())
    }
}

#[derive(Template)]
#[template(path = "frame/error.html")]
struct ErrorPage<'a> {
    heading: &'a str,
    message: String,
    /// What happened meanwhile.
    meanwhile: &'a [String],
    retries: bool,
}

impl ResponseError for PageError {
    fn status_code(&self) -> StatusCode {
        match self {
            Self::SignedOut => StatusCode::SEE_OTHER,
            Self::Forged => StatusCode::FORBIDDEN,
            Self::Service(e) => status_of(e),
            Self::Template(_) => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        if matches!(self, Self::SignedOut) {
            return HttpResponse::SeeOther().insert_header(("Location", "/sign-in")).finish();
        }
        let status = self.status_code();
        let is_busy = matches!(self, Self::Service(ServiceError::Store(StoreError::Busy(_))));
        if status.is_server_error() && !is_busy {
            tracing::error!("{self}");
        }
        let retries = status == StatusCode::SERVICE_UNAVAILABLE && !is_busy;
        let heading = match status {
            StatusCode::SERVICE_UNAVAILABLE if is_busy => "Busy, try again",
            StatusCode::SERVICE_UNAVAILABLE => "The database is away",
            StatusCode::NOT_FOUND => "Nothing here",
            StatusCode::GONE => "Archived",
            StatusCode::INTERNAL_SERVER_ERROR => "Something went wrong",
            _ => "That was not done",
        };
        let meanwhile =
            if let Self::Service(ServiceError::Overtaken(entered)) = self { entered.as_slice() } else { &[] };
        let page = ErrorPage { heading, message: self.to_string(), meanwhile, retries }.render();
        let mut answer = HttpResponse::build(status);
        if status == StatusCode::SERVICE_UNAVAILABLE {
            answer.insert_header(("Retry-After", "3"));
        }
        answer.content_type("text/html; charset=utf-8").body(page.unwrap_or_else(|_| self.to_string()))
    }
}

/// The status that tells why something was not done.
pub(crate) fn status_of(e: &ServiceError) -> StatusCode {
    match e {
        ServiceError::NotAllowed(_) => StatusCode::FORBIDDEN,
        ServiceError::Refused(_) | ServiceError::Store(StoreError::Refused(_) | StoreError::TooWide(_)) => {
            StatusCode::UNPROCESSABLE_ENTITY
        }
        ServiceError::Overtaken(_) | ServiceError::Store(StoreError::Overtaken(_)) => StatusCode::CONFLICT,
        ServiceError::Store(StoreError::PutAway) => StatusCode::GONE,
        ServiceError::TooLarge(_) => StatusCode::PAYLOAD_TOO_LARGE,
        ServiceError::NotFound | ServiceError::Store(StoreError::NotFound(_)) => StatusCode::NOT_FOUND,
        ServiceError::Store(StoreError::Unreachable | StoreError::Busy(_)) => StatusCode::SERVICE_UNAVAILABLE,
        ServiceError::File(e) if e.kind() == ErrorKind::StorageFull => StatusCode::INSUFFICIENT_STORAGE,
        ServiceError::Store(StoreError::DiskFull | StoreError::UploadsFull) => StatusCode::INSUFFICIENT_STORAGE,
        ServiceError::BrokeOff | ServiceError::Store(_) | ServiceError::File(_) => StatusCode::INTERNAL_SERVER_ERROR,
    }
}

/// What a page handler gives.
pub type PageResult = Result<HttpResponse, PageError>;

/// Writes a page.
pub fn html(page: &impl Template) -> PageResult {
    Ok(HttpResponse::Ok()
        .content_type("text/html; charset=utf-8")
        .insert_header(("Cache-Control", "no-store"))
        .body(page.render()?))
}

/// Sends the browser elsewhere after a form was dealt with.
pub fn see_other(address: &str) -> PageResult {
    Ok(HttpResponse::SeeOther().insert_header(("Location", address)).finish())
}
