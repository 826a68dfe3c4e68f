//! The background work: workers that take jobs from the queue.

mod ablation;
mod append;
pub mod campaign;
mod confirm;
mod diagnostics;
mod drivers;
mod erasure;
mod fetch;
mod fit;
mod forget;
mod import;
mod importance;
mod join;
mod matching;
mod opt_outs;
mod orphaned_files;
mod performance;
mod progress;
mod publish;
mod reproducibility;
mod rule;
mod score;
mod tuning;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use pronoia_core::Cancelled;
use pronoia_store::jobs::{Beat, Ending, TakenJob, Work};
use pronoia_store::leases::Lease;
use pronoia_store::{Store, StoreError};
use tokio::task::{JoinError, JoinHandle};

pub use confirm::Confirmation;
pub use progress::Watch;

use crate::App;

/// How long a worker waits when there is nothing to do.
const IDLE: Duration = Duration::from_millis(250);

/// How often a busy worker shows that it is alive.
const BEAT: Duration = Duration::from_millis(250);

/// How far computations stand behind pages: the most that a system knows.
const LOWEST: i32 = 19;

/// What is said of a job that a mistake of ours ended.
const BROKE_OFF: &str = "The job failed because of an error in the program. Nothing was saved; please report it.";

/// Why a job did not end well.
enum Trouble {
    Stopped,
    Failed(String),
    /// The database went away: the job stays, and is taken up again.
    Away,
    /// Another worker has the job by now: this one does nothing more about it.
    Lost,
}

impl From<Cancelled> for Trouble {
    fn from(_: Cancelled) -> Self {
        Self::Stopped
    }
}

impl From<StoreError> for Trouble {
    fn from(e: StoreError) -> Self {
        match e {
            StoreError::Unreachable | StoreError::Busy(_) => Self::Away,
            StoreError::Stopped => Self::Stopped,
            StoreError::LeaseLost => Self::Lost,
            other => Self::Failed(other.to_string()),
        }
    }
}

/// What the workers of a server are at.
#[derive(Debug, Clone, Default)]
struct AtWork(Arc<Mutex<Vec<(Lease, bool, Watch)>>>);

impl AtWork {
    /// Runs something as one of the jobs that are being done.
    fn begin(&self, taken: &TakenJob, watch: &Watch) {
        if let Ok(mut jobs) = self.0.lock() {
            jobs.push((taken.lease, is_long(&taken.work), watch.clone()));
        }
    }

    fn end(&self, lease: Lease) {
        if let Ok(mut jobs) = self.0.lock() {
            jobs.retain(|(other, ..)| *other != lease);
        }
    }

    /// Whether a single job is being done.
    fn is_one(&self) -> bool {
        self.0.lock().is_ok_and(|jobs| jobs.len() == 1)
    }

    /// Whether one that may take a day is being done.
    fn has_long(&self) -> bool {
        self.0.lock().is_ok_and(|jobs| jobs.iter().any(|(_, is_long, _)| *is_long))
    }

    /// Takes out all jobs.
    fn take(&self) -> Vec<(Lease, Watch)> {
        let jobs = self.0.lock().map(|mut jobs| std::mem::take(&mut *jobs)).unwrap_or_default();
        jobs.into_iter().map(|(lease, _, watch)| (lease, watch)).collect()
    }
}

/// Whether work may take a day.
fn is_long(work: &Work) -> bool {
    matches!(work, Work::Search { .. })
}

/// Running workers.
pub struct Workers {
    app: App,
    stopping: Arc<AtomicBool>,
    at_work: AtWork,
    handles: Vec<JoinHandle<()>>,
    keeping: [JoinHandle<()>; 2],
}

impl Workers {
    /// Gives back what the workers are at, so that another server begins it at once, and lets them end.
    pub async fn stop(self) {
        self.stopping.store(true, Ordering::Relaxed);
        self.keeping.iter().for_each(JoinHandle::abort);
        for (lease, watch) in self.at_work.take() {
            // From here on nothing is written for it.
            if let Err(e) = self.app.store.for_signs_of_life().give_back(lease).await {
                tracing::warn!("job {} could not be given back: {e}", lease.job);
            }
            watch.cancel();
        }
        for handle in self.handles {
            let _ = tokio::time::timeout(Duration::from_secs(2), handle).await;
        }
    }
}

/// Starts workers.
pub fn start(app: &App, count: usize) -> Workers {
    let (stopping, at_work) = (Arc::new(AtomicBool::new(false)), AtWork::default());
    let handles = (0..count)
        .map(|i| {
            let (app, stopping, at_work) = (app.clone(), Arc::clone(&stopping), at_work.clone());
            let queue = app.store.for_signs_of_life();
            let name = format!("{}-{i}-{:08x}", std::process::id(), rand::random::<u32>());
            tokio::spawn(async move {
                while !stopping.load(Ordering::Relaxed) {
                    if !step(&app, &queue, (&name, &at_work)).await {
                        tokio::time::sleep(IDLE).await;
                    }
                }
            })
        })
        .collect();
    let keeping =
        [tokio::spawn(orphaned_files::keep_sweeping(app.clone())), tokio::spawn(forget::keep_forgetting(app.clone()))];
    Workers { app: app.clone(), stopping, at_work, handles, keeping }
}

/// Works off everything that waits, in this task; for loading the demonstration.
///
/// # Errors
/// If a job fails.
pub async fn drain(app: &App) -> Result<(), String> {
    while let Some(taken) = app.store.take_job("drain", true).await.map_err(|e| e.to_string())? {
        if let Ending::Failed(reason) = run(app, taken, &AtWork::default()).await {
            return Err(reason);
        }
    }
    Ok(())
}

/// Takes and does one job; false if there was none.
async fn step(app: &App, queue: &Store, (worker, at_work): (&str, &AtWork)) -> bool {
    match queue.give_up_jobs().await {
        Ok(given_up) => {
            for work in given_up {
                put_aside(app, &work, "failed").await;
            }
        }
        Err(e) => tracing::warn!("the queue cannot be read: {e}"),
    }
    // Of the workers one at most is at something that may take a day.
    match queue.take_job(worker, !at_work.has_long()).await {
        Ok(Some(taken)) => {
            run(app, taken, at_work).await;
            true
        }
        Ok(None) => false,
        Err(e) => {
            tracing::warn!("the queue cannot be read: {e}");
            false
        }
    }
}

async fn run(app: &App, taken: TakenJob, at_work: &AtWork) -> Ending {
    let (watch, lease) = (Watch::default(), taken.lease);
    at_work.begin(&taken, &watch);
    let beating = tokio::spawn(beat(app.store.for_signs_of_life(), lease, at_work.clone(), watch.clone()));
    // A panic in the computation ends the job, not the worker.
    let (task_app, task_watch) = (app.under(lease), watch.clone());
    let result = tokio::spawn(async move { perform(&task_app, &taken, &task_watch).await }).await;
    beating.abort();
    at_work.end(lease);
    let Some(ending) = ending_of(lease.job, result) else { return Ending::Stopped };
    if let Err(e) = app.store.for_signs_of_life().end_job(lease, &ending, &watch.heard().log).await {
        tracing::warn!("the end of job {} could not be recorded: {e}", lease.job);
    }
    ending
}

/// How a job ended; none if it is to be taken up again.
fn ending_of(id: i64, result: Result<Result<String, Trouble>, JoinError>) -> Option<Ending> {
    match result {
        Ok(Ok(address)) => Some(Ending::Done(address)),
        Ok(Err(Trouble::Stopped)) => Some(Ending::Stopped),
        Ok(Err(Trouble::Failed(reason))) => Some(Ending::Failed(reason)),
        Ok(Err(Trouble::Away | Trouble::Lost)) => None,
        Err(e) => {
            tracing::error!("job {id} broke off: {e}");
            Some(Ending::Failed(BROKE_OFF.into()))
        }
    }
}

/// Writes down beside what a job was for that the job will not be done.
pub async fn put_aside(app: &App, work: &Work, state: &str) {
    let written = match work {
        Work::Scan { upload, .. } | Work::Import { upload } => app.store.set_upload_state(*upload, state, None).await,
        Work::Fit { model } => app.store.set_model_state(*model, state, None).await,
        Work::Search { search } => app.store.set_search_state(*search, state, None).await,
        Work::Score { list } => app.store.set_list_state(*list, state).await,
        Work::Fetch { .. }
        | Work::Join { .. }
        | Work::Append { .. }
        | Work::Drivers { .. }
        | Work::Erased { .. }
        | Work::Bring { .. }
        | Work::Draw { .. }
        | Work::Results { .. }
        | Work::Match { .. }
        | Work::Promise { .. }
        | Work::Publish { .. }
        | Work::Closer { .. }
        | Work::Understand { .. }
        | Work::Without { .. }
        | Work::Prove { .. }
        | Work::Rule { .. }
        | Work::Confirm { .. } => Ok(()),
    };
    if let Err(e) = written {
        tracing::warn!("a job that was given up could not be recorded: {e}");
    }
}

async fn beat(store: Store, lease: Lease, at_work: AtWork, watch: Watch) {
    let mut told = None;
    loop {
        let heard = watch.heard();
        let changed = Some(&heard).filter(|heard| told.as_ref() != Some(*heard));
        match store.beat(lease, at_work.is_one(), changed).await {
            Ok(Beat::GoOn) => told = Some(heard),
            Ok(Beat::Cancel) => watch.cancel(),
            Ok(Beat::Lost) => {
                // What is computed further is for nobody; nothing of it can be written.
                tracing::warn!("job {} has another worker by now", lease.job);
                watch.cancel();
                return;
            }
            Err(e) => tracing::warn!("job {} could not report: {e}", lease.job),
        }
        tokio::time::sleep(BEAT).await;
    }
}

async fn perform(app: &App, taken: &TakenJob, watch: &Watch) -> Result<String, Trouble> {
    let workspace = taken.workspace_id;
    match &taken.work {
        Work::Scan { upload, sheet } => import::scan(app, workspace, *upload, sheet.as_deref(), watch).await,
        Work::Fetch { source, sql, name } => fetch::fetch(app, workspace, (*source, sql, name), watch).await,
        Work::Import { upload } => import::import(app, workspace, *upload, watch).await,
        Work::Join { join } => join::join(app, workspace, join, watch).await,
        Work::Append { append } => append::append(app, workspace, append, watch).await,
        Work::Erased { tables } => erasure::take_out(app, workspace, tables, watch).await,
        Work::Drivers { study } => drivers::look(app, workspace, *study, watch).await,
        Work::Fit { model } => fit::fit(app, workspace, *model, watch).await,
        Work::Closer { model } => diagnostics::look(app, workspace, *model, watch).await,
        Work::Understand { model } => importance::look(app, workspace, *model, watch).await,
        Work::Without { model, columns } => ablation::look(app, workspace, (*model, columns), watch).await,
        Work::Prove { model } => reproducibility::prove(app, workspace, *model, watch).await,
        Work::Rule { study } => rule::try_out(app, workspace, *study, watch).await,
        Work::Search { search } => tuning::search(app, workspace, *search, watch).await,
        Work::Bring { study, table } => matching::bring(app, workspace, (*study, *table), watch).await,
        Work::Draw { campaign } => campaign::draw(app, workspace, *campaign, watch).await,
        Work::Results { campaign, from } => campaign::results(app, workspace, *campaign, from, watch).await,
        Work::Match { list } => matching::again(app, workspace, *list, watch).await,
        Work::Score { list } => score::score(app, workspace, *list, watch).await,
        Work::Publish { list } => publish::publish(app, workspace, *list, watch).await,
        Work::Promise { version, table } => performance::judge(app, workspace, (*version, *table), watch).await,
        Work::Confirm { study, model } => confirm::confirm(app, workspace, *study, *model, watch).await,
    }
}

/// Lets the present thread have what pages and the database leave of the machine.
pub fn stand_back() {
    // Where the system does not allow it, the work is done all the same.
    if let Err(e) = rustix::process::nice(LOWEST) {
        tracing::debug!("a computation could not be put behind pages: {e}");
    }
}

/// Runs a computation beside the server, not in its way, and on threads of its own: among those
/// of another job it would wait wherever that one leaves none free for long.
async fn compute<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, Trouble> {
    let threads = rayon::ThreadPoolBuilder::new().start_handler(|_| stand_back()).build();
    let threads = threads.map_err(|e| Trouble::Failed(format!("The computation could not be begun: {e}.")))?;
    tokio::task::spawn_blocking(move || threads.install(work)).await.map_err(|e| {
        tracing::error!("a computation broke off: {e}");
        Trouble::Failed(BROKE_OFF.into())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_panic_ends_the_job_in_words_and_leaves_the_worker_as_it_is() {
        let result = tokio::spawn(async {
            compute(|| [0; 3].iter().position(|&n| n == 1).expect("a mistake")).await?;
            Ok(String::new())
        });
        assert_eq!(ending_of(1, result.await), Some(Ending::Failed(BROKE_OFF.into())));
        let result = tokio::spawn(async { panic!("a mistake outside any computation") });
        assert_eq!(ending_of(2, result.await), Some(Ending::Failed(BROKE_OFF.into())));
        assert_eq!(compute(|| 2 + 2).await.ok(), Some(4), "and the next one is done");
        let away = tokio::spawn(async { Err(Trouble::from(StoreError::Unreachable)) });
        assert_eq!(ending_of(3, away.await), None, "taken up again");
    }
}
