//! A page for everything that cannot be done, in words.

use std::io::ErrorKind;

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use askama::Template;
use pronoia_store::StoreError;
use thiserror::Error;

/// Why a page is not what was asked for.
#[derive(Debug, Error)]
pub enum PageError {
    /// Nobody is signed in.
    #[error("Sign in to see this page.")]
    SignedOut,
    /// Whoever is signed in may not do this.
    #[error("{0}")]
    NotAllowed(&'static str),
    /// The form does not come from a page of ours, or the session is over.
    #[error(
        "The form was sent from a page that is no longer valid. Nothing was changed; go back, reload the page and send it again."
    )]
    Forged,
    /// Asked for something that is not possible.
    #[error("{0}")]
    Refused(String),
    /// Somebody changed the same in the meantime; what they entered.
    #[error(
        "While this page was open, the study was changed in the place that you changed. Nothing was overwritten. Go back, reload the page, and choose again."
    )]
    Overtaken(Vec<String>),
    /// Too large.
    #[error("{0}")]
    TooLarge(String),
    /// There is no such page.
    #[error("There is nothing at this address. It may be mistyped, or what was here was deleted.")]
    NotFound,
    /// From the store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A mistake of ours ended the work.
    #[error("This page failed because of an error in the program. Nothing was changed; please report it.")]
    BrokeOff,
    /// A page could not be written.
    #[error("The page could not be written: {0}")]
    Template(#[from] askama::Error),
    /// A file could not be written or read.
    #[error("{}", of_file(.0))]
    File(#[from] std::io::Error),
}

fn of_file(e: &std::io::Error) -> String {
    if e.kind() == ErrorKind::StorageFull {
        "The disk that uploads lie on is full. Nothing was kept; whoever runs this server has to free some space, then send it again.".into()
    } else {
        format!("The file could not be kept: {e}. Nothing was changed.")
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
            Self::Forged | Self::NotAllowed(_) => StatusCode::FORBIDDEN,
            Self::Refused(_) | Self::Store(StoreError::Refused(_) | StoreError::TooWide(_)) => {
                StatusCode::UNPROCESSABLE_ENTITY
            }
            Self::Overtaken(_) | Self::Store(StoreError::Overtaken(_)) => StatusCode::CONFLICT,
            Self::Store(StoreError::PutAway) => StatusCode::GONE,
            Self::TooLarge(_) => StatusCode::PAYLOAD_TOO_LARGE,
            Self::NotFound | Self::Store(StoreError::NotFound(_)) => StatusCode::NOT_FOUND,
            Self::Store(StoreError::Unreachable | StoreError::Busy(_)) => StatusCode::SERVICE_UNAVAILABLE,
            Self::File(e) if e.kind() == ErrorKind::StorageFull => StatusCode::INSUFFICIENT_STORAGE,
            Self::Store(StoreError::DiskFull | StoreError::UploadsFull) => StatusCode::INSUFFICIENT_STORAGE,
            _ => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        if matches!(self, Self::SignedOut) {
            return HttpResponse::SeeOther().insert_header(("Location", "/sign-in")).finish();
        }
        let status = self.status_code();
        let is_busy = matches!(self, Self::Store(StoreError::Busy(_)));
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
        let meanwhile = if let Self::Overtaken(entered) = self { entered.as_slice() } else { &[] };
        let page = ErrorPage { heading, message: self.to_string(), meanwhile, retries }.render();
        let mut answer = HttpResponse::build(status);
        if status == StatusCode::SERVICE_UNAVAILABLE {
            answer.insert_header(("Retry-After", "3"));
        }
        answer.content_type("text/html; charset=utf-8").body(page.unwrap_or_else(|_| self.to_string()))
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
