//! The running account of a study.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, TransactionTrait,
};

use crate::entity::{ledger_entry, study};
use crate::{Result, Store, StoreError};

impl Store {
    /// Enters something that cannot be taken back: a fit, a list, an opened seal.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn note(&self, study_id: i64, account_id: Option<i64>, chosen: &str, figure: &str) -> Result<()> {
        ledger_entry::ActiveModel {
            study_id: Set(study_id),
            account_id: Set(account_id),
            chosen: Set(chosen.into()),
            figure: Set(figure.into()),
            ..Default::default()
        }
        .insert(&self.db)
        .await?;
        Ok(())
    }

    /// All entries, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn ledger(&self, study_id: i64) -> Result<Vec<ledger_entry::Model>> {
        Ok(ledger_entry::Entity::find()
            .filter(ledger_entry::Column::StudyId.eq(study_id))
            .order_by_desc(ledger_entry::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// Takes back the newest choice that still stands; gives what it was.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if `entry` is not that choice any more.
    pub async fn take_back(&self, study: &study::Model, entry: i64) -> Result<String> {
        let newest = self.ledger(study.id).await?.into_iter().find(ledger_entry::Model::can_be_taken_back);
        let Some(newest) = newest.filter(|e| e.id == entry) else {
            return Err(StoreError::Refused(
                "Only the newest choice that still stands can be taken back; this one is not, or was taken back already.".into(),
            ));
        };
        let before = newest.before.clone().unwrap_or_default();
        let chosen = newest.chosen.clone();
        let transaction = self.db.begin().await?;
        let changed = study::Entity::update_many()
            .set(study::ActiveModel { state: Set(before), revision: Set(study.revision + 1), ..Default::default() })
            .filter(study::Column::Id.eq(study.id))
            .filter(study::Column::Revision.eq(study.revision))
            .exec(&transaction)
            .await?;
        if changed.rows_affected == 0 {
            return Err(StoreError::Refused(
                "The study was changed elsewhere in the meantime; look at it again first.".into(),
            ));
        }
        let mut row: ledger_entry::ActiveModel = newest.into();
        row.taken_back_at = Set(Some(chrono::Utc::now()));
        row.update(&transaction).await?;
        transaction.commit().await?;
        Ok(chosen)
    }
}

impl ledger_entry::Model {
    /// Whether the entry is a choice that still stands.
    pub fn can_be_taken_back(&self) -> bool {
        self.before.is_some() && self.taken_back_at.is_none()
    }
}
