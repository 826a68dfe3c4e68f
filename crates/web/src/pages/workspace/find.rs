//! Find: studies, tables, columns by a part of their name, and terms by any of theirs.

use actix_web::web;
use askama::Template;
use pronoia_service::text;
use serde::Deserialize;

use crate::App;
use crate::error::html;
use crate::frame::{Frame, encoded};
use crate::glossary::TERMS;
use crate::pages::PageResult;
use crate::session::Visitor;

/// Finds shown at most.
const MOST: usize = 100;

#[derive(Template)]
#[template(path = "workspace/find.html")]
struct FindPage {
    frame: Frame,
    asked: String,
    found: Vec<FindResult>,
    heading: String,
}

struct FindResult {
    name: String,
    what: String,
    href: String,
}

/// What is looked for.
#[derive(Deserialize)]
pub struct FindQuery {
    #[serde(default)]
    q: String,
}

/// The page.
pub async fn page(app: web::Data<App>, visitor: Visitor, query: web::Query<FindQuery>) -> PageResult {
    let asked = query.q.trim().to_owned();
    let mut found = if asked.is_empty() { Vec::new() } else { search(&app, &visitor, &asked.to_lowercase()).await? };
    let heading = match (asked.is_empty(), found.len()) {
        (true, _) => "Find studies, tables, columns and terms".into(),
        (false, 0) => format!("Nothing is called “{asked}”."),
        (false, n) if n > MOST => format!("More than {MOST} results for “{asked}”; the first {MOST}:"),
        (false, n) => format!("{} for “{asked}”", text::counted(n, "result", "results")),
    };
    found.truncate(MOST);
    html(&FindPage { frame: Frame::plain(&app, &visitor).await?, asked, found, heading })
}

async fn search(app: &App, visitor: &Visitor, asked: &str) -> Result<Vec<FindResult>, pronoia_service::ServiceError> {
    let fits = |name: &str| name.to_lowercase().contains(asked);
    let mut found = Vec::new();
    for study in app.store.studies(visitor.workspace_id()).await? {
        if fits(&study.title) {
            found.push(FindResult { name: study.title, what: "study".into(), href: format!("/studies/{}", study.id) });
        }
    }
    for term in TERMS.iter().filter(|term| term.is_called(asked)) {
        let what = format!("term: {}", term.meaning);
        found.push(FindResult { name: term.name.into(), what, href: format!("/glossary#{}", term.anchor()) });
    }
    for table in app.store.tables(visitor.workspace_id()).await? {
        let href = format!("/tables/{}", table.id);
        if fits(&table.name) {
            let what = format!("table, {} rows", text::count_of(table.rows));
            found.push(FindResult { name: table.name.clone(), what, href: href.clone() });
        }
        for column in table.stored_columns()?.into_iter().filter(|c| fits(&c.name)) {
            let href = format!("{href}?column={}#open", encoded(&column.name));
            let what = format!("column of {}, {}", table.name, column.kind);
            found.push(FindResult { name: column.name, what, href });
        }
    }
    Ok(found)
}
