//! The statement, read by somebody without an account who was given a link.

use actix_web::{HttpRequest, web};
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::shares::MOST_DAYS;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::pages::live::statement::document::{SectionPart, StatementDocument};
use crate::pages::live::statement::{shown, written};
use crate::pages::{PageResult, Signed, StudyPath, reached_at, see_other};
use crate::session::Visitor;

/// The longest name of whom a link is for, in characters.
const LONGEST_NAME: usize = 80;

#[derive(Template)]
#[template(path = "live/shared.html")]
struct SharedStatementPage {
    document: StatementDocument,
    workspace: String,
    made_up: bool,
    until: String,
}

/// A link that is good.
pub(super) struct ShareLine {
    pub id: i64,
    pub name: String,
    pub until: String,
    pub followed: String,
}

/// The links of a study that are good.
pub(super) async fn lines(app: &App, study: i64) -> Result<Vec<ShareLine>, ServiceError> {
    let line = |share: pronoia_store::share::Model| ShareLine {
        id: share.id,
        until: text::moment(&share.expires_at),
        followed: match share.followed_at {
            Some(at) => format!("opened {}, last on {}", times(share.followed), text::moment(&at)),
            None => "not opened yet".into(),
        },
        name: share.name,
    };
    Ok(app.store.shares(study).await?.into_iter().map(line).collect())
}

fn times(n: i64) -> String {
    if n == 1 { "once".into() } else { format!("{} times", text::count_of(n)) }
}

/// The statement, for whoever follows a link; nothing else is to be seen by it.
pub async fn follow(app: web::Data<App>, link: web::Path<String>) -> PageResult {
    let (share, study, workspace) = app.store.follow_share(&link).await?;
    let view = StudyView::load(&app, workspace.id, study.id).await?;
    html(&SharedStatementPage {
        document: written(&app, workspace.made_up, &view).await?,
        workspace: workspace.name,
        made_up: workspace.made_up,
        until: text::moment(&share.expires_at),
    })
}

/// Whom a link is for, and how long.
#[derive(Deserialize)]
pub struct NewLink {
    csrf: String,
    name: String,
    days: String,
}

/// Makes a link, and shows it this once.
pub async fn share(
    app: web::Data<App>,
    visitor: Visitor,
    request: HttpRequest,
    path: web::Path<StudyPath>,
    form: web::Form<NewLink>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = app.store.study(visitor.workspace_id(), path.id).await?;
    let name = form.name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Err(ServiceError::Refused(format!("Say whom the link is for, in up to {LONGEST_NAME} letters.")).into());
    }
    let days =
        form.days.trim().parse().map_err(|_| {
            ServiceError::Refused(format!("“{}” is no number of days from 1 to {MOST_DAYS}.", form.days))
        })?;
    let key = app.store.share(study.id, visitor.account_id(), name, days).await?;
    app.store
        .note(
            study.id,
            Some(visitor.account_id()),
            "Statement shared by a link",
            &format!("with {name}, for {}", text::counted(days.unsigned_abs() as usize, "day", "days")),
        )
        .await?;
    let link = format!("{}/shared/{key}", reached_at(&request));
    shown(&app, &visitor, study.id, Some((link, name.to_owned()))).await
}

/// The keys in the address of a link.
#[derive(Deserialize)]
pub struct SharePath {
    id: i64,
    share: i64,
}

/// Makes a link good for nobody any more.
pub async fn withdraw(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<SharePath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = app.store.study(visitor.workspace_id(), path.id).await?;
    let name = app.store.withdraw_share(study.id, path.share).await?;
    app.store
        .note(study.id, Some(visitor.account_id()), "Link to the statement withdrawn", &format!("that of {name}"))
        .await?;
    see_other(&format!("/studies/{}/statement", study.id))
}
