//! Records: rows and columns of a table.

pub(crate) mod append;
pub(crate) mod folder;
pub(crate) mod join;
pub(crate) mod query;
pub(crate) mod query_answer;
pub(crate) mod sources;
pub(crate) mod uploads;

use actix_web::web;
use askama::Template;
use pronoia_core::profile::{ColumnChange, ColumnProfile, changes};
use pronoia_core::table::written_date;
use pronoia_core::{Kind, number};
use pronoia_service::ServiceError;
use pronoia_service::prepare::outcome::MoveToVersion;
use pronoia_service::study_view::StudyView;
use pronoia_service::text;
use pronoia_store::record_table;
use pronoia_store::records::{Sort, StoredColumn, TablePage};
use serde::Deserialize;

use super::{PageResult, StudyPath, see_other};
use crate::App;
use crate::error::html;
use crate::frame::{Frame, encoded};
use crate::pager::Pager;
use crate::session::Visitor;

/// Rows on a page.
const ROWS: u64 = 25;

/// What part of the table to show, and how.
#[derive(Deserialize, Default)]
pub struct RecordsQuery {
    view: Option<String>,
    sort: Option<String>,
    #[serde(default)]
    descending: bool,
    page: Option<u64>,
    column: Option<String>,
}

#[derive(Template)]
#[template(path = "records/records.html")]
struct RecordsPage {
    frame: Frame,
    table: record_table::Model,
    source: pronoia_store::records::TableSource,
    base: String,
    columns: Vec<ColumnLine>,
    rows: Option<TableRowsView>,
    versions: Vec<OtherVersion>,
    /// What is odd about whole rows, in a sentence, and the rows with their page.
    repeated: Option<String>,
    /// Of how many rows the figures are, where these are not all.
    drawn: Option<String>,
    unlike: Vec<(u64, u64, String)>,
    looks_at_odd: bool,
}

/// Another version of the table, and what is different there.
struct OtherVersion {
    table: record_table::Model,
    /// Told from the older of the two to the newer.
    changes: Vec<ColumnChange>,
    newer: bool,
}

/// A column with its figures, written out.
pub struct ColumnLine {
    /// Name.
    pub name: String,
    /// The name for an address.
    pub encoded: String,
    /// Kind.
    pub kind: Kind,
    /// Missing values.
    pub missing: String,
    /// Different values.
    pub distinct: String,
    /// Least to greatest, or the most frequent values.
    pub summary: String,
    /// Whether it is unfolded.
    pub open: bool,
    /// Figures, name and value.
    pub figures: Vec<(&'static str, String)>,
    /// Most frequent values, with counts and share of rows.
    pub top: Vec<(String, String, String)>,
    /// The shape, for the chart.
    pub shape: Option<String>,
    /// Customers and event rate along the range, for the chart in place of the shape.
    pub strip: Option<String>,
    /// What the shape or the most frequent values say, in a sentence.
    pub finding: String,
    /// What it means, in somebody's words; empty if nobody has said.
    pub meaning: String,
}

struct TableRowsView {
    columns: Vec<StoredColumn>,
    rows: TablePage,
    sort: Option<Sort>,
    pager: Pager,
}

impl TableRowsView {
    fn sort_href(&self, base: &str, column: &StoredColumn) -> String {
        let turned = self.sort.as_ref().is_some_and(|s| s.column == column.name && !s.descending);
        format!("{base}?view=rows&sort={}&descending={turned}", encoded(&column.name))
    }

    fn sorted(&self, column: &StoredColumn) -> &'static str {
        match &self.sort {
            Some(s) if s.column == column.name && s.descending => "descending",
            Some(s) if s.column == column.name => "ascending",
            _ => "none",
        }
    }
}

/// Describes a column for a page.
pub fn line(profile: &ColumnProfile, rows: u64, open: bool) -> ColumnLine {
    let write = |x: f64| if profile.kind == Kind::Date { written_date(x as i32) } else { number::plain(x) };
    let share = |n: u64| number::percent(n as f64 / rows.max(1) as f64);
    let summary = match &profile.numbers {
        Some(n) => format!("{} to {}", write(n.min), write(n.max)),
        None if profile.distinct > 1 && profile.distinct + profile.missing == rows => "every value different".into(),
        None => profile.top.iter().take(3).map(|(v, _)| v.as_str()).collect::<Vec<_>>().join(", "),
    };
    let mut figures = Vec::new();
    if let Some(n) = &profile.numbers {
        figures.push(("middle", write(n.median)));
        figures
            .push(("middle half (quartiles)", format!("{} to {}", write(n.lower_quartile), write(n.upper_quartile))));
        figures.push(("least, greatest", format!("{} to {}", write(n.min), write(n.max))));
        figures.push(("mean", write(n.mean)));
        if profile.kind != Kind::Date {
            figures.push(("standard deviation", number::plain(n.sd)));
        }
    }
    figures.push(("missing", format!("{} ({})", number::count(profile.missing), share(profile.missing))));
    figures.push(("different values", number::count(profile.distinct)));
    let shape = profile.numbers.as_ref().filter(|n| n.bars.len() > 1).map(|n| {
        serde_json::json!({
            "edges": n.edges, "bars": n.bars, "date": profile.kind == Kind::Date, "name": profile.name,
        })
        .to_string()
    });
    let finding = match (&profile.numbers, profile.mode()) {
        (Some(n), _) => {
            format!("Half of {} lies between {} and {}", profile.name, write(n.lower_quartile), write(n.upper_quartile))
        }
        (None, Some((_, 1))) => format!("Every value of {} occurs once", profile.name),
        (None, Some((value, n))) => format!("{} is most often “{value}”: {} of rows", profile.name, share(n)),
        (None, None) => format!("{} has no value anywhere", profile.name),
    };
    ColumnLine {
        finding,
        meaning: String::new(),
        name: profile.name.clone(),
        encoded: encoded(&profile.name),
        kind: profile.kind,
        missing: number::count(profile.missing),
        distinct: number::count(profile.distinct),
        summary,
        open,
        figures,
        top: profile.top.iter().map(|(v, n)| (v.clone(), number::count(*n), share(*n))).collect(),
        shape,
        strip: None,
    }
}

/// Describes a column that a step makes; its figures stand beside the step.
pub fn made_line(name: &str, kind: Kind, open: bool) -> ColumnLine {
    ColumnLine {
        name: name.to_owned(),
        encoded: encoded(name),
        kind,
        missing: "–".into(),
        distinct: "–".into(),
        summary: String::new(),
        open,
        figures: Vec::new(),
        top: Vec::new(),
        shape: None,
        strip: None,
        meaning: String::new(),
        finding: "Derived by a step; its figures are beside the step".into(),
    }
}

/// The records of a study.
pub async fn page(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    query: web::Query<RecordsQuery>,
) -> PageResult {
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let frame = Frame::of_study(&app, &visitor, &view, 1).await?;
    let base = view.href("records");
    show(&app, frame, view.table, base, &query).await
}

/// A table outside any study.
pub async fn table(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    query: web::Query<RecordsQuery>,
) -> PageResult {
    let table = app.store.table(visitor.workspace_id(), *path).await?;
    let frame = Frame::plain(&app, &visitor).await?;
    show(&app, frame, table, format!("/tables/{path}"), &query).await
}

async fn show(app: &App, frame: Frame, table: record_table::Model, base: String, query: &RecordsQuery) -> PageResult {
    let profile = table.figures()?;
    let (mut columns, mut rows, mut others) = (Vec::new(), None, Vec::new());
    let looks_at_odd = query.view.as_deref() == Some("unlike");
    if query.view.as_deref() == Some("rows") {
        rows = Some(rows_view(app, &table, query).await?);
    } else if !looks_at_odd {
        columns = profile
            .columns
            .iter()
            .map(|c| line(c, profile.described(), query.column.as_ref() == Some(&c.name)))
            .collect();
        let mut meanings = app.store.meanings(table.workspace_id, &table.name).await?;
        columns.iter_mut().for_each(|c| c.meaning = meanings.remove(&c.name).unwrap_or_default());
        others = versions(app, &table, frame.study.is_some()).await?;
    }
    let repeated = (profile.repeated > 0).then(|| {
        format!(
            "{} a duplicate of an earlier row in every column.",
            text::counted(profile.repeated as usize, "row is", "rows are")
        )
    });
    let drawn = profile.drawn.map(|rows| {
        format!("Its columns are described from a sample of {} of its rows, at even distances.", text::count(rows))
    });
    let page_of = |row: u64| (row - 1) / ROWS + 1;
    let unlike = profile.unlike.iter().map(|u| (u.row, page_of(u.row), u.why.clone())).collect();
    html(&RecordsPage {
        source: table.came_from()?,
        frame,
        table,
        base,
        columns,
        rows,
        versions: others,
        repeated,
        drawn,
        unlike,
        looks_at_odd,
    })
}

/// The other versions to be told of: in a study all of them, elsewhere the one before.
async fn versions(app: &App, table: &record_table::Model, all: bool) -> Result<Vec<OtherVersion>, ServiceError> {
    if table.is_list {
        return Ok(Vec::new());
    }
    let profile = table.figures()?;
    let mut versions = Vec::new();
    for other in app.store.tables(table.workspace_id).await?.into_iter().filter(|t| t.name == table.name) {
        let newer = other.version > table.version;
        if other.id == table.id || !(all || other.version + 1 == table.version) {
            continue;
        }
        let theirs = other.figures()?;
        let changes = if newer { changes(&profile, &theirs) } else { changes(&theirs, &profile) };
        versions.push(OtherVersion { table: other, changes, newer });
    }
    Ok(versions)
}

/// What a column means.
#[derive(Deserialize)]
pub struct Meaning {
    csrf: String,
    column: String,
    words: String,
    /// The study whose page it was written on.
    study: Option<i64>,
}

/// Writes down what a column means.
pub async fn write_meaning(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    form: web::Form<Meaning>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let table = app.store.table(visitor.workspace_id(), *path).await?;
    if table.stored_columns()?.iter().all(|c| c.name != form.column) {
        return Err(ServiceError::NotFound.into());
    }
    app.store.set_meaning(table.workspace_id, &table.name, &form.column, form.words.trim()).await?;
    let page = form.study.map_or(format!("/tables/{path}"), |study| format!("/studies/{study}/records"));
    see_other(&format!("{page}?column={}#open", encoded(&form.column)))
}

/// The version that a study is to look at.
#[derive(Deserialize)]
pub struct Move {
    csrf: String,
    table: i64,
}

/// Moves a study to another version of its records.
pub async fn move_study(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<Move>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.perform(visitor.actor(), MoveToVersion { study: path.id, table: form.table }).await?;
    see_other(&format!("/studies/{}/records", path.id))
}

async fn rows_view(
    app: &App,
    table: &record_table::Model,
    query: &RecordsQuery,
) -> Result<TableRowsView, ServiceError> {
    let total = table.rows as u64;
    let pages = total.div_ceil(ROWS).max(1);
    let page = query.page.unwrap_or(1).clamp(1, pages);
    let sort = query.sort.clone().map(|column| Sort { column, descending: query.descending });
    let rows = app.store.page(table, sort.as_ref(), (page - 1) * ROWS, ROWS).await?;
    let first = (page - 1) * ROWS + 1;
    let last = text::count(first + rows.rows.len() as u64 - 1);
    let place = format!("{} – {last} of {}", text::count(first), text::count(total));
    let sorted =
        sort.as_ref().map_or(String::new(), |s| format!("&sort={}&descending={}", encoded(&s.column), s.descending));
    let pager = Pager::new(page, pages, place, |page| format!("?view=rows&page={page}{sorted}"));
    Ok(TableRowsView { columns: table.stored_columns()?, rows, sort, pager })
}
