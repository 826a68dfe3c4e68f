//! Keys by which other programs do the work of the workspace.

use actix_web::web;
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::text;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, Signed, see_other};
use crate::session::Visitor;

/// The longest name of a program.
const LONGEST_NAME: usize = 60;

#[derive(Template)]
#[template(path = "workspace/api_keys.html")]
struct ApiKeysPage {
    frame: Frame,
    keys: Vec<ApiKeyLine>,
    /// A key that was just made, shown this once.
    new_key: Option<String>,
}

struct ApiKeyLine {
    id: i64,
    name: String,
    begins: String,
    /// Under whose name it works.
    by: String,
    when: String,
    revoked: Option<String>,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    shown(&app, &visitor, None).await
}

async fn shown(app: &App, visitor: &Visitor, new_key: Option<String>) -> PageResult {
    let keys = app.store.program_keys(visitor.workspace_id()).await?;
    let addresses = app.store.addresses(keys.iter().map(|key| key.account_id)).await?;
    let keys = keys.into_iter().map(|key| ApiKeyLine {
        by: addresses.get(&key.account_id).cloned().unwrap_or_default(),
        id: key.id,
        name: key.name,
        begins: key.begins,
        when: text::moment(&key.created_at),
        revoked: key.revoked_at.as_ref().map(text::moment),
    });
    html(&ApiKeysPage { frame: Frame::plain(app, visitor).await?, keys: keys.collect(), new_key })
}

/// Whose key.
#[derive(Deserialize)]
pub struct ApiKeyForm {
    csrf: String,
    name: String,
}

/// Makes a key, and shows it this once.
pub async fn add(app: web::Data<App>, visitor: Visitor, form: web::Form<ApiKeyForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    let name = form.name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Err(ServiceError::Refused(format!("Say what the key is for, in up to {LONGEST_NAME} letters.")).into());
    }
    let key = app.store.add_program_key((visitor.workspace_id(), visitor.account_id()), name).await?;
    shown(&app, &visitor, Some(key)).await
}

/// Makes a key open nothing any more.
pub async fn revoke(app: web::Data<App>, visitor: Visitor, id: web::Path<i64>, form: web::Form<Signed>) -> PageResult {
    visitor.check(&form.csrf)?;
    app.store.revoke_program_key(visitor.workspace_id(), *id).await?;
    see_other("/programs")
}
