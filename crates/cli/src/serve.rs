//! `pronoia serve`, `pronoia demo` and `pronoia account`.

use std::io::BufRead;
use std::path::PathBuf;

use clap::Args;
use pronoia_store::sources::{Connector, Reach, Vault};
use pronoia_store::{Store, StoreError};
use pronoia_web::{App, Budget, Config, demonstration};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

use crate::Outcome;

/// Where things are kept.
#[derive(Args)]
struct Place {
    /// The PostgreSQL database.
    #[arg(long, env = "DATABASE_URL", hide_env_values = true)]
    database: String,
    /// Folder for uploaded files.
    #[arg(long, default_value = "var/uploads")]
    uploads: PathBuf,
    /// File with the key that seals stored passwords; made if it is not there.
    /// Keep it apart from backups of the database.
    #[arg(long, default_value = "var/key")]
    key: PathBuf,
    /// Address (host:port) of a database on this machine that records may be
    /// read from; may be given several times.
    #[arg(long, value_name = "ADDRESS")]
    allow_address: Vec<String>,
}

/// Serve the pages.
#[derive(Args)]
pub struct Serve {
    #[command(flatten)]
    place: Place,
    /// Address to listen on.
    #[arg(long, default_value = "127.0.0.1")]
    host: String,
    /// Port to listen on.
    #[arg(long, default_value_t = 8417)]
    port: u16,
    /// A folder whose files everybody who is signed in may fetch.
    #[arg(long, value_name = "FOLDER")]
    folder: Option<PathBuf>,
    /// The most megabytes of one upload.
    #[arg(long, default_value_t = 1_024)]
    most_upload_mb: u64,
    /// The megabytes of memory that all fits together may take; six tenths of the
    /// machine's unless said otherwise.
    #[arg(long)]
    memory_mb: Option<u64>,
}

/// Load the demonstration, once.
#[derive(Args)]
pub struct Demo {
    #[command(flatten)]
    place: Place,
    /// Also write the made-up files into this folder, to be brought in by hand.
    #[arg(long)]
    files: Option<PathBuf>,
    /// A PostgreSQL server to fill as the made-up company's warehouse; it must
    /// be allowed with --allow-address.
    #[arg(long, env = "PRONOIA_WAREHOUSE", hide_env_values = true)]
    warehouse: Option<String>,
}

/// Make an account.
#[derive(Args)]
pub struct Account {
    #[command(flatten)]
    place: Place,
    /// Address to sign in with.
    email: String,
    /// Name of its workspace.
    #[arg(long, default_value = "My workspace")]
    workspace: String,
}

impl Place {
    async fn open(&self) -> Result<Store, String> {
        Store::open(&self.database).await.map_err(|e| match e {
            StoreError::Unreachable => {
                let place = self.database.rsplit_once('@').map_or(self.database.as_str(), |(_, place)| place);
                format!("No PostgreSQL server answers at {place}. Start it, or name another with DATABASE_URL.")
            }
            other => other.to_string(),
        })
    }

    async fn app(&self, config: Config) -> Result<App, String> {
        let own = self.database.rsplit_once('@').map_or(self.database.as_str(), |(_, place)| place);
        let own = own.split(['/', '?']).next().unwrap_or_default();
        let connector = Connector { vault: Vault::open(&self.key)?, reach: Reach::of(&self.allow_address, own)? };
        Ok(App::new(config, self.open().await?, connector, Budget::of(None)))
    }

    fn config(&self) -> Config {
        Config {
            host: "127.0.0.1".into(),
            port: 0,
            uploads: self.uploads.clone(),
            folder: None,
            most_upload: 1_024 * 1_000_000,
            demo_account: None,
        }
    }
}

fn runtime() -> Result<tokio::runtime::Runtime, String> {
    // Libraries speak only when something is wrong, so that our own lines are read.
    let quiet = tracing_subscriber::filter::Targets::new()
        .with_default(tracing::Level::WARN)
        .with_target("pronoia", tracing::Level::INFO)
        .with_target("sqlx::postgres::notice", tracing::Level::ERROR);
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    tracing_subscriber::registry().with(quiet).with(lines).init();
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().map_err(|e| e.to_string())
}

impl Serve {
    pub fn run(self) -> Outcome {
        runtime()?.block_on(async {
            let config = Config {
                host: self.host.clone(),
                port: self.port,
                folder: self.folder.clone(),
                most_upload: self.most_upload_mb * 1_000_000,
                ..self.place.config()
            };
            let mut app = self.place.app(config).await?;
            app.memory = Budget::of(self.memory_mb.map(|megabytes| megabytes << 20));
            app.config.demo_account = demonstration::account(&app.store).await.map_err(|e| e.to_string())?;
            pronoia_web::serve(app).await.map_err(|e| match e.kind() {
                std::io::ErrorKind::AddrInUse => format!(
                    "Port {} is taken by another program. Stop that one, or choose another with --port.",
                    self.port
                ),
                _ => format!("The pages cannot be served on {}:{}: {e}.", self.host, self.port),
            })
        })
    }
}

impl Demo {
    pub fn run(self) -> Outcome {
        if let Some(folder) = &self.files {
            let files = pronoia_demo::files()?;
            let written = std::fs::create_dir_all(folder).and_then(|()| {
                // A file that is there as it should be keeps its date.
                let missing =
                    |(name, bytes): &(&str, Vec<u8>)| !std::fs::read(folder.join(name)).is_ok_and(|b| b == *bytes);
                let mut missing = files.into_iter().filter(missing);
                missing.try_for_each(|(name, bytes)| std::fs::write(folder.join(name), bytes))
            });
            written.map_err(|e| format!("The files could not be written to {}: {e}.", folder.display()))?;
        }
        runtime()?.block_on(async {
            let app = self.place.app(self.place.config()).await?;
            let (email, password) = demonstration::load(&app).await?;
            if let Some(server) = &self.warehouse {
                demonstration::load_warehouse(&app, server).await?;
            }
            println!("The demonstration is ready. Sign in with {email} and {password}.");
            Ok(())
        })
    }
}

impl Account {
    pub fn run(self) -> Outcome {
        let mut password = String::new();
        eprintln!("Password for {}:", self.email);
        std::io::stdin().lock().read_line(&mut password).map_err(|e| e.to_string())?;
        runtime()?.block_on(async {
            let store = self.place.open().await?;
            let made = store
                .create_account(&self.email, password.trim_end_matches(['\r', '\n']), &self.workspace, false)
                .await;
            made.map(|_| println!("The account {} is ready.", self.email)).map_err(|e| e.to_string())
        })
    }
}
