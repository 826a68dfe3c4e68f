//! What was put away: brought back, or erased for good; and who keeps a study.

use actix_web::web;
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::text;
use pronoia_store::archive::Thing;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, Signed, StudyPath, see_other};
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "workspace/archive.html")]
struct ArchivePage {
    frame: Frame,
    heading: String,
    rows: Vec<ArchivedLine>,
    is_owner: bool,
}

struct ArchivedLine {
    name: String,
    /// The word of its kind, as in its address.
    kind: &'static str,
    id: i64,
    by: String,
    when: String,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    let away = app.store.away(visitor.workspace_id()).await?;
    let names = app.store.addresses(away.iter().filter_map(|away| away.by)).await?;
    let rows: Vec<ArchivedLine> = away
        .into_iter()
        .map(|away| {
            let (kind, id) = match away.thing {
                Thing::Study(id) => ("study", id),
                Thing::Table(id) => ("table", id),
            };
            let by = away.by.and_then(|by| names.get(&by).cloned()).unwrap_or_default();
            ArchivedLine { name: away.name, kind, id, by, when: text::moment(&away.at) }
        })
        .collect();
    let heading = match rows.len() {
        0 => "The archive is empty.".into(),
        n => format!("{} in the archive", text::counted(n, "item", "items")),
    };
    html(&ArchivePage { frame: Frame::plain(&app, &visitor).await?, heading, rows, is_owner: visitor.is_owner() })
}

/// Puts a study away.
pub async fn put_study(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.store.put_away(visitor.workspace_id(), Thing::Study(path.id), visitor.account_id()).await?;
    see_other("/away")
}

/// Puts a table away; studies that rest on it go on.
pub async fn put_table(
    app: web::Data<App>,
    visitor: Visitor,
    id: web::Path<i64>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.store.put_away(visitor.workspace_id(), Thing::Table(*id), visitor.account_id()).await?;
    see_other("/away")
}

fn thing((kind, id): &(String, i64)) -> Result<Thing, ServiceError> {
    match kind.as_str() {
        "study" => Ok(Thing::Study(*id)),
        "table" => Ok(Thing::Table(*id)),
        _ => Err(ServiceError::NotFound),
    }
}

/// Brings something back.
pub async fn bring_back(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<(String, i64)>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let thing = thing(&path)?;
    app.store.bring_back(visitor.workspace_id(), thing).await?;
    match thing {
        Thing::Study(id) => see_other(&format!("/studies/{id}")),
        Thing::Table(id) => see_other(&format!("/tables/{id}")),
    }
}

/// The name as it stands on the page, typed to be sure.
#[derive(Deserialize)]
pub struct Erasing {
    csrf: String,
    name: String,
}

/// Erases something for good.
pub async fn erase(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<(String, i64)>,
    form: web::Form<Erasing>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let (workspace, thing) = (visitor.workspace_id(), thing(&path)?);
    let away = app.store.away(workspace).await?;
    let found = away.into_iter().find(|away| away.thing == thing).ok_or(ServiceError::NotFound)?;
    if form.name.trim() != found.name {
        return Err(ServiceError::Refused(format!(
            "To delete it for good, type its name exactly: {}. Nothing was deleted.",
            found.name
        ))
        .into());
    }
    for path in app.store.erase(workspace, thing).await? {
        match tokio::fs::remove_file(&path).await {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                tracing::warn!("an uploaded file of something deleted is still there: {e}");
            }
            _ => {}
        }
    }
    see_other("/away")
}

/// To whom.
#[derive(Deserialize)]
pub struct HandOver {
    csrf: String,
    to: i64,
}

/// Hands a study over to another member.
pub async fn hand_over(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<HandOver>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = app.store.study(visitor.workspace_id(), path.id).await?;
    let to = app.store.hand_over(&study, form.to).await?;
    app.store.note(study.id, Some(visitor.account_id()), "Handed over", &format!("to {to}")).await?;
    see_other(&format!("/studies/{}/ledger", study.id))
}
