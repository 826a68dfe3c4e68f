//! Links by which somebody without an account reads the statement of a study.

use chrono::{Duration, Utc};
use sea_orm::sea_query::{Expr, ExprTrait};
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, Condition, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::{share, study, workspace};
use crate::{Result, Store, StoreError, keys};

/// The most days that a link is good for.
pub const MOST_DAYS: i64 = 90;

/// The most links to one study that are good at once.
const MOST_LINKS: usize = 20;

impl Store {
    /// Makes a link to the statement of a study; gives its end in the clear, which is never possible again.
    ///
    /// # Errors
    /// [`StoreError::Refused`] for a time that is none, or if very many links are good already.
    pub async fn share(&self, study_id: i64, account_id: i64, name: &str, days: i64) -> Result<String> {
        if !(1..=MOST_DAYS).contains(&days) {
            return Err(StoreError::Refused(format!("A link is good for 1 to {MOST_DAYS} days.")));
        }
        if self.shares(study_id).await?.len() >= MOST_LINKS {
            return Err(StoreError::Refused(format!("{MOST_LINKS} links to it are good already. Withdraw one first.")));
        }
        let made = keys::make("read");
        let row = share::ActiveModel {
            study_id: Set(study_id),
            sha256: Set(made.sha256),
            name: Set(name.into()),
            account_id: Set(Some(account_id)),
            expires_at: Set(Utc::now() + Duration::days(days)),
            ..Default::default()
        };
        row.insert(&self.db).await?;
        Ok(made.key)
    }

    /// Links to a study that are good, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn shares(&self, study_id: i64) -> Result<Vec<share::Model>> {
        let of_study = share::Entity::find().filter(share::Column::StudyId.eq(study_id)).filter(good());
        Ok(of_study.order_by_desc(share::Column::Id).all(&self.db).await?)
    }

    /// Makes a link good for nobody any more; gives whom it was for.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is to another study, or is not good any more.
    pub async fn withdraw_share(&self, study_id: i64, id: i64) -> Result<String> {
        let of_study = share::Entity::find_by_id(id).filter(share::Column::StudyId.eq(study_id));
        let found = of_study.filter(good()).one(&self.db).await?.ok_or(StoreError::NotFound("This link"))?;
        let name = found.name.clone();
        share::ActiveModel { withdrawn_at: Set(Some(Utc::now())), ..found.into() }.update(&self.db).await?;
        Ok(name)
    }

    /// Where a link leads, which is counted: the link, the study, and its workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is not good, or not any more, or if the study was put away.
    pub async fn follow_share(&self, key: &str) -> Result<(share::Model, study::Model, workspace::Model)> {
        const MISSING: StoreError = StoreError::NotFound("This link");
        let by_key = share::Entity::find().filter(share::Column::Sha256.eq(keys::digest(key)));
        let found = by_key.filter(good()).one(&self.db).await?.ok_or(MISSING)?;
        let study = study::Entity::find_by_id(found.study_id).filter(study::Column::PutAwayAt.is_null());
        let study = study.one(&self.db).await?.ok_or(MISSING)?;
        let workspace = workspace::Entity::find_by_id(study.workspace_id).one(&self.db).await?.ok_or(MISSING)?;
        share::Entity::update_many()
            .col_expr(share::Column::Followed, Expr::col(share::Column::Followed).add(1))
            .col_expr(share::Column::FollowedAt, Expr::value(Utc::now()))
            .filter(share::Column::Id.eq(found.id))
            .exec(&self.db)
            .await?;
        Ok((found, study, workspace))
    }
}

/// Whether a link can still be followed.
fn good() -> Condition {
    Condition::all().add(share::Column::WithdrawnAt.is_null()).add(share::Column::ExpiresAt.gt(Utc::now()))
}
