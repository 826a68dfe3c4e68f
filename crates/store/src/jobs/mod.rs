//! The queue of background work.
//!
//! A worker takes the oldest waiting job and shows at least every few seconds
//! that it is alive. A job whose worker has fallen silent is taken up again by
//! the next one: a killed server loses no work.

mod change;
mod recovery;
mod work;

use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait,
    FromQueryResult, QueryFilter, QueryOrder, QuerySelect, Statement,
};
use serde::{Deserialize, Serialize};

use crate::entity::job;
use crate::leases::{Lease, SILENCE_SECONDS};
use crate::{Result, Store, StoreError};

pub use change::StateChange;
pub use work::{ResultsFrom, Work};

/// How often a job may take its server down with it before it counts as failed.
const MOST_STRIKES: i32 = 3;

/// Whether the worker of a row died: a job that waits has none.
const DIED: &str = "(state = 'running')";

/// Whether the last attempt got no further than those before it.
const NO_FURTHER: &str = "(share <= furthest + 0.01)";

/// Jobs that may wait in one workspace.
const MOST_WAITING: usize = 100;

/// A stage that a job went through.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Stage {
    /// Seconds after the job was begun.
    pub at: f64,
    /// Where it was, in words.
    pub stage: String,
}

/// What a worker reports of its job.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Heard {
    /// Where it is, in words.
    pub stage: String,
    /// Share done, 0 to 1.
    pub share: f64,
    /// The stages so far.
    pub log: Vec<Stage>,
    /// The learning curve of what is being fitted: step, loss of rows fitted to,
    /// loss of rows held back.
    pub curve: Vec<(usize, f64, f64)>,
}

/// A job that was taken.
#[derive(Debug, Clone)]
pub struct TakenJob {
    /// The lease on it.
    pub lease: Lease,
    /// Where it belongs.
    pub workspace_id: i64,
    /// What to do.
    pub work: Work,
}

/// How a job ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ending {
    /// With a result; the address of the page that shows it.
    Done(String),
    /// With a reason.
    Failed(String),
    /// On request.
    Stopped,
}

/// What a worker hears when it shows that it is alive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Beat {
    /// All is well.
    GoOn,
    /// Somebody wants the job to stop.
    Cancel,
    /// Another worker has the job by now, or it was ended: nothing is written for it any more.
    Lost,
}

#[derive(FromQueryResult)]
struct Claimed {
    id: i64,
    workspace_id: i64,
    lease: i64,
    work: serde_json::Value,
}

/// Puts work at the end of the queue, within whatever else is done.
///
/// # Errors
/// [`StoreError::Refused`] if the workspace has too much waiting.
pub(crate) async fn put(
    db: &impl ConnectionTrait,
    workspace_id: i64,
    study_id: Option<i64>,
    title: &str,
    work: &Work,
) -> Result<i64> {
    if open_jobs(db, workspace_id).await?.len() >= MOST_WAITING {
        return Err(StoreError::Refused(format!(
            "{MOST_WAITING} jobs are waiting already. Wait until some are done, or cancel them, and try again."
        )));
    }
    let row = job::ActiveModel {
        workspace_id: Set(workspace_id),
        study_id: Set(study_id),
        title: Set(title.into()),
        work: Set(serde_json::to_value(work)?),
        ..Default::default()
    };
    Ok(row.insert(db).await?.id)
}

/// Puts work in the queue unless it waits there already; the job. Whoever asks for the same at the same moment waits
/// for the row of the study, or of the workspace.
pub(crate) async fn put_once(
    db: &DatabaseTransaction,
    (workspace_id, study_id): (i64, Option<i64>),
    (title, work): (&str, &Work),
    or_runs: bool,
) -> Result<i64> {
    let (lock, id) = match study_id {
        Some(study) => ("SELECT FROM study WHERE id = $1 FOR NO KEY UPDATE", study),
        None => ("SELECT FROM workspace WHERE id = $1 FOR NO KEY UPDATE", workspace_id),
    };
    db.execute_raw(Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, lock, [id.into()])).await?;
    let open = open_jobs(db, workspace_id).await?;
    let mut same = open.iter().filter(|job| job.is_to(work) && (or_runs || job.state == "queued"));
    match same.next() {
        Some(job) => Ok(job.id),
        None => put(db, workspace_id, study_id, title, work).await,
    }
}

/// Has the rows of a study looked at again, within whatever else is done. A job that runs may have read the choices
/// before the last of them.
pub(crate) async fn look_again(db: &DatabaseTransaction, workspace_id: i64, study: i64) -> Result<i64> {
    let work = Work::Drivers { study };
    put_once(db, (workspace_id, Some(study)), ("Analysing associations with the outcome", &work), false).await
}

async fn open_jobs(db: &impl ConnectionTrait, workspace_id: i64) -> Result<Vec<job::Model>> {
    let open = job::Column::State.is_in(["queued", "running"]);
    Ok(job::Entity::find()
        .filter(job::Column::WorkspaceId.eq(workspace_id))
        .filter(open)
        .order_by_asc(job::Column::Id)
        .limit(MOST_WAITING as u64)
        .all(db)
        .await?)
}

impl Store {
    /// Puts work in the queue, unless it waits there or is being done; the job.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the workspace has too much waiting.
    pub async fn enqueue_once(
        &self,
        workspace_id: i64,
        study_id: Option<i64>,
        title: &str,
        work: &Work,
    ) -> Result<i64> {
        let transaction = self.writing().await?;
        let job = put_once(&transaction, (workspace_id, study_id), (title, work), true).await?;
        transaction.commit().await?;
        Ok(job)
    }

    /// Has the rows of a study looked at again; the job.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the workspace has too much waiting.
    pub async fn look_again(&self, workspace_id: i64, study: i64) -> Result<i64> {
        let transaction = self.writing().await?;
        let job = look_again(&transaction, workspace_id, study).await?;
        transaction.commit().await?;
        Ok(job)
    }

    /// Takes a job that waits, or whose worker fell silent; one that was last heard of later than now is silent
    /// too: the clock was set back since.
    ///
    /// Workspaces for which least is being done come first, then short work, then what waits longest. A search may
    /// take a day: it is only taken if `long` says so.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn take_job(&self, worker: &str, long: bool) -> Result<Option<TakenJob>> {
        let sql = format!(
            "UPDATE job SET state = 'running', worker = $1, heartbeat_at = now(), started_at = now(), lease = lease + 1, \
             attempts = attempts + 1, \
             strikes = strikes + CASE WHEN {DIED} AND ({NO_FURTHER} OR alone) THEN 1 ELSE 0 END, \
             furthest = greatest(furthest, CASE WHEN {DIED} THEN share ELSE 0 END), \
             share = 0, stage = 'Starting' \
             WHERE id = (SELECT j.id FROM job j WHERE (j.state = 'queued' \
             OR (j.state = 'running' AND abs(extract(epoch FROM now() - j.heartbeat_at)) > $2 \
                 AND j.strikes + CASE WHEN {NO_FURTHER} OR j.alone THEN 1 ELSE 0 END < $3)) \
             AND ($4 OR j.work->>'do' <> 'search') \
             ORDER BY (SELECT count(*) FROM job r WHERE r.workspace_id = j.workspace_id AND r.state = 'running' \
                 AND r.id <> j.id AND r.heartbeat_at > now() - make_interval(secs => $2)), \
             j.work->>'do' = 'search', j.id \
             FOR UPDATE SKIP LOCKED LIMIT 1) \
             RETURNING id, workspace_id, lease, work"
        );
        let values = [worker.into(), (SILENCE_SECONDS as f64).into(), MOST_STRIKES.into(), long.into()];
        let statement = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values);
        let Some(claimed) = Claimed::find_by_statement(statement).one(&self.db).await? else { return Ok(None) };
        let work = serde_json::from_value(claimed.work)?;
        let lease = Lease { job: claimed.id, number: claimed.lease };
        Ok(Some(TakenJob { lease, workspace_id: claimed.workspace_id, work }))
    }

    /// Gives up jobs that took their worker down with them every time; what they were to do.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn give_up_jobs(&self) -> Result<Vec<Work>> {
        let sql = format!(
            "UPDATE job SET state = 'failed', finished_at = now(), lease = lease + 1, strikes = strikes + 1, \
             outcome = 'Three times the server ended while this was being done. Nothing of it was kept.' \
             WHERE id IN (SELECT id FROM job WHERE state = 'running' \
             AND strikes + CASE WHEN {NO_FURTHER} OR alone THEN 1 ELSE 0 END >= $1 \
             AND abs(extract(epoch FROM now() - heartbeat_at)) > $2 FOR UPDATE SKIP LOCKED) \
             RETURNING id, workspace_id, lease, work"
        );
        let values = [MOST_STRIKES.into(), (SILENCE_SECONDS as f64).into()];
        let statement = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values);
        let given_up = Claimed::find_by_statement(statement).all(&self.db).await?;
        Ok(given_up.into_iter().map(|c| serde_json::from_value(c.work)).collect::<std::result::Result<_, _>>()?)
    }

    /// Shows that the worker is alive, where it is if that has changed, and whether its server is at nothing else.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn beat(&self, lease: Lease, alone: bool, changed: Option<&Heard>) -> Result<Beat> {
        let sql = "UPDATE job SET heartbeat_at = now(), alone = $7, stage = COALESCE($3, stage), \
                   share = COALESCE($4, share), log = COALESCE($5, log), curve = COALESCE($6, curve) \
                   WHERE id = $1 AND lease = $2 AND state = 'running' RETURNING cancel_requested";
        let log = changed.map(|heard| serde_json::to_value(&heard.log)).transpose()?;
        let curve = changed.map(|heard| serde_json::to_value(&heard.curve)).transpose()?;
        let (stage, share) = (changed.map(|heard| heard.stage.clone()), changed.map(|heard| heard.share));
        let values =
            [lease.job.into(), lease.number.into(), stage.into(), share.into(), log.into(), curve.into(), alone.into()];
        let statement = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values);
        let row = sea_orm::ConnectionTrait::query_one_raw(&self.db, statement).await?;
        match row {
            Some(row) if row.try_get("", "cancel_requested")? => Ok(Beat::Cancel),
            Some(_) => Ok(Beat::GoOn),
            None => Ok(Beat::Lost),
        }
    }

    /// Gives a job back to be begun by another server, as one does that is stopped in order: nothing is held
    /// against it, and whatever this server still does for it is not written any more.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn give_back(&self, lease: Lease) -> Result<()> {
        let sql = "UPDATE job SET state = 'queued', worker = NULL, heartbeat_at = NULL, lease = lease + 1, \
                   attempts = attempts - 1, share = 0, stage = '' WHERE id = $1 AND lease = $2 AND state = 'running'";
        let values = [lease.job.into(), lease.number.into()];
        self.db.execute_raw(Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values)).await?;
        Ok(())
    }

    /// Writes down how a job ended, unless another worker has taken it since.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn end_job(&self, lease: Lease, ending: &Ending, log: &[Stage]) -> Result<()> {
        let (state, outcome) = match ending {
            Ending::Done(address) => ("done", Some(address.clone())),
            Ending::Failed(reason) => ("failed", Some(reason.clone())),
            Ending::Stopped => ("stopped", None),
        };
        let sql = "UPDATE job SET state = $3, outcome = $4, share = 1, log = $5, finished_at = now() \
                   WHERE id = $1 AND lease = $2 AND state = 'running'";
        let values =
            [lease.job.into(), lease.number.into(), state.into(), outcome.into(), serde_json::to_value(log)?.into()];
        self.db.execute_raw(Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values)).await?;
        Ok(())
    }

    /// Asks a job to stop. One that still waits is stopped at once; then this
    /// gives what it was to do.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is not this workspace's.
    pub async fn cancel_job(&self, workspace_id: i64, id: i64) -> Result<Option<Work>> {
        self.job(workspace_id, id).await?;
        let sql = "UPDATE job SET cancel_requested = true, \
                   state = CASE state WHEN 'queued' THEN 'stopped' ELSE state END, \
                   finished_at = CASE state WHEN 'queued' THEN now() ELSE finished_at END \
                   WHERE id = $1 AND state IN ('queued', 'running') \
                   RETURNING id, workspace_id, CASE state WHEN 'stopped' THEN work END AS work";
        let statement = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, [id.into()]);
        let row = sea_orm::ConnectionTrait::query_one_raw(&self.db, statement).await?;
        let work = row.map(|r| r.try_get::<Option<serde_json::Value>>("", "work")).transpose()?.flatten();
        Ok(work.map(serde_json::from_value).transpose()?)
    }

    /// A job of this workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn job(&self, workspace_id: i64, id: i64) -> Result<job::Model> {
        let found = job::Entity::find_by_id(id).filter(job::Column::WorkspaceId.eq(workspace_id)).one(&self.db).await?;
        found.ok_or(StoreError::NotFound("This job"))
    }

    /// The jobs that fit candidates of a study, newest first, whatever became of
    /// them; without their logs and learning curves.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn fits_of_study(&self, study_id: i64) -> Result<Vec<job::Model>> {
        use job::Column as C;
        Ok(job::Entity::find()
            .select_only()
            .columns([C::Id, C::WorkspaceId, C::StudyId, C::Title, C::Work, C::State, C::Stage, C::Share])
            .columns([C::CancelRequested, C::Attempts, C::Worker, C::HeartbeatAt, C::Outcome])
            .columns([C::CreatedAt, C::StartedAt, C::FinishedAt])
            .expr_as(Expr::cust("'[]'::jsonb"), "log")
            .expr_as(Expr::cust("'[]'::jsonb"), "curve")
            .filter(C::StudyId.eq(study_id))
            .filter(Expr::cust("work->>'do' = 'fit'"))
            .order_by_desc(C::Id)
            .all(&self.db)
            .await?)
    }

    /// Jobs that wait or run, oldest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn open_jobs(&self, workspace_id: i64) -> Result<Vec<job::Model>> {
        open_jobs(&self.db, workspace_id).await
    }

    /// Jobs to do just this that wait or run, oldest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn jobs_to(&self, workspace_id: i64, work: &Work) -> Result<Vec<job::Model>> {
        Ok(self.open_jobs(workspace_id).await?.into_iter().filter(|job| job.is_to(work)).collect())
    }
}

impl job::Model {
    /// Whether it is to do just this.
    pub fn is_to(&self, work: &Work) -> bool {
        serde_json::from_value::<Work>(self.work.clone()).is_ok_and(|own| own == *work)
    }

    /// The stages that it went through.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn stages(&self) -> Result<Vec<Stage>> {
        Ok(serde_json::from_value(self.log.clone())?)
    }
}
