//! Lists: bring, match, score, take away.

pub(crate) mod campaigns;
pub mod decision_diff;
pub mod download;
pub mod groups;
pub mod list;
mod match_report;
pub mod opt_outs;
pub mod rows;

use actix_web::web;
use askama::Template;
use pronoia_service::lists::ImportList;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use serde::Deserialize;

use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::session::Visitor;
use opt_outs::DoNotContact;

#[derive(Template)]
#[template(path = "lists/lists.html")]
struct ListsPage {
    frame: Frame,
    base: String,
    decide: String,
    study: i64,
    has_policy: bool,
    lines: Vec<ListLine>,
    /// Tables of Records that may be scored as they are.
    tables: Vec<(i64, String)>,
    do_not_contact: Option<DoNotContact>,
    most_upload: String,
    most_bytes: u64,
}

struct ListLine {
    id: i64,
    name: String,
    rows: String,
    state: &'static str,
    acted: String,
    gain: String,
    when: String,
}

/// The lists of a study.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let mut lines = Vec::new();
    for list in &view.lists {
        let table = app.store.table(visitor.workspace_id(), list.table_id).await?;
        lines.push(ListLine {
            id: list.id,
            name: table.name,
            rows: text::count_of(table.rows),
            state: state_words(list),
            acted: list.acted.map_or("–".into(), text::count_of),
            gain: list.gain.map_or("–".into(), text::money),
            when: text::moment(&list.created_at),
        });
    }
    let own = view.study.table_id;
    let others = app.store.tables(visitor.workspace_id()).await?.into_iter().filter(|table| table.id != own);
    html(&ListsPage {
        frame: Frame::of_study(&app, &visitor, &view, 7).await?,
        tables: others
            .map(|table| (table.id, format!("{}, {} rows", table.name, text::count_of(table.rows))))
            .collect(),
        do_not_contact: DoNotContact::of(&app, &view).await?,
        base: view.href("lists"),
        decide: view.href("decide"),
        study: view.study.id,
        has_policy: view.state.policy.is_some(),
        lines,
        most_upload: text::bytes(app.files.most_upload),
        most_bytes: app.files.most_upload,
    })
}

fn state_words(list: &pronoia_store::list::Model) -> &'static str {
    match list.state.as_str() {
        "matched" => "matched, not scored",
        "scoring" => "in progress",
        "scored" => "scored",
        "stopped" => "stopped",
        _ => "not scored",
    }
}

/// A table of Records that is to be scored.
#[derive(Deserialize)]
pub struct Bring {
    csrf: String,
    table: i64,
}

/// Takes a table of Records as a list.
pub async fn bring(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Bring>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let job = app.perform(visitor.actor(), ImportList { study: path.id, table: form.table }).await?.job;
    see_other(&format!("/jobs/{job}"))
}
