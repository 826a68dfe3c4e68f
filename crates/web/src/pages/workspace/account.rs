//! Somebody's own account: the password, and where they are signed in.

use actix_web::{HttpRequest, web};
use askama::Template;
use pronoia_service::text;
use pronoia_store::StoreError;
use pronoia_store::sign_in::{Denied, Origin};
use serde::Deserialize;

use crate::App;
use crate::clients::address_of;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::workspace::sign_in::{agent_of, too_many};
use crate::pages::{PageResult, Signed, see_other};
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "workspace/account.html")]
struct AccountPage {
    frame: Frame,
    role: &'static str,
    sessions: Vec<SessionLine>,
    /// Why the password was not changed.
    problem: Option<String>,
    /// Whether it was changed just now.
    is_changed: bool,
}

struct SessionLine {
    id: i64,
    address: String,
    agent: String,
    began: String,
    until: String,
    is_this: bool,
}

/// What is shown beside the page's own content.
#[derive(Deserialize)]
pub struct AccountQuery {
    #[serde(default)]
    changed: bool,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor, asked: web::Query<AccountQuery>) -> PageResult {
    shown(&app, &visitor, None, asked.changed).await
}

async fn shown(app: &App, visitor: &Visitor, problem: Option<String>, is_changed: bool) -> PageResult {
    let sessions = app.store.sessions(visitor.account_id()).await?.into_iter().map(|session| SessionLine {
        id: session.id,
        address: session.address,
        agent: session.agent,
        began: text::moment(&session.created_at),
        until: text::moment(&session.expires_at),
        is_this: session.id == visitor.0.session,
    });
    html(&AccountPage {
        frame: Frame::plain(app, visitor).await?,
        role: visitor.0.role.word(),
        sessions: sessions.collect(),
        problem,
        is_changed,
    })
}

/// The password until now, and from now on.
#[derive(Deserialize)]
pub struct Passwords {
    csrf: String,
    present: String,
    new: String,
}

/// Changes the password, which ends all other sessions.
pub async fn change_password(
    app: web::Data<App>,
    visitor: Visitor,
    request: HttpRequest,
    form: web::Form<Passwords>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let address = address_of(&request);
    let from = Origin { address: &address, agent: agent_of(&request) };
    let problem = match app.store.change_password(&visitor.0, [&form.present, &form.new], &from).await {
        Ok(Ok(())) => return see_other("/account?changed=true"),
        Ok(Err(Denied::Wrong)) => "This is not the current password. Nothing was changed.".into(),
        Ok(Err(Denied::TooMany(seconds))) => too_many(seconds),
        Err(StoreError::Refused(sentence)) => sentence,
        Err(other) => return Err(other.into()),
    };
    let mut page = shown(&app, &visitor, Some(problem), false).await?;
    *page.status_mut() = actix_web::http::StatusCode::UNPROCESSABLE_ENTITY;
    Ok(page)
}

/// Signs out everywhere but here.
pub async fn end_others(app: web::Data<App>, visitor: Visitor, form: web::Form<Signed>) -> PageResult {
    visitor.check(&form.csrf)?;
    app.store.end_other_sessions(&visitor.0).await?;
    see_other("/account")
}

/// Signs out in one place.
pub async fn end(app: web::Data<App>, visitor: Visitor, id: web::Path<i64>, form: web::Form<Signed>) -> PageResult {
    visitor.check(&form.csrf)?;
    app.store.end_session(visitor.account_id(), *id).await?;
    see_other("/account")
}
