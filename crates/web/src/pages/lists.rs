//! Lists: bring, match, score, take away.

use actix_web::web;
use askama::Template;
use pronoia_core::score::{InputMatch, MatchReport};
use pronoia_core::sentence::capital;
use pronoia_store::jobs::Work;
use pronoia_store::list;
use pronoia_store::records::{Page as Rows, Sort, StoredColumn};
use serde::Deserialize;

use super::{PageResult, Signed, StudyPath, csv_file, see_other};
use crate::App;
use crate::error::{PageError, html};
use crate::frame::{Frame, StudyView};
use crate::session::Visitor;
use crate::text;

/// Rows of the preview.
const PREVIEW: u64 = 12;

#[derive(Template)]
#[template(path = "lists.html")]
struct Page {
    frame: Frame,
    base: String,
    decide: String,
    study: i64,
    has_policy: bool,
    lines: Vec<Line>,
    most_upload: String,
    most_bytes: u64,
}

struct Line {
    id: i64,
    name: String,
    rows: String,
    state: &'static str,
    acted: String,
    when: String,
}

/// The lists of a study.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let mut lines = Vec::new();
    for list in &view.lists {
        let table = app.store.table(visitor.workspace_id(), list.table_id).await?;
        lines.push(Line {
            id: list.id,
            name: table.name,
            rows: text::count_of(table.rows),
            state: state_words(list),
            acted: list.acted.map_or("–".into(), text::count_of),
            when: text::moment(&list.created_at),
        });
    }
    html(&Page {
        frame: Frame::of_study(&app, &visitor, &view, 7).await?,
        base: view.href("lists"),
        decide: view.href("decide"),
        study: view.study.id,
        has_policy: view.state.policy.is_some(),
        lines,
        most_upload: text::bytes(app.config.most_upload),
        most_bytes: app.config.most_upload,
    })
}

fn state_words(list: &list::Model) -> &'static str {
    match list.state.as_str() {
        "matched" => "matched, not scored",
        "scoring" => "in the works",
        "scored" => "scored",
        "stopped" => "stopped",
        _ => "not scored",
    }
}

#[derive(Template)]
#[template(path = "list.html")]
struct ListPage {
    frame: Frame,
    base: String,
    heading: String,
    list: list::Model,
    model: String,
    /// On whom its policy acts.
    acting: String,
    report: MatchReport,
    remarkable: Vec<InputMatch>,
    columns: Vec<StoredColumn>,
    rows: Option<Rows>,
}

/// The keys in the address of a list.
#[derive(Deserialize)]
pub struct ListPath {
    id: i64,
    list: i64,
}

async fn find(app: &App, visitor: &Visitor, path: &ListPath) -> Result<(StudyView, list::Model), PageError> {
    let view = StudyView::load(app, visitor.workspace_id(), path.id).await?;
    let list = view.lists.iter().find(|l| l.id == path.list).cloned().ok_or(PageError::NotFound)?;
    Ok((view, list))
}

/// One list: how it matches, and once it is scored, its rows.
pub async fn list(app: web::Data<App>, visitor: Visitor, path: web::Path<ListPath>) -> PageResult {
    let (view, list) = find(&app, &visitor, &path).await?;
    let report = list.matched()?;
    let source = app.store.table(visitor.workspace_id(), list.table_id).await?;
    let (mut columns, mut rows) = (Vec::new(), None);
    if let Some(id) = list.scored_id {
        let table = app.store.table(visitor.workspace_id(), id).await?;
        columns = table.stored_columns()?;
        let sort = Sort { column: "pronoia_probability".into(), descending: true };
        rows = Some(app.store.page(&table, Some(&sort), 0, PREVIEW).await?);
    }
    let heading = match (list.acted, report.is_complete()) {
        (Some(acted), _) => format!(
            "{} {} of {} customers.",
            capital(view.study.kind().act()),
            text::count_of(acted),
            text::count_of(source.rows)
        ),
        (None, true) => {
            format!("{} fits the model: {} customers can be scored.", source.name, text::count_of(source.rows))
        }
        (None, false) => format!(
            "{} cannot be scored yet: {} missing.",
            source.name,
            text::counted(report.lacking().len(), "column is", "columns are")
        ),
    };
    let model = app.store.model(list.model_id).await?.name;
    html(&ListPage {
        frame: Frame::of_study(&app, &visitor, &view, 7).await?,
        base: format!("{}/{}", view.href("lists"), list.id),
        heading,
        model,
        acting: list.decided_by()?.policy.rule.in_words(),
        remarkable: report.inputs.iter().filter(|i| !i.remarks().is_empty()).cloned().collect(),
        report,
        list,
        columns,
        rows,
    })
}

/// Puts the scoring in the queue.
pub async fn score(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ListPath>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let (view, list) = find(&app, &visitor, &path).await?;
    if !list.matched()?.is_complete() {
        return Err(PageError::Refused("Columns that the model needs are missing; the list cannot be scored.".into()));
    }
    if !matches!(list.state.as_str(), "matched" | "stopped" | "failed") {
        return see_other(&format!("{}/{}", view.href("lists"), list.id));
    }
    app.store.set_list_state(list.id, "scoring").await?;
    let job = app
        .store
        .enqueue(visitor.workspace_id(), Some(view.study.id), "Scoring the list", &Work::Score { list: list.id })
        .await?;
    see_other(&format!("/jobs/{job}"))
}

/// The scored list as CSV, in the order it was brought.
pub async fn download(app: web::Data<App>, visitor: Visitor, path: web::Path<ListPath>) -> PageResult {
    let (_, list) = find(&app, &visitor, &path).await?;
    let id = list.scored_id.ok_or_else(|| PageError::Refused("The list is not scored yet.".into()))?;
    let table = app.store.table(visitor.workspace_id(), id).await?;
    let rows = app.store.columns(&table, None).await?;
    let bytes = web::block(move || pronoia_core::score::to_csv(&rows))
        .await
        .map_err(|e| PageError::Refused(format!("The file could not be written: {e}.")))??;
    csv_file("scored.csv", bytes)
}
