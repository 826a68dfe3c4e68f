//! Ad hoc questions in SQL over the tables of the workspace.

use std::path::PathBuf;
use std::time::Duration;

use actix_web::web;
use askama::Template;
use pronoia_core::number::count;
use pronoia_service::ServiceError;
use pronoia_store::StoreError;
use pronoia_store::queries::{FiledAnswer, Formulas, LONGEST, QueryError, QueryLimits, Readable};
use pronoia_store::uploads::Arrived;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::file_download::attachment;
use crate::frame::Frame;
use crate::pages::records::query_answer::{QueryProblem, ShownAnswer};
use crate::pages::{PageResult, file_stem, see_other};
use crate::session::Visitor;

/// Rows shown on the page.
const SHOWN: usize = 200;

/// What a question on the page may cost.
const TO_LOOK: QueryLimits = QueryLimits { time: Duration::from_secs(10), rows: SHOWN, bytes: 4 << 20 };

/// What a question may cost whose answer is kept or taken away.
const TO_KEEP: QueryLimits = QueryLimits { time: Duration::from_secs(60), rows: 1_000_000, bytes: 256 << 20 };

#[derive(Template)]
#[template(path = "records/query.html")]
struct QueryPage {
    frame: Frame,
    sql: String,
    longest: usize,
    tables: Vec<Readable>,
    heading: String,
    answer: Option<ShownAnswer>,
    problem: Option<QueryProblem>,
}

/// A question in an address: written into the box, and not asked.
#[derive(Deserialize)]
pub struct SqlQuery {
    #[serde(default)]
    pub(crate) sql: String,
}

/// A question that is asked.
#[derive(Deserialize)]
pub struct SqlForm {
    pub(crate) csrf: String,
    #[serde(default)]
    pub(crate) sql: String,
}

/// The page before anything is asked.
pub async fn page(app: web::Data<App>, visitor: Visitor, query: web::Query<SqlQuery>) -> PageResult {
    let (problem, heading) = match app.store.protected().await {
        Ok(()) => (None, "Query with SQL"),
        Err(StoreError::Refused(sentence)) => (Some(QueryProblem::of("", sentence, None)), "SQL is off"),
        Err(e) => return Err(e.into()),
    };
    show(&app, &visitor, query.into_inner().sql, (heading.to_owned(), None, problem)).await
}

/// The page with the answer.
pub async fn ask(app: web::Data<App>, visitor: Visitor, form: web::Form<SqlForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    let sql = form.into_inner().sql;
    if sql.trim().is_empty() {
        return see_other("/query");
    }
    let outcome = match app.store.ask(visitor.workspace_id(), &sql, &TO_LOOK).await {
        Ok(answer) => {
            let shown = ShownAnswer::of(answer);
            (shown.heading(), Some(shown), None)
        }
        Err(QueryError::Question { sentence, place }) => {
            ("The query failed".to_owned(), None, Some(QueryProblem::of(&sql, sentence, place)))
        }
        Err(QueryError::Store(e @ (StoreError::Busy(_) | StoreError::Refused(_)))) => {
            ("The query was refused".to_owned(), None, Some(QueryProblem::of("", e.to_string(), None)))
        }
        Err(QueryError::Store(e)) => return Err(e.into()),
    };
    show(&app, &visitor, sql, outcome).await
}

async fn show(
    app: &App,
    visitor: &Visitor,
    sql: String,
    (heading, answer, problem): (String, Option<ShownAnswer>, Option<QueryProblem>),
) -> PageResult {
    let tables = app.store.readable(visitor.workspace_id()).await?;
    let frame = Frame::plain(app, visitor).await?;
    html(&QueryPage { frame, sql, longest: LONGEST, tables, heading, answer, problem })
}

/// Writes the whole answer into a file of the uploads folder; where it lies.
async fn whole(
    app: &App,
    visitor: &Visitor,
    sql: &str,
    formulas: Formulas,
) -> Result<(PathBuf, FiledAnswer), ServiceError> {
    let path = app.place().await?;
    let written = app.store.ask_into(visitor.workspace_id(), sql, &TO_KEEP, (&path, formulas)).await;
    let written = written.map_err(|e| match e {
        QueryError::Question { sentence, .. } => ServiceError::Refused(sentence),
        QueryError::Store(e) => e.into(),
    })?;
    Ok((path, written))
}

/// The whole answer as a file to take away.
pub async fn download(app: web::Data<App>, visitor: Visitor, form: web::Form<SqlForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    let (path, _) = whole(&app, &visitor, &form.sql, Formulas::Neutralised).await?;
    let opened = std::fs::File::open(&path);
    // It is read to its end though nothing leads to it any more.
    tokio::fs::remove_file(&path).await?;
    Ok(attachment(opened?, "answer.csv", "text/csv; charset=utf-8")?)
}

/// The answer to be kept as a table, and what it is called.
#[derive(Deserialize)]
pub struct KeepAnswerForm {
    csrf: String,
    sql: String,
    name: String,
}

/// Keeps the whole answer: it comes in like a file, with its preview.
pub async fn keep(app: web::Data<App>, visitor: Visitor, form: web::Form<KeepAnswerForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    let name = file_stem(&form.name)?;
    let (path, answer) = whole(&app, &visitor, &form.sql, Formulas::AsTheyAre).await?;
    if answer.cut {
        tokio::fs::remove_file(&path).await?;
        return Err(ServiceError::Refused(format!(
            "The answer has more than {} rows, or is larger than {}. Nothing was kept; ask for less.",
            count(TO_KEEP.rows as u64),
            pronoia_service::text::bytes(TO_KEEP.bytes as u64)
        ))
        .into());
    }
    let name = format!("{name}.csv");
    let arrived = Arrived { file_name: &name, origin: None, path: &path, size: answer.bytes };
    let job = pronoia_service::records::take_in(&app, visitor.workspace_id(), None, &arrived).await?.job;
    see_other(&format!("/jobs/{job}"))
}
