//! Two tables put together: the account of their keys comes first.

use actix_web::web;
use askama::Template;
use pronoia_core::Kind;
use pronoia_core::number::{count, percent};
use pronoia_service::ServiceError;
use pronoia_service::text;
use pronoia_store::jobs::Work;
use pronoia_store::record_table;
use pronoia_store::records::{Join, JoinKind, KeyAccount, KeySide, StoredColumn};
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::{PageResult, see_other};
use crate::session::Visitor;

#[derive(Template)]
#[template(path = "records/join.html")]
struct JoinPage {
    frame: Frame,
    table: record_table::Model,
    others: Vec<record_table::Model>,
    chosen: Option<ChosenJoin>,
}

/// A second table was chosen.
struct ChosenJoin {
    other: record_table::Model,
    first_columns: Vec<String>,
    second_columns: Vec<String>,
    first_dates: Vec<String>,
    second_dates: Vec<String>,
    form: JoinForm,
    account: Option<KeyCounts>,
    problem: Option<String>,
    name: String,
}

/// The account of the keys, written out.
struct KeyCounts {
    lines: Vec<(&'static str, String, String)>,
    after: String,
    cautions: Vec<String>,
}

/// The answers so far.
#[derive(Deserialize, Clone, Default)]
pub struct JoinForm {
    #[serde(default)]
    with: Option<i64>,
    #[serde(default)]
    first_key: String,
    #[serde(default)]
    second_key: String,
    #[serde(default)]
    take: String,
    #[serde(default)]
    first_date: String,
    #[serde(default)]
    second_date: String,
    #[serde(default)]
    unmatched: String,
    #[serde(default)]
    name: String,
    #[serde(default)]
    csrf: String,
}

impl JoinForm {
    fn join(&self, first: i64) -> Result<Join, ServiceError> {
        let second = self.with.ok_or_else(|| ServiceError::Refused("Choose the table to join.".into()))?;
        let as_of = match (self.first_date.as_str(), self.second_date.as_str()) {
            ("", _) | (_, "") => None,
            (first, second) => Some((first.to_owned(), second.to_owned())),
        };
        Ok(Join {
            first,
            second,
            first_key: self.first_key.clone(),
            second_key: self.second_key.clone(),
            take: if self.take == "roll-up" { JoinKind::RollUp { as_of } } else { JoinKind::Columns },
            keep_unmatched: self.unmatched != "drop",
            name: self.name.trim().to_owned(),
        })
    }

    fn rolls_up(&self) -> bool {
        self.take == "roll-up"
    }

    fn drops(&self) -> bool {
        self.unmatched == "drop"
    }
}

/// The page: the second table, then the keys and their account.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    query: web::Query<JoinForm>,
) -> PageResult {
    let workspace = visitor.workspace_id();
    let table = app.store.table(workspace, *path).await?;
    let mut others = app.store.tables(workspace).await?;
    others.retain(|t| t.id != table.id);
    let chosen = match query.with {
        None => None,
        Some(with) => {
            let other = app.store.table(workspace, with).await?;
            Some(chosen(&app, workspace, &table, other, query.into_inner()).await?)
        }
    };
    html(&JoinPage { frame: Frame::plain(&app, &visitor).await?, table, others, chosen })
}

async fn chosen(
    app: &App,
    workspace: i64,
    table: &record_table::Model,
    other: record_table::Model,
    mut form: JoinForm,
) -> Result<ChosenJoin, ServiceError> {
    let (first, second) = (table.stored_columns()?, other.stored_columns()?);
    if form.first_key.is_empty() || form.second_key.is_empty() {
        (form.first_key, form.second_key) = likely_keys(table, &first, &other, &second)?;
    }
    let dates = |columns: &[StoredColumn]| -> Vec<String> {
        columns.iter().filter(|c| c.kind == Kind::Date).map(|c| c.name.clone()).collect()
    };
    let names = |columns: &[StoredColumn]| -> Vec<String> { columns.iter().map(|c| c.name.clone()).collect() };
    let first_try = form.take.is_empty();
    let join = form.join(table.id)?;
    let account = {
        let _turn = app.previews.take().await?;
        app.store.for_previews().key_account(workspace, &join).await
    };
    if let (true, Ok(counted)) = (first_try, &account) {
        // Many rows for one customer are to be rolled up; a few repeated ones hardly are.
        let many = counted.second.repeated * 10 > counted.second.keys;
        form.take = if many { "roll-up".into() } else { "columns".into() };
    }
    let (account, problem) = match account {
        Ok(account) => (Some(written(&account, &form, table, &other)), None),
        Err(pronoia_store::StoreError::Refused(sentence)) => (None, Some(sentence)),
        Err(e) => return Err(e.into()),
    };
    Ok(ChosenJoin {
        first_columns: names(&first),
        second_columns: names(&second),
        first_dates: dates(&first),
        second_dates: dates(&second),
        name: if form.name.is_empty() { format!("{} with {}", table.name, other.name) } else { form.name.clone() },
        other,
        form,
        account,
        problem,
    })
}

/// A column of the same name in both, else the ones that name customers, else the first ones.
fn likely_keys(
    table: &record_table::Model,
    first: &[StoredColumn],
    other: &record_table::Model,
    second: &[StoredColumn],
) -> Result<(String, String), ServiceError> {
    let distinct =
        |figures: &pronoia_core::profile::TableProfile, name: &str| figures.column(name).map_or(0, |c| c.distinct);
    let (a, b) = (table.figures()?, other.figures()?);
    let shared = first
        .iter()
        .filter(|c| second.iter().any(|d| d.name == c.name && d.kind.storage() == c.kind.storage()))
        .max_by_key(|c| distinct(&a, &c.name));
    if let Some(key) = shared {
        return Ok((key.name.clone(), key.name.clone()));
    }
    let most = |columns: &[StoredColumn], figures: &pronoia_core::profile::TableProfile| {
        let codes = columns.iter().filter(|c| c.kind == Kind::Code).max_by_key(|c| distinct(figures, &c.name));
        codes.or(columns.first()).map_or(String::new(), |c| c.name.clone())
    };
    Ok((most(first, &a), most(second, &b)))
}

fn written(
    account: &KeyAccount,
    form: &JoinForm,
    table: &record_table::Model,
    other: &record_table::Model,
) -> KeyCounts {
    let KeyAccount { first, second } = account;
    let line = |name, of: fn(&KeySide) -> u64| (name, count(of(first)), count(of(second)));
    let lines = vec![
        line("rows", |s| s.rows),
        line("rows without a key", |s| s.missing),
        line("different keys", |s| s.keys),
        line("keys with more than one row", |s| s.repeated),
        line("keys found on the other side", |s| s.matched),
        line("keys not found there", |s| s.keys - s.matched),
    ];
    let after = if form.drops() { first.rows_matched } else { first.rows };
    let mut cautions = Vec::new();
    if first.matched == 0 {
        cautions.push("No key of one table is found in the other: choose other key columns.".to_owned());
    } else if first.matched * 2 < first.keys {
        let share = percent(first.matched as f64 / first.keys.max(1) as f64);
        cautions.push(format!("Only {share} of the keys of {} are found in {}.", table.name, other.name));
    }
    if first.repeated > 0 {
        cautions.push(format!(
            "{} in {} more than once; each of their rows is joined to the same row.",
            text::counted(first.repeated as usize, "key is", "keys are"),
            table.name
        ));
    }
    if !form.rolls_up() && second.repeated > 0 {
        cautions.push(format!(
            "{} in {} more than once; the first row of each is used. Aggregate them if every row counts.",
            text::counted(second.repeated as usize, "key is", "keys are"),
            other.name
        ));
    }
    if form.drops() && after < first.rows {
        cautions.push(format!(
            "{} of {} would be dropped, because their key is not found.",
            text::counted((first.rows - after) as usize, "row", "rows"),
            table.name
        ));
    }
    KeyCounts {
        lines,
        after: format!("{} rows before, {} after; no row is duplicated.", count(first.rows), count(after)),
        cautions,
    }
}

/// Puts the tables together.
pub async fn make(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    form: web::Form<JoinForm>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let join = Join { name: crate::pages::table_name(&form.name)?, ..form.join(*path)? };
    // Better said now than by the job.
    app.store.check_keys(visitor.workspace_id(), &join).await?;
    let title = format!("Making {}", join.name);
    let job = app.store.enqueue_once(visitor.workspace_id(), None, &title, &Work::Join { join }).await?;
    see_other(&format!("/jobs/{job}"))
}
