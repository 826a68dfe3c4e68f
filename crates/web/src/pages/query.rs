//! Ad hoc questions in SQL over the tables of the workspace.

use std::ops::Range;
use std::time::Duration;

use actix_web::web;
use askama::Template;
use pronoia_core::number::{count, fixed};
use pronoia_store::queries::{Answer, LONGEST, Limits, QueryError, Readable};
use serde::Deserialize;

use super::{PageResult, csv_file, see_other};
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

/// What stands for a missing value on the way from the database to the page.
const MISSING: &str = "\\N";

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

struct Shown {
    columns: Vec<String>,
    rows: Vec<Vec<Option<String>>>,
    /// Whether a column holds nothing but numbers.
    figures: Vec<bool>,
    cut: bool,
}

/// What is wrong, and the question cut where it is.
struct Problem {
    sentence: String,
    before: String,
    wrong: String,
    after: String,
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
                let rows = crate::text::counted(shown.rows.len(), "row", "rows");
                let took = fixed(said.took.as_secs_f64(), 2);
                heading = if shown.cut {
                    format!("The first {rows}, in {took} seconds")
                } else {
                    format!("{rows}, in {took} seconds")
                };
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

impl Shown {
    fn of(answer: &Answer) -> Result<Self, PageError> {
        let unread = |e: csv::Error| PageError::Refused(format!("The answer could not be read: {e}."));
        let mut reader = csv::ReaderBuilder::new().from_reader(answer.csv.as_slice());
        let columns: Vec<String> = reader.headers().map_err(unread)?.iter().map(str::to_owned).collect();
        let mut rows = Vec::new();
        for record in reader.records() {
            let cells = record.map_err(unread)?;
            rows.push(cells.iter().map(|cell| (cell != MISSING).then(|| cell.to_owned())).collect::<Vec<_>>());
        }
        let is_figure = |at: usize| {
            let mut cells = rows.iter().filter_map(|row| row.get(at)?.as_ref()).peekable();
            cells.peek().is_some() && cells.all(|cell| cell.parse::<f64>().is_ok())
        };
        let figures = (0..columns.len()).map(is_figure).collect();
        Ok(Self { columns, rows, figures, cut: answer.cut })
    }
}

impl Problem {
    fn of(sql: &str, sentence: String, place: Option<Range<usize>>) -> Self {
        let letters: Vec<char> = sql.chars().collect();
        let place = place.unwrap_or(letters.len()..letters.len());
        let cut = |range: Range<usize>| -> String {
            letters
                .get(range.start.min(letters.len())..range.end.min(letters.len()))
                .unwrap_or_default()
                .iter()
                .collect()
        };
        let (before, wrong, after) = (cut(0..place.start), cut(place.clone()), cut(place.end..letters.len()));
        Self { sentence, before, wrong, after }
    }
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
    let name: String = form.name.trim().chars().filter(|c| !c.is_control()).take(60).collect();
    if name.is_empty() {
        return Err(PageError::Refused("Give the table a name.".into()));
    }
    let answer = whole(&app, &visitor, &form.sql).await?;
    if answer.cut {
        return Err(PageError::Refused(format!(
            "The answer has more than {} rows, or is larger than {}. Nothing was kept; ask for less.",
            count(TO_KEEP.rows as u64),
            crate::text::bytes(TO_KEEP.bytes as u64)
        )));
    }
    let path = super::uploads::place(&app).await?;
    tokio::fs::write(&path, &answer.csv).await?;
    let (name, size) = (format!("{name}.csv"), answer.csv.len() as u64);
    let job = super::uploads::take_in(&app, visitor.workspace_id(), None, &name, &path, size).await?;
    see_other(&format!("/jobs/{job}"))
}
