//! The queue of background work.
//!
//! A worker takes the oldest waiting job and shows at least every few seconds
//! that it is alive. A job whose worker has fallen silent is taken up again by
//! the next one: a killed server loses no work.

use pronoia_core::intake::Scan;
use pronoia_core::score::{Answers, Extras};
use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait,
    FromQueryResult, QueryFilter, QueryOrder, QuerySelect, Statement, TransactionTrait,
};
use serde::{Deserialize, Serialize};

use crate::away::drop_table;
use crate::entity::job;
use crate::leases::Lease;
use crate::records::{Append, Join};
use crate::{Result, Store, StoreError};

/// Seconds of silence after which a worker counts as gone.
pub const SILENCE_SECONDS: i64 = 8;

/// How often a job may take its server down with it before it counts as failed.
const MOST_STRIKES: i32 = 3;

/// Whether the worker of a row died: a job that waits has none.
const DIED: &str = "(state = 'running')";

/// Whether the last attempt got no further than those before it.
const NO_FURTHER: &str = "(share <= furthest + 0.01)";

/// Jobs that may wait in one workspace.
const MOST_WAITING: usize = 100;

/// What a job does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum Work {
    /// Read an uploaded file and say what is in it.
    Scan {
        /// The upload.
        upload: i64,
        /// The sheet that is wanted, if it is a workbook.
        #[serde(default)]
        sheet: Option<String>,
    },
    /// Read what a SELECT gives at a source, and say what is in it.
    Fetch {
        /// The source.
        source: i64,
        /// The SELECT.
        sql: String,
        /// What the table is to be called.
        name: String,
    },
    /// Make an accepted upload a table.
    Import {
        /// The upload.
        upload: i64,
    },
    /// Put two tables together.
    Join {
        /// Which, and how.
        join: Join,
    },
    /// Put the rows of one table below those of another.
    Append {
        /// Which.
        append: Append,
    },
    /// Take somebody who was erased out of what is known of tables, and of models that hold customers.
    Erased {
        /// The tables.
        tables: Vec<i64>,
    },
    /// Look for what goes with the outcome of a study.
    Drivers {
        /// The study.
        study: i64,
    },
    /// Take a table as a list of a study, and match it.
    Bring {
        /// The study.
        study: i64,
        /// The table.
        table: i64,
    },
    /// Draw who is acted on in a campaign.
    Draw {
        /// The campaign.
        campaign: i64,
    },
    /// Find out what came of a campaign.
    Results {
        /// The campaign.
        campaign: i64,
        /// Where it stands what happened.
        from: ResultsFrom,
    },
    /// Find out whether a version of a release keeps its promise.
    Promise {
        /// The version.
        version: i64,
        /// The table that says what happened.
        table: i64,
    },
    /// Match a list anew, after somebody said what its columns are.
    Match {
        /// The list.
        list: i64,
    },
    /// Fit a model.
    Fit {
        /// The model.
        model: i64,
    },
    /// Ask whether more rows would help a candidate, and how far a few columns go.
    Closer {
        /// The candidate.
        model: i64,
    },
    /// Find out what a candidate goes by.
    Understand {
        /// The candidate.
        model: i64,
    },
    /// Find out what the policy would be worth without some columns.
    Without {
        /// The candidate.
        model: i64,
        /// The columns.
        columns: Vec<String>,
    },
    /// Fit a candidate again, to see that it is the same.
    Prove {
        /// The candidate.
        model: i64,
    },
    /// Try a study's rule of today on the rows that candidates are judged on.
    Rule {
        /// The study.
        study: i64,
    },
    /// Search families and settings.
    Search {
        /// The search.
        search: i64,
    },
    /// Make a scored list a table that other programs read.
    Publish {
        /// The list.
        list: i64,
    },
    /// Score a list.
    Score {
        /// The list.
        list: i64,
    },
    /// Open the sealed test and judge the policy on it.
    Confirm {
        /// The study.
        study: i64,
        /// The model.
        model: i64,
    },
}

/// Where it stands what happened to the customers of a campaign.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ResultsFrom {
    /// The table.
    pub table: i64,
    /// The columns that tell customers apart: on the list, and in the table.
    pub keys: [String; 2],
    /// The column that says what happened.
    pub outcome: String,
    /// Its value where the event happened.
    pub event: String,
    /// The column with what each customer brought, all costs taken off.
    pub money: Option<String>,
    /// Whether those who are not in the table had no event; else nothing is known of them.
    pub absent_had_none: bool,
}

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
pub struct Taken {
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

/// A state that changes together with the work that is put in the queue, if it is what it should be.
#[derive(Debug, Clone, Copy)]
pub enum Change<'a> {
    /// A file is read once more.
    UploadRead {
        /// The upload, which has to be ready.
        upload: i64,
    },
    /// A file is accepted, as it is now understood.
    UploadAccepted {
        /// The upload, which has to be ready.
        upload: i64,
        /// How it is understood.
        scan: &'a Scan,
    },
    /// A list is to be scored.
    ListScoring {
        /// The list, which must be neither scored nor being scored.
        list: i64,
        /// What its scored form holds besides.
        extras: &'a Extras,
    },
    /// Something was said about the columns of a list.
    ListAnswered {
        /// The list, which must not be being scored.
        list: i64,
        /// What was said.
        answers: &'a Answers,
    },
}

impl Change<'_> {
    async fn make(self, on: &DatabaseTransaction) -> Result<()> {
        let (sql, values, refusal): (_, Vec<sea_orm::Value>, _) = match self {
            Self::UploadRead { upload } => (
                "UPDATE upload SET state = 'scanning', error = NULL WHERE id = $1 AND state = 'ready'",
                vec![upload.into()],
                "The file is not ready: it is still being read, or was accepted already.",
            ),
            Self::UploadAccepted { upload, scan } => (
                "UPDATE upload SET state = 'importing', scan = $2 WHERE id = $1 AND state = 'ready'",
                vec![upload.into(), serde_json::to_value(scan)?.into()],
                "The file is not ready to be accepted: it is still being read, or was accepted already.",
            ),
            Self::ListScoring { list, extras } => (
                "UPDATE list SET state = 'scoring', extras = $2 WHERE id = $1 AND state IN ('matched', 'stopped', 'failed')",
                vec![list.into(), serde_json::to_value(extras)?.into()],
                "The list is being scored, or was scored already.",
            ),
            Self::ListAnswered { list, answers } => (
                "UPDATE list SET answers = $2, state = 'matched', scored_id = NULL, acted = NULL, gain = NULL, suppressed = 0 \
                 WHERE id = $1 AND state <> 'scoring'",
                vec![list.into(), serde_json::to_value(answers)?.into()],
                "The list is being scored; wait until it is done, or cancel that.",
            ),
        };
        if let Self::ListAnswered { list, .. } = self {
            drop_scored(on, list).await?;
        }
        let changed = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values);
        match on.execute_raw(changed).await?.rows_affected() {
            0 => Err(StoreError::Refused(refusal.into())),
            _ => Ok(()),
        }
    }
}

/// Removes the scored form of a list: it was scored by what was said before.
async fn drop_scored(on: &DatabaseTransaction, list: i64) -> Result<()> {
    let sql = "SELECT s.workspace_id, l.scored_id FROM list l JOIN study s ON s.id = l.study_id \
        WHERE l.id = $1 AND l.state <> 'scoring' AND l.scored_id IS NOT NULL FOR UPDATE OF l";
    let scored = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, [list.into()]);
    let Some(row) = on.query_one_raw(scored).await? else { return Ok(()) };
    let (workspace, table) = (row.try_get("", "workspace_id")?, row.try_get("", "scored_id")?);
    let forget = "UPDATE list SET scored_id = NULL WHERE id = $1";
    on.execute_raw(Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, forget, [list.into()])).await?;
    drop_table(on, workspace, table).await
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
    put_once(db, (workspace_id, Some(study)), ("Looking for what goes with the outcome", &work), false).await
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

    /// Changes a state and puts the work that follows from it in the queue: both or neither. `change` is told the
    /// transaction, and refuses if the state is no longer what it should be.
    ///
    /// # Errors
    /// What `change` says; [`StoreError::Refused`] if the workspace has too much waiting.
    pub async fn change_and_enqueue(
        &self,
        (workspace_id, study_id): (i64, Option<i64>),
        (title, work): (&str, &Work),
        change: Change<'_>,
    ) -> Result<i64> {
        let transaction = self.writing().await?;
        change.make(&transaction).await?;
        let job = put(&transaction, workspace_id, study_id, title, work).await?;
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
    pub async fn take_job(&self, worker: &str, long: bool) -> Result<Option<Taken>> {
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
        Ok(Some(Taken { lease, workspace_id: claimed.workspace_id, work }))
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

    /// Removes scored lists that no list leads to any more, as 0.1.0 left them when a list was answered for anew.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn drop_lost_lists(&self) -> Result<usize> {
        let transaction = self.db.begin().await?;
        let lost = "SELECT id, workspace_id FROM record_table t WHERE is_list \
            AND created_at < now() - interval '1 hour' \
            AND NOT EXISTS (SELECT FROM list l WHERE t.id IN (l.table_id, l.scored_id)) \
            AND NOT EXISTS (SELECT FROM campaign c WHERE c.assigned_id = t.id) \
            AND NOT EXISTS (SELECT FROM upload u WHERE u.table_id = t.id)";
        let rows = transaction.query_all_raw(Statement::from_string(sea_orm::DbBackend::Postgres, lost)).await?;
        for row in &rows {
            drop_table(&transaction, row.try_get("", "workspace_id")?, row.try_get("", "id")?).await?;
        }
        transaction.commit().await?;
        Ok(rows.len())
    }

    /// Puts right what an earlier version, or a server that was killed between two statements, left in a state that
    /// waits for a job which is not there.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn put_states_right(&self) -> Result<u64> {
        const OPEN: &str = "SELECT FROM job WHERE job.state IN ('queued', 'running') AND job.work->>";
        let statements = [
            // What was understood of the file is there: it waits to be accepted once more.
            format!(
                "UPDATE upload SET state = CASE WHEN scan IS NULL THEN 'failed' ELSE 'ready' END, \
                 error = CASE WHEN scan IS NULL THEN 'The server was stopped while it was read. Send the file again.' END \
                 WHERE state IN ('scanning', 'importing') AND NOT EXISTS ({OPEN}'upload' = upload.id::text) \
                 AND NOT EXISTS (SELECT FROM job WHERE job.id = upload.made_by_job AND job.state IN ('queued', 'running')) \
                 AND created_at < now() - interval '1 minute'"
            ),
            format!(
                "UPDATE list SET state = 'stopped' WHERE state = 'scoring' \
                 AND NOT EXISTS ({OPEN}'do' = 'score' AND job.work->>'list' = list.id::text)"
            ),
            format!(
                "UPDATE model SET state = 'stopped' WHERE state = 'queued' \
                 AND NOT EXISTS ({OPEN}'do' = 'fit' AND job.work->>'model' = model.id::text)"
            ),
            format!(
                "UPDATE search SET state = 'stopped' WHERE state = 'queued' \
                 AND NOT EXISTS ({OPEN}'do' = 'search' AND job.work->>'search' = search.id::text)"
            ),
        ];
        let mut changed = 0;
        for statement in statements {
            changed += self.db.execute_unprepared(&statement).await?.rows_affected();
        }
        Ok(changed)
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
