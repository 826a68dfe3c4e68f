//! Studies as the index of a book; tables below.

use actix_web::web;
use askama::Template;
use pronoia_core::question::Question;
use pronoia_service::prepare::outcome::event_rate;
use pronoia_service::studies::CreateStudy;
use pronoia_service::study_view::{PolicyProfit, StudyView};
use pronoia_service::text;
use pronoia_store::{record_table, upload};
use serde::Deserialize;

use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::records::folder::FolderFile;
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "home/home.html")]
struct HomePage {
    frame: Frame,
    studies: Vec<StudyLine>,
    tables: Vec<record_table::Model>,
    /// Files that were read and wait to be accepted, or could not be.
    uploads: Vec<upload::Model>,
    questions: [Question; 4],
    most_upload: String,
    most_bytes: u64,
    /// What lies in the shared folder, or why that cannot be told.
    folder: Result<Vec<FolderFile>, String>,
    /// Databases that can be read from.
    sources: usize,
    /// Things that were put away.
    away: usize,
}

struct StudyLine {
    id: i64,
    title: String,
    event_rate: String,
    worth: Option<PolicyProfit>,
    last: String,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    let mut studies = Vec::new();
    for study in app.store.studies(visitor.workspace_id()).await? {
        let view = StudyView::load(&app, visitor.workspace_id(), study.id).await?;
        studies.push(StudyLine {
            id: study.id,
            title: study.title,
            event_rate: event_rate(&view)?,
            worth: view.worth(),
            last: view
                .newest_entry()
                .map_or("nothing chosen yet".into(), |e| format!("{}, {}", e.chosen, text::moment(&e.created_at))),
        });
    }
    html(&HomePage {
        frame: Frame::plain(&app, &visitor).await?,
        studies,
        tables: app.store.tables(visitor.workspace_id()).await?,
        uploads: app.store.waiting_uploads(visitor.workspace_id()).await?,
        questions: Question::ALL,
        most_upload: text::bytes(app.files.most_upload),
        most_bytes: app.files.most_upload,
        folder: crate::pages::records::folder::held(&app, visitor.workspace_id()).await?,
        sources: app.store.sources(visitor.workspace_id()).await?.len(),
        away: app.store.away(visitor.workspace_id()).await?.len(),
    })
}

/// A question about a table.
#[derive(Deserialize)]
pub struct NewQuestion {
    csrf: String,
    table: i64,
    title: String,
    question: String,
}

/// Begins a study.
pub async fn begin(app: web::Data<App>, visitor: Visitor, form: web::Form<NewQuestion>) -> PageResult {
    visitor.check(&form.csrf)?;
    let NewQuestion { table, title, question, .. } = form.into_inner();
    let study = app.perform(visitor.actor(), CreateStudy { table, title, question, outcome: None }).await?.id;
    see_other(&format!("/studies/{study}/prepare"))
}

/// Leads to where the study stands.
pub async fn study(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let stop = if view.state.policy.is_some() {
        "decide"
    } else if view.fitted().next().is_some() {
        "compare"
    } else if view.state.outcome.is_some() {
        "train"
    } else {
        "prepare"
    };
    see_other(&view.href(stop))
}
