//! Who is left alone in every list, because they asked for it.

use actix_web::web;
use pronoia_core::question::Question;
use pronoia_service::ServiceError;
use pronoia_service::study_view::StudyView;
use serde::Deserialize;

use crate::App;
use crate::error::{PageResult, see_other};
use crate::pages::StudyPath;
use crate::session::Visitor;

/// What is said of it on the page of lists.
pub struct DoNotContact {
    /// In a sentence.
    pub said: String,
    /// The table that is chosen, and its column.
    pub table: Option<String>,
    pub column: String,
    /// Tables that may be chosen: their names.
    pub tables: Vec<String>,
}

impl DoNotContact {
    /// Of the workspace of a study; none where acting on customers is no contact.
    pub async fn of(app: &App, view: &StudyView) -> Result<Option<Self>, ServiceError> {
        if view.study.kind() == Question::Credit {
            return Ok(None);
        }
        let said = app.store.do_not_contact(view.study.workspace_id).await?;
        let mut tables: Vec<String> =
            app.store.tables(view.study.workspace_id).await?.into_iter().map(|table| table.name).collect();
        tables.sort_unstable();
        tables.dedup();
        let sentence = match &said {
            Some(said) => format!("those in {}, by {}, are suppressed (opted out)", said.table_name, said.by_column),
            None => "no opt-out list".into(),
        };
        let (table, column) = said.map_or((None, String::new()), |said| (Some(said.table_name), said.by_column));
        Ok(Some(Self { said: sentence, table, column, tables }))
    }
}

/// Where it stands.
#[derive(Deserialize)]
pub struct OptOutTable {
    csrf: String,
    /// The name of a table; empty, if everybody may be contacted.
    table: String,
    column: String,
}

/// Writes down where it stands who is not to be contacted.
pub async fn say(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<StudyPath>,
    form: web::Form<OptOutTable>,
) -> PageResult {
    visitor.check(&form.csrf)?;
    let view = StudyView::load(&app, visitor.workspace_id(), path.id).await?;
    let (workspace, account) = (visitor.workspace_id(), visitor.account_id());
    let figure = if form.table.is_empty() {
        app.store.set_do_not_contact((workspace, account), None).await?;
        "everybody may be contacted".to_owned()
    } else {
        let newest = app.store.newest_ever(workspace, &form.table).await?;
        let table = newest.ok_or_else(|| ServiceError::Refused(format!("There is no table “{}”.", form.table)))?;
        let column = form.column.trim();
        if !table.names()?.iter().any(|name| name == column) {
            return Err(ServiceError::Refused(format!(
                "{} has no column “{column}”. Name the column that identifies customers; it has {}.",
                table.name,
                pronoia_service::text::listed(&table.names()?)
            ))
            .into());
        }
        app.store.set_do_not_contact((workspace, account), Some((&table, column))).await?;
        format!("those in {}, by {column}", table.name)
    };
    app.store.note(view.study.id, Some(account), "Opt-outs, for every list", &figure).await?;
    see_other(&view.href("lists"))
}
