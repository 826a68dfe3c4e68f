//! Databases of others: entering one, looking at it, reading from it.

use std::time::Duration;

use actix_web::web;
use askama::Template;
use pronoia_service::ServiceError;
use pronoia_service::text;
use pronoia_store::jobs::Work;
use pronoia_store::queries::{LONGEST, QueryError, QueryLimits};
use pronoia_store::source;
use pronoia_store::sources::{Details, Encryption, MOST_TABLES, SourceTable, SourceTables};
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::Frame;
use crate::pages::records::query::{SqlForm, SqlQuery};
use crate::pages::records::query_answer::{QueryProblem, ShownAnswer};
use crate::pages::{PageResult, Signed, file_stem, see_other};
use crate::session::Visitor;

/// What looking at a source may cost.
const TO_LOOK: QueryLimits = QueryLimits { time: Duration::from_secs(10), rows: 50, bytes: 4 << 20 };

/// The port that PostgreSQL listens on if nobody says otherwise.
const USUAL_PORT: u16 = 5432;

#[derive(Template)]
#[template(path = "records/sources.html")]
struct Sources {
    frame: Frame,
    sources: Vec<source::Model>,
    /// Whether whoever looks may ask them.
    may_ask: bool,
    encryptions: [Encryption; 3],
    /// What was entered and refused, without the password.
    entered: SourceForm,
    problem: Option<String>,
}

/// The sources of the workspace, and the form for another.
pub async fn page(app: web::Data<App>, visitor: Visitor) -> PageResult {
    list(&app, &visitor, SourceForm::default(), None).await
}

async fn list(app: &App, visitor: &Visitor, entered: SourceForm, problem: Option<String>) -> PageResult {
    let sources = app.store.sources(visitor.workspace_id()).await?;
    let frame = Frame::plain(app, visitor).await?;
    let may_ask = visitor.does_work();
    html(&Sources { frame, sources, may_ask, encryptions: Encryption::ALL, entered, problem })
}

/// A source as it is entered.
#[derive(Deserialize)]
pub struct SourceForm {
    csrf: String,
    name: String,
    host: String,
    port: String,
    database: String,
    account: String,
    password: String,
    encryption: String,
}

impl Default for SourceForm {
    fn default() -> Self {
        let empty = String::new;
        let encryption = Encryption::Checked.word().to_owned();
        Self {
            csrf: empty(),
            name: empty(),
            host: empty(),
            port: USUAL_PORT.to_string(),
            database: empty(),
            account: empty(),
            password: empty(),
            encryption,
        }
    }
}

impl SourceForm {
    fn details(&self) -> Result<Details, ServiceError> {
        let port = self.port.trim().parse().ok().filter(|port| *port > 0);
        Ok(Details {
            name: self.name.trim().to_owned(),
            host: self.host.trim().to_owned(),
            port: port.ok_or_else(|| {
                ServiceError::Refused(format!("“{}” is no port; it is a number from 1 to 65 535.", self.port))
            })?,
            database: self.database.trim().to_owned(),
            account: self.account.trim().to_owned(),
            password: self.password.clone(),
            encryption: self.encryption.parse()?,
        })
    }
}

/// Keeps a source that lets us in; otherwise the form comes back with the reason.
pub async fn add(app: web::Data<App>, visitor: Visitor, form: web::Form<SourceForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    let added = match form.details() {
        Ok(details) => {
            app.store.add_source(visitor.workspace_id(), &details, &app.connector).await.map_err(ServiceError::from)
        }
        Err(e) => Err(e),
    };
    match added {
        Ok(id) => see_other(&format!("/sources/{id}")),
        Err(e @ (ServiceError::Refused(_) | ServiceError::Store(pronoia_store::StoreError::Refused(_)))) => {
            let mut page = list(&app, &visitor, form.into_inner(), Some(e.to_string())).await?;
            *page.status_mut() = actix_web::http::StatusCode::UNPROCESSABLE_ENTITY;
            Ok(page)
        }
        Err(e) => Err(e.into()),
    }
}

/// Forgets a source.
pub async fn remove(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    form: web::Form<Signed>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    app.store.remove_source(visitor.workspace_id(), *path).await?;
    see_other("/sources")
}

#[derive(Template)]
#[template(path = "records/source.html")]
struct SourceView {
    frame: Frame,
    source: source::Model,
    heading: String,
    /// What it offers, or why it cannot be reached.
    offered: Result<Vec<SourceTable>, String>,
    /// Whether it offers more than are listed.
    more: bool,
    sql: String,
    /// What the table would be called.
    name: String,
    longest: usize,
    answer: Option<ShownAnswer>,
    problem: Option<QueryProblem>,
}

/// What a source offers.
pub async fn source(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<i64>,
    query: web::Query<SqlQuery>,
) -> PageResult {
    show(&app, &visitor, *path, (query.into_inner().sql, false)).await
}

/// The same, and the first rows of what is asked.
pub async fn look(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>, form: web::Form<SqlForm>) -> PageResult {
    visitor.check(&form.csrf)?;
    show(&app, &visitor, *path, (form.into_inner().sql, true)).await
}

async fn show(app: &App, visitor: &Visitor, id: i64, (sql, is_asked): (String, bool)) -> PageResult {
    let mut source = app.store.source(visitor.workspace_id(), id).await?;
    let offered = match app.connector.tables(&source).await {
        Ok(SourceTables { tables, may_write }) => {
            app.store.set_may_write(&source, &may_write).await?;
            source.may_write = may_write;
            Ok(tables)
        }
        Err(e) => Err(e.to_string()),
    };
    let more = offered.as_ref().is_ok_and(|tables| tables.len() > MOST_TABLES);
    let offered = offered.map(|mut tables| {
        tables.truncate(MOST_TABLES);
        tables
    });
    let mut heading = match &offered {
        Ok(tables) => format!("{} of {}", text::counted(tables.len(), "table", "tables"), source.name),
        Err(_) => format!("{} cannot be reached", source.name),
    };
    let (mut answer, mut problem) = (None, None);
    if offered.is_ok() && is_asked && !sql.trim().is_empty() {
        match app.connector.look(&source, &sql, &TO_LOOK).await {
            Ok(said) => {
                let shown = ShownAnswer::of(said);
                heading = format!("{}. {}", source.name, shown.heading());
                answer = Some(shown);
            }
            Err(QueryError::Question { sentence, place }) => {
                "The query failed".clone_into(&mut heading);
                problem = Some(QueryProblem::of(&sql, sentence, place));
            }
            Err(QueryError::Store(e)) => return Err(e.into()),
        }
    }
    let whole = offered.iter().flatten().find(|table| table.select() == sql);
    let name = whole.map_or(String::new(), |table| table.name.clone());
    let frame = Frame::plain(app, visitor).await?;
    html(&SourceView { frame, source, heading, offered, more, sql, name, longest: LONGEST, answer, problem })
}

/// What to read, and what it is to be called.
#[derive(Deserialize)]
pub struct Read {
    csrf: String,
    sql: String,
    name: String,
}

/// Reads the whole answer: it comes in like a file, with its preview.
pub async fn read(app: web::Data<App>, visitor: Visitor, path: web::Path<i64>, form: web::Form<Read>) -> PageResult {
    visitor.check(&form.csrf)?;
    let source = app.store.source(visitor.workspace_id(), *path).await?;
    let name = file_stem(&form.name)?;
    let title = format!("Reading {name} from {}", source.name);
    let work = Work::Fetch { source: source.id, sql: form.sql.clone(), name };
    let job = app.store.enqueue_once(visitor.workspace_id(), None, &title, &work).await?;
    see_other(&format!("/jobs/{job}"))
}
