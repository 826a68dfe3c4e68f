//! What every page and every worker needs.

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
use crate::api::call_counts::Served;
use crate::cache::PolicyCache;
use crate::clients::TrustedProxies;
use crate::evaluation_cache::EvaluationCache;
use crate::pages::compare::CandidateProfit;
use crate::pages::decide::DecideParts;
use crate::pages::live::exports::ExportOutcome;
use crate::prediction_cache::PredictionCache;

/// Customers weighed by amounts, and what else takes much room, that is kept.
const WEIGHED: usize = 12;

/// How long a turn at a file or a preview is waited for.
const LONGEST_WAIT: Duration = Duration::from_secs(20);

/// Candidates that are kept in memory.
const CANDIDATES: usize = 1_000;

/// For how many candidates it is kept what they are worth.
const WORTHS: usize = 4_000;

/// Columns of scored lists of which the groups are kept.
const GROUPED: usize = 200;

/// How the server was started.
#[derive(Debug, Clone)]
pub struct Config {
    /// Address to listen on.
    pub host: String,
    /// Port to listen on.
    pub port: u16,
    /// Where uploaded files wait until they are tables.
    pub uploads: PathBuf,
    /// A folder whose files everybody may fetch.
    pub folder: Option<PathBuf>,
    /// The most bytes of one upload.
    pub most_upload: u64,
    /// Whether browsers reach it by TLS, which somebody else speaks in front of it.
    pub behind_tls: bool,
    /// The proxies in front of it that say whom they speak for.
    pub trusted_proxies: TrustedProxies,
    /// How long a client may send nothing in the middle of what it sends.
    pub patience: Duration,
    /// E-mail and password to show on the sign-in page of a demonstration.
    pub demo_account: Option<(String, String)>,
}

/// The running application; cheap to clone.
#[derive(Debug, Clone)]
pub struct App {
    /// How it was started.
    pub config: Config,
    /// Where things are kept.
    pub store: Store,
    /// How databases of others are reached.
    pub connector: Connector,
    /// The memory that fits share.
    pub memory: Budget,
    /// What models said of customers that somebody decides about.
    pub(crate) books: PredictionCache,
    /// Candidates of studies that were looked at.
    pub(crate) candidates: PolicyCache<i64, Vec<Arc<StoredCandidate>>>,
    /// What candidates came to.
    pub(crate) judged: EvaluationCache,
    /// What candidates are worth by the amounts of policies.
    pub(crate) worth: PolicyCache<(i64, String), CandidateProfit>,
    /// Customers of candidates, weighed by amounts.
    pub(crate) weighed: PolicyCache<String, PolicyEvaluation>,
    /// What stands below their curves.
    pub(crate) below: PolicyCache<String, DecideParts>,
    /// Who is acted on in scored lists, by the groups of a column.
    pub(crate) acted_by_group: PolicyCache<(i64, String), Vec<ActedGroup>>,
    /// Who changes hands between two scorings of the same customers.
    pub(crate) beside: PolicyCache<(i64, i64), (Vec<Hands>, Vec<Mover>)>,
    /// For how many rows of scored lists conditions hold.
    pub(crate) counted: PolicyCache<(i64, String), u64>,
    /// The mean probability of those acted on in scored lists.
    pub(crate) mean_of_acted: PolicyCache<i64, Option<f64>>,
    /// What came of writing models in the forms that other programs compute with.
    pub(crate) carried: PolicyCache<i64, ExportOutcome>,
    /// What answers calls of other programs.
    pub(crate) served: Served,
    /// Files that are written for somebody to take away.
    pub(crate) exports: Turns,
    /// Previews that read many rows.
    pub(crate) previews: Turns,
}

impl App {
    /// The application with everything that it needs.
    pub fn new(config: Config, store: Store, connector: Connector, memory: Budget) -> Self {
        Self {
            config,
            store,
            connector,
            memory,
            books: PredictionCache::default(),
            candidates: PolicyCache::within(CANDIDATES, |candidates| candidates.len() + 1),
            judged: EvaluationCache::default(),
            worth: PolicyCache::most(WORTHS),
            weighed: PolicyCache::most(WEIGHED),
            below: PolicyCache::most(WEIGHED),
            acted_by_group: PolicyCache::most(GROUPED),
            beside: PolicyCache::most(WEIGHED),
            counted: PolicyCache::most(GROUPED),
            mean_of_acted: PolicyCache::most(GROUPED),
            carried: PolicyCache::most(WEIGHED),
            served: Served::default(),
            exports: Turns::new(2, 8, LONGEST_WAIT, "Other files are being written."),
            previews: Turns::new(2, 8, LONGEST_WAIT, "Other previews are being computed."),
        }
    }

    /// Forgets whatever was worked out from customers, some of whom are gone.
    pub(crate) fn forget_customers(&self) {
        self.books.clear();
        self.judged.clear();
        self.worth.clear();
        self.weighed.clear();
        self.below.clear();
        self.acted_by_group.clear();
        self.beside.clear();
        self.counted.clear();
        self.mean_of_acted.clear();
        self.carried.clear();
        self.served.forget_models();
    }

    /// The application as a job sees it, which writes nothing once its lease is lost.
    pub(crate) fn under(&self, lease: Lease) -> Self {
        Self { store: self.store.under(lease), ..self.clone() }
    }

    /// A path in the uploads folder where nothing lies yet; of a job, with its lease.
    pub(crate) async fn place(&self) -> std::io::Result<PathBuf> {
        tokio::fs::create_dir_all(&self.config.uploads).await?;
        let lease = self.store.lease().map_or(String::new(), |lease| format!("-{}-{}", lease.job, lease.number));
        Ok(self.config.uploads.join(format!("{:032x}{lease}", rand::random::<u128>())))
    }
}
