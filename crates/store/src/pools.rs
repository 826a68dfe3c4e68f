//! Connections to the database, apart by what they are for: nobody's exports, previews or jobs take those away by which
//! pages are answered, and a busy server goes on telling that its jobs are alive.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use sea_orm::sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use sea_orm::sqlx::{self, ConnectOptions, Connection, PgConnection};
use sea_orm::{DatabaseConnection, SqlxPostgresConnector};

use crate::{Result, StoreError};

/// How often a server that starts, or is busy, is knocked at; three seconds each.
const MOST_KNOCKS: usize = 4;

/// How long a server may take to let us in.
const KNOCK: Duration = Duration::from_secs(3);

/// What connections are for.
#[derive(Debug, Clone, Copy)]
struct Purpose {
    /// As the database shows it.
    name: &'static str,
    /// How many.
    connections: u32,
    /// How long one is waited for.
    wait: Duration,
    /// How long a statement may take; the database's own limit where nothing is said.
    statement: Option<&'static str>,
    /// How long a row that somebody else changes is waited for.
    lock: &'static str,
    /// How long a server that fell asleep in a transaction keeps others from what it changed; for ever where nothing
    /// is said, because rows come for as long as a file is read, or a client takes them.
    asleep: Option<&'static str>,
}

const PAGES: Purpose = Purpose {
    name: "pronoia pages",
    connections: 10,
    wait: Duration::from_secs(3),
    statement: Some("20s"),
    lock: "2s",
    asleep: Some("10s"),
};

const JOBS: Purpose = Purpose {
    name: "pronoia jobs",
    connections: 8,
    wait: Duration::from_secs(60),
    statement: None,
    lock: "60s",
    asleep: None,
};

const SIGNS_OF_LIFE: Purpose = Purpose {
    name: "pronoia signs of life",
    connections: 3,
    wait: Duration::from_secs(3),
    statement: Some("3s"),
    lock: "2s",
    asleep: Some("3s"),
};

const EXPORTS: Purpose = Purpose {
    name: "pronoia exports",
    connections: 3,
    wait: Duration::from_secs(10),
    statement: Some("10min"),
    lock: "2s",
    asleep: None,
};

const PREVIEWS: Purpose = Purpose {
    name: "pronoia previews",
    connections: 3,
    wait: Duration::from_secs(3),
    statement: Some("10s"),
    lock: "2s",
    asleep: Some("10s"),
};

/// Connections that questions in SQL take, at most.
const QUESTIONS: u32 = 4;

/// The connections of a server.
#[derive(Debug, Clone)]
pub(crate) struct Pools {
    pub pages: DatabaseConnection,
    pub jobs: DatabaseConnection,
    pub signs_of_life: DatabaseConnection,
    pub exports: DatabaseConnection,
    pub previews: DatabaseConnection,
}

impl Pools {
    /// Connects once, waiting a little for a server that is not ready yet; all other connections are made where they
    /// are needed.
    ///
    /// # Errors
    /// [`StoreError::Unreachable`] if no server answers.
    pub async fn open(url: &str) -> Result<Self> {
        let options: PgConnectOptions = url.parse().map_err(StoreError::from)?;
        let options = options.disable_statement_logging();
        let mut knocks = 1;
        let mut first = loop {
            let connecting = tokio::time::timeout(KNOCK, PgConnection::connect_with(&options)).await;
            let connected = connecting.unwrap_or(Err(sqlx::Error::PoolTimedOut)).map_err(StoreError::from);
            match connected {
                Err(StoreError::Unreachable | StoreError::Busy(_)) if knocks < MOST_KNOCKS => {
                    knocks += 1;
                    tokio::time::sleep(Duration::from_millis(200)).await;
                }
                Err(StoreError::Busy(_)) => return Err(StoreError::Unreachable),
                answer => break answer?,
            }
        };
        note_answer();
        let version = first.server_version_num().unwrap_or(0);
        let allowed: String = sqlx::query_scalar("SHOW max_connections").fetch_one(&mut first).await?;
        first.close().await?;
        let all = [PAGES, JOBS, SIGNS_OF_LIFE, EXPORTS, PREVIEWS];
        let most = all.iter().map(|purpose| purpose.connections).sum::<u32>() + QUESTIONS;
        let servers = allowed.parse::<u32>().unwrap_or(0).saturating_sub(5) / most;
        if servers == 0 {
            tracing::warn!(
                "the database allows {allowed} connections, and this server takes up to {most}: raise max_connections"
            );
        } else {
            tracing::debug!("up to {most} connections are taken; there is room for {servers} such servers");
        }
        let pool = |purpose: Purpose| {
            let mut settings = vec![("lock_timeout", purpose.lock)];
            settings.extend(purpose.statement.map(|limit| ("statement_timeout", limit)));
            settings.extend(purpose.asleep.map(|limit| ("idle_in_transaction_session_timeout", limit)));
            if version >= 140_000 {
                // What is asked ends soon after whoever asked is gone.
                settings.push(("client_connection_check_interval", "1s"));
            }
            let options = options.clone().application_name(purpose.name).options(settings);
            let pool = PgPoolOptions::new().max_connections(purpose.connections).acquire_timeout(purpose.wait);
            SqlxPostgresConnector::from_sqlx_postgres_pool(pool.connect_lazy_with(options))
        };
        Ok(Self {
            pages: pool(PAGES),
            jobs: pool(JOBS),
            signs_of_life: pool(SIGNS_OF_LIFE),
            exports: pool(EXPORTS),
            previews: pool(PREVIEWS),
        })
    }
}

/// When the database last answered, in milliseconds since the process first asked.
static ANSWERED: AtomicU64 = AtomicU64::new(0);

/// How long it is believed that a database which answered is still there.
const BELIEVED: Duration = Duration::from_millis(2_500);

fn now() -> u64 {
    static BEGAN: std::sync::OnceLock<Instant> = std::sync::OnceLock::new();
    // Zero stands for never.
    u64::try_from(BEGAN.get_or_init(Instant::now).elapsed().as_millis()).unwrap_or(u64::MAX - 1) + 1
}

/// Notes that the database answers.
pub(crate) fn note_answer() {
    ANSWERED.store(now(), Ordering::Relaxed);
}

/// Whether the database answered a moment ago; then whoever has no connection has to wait for others, not for it.
pub(crate) fn answered_lately() -> bool {
    let answered = ANSWERED.load(Ordering::Relaxed);
    answered > 0 && u128::from(now() - answered) < BELIEVED.as_millis()
}
