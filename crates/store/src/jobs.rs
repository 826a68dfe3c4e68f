//! The queue of background work.
//!
//! A worker takes the oldest waiting job and shows at least every few seconds
//! that it is alive. A job whose worker has fallen silent is taken up again by
//! the next one: a killed server loses no work.

use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, FromQueryResult, QueryFilter,
    QueryOrder, QuerySelect, Statement,
};
use serde::{Deserialize, Serialize};

use crate::entity::job;
use crate::records::{Append, Join};
use crate::{Result, Store, StoreError};

/// Seconds of silence after which a worker counts as gone.
pub const SILENCE_SECONDS: i64 = 8;

/// How often a job is begun before it counts as failed.
const MOST_ATTEMPTS: i32 = 3;

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
    /// Its key.
    pub id: i64,
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

#[derive(FromQueryResult)]
struct Claimed {
    id: i64,
    workspace_id: i64,
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
    /// Puts work at the end of the queue.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the workspace has too much waiting.
    pub async fn enqueue(&self, workspace_id: i64, study_id: Option<i64>, title: &str, work: &Work) -> Result<i64> {
        put(&self.db, workspace_id, study_id, title, work).await
    }

    /// Takes the oldest job that waits or whose worker fell silent. One that was last heard of later than
    /// now is silent too: the clock was set back since.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn take_job(&self, worker: &str) -> Result<Option<Taken>> {
        let sql = "UPDATE job SET state = 'running', worker = $1, heartbeat_at = now(), started_at = now(), \
                   attempts = attempts + 1, share = 0, stage = 'Starting' \
                   WHERE id = (SELECT id FROM job WHERE state = 'queued' \
                   OR (state = 'running' AND abs(extract(epoch FROM now() - heartbeat_at)) > $2) \
                   ORDER BY id FOR UPDATE SKIP LOCKED LIMIT 1) AND attempts < $3 \
                   RETURNING id, workspace_id, work";
        let values = [worker.into(), (SILENCE_SECONDS as f64).into(), MOST_ATTEMPTS.into()];
        let statement = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values);
        let Some(claimed) = Claimed::find_by_statement(statement).one(&self.db).await? else { return Ok(None) };
        let work = serde_json::from_value(claimed.work)?;
        Ok(Some(Taken { id: claimed.id, workspace_id: claimed.workspace_id, work }))
    }

    /// Gives up jobs that took their worker down with them every time; what they were to do.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn give_up_jobs(&self) -> Result<Vec<Work>> {
        let sql = "UPDATE job SET state = 'failed', finished_at = now(), \
                   outcome = 'It was begun three times and the server stopped each time. Nothing of it was kept.' \
                   WHERE state = 'running' AND attempts >= $1 AND abs(extract(epoch FROM now() - heartbeat_at)) > $2 \
                   RETURNING id, workspace_id, work";
        let values = [MOST_ATTEMPTS.into(), (SILENCE_SECONDS as f64).into()];
        let statement = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values);
        let given_up = Claimed::find_by_statement(statement).all(&self.db).await?;
        Ok(given_up.into_iter().map(|c| serde_json::from_value(c.work)).collect::<std::result::Result<_, _>>()?)
    }

    /// Shows that the worker is alive, and where it is if that has changed; true
    /// if the job should stop.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn beat(&self, id: i64, worker: &str, changed: Option<&Heard>) -> Result<bool> {
        let sql = "UPDATE job SET heartbeat_at = now(), stage = COALESCE($3, stage), share = COALESCE($4, share), \
                   log = COALESCE($5, log), curve = COALESCE($6, curve) \
                   WHERE id = $1 AND worker = $2 AND state = 'running' RETURNING cancel_requested";
        let log = changed.map(|heard| serde_json::to_value(&heard.log)).transpose()?;
        let curve = changed.map(|heard| serde_json::to_value(&heard.curve)).transpose()?;
        let (stage, share) = (changed.map(|heard| heard.stage.clone()), changed.map(|heard| heard.share));
        let values = [id.into(), worker.into(), stage.into(), share.into(), log.into(), curve.into()];
        let statement = Statement::from_sql_and_values(sea_orm::DbBackend::Postgres, sql, values);
        let row = sea_orm::ConnectionTrait::query_one_raw(&self.db, statement).await?;
        match row {
            Some(row) => Ok(row.try_get("", "cancel_requested")?),
            // Somebody else has it now, or it was ended: stop.
            None => Ok(true),
        }
    }

    /// Writes down how a job ended, unless another worker has taken it since.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn end_job(&self, id: i64, worker: &str, ending: &Ending, log: &[Stage]) -> Result<()> {
        let (state, outcome) = match ending {
            Ending::Done(address) => ("done", Some(address.clone())),
            Ending::Failed(reason) => ("failed", Some(reason.clone())),
            Ending::Stopped => ("stopped", None),
        };
        job::Entity::update_many()
            .set(job::ActiveModel {
                state: Set(state.into()),
                outcome: Set(outcome),
                share: Set(1.0),
                log: Set(serde_json::to_value(log)?),
                finished_at: Set(Some(chrono::Utc::now())),
                ..Default::default()
            })
            .filter(job::Column::Id.eq(id))
            .filter(job::Column::Worker.eq(worker))
            .exec(&self.db)
            .await?;
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
