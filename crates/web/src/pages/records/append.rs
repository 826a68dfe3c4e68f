//! The rows of another table are put below those of this one; what would come out is counted first.

use actix_web::web;
use askama::Template;
use pronoia_core::number::count;
use pronoia_service::ServiceError;
use pronoia_store::jobs::Work;
use pronoia_store::record_table;
use pronoia_store::records::{Append, AppendAccount};
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, see_other};
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "records/append.html")]
struct AppendPage {
    frame: Frame,
    table: record_table::Model,
    others: Vec<record_table::Model>,
    chosen: Option<ChosenAppend>,
}

struct ChosenAppend {
    other: record_table::Model,
    account: Option<AppendAccount>,
    problem: Option<String>,
}

impl ChosenAppend {
    fn finding(&self, account: &AppendAccount) -> String {
        format!(
            "{} rows and {} appended: {} rows.",
            count(account.first_rows),
            count(account.second_rows),
            count(account.first_rows + account.second_rows)
        )
    }
}

/// What was chosen so far.
#[derive(Deserialize)]
pub struct AppendForm {
    with: Option<i64>,
    #[serde(default)]
    name: String,
    #[serde(default)]
    csrf: String,
}

/// The page: the other table, then the account.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    query: web::Query<AppendForm>,
) -> PageResult {
    let workspace = visitor.workspace_id();
    let table = app.store.table(workspace, *path).await?;
    let mut others = app.store.tables(workspace).await?;
    others.retain(|t| t.id != table.id);
    let chosen = match query.with {
        None => None,
        Some(second) => {
            let other = app.store.table(workspace, second).await?;
            let append = Append { first: table.id, second, name: String::new() };
            let _turn = app.previews.take().await?;
            let (account, problem) = match app.store.for_previews().append_account(workspace, &append).await {
                Ok(account) => (Some(account), None),
                Err(pronoia_store::StoreError::Refused(sentence)) => (None, Some(sentence)),
                Err(e) => return Err(e.into()),
            };
            Some(ChosenAppend { other, account, problem })
        }
    };
    html(&AppendPage { frame: Frame::plain(&app, &visitor).await?, table, others, chosen })
}

/// Puts the rows below each other.
pub async fn make(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    form: web::Form<AppendForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let second = form.with.ok_or_else(|| ServiceError::Refused("Choose the table to append to this one.".into()))?;
    let append = Append { first: *path, second, name: crate::pages::table_name(&form.name)? };
    // Better said now than by the job.
    {
        let _turn = app.previews.take().await?;
        app.store.for_previews().append_account(visitor.workspace_id(), &append).await?;
    }
    let title = format!("Making {}", append.name);
    let job = app.store.enqueue_once(visitor.workspace_id(), None, &title, &Work::Append { append }).await?;
    see_other(&format!("/jobs/{job}"))
}
