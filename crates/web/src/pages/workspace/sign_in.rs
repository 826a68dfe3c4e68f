//! The way in and out.

use actix_web::cookie::Cookie;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use pronoia_service::text;
use pronoia_store::sign_in::{Denied, Origin};
use serde::Deserialize;

use crate::clients::address_of;
use crate::error::{PageError, PageResult, html, see_other};
use crate::pages::Signed;
use crate::session::{self, Visitor};
use crate::{App, Config};

#[derive(Template)]
#[template(path = "workspace/sign_in.html")]
struct SignInPage {
    email: String,
    problem: Option<String>,
    demo: Option<(String, String)>,
}

/// What is said to whoever tries too often.
pub(super) fn too_many(seconds: u64) -> String {
    let wait = match seconds {
        0..60 => text::counted(seconds as usize, "second", "seconds"),
        _ => text::counted(seconds.div_ceil(60) as usize, "minute", "minutes"),
    };
    format!("Too many attempts. Wait {wait} and try again.")
}

/// What their browser says that it is.
pub(super) fn agent_of(request: &HttpRequest) -> &str {
    request.headers().get("user-agent").and_then(|agent| agent.to_str().ok()).unwrap_or_default()
}

/// What is typed on the page.
#[derive(Deserialize)]
pub struct SignInForm {
    email: String,
    password: String,
}

/// The page.
pub async fn page(app: web::Data<App>, config: web::Data<Config>, visitor: Option<Visitor>) -> PageResult {
    if visitor.is_some() {
        return see_other("/");
    }
    app.store.ping().await?;
    html(&SignInPage { email: String::new(), problem: None, demo: config.demo_account.clone() })
}

/// Somebody wants in.
pub async fn enter(
    app: web::Data<App>,
    config: web::Data<Config>,
    request: HttpRequest,
    typed: web::Form<SignInForm>,
) -> PageResult {
    // A form from elsewhere must not sign a browser in to an account of its choice.
    if !is_ours(&request) {
        return Err(PageError::Forged);
    }
    let address = address_of(&request);
    let from = Origin { address: &address, agent: agent_of(&request) };
    let problem = match app.store.sign_in(&typed.email, &typed.password, &from).await? {
        Ok(token) => {
            tracing::info!("somebody signed in from {address}");
            let cookie = session::cookie(&config, &token);
            return Ok(HttpResponse::SeeOther().insert_header(("Location", "/")).cookie(cookie).finish());
        }
        Err(Denied::Wrong) => "The address or the password is wrong. Check both and try again.".to_owned(),
        Err(Denied::TooMany(seconds)) => too_many(seconds),
    };
    tracing::warn!("a sign-in from {address} was refused");
    let page =
        SignInPage { email: typed.into_inner().email, problem: Some(problem), demo: config.demo_account.clone() };
    let mut response = html(&page)?;
    *response.status_mut() = actix_web::http::StatusCode::UNAUTHORIZED;
    Ok(response)
}

/// Somebody leaves.
pub async fn leave(
    app: web::Data<App>,
    config: web::Data<Config>,
    request: HttpRequest,
    visitor: Visitor,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    if let Some(token) = request.cookie(session::COOKIE) {
        app.store.sign_out(token.value()).await?;
    }
    Ok(HttpResponse::SeeOther().insert_header(("Location", "/sign-in")).cookie(session::cookie(&config, "")).finish())
}

/// Day or night, kept in a cookie that the style sheet's script reads.
#[derive(Deserialize)]
pub struct Theme {
    csrf: String,
    theme: String,
}

/// Switches between day and night.
pub async fn theme(request: HttpRequest, visitor: Visitor, form: web::Form<Theme>) -> PageResult {
    visitor.check(&form.csrf)?;
    let theme = if form.theme == "night" { "night" } else { "day" };
    let cookie = Cookie::build("pronoia_theme", theme).path("/").permanent().finish();
    let back = crate::pages::came_from(&request);
    Ok(HttpResponse::SeeOther().insert_header(("Location", back)).cookie(cookie).finish())
}

fn is_ours(request: &HttpRequest) -> bool {
    let Some(origin) = request.headers().get("origin").and_then(|o| o.to_str().ok()) else { return true };
    let host = request.connection_info().host().to_owned();
    origin.split_once("://").is_some_and(|(_, o)| o == host)
}
