//! What answers calls: models that are ready, keys that were looked up, and how often they were used.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use pronoia_core::prepare::PreparationStep;
use pronoia_core::score::columns_of_policy;
use pronoia_core::study::ChosenPolicy;
use pronoia_core::watch::{CustomerTally, TrainingDistribution};
use pronoia_core::{Kind, Model};
use pronoia_store::releases::{OpenedRelease, Use};
use pronoia_store::{StoreError, release_version};

use crate::cache::PolicyCache;
use crate::call_limits::CallLimits;
use crate::{App, text};

/// Versions that are kept ready.
const READY: usize = 16;

/// How long what a key opens is believed without another look. Keys that are revoked here, and
/// versions that are exchanged here, are forgotten at once; this is for what other servers do.
const BELIEVED: Duration = Duration::from_secs(5);

/// Days that are looked back on to see whether customers have changed.
pub const DAYS: u64 = 28;

/// How often it is written down how often versions were called.
const WRITTEN: Duration = Duration::from_secs(5);

/// What keys were found to open, and when.
type Looked = HashMap<String, (Instant, Option<OpenedRelease>)>;

/// A version that was called.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct ReleaseCall {
    release: i64,
    version: i64,
}

/// What answers calls; cheap to clone.
#[derive(Debug, Clone)]
pub struct ReleaseCalls {
    ready: PolicyCache<i64, Ready>,
    keys: Arc<Mutex<Looked>>,
    uses: Arc<Mutex<HashMap<ReleaseCall, (Use, CustomerTally)>>>,
    /// How often keys may call.
    pub limits: CallLimits,
}

/// A version with everything that an answer needs.
#[derive(Debug)]
pub struct Ready {
    /// The number of the version.
    pub number: i32,
    /// The model.
    pub model: Model,
    /// The policy.
    pub chosen: ChosenPolicy,
    /// What it met when it was fitted, and said when it was judged.
    pub expected: TrainingDistribution,
    /// The steps of the study, where amounts may rest on columns that they make.
    pub steps: Vec<PreparationStep>,
    /// Columns that only the policy's amounts are worked out from.
    pub of_policy: Vec<(String, Kind)>,
}

impl Default for ReleaseCalls {
    fn default() -> Self {
        Self {
            ready: PolicyCache::most(READY),
            keys: Arc::default(),
            uses: Arc::default(),
            limits: CallLimits::default(),
        }
    }
}

impl ReleaseCalls {
    /// Has every model read again that is called.
    pub fn forget_models(&self) {
        self.ready.clear();
    }

    /// A version of a release, with what an answer needs.
    pub async fn ready(&self, app: &App, (workspace, version): (i64, i64)) -> Result<Arc<Ready>, StoreError> {
        let work = async { Ready::of(app, workspace, &app.store.release_version(version).await?).await };
        self.ready.or_put(version, work).await
    }

    /// What a key opens.
    pub async fn opened(&self, app: &App, key: &str) -> Result<Option<OpenedRelease>, StoreError> {
        let known = self.keys.lock().unwrap_or_else(PoisonError::into_inner).get(key).cloned();
        if let Some((_, opened)) = known.filter(|(when, _)| when.elapsed() < BELIEVED) {
            return Ok(opened);
        }
        let opened = app.store.opened_by(key).await?;
        let mut keys = self.keys.lock().unwrap_or_else(PoisonError::into_inner);
        keys.retain(|_, (when, _)| when.elapsed() < BELIEVED);
        keys.insert(key.to_owned(), (Instant::now(), opened.clone()));
        Ok(opened)
    }

    /// Forgets what keys open, since that has changed.
    pub fn forget(&self) {
        self.keys.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// Adds to how often a version was called, and whom it met.
    pub fn count(&self, (release, version): (i64, i64), used: Use, met: &CustomerTally) {
        let mut uses = self.uses.lock().unwrap_or_else(PoisonError::into_inner);
        let (uses, tally) = uses.entry(ReleaseCall { release, version }).or_default();
        *uses += used;
        tally.add(met);
    }

    /// Writes down how often versions were called since the last time, and tells in the ledger when
    /// customers have changed.
    pub async fn write_down(&self, app: &App) {
        let uses = std::mem::take(&mut *self.uses.lock().unwrap_or_else(PoisonError::into_inner));
        for (called, (used, met)) in uses {
            let of = (called.release, called.version);
            if let Err(e) = app.store.note_use(of, used).await {
                tracing::warn!("calls of a release could not be recorded: {e}");
                self.count(of, used, &met);
                continue;
            }
            if met.customers == 0 {
                continue;
            }
            if let Err(e) = app.store.note_tally(called.version, &met).await {
                tracing::warn!("customers scored by a release could not be recorded: {e}");
                self.count(of, Use::default(), &met);
            } else if let Err(e) = self.alert(app, of).await {
                tracing::warn!("drift of a release could not be computed: {e}");
            }
        }
    }

    /// Tells in the ledger, once, what has moved since a version was fitted.
    async fn alert(&self, app: &App, (release, version): (i64, i64)) -> Result<(), StoreError> {
        let release = app.store.release_of(release).await?;
        let ready = self.ready(app, (release.workspace_id, version)).await?;
        let found = app.store.tally(version, DAYS).await?.found(&ready.expected);
        let columns = found.columns.iter().map(|moved| (moved.column.as_str(), &moved.drift));
        let scores = found.scores.iter().map(|drift| ("probability", drift));
        for (what, drift) in scores.chain(columns).filter(|(_, drift)| drift.has_moved()) {
            if app.store.is_news(version, what).await? {
                let chosen = format!("“{}”: {what} has drifted since the fit", release.name);
                let (part, then, now) = &drift.part;
                let figure = format!(
                    "PSI {}; {} of customers are {part}, {} were",
                    text::fixed(drift.psi, 2),
                    text::percent(*now),
                    text::percent(*then)
                );
                app.store.note(release.study_id, None, &chosen, &figure).await?;
            }
        }
        Ok(())
    }

    /// Writes it down again and again.
    pub async fn keep_writing(app: App) {
        loop {
            tokio::time::sleep(WRITTEN).await;
            app.release_calls.write_down(&app).await;
        }
    }
}

impl Ready {
    async fn of(app: &App, workspace: i64, version: &release_version::Model) -> Result<Self, StoreError> {
        let chosen = version.decided_by()?;
        let row = app.store.model(version.model_id).await?;
        let (model, basis) = (row.fitted()?, row.fitted_on()?);
        let judged = app.store.judgement(row.id).await?.map_or(Vec::new(), |judged| judged.probability);
        let expected = TrainingDistribution::of(&model, &judged);
        let study = app.store.study(workspace, row.study_id).await?;
        let records = app.store.table(workspace, study.records(basis.table)).await?;
        let kinds = records.kinds()?;
        let read =
            columns_of_policy(&chosen.policy, &basis.steps, &kinds).map_err(|e| StoreError::Refused(e.to_string()))?;
        let only_of_policy = |name: &String| read.contains(name) && !model.inputs().any(|input| input.name == *name);
        let of_policy = kinds.into_iter().filter(|(name, _)| only_of_policy(name)).collect();
        // Nothing is made at every call that no amount looks at.
        let steps = if chosen.policy.inputs().is_empty() { Vec::new() } else { basis.steps };
        Ok(Self { number: version.number, model, chosen, expected, steps, of_policy })
    }

    /// The names of the columns that only the policy needs.
    pub fn names_of_policy(&self) -> Vec<String> {
        self.of_policy.iter().map(|(name, _)| name.clone()).collect()
    }
}
