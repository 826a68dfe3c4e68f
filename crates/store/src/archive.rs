//! What was put away: out of everybody's sight, and brought back whole, until an owner erases it.

use chrono::{DateTime, Utc};
use pronoia_core::sentence::listed;
use sea_orm::sea_query::Expr;
use sea_orm::{
    ColumnTrait, Condition, ConnectionTrait, DatabaseTransaction, EntityTrait, QueryFilter, QueryOrder, QuerySelect,
    TransactionTrait,
};

use crate::entity::{campaign, job, list, record_table, release, study, upload};
use crate::records::{quoted, relation};
use crate::{Result, Store, StoreError};

/// What can be put away.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Thing {
    /// A study with its candidates, lists and campaigns.
    Study(i64),
    /// A table of records.
    Table(i64),
}

/// Something that was put away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Away {
    /// What.
    pub thing: Thing,
    /// What it is called.
    pub name: String,
    /// When it was put away.
    pub at: DateTime<Utc>,
    /// By whom, if they are still here.
    pub by: Option<i64>,
}

impl Store {
    /// Puts something away.
    ///
    /// # Errors
    /// [`StoreError::NotFound`]; [`StoreError::Refused`] if programs are answered by the study.
    pub async fn put_away(&self, workspace_id: i64, thing: Thing, account_id: i64) -> Result<()> {
        if let Thing::Study(id) = thing {
            let of_study = release::Entity::find().filter(release::Column::StudyId.eq(id));
            let released = of_study.filter(release::Column::WorkspaceId.eq(workspace_id)).all(&self.db).await?;
            if !released.is_empty() {
                let names: Vec<String> = released.iter().map(|release| format!("“{}”", release.name)).collect();
                return Err(StoreError::Refused(format!(
                    "Programs call a release of this study, under the name {}. It cannot be archived.",
                    listed(&names)
                )));
            }
        }
        self.mark(workspace_id, thing, Some((Utc::now(), account_id))).await
    }

    /// Brings something back.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn bring_back(&self, workspace_id: i64, thing: Thing) -> Result<()> {
        self.mark(workspace_id, thing, None).await
    }

    async fn mark(&self, workspace_id: i64, thing: Thing, away: Option<(DateTime<Utc>, i64)>) -> Result<()> {
        let (at, by) = away.unzip();
        let rows = match thing {
            Thing::Study(id) => {
                use study::Column as C;
                let of_it = study::Entity::update_many().filter(C::Id.eq(id)).filter(C::WorkspaceId.eq(workspace_id));
                let there = if at.is_some() { C::PutAwayAt.is_null() } else { C::PutAwayAt.is_not_null() };
                let set = of_it.col_expr(C::PutAwayAt, Expr::value(at)).col_expr(C::PutAwayBy, Expr::value(by));
                set.filter(there).exec(&self.db).await?.rows_affected
            }
            Thing::Table(id) => {
                use record_table::Column as C;
                let of_it =
                    record_table::Entity::update_many().filter(C::Id.eq(id)).filter(C::WorkspaceId.eq(workspace_id));
                let there = if at.is_some() { C::PutAwayAt.is_null() } else { C::PutAwayAt.is_not_null() };
                let set = of_it.col_expr(C::PutAwayAt, Expr::value(at)).col_expr(C::PutAwayBy, Expr::value(by));
                set.filter(there).filter(C::IsList.eq(false)).exec(&self.db).await?.rows_affected
            }
        };
        if rows == 0 { Err(StoreError::NotFound("This")) } else { Ok(()) }
    }

    /// What was put away in a workspace, the latest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn away(&self, workspace_id: i64) -> Result<Vec<Away>> {
        let studies = study::Entity::find()
            .filter(study::Column::WorkspaceId.eq(workspace_id))
            .filter(study::Column::PutAwayAt.is_not_null())
            .all(&self.db)
            .await?;
        let tables = record_table::Entity::find()
            .filter(record_table::Column::WorkspaceId.eq(workspace_id))
            .filter(record_table::Column::PutAwayAt.is_not_null())
            .all(&self.db)
            .await?;
        let studies = studies.into_iter().filter_map(|row| {
            Some(Away { thing: Thing::Study(row.id), name: row.title, at: row.put_away_at?, by: row.put_away_by })
        });
        let tables = tables.into_iter().filter_map(|row| {
            let name = format!("{}, version {}", row.name, row.version);
            Some(Away { thing: Thing::Table(row.id), name, at: row.put_away_at?, by: row.put_away_by })
        });
        let mut away: Vec<Away> = studies.chain(tables).collect();
        away.sort_by_key(|away| std::cmp::Reverse(away.at));
        Ok(away)
    }

    /// Erases something that was put away, for good; gives the paths of uploaded files that belonged to
    /// it. It is in backups that were taken before.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it was not put away; [`StoreError::Refused`] if studies rest on the
    /// table.
    pub async fn erase(&self, workspace_id: i64, thing: Thing) -> Result<Vec<String>> {
        if !self.away(workspace_id).await?.iter().any(|away| away.thing == thing) {
            return Err(StoreError::NotFound("This"));
        }
        let transaction = self.db.begin().await?;
        let paths = match thing {
            Thing::Study(id) => erase_study(&transaction, workspace_id, id).await?,
            Thing::Table(id) => erase_table(&transaction, workspace_id, id).await?,
        };
        transaction.commit().await?;
        Ok(paths)
    }

    /// Makes somebody else the one who keeps a study.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if they do not work in the workspace.
    pub async fn hand_over(&self, study: &study::Model, account_id: i64) -> Result<String> {
        let members = self.members(study.workspace_id).await?;
        let Some(member) = members.into_iter().find(|member| member.account.id == account_id) else {
            return Err(StoreError::Refused("They do not work here; People says who does.".into()));
        };
        study::Entity::update_many()
            .col_expr(study::Column::AccountId, Expr::value(account_id))
            .filter(study::Column::Id.eq(study.id))
            .exec(&self.db)
            .await?;
        Ok(member.account.email)
    }
}

async fn erase_study(transaction: &DatabaseTransaction, workspace_id: i64, id: i64) -> Result<Vec<String>> {
    let lists = list::Entity::find().filter(list::Column::StudyId.eq(id)).all(transaction).await?;
    let campaigns = campaign::Entity::find().filter(campaign::Column::StudyId.eq(id)).all(transaction).await?;
    let mut tables: Vec<i64> = campaigns.iter().filter_map(|campaign| campaign.assigned_id).collect();
    for list in &lists {
        tables.extend(list.scored_id);
        if let Some((schema, name)) = list.published.as_deref().and_then(|place| place.split_once('.')) {
            let statement = format!("DROP TABLE IF EXISTS {}.{}", quoted(schema), quoted(name));
            transaction.execute_unprepared(&statement).await?;
        }
    }
    // A table of Records that was scored as a list stays.
    let own = record_table::Entity::find()
        .filter(record_table::Column::Id.is_in(lists.iter().map(|list| list.table_id)))
        .filter(record_table::Column::IsList.eq(true));
    tables.extend(own.all(transaction).await?.iter().map(|table| table.id));
    let files = take_uploads(transaction, Condition::all().add(upload::Column::StudyId.eq(id))).await?;
    job::Entity::delete_many().filter(job::Column::StudyId.eq(id)).exec(transaction).await?;
    study::Entity::delete_by_id(id).exec(transaction).await?;
    tables.sort_unstable();
    tables.dedup();
    for table in tables {
        drop_table(transaction, workspace_id, table).await?;
    }
    Ok(files)
}

async fn erase_table(transaction: &DatabaseTransaction, workspace_id: i64, id: i64) -> Result<Vec<String>> {
    let moved_to = Expr::cust_with_values("(state ->> 'table')::bigint = $1", [id]);
    let resting = study::Entity::find()
        .filter(study::Column::WorkspaceId.eq(workspace_id))
        .filter(Condition::any().add(study::Column::TableId.eq(id)).add(moved_to))
        .order_by_asc(study::Column::Id)
        .limit(5)
        .all(transaction)
        .await?;
    if !resting.is_empty() {
        let titles: Vec<String> = resting.iter().map(|study| format!("“{}”", study.title)).collect();
        return Err(StoreError::Refused(format!(
            "{} on it, perhaps archived: {}. Delete them first; nothing was deleted.",
            if resting.len() == 1 { "A study depends" } else { "Studies depend" },
            listed(&titles)
        )));
    }
    let scored = list::Entity::find().filter(list::Column::TableId.eq(id)).one(transaction).await?;
    if let Some(list) = scored {
        let name = study::Entity::find_by_id(list.study_id).one(transaction).await?.map(|study| study.title);
        return Err(StoreError::Refused(format!(
            "It was scored as a list in “{}”. Delete that study first; nothing was deleted.",
            name.unwrap_or_default()
        )));
    }
    let files = take_uploads(transaction, Condition::all().add(upload::Column::TableId.eq(id))).await?;
    drop_table(transaction, workspace_id, id).await?;
    Ok(files)
}

/// Takes uploads out of the books; gives the paths of their files.
async fn take_uploads(transaction: &DatabaseTransaction, those: Condition) -> Result<Vec<String>> {
    let found = upload::Entity::find().filter(those.clone()).all(transaction).await?;
    upload::Entity::delete_many().filter(those).exec(transaction).await?;
    Ok(found.into_iter().map(|upload| upload.path).collect())
}

pub(crate) async fn drop_table(transaction: &DatabaseTransaction, workspace_id: i64, id: i64) -> Result<()> {
    // Views that questions are asked of look at it, and are made again where they are needed.
    let statement = format!("DROP TABLE IF EXISTS {} CASCADE", relation(workspace_id, id));
    transaction.execute_unprepared(&statement).await?;
    record_table::Entity::delete_by_id(id).exec(transaction).await?;
    Ok(())
}
