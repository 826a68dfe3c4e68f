//! A server with a database of its own, and a browser to look at it with.

#![allow(dead_code, reason = "each test file uses its own part")]

pub mod study;

use std::cell::RefCell;
use std::future::Future;
use std::io::Write;
use std::net::TcpListener;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use fantoccini::actions::{InputSource, KeyAction, KeyActions};
use fantoccini::elements::Element;
use fantoccini::error::CmdError;
use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use pronoia_store::Store;
use sea_orm::{ConnectionTrait, Database as Connect};
use tempfile::TempDir;

pub const EMAIL: &str = "ana@example.org";
pub const PASSWORD: &str = "a long enough password";

/// How long anything may take before the test says that it hangs.
const PATIENCE: Duration = Duration::from_secs(60);

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
        tokio::time::sleep(Duration::from_millis(40)).await;
    }
}

fn free_port() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
    listener.local_addr().expect("its address").port()
}

/// A server process over a fresh database; both are gone when it is dropped.
pub struct Server {
    pub url: String,
    pub database: String,
    pub folder: TempDir,
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
        let port = free_port();
        let name = format!("test_{}_{port}", std::process::id());
        let connection = Connect::connect(&base).await.expect("the database server");
        connection.execute_unprepared(&format!("CREATE DATABASE {name}")).await.expect("a database");
        let database = format!("{}/{name}", base.rsplit_once('/').expect("a database name").0);
        let folder = open_folder();
        let url = format!("http://127.0.0.1:{port}");
        let arguments = arguments.iter().map(|a| (*a).to_owned()).collect();
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
            .stderr(Stdio::null())
            .spawn()
            .expect("the server starts");
        self.process = Some(process);
        let health = format!("{}/health", self.url);
        until("the server answers", || async { ureq::get(&health).call().ok() }).await;
    }

    /// Ends the process without warning, as SIGKILL does.
    pub fn kill(&mut self) {
        if let Some(mut process) = self.process.take() {
            process.kill().expect("killed");
            process.wait().expect("ended");
        }
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

fn open_folder() -> TempDir {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o777)).expect("readable by the browser");
    folder
}

/// A client that keeps its session and shows every answer as it is.
pub struct Http {
    agent: ureq::Agent,
    url: String,
    pub cookie: String,
}

/// What came back: status, address of a redirect, text.
pub struct Answer {
    pub status: u16,
    pub location: String,
    pub headers: ureq::http::HeaderMap,
    pub text: String,
}

impl Http {
    pub fn new(server: &Server) -> Self {
        let config = ureq::Agent::config_builder().http_status_as_error(false).max_redirects(0);
        Self { agent: config.build().into(), url: server.url.clone(), cookie: String::new() }
    }

    /// A client that is signed in.
    pub fn signed_in(server: &Server, email: &str) -> Self {
        Self::signed_in_with(server, email, PASSWORD)
    }

    pub fn signed_in_with(server: &Server, email: &str, password: &str) -> Self {
        let mut http = Self::new(server);
        let answer = http.post("/sign-in", &[("email", email), ("password", password)]);
        assert_eq!(answer.status, 303, "{}", answer.text);
        let cookie = answer.headers["set-cookie"].to_str().expect("a cookie");
        http.cookie = cookie.split(';').next().expect("a value").to_owned();
        http
    }

    fn answer(response: Result<ureq::http::Response<ureq::Body>, ureq::Error>) -> Answer {
        let mut response = response.expect("an answer");
        let location = response.headers().get("location").map_or("", |l| l.to_str().expect("text")).to_owned();
        let text = response.body_mut().with_config().limit(50 << 20).read_to_string().expect("text");
        Answer { status: response.status().as_u16(), location, headers: response.headers().clone(), text }
    }

    pub fn get(&self, path: &str) -> Answer {
        Self::answer(self.agent.get(format!("{}{path}", self.url)).header("cookie", &self.cookie).call())
    }

    /// A call of a program, without a session.
    pub fn call(&self, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let mut request = self.agent.post(format!("{}{path}", self.url));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        Self::answer(request.send(body))
    }

    /// A file, as it is.
    pub fn bytes(&self, path: &str) -> Vec<u8> {
        let mut answer =
            self.agent.get(format!("{}{path}", self.url)).header("cookie", &self.cookie).call().expect("an answer");
        assert_eq!(answer.status(), 200, "{path}");
        answer.body_mut().with_config().limit(100_000_000).read_to_vec().expect("a body")
    }

    pub fn post(&self, path: &str, fields: &[(&str, &str)]) -> Answer {
        let request = self.agent.post(format!("{}{path}", self.url)).header("cookie", &self.cookie);
        Self::answer(request.send_form(fields.iter().copied()))
    }

    /// The proof that forms of this session carry.
    pub fn csrf(&self) -> String {
        let page = self.get("/").text;
        let after = page.split("name=\"csrf\" value=\"").nth(1).expect("a form");
        after.split('"').next().expect("a value").to_owned()
    }

    /// Posts a form of a page of ours.
    pub fn submit(&self, path: &str, fields: &[(&str, &str)]) -> Answer {
        let csrf = self.csrf();
        let mut all = vec![("csrf", csrf.as_str())];
        all.extend(fields);
        self.post(path, &all)
    }

    /// Sends a file as the page does.
    pub fn upload(&self, csrf: &str, name: &str, bytes: &[u8]) -> Answer {
        self.upload_with("", csrf, name, bytes)
    }

    /// Sends a list of a study.
    pub fn upload_list(&self, study: i64, name: &str, bytes: &[u8]) -> Answer {
        let field = format!("--cut\r\nContent-Disposition: form-data; name=\"study\"\r\n\r\n{study}\r\n");
        self.upload_with(&field, &self.csrf(), name, bytes)
    }

    fn upload_with(&self, fields: &str, csrf: &str, name: &str, bytes: &[u8]) -> Answer {
        let mut body = format!(
            "{fields}--cut\r\nContent-Disposition: form-data; name=\"csrf\"\r\n\r\n{csrf}\r\n--cut\r\nContent-Disposition: form-data; \
             name=\"file\"; filename=\"{name}\"\r\nContent-Type: text/csv\r\n\r\n"
        )
        .into_bytes();
        body.extend(bytes);
        body.extend(b"\r\n--cut--\r\n");
        let request = self.agent.post(format!("{}/uploads", self.url)).header("cookie", &self.cookie);
        Self::answer(request.header("content-type", "multipart/form-data; boundary=cut").send(&body[..]))
    }

    /// Follows a job to its end: the page it leads to, or the page that says why not.
    pub async fn follow(&self, job: &str) -> Answer {
        until("the job ends", || async {
            let answer = self.get(job);
            if answer.status == 303 {
                return Some(self.get(&answer.location));
            }
            answer.text.contains("role=\"alert\"").then_some(answer)
        })
        .await
    }
}

/// A way to the database that can be cut.
pub struct Wire {
    pub port: u16,
    connected: std::sync::Arc<std::sync::atomic::AtomicBool>,
    live: std::sync::Arc<std::sync::atomic::AtomicUsize>,
}

impl Wire {
    /// Begins to pass bytes on to a port of this machine.
    pub async fn to(target: u16) -> Self {
        use std::sync::atomic::{AtomicBool, Ordering};
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let connected = std::sync::Arc::new(AtomicBool::new(true));
        let live = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
        let (open, alive) = (connected.clone(), live.clone());
        tokio::spawn(async move {
            while let Ok((mut near, _)) = listener.accept().await {
                if !open.load(Ordering::Relaxed) {
                    continue;
                }
                let (open, alive) = (open.clone(), alive.clone());
                alive.fetch_add(1, Ordering::Relaxed);
                tokio::spawn(async move {
                    let Ok(mut far) = tokio::net::TcpStream::connect(("127.0.0.1", target)).await else {
                        alive.fetch_sub(1, Ordering::Relaxed);
                        return;
                    };
                    let cut = async {
                        while open.load(Ordering::Relaxed) {
                            tokio::time::sleep(Duration::from_millis(20)).await;
                        }
                    };
                    tokio::select! {
                        _ = tokio::io::copy_bidirectional(&mut near, &mut far) => {}
                        () = cut => {}
                    }
                    alive.fetch_sub(1, Ordering::Relaxed);
                });
            }
        });
        Self { port, connected, live }
    }

    /// Cuts every connection and refuses new ones; returns when none is left.
    pub async fn cut(&self) {
        use std::sync::atomic::Ordering;
        self.connected.store(false, Ordering::Relaxed);
        until("every connection is cut", || async { (self.live.load(Ordering::Relaxed) == 0).then_some(()) }).await;
    }

    /// Lets connections through again.
    pub fn mend(&self) {
        self.connected.store(true, std::sync::atomic::Ordering::Relaxed);
    }
}

/// A browser without a window.
pub struct Browser {
    pub client: Client,
    driver: Child,
    _folder: TempDir,
}

impl Browser {
    pub async fn open() -> Self {
        let port = free_port();
        let folder = open_folder();
        // Chromium refuses root; then it runs as nobody.
        let is_root = Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout == b"0\n");
        let mut command = if is_root {
            let mut command = Command::new("runuser");
            command.args(["-u", "nobody", "--", "chromedriver"]);
            command
        } else {
            Command::new("chromedriver")
        };
        let driver = command
            .arg(format!("--port={port}"))
            .env("HOME", folder.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver starts; ./test installs it");
        let profile = folder.path().join("profile");
        let options = serde_json::json!({
            "binary": "/usr/bin/chromium",
            "args": [
                "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-dev-shm-usage",
                "--force-prefers-reduced-motion", "--disable-background-networking", "--disable-component-update", "--disable-sync",
                "--window-size=1280,800", format!("--user-data-dir={}", profile.display()),
            ],
        });
        let mut capabilities = Capabilities::new();
        capabilities.insert("goog:chromeOptions".into(), options);
        let address = format!("http://127.0.0.1:{port}");
        let client = until("the browser opens", || {
            let (capabilities, address) = (capabilities.clone(), address.clone());
            async move {
                let connector = hyper_util::client::legacy::connect::HttpConnector::new();
                ClientBuilder::new(connector).capabilities(capabilities).connect(&address).await.ok()
            }
        })
        .await;
        Self { client, driver, _folder: folder }
    }

    pub async fn go(&self, address: &str) {
        self.client.goto(address).await.expect("the page");
    }

    /// The text of the first element that fits, once there is one.
    pub async fn text(&self, css: &str) -> String {
        until(css, || async { self.client.find(Locator::Css(css)).await.ok()?.text().await.ok() }).await
    }

    /// Waits until the text of an element holds some words.
    pub async fn see(&self, css: &str, words: &str) -> String {
        until(&format!("{css} says “{words}”"), || async {
            let text = self.client.find(Locator::Css(css)).await.ok()?.text().await.ok()?;
            plain(&text).contains(words).then_some(text)
        })
        .await
    }

    pub async fn click(&self, css: &str) {
        let (what, why) = (format!("{css} can be clicked"), RefCell::new(String::new()));
        let click = || async {
            let clicked = match self.client.find(Locator::Css(css)).await {
                Ok(element) => self.scrolled_to(element).await,
                Err(gone) => Err(gone),
            };
            clicked.map_err(|e| *why.borrow_mut() = e.to_string()).ok()
        };
        until_or(|| why.borrow().clone(), &what, click).await;
    }

    /// Clicks what may lie behind the line of background work, as anybody would: after scrolling.
    async fn scrolled_to(&self, element: Element) -> Result<(), CmdError> {
        let place = serde_json::to_value(&element)?;
        self.client.execute("arguments[0].scrollIntoView({ block: 'center' })", vec![place]).await?;
        element.click().await
    }

    pub async fn fill(&self, css: &str, text: &str) {
        let field = self.client.find(Locator::Css(css)).await.expect(css);
        field.clear().await.ok();
        field.send_keys(text).await.expect("typed");
    }

    pub async fn choose_file(&self, css: &str, path: &std::path::Path) {
        let field = self.client.find(Locator::Css(css)).await.expect(css);
        field.send_keys(path.to_str().expect("a path")).await.expect("chosen");
    }

    /// Presses keys wherever the focus is, once the page listens to them.
    pub async fn press(&self, keys: &str) {
        until("the page is loaded", || async {
            let state = self.client.execute("return document.readyState", Vec::new()).await.ok()?;
            (state == "complete").then_some(())
        })
        .await;
        let keyboard = keys.chars().fold(KeyActions::new("keyboard".into()), |actions, value| {
            actions.then(KeyAction::Down { value }).then(KeyAction::Up { value })
        });
        self.client.perform_actions(keyboard).await.expect("pressed");
    }

    pub async fn script(&self, code: &str) -> serde_json::Value {
        self.client.execute(code, Vec::new()).await.expect("the script runs")
    }

    /// What the browser gets from an address, with its session.
    pub async fn fetch(&self, path: &str) -> String {
        let code = "const done = arguments[1]; fetch(arguments[0]).then(r => r.text()).then(done)";
        let answer = self.client.execute_async(code, vec![path.into()]).await.expect("an answer");
        answer.as_str().expect("text").to_owned()
    }

    /// Fails if axe finds anything on the page, by day or by night.
    pub async fn is_accessible(&self, page: &str) {
        // A page with work going on shows itself anew when the work is done.
        let busy = "return document.querySelector('[data-job]') !== null";
        until("no work goes on", || async { (self.script(busy).await == false).then_some(()) }).await;
        let path = std::env::var("PRONOIA_TEST_AXE").expect("PRONOIA_TEST_AXE names axe-core; ./test sets it");
        self.script(&std::fs::read_to_string(path).expect("axe-core")).await;
        let code = "const done = arguments[0]; axe.run().then(r => done([r.passes.length, r.violations.map(v => v.id + ': ' + \
                    v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(' | '))]))";
        for theme in ["night", "day"] {
            self.script(&format!("document.documentElement.dataset.theme = '{theme}'")).await;
            let found = self.client.execute_async(code, Vec::new()).await.expect("axe runs");
            assert!(found[0].as_u64() > Some(10), "axe looked at {page}: {found}");
            assert_eq!(found[1], serde_json::json!([]), "axe on {page} by {theme}");
        }
    }

    /// Moves the focus by the tab key until it is on the element.
    pub async fn tab_to(&self, css: &str) {
        self.see_element(css).await;
        let is_there = format!("return document.activeElement.matches({})", serde_json::json!(css));
        for _ in 0..150 {
            if self.script(&is_there).await == true {
                let shown = "const s = getComputedStyle(document.activeElement); return s.outlineStyle !== 'none'";
                assert_eq!(self.script(shown).await, true, "the focus on {css} can be seen");
                return;
            }
            self.press("\u{e004}").await;
        }
        panic!("{css} is not reached by the tab key");
    }

    /// Waits until there is such an element.
    pub async fn see_element(&self, css: &str) {
        until(css, || async { self.client.find(Locator::Css(css)).await.ok() }).await;
    }

    pub async fn sign_in(&self, server: &Server) {
        self.go(&format!("{}/sign-in", server.url)).await;
        self.fill("[name=email]", EMAIL).await;
        self.fill("[name=password]", PASSWORD).await;
        self.click(".sign-in .button").await;
        self.see("h1", "Questions").await;
    }

    pub async fn close(mut self) {
        self.client.clone().close().await.ok();
        self.driver.kill().ok();
        self.driver.wait().ok();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        self.driver.kill().ok();
    }
}

/// Text with plain spaces, as a test writes it.
pub fn plain(text: &str) -> String {
    text.replace(['\u{202f}', '\u{a0}'], " ")
}
