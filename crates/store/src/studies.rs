//! Studies and their choices.

use pronoia_core::study::{Question, StudyState};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, TransactionTrait,
};

use crate::entity::{ledger_entry, study};
use crate::{Result, Store, StoreError};

/// A choice to be entered in the ledger.
#[derive(Debug, Clone)]
pub struct Choice {
    /// Who chose.
    pub account_id: i64,
    /// What was chosen, in a sentence.
    pub chosen: String,
    /// The figure that mattered.
    pub figure: String,
}

impl Store {
    /// Begins a study.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn create_study(
        &self,
        workspace_id: i64,
        table_id: i64,
        title: &str,
        question: Question,
    ) -> Result<study::Model> {
        let row = study::ActiveModel {
            workspace_id: Set(workspace_id),
            table_id: Set(table_id),
            title: Set(title.into()),
            question: Set(question.word().into()),
            state: Set(serde_json::to_value(StudyState::default())?),
            ..Default::default()
        };
        Ok(row.insert(&self.db).await?)
    }

    /// The studies of a workspace, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn studies(&self, workspace_id: i64) -> Result<Vec<study::Model>> {
        Ok(study::Entity::find()
            .filter(study::Column::WorkspaceId.eq(workspace_id))
            .order_by_desc(study::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// A study of this workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn study(&self, workspace_id: i64, id: i64) -> Result<study::Model> {
        let found =
            study::Entity::find_by_id(id).filter(study::Column::WorkspaceId.eq(workspace_id)).one(&self.db).await?;
        found.ok_or(StoreError::NotFound("This study"))
    }

    /// Puts new choices in place and enters what was chosen in the ledger, both or neither.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if somebody else changed the study since `seen`
    /// was read: their choice stands and nothing is overwritten.
    pub async fn choose(&self, seen: &study::Model, state: &StudyState, choice: &Choice) -> Result<()> {
        let transaction = self.db.begin().await?;
        let changed = study::Entity::update_many()
            .set(study::ActiveModel {
                state: Set(serde_json::to_value(state)?),
                revision: Set(seen.revision + 1),
                ..Default::default()
            })
            .filter(study::Column::Id.eq(seen.id))
            .filter(study::Column::Revision.eq(seen.revision))
            .exec(&transaction)
            .await?;
        if changed.rows_affected == 0 {
            return Err(StoreError::Refused(
                "The study was changed elsewhere in the meantime. Nothing was overwritten; look at the page again and repeat your choice.".into(),
            ));
        }
        ledger_entry::ActiveModel {
            study_id: Set(seen.id),
            account_id: Set(Some(choice.account_id)),
            chosen: Set(choice.chosen.clone()),
            figure: Set(choice.figure.clone()),
            before: Set(Some(seen.state.clone())),
            ..Default::default()
        }
        .insert(&transaction)
        .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Writes down what the sealed test said; counts the opening.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_confirmation(&self, study: &study::Model, confirmation: serde_json::Value) -> Result<()> {
        study::ActiveModel {
            id: Set(study.id),
            confirmation: Set(Some(confirmation)),
            test_openings: Set(study.test_openings + 1),
            ..Default::default()
        }
        .update(&self.db)
        .await?;
        Ok(())
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
