//! A scored list as a file: all of it or those to act on, with the columns asked for.

use actix_web::web;
use pronoia_core::score::DECISION;
use pronoia_core::write::FileFormat;
use pronoia_core::{Table, sentence};
use pronoia_service::ServiceError;
use pronoia_store::record_table;
use serde::Deserialize;

use super::list::find;
use crate::App;
use crate::file_download::{RowFilter, Taking};
use crate::pages::PageResult;
use crate::session::Visitor;

/// What can be taken away.
pub struct TakeView {
    /// The form's extension and name.
    pub forms: Vec<(&'static str, &'static str)>,
    /// All columns, in their order.
    pub columns: String,
}

impl TakeView {
    pub fn of(table: &record_table::Model) -> Result<Self, ServiceError> {
        let columns = table.names()?;
        Ok(Self {
            forms: FileFormat::ALL.map(|form| (form.extension(), form.name())).to_vec(),
            columns: columns.join(", "),
        })
    }
}

/// The keys in the address of a file.
#[derive(Deserialize)]
pub struct ScoredFilePath {
    id: i64,
    list: i64,
    form: String,
}

/// What is to be in it.
#[derive(Deserialize)]
pub struct DownloadQuery {
    /// `act` for those to act on.
    rows: Option<String>,
    /// Names of columns, with commas between them; all of them where it is empty.
    columns: Option<String>,
}

/// The file, in the order in which the list was brought.
pub async fn take(
    app: web::Data<App>,
    visitor: Visitor,
    path: web::Path<ScoredFilePath>,
    wanted: web::Query<DownloadQuery>,
) -> PageResult {
    let form = FileFormat::of_extension(&path.form).ok_or(ServiceError::NotFound)?;
    let (_, list) = find(&app, &visitor, (path.id, path.list)).await?;
    let id = list.scored_id.ok_or_else(|| ServiceError::Refused("The list is not scored yet.".into()))?;
    let table = app.store.table(visitor.workspace_id(), id).await?;
    let stored = table.names()?;
    let columns = chosen(wanted.columns.as_deref().unwrap_or_default(), &stored)?;
    let only_acted = match wanted.rows.as_deref() {
        None | Some("" | "all") => false,
        Some("act") => true,
        Some(other) => {
            return Err(ServiceError::Refused(format!("There are no rows “{other}”; there are all and act.")).into());
        }
    };
    let name: String =
        table.name.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '_' }).collect();
    let rows = if only_acted { list.acted.unwrap_or(table.rows) } else { table.rows } as u64;
    let acted = |part: &Table, row: usize| part.column(DECISION).and_then(|c| c.text(row)).as_deref() == Some("act");
    let keep = only_acted.then(|| Box::new(acted) as RowFilter);
    Ok(Taking { table: &table, columns, also: vec![DECISION.into()], rows, keep }.sent(&app, &name, form).await?)
}

/// The columns of a list of names, in its order; all where it is empty. A name that holds a comma is
/// found too.
fn chosen(names: &str, stored: &[String]) -> Result<Vec<String>, ServiceError> {
    let mut columns: Vec<String> = Vec::new();
    let mut rest = names.trim();
    while !rest.is_empty() {
        let fits = |name: &&String| {
            rest.strip_prefix(name.as_str())
                .is_some_and(|after| after.is_empty() || after.trim_start().starts_with(','))
        };
        let Some(name) = stored.iter().filter(fits).max_by_key(|name| name.len()) else {
            let wrong = rest.split(',').next().unwrap_or(rest).trim();
            return Err(ServiceError::Refused(format!(
                "The list has no column “{wrong}”. Write names with commas between them, or nothing for all."
            )));
        };
        if columns.contains(name) {
            return Err(ServiceError::Refused(format!("{} stands twice.", sentence::capital(&format!("“{name}”")))));
        }
        columns.push(name.clone());
        rest = rest[name.len()..].trim_start().strip_prefix(',').unwrap_or_default().trim_start();
    }
    Ok(if columns.is_empty() { stored.to_vec() } else { columns })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_chosen_by_their_names_in_the_order_in_which_they_are_written() {
        let stored = ["id", "fee", "fee, yearly", "plan"].map(str::to_owned);
        let of = |names: &str| chosen(names, &stored).map_err(|e| e.to_string());
        assert_eq!(of("").expect("all"), stored);
        assert_eq!(of(" plan ,id").expect("two"), ["plan", "id"]);
        assert_eq!(of("fee, yearly, fee").expect("a name with a comma"), ["fee, yearly", "fee"]);
        assert!(of("plans").expect_err("none").contains("no column “plans”"));
        assert!(of("id, id").expect_err("twice").contains("stands twice"));
    }
}
