//! What every action, page and worker needs.

use std::any::Any;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use pronoia_core::decide::PolicyEvaluation;
use pronoia_store::Store;
use pronoia_store::candidates::StoredCandidate;
use pronoia_store::leases::Lease;
use pronoia_store::records::{ActedGroup, Hands, Mover};
use pronoia_store::sources::Connector;
use pronoia_store::waiting_turns::Turns;

use crate::Budget;
use crate::cache::PolicyCache;
use crate::candidate_profit::CandidateProfit;
use crate::evaluation_cache::EvaluationCache;
use crate::prediction_cache::PredictionCache;
use crate::release_calls::ReleaseCalls;

/// Evaluated policies, and what else takes much room, that are kept.
const EVALUATIONS: usize = 12;

/// How long a turn at a file or a preview is waited for.
const LONGEST_WAIT: Duration = Duration::from_secs(20);

/// Candidates that are kept in memory.
const CANDIDATES: usize = 1_000;

/// Candidates whose profit is kept.
const PROFITS: usize = 4_000;

/// Columns of scored lists of which the groups are kept.
const GROUPED: usize = 200;

/// Where files are.
#[derive(Debug, Clone)]
pub struct FileSettings {
    /// Where uploaded files wait until they are tables.
    pub uploads: PathBuf,
    /// A folder whose files everybody may fetch.
    pub folder: Option<PathBuf>,
    /// The most bytes of one upload.
    pub most_upload: u64,
    /// How long a client may send nothing in the middle of what it sends.
    pub patience: Duration,
}

/// The running application; cheap to clone.
#[derive(Debug, Clone)]
pub struct App {
    /// Where files are.
    pub files: FileSettings,
    /// Where things are kept.
    pub store: Store,
    /// How databases of others are reached.
    pub connector: Connector,
    /// The memory that fits share.
    pub memory: Budget,
    /// Predictions of validation rows.
    pub predictions: PredictionCache,
    /// Candidates of studies that were looked at.
    pub candidates: PolicyCache<i64, Vec<Arc<StoredCandidate>>>,
    /// Measures and curves of candidates.
    pub evaluations: EvaluationCache,
    /// The profit of candidates by the amounts of policies.
    pub candidate_profits: PolicyCache<(i64, String), CandidateProfit>,
    /// Policies evaluated on validation rows, by their amounts.
    pub policy_evaluations: PolicyCache<String, PolicyEvaluation>,
    /// Who is acted on in scored lists, by the groups of a column.
    pub acted_by_group: PolicyCache<(i64, String), Vec<ActedGroup>>,
    /// Whose decision differs between two scorings of the same customers.
    pub decision_diffs: PolicyCache<(i64, i64), (Vec<Hands>, Vec<Mover>)>,
    /// For how many rows of scored lists conditions hold.
    pub row_counts: PolicyCache<(i64, String), u64>,
    /// The mean probability of those acted on in scored lists.
    pub mean_of_acted: PolicyCache<i64, Option<f64>>,
    /// What the layer above has worked out from customers and keeps, by what it was worked out from. Values of its own
    /// types, which are not known here.
    pub views: PolicyCache<String, Arc<dyn Any + Send + Sync>>,
    /// What answers calls of releases.
    pub release_calls: ReleaseCalls,
    /// Files that are written for somebody to take away.
    pub exports: Turns,
    /// Previews that read many rows.
    pub previews: Turns,
}

impl App {
    /// The application with everything that it needs.
    pub fn new(files: FileSettings, store: Store, connector: Connector, memory: Budget) -> Self {
        Self {
            files,
            store,
            connector,
            memory,
            predictions: PredictionCache::default(),
            candidates: PolicyCache::within(CANDIDATES, |candidates| candidates.len() + 1),
            evaluations: EvaluationCache::default(),
            candidate_profits: PolicyCache::most(PROFITS),
            policy_evaluations: PolicyCache::most(EVALUATIONS),
            acted_by_group: PolicyCache::most(GROUPED),
            decision_diffs: PolicyCache::most(EVALUATIONS),
            row_counts: PolicyCache::most(GROUPED),
            mean_of_acted: PolicyCache::most(GROUPED),
            views: PolicyCache::most(2 * EVALUATIONS),
            release_calls: ReleaseCalls::default(),
            exports: Turns::new(2, 8, LONGEST_WAIT, "Other files are being written."),
            previews: Turns::new(2, 8, LONGEST_WAIT, "Other previews are being computed."),
        }
    }

    /// Forgets whatever was worked out from customers, some of whom are gone.
    pub fn forget_customers(&self) {
        self.predictions.clear();
        self.evaluations.clear();
        self.candidate_profits.clear();
        self.policy_evaluations.clear();
        self.acted_by_group.clear();
        self.decision_diffs.clear();
        self.row_counts.clear();
        self.mean_of_acted.clear();
        self.views.clear();
        self.release_calls.forget_models();
    }

    /// What the layer above keeps under this name.
    pub fn view<T: Any + Send + Sync>(&self, from: &String) -> Option<Arc<T>> {
        Arc::clone(&*self.views.get(from)?).downcast().ok()
    }

    /// Keeps something of the layer above.
    pub fn keep_view<T: Any + Send + Sync>(&self, from: String, view: T) -> Arc<T> {
        let view = Arc::new(view);
        self.views.put(from, Arc::<T>::clone(&view));
        view
    }

    /// The application as a job sees it, which writes nothing once its lease is lost.
    pub fn under(&self, lease: Lease) -> Self {
        Self { store: self.store.under(lease), ..self.clone() }
    }

    /// A path in the uploads folder where nothing lies yet; of a job, with its lease.
    ///
    /// # Errors
    /// If the folder cannot be made.
    pub async fn place(&self) -> std::io::Result<PathBuf> {
        tokio::fs::create_dir_all(&self.files.uploads).await?;
        let lease = self.store.lease().map_or(String::new(), |lease| format!("-{}-{}", lease.job, lease.number));
        Ok(self.files.uploads.join(format!("{:032x}{lease}", rand::random::<u128>())))
    }
}
