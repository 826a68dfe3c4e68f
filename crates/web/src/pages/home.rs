//! Studies as the index of a book; tables below.

use actix_web::web;
use askama::Template;
use pronoia_core::study::Question;
use pronoia_store::{record_table, upload};
use serde::Deserialize;

use super::folder::Held;
use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::error::{PageError, html};
use crate::frame::{Frame, StudyView, Worth};
use crate::session::Visitor;
use crate::text;

#[derive(Template)]
#[template(path = "home.html")]
struct Page {
    frame: Frame,
    studies: Vec<Line>,
    tables: Vec<record_table::Model>,
    /// Files that were read and wait to be accepted, or could not be.
    uploads: Vec<upload::Model>,
    questions: [Question; 4],
    most_upload: String,
    most_bytes: u64,
    /// What lies in the shared folder, or why that cannot be told.
    folder: Result<Vec<Held>, String>,
    /// Databases that can be read from.
    sources: usize,
}

struct Line {
    id: i64,
    title: String,
    event_rate: String,
    worth: Option<Worth>,
    last: String,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    let mut studies = Vec::new();
    for study in app.store.studies(visitor.workspace_id()).await? {
        let view = StudyView::load(&app, visitor.workspace_id(), study.id).await?;
        studies.push(Line {
            id: study.id,
            title: study.title,
            event_rate: super::outcome::event_rate(&view)?,
            worth: view.worth(),
            last: view
                .newest_entry()
                .map_or("nothing chosen yet".into(), |e| format!("{}, {}", e.chosen, text::moment(&e.created_at))),
        });
    }
    html(&Page {
        frame: Frame::plain(&app, &visitor).await?,
        studies,
        tables: app.store.tables(visitor.workspace_id()).await?,
        uploads: app.store.waiting_uploads(visitor.workspace_id()).await?,
        questions: Question::ALL,
        most_upload: text::bytes(app.config.most_upload),
        most_bytes: app.config.most_upload,
        folder: super::folder::held(&app, visitor.workspace_id()).await?,
        sources: app.store.sources(visitor.workspace_id()).await?.len(),
    })
}

/// A question about a table.
#[derive(Deserialize)]
pub struct Begin {
    csrf: String,
    table: i64,
    title: String,
    question: String,
}

/// Begins a study.
pub async fn begin(app: web::Data<App>, visitor: Visitor, form: web::Form<Begin>) -> PageResult {
    visitor.check(&form.csrf)?;
    let title = form.title.trim();
    if title.is_empty() || title.chars().count() > 120 {
        return Err(PageError::Refused("Write the question in a sentence of at most 120 letters.".into()));
    }
    let question: Question = form.question.parse().map_err(PageError::Refused)?;
    let table = app.store.table(visitor.workspace_id(), form.table).await?;
    let study = app.store.create_study(visitor.workspace_id(), table.id, title, question).await?;
    let figure = format!("on {}, {} rows", table.name, text::count_of(table.rows));
    app.store.note(study.id, Some(visitor.account_id()), "Study begun", &figure).await?;
    see_other(&format!("/studies/{}/prepare", study.id))
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

/// The entry to take back.
#[derive(Deserialize)]
pub struct TakeBack {
    csrf: String,
    entry: i64,
    back: String,
}

/// Takes back the newest choice.
pub async fn take_back(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<TakeBack>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let study = app.store.study(visitor.workspace_id(), path.id).await?;
    app.store.take_back(&study, form.entry).await?;
    super::look_again(&app, &study).await?;
    let stop = if ["records", "drivers", "prepare", "train", "compare", "decide", "lists"].contains(&form.back.as_str())
    {
        &form.back
    } else {
        "prepare"
    };
    see_other(&format!("/studies/{}/{stop}", study.id))
}
