//! Candidates in memory: what was read of them once is read again only if it was changed since.

use std::collections::HashMap;
use std::ops::Deref;
use std::sync::{Arc, OnceLock};

use pronoia_core::cautions::Caution;
use pronoia_core::evaluate::Evaluation;
use pronoia_core::study::Basis;
use sea_orm::sea_query::Expr;
use sea_orm::{ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect};

use crate::entity::model;
use crate::{Result, Store};

/// An evaluation without the points of its curves, which are most of it.
const WITHOUT_CURVES: &str = r#"evaluation || '{"roc": [], "precision_recall": [], "gain": []}'::jsonb"#;

/// The transaction that wrote a row last; a row that was changed has another one.
const WRITTEN_BY: &str = "xmin::text";

/// A candidate without what is only looked at when one is open: its artefact, the rows that it was judged on
/// and fitted to, the points of its curves, and what was looked into besides. What every page of its study
/// asks of it is worked out once.
#[derive(Debug)]
pub struct StoredCandidate {
    row: model::Model,
    written_by: String,
    basis: OnceLock<Basis>,
    evaluation: OnceLock<Option<Evaluation>>,
    cautions: OnceLock<Vec<Caution>>,
}

impl Deref for StoredCandidate {
    type Target = model::Model;

    fn deref(&self) -> &model::Model {
        &self.row
    }
}

impl From<model::Model> for StoredCandidate {
    fn from(row: model::Model) -> Self {
        Self::read((row, String::new()))
    }
}

impl StoredCandidate {
    fn read((row, written_by): (model::Model, String)) -> Self {
        Self { row, written_by, basis: OnceLock::new(), evaluation: OnceLock::new(), cautions: OnceLock::new() }
    }

    /// What it is fitted on.
    ///
    /// # Errors
    /// [`StoreError::Damaged`](crate::StoreError::Damaged).
    pub fn fitted_on(&self) -> Result<&Basis> {
        once(&self.basis, || self.row.fitted_on())
    }

    /// How it did on validation rows, without its curves.
    ///
    /// # Errors
    /// [`StoreError::Damaged`](crate::StoreError::Damaged).
    pub fn judged(&self) -> Result<Option<&Evaluation>> {
        once(&self.evaluation, || self.row.judged()).map(Option::as_ref)
    }

    /// What would make it wrong.
    ///
    /// # Errors
    /// [`StoreError::Damaged`](crate::StoreError::Damaged).
    pub fn warned_of(&self) -> Result<&[Caution]> {
        once(&self.cautions, || self.row.warned_of()).map(Vec::as_slice)
    }
}

/// What is there, or else what is read now; what could not be read is read again the next time.
fn once<T>(place: &OnceLock<T>, read: impl FnOnce() -> Result<T>) -> Result<&T> {
    match place.get() {
        Some(there) => Ok(there),
        None => {
            let read = read()?;
            Ok(place.get_or_init(|| read))
        }
    }
}

impl Store {
    /// The candidates on the list of a study, oldest first. Those that are `known` are read again only if
    /// somebody changed them.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn candidates(&self, study_id: i64, known: &[Arc<StoredCandidate>]) -> Result<Vec<Arc<StoredCandidate>>> {
        use model::Column as C;
        let listed = model::Entity::find().filter(C::StudyId.eq(study_id)).filter(C::Retired.eq(false));
        let present = listed.select_only().column(C::Id).expr_as(Expr::cust(WRITTEN_BY), "written_by");
        let present: Vec<(i64, String)> = present.order_by_asc(C::Id).into_tuple().all(&self.db).await?;
        let known: HashMap<i64, &Arc<StoredCandidate>> =
            known.iter().map(|candidate| (candidate.id, candidate)).collect();
        let unchanged = |(id, written_by): &(i64, String)| known.get(id).filter(|k| k.written_by == *written_by);
        let missing: Vec<i64> =
            present.iter().filter(|there| unchanged(there).is_none()).map(|there| there.0).collect();
        let mut rows: HashMap<i64, model::Model> = match missing.is_empty() {
            true => HashMap::new(),
            false => self.in_short(missing).await?.into_iter().map(|row| (row.id, row)).collect(),
        };
        let candidate = |there: (i64, String)| match unchanged(&there) {
            Some(candidate) => Some(Arc::clone(candidate)),
            None => rows.remove(&there.0).map(|row| Arc::new(StoredCandidate::read((row, there.1)))),
        };
        Ok(present.into_iter().filter_map(candidate).collect())
    }

    /// The rows of some candidates.
    async fn in_short(&self, ids: Vec<i64>) -> Result<Vec<model::Model>> {
        use model::Column as C;
        let rows = model::Entity::find()
            .select_only()
            .columns([C::Id, C::StudyId, C::Name, C::Settings, C::Basis, C::Seed, C::State])
            .columns([C::FitSeconds, C::ScoreSeconds, C::Error, C::Retired, C::CreatedAt])
            .columns([C::Cautions, C::Proof])
            .expr_as(Expr::cust(WITHOUT_CURVES), "evaluation")
            .expr_as(Expr::cust("NULL::jsonb"), "ranking")
            .expr_as(Expr::cust("NULL::bytea"), "artefact")
            .expr_as(Expr::cust("NULL::jsonb"), "training")
            .expr_as(Expr::cust("NULL::jsonb"), "closer")
            .expr_as(Expr::cust("NULL::jsonb"), "understanding")
            .expr_as(Expr::cust("NULL::jsonb"), "without")
            .filter(C::Id.is_in(ids))
            .all(&self.db)
            .await?;
        Ok(rows)
    }
}
