//! Ad hoc questions in SQL over the tables of the workspace.

use std::time::Duration;

use actix_web::web;
use askama::Template;
use pronoia_core::number::count;
use pronoia_store::queries::{Answer, LONGEST, Limits, QueryError, Readable};
use pronoia_store::uploads::Arrived;
use serde::Deserialize;

use super::answer::{MISSING, Problem, Shown};
use super::{PageResult, csv_file, file_stem, see_other};
use crate::App;
use crate::error::{PageError, html};
use crate::frame::{Frame, encoded};
use crate::session::Visitor;

/// Rows shown on the page.
const SHOWN: usize = 200;

/// What a question on the page may cost.
const TO_LOOK: Limits = Limits { time: Duration::from_secs(10), rows: SHOWN, bytes: 4 << 20 };

/// What a question may cost whose answer is kept or taken away.
const TO_KEEP: Limits = Limits { time: Duration::from_secs(60), rows: 1_000_000, bytes: 256 << 20 };

#[derive(Template)]
#[template(path = "query.html")]
struct Page {
    frame: Frame,
    sql: String,
    encoded: String,
    longest: usize,
    tables: Vec<Readable>,
    heading: String,
    answer: Option<Shown>,
    problem: Option<Problem>,
}

/// The question.
#[derive(Deserialize)]
pub struct Query {
    #[serde(default)]
    sql: String,
}

/// The page, with the answer if something is asked.
pub async fn page(app: web::Data<App>, visitor: Visitor, query: web::Query<Query>) -> PageResult {
    let tables = app.store.readable(visitor.workspace_id()).await?;
    let (mut answer, mut problem) = (None, None);
    let mut heading = "Ask the records".to_owned();
    if !query.sql.trim().is_empty() {
        match app.store.ask(visitor.workspace_id(), &query.sql, MISSING, &TO_LOOK).await {
            Ok(said) => {
                let shown = Shown::of(&said)?;
                heading = shown.heading();
                answer = Some(shown);
            }
            Err(QueryError::Question { sentence, place }) => {
                "That could not be asked".clone_into(&mut heading);
                problem = Some(Problem::of(&query.sql, sentence, place));
            }
            Err(QueryError::Store(e)) => return Err(e.into()),
        }
    }
    let frame = Frame::plain(&app, &visitor).await?;
    let (sql, encoded) = (query.sql.clone(), encoded(&query.sql));
    html(&Page { frame, sql, encoded, longest: LONGEST, tables, heading, answer, problem })
}

/// Asks for the whole answer.
async fn whole(app: &App, visitor: &Visitor, sql: &str) -> Result<Answer, PageError> {
    app.store.ask(visitor.workspace_id(), sql, "", &TO_KEEP).await.map_err(|e| match e {
        QueryError::Question { sentence, .. } => PageError::Refused(sentence),
        QueryError::Store(e) => e.into(),
    })
}

/// The whole answer as a file.
pub async fn download(app: web::Data<App>, visitor: Visitor, query: web::Query<Query>) -> PageResult {
    csv_file("answer.csv", whole(&app, &visitor, &query.sql).await?.csv)
}

/// The answer to be kept as a table, and what it is called.
#[derive(Deserialize)]
pub struct Keep {
    csrf: String,
    sql: String,
    name: String,
}

/// Keeps the whole answer: it comes in like a file, with its preview.
pub async fn keep(app: web::Data<App>, visitor: Visitor, form: web::Form<Keep>) -> PageResult {
    visitor.check(&form.csrf)?;
    let name = file_stem(&form.name)?;
    let answer = whole(&app, &visitor, &form.sql).await?;
    if answer.cut {
        return Err(PageError::Refused(format!(
            "The answer has more than {} rows, or is larger than {}. Nothing was kept; ask for less.",
            count(TO_KEEP.rows as u64),
            crate::text::bytes(TO_KEEP.bytes as u64)
        )));
    }
    let path = app.place().await?;
    tokio::fs::write(&path, &answer.csv).await?;
    let name = format!("{name}.csv");
    let arrived = Arrived { file_name: &name, origin: None, path: &path, size: answer.csv.len() as u64 };
    let job = super::uploads::take_in(&app, visitor.workspace_id(), None, &arrived).await?.job;
    see_other(&format!("/jobs/{job}"))
}
