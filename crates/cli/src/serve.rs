//! `pronoia serve`, `pronoia demo` and `pronoia account`.

use std::io::BufRead;
use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::Args;
use pronoia_service::{Budget, FileSettings, demonstration};
use pronoia_store::queries::Unprotected;
use pronoia_web::{Config, TrustedProxies};

use crate::CommandOutcome;
use crate::place::{Installation, runtime};

/// Serve the pages.
#[derive(Args)]
pub struct Serve {
    #[command(flatten)]
    place: Installation,
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
    /// Browsers reach it by TLS, which a proxy speaks in front of it: sessions are then sent by TLS only.
    #[arg(long)]
    behind_tls: bool,
    /// The address of a proxy that says in X-Forwarded-For whom it speaks for; may be given several times. With
    /// --behind-tls and none named, one on this machine.
    #[arg(long, value_name = "ADDRESS")]
    trusted_proxy: Vec<IpAddr>,
    /// The seconds that a client may send nothing in the middle of what it sends.
    #[arg(long, default_value_t = 30)]
    patience_seconds: u64,
    /// What the database leaves open to questions in SQL and is accepted as it is: superuser, functions, catalogues,
    /// temporary-files. Without it questions are off until the database was prepared.
    #[arg(long, value_name = "NAMES", value_delimiter = ',', value_parser = unprotected)]
    accept_unprotected: Vec<Unprotected>,
    /// The megabytes of memory that all fits together may take; six tenths of the
    /// machine's unless said otherwise.
    #[arg(long)]
    memory_mb: Option<u64>,
}

/// Load the demonstration, once.
#[derive(Args)]
pub struct Demo {
    #[command(flatten)]
    place: Installation,
    /// Also write the demo files into this folder, to be imported by hand.
    #[arg(long)]
    files: Option<PathBuf>,
    /// A PostgreSQL server to fill as the demo company's warehouse; it must
    /// be allowed with --allow-address.
    #[arg(long, env = "PRONOIA_WAREHOUSE", hide_env_values = true)]
    warehouse: Option<String>,
}

/// Make an account.
#[derive(Args)]
pub struct NewAccount {
    #[command(flatten)]
    place: Installation,
    /// Address to sign in with.
    email: String,
    /// Name of its workspace.
    #[arg(long, default_value = "My workspace")]
    workspace: String,
}

/// What is accepted, by its name.
fn unprotected(name: &str) -> Result<Unprotected, String> {
    let found = Unprotected::ALL.into_iter().find(|what| what.name() == name);
    found.ok_or_else(|| format!("“{name}” is none of: {}", Unprotected::ALL.map(Unprotected::name).join(", ")))
}

impl Serve {
    pub fn run(self) -> CommandOutcome {
        runtime()?.block_on(async {
            let files = FileSettings {
                folder: self.folder.clone(),
                most_upload: self.most_upload_mb * 1_000_000,
                patience: Duration::from_secs(self.patience_seconds),
                ..self.place.files()
            };
            let mut app = self.place.app(files).await?;
            app.store.accept_unprotected(&self.accept_unprotected);
            if let Err(e) = app.store.protected().await {
                tracing::warn!(target: "pronoia", "{e}");
            }
            app.memory = Budget::of(self.memory_mb.map(|megabytes| megabytes << 20));
            let config = Config {
                host: self.host.clone(),
                port: self.port,
                behind_tls: self.behind_tls,
                trusted_proxies: TrustedProxies::of(&self.trusted_proxy, self.behind_tls),
                demo_account: demonstration::account(&app.store).await.map_err(|e| e.to_string())?,
            };
            pronoia_web::serve(app, config).await.map_err(|e| match e.kind() {
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
    pub fn run(self) -> CommandOutcome {
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
            let app = self.place.app(self.place.files()).await?;
            let (email, password) = demonstration::load(&app).await?;
            if let Some(server) = &self.warehouse {
                demonstration::load_warehouse(&app, server).await?;
            }
            println!("The demonstration is ready. Sign in with {email} and {password}.");
            Ok(())
        })
    }
}

impl NewAccount {
    pub fn run(self) -> CommandOutcome {
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
