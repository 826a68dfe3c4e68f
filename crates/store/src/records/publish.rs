//! Scored lists as tables that other programs read.

use sea_orm::sqlx::{self, AssertSqlSafe};

use super::{ROW, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store};

/// Letters of the name of a published table.
const LONGEST_NAME: usize = 50;

impl Store {
    /// Copies a scored list into the workspace's published schema, in the place of what was published
    /// under its name before; gives the name of the table. It is there whole or not at all, and whoever
    /// reads sees the one before until then.
    ///
    /// # Errors
    /// If the database does not answer, or is full.
    pub async fn publish(&self, list: i64, table: &record_table::Model, about: &str) -> Result<String> {
        let (schema, name) = (format!("published_{}", table.workspace_id), published_name(&table.name));
        let place = format!("{}.{}", quoted(&schema), quoted(&name));
        let fields: Vec<String> = table.stored_columns()?.iter().map(|c| quoted(&c.field)).collect();
        let made = quoted(&format!("{name} being made"));
        let shown = format!("{schema}.{name}");
        let statements = [
            format!("CREATE SCHEMA IF NOT EXISTS {}", quoted(&schema)),
            format!(
                "CREATE TABLE {}.{made} AS SELECT {} FROM {} ORDER BY {}",
                quoted(&schema),
                fields.join(", "),
                relation(table.workspace_id, table.id),
                quoted(ROW)
            ),
            format!("COMMENT ON TABLE {}.{made} IS '{}'", quoted(&schema), about.replace('\'', "''")),
            format!("DROP TABLE IF EXISTS {place}"),
            format!("ALTER TABLE {}.{made} RENAME TO {}", quoted(&schema), quoted(&name)),
        ];
        let mut transaction = self.pool().begin().await?;
        for statement in statements {
            sqlx::query(AssertSqlSafe(statement)).execute(&mut *transaction).await?;
        }
        sqlx::query("UPDATE list SET published = $1 WHERE id = $2")
            .bind(&shown)
            .bind(list)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(shown)
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
