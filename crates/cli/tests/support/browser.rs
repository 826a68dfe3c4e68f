//! A browser without a window.

use std::cell::RefCell;
use std::process::{Child, Command, Stdio};

use fantoccini::actions::{InputSource, KeyAction, KeyActions};
use fantoccini::elements::Element;
use fantoccini::error::CmdError;
use fantoccini::wd::{Capabilities, WebDriverCompatibleCommand};
use fantoccini::{Client, ClientBuilder, Locator};
use tempfile::TempDir;

use super::{EMAIL, PASSWORD, Server, free_port, open_folder, plain, until, until_or};

/// A command of the browser's own, for what the standard has no word for: its address, and what it is given.
#[derive(Debug)]
struct OwnCommand(&'static str, serde_json::Value);

impl OwnCommand {
    /// One of the tools for developers.
    fn tool(name: &str, parameters: &serde_json::Value) -> Self {
        Self("goog/cdp/execute", serde_json::json!({ "cmd": name, "params": parameters }))
    }

    /// What was written to the console since it was read last.
    fn console() -> Self {
        Self("se/log", serde_json::json!({ "type": "browser" }))
    }
}

impl WebDriverCompatibleCommand for OwnCommand {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/{}", session.unwrap_or_default(), self.0))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(self.1.to_string()))
    }
}

/// A browser without a window.
pub struct Browser {
    pub client: Client,
    driver: Child,
    /// The address of the driver at which the session is ended.
    session: String,
    was_closed: bool,
    _folder: TempDir,
}

impl Browser {
    pub async fn open() -> Self {
        let port = free_port();
        let folder = open_folder();
        // Chromium refuses root; then it runs as nobody.
        let is_root = Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout == b"0\n");
        let mut command = if is_root {
            let mut command = Command::new("setpriv");
            command.args(["--reuid=nobody", "--regid=nogroup", "--clear-groups", "chromedriver"]);
            command
        } else {
            Command::new("chromedriver")
        };
        let driver = command
            .arg(format!("--port={port}"))
            .env("HOME", folder.path())
            .env("TMPDIR", folder.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver starts; ./test installs it");
        let options = serde_json::json!({
            // Itself, and not the script of the same name: ending a session ends what was started.
            "binary": "/usr/lib/chromium/chromium-headless-shell",
            "args": [
                "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-dev-shm-usage",
                "--force-prefers-reduced-motion", "--disable-background-networking", "--disable-component-update", "--disable-sync",
                "--window-size=1280,800",
            ],
        });
        let mut capabilities = Capabilities::new();
        capabilities.insert("goog:chromeOptions".into(), options);
        capabilities.insert("goog:loggingPrefs".into(), serde_json::json!({ "browser": "ALL" }));
        let address = format!("http://127.0.0.1:{port}");
        let client = until("the browser opens", || {
            let (capabilities, address) = (capabilities.clone(), address.clone());
            async move {
                let connector = hyper_util::client::legacy::connect::HttpConnector::new();
                ClientBuilder::new(connector).capabilities(capabilities).connect(&address).await.ok()
            }
        })
        .await;
        let id = client.session_id().await.expect("the driver answers").expect("a session");
        Self { client, driver, session: format!("{address}/session/{id}"), was_closed: false, _folder: folder }
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

    /// Types into a field. A page that is read again just then takes it away; then into the one that comes.
    pub async fn fill(&self, css: &str, text: &str) {
        until(&format!("{css} is typed into"), || async {
            let field = self.client.find(Locator::Css(css)).await.ok()?;
            field.clear().await.ok();
            field.send_keys(text).await.ok()
        })
        .await;
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

    /// Shows pages as a window so wide and so high does, so many dots to a pixel: 2 where all is twice as large.
    pub async fn window(&self, width: u32, height: u32, dots: u32) {
        let size = serde_json::json!({ "width": width, "height": height, "deviceScaleFactor": dots, "mobile": false });
        let command = OwnCommand::tool("Emulation.setDeviceMetricsOverride", &size);
        self.client.issue_cmd(command).await.expect("a window");
    }

    /// Shows pages on a screen or on paper, to somebody who wants things to move or not (`reduce`).
    pub async fn media(&self, media: &str, motion: &str) {
        let features = serde_json::json!([{ "name": "prefers-reduced-motion", "value": motion }]);
        let media = serde_json::json!({ "media": media, "features": features });
        self.client.issue_cmd(OwnCommand::tool("Emulation.setEmulatedMedia", &media)).await.expect("a medium");
    }

    /// What the browser gets from an address, with its session.
    pub async fn fetch(&self, path: &str) -> String {
        let code = "const done = arguments[1]; fetch(arguments[0]).then(r => r.text()).then(done)";
        let answer = self.client.execute_async(code, vec![path.into()]).await.expect("an answer");
        answer.as_str().expect("text").to_owned()
    }

    /// Fails if axe finds anything on the page, by day or by night.
    pub async fn is_accessible(&self, page: &str) {
        // A page with work going on shows itself anew when the work is done, unless something was typed.
        let busy = "return [...document.querySelectorAll('[data-job]')].some(line => \
                    !line.querySelector('[data-stage]')?.textContent.startsWith('Done;'))";
        until("no work goes on", || async { (self.script(busy).await == false).then_some(()) }).await;
        let path = std::env::var("PRONOIA_TEST_AXE").expect("PRONOIA_TEST_AXE names axe-core; ./test sets it");
        self.script(&std::fs::read_to_string(path).expect("axe-core")).await;
        let code = "const [rules, done] = arguments; axe.run(document, rules).then(r => done([r.passes.length, \
                    r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160)).join(' | '))]))";
        // Night changes colours, and nothing else that a rule looks at.
        let contrast = serde_json::json!({ "runOnly": ["color-contrast"] });
        for (theme, rules, most) in [("night", contrast, 0), ("day", serde_json::json!({}), 10)] {
            self.script(&format!("document.documentElement.dataset.theme = '{theme}'")).await;
            let found = self.client.execute_async(code, vec![rules]).await.expect("axe runs");
            assert!(found[0].as_u64() > Some(most), "axe looked at {page} by {theme}: {found}");
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

    /// What the console says of scripts that failed and of what the policy of contents did not let happen.
    ///
    /// Answers that are no success are in it as well; those a test asks for itself.
    async fn complaints(&self) -> Vec<String> {
        let written = self.client.issue_cmd(OwnCommand::console()).await.expect("the console");
        let written = written.as_array().expect("lines").iter();
        let failed = written.filter(|line| line["level"] == "SEVERE" && line["source"] != "network");
        failed.map(|line| line["message"].as_str().unwrap_or_default().to_owned()).collect()
    }

    /// Ends the browser, and fails if its console complained of anything.
    pub async fn close(mut self) {
        let complaints = self.complaints().await;
        self.was_closed = true;
        assert!(complaints.is_empty(), "the console of the browser says: {complaints:#?}");
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The browser ends with its session, and not with the driver.
        ureq::delete(&self.session).call().ok();
        self.driver.kill().ok();
        self.driver.wait().ok();
        assert!(self.was_closed || std::thread::panicking(), "a browser is closed, so that its console is read");
    }
}
