//! Studies and their choices.

use pronoia_core::question::Question;
use pronoia_core::study::{StudyState, history};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, DbBackend, EntityTrait,
    QueryFilter, QueryOrder, Statement, TransactionTrait,
};

use crate::entity::{ledger_entry, record_table, study};
use crate::{Result, Store, StoreError, jobs, ledger};

/// A choice to be entered in the ledger.
#[derive(Debug, Clone)]
pub struct Choice {
    /// Who chose.
    pub by: Author,
    /// What was chosen, in a sentence.
    pub chosen: String,
    /// The figure that mattered.
    pub figure: String,
}

/// Who chooses, and what they saw.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Author {
    /// Their account.
    pub account_id: i64,
    /// The revision of the study that stood on the page they chose on; none where no page was looked at.
    pub seen: Option<i64>,
}

impl From<i64> for Author {
    fn from(account_id: i64) -> Self {
        Self { account_id, seen: None }
    }
}

impl Store {
    /// Begins a study of a table, kept by somebody.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn create_study(
        &self,
        table: &record_table::Model,
        account_id: i64,
        title: &str,
        question: Question,
    ) -> Result<study::Model> {
        let row = study::ActiveModel {
            workspace_id: Set(table.workspace_id),
            table_id: Set(table.id),
            account_id: Set(Some(account_id)),
            title: Set(title.into()),
            question: Set(question.word().into()),
            state: Set(serde_json::to_value(StudyState::default())?),
            ..Default::default()
        };
        Ok(row.insert(&self.db).await?)
    }

    /// The studies of a workspace that were not put away, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn studies(&self, workspace_id: i64) -> Result<Vec<study::Model>> {
        Ok(study::Entity::find()
            .filter(study::Column::WorkspaceId.eq(workspace_id))
            .filter(study::Column::PutAwayAt.is_null())
            .order_by_desc(study::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// A study of this workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`]; [`StoreError::PutAway`].
    pub async fn study(&self, workspace_id: i64, id: i64) -> Result<study::Model> {
        let found = self.study_even_if_away(workspace_id, id).await?;
        if found.put_away_at.is_some() { Err(StoreError::PutAway) } else { Ok(found) }
    }

    /// A study of this workspace, whether it is put away or not.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn study_even_if_away(&self, workspace_id: i64, id: i64) -> Result<study::Model> {
        let found =
            study::Entity::find_by_id(id).filter(study::Column::WorkspaceId.eq(workspace_id)).one(&self.db).await?;
        found.ok_or(StoreError::NotFound("This study"))
    }

    /// Puts new choices in place and enters what was chosen in the ledger, both or neither.
    ///
    /// # Errors
    /// [`StoreError::Overtaken`] if somebody changed the same part of the study since the author's page
    /// was written; [`StoreError::Refused`] if somebody changed anything since `seen` was read. Their choice
    /// stands then, and nothing is overwritten.
    pub async fn choose(&self, seen: &study::Model, state: &StudyState, choice: &Choice) -> Result<()> {
        let since = choice.by.seen.map_or(0, |revision| seen.revision - revision);
        if since > 0 {
            let (theirs, then) = self.latest_choices(seen, since.unsigned_abs()).await?;
            let present = seen.choices()?;
            let mine = history::touched(&present, state);
            if !history::touched(&then, &present).is_disjoint(&mine) {
                return Err(StoreError::Overtaken(theirs));
            }
        }
        let transaction = self.db.begin().await?;
        Self::enter(&transaction, seen, state, choice, None).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Puts new choices in place, enters what was chosen, and has the rows looked at again if need be.
    pub(crate) async fn enter(
        transaction: &DatabaseTransaction,
        seen: &study::Model,
        state: &StudyState,
        choice: &Choice,
        takes_back: Option<i64>,
    ) -> Result<()> {
        let present = state.basis();
        let state = serde_json::to_value(state)?;
        let changed = study::Entity::update_many()
            .set(study::ActiveModel {
                state: Set(state.clone()),
                revision: Set(seen.revision + 1),
                ..Default::default()
            })
            .filter(study::Column::Id.eq(seen.id))
            .filter(study::Column::Revision.eq(seen.revision))
            .exec(transaction)
            .await?;
        if changed.rows_affected == 0 {
            return Err(StoreError::Refused(
                "The study was changed elsewhere in the meantime. Nothing was overwritten; reload the page and repeat your choice.".into(),
            ));
        }
        ledger_entry::ActiveModel {
            study_id: Set(seen.id),
            account_id: Set(Some(choice.by.account_id)),
            chosen: Set(choice.chosen.clone()),
            figure: Set(choice.figure.clone()),
            before: Set(Some(seen.state.clone())),
            after: Set(Some(state)),
            takes_back: Set(takes_back),
            ..Default::default()
        }
        .insert(transaction)
        .await?;
        // What models are fitted on has changed, so that its rows are looked at again.
        if present.is_some() && present != seen.choices()?.basis() {
            jobs::look_again(transaction, seen.workspace_id, seen.id).await?;
        }
        Ok(())
    }

    /// Writes down what the sealed test said, counts the opening and enters it in the ledger; a job does so once,
    /// however often it is begun.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_confirmation(
        &self,
        study: &study::Model,
        confirmation: serde_json::Value,
        (chosen, figure): (&str, &str),
    ) -> Result<()> {
        let transaction = self.writing().await?;
        if ledger::entered(&transaction, (None, self.lease()), (study.id, chosen, figure)).await? {
            const SQL: &str = "UPDATE study SET confirmation = $1, test_openings = test_openings + 1 WHERE id = $2";
            let values = [confirmation.into(), study.id.into()];
            transaction.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, SQL, values)).await?;
        }
        Ok(transaction.commit().await?)
    }
}

impl study::Model {
    /// The choices.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn choices(&self) -> Result<StudyState> {
        Ok(serde_json::from_value(self.state.clone())?)
    }

    /// The key of the table that these choices rest on.
    pub fn records(&self, table: Option<i64>) -> i64 {
        table.unwrap_or(self.table_id)
    }

    /// The kind of question.
    pub fn kind(&self) -> Question {
        self.question.parse().unwrap_or(Question::Other)
    }
}
