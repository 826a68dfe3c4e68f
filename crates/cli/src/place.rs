//! Where everything is kept, as all commands that need it are told.

use std::path::PathBuf;
use std::time::Duration;

use clap::Args;
use pronoia_service::{App, Budget, FileSettings};
use pronoia_store::sources::{Connector, Reach, Vault};
use pronoia_store::{Store, StoreError};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

/// The database and the folder that backups are made of.
#[derive(Args)]
pub struct Records {
    /// The PostgreSQL database.
    #[arg(long, env = "DATABASE_URL", hide_env_values = true)]
    pub database: String,
    /// Folder for uploaded files.
    #[arg(long, default_value = "var/uploads")]
    pub uploads: PathBuf,
}

impl Records {
    /// The database's address without who asks for it, and their password.
    fn server(&self) -> &str {
        self.database.rsplit_once('@').map_or(self.database.as_str(), |(_, server)| server)
    }

    /// What went wrong, for whoever typed the command.
    pub fn sentence(&self, e: &StoreError) -> String {
        match e {
            StoreError::Unreachable => {
                format!(
                    "No PostgreSQL server answers at {}. Start it, or name another with DATABASE_URL.",
                    self.server()
                )
            }
            other => other.to_string(),
        }
    }
}

/// Where things are kept.
#[derive(Args)]
pub struct Installation {
    #[command(flatten)]
    records: Records,
    /// File with the key that encrypts stored passwords; made if it is not there.
    /// Keep it apart from backups of the database.
    #[arg(long, default_value = "var/key")]
    key: PathBuf,
    /// Address (host:port) of a database on this machine that records may be
    /// read from; may be given several times.
    #[arg(long, value_name = "ADDRESS")]
    allow_address: Vec<String>,
}

impl Installation {
    /// Opens the database and brings its tables up to date.
    pub async fn open(&self) -> Result<Store, String> {
        Store::open(&self.records.database).await.map_err(|e| self.records.sentence(&e))
    }

    /// The application over it.
    pub async fn app(&self, files: FileSettings) -> Result<App, String> {
        let own = self.records.server().split(['/', '?']).next().unwrap_or_default();
        let connector = Connector { vault: Vault::open(&self.key)?, reach: Reach::of(&self.allow_address, own)? };
        Ok(App::new(files, self.open().await?, connector, Budget::of(None)))
    }

    /// Where files are, as all commands share it.
    pub fn files(&self) -> FileSettings {
        FileSettings {
            uploads: self.records.uploads.clone(),
            folder: None,
            most_upload: 1_024 * 1_000_000,
            patience: Duration::from_secs(30),
        }
    }
}

/// What runs the work, and the lines that it writes about itself.
pub fn runtime() -> Result<tokio::runtime::Runtime, String> {
    // Libraries speak only when something is wrong, so that our own lines are read.
    let quiet = tracing_subscriber::filter::Targets::new()
        .with_default(tracing::Level::WARN)
        .with_target("pronoia", tracing::Level::INFO)
        .with_target("sqlx::postgres::notice", tracing::Level::ERROR);
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    tracing_subscriber::registry().with(quiet).with(lines).init();
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().map_err(|e| e.to_string())
}
