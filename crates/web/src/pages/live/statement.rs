//! The statement: what somebody who answers for the model asks for, written anew from the study
//! whenever it is looked at.

pub mod document;
mod in_use;
mod model;
mod records;
pub mod sharing;

use actix_web::{HttpResponse, web};
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::decide::report;
use crate::pages::{PageResult, StudyPath};
use crate::session::Visitor;
use document::{Section, SectionPart, StatementDocument};
use sharing::ShareLine;

#[derive(Template)]
#[template(path = "live/statement.html")]
struct StatementPage {
    frame: Frame,
    base: String,
    document: StatementDocument,
    /// Links by which others read it.
    shares: Vec<ShareLine>,
    /// A link that was just made, and whom it is for.
    new_link: Option<(String, String)>,
}

/// The page, to be read and printed.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    shown(&app, &visitor, path.id, None).await
}

async fn shown(app: &App, visitor: &Visitor, study: i64, new_link: Option<(String, String)>) -> PageResult {
    let view = StudyView::load(app, visitor.workspace_id(), study).await?;
    html(&StatementPage {
        document: written(app, visitor.0.workspace.made_up, &view).await?,
        shares: sharing::lines(app, study).await?,
        new_link,
        base: view.href("statement"),
        frame: Frame::of_study(app, visitor, &view, 8).await?,
    })
}

/// The same as Markdown, to be kept.
pub async fn markdown(app: web::Data<App>, visitor: Visitor, path: web::Path<StudyPath>) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let text = written(&app, visitor.0.workspace.made_up, &view).await?.markdown();
    app.store.note(view.study.id, Some(visitor.account_id()), TAKEN, "as Markdown").await?;
    Ok(HttpResponse::Ok()
        .content_type("text/markdown; charset=utf-8")
        .insert_header(("Content-Disposition", "attachment; filename=\"statement.md\""))
        .body(text))
}

/// What the ledger says when a statement was taken away.
const TAKEN: &str = "Statement downloaded";

async fn written(app: &App, made_up: bool, view: &StudyView) -> Result<StatementDocument, ServiceError> {
    let mut warnings = Vec::new();
    if made_up {
        warnings.push("The records are demo data; nothing here is about real customers.".to_owned());
    }
    match view.policy_model() {
        None => warnings.push("No policy is kept yet, so that nothing is decided.".into()),
        Some((_, model)) if view.is_stale(model) => warnings.push(
            "The model was fitted before columns, outcome or records were changed, or was replaced since; its figures are of what it was fitted to.".into(),
        ),
        Some(_) => {}
    }
    let entries = view.entries();
    let since = entries.iter().position(|entry| entry.chosen == TAKEN);
    let latest = match (entries.first(), since) {
        (Some(entry), _) if entry.chosen == TAKEN => "No entries in the ledger since it was last downloaded.".into(),
        (Some(_), Some(n)) => {
            format!("{} in the ledger since it was last downloaded.", text::counted(n, "item", "items"))
        }
        (Some(_), None) => "It was never downloaded before.".into(),
        (None, _) => String::new(),
    };
    let mut sections = vec![purpose(view)];
    sections.extend(records::sections(app, view).await?);
    sections.extend(model::sections(app, view).await?);
    sections.extend(report::sections(app, view).await?);
    sections.push(limits(view));
    sections.extend(in_use::section(app, view).await?);
    sections.push(changes(view));
    Ok(StatementDocument {
        title: format!("Statement: {}", view.study.title),
        written: format!(
            "Written on {} by Pronoia {} from the present state of the study. {latest}",
            chrono::Utc::now().format("%-d %B %Y"),
            env!("CARGO_PKG_VERSION")
        ),
        warnings,
        sections,
    })
}

fn purpose(view: &StudyView) -> Section {
    let question = view.study.kind();
    let section = Section::new("Purpose").says(format!(
        "{} The action is to {} customers.",
        ended(&view.study.title),
        question.act()
    ));
    match (&view.state.outcome, view.state.counted) {
        (Some(outcome), Some((events, rows))) => section.says(format!(
            "The event: {}. {} of {} customers whose outcome is known {} ({}).",
            outcome.words(),
            text::count(events),
            text::count(rows),
            question.event_verb(),
            text::percent(events as f64 / rows.max(1) as f64)
        )),
        (Some(outcome), None) => section.says(format!("The event: {}.", outcome.words())),
        (None, _) => section.warns("No outcome is chosen yet."),
    }
}

/// A title as a sentence.
fn ended(title: &str) -> String {
    if title.ends_with(['?', '.', '!']) { title.to_owned() } else { format!("{title}.") }
}

fn limits(view: &StudyView) -> Section {
    let mut section = Section::new("Limits");
    for caution in view.open_cautions() {
        section = section.warns(format!("{}. {}", caution.heading, caution.evidence));
    }
    let kept = view.cautions().filter_map(|caution| {
        let because = caution.kept(&view.state)?;
        Some(format!("{}: kept, because {because}", caution.heading))
    });
    section = section.lists(kept.collect());
    section = section.says(
        "Associations with the event are not causal: changing a column need not change the outcome. Predicted probabilities are valid for customers like those of the records; for drift see “In use”.",
    );
    match view.study.kind().cannot_tell() {
        Some(limit) => section.says(limit),
        None => section,
    }
}

fn changes(view: &StudyView) -> Section {
    let rows = view.entries().iter().rev().map(|entry| {
        let taken_back = if entry.taken_back_at.is_some() { " (undone)" } else { "" };
        vec![text::moment(&entry.created_at), format!("{}{taken_back}", entry.chosen), entry.figure.clone()]
    });
    Section::new("What was chosen, in order").table(vec!["when", "what", "figure"], rows.collect(), 3)
}
