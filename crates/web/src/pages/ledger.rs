//! The whole ledger of a study: found through, compared, printed.

pub mod compare;
pub mod entry;
pub mod remark;
mod undo;

use std::collections::HashMap;

use actix_web::web;
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::ledger::{LedgerFilter, LedgerLine};
use pronoia_store::member_role::MemberRole;
use pronoia_store::study;
use serde::Deserialize;

pub use undo::take_back;

use super::{PageResult, StudyPath};
use crate::App;
use crate::error::html;
use crate::frame::{Frame, encoded};
use crate::pager::Pager;
use crate::session::Visitor;

/// Entries on one page.
const ENTRIES: u64 = 100;

/// A ledger is part of every stop.
const NO_STOP: u8 = 0;

#[derive(Template)]
#[template(path = "ledger/ledger.html")]
struct LedgerPage {
    frame: Frame,
    base: String,
    heading: String,
    asked: LedgerQuery,
    rows: Vec<LedgerRow>,
    /// Who entered anything.
    people: Vec<(i64, String)>,
    /// Choices, newest first, to be compared.
    choices: Vec<(i64, String)>,
    pages: u64,
    pager: Pager,
    study: i64,
    /// Whether whoever looks does the work.
    may_change: bool,
    /// Who keeps the study.
    keeper: String,
    /// Who could.
    members: Vec<(i64, String)>,
}

/// An entry as it is listed.
struct LedgerRow {
    id: i64,
    chosen: String,
    figure: String,
    when: String,
    who: String,
    is_taken_back: bool,
    /// What was remarked on it.
    remarks: Vec<String>,
}

/// What is asked for.
#[derive(Deserialize)]
pub struct LedgerQuery {
    /// Words.
    #[serde(default)]
    q: String,
    /// An account; empty for all.
    #[serde(default)]
    who: String,
    #[serde(default)]
    page: u64,
}

/// The page.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<LedgerQuery>,
) -> PageResult {
    let study = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let asked = query.into_inner();
    let words = asked.q.trim();
    let account: Option<i64> = asked.who.parse().ok();
    let page = asked.page.max(1);
    let (lines, all) =
        app.store.ledger_page(study.study.id, &LedgerFilter { words, account }, (page - 1, ENTRIES)).await?;
    let names = names(&app, study.entries()).await?;
    let mut remarks: HashMap<i64, Vec<String>> = HashMap::new();
    for remark in app.store.remarks(lines.iter().map(|line| line.id)).await? {
        let file = remark.file_name.map_or_else(String::new, |name| format!(" [{name}]"));
        remarks.entry(remark.entry_id).or_default().push(format!("{}{file}", remark.said));
    }
    let rows: Vec<LedgerRow> = lines
        .into_iter()
        .map(|line| LedgerRow {
            who: who(&names, line.account_id),
            when: text::moment(&line.created_at),
            is_taken_back: line.taken_back_at.is_some(),
            remarks: remarks.remove(&line.id).unwrap_or_default(),
            id: line.id,
            chosen: line.chosen,
            figure: line.figure,
        })
        .collect();
    let is_whole = words.is_empty() && account.is_none();
    let heading = match all {
        0 if is_whole => "No entries yet.".to_owned(),
        0 => "No entry matches.".to_owned(),
        n if is_whole => {
            let choices = study.entries().iter().filter(|line| line.is_choice).count();
            format!("{} in the ledger, {} of them choices", counted(n), text::count(choices as u64))
        }
        n => format!("{} of {} in the ledger", counted(n), text::count(study.entries().len() as u64)),
    };
    let mut people: Vec<(i64, String)> = names.into_iter().collect();
    people.sort_by(|one, other| one.1.cmp(&other.1));
    let choices = study.entries().iter().filter(|line| line.is_choice);
    let pages = all.div_ceil(ENTRIES).max(1);
    let place = format!("page {} of {}", text::count(page.min(pages)), text::count(pages));
    let who = account.map_or_else(String::new, |id| id.to_string());
    let keeper = study.study.account_id;
    let mut members: Vec<(i64, String)> = app
        .store
        .members(visitor.workspace_id())
        .await?
        .into_iter()
        .map(|member| (member.account.id, member.account.email))
        .collect();
    let kept_by = members.iter().find(|member| Some(member.0) == keeper).map(|member| member.1.clone());
    members.retain(|member| Some(member.0) != keeper);
    html(&LedgerPage {
        choices: choices
            .map(|line| (line.id, format!("{}: {}", text::moment(&line.created_at), line.chosen)))
            .collect(),
        base: study.href("ledger"),
        heading,
        rows,
        people,
        study: study.study.id,
        may_change: visitor.0.role >= MemberRole::Analyst,
        keeper: kept_by.unwrap_or_default(),
        members,
        pages,
        pager: Pager::new(page.min(pages), pages, place, |page| format!("?q={}&who={who}&page={page}", encoded(words))),
        frame: Frame::of_study(&app, &visitor, &study, NO_STOP).await?,
        asked,
    })
}

fn counted(n: u64) -> String {
    text::counted(n as usize, "entry", "entries")
}

/// The addresses of those who made entries.
async fn names(app: &App, lines: &[LedgerLine]) -> Result<HashMap<i64, String>, ServiceError> {
    Ok(app.store.addresses(lines.iter().filter_map(|line| line.account_id)).await?)
}

/// Who did it.
fn who(names: &HashMap<i64, String>, account: Option<i64>) -> String {
    match account {
        None => "Pronoia".into(),
        Some(id) => names.get(&id).cloned().unwrap_or_else(|| "somebody who has left".into()),
    }
}

/// The names of what choices point at.
struct ReferenceNames {
    tables: HashMap<i64, String>,
    models: HashMap<i64, String>,
    first: i64,
}

impl ReferenceNames {
    async fn of(app: &App, study: &study::Model) -> Result<Self, ServiceError> {
        let tables = app.store.tables(study.workspace_id).await?;
        let models = app.store.model_names(study.id).await?;
        Ok(Self {
            tables: tables.into_iter().map(|t| (t.id, format!("{}, version {}", t.name, t.version))).collect(),
            models,
            first: study.table_id,
        })
    }
}

impl pronoia_core::study::history::Names for ReferenceNames {
    fn records(&self, table: Option<i64>) -> String {
        self.tables.get(&table.unwrap_or(self.first)).cloned().unwrap_or_else(|| "deleted records".into())
    }

    fn model(&self, id: i64) -> String {
        self.models.get(&id).cloned().unwrap_or_else(|| "a deleted model".into())
    }
}
