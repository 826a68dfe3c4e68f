//! A study at two points in time.

use actix_web::web;
use askama::Template;
use pronoia_core::study::StudyState;
use pronoia_core::study::history::{self, ChoiceChange};
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use serde::Deserialize;

use super::{NO_STOP, ReferenceNames};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, StudyPath};
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "ledger/compare.html")]
struct LedgerComparePage {
    frame: Frame,
    ledger: String,
    heading: String,
    /// What the two points are called.
    points: [String; 2],
    changes: Vec<ChoiceChange>,
}

/// Two entries; without the second, the study as it stands.
#[derive(Deserialize)]
pub struct Points {
    from: i64,
    #[serde(default)]
    to: String,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    points: web::Query<Points>,
) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let from = points.from;
    let to = match points.to.as_str() {
        "" => None,
        typed => Some(typed.parse::<i64>().map_err(|_| ServiceError::NotFound)?),
    };
    // The earlier one stands first, whichever was named first.
    let (from, to) = match to {
        Some(to) if to < from => (to, Some(from)),
        to => (from, to),
    };
    let (name, was) = at(&app, &study, from).await?;
    let (other, is) = match to {
        Some(to) => at(&app, &study, to).await?,
        None => ("now".to_owned(), study.state.clone()),
    };
    let changes = history::changes(&was, &is, &ReferenceNames::of(&app, &study.study).await?);
    html(&LedgerComparePage {
        heading: match changes.len() {
            0 => "Nothing differs.".into(),
            n => format!("{} between the two", text::counted(n, "thing differs", "things differ")),
        },
        ledger: study.href("ledger"),
        points: [name, other],
        changes,
        frame: Frame::of_study(&app, &visitor, &study, NO_STOP).await?,
    })
}

async fn at(app: &App, study: &StudyView, entry: i64) -> Result<(String, StudyState), ServiceError> {
    let line = app.store.ledger_entry(study.study.id, entry).await?;
    let state = app.store.choices_at(&study.study, entry).await?;
    Ok((format!("after “{}”, {}", line.chosen, text::moment(&line.created_at)), state))
}
