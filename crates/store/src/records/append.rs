//! The rows of one table put below those of another.

use pronoia_core::Kind;
use sea_orm::sqlx::{self, AssertSqlSafe};
use serde::{Deserialize, Serialize};

use super::write::Importer;
use super::{ROW, StoredColumn, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// What is put below what.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Append {
    /// The table whose rows come first.
    pub first: i64,
    /// The table whose rows come below.
    pub second: i64,
    /// What the new table is called; a table of that name gets a new version.
    pub name: String,
}

/// Columns and rows of two tables, before one is put below the other.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AppendAccount {
    /// Columns of both, by name.
    pub shared: Vec<String>,
    /// Columns of the first alone; missing in the rows below.
    pub first_only: Vec<String>,
    /// Columns of the second alone; missing in the rows above.
    pub second_only: Vec<String>,
    /// Rows of the first.
    pub first_rows: u64,
    /// Rows of the second.
    pub second_rows: u64,
    /// Different rows that stand in both, by their shared columns.
    pub in_both: u64,
}

/// A column of the table that comes out, and where it is in either.
struct Stacked {
    name: String,
    kind: Kind,
    first: Option<String>,
    second: Option<String>,
}

impl Store {
    /// Counts what would come out.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if a column is of different kinds in the two, or
    /// they share none.
    pub async fn append_account(&self, workspace: i64, append: &Append) -> Result<AppendAccount> {
        let (first, second) = (self.table(workspace, append.first).await?, self.table(workspace, append.second).await?);
        let columns = stacked(&first, &second)?;
        let named = |keep: fn(&Stacked) -> bool| -> Vec<String> {
            columns.iter().filter(|c| keep(c)).map(|c| c.name.clone()).collect()
        };
        let side = |table: &record_table::Model, field: fn(&Stacked) -> Option<&String>| {
            let shared = columns.iter().filter(|c| c.first.is_some() && c.second.is_some());
            let fields: Vec<String> = shared.filter_map(field).map(|f| quoted(f)).collect();
            format!("SELECT {} FROM {}", fields.join(", "), relation(workspace, table.id))
        };
        let sql = format!(
            "SELECT count(*) FROM ({} INTERSECT {}) x",
            side(&first, |c| c.first.as_ref()),
            side(&second, |c| c.second.as_ref())
        );
        let in_both: i64 = sqlx::query_scalar(AssertSqlSafe(sql)).fetch_one(self.pool()).await?;
        Ok(AppendAccount {
            shared: named(|c| c.first.is_some() && c.second.is_some()),
            first_only: named(|c| c.second.is_none()),
            second_only: named(|c| c.first.is_none()),
            first_rows: first.rows.unsigned_abs(),
            second_rows: second.rows.unsigned_abs(),
            in_both: in_both.unsigned_abs(),
        })
    }

    /// Begins the table that comes out, and fills it. `cancelled` is asked now
    /// and then whether it should stop.
    ///
    /// # Errors
    /// As [`Store::append_account`]; [`StoreError::Stopped`] once it was cancelled.
    pub async fn append(&self, workspace: i64, append: &Append, cancelled: impl Fn() -> bool) -> Result<Importer> {
        let (first, second) = (self.table(workspace, append.first).await?, self.table(workspace, append.second).await?);
        let columns = stacked(&first, &second)?;
        let shape: Vec<(String, Kind)> = columns.iter().map(|c| (c.name.clone(), c.kind)).collect();
        let part = |table: &record_table::Model, below: u8, field: fn(&Stacked) -> Option<&String>| {
            let fields = columns.iter().map(|c| field(c).map_or("NULL".to_owned(), |f| quoted(f)));
            let fields: Vec<String> = fields.enumerate().map(|(i, f)| format!("{f} AS c{i}")).collect();
            format!(
                "SELECT {below} AS part, {} AS row, {} FROM {}",
                quoted(ROW),
                fields.join(", "),
                relation(workspace, table.id)
            )
        };
        let fields: Vec<String> = (0..columns.len()).map(|i| format!("c{i}")).collect();
        let sql = format!(
            "SELECT row_number() OVER (ORDER BY part, row), {} FROM ({} UNION ALL {}) x",
            fields.join(", "),
            part(&first, 0, |c| c.first.as_ref()),
            part(&second, 1, |c| c.second.as_ref())
        );
        let mut importer = self.begin_import(workspace, &shape).await?;
        importer.fill(self, &sql, cancelled).await?;
        Ok(importer)
    }
}

/// The columns of both, in the order of the first and then of the second.
fn stacked(first: &record_table::Model, second: &record_table::Model) -> Result<Vec<Stacked>> {
    let (above, mut below) = (first.stored_columns()?, second.stored_columns()?);
    let mut columns = Vec::new();
    let mut unlike: Vec<String> = Vec::new();
    for StoredColumn { name, field, kind } in above {
        let partner = below.iter().position(|c| c.name == name).map(|at| below.remove(at));
        if let Some(other) = partner.as_ref().filter(|other| other.kind.storage() != kind.storage()) {
            unlike.push(format!("{name} (a {kind} and a {})", other.kind));
        }
        columns.push(Stacked { name, kind, first: Some(field), second: partner.map(|p| p.field) });
    }
    if !unlike.is_empty() {
        return Err(StoreError::Refused(format!(
            "These columns are of different kinds in {} and {}, so that one cannot be appended to the other: {}. Import one of the files again and read them in the other's kind.",
            first.name,
            second.name,
            unlike.join(", ")
        )));
    }
    if columns.iter().all(|c| c.second.is_none()) {
        return Err(StoreError::Refused(format!(
            "{} and {} have no column of the same name; there is nothing to append.",
            first.name, second.name
        )));
    }
    columns.extend(below.into_iter().map(|c| Stacked {
        name: c.name,
        kind: c.kind,
        first: None,
        second: Some(c.field),
    }));
    Ok(columns)
}
