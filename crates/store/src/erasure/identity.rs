//! Digests of who was erased, by which rows that were on their way meanwhile are found and made blank: those of a
//! file that waited, of a scoring, a join or an import that had read them before.

use chrono::{DateTime, Utc};
use pronoia_core::table::Storage;
use sea_orm::sqlx::{self, AssertSqlSafe, PgConnection};
use sea_orm::{ConnectionTrait, DatabaseTransaction, DbBackend, Statement};

use super::{Person, column_of};
use crate::Result;
use crate::records::{StoredColumn, quoted};

/// The digest of a text that is salted.
const DIGEST: &str = "encode(sha256(convert_to($1 || $2, 'UTF8')), 'hex')";

/// Remembers that somebody was erased. Whoever seals a table meanwhile waits, and looks afterwards.
pub(super) async fn remember(on: &DatabaseTransaction, workspace_id: i64, person: Person<'_>) -> Result<()> {
    let lock = "SELECT FROM workspace WHERE id = $1 FOR NO KEY UPDATE";
    on.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, lock, [workspace_id.into()])).await?;
    let salt = format!("{:032x}", rand::random::<u128>());
    let as_number = person.value.parse::<f64>().ok().filter(|number| number.is_finite());
    let sql = format!(
        "INSERT INTO erased_identity (workspace_id, column_name, salt, as_text, as_number) \
         SELECT $3, $4, $1, {DIGEST}, coalesce({}, '')",
        DIGEST.replace("$2", "$5::float8::text")
    );
    let values = [salt.into(), person.value.into(), workspace_id.into(), person.column.into(), as_number.into()];
    on.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, sql, values)).await?;
    Ok(())
}

/// Makes the rows of whoever was erased since a moment blank, in a table that nobody sees yet; how many.
pub(crate) async fn make_blank(
    connection: &mut PgConnection,
    workspace_id: i64,
    (relation, columns): (&str, &[StoredColumn]),
    since: DateTime<Utc>,
) -> Result<u64> {
    // An erasure that is under way is waited for, and none begins before the table is sealed.
    sqlx::query("SELECT FROM workspace WHERE id = $1 FOR SHARE").bind(workspace_id).execute(&mut *connection).await?;
    let erased: Vec<(String, String, String, String)> = sqlx::query_as(
        "SELECT column_name, salt, as_text, as_number FROM erased_identity WHERE workspace_id = $1 AND erased_at >= $2",
    )
    .bind(workspace_id)
    .bind(since)
    .fetch_all(&mut *connection)
    .await?;
    let mut rows = 0;
    for (name, salt, as_text, as_number) in erased {
        let Some(column) = column_of(columns, &name) else { continue };
        let digest = match column.kind.storage() {
            Storage::Numbers => as_number,
            Storage::Words | Storage::Dates => as_text,
        };
        let blanks: Vec<String> = columns.iter().map(|c| format!("{} = NULL", quoted(&c.field))).collect();
        let sql = format!(
            "UPDATE {relation} SET {} WHERE {} = $2",
            blanks.join(", "),
            DIGEST.replace("$2", &format!("{}::text", quoted(&column.field)))
        );
        rows +=
            sqlx::query(AssertSqlSafe(sql)).bind(salt).bind(digest).execute(&mut *connection).await?.rows_affected();
    }
    Ok(rows)
}
