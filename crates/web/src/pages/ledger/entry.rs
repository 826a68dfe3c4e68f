//! One entry: what it changed, what taking it back would do, what was remarked on it, and a study that
//! goes on from it.

use actix_web::web;
use askama::Template;
use pronoia_core::study::history::{self, ChoiceChange};
use pronoia_service::ServiceError;
use pronoia_service::ledger::{BranchStudy, left_without};
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use serde::Deserialize;

use super::undo::consequences;
use super::{NO_STOP, ReferenceNames, names, who};
use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, see_other};
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "ledger/entry.html")]
struct LedgerEntryPage {
    frame: Frame,
    study: String,
    base: String,
    entry: i64,
    chosen: String,
    figure: String,
    /// Who and when.
    by: String,
    is_choice: bool,
    changes: Vec<ChoiceChange>,
    taking_back: TakingBack,
    remarks: Vec<Remarked>,
    /// What a study that goes on from here might be called.
    branch: String,
}

/// Whether it can be taken back.
enum TakingBack {
    /// With what would follow; whether it would bring something back.
    Can { said: Vec<String>, brings_back: bool },
    /// Not, and why.
    Cannot(String),
}

struct Remarked {
    id: i64,
    who: String,
    when: String,
    said: String,
    file_name: Option<String>,
}

/// The keys in the address of an entry.
#[derive(Deserialize)]
pub struct EntryPath {
    pub(super) id: i64,
    pub(super) entry: i64,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor, path: web::Path<EntryPath>) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let entry = app.store.ledger_entry(study.study.id, path.entry).await?;
    let names = names(&app, study.entries()).await?;
    let changes = match entry.around()? {
        Some((before, after)) => history::changes(&before, &after, &ReferenceNames::of(&app, &study.study).await?),
        None => Vec::new(),
    };
    let taking_back = match left_without(&app, &study, &entry).await {
        Ok(state) => TakingBack::Can { said: consequences(&study, &state)?, brings_back: entry.takes_back.is_some() },
        Err(ServiceError::Refused(sentence)) => TakingBack::Cannot(sentence),
        Err(ServiceError::Store(pronoia_store::StoreError::Refused(sentence))) => TakingBack::Cannot(sentence),
        Err(other) => return Err(other.into()),
    };
    let remarks = app.store.remarks([entry.id]).await?;
    let speakers = app.store.addresses(remarks.iter().filter_map(|remark| remark.account_id)).await?;
    let remarks = remarks.into_iter().map(|remark| Remarked {
        id: remark.id,
        who: who(&speakers, remark.account_id),
        when: text::moment(&remark.created_at),
        said: remark.said,
        file_name: remark.file_name,
    });
    html(&LedgerEntryPage {
        study: study.href(""),
        base: study.href(&format!("ledger/{}", entry.id)),
        entry: entry.id,
        by: format!("{}, {}", who(&names, entry.account_id), text::moment(&entry.created_at)),
        is_choice: entry.after.is_some(),
        changes,
        taking_back,
        remarks: remarks.collect(),
        branch: branch_title(&study.study.title),
        chosen: entry.chosen,
        figure: entry.figure,
        frame: Frame::of_study(&app, &visitor, &study, NO_STOP).await?,
    })
}

fn branch_title(title: &str) -> String {
    format!("{} (branch)", title.chars().take(100).collect::<String>())
}

/// What the study that goes on from here is called.
#[derive(Deserialize)]
pub struct Branch {
    csrf: String,
    title: String,
}

/// Begins a study with the choices as they stood once the entry was made.
pub async fn branch(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<EntryPath>,
    form: web::Form<Branch>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let title = form.into_inner().title;
    let begun = app.perform(visitor.actor(), BranchStudy { study: path.id, entry: path.entry, title }).await?.id;
    see_other(&format!("/studies/{begun}"))
}
