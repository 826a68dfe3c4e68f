//! Models and policies that other programs call.

use chrono::{DurationRound, TimeDelta, Utc};
use pronoia_core::study::ChosenPolicy;
use sea_orm::sqlx;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, PaginatorTrait, QueryFilter,
    QueryOrder, QuerySelect, TransactionTrait,
};

use crate::entity::{release, release_key, release_use, release_version};
use crate::{Result, Store, StoreError, keys};

/// What a key opens.
#[derive(Debug, Clone)]
pub struct OpenedRelease {
    /// The key.
    pub key: release_key::Model,
    /// The release.
    pub release: release::Model,
}

/// How often a version was called since it was last written down.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Use {
    /// Calls that were answered.
    pub calls: i64,
    /// Calls that were refused.
    pub refused: i64,
    /// Customers scored.
    pub customers: i64,
    /// How many of them to act on.
    pub acted: i64,
    /// How many of them had something out of the ordinary.
    pub remarked: i64,
    /// Microseconds that answers took, in all.
    pub micros: i64,
    /// The slowest.
    pub slowest: i64,
}

impl std::ops::AddAssign for Use {
    fn add_assign(&mut self, more: Self) {
        self.calls += more.calls;
        self.refused += more.refused;
        self.customers += more.customers;
        self.acted += more.acted;
        self.remarked += more.remarked;
        self.micros += more.micros;
        self.slowest = self.slowest.max(more.slowest);
    }
}

impl Store {
    /// Releases a model and a policy under a name: a new release, or the next version of one of the
    /// same study, which then answers.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if another study uses the name.
    pub async fn release(&self, workspace_id: i64, study_id: i64, name: &str, chosen: &ChosenPolicy) -> Result<i64> {
        let transaction = self.db.begin().await?;
        let named = release::Entity::find()
            .filter(release::Column::WorkspaceId.eq(workspace_id))
            .filter(release::Column::Name.eq(name))
            .one(&transaction)
            .await?;
        let release = match named {
            Some(release) if release.study_id == study_id => release,
            Some(_) => {
                return Err(StoreError::Refused(format!(
                    "Another study is released as “{name}”. Choose another name, so that programs that call it get the answer they expect."
                )));
            }
            None => {
                let row = release::ActiveModel {
                    workspace_id: Set(workspace_id),
                    study_id: Set(study_id),
                    name: Set(name.into()),
                    ..Default::default()
                };
                row.insert(&transaction).await?
            }
        };
        let before = release_version::Entity::find()
            .filter(release_version::Column::ReleaseId.eq(release.id))
            .count(&transaction)
            .await?;
        let version = release_version::ActiveModel {
            release_id: Set(release.id),
            number: Set(before as i32 + 1),
            model_id: Set(chosen.model_id),
            policy: Set(serde_json::to_value(chosen)?),
            ..Default::default()
        };
        let version = version.insert(&transaction).await?;
        let live =
            release::ActiveModel { id: Set(release.id), version_id: Set(Some(version.id)), ..Default::default() };
        live.update(&transaction).await?;
        transaction.commit().await?;
        Ok(release.id)
    }

    /// The releases of a study, in the order in which they were made.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn releases(&self, study_id: i64) -> Result<Vec<release::Model>> {
        let of_study = release::Entity::find().filter(release::Column::StudyId.eq(study_id));
        Ok(of_study.order_by_asc(release::Column::Id).all(&self.db).await?)
    }

    /// A release.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn release_of(&self, id: i64) -> Result<release::Model> {
        release::Entity::find_by_id(id).one(&self.db).await?.ok_or(StoreError::NotFound("This release"))
    }

    /// The versions of a release, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn release_versions(&self, release_id: i64) -> Result<Vec<release_version::Model>> {
        let of_release = release_version::Entity::find().filter(release_version::Column::ReleaseId.eq(release_id));
        Ok(of_release.order_by_desc(release_version::Column::Number).all(&self.db).await?)
    }

    /// A version of a release.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn release_version(&self, id: i64) -> Result<release_version::Model> {
        release_version::Entity::find_by_id(id).one(&self.db).await?.ok_or(StoreError::NotFound("This version"))
    }

    /// Has another version of a release answer.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is of another release.
    pub async fn set_live(&self, release_id: i64, version_id: i64) -> Result<()> {
        let version = self.release_version(version_id).await?;
        if version.release_id != release_id {
            return Err(StoreError::NotFound("This version"));
        }
        let live = release::ActiveModel {
            id: Set(release_id),
            version_id: Set(Some(version_id)),
            // Nobody challenges himself; whoever else did is not asked any more either.
            challenger_id: Set(None),
            challenger_share: Set(0.0),
            ..Default::default()
        };
        live.update(&self.db).await?;
        Ok(())
    }

    /// Has another version answer a share of the calls, at most half of them; nobody with none.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is of another release, [`StoreError::Refused`] if it answers
    /// already.
    pub async fn set_challenger(&self, release_id: i64, version_id: i64, share: f64) -> Result<()> {
        let version = self.release_version(version_id).await?;
        if version.release_id != release_id {
            return Err(StoreError::NotFound("This version"));
        }
        if self.release_of(release_id).await?.version_id == Some(version_id) {
            return Err(StoreError::Refused("This version is active already.".into()));
        }
        let asked = share > 0.0;
        let challenged = release::ActiveModel {
            id: Set(release_id),
            challenger_id: Set(asked.then_some(version_id)),
            challenger_share: Set(if asked { share } else { 0.0 }),
            ..Default::default()
        };
        challenged.update(&self.db).await?;
        Ok(())
    }

    /// Makes a key to a release; gives it in the clear, which is never possible again.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn add_release_key(
        &self,
        (release_id, account_id): (i64, i64),
        name: &str,
        per_minute: i32,
    ) -> Result<String> {
        let made = keys::make("pr");
        let row = release_key::ActiveModel {
            release_id: Set(release_id),
            account_id: Set(Some(account_id)),
            name: Set(name.into()),
            sha256: Set(made.sha256),
            begins: Set(made.begins),
            per_minute: Set(per_minute),
            ..Default::default()
        };
        row.insert(&self.db).await?;
        Ok(made.key)
    }

    /// The keys to a release, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn release_keys(&self, release_id: i64) -> Result<Vec<release_key::Model>> {
        let of_release = release_key::Entity::find().filter(release_key::Column::ReleaseId.eq(release_id));
        Ok(of_release.order_by_desc(release_key::Column::Id).all(&self.db).await?)
    }

    /// Makes a key open nothing any more.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is to another release.
    pub async fn revoke_release_key(&self, release_id: i64, id: i64) -> Result<()> {
        let key = release_key::Entity::find_by_id(id).one(&self.db).await?;
        let key = key.filter(|key| key.release_id == release_id).ok_or(StoreError::NotFound("This key"))?;
        if key.revoked_at.is_none() {
            let revoked =
                release_key::ActiveModel { id: Set(id), revoked_at: Set(Some(Utc::now())), ..Default::default() };
            revoked.update(&self.db).await?;
        }
        Ok(())
    }

    /// What a key opens; nothing if there is no such key, or it was revoked.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn opened_by(&self, key: &str) -> Result<Option<OpenedRelease>> {
        let found =
            release_key::Entity::find().filter(release_key::Column::Sha256.eq(keys::digest(key))).one(&self.db).await?;
        let Some(key) = found.filter(|key| key.revoked_at.is_none()) else { return Ok(None) };
        let release = release::Entity::find_by_id(key.release_id).one(&self.db).await?;
        Ok(release.map(|release| OpenedRelease { key, release }))
    }

    /// Adds to how often a version was called within the present hour.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn note_use(&self, (release_id, version_id): (i64, i64), used: Use) -> Result<()> {
        let hour = Utc::now().duration_trunc(TimeDelta::hours(1)).unwrap_or_else(|_| Utc::now());
        sqlx::query(
            "INSERT INTO release_use (release_id, version_id, hour, calls, refused, customers, acted, remarked, micros, slowest) \
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) \
             ON CONFLICT (version_id, hour) DO UPDATE SET calls = release_use.calls + excluded.calls, \
             refused = release_use.refused + excluded.refused, customers = release_use.customers + excluded.customers, \
             acted = release_use.acted + excluded.acted, remarked = release_use.remarked + excluded.remarked, \
             micros = release_use.micros + excluded.micros, slowest = greatest(release_use.slowest, excluded.slowest)",
        )
        .bind(release_id)
        .bind(version_id)
        .bind(hour)
        .bind(used.calls)
        .bind(used.refused)
        .bind(used.customers)
        .bind(used.acted)
        .bind(used.remarked)
        .bind(used.micros)
        .bind(used.slowest)
        .execute(self.pool())
        .await?;
        Ok(())
    }

    /// How often each version of a release was called, hour by hour, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn uses(&self, release_id: i64) -> Result<Vec<release_use::Model>> {
        let of_release = release_use::Entity::find().filter(release_use::Column::ReleaseId.eq(release_id));
        Ok(of_release.order_by_desc(release_use::Column::Hour).all(&self.db).await?)
    }
}

impl release::Model {
    /// The version that answers a call; the same call is always answered by the same one. `draw` is a
    /// number from 0 up to but not including 1 that belongs to the call.
    pub fn version_for(&self, draw: f64) -> Option<i64> {
        self.challenger_id.filter(|_| draw < self.challenger_share).or(self.version_id)
    }
}

impl release_version::Model {
    /// By what it decides.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn decided_by(&self) -> Result<ChosenPolicy> {
        Ok(serde_json::from_value(self.policy.clone())?)
    }
}

/// Who made the keys to releases of a workspace that still open something, once for each.
pub(crate) async fn makers(db: &impl ConnectionTrait, workspace_id: i64) -> Result<Vec<i64>> {
    let of_workspace = release::Entity::find().filter(release::Column::WorkspaceId.eq(workspace_id));
    let releases: Vec<i64> = of_workspace.select_only().column(release::Column::Id).into_tuple().all(db).await?;
    let keys = release_key::Entity::find()
        .filter(release_key::Column::ReleaseId.is_in(releases))
        .filter(release_key::Column::RevokedAt.is_null());
    Ok(keys.all(db).await?.into_iter().filter_map(|key| key.account_id).collect())
}
