//! The same customers scored twice: who is decided about otherwise.

use pronoia_core::score::{DECISION, GAIN, PROBABILITY};
use sea_orm::sqlx::{self, AssertSqlSafe, Row};

use super::page::as_text;
use super::{ROW, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// Customers about whom the two decide in one way each.
#[derive(Debug, Clone, PartialEq)]
pub struct Hands {
    /// What the first does, and what the second does.
    pub decisions: [String; 2],
    /// How many they are.
    pub customers: u64,
    /// Their mean probability by either.
    pub probability: [f64; 2],
    /// What acting on them is expected to gain by either; none where one has no such column.
    pub gain: Option<[f64; 2]>,
}

/// A customer who changes hands.
#[derive(Debug, Clone, PartialEq)]
pub struct Mover {
    /// The columns of the first list; none is missing.
    pub values: Vec<Option<String>>,
    /// Probability by either.
    pub probability: [f64; 2],
    /// What either does.
    pub decisions: [String; 2],
}

impl Store {
    /// Counts the customers of two scored lists of one table by what each does about them.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if one of them is not scored with decisions.
    pub async fn hands(&self, first: &record_table::Model, second: &record_table::Model) -> Result<Vec<Hands>> {
        let both = Both::of(first, second)?;
        let gain = both.gain.as_ref().map_or("0::float8, 0::float8".to_owned(), |[a, b]| {
            format!("coalesce(sum({a}), 0)::float8, coalesce(sum({b}), 0)::float8")
        });
        let sql = format!(
            "SELECT {d0}, {d1}, count(*), avg({p0})::float8, avg({p1})::float8, {gain} FROM {from} GROUP BY 1, 2 ORDER BY 1, 2",
            d0 = both.decision[0],
            d1 = both.decision[1],
            p0 = both.probability[0],
            p1 = both.probability[1],
            from = both.from
        );
        let rows = sqlx::query(AssertSqlSafe(sql)).fetch_all(self.pool()).await?;
        let hands = |row: &sqlx::postgres::PgRow| -> std::result::Result<Hands, sqlx::Error> {
            Ok(Hands {
                decisions: [row.try_get(0)?, row.try_get(1)?],
                customers: row.try_get::<i64, _>(2)?.unsigned_abs(),
                probability: [row.try_get(3)?, row.try_get(4)?],
                gain: both.gain.is_some().then_some([row.try_get(5)?, row.try_get(6)?]),
            })
        };
        Ok(rows.iter().map(hands).collect::<std::result::Result<_, sqlx::Error>>()?)
    }

    /// Customers of two scored lists of one table about whom they decide otherwise, those first whose
    /// probabilities differ most.
    ///
    /// # Errors
    /// As [`Store::hands`].
    pub async fn movers(
        &self,
        first: &record_table::Model,
        second: &record_table::Model,
        most: u64,
    ) -> Result<Vec<Mover>> {
        let both = Both::of(first, second)?;
        let columns = first.stored_columns()?;
        let fields: Vec<String> = columns.iter().map(|c| format!("a.{}", quoted(&c.field))).collect();
        let sql = format!(
            "SELECT a.{row}, {}, {p0}::float8, {p1}::float8, {d0}, {d1} FROM {} WHERE {d0} <> {d1} \
             ORDER BY abs({p0} - {p1}) DESC, a.{row} LIMIT $1",
            fields.join(", "),
            both.from,
            row = quoted(ROW),
            p0 = both.probability[0],
            p1 = both.probability[1],
            d0 = both.decision[0],
            d1 = both.decision[1],
        );
        let rows = sqlx::query(AssertSqlSafe(sql)).bind(most as i64).fetch_all(self.pool()).await?;
        let after = columns.len() + 1;
        let mover = |row: &sqlx::postgres::PgRow| -> std::result::Result<Mover, sqlx::Error> {
            Ok(Mover {
                values: as_text(row, &columns)?.1,
                probability: [row.try_get(after)?, row.try_get(after + 1)?],
                decisions: [row.try_get(after + 2)?, row.try_get(after + 3)?],
            })
        };
        Ok(rows.iter().map(mover).collect::<std::result::Result<_, sqlx::Error>>()?)
    }
}

/// Two scored lists joined row by row.
struct Both {
    from: String,
    probability: [String; 2],
    decision: [String; 2],
    gain: Option<[String; 2]>,
}

impl Both {
    fn of(first: &record_table::Model, second: &record_table::Model) -> Result<Self> {
        let field = |at: usize, name: &str| -> Result<Option<String>> {
            let (table, alias) = [(first, "a"), (second, "b")][at];
            let columns = table.stored_columns()?;
            Ok(columns.iter().find(|c| c.name == name).map(|c| format!("{alias}.{}", quoted(&c.field))))
        };
        let pair = |name: &str| -> Result<Option<[String; 2]>> {
            Ok(field(0, name)?.zip(field(1, name)?).map(|(a, b)| [a, b]))
        };
        let needed = |name: &str| pair(name)?.ok_or(StoreError::NotFound("A column of the list"));
        let row = quoted(ROW);
        Ok(Self {
            from: format!(
                "{} a JOIN {} b ON a.{row} = b.{row}",
                relation(first.workspace_id, first.id),
                relation(second.workspace_id, second.id)
            ),
            probability: needed(PROBABILITY)?,
            decision: needed(DECISION)?,
            gain: pair(GAIN)?,
        })
    }
}
