//! Scored lists as tables that other programs read.

use sea_orm::sqlx::{self, AssertSqlSafe, Postgres, Transaction};

use super::{ROW, StoredColumn, is_there, quoted, relation};
use crate::entity::record_table;
use crate::locks::Lock;
use crate::{Result, Store, StoreError};

/// Letters of the name of a published table.
const LONGEST_NAME: usize = 50;

impl Store {
    /// Copies a scored list into the workspace's published schema, under a name of its own; gives the name of the
    /// table. It is there whole or not at all, and whoever reads sees the one before until then. Whoever was let in
    /// to the table stays so when the list is published once more.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if something else stands under the name; [`StoreError::Busy`].
    pub async fn publish(&self, list: i64, table: &record_table::Model, about: &str) -> Result<String> {
        let schema = format!("published_{}", table.workspace_id);
        let mut transaction = self.pool().begin().await?;
        if let Some(lease) = self.lease() {
            lease.hold(&mut transaction).await?;
        }
        let create = format!("CREATE SCHEMA IF NOT EXISTS {}", quoted(&schema));
        sqlx::query(AssertSqlSafe(create)).execute(&mut *transaction).await?;
        let (name, is_there) = own_name(&mut transaction, list, (&schema, &table.name)).await?;
        // Whoever reads the table for long must not hold up everybody who comes after.
        sqlx::query("SET LOCAL lock_timeout = '5s'").execute(&mut *transaction).await?;
        let place = format!("{}.{}", quoted(&schema), quoted(&name));
        let columns = table.stored_columns()?;
        let fields: Vec<String> = columns.iter().map(|c| quoted(&c.field)).collect();
        let (fields, from) = (fields.join(", "), relation(table.workspace_id, table.id));
        let rows = format!("SELECT {fields} FROM {from} ORDER BY {}", quoted(ROW));
        let mut statements = Vec::new();
        if is_there && same_shape(&mut transaction, &place, (&from, &columns)).await? {
            // What others built on it, and what they may do with it, stays as it is.
            statements.push(format!("DELETE FROM {place}"));
            statements.push(format!("INSERT INTO {place} ({fields}) {rows}"));
        } else {
            let grants = if is_there { grants(&mut transaction, &place).await? } else { Vec::new() };
            statements.push(format!("DROP TABLE IF EXISTS {place}"));
            statements.push(format!("CREATE TABLE {place} AS {rows}"));
            statements.extend(grants);
        }
        statements.push(format!("COMMENT ON TABLE {place} IS '{}'", about.replace('\'', "''")));
        for statement in statements {
            sqlx::query(AssertSqlSafe(statement)).execute(&mut *transaction).await.map_err(|e| rested_on(e, &name))?;
        }
        let shown = format!("{schema}.{name}");
        sqlx::query("UPDATE list SET published = $1 WHERE id = $2")
            .bind(&shown)
            .bind(list)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(shown)
    }
}

/// The name under which a list is published: the one that it has, or one that no other list has; and whether its
/// table is there.
async fn own_name(
    transaction: &mut Transaction<'_, Postgres>,
    list: i64,
    (schema, list_name): (&str, &str),
) -> Result<(String, bool)> {
    // Of two lists that are published at once one waits here.
    Lock::Names.hold(transaction).await?;
    let own: Option<String> =
        sqlx::query_scalar("SELECT published FROM list WHERE id = $1").bind(list).fetch_one(&mut **transaction).await?;
    if let Some(name) = own.as_deref().and_then(|own| own.strip_prefix(&format!("{schema}."))) {
        let is_there = is_taken(transaction, schema, name).await?;
        return Ok((name.to_owned(), is_there));
    }
    let plain = published_name(list_name);
    let of_another: bool = sqlx::query_scalar("SELECT EXISTS (SELECT FROM list WHERE published = $1)")
        .bind(format!("{schema}.{plain}"))
        .fetch_one(&mut **transaction)
        .await?;
    let name = if of_another { format!("{plain}_{list}") } else { plain };
    if is_taken(transaction, schema, &name).await? {
        return Err(StoreError::Refused(format!(
            "There is a table {schema}.{name} already that no list was published as. Whoever runs the database can rename it; nothing was touched."
        )));
    }
    Ok((name, false))
}

async fn is_taken(transaction: &mut Transaction<'_, Postgres>, schema: &str, name: &str) -> Result<bool> {
    is_there(&mut **transaction, &format!("{}.{}", quoted(schema), quoted(name))).await
}

/// Whether a published table has just the columns that are to be published.
async fn same_shape(
    transaction: &mut Transaction<'_, Postgres>,
    place: &str,
    (from, columns): (&str, &[StoredColumn]),
) -> Result<bool> {
    const SQL: &str = "SELECT attname::text, format_type(atttypid, atttypmod) FROM pg_attribute \
        WHERE attrelid = to_regclass($1) AND attnum > 0 AND NOT attisdropped ORDER BY attnum";
    let there: Vec<(String, String)> = sqlx::query_as(SQL).bind(place).fetch_all(&mut **transaction).await?;
    let mut wanted: Vec<(String, String)> = sqlx::query_as(SQL).bind(from).fetch_all(&mut **transaction).await?;
    wanted.retain(|(name, _)| columns.iter().any(|column| column.field == *name));
    Ok(there == wanted)
}

/// Statements that let in again whoever was let in to a table.
async fn grants(transaction: &mut Transaction<'_, Postgres>, place: &str) -> Result<Vec<String>> {
    const SQL: &str = "SELECT format('GRANT %s ON %s TO %s%s', a.privilege_type, $1, \
            CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(r.rolname) END, \
            CASE WHEN a.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END) \
        FROM pg_class c CROSS JOIN aclexplode(c.relacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee \
        WHERE c.oid = to_regclass($1) AND a.grantee <> c.relowner";
    Ok(sqlx::query_scalar(SQL).bind(place).fetch_all(&mut **transaction).await?)
}

/// Why a published table cannot be made anew, where others built on it.
fn rested_on(e: sqlx::Error, name: &str) -> StoreError {
    match e.as_database_error().and_then(|e| e.code()).as_deref() {
        Some("2BP01") => StoreError::Refused(format!(
            "The columns of the list have changed, and views of others rest on {name} as it was published before. The database administrator has to remove them first; nothing was touched."
        )),
        _ => e.into(),
    }
}

/// A name that needs no quotes, from that of a list.
fn published_name(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' };
    let mut out: String = name.chars().map(plain).take(LONGEST_NAME).collect();
    if !out.starts_with(|c: char| c.is_ascii_lowercase()) {
        out.insert_str(0, "list_");
    }
    out
}

#[cfg(test)]
mod tests {
    use super::published_name;

    #[test]
    fn names_of_published_tables_need_no_quotes() {
        assert_eq!(published_name("Renewals Q3 (scored)"), "renewals_q3__scored_");
        assert_eq!(published_name("2026 scored"), "list_2026_scored");
        assert_eq!(published_name("größe\"; DROP"), "gr__e___drop");
        assert_eq!(published_name(&"x".repeat(80)).len(), 50);
    }
}
