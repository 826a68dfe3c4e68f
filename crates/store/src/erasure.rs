//! One person's records, taken out of everything that a workspace keeps.
//!
//! A row is made blank, not taken out: what was judged and counted refers to rows by their places.

use pronoia_core::profile::TableProfile;
use pronoia_core::score::{Answers, pair};
use pronoia_core::table::Storage;
use sea_orm::sea_query::Expr;
use sea_orm::sqlx::{self, AssertSqlSafe};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, DbBackend, EntityTrait,
    ExprTrait, QueryFilter, QueryOrder, QuerySelect, Statement, TransactionTrait, Value,
};

use crate::entity::{campaign, ledger_entry, list, model, record_table, study};
use crate::jobs::{Work, put};
use crate::records::{StoredColumn, quoted, relation};
use crate::{Result, Store, StoreError};

/// What a person is told by.
#[derive(Debug, Clone, Copy)]
pub struct Person<'a> {
    /// The name of a column, as it is or spelled a little differently elsewhere.
    pub column: &'a str,
    /// Its value.
    pub value: &'a str,
}

/// Where rows of a person stand.
#[derive(Debug, Clone, PartialEq)]
pub struct Place {
    /// The table.
    pub table: record_table::Model,
    /// The column of it that the person is told by.
    pub column: String,
    /// How many rows.
    pub rows: u64,
    /// Whether it says there that they are not to be contacted; then only what they are told by stays, so that
    /// they are left alone.
    pub is_wish: bool,
}

/// What an erasure did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Erased {
    /// Rows that were made blank.
    pub rows: u64,
    /// Tables that they stood in.
    pub tables: u64,
    /// The job that takes the person out of figures and models.
    pub job: i64,
}

impl Store {
    /// Where a person's rows stand: in versions of tables, in lists, in what was drawn for campaigns,
    /// also where these are put away.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn find_person(&self, workspace_id: i64, person: Person<'_>) -> Result<Vec<Place>> {
        let mut found = Vec::new();
        let wish = self.do_not_contact(workspace_id).await?;
        let tables = record_table::Entity::find().filter(record_table::Column::WorkspaceId.eq(workspace_id));
        for table in tables.order_by_asc(record_table::Column::Id).all(&self.db).await? {
            let columns = table.stored_columns()?;
            let Some((column, is_theirs, value)) = told_by(&columns, person) else { continue };
            let column = column.name.clone();
            let sql = format!("SELECT count(*) AS rows FROM {} WHERE {is_theirs}", relation(workspace_id, table.id));
            let counted = self.db.query_one_raw(statement(sql, [value])).await?;
            let rows: i64 = counted.map(|row| row.try_get("", "rows")).transpose()?.unwrap_or(0);
            if rows > 0 {
                let is_wish = wish.as_ref().is_some_and(|w| w.table_name == table.name && w.by_column == column);
                found.push(Place { table, column, rows: rows.unsigned_abs(), is_wish });
            }
        }
        Ok(found)
    }

    /// Makes a person's rows blank wherever they stand, forgets what previews of files show of them, takes
    /// them out of published lists, and puts work in the queue that takes them out of figures and models;
    /// all of it or nothing. Every study that is concerned says so in its ledger, without the value.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if nobody is told by this value.
    pub async fn erase_person(&self, (workspace_id, account_id): (i64, i64), person: Person<'_>) -> Result<Erased> {
        let places = self.find_person(workspace_id, person).await?;
        if places.is_empty() {
            return Err(StoreError::NotFound("Nobody with this value"));
        }
        let transaction = self.db.begin().await?;
        let (mut rows, mut tables) = (0, Vec::new());
        for place in &places {
            rows += blank(&transaction, place, person).await?;
            tables.push(place.table.id);
        }
        take_out_of_published(&transaction, (workspace_id, &tables), person).await?;
        forget_previews(&transaction, workspace_id, person).await?;
        let figure = format!("told by {}: {rows} rows in {} tables made blank", person.column, tables.len());
        for study_id in studies_on(&transaction, workspace_id, &tables).await? {
            let entry = ledger_entry::ActiveModel {
                study_id: Set(study_id),
                account_id: Set(Some(account_id)),
                chosen: Set("One person’s records erased".into()),
                figure: Set(figure.clone()),
                ..Default::default()
            };
            entry.insert(&transaction).await?;
        }
        let erased = tables.len() as u64;
        let work = Work::Erased { tables };
        let job = put(&transaction, workspace_id, None, "Taking an erased person out of figures and models", &work);
        let job = job.await?;
        transaction.commit().await?;
        Ok(Erased { rows, tables: erased, job })
    }

    /// Tables among some, also those that are put away.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn tables_of(&self, workspace_id: i64, ids: &[i64]) -> Result<Vec<record_table::Model>> {
        Ok(record_table::Entity::find()
            .filter(record_table::Column::WorkspaceId.eq(workspace_id))
            .filter(record_table::Column::Id.is_in(ids.iter().copied()))
            .order_by_asc(record_table::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// Has the database give back the room in which erased rows still lie, and keeps a table's figures
    /// without them.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn describe_anew(&self, table: &record_table::Model, profile: &TableProfile) -> Result<()> {
        let vacuum = format!("VACUUM {}", relation(table.workspace_id, table.id));
        sqlx::query(AssertSqlSafe(vacuum)).execute(self.pool()).await?;
        let profile = Set(serde_json::to_value(profile)?);
        let transaction = self.writing().await?;
        record_table::ActiveModel { id: Set(table.id), profile, ..Default::default() }.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// The fitted models of a workspace, also those that are on no list any more.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn every_model(&self, workspace_id: i64) -> Result<Vec<i64>> {
        let studies = study::Entity::find().filter(study::Column::WorkspaceId.eq(workspace_id));
        let studies: Vec<i64> = studies.select_only().column(study::Column::Id).into_tuple().all(&self.db).await?;
        let fitted = model::Entity::find()
            .select_only()
            .column(model::Column::Id)
            .filter(model::Column::StudyId.is_in(studies))
            .filter(model::Column::State.eq("fitted"))
            .order_by_asc(model::Column::Id);
        Ok(fitted.into_tuple().all(&self.db).await?)
    }

    /// Studies of a workspace that rest on some tables, or whose lists or campaigns do.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn studies_on(&self, workspace_id: i64, tables: &[i64]) -> Result<Vec<i64>> {
        studies_on(&self.db, workspace_id, tables).await
    }
}

fn statement<const N: usize>(sql: String, values: [Value; N]) -> Statement {
    Statement::from_sql_and_values(DbBackend::Postgres, sql, values)
}

/// The column that a person is told by, the condition for a row to be theirs, and what it compares with.
fn told_by<'c>(columns: &'c [StoredColumn], person: Person<'_>) -> Option<(&'c StoredColumn, String, Value)> {
    let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
    let paired = pair(&[person.column], &names, &Answers::new());
    let name = paired.first()?.source(person.column)?;
    let column = columns.iter().find(|column| column.name == name)?;
    let field = quoted(&column.field);
    match column.kind.storage() {
        Storage::Numbers => {
            let number: f64 = person.value.parse().ok()?;
            Some((column, format!("{field} = $1"), number.into()))
        }
        Storage::Words => Some((column, format!("{field} = $1"), person.value.into())),
        Storage::Dates => Some((column, format!("{field}::text = $1"), person.value.into())),
    }
}

/// Makes the rows of a person blank; how many there were.
async fn blank(transaction: &DatabaseTransaction, place: &Place, person: Person<'_>) -> Result<u64> {
    let columns = place.table.stored_columns()?;
    let Some((_, is_theirs, value)) = told_by(&columns, person) else { return Ok(0) };
    let goes = |column: &&StoredColumn| !(place.is_wish && column.name == place.column);
    let blanks: Vec<String> =
        columns.iter().filter(goes).map(|column| format!("{} = NULL", quoted(&column.field))).collect();
    if blanks.is_empty() {
        return Ok(0);
    }
    let relation = relation(place.table.workspace_id, place.table.id);
    let sql = format!("UPDATE {relation} SET {} WHERE {is_theirs}", blanks.join(", "));
    Ok(transaction.execute_raw(statement(sql, [value])).await?.rows_affected())
}

/// Takes a person out of the lists that other programs read.
async fn take_out_of_published(
    transaction: &DatabaseTransaction,
    (workspace_id, tables): (i64, &[i64]),
    person: Person<'_>,
) -> Result<()> {
    let published = list::Entity::find()
        .filter(list::Column::Published.is_not_null())
        .filter(list::Column::ScoredId.is_in(tables.iter().copied()));
    for list in published.all(transaction).await? {
        let Some((schema, name)) = list.published.as_deref().and_then(|place| place.split_once('.')) else { continue };
        let Some(scored) = list.scored_id else { continue };
        let scored = record_table::Entity::find_by_id(scored)
            .filter(record_table::Column::WorkspaceId.eq(workspace_id))
            .one(transaction)
            .await?;
        let Some(columns) = scored.map(|table| table.stored_columns()).transpose()? else { continue };
        if let Some((_, is_theirs, value)) = told_by(&columns, person) {
            let sql = format!("DELETE FROM {}.{} WHERE {is_theirs}", quoted(schema), quoted(name));
            transaction.execute_raw(statement(sql, [value])).await?;
        }
    }
    Ok(())
}

/// Forgets the rows that are shown of files in which the value stands.
async fn forget_previews(transaction: &DatabaseTransaction, workspace_id: i64, person: Person<'_>) -> Result<()> {
    let sql = "UPDATE upload SET scan = scan || '{\"first_rows\": [], \"misfits\": []}'::jsonb \
               WHERE workspace_id = $1 AND jsonb_typeof(scan) = 'object' \
               AND (position($2 IN (scan -> 'first_rows')::text) > 0 OR position($2 IN (scan -> 'misfits')::text) > 0)";
    transaction.execute_raw(statement(sql.into(), [workspace_id.into(), person.value.into()])).await?;
    Ok(())
}

async fn studies_on(db: &impl ConnectionTrait, workspace_id: i64, tables: &[i64]) -> Result<Vec<i64>> {
    let those = || tables.iter().copied();
    let lists = list::Entity::find()
        .filter(list::Column::TableId.is_in(those()).or(list::Column::ScoredId.is_in(those())))
        .all(db)
        .await?;
    let campaigns = campaign::Entity::find().filter(campaign::Column::AssignedId.is_in(those())).all(db).await?;
    let resting: Vec<i64> =
        lists.iter().map(|list| list.study_id).chain(campaigns.iter().map(|campaign| campaign.study_id)).collect();
    let moved_to = Expr::cust("(state ->> 'table')::bigint").is_in(those());
    let concerned = study::Column::TableId.is_in(those()).or(moved_to).or(study::Column::Id.is_in(resting));
    let studies = study::Entity::find().filter(study::Column::WorkspaceId.eq(workspace_id)).filter(concerned);
    Ok(studies.select_only().column(study::Column::Id).into_tuple().all(db).await?)
}
