//! Styles, scripts and fonts, which ship inside the program.

use actix_web::{HttpRequest, HttpResponse, web};
use pronoia_core::model::hex;
use pronoia_service::ServiceError;

use crate::error::PageResult;

#[derive(rust_embed::RustEmbed)]
#[folder = "assets/dist"]
struct Files;

/// Gives a file; a browser that has it already is told so.
pub async fn file(request: HttpRequest, path: web::Path<String>) -> PageResult {
    let file = Files::get(&path).ok_or(ServiceError::NotFound)?;
    let kind = match path.rsplit('.').next() {
        Some("css") => "text/css; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("woff2") => "font/woff2",
        Some("svg") => "image/svg+xml",
        _ => "application/octet-stream",
    };
    let tag = format!("\"{}\"", &hex(&file.metadata.sha256_hash())[..16]);
    let known = request.headers().get("if-none-match").and_then(|v| v.to_str().ok()) == Some(tag.as_str());
    let cache = ("Cache-Control", "no-cache");
    if known {
        return Ok(HttpResponse::NotModified().insert_header(("ETag", tag)).insert_header(cache).finish());
    }
    Ok(HttpResponse::Ok()
        .content_type(kind)
        .insert_header(("ETag", tag))
        .insert_header(cache)
        .body(file.data.into_owned()))
}
