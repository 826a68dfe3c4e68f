//! A server as it was once made, copied as often as tests need it.

use std::process::Command;
use std::sync::Arc;

use tempfile::TempDir;
use tokio::sync::OnceCell;

use super::{Server, copy_of, open_folder};

/// What a server left behind: its database and its files.
pub struct Made {
    database: String,
    files: Arc<TempDir>,
}

impl Made {
    /// Ends a server that has nothing left to do.
    pub async fn of(mut server: Server) -> Self {
        server.kill();
        server.nobody_is_connected().await;
        Self { database: server.database.clone(), files: Arc::clone(&server.folder) }
    }

    /// A server of one's own over a copy.
    pub async fn copied(&self) -> Server {
        let folder = open_folder();
        let copied = Command::new("cp").arg("-a").arg(self.files.path().join(".")).arg(folder.path()).status();
        assert!(copied.expect("cp runs").success());
        Server::over(copy_of(&self.database).await, folder, &[]).await
    }
}

/// A server with the made-up company, and what was said while it was loaded.
pub async fn demonstration() -> (Server, String) {
    static MADE: OnceCell<(Made, String)> = OnceCell::const_new();
    let make = || async {
        let mut server = Server::start().await;
        server.kill();
        let said = server.load_demonstration();
        (Made::of(server).await, said)
    };
    let (made, said) = MADE.get_or_init(make).await;
    (made.copied().await, said.clone())
}
