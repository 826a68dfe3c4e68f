//! The rule by which customers are acted on today, tried on the rows that candidates are judged on.

use pronoia_core::decide::FixedRule;
use pronoia_core::study::Basis;
use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, EntityTrait};

use crate::entity::rule_tried;
use crate::{Result, Store};

impl Store {
    /// What a study's rule of today came to when it was last tried.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn rule_tried(&self, study_id: i64) -> Result<Option<rule_tried::Model>> {
        Ok(rule_tried::Entity::find_by_id(study_id).one(&self.db).await?)
    }

    /// Keeps what a rule came to, in place of what was kept before.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_rule_tried(&self, study_id: i64, condition: &str, basis: &Basis, found: &FixedRule) -> Result<()> {
        use rule_tried::Column as C;
        let transaction = self.writing().await?;
        let row = rule_tried::ActiveModel {
            study_id: Set(study_id),
            condition: Set(condition.into()),
            basis: Set(serde_json::to_value(basis)?),
            found: Set(serde_json::to_value(found)?),
            created_at: Set(chrono::Utc::now()),
        };
        let replace =
            OnConflict::column(C::StudyId).update_columns([C::Condition, C::Basis, C::Found, C::CreatedAt]).to_owned();
        rule_tried::Entity::insert(row).on_conflict(replace).exec_without_returning(&transaction).await?;
        Ok(transaction.commit().await?)
    }
}

impl rule_tried::Model {
    /// What it came to, if this is the rule and these are the choices that it was
    /// tried under.
    ///
    /// # Errors
    /// [`crate::StoreError::Damaged`].
    pub fn under(&self, condition: &str, basis: Option<&Basis>) -> Result<Option<FixedRule>> {
        let tried_under: Basis = serde_json::from_value(self.basis.clone())?;
        if self.condition != condition || basis != Some(&tried_under) {
            return Ok(None);
        }
        Ok(Some(serde_json::from_value(self.found.clone())?))
    }
}
