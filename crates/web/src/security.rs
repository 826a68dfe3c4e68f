//! Headers that every answer carries.

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{CACHE_CONTROL, HeaderName, HeaderValue, STRICT_TRANSPORT_SECURITY};
use actix_web::middleware::Next;
use actix_web::web;

use crate::Config;

const HEADERS: [(&str, &str); 5] = [
    (
        "content-security-policy",
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; \
         connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
    ),
    ("x-content-type-options", "nosniff"),
    ("referrer-policy", "same-origin"),
    ("cross-origin-opener-policy", "same-origin"),
    ("permissions-policy", "camera=(), microphone=(), geolocation=()"),
];

/// Adds the headers; no inline script or style, nothing from elsewhere.
pub async fn headers(
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let behind_tls = request.app_data::<web::Data<Config>>().is_some_and(|config| config.behind_tls);
    let mut response = next.call(request).await?;
    if behind_tls {
        response.headers_mut().insert(STRICT_TRANSPORT_SECURITY, HeaderValue::from_static("max-age=31536000"));
    }
    // Whatever says nothing else is nobody's to keep.
    if !response.headers().contains_key(CACHE_CONTROL) {
        response.headers_mut().insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    for (name, value) in HEADERS {
        response.headers_mut().insert(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    Ok(response)
}
