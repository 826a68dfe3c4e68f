//! One person's records, taken out of everything that a workspace keeps.
//!
//! A row is made blank, not taken out: what was judged and counted refers to rows by their places.

mod identity;

use pronoia_core::Kind;
use pronoia_core::profile::TableProfile;
use pronoia_core::score::{ColumnAnswers, pair};
use pronoia_core::table::Storage;
use sea_orm::sea_query::Expr;
use sea_orm::sqlx::{self, AssertSqlSafe};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, DbBackend, EntityTrait,
    ExprTrait, QueryFilter, QueryOrder, QuerySelect, Statement, TransactionTrait, Value,
};

use crate::entity::{campaign, do_not_contact, ledger_entry, list, model, record_table, study};
use crate::jobs::{Work, put};
use crate::records::{StoredColumn, is_there, quoted, relation};
use crate::{Result, Store, StoreError, pools};

pub(crate) use identity::make_blank;

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
pub struct PersonPlace {
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
    pub async fn find_person(&self, workspace_id: i64, person: Person<'_>) -> Result<Vec<PersonPlace>> {
        let wish = self.do_not_contact(workspace_id).await?;
        places(&self.db, workspace_id, wish.as_ref(), person).await
    }

    /// Makes a person's rows blank wherever they stand, forgets what previews of files show of them, takes
    /// them out of published lists, and puts work in the queue that takes them out of figures and models;
    /// all of it or nothing. Every study that is concerned says so in its ledger, without the value.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if nobody is told by this value.
    pub async fn erase_person(&self, (workspace_id, account_id): (i64, i64), person: Person<'_>) -> Result<Erased> {
        let wish = self.do_not_contact(workspace_id).await?;
        let is_in_files = self.is_in_files(workspace_id, person).await?;
        let transaction = self.db.begin().await?;
        // From here on whatever is sealed is looked through for them; what was sealed before is found below.
        identity::remember(&transaction, workspace_id, person).await?;
        let places = places(&transaction, workspace_id, wish.as_ref(), person).await?;
        if places.is_empty() && !is_in_files {
            return Err(StoreError::NotFound("Nobody with this value"));
        }
        let (mut rows, mut tables) = (0, Vec::new());
        for place in &places {
            rows += blank(&transaction, place, person).await?;
            tables.push(place.table.id);
        }
        take_out_of_published(&transaction, workspace_id, person).await?;
        forget_previews(&transaction, workspace_id, person).await?;
        let attachments = take_out_of_remarks(&transaction, workspace_id, person).await?;
        let mut figure = format!("identified by {}: {rows} rows in {} tables blanked", person.column, tables.len());
        if attachments > 0 {
            figure += &format!("; {attachments} remarks or attached files removed");
        }
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
        let job = put(&transaction, workspace_id, None, "Removing an erased person from figures and models", &work);
        let job = job.await?;
        transaction.commit().await?;
        Ok(Erased { rows, tables: erased, job })
    }

    /// Whether a value stands in a preview of a file that waits.
    async fn is_in_files(&self, workspace_id: i64, person: Person<'_>) -> Result<bool> {
        let sql = "SELECT 1 FROM upload WHERE workspace_id = $1 AND state IN ('scanning', 'ready', 'importing') \
                   AND position($2 IN scan::text) > 0 LIMIT 1";
        let found = self.db.query_one_raw(statement(sql.into(), [workspace_id.into(), person.value.into()])).await?;
        Ok(found.is_some())
    }

    /// How many people were erased in all workspaces; whoever keeps customers in memory forgets them when it rises.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn erasures(&self) -> Result<i64> {
        let erasures = sqlx::query_scalar("SELECT coalesce(max(id), 0) FROM erased_identity").fetch_one(self.pool());
        let erasures = erasures.await?;
        pools::note_answer();
        Ok(erasures)
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

    /// Whether the rows of a table are there.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn is_stored(&self, table: &record_table::Model) -> Result<bool> {
        is_there(self.pool(), &relation(table.workspace_id, table.id)).await
    }

    /// Has the database give back the room in which erased rows still lie, and keeps a table's figures
    /// without them.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn describe_anew(&self, table: &record_table::Model, profile: &TableProfile) -> Result<()> {
        let vacuum = format!("VACUUM {}", relation(table.workspace_id, table.id));
        match sqlx::query(AssertSqlSafe(vacuum)).execute(self.pool()).await {
            // A table that was erased since holds nobody.
            Err(e) if e.as_database_error().is_some_and(|e| e.code().as_deref() == Some("42P01")) => return Ok(()),
            vacuumed => vacuumed?,
        };
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
    let column = column_of(columns, person.column)?;
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

/// The column of this name, or of one that is spelled a little differently.
fn column_of<'c>(columns: &'c [StoredColumn], name: &str) -> Option<&'c StoredColumn> {
    let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
    let paired = pair(&[name], &names, &ColumnAnswers::new());
    let found = paired.first()?.source(name)?;
    columns.iter().find(|column| column.name == found)
}

/// Where a person's rows stand; tables that were erased meanwhile hold nobody.
async fn places(
    db: &impl ConnectionTrait,
    workspace_id: i64,
    wish: Option<&do_not_contact::Model>,
    person: Person<'_>,
) -> Result<Vec<PersonPlace>> {
    let mut found = Vec::new();
    let tables = record_table::Entity::find().filter(record_table::Column::WorkspaceId.eq(workspace_id));
    for table in tables.order_by_asc(record_table::Column::Id).all(db).await? {
        let columns = table.stored_columns()?;
        let Some((column, is_theirs, value)) = told_by(&columns, person) else { continue };
        let (column, relation) = (column.name.clone(), relation(workspace_id, table.id));
        let there = statement("SELECT 1 WHERE to_regclass($1) IS NOT NULL".into(), [relation.as_str().into()]);
        if db.query_one_raw(there).await?.is_none() {
            continue;
        }
        let sql = format!("SELECT count(*) AS rows FROM {relation} WHERE {is_theirs}");
        let counted = db.query_one_raw(statement(sql, [value])).await?;
        let rows: i64 = counted.map(|row| row.try_get("", "rows")).transpose()?.unwrap_or(0);
        if rows > 0 {
            let is_wish = wish.is_some_and(|w| w.table_name == table.name && w.by_column == column);
            found.push(PersonPlace { table, column, rows: rows.unsigned_abs(), is_wish });
        }
    }
    Ok(found)
}

/// Makes the rows of a person blank; how many there were.
async fn blank(transaction: &DatabaseTransaction, place: &PersonPlace, person: Person<'_>) -> Result<u64> {
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

/// Takes a person out of the lists that other programs read, also where the list was answered for anew since.
async fn take_out_of_published(transaction: &DatabaseTransaction, workspace_id: i64, person: Person<'_>) -> Result<()> {
    const COLUMNS: &str = "SELECT a.attname::text AS name, format_type(a.atttypid, NULL) AS kind FROM pg_attribute a \
        WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";
    let schema = format!("published_{workspace_id}");
    let published = list::Entity::find().filter(list::Column::Published.like(format!("{schema}.%")));
    for list in published.all(transaction).await? {
        let Some((schema, name)) = list.published.as_deref().and_then(|place| place.split_once('.')) else { continue };
        let place = format!("{}.{}", quoted(schema), quoted(name));
        let mut columns = Vec::new();
        for row in transaction.query_all_raw(statement(COLUMNS.into(), [place.as_str().into()])).await? {
            let (name, kind): (String, String) = (row.try_get("", "name")?, row.try_get("", "kind")?);
            let kind = match kind.as_str() {
                "double precision" => Kind::Number,
                "date" => Kind::Date,
                _ => Kind::Text,
            };
            columns.push(StoredColumn { field: name.clone(), name, kind });
        }
        if let Some((_, is_theirs, value)) = told_by(&columns, person) {
            transaction.execute_raw(statement(format!("DELETE FROM {place} WHERE {is_theirs}"), [value])).await?;
        }
    }
    Ok(())
}

/// Takes what was remarked with the value, and attached files in which it stands, out of the ledgers; how many. A
/// value of one or two characters says nothing of anybody where it stands by itself.
async fn take_out_of_remarks(transaction: &DatabaseTransaction, workspace_id: i64, person: Person<'_>) -> Result<u64> {
    if person.value.chars().count() < 3 {
        return Ok(0);
    }
    const OF_WORKSPACE: &str =
        "entry_id IN (SELECT e.id FROM ledger_entry e JOIN study s ON s.id = e.study_id WHERE s.workspace_id = $1)";
    let said = format!(
        "UPDATE ledger_remark SET said = replace(said, $2, '(erased)') WHERE {OF_WORKSPACE} AND position($2 IN said) > 0"
    );
    let files = format!(
        "UPDATE ledger_remark SET file = convert_to('This file held records of somebody who was erased.', 'UTF8'), \
         file_name = 'erased.txt' WHERE {OF_WORKSPACE} AND position(convert_to($2, 'UTF8') IN file) > 0"
    );
    let mut taken = 0;
    for sql in [said, files] {
        let values = [workspace_id.into(), person.value.into()];
        taken += transaction.execute_raw(statement(sql, values)).await?.rows_affected();
    }
    Ok(taken)
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
