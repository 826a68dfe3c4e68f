//! A server with a database of its own, and a browser to look at it with.

#![allow(dead_code, unused_imports, reason = "each test file uses its own part")]

mod browser;
mod cluster;
mod databases;
mod filled;
mod http;
mod made;
pub mod study;
mod wire;

pub use browser::Browser;
pub use cluster::{Cluster, SmallDisk};
pub use databases::{copy_of, new_database, ready_database};
pub use filled::filled;
pub use http::{Answer, Http};
pub use made::{Made, demonstration};
pub use wire::Wire;

use std::future::Future;
use std::io::Write;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::{Duration, Instant};

use pronoia_store::Store;
pub use rustix::process::Signal;
use rustix::process::{Pid, kill_process};
use sea_orm::{ConnectionTrait, Database as Connect};
use tempfile::TempDir;

pub const EMAIL: &str = "ana@example.org";
pub const PASSWORD: &str = "a long enough password";

/// How long anything may take before the test says that it hangs.
const PATIENCE: Duration = Duration::from_secs(60);

/// Runs the program in a folder, with a database or none, to its good end.
pub fn pronoia(folder: &Path, arguments: &[&str], database: &str) {
    let ended = Command::new(env!("CARGO_BIN_EXE_pronoia"))
        .args(arguments)
        .current_dir(folder)
        .env("DATABASE_URL", database)
        .output()
        .expect("the program runs");
    assert!(ended.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&ended.stderr));
}

/// The Python that the engines and the parser of PostgreSQL are installed for; none where there are none.
///
/// Whoever looks at the figures of a build must not take what was left out for what was shown.
pub fn python() -> Option<String> {
    let python = std::env::var("PRONOIA_TEST_PYTHON").ok();
    assert!(python.is_some() || std::env::var_os("CI").is_none(), "PRONOIA_TEST_PYTHON is not set; ./test sets it");
    if python.is_none() {
        eprintln!("not run: what other programs find, since PRONOIA_TEST_PYTHON names none");
    }
    python
}

/// Waits for a condition, not for a time.
pub async fn until<T, F: Future<Output = Option<T>>>(what: &str, look: impl FnMut() -> F) -> T {
    until_or(String::new, what, look).await
}

/// Waits for a condition, and says why it does not hold if it never does.
async fn until_or<T, F: Future<Output = Option<T>>>(
    why: impl Fn() -> String,
    what: &str,
    mut look: impl FnMut() -> F,
) -> T {
    let begun = Instant::now();
    loop {
        if let Some(found) = look().await {
            return found;
        }
        assert!(begun.elapsed() < PATIENCE, "waited in vain: {what} {}", why());
        // Whoever has waited for long looks less often.
        tokio::time::sleep((begun.elapsed() / 8).clamp(Duration::from_millis(15), Duration::from_millis(150))).await;
    }
}

/// The first port of those given to servers of tests: below the range from which connections that
/// go out are given theirs, so that none of these takes a server's port while it is started again.
const FIRST_PORT: u16 = 12_000;

/// How many ports there are to give.
const PORTS: u16 = 20_000;

/// A port that nobody listens at and that this process has given to nobody yet.
fn free_port() -> u16 {
    static GIVEN: AtomicU16 = AtomicU16::new(0);
    let start = u16::try_from(std::process::id() * 97 % u32::from(PORTS)).expect("below 20 000");
    loop {
        let given = GIVEN.fetch_add(1, Ordering::Relaxed);
        assert!(given < PORTS, "no port is free");
        let port = FIRST_PORT + (start + given) % PORTS;
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// A server process over a fresh database; both are gone when it is dropped.
pub struct Server {
    pub url: String,
    pub database: String,
    pub folder: Arc<TempDir>,
    port: u16,
    process: Option<Child>,
    arguments: Vec<String>,
}

impl Server {
    /// Makes a database and serves it.
    pub async fn start() -> Self {
        Self::start_with(&[]).await
    }

    /// The same with further arguments.
    pub async fn start_with(arguments: &[&str]) -> Self {
        let base =
            std::env::var("PRONOIA_TEST_DATABASE").expect("PRONOIA_TEST_DATABASE names a server; ./test sets it");
        let database = ready_database(&base).await;
        Self::over(database, open_folder(), arguments).await
    }

    /// Serves a database that is there, with a folder that its files lie in.
    pub async fn over(database: String, folder: TempDir, arguments: &[&str]) -> Self {
        let arguments = arguments.iter().map(|a| (*a).to_owned()).collect();
        Self::among(database, Arc::new(folder), arguments).await
    }

    /// A second server over the same database, with the same files and key.
    pub async fn second(&self) -> Self {
        Self::among(self.database.clone(), Arc::clone(&self.folder), self.arguments.clone()).await
    }

    async fn among(database: String, folder: Arc<TempDir>, arguments: Vec<String>) -> Self {
        let port = free_port();
        let url = format!("http://127.0.0.1:{port}");
        let mut server = Self { url, database, folder, port, process: None, arguments };
        server.run().await;
        server
    }

    /// The same database, reached through a wire that can be cut.
    pub async fn start_over_wire() -> (Self, Wire) {
        let mut server = Self::start().await;
        server.kill();
        let (before, rest) = server.database.rsplit_once(':').expect("a port");
        let (port, name) = rest.split_once('/').expect("a database");
        let wire = Wire::to(port.parse().expect("a port")).await;
        server.database = format!("{before}:{}/{name}", wire.port);
        server.run().await;
        (server, wire)
    }

    /// Starts the process and waits until it answers.
    pub async fn run(&mut self) {
        let process = Command::new(env!("CARGO_BIN_EXE_pronoia"))
            .args(["serve", "--port", &self.port.to_string()])
            .args(&self.arguments)
            .arg("--uploads")
            .arg(self.folder.path().join("uploads"))
            .arg("--key")
            .arg(self.folder.path().join("key"))
            .env("DATABASE_URL", &self.database)
            .stderr(self.log())
            .spawn()
            .expect("the server starts");
        self.process = Some(process);
        let health = format!("{}/health", self.url);
        until("the server answers", || async { ureq::get(&health).call().ok() }).await;
    }

    /// What the server writes about itself is kept.
    fn log(&self) -> std::fs::File {
        let mut options = std::fs::OpenOptions::new();
        options.create(true).append(true).open(self.folder.path().join("server.log")).expect("a log")
    }

    /// What the server wrote about itself.
    pub fn said(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("server.log")).expect("a log")
    }

    /// Ends the process without warning, as SIGKILL does.
    pub fn kill(&mut self) {
        if let Some(mut process) = self.process.take() {
            process.kill().expect("killed");
            process.wait().expect("ended");
        }
    }

    /// Stops the process as SIGSTOP does, or lets it go on as SIGCONT does.
    pub fn signal(&self, signal: Signal) {
        let id = i32::try_from(self.process_id()).ok().and_then(Pid::from_raw).expect("a process");
        kill_process(id, signal).expect("signalled");
    }

    /// The most memory that the process has had, in bytes.
    pub fn peak_memory(&self) -> u64 {
        let id = self.process.as_ref().expect("it runs").id();
        let status = std::fs::read_to_string(format!("/proc/{id}/status")).expect("its state");
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).expect("its peak");
        line.trim().strip_suffix("kB").expect("in kB").trim().parse::<u64>().expect("a number") << 10
    }

    /// The process.
    pub fn process_id(&self) -> u32 {
        self.process.as_ref().expect("it runs").id()
    }

    /// Ends the connections to its database, so that it can be copied.
    pub async fn nobody_is_connected(&self) {
        let (before, name) = self.database.rsplit_once('/').expect("a name");
        let admin = before.replacen("//pronoia_server:", "//pronoia:", 1);
        let connection = Connect::connect(format!("{admin}/postgres")).await.expect("the database server");
        let others = format!("FROM pg_stat_activity WHERE datname = '{name}' AND backend_type = 'client backend'");
        let end = format!("SELECT count(pg_terminate_backend(pid)) {others}");
        connection.execute_unprepared(&end).await.expect("ended");
        until("nobody is connected", || async {
            let asked =
                sea_orm::Statement::from_string(sea_orm::DbBackend::Postgres, format!("SELECT count(*) {others}"));
            let row = connection.query_one_raw(asked).await.ok()??;
            (row.try_get_by_index::<i64>(0).ok()? == 0).then_some(())
        })
        .await;
    }

    /// Runs statements on its database.
    pub async fn run_sql(&self, sql: &str) {
        let connection = Connect::connect(&self.database).await.expect("the database");
        connection.execute_unprepared(sql).await.expect("the statements run");
    }

    /// The one text that a question to its database is answered with.
    pub async fn answer(&self, sql: &str) -> String {
        let connection = Connect::connect(&self.database).await.expect("the database");
        let asked = sea_orm::Statement::from_string(sea_orm::DbBackend::Postgres, sql);
        let row = connection.query_one_raw(asked).await.expect("an answer").expect("a row");
        row.try_get_by_index(0).expect("text")
    }

    /// A second look at the same database.
    pub async fn store(&self) -> Store {
        Store::open(&self.database).await.expect("the database")
    }

    /// Makes the account that the tests sign in with, through the command line.
    pub fn make_account(&self) {
        let mut process = Command::new(env!("CARGO_BIN_EXE_pronoia"))
            .args(["account", EMAIL, "--workspace", "Test workspace"])
            .current_dir(self.folder.path())
            .env("DATABASE_URL", &self.database)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("the program runs");
        writeln!(process.stdin.take().expect("standard input"), "{PASSWORD}").expect("typed");
        assert!(process.wait().expect("ended").success());
    }

    /// Loads the made-up company into its database, for which it must not run; what is said of it.
    pub fn load_demonstration(&self) -> String {
        let loaded = Command::new(env!("CARGO_BIN_EXE_pronoia"))
            .arg("demo")
            .args(["--uploads".as_ref(), self.folder.path().join("uploads").as_os_str()])
            .args(["--key".as_ref(), self.folder.path().join("key").as_os_str()])
            .env("DATABASE_URL", &self.database)
            .stderr(self.log())
            .output()
            .expect("the program runs");
        assert!(loaded.status.success(), "{}", self.said());
        String::from_utf8(loaded.stdout).expect("text")
    }

    /// Writes a file that the browser can read.
    pub fn file(&self, name: &str, bytes: &[u8]) -> PathBuf {
        let path = self.folder.path().join(name);
        std::fs::write(&path, bytes).expect("written");
        path
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.kill();
    }
}

/// A folder that other users of the machine may enter.
pub fn open_folder() -> TempDir {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o777)).expect("readable by the browser");
    folder
}

/// Text with plain spaces, as a test writes it.
pub fn plain(text: &str) -> String {
    text.replace(['\u{202f}', '\u{a0}'], " ")
}
