//! Who calls.

use actix_web::HttpRequest;
use actix_web::http::header::AUTHORIZATION;
use pronoia_store::releases::OpenedRelease;

use super::answer::ApiError;
use crate::App;

/// The longest key that is looked up.
const LONGEST: usize = 100;

/// The key of a request.
pub fn key_of(request: &HttpRequest) -> Option<&str> {
    let header = request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok());
    let key = header.and_then(|value| value.strip_prefix("Bearer ")).map(str::trim);
    key.filter(|key| !key.is_empty() && key.len() <= LONGEST)
}

/// What the key of a request opens, if that is the release of this name.
pub async fn opened(app: &App, request: &HttpRequest, name: &str) -> Result<OpenedRelease, ApiError> {
    let key = key_of(request).ok_or(ApiError::NoKey)?;
    let opened = app.release_calls.opened(app, key).await?.ok_or_else(|| {
        tracing::warn!("a call of release “{}” was refused: its key opens nothing", name.escape_debug());
        ApiError::NoKey
    })?;
    if opened.release.name != name {
        tracing::warn!("a call of release “{}” was refused: its key is to another", name.escape_debug());
        return Err(ApiError::NotFound(name.to_owned()));
    }
    Ok(opened)
}
