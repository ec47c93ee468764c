//! A real browser: headless, driven over WebDriver.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

use fantoccini::key::Key;
use fantoccini::wd::{Capabilities, WebDriverCompatibleCommand};
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;
use tempfile::TempDir;

use crate::harness::{PATIENCE, Service, until};

/// Asks chromedriver for what the page complained of.
#[derive(Debug)]
struct ReadLog;

impl WebDriverCompatibleCommand for ReadLog {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/se/log", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(json!({ "type": "browser" }).to_string()))
    }
}

/// Sets the size of the page through chromedriver: a window of the desktop may not be as narrow as that of a telephone.
#[derive(Debug)]
struct Metrics(serde_json::Value);

impl WebDriverCompatibleCommand for Metrics {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        let body = json!({ "cmd": "Emulation.setDeviceMetricsOverride", "params": self.0 });
        (http::Method::POST, Some(body.to_string()))
    }
}

/// How often the driver is started at most: the port that it draws may be another test's in the moment in which it takes it, and then it ends.
const DRIVER_STARTS: usize = 5;

/// Starts a driver; gives it with its port, or nothing when it ended without one.
fn start_driver() -> Option<(Child, u16)> {
    let mut driver = Command::new("chromedriver")
        .arg("--port=0")
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("chromedriver is installed: run `make test`");
    let mut lines = BufReader::new(driver.stdout.take().expect("it is a pipe")).lines();
    let port = lines
        .by_ref()
        .map_while(Result::ok)
        .find_map(|line| line.split("successfully on port ").nth(1)?.trim_end_matches('.').parse().ok());
    let Some(port) = port else {
        let _ = driver.wait();
        return None;
    };
    // Its output has to be read on, or it stops when the pipe is full.
    std::thread::spawn(move || lines.map_while(Result::ok).for_each(drop));
    Some((driver, port))
}

/// A real browser, with what pages need to be tried as a person would.
pub(crate) struct Browser {
    driver: Child,
    pub(crate) client: Client,
    profile: TempDir,
}

impl Browser {
    pub(crate) async fn start() -> Self {
        let (driver, port) =
            (0..DRIVER_STARTS).find_map(|_| start_driver()).expect("chromedriver says its port");
        let profile = tempfile::tempdir().unwrap();
        let mut args: Vec<String> = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--disable-quic",
            "--no-first-run",
            "--no-default-browser-check",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-extensions",
            "--no-proxy-server",
            "--hide-scrollbars",
            "--force-device-scale-factor=1",
            "--window-size=1280,939",
            "--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE 127.0.0.1",
        ]
        .map(str::to_owned)
        .to_vec();
        args.push(format!("--user-data-dir={}", profile.path().display()));
        let mut capabilities = Capabilities::new();
        capabilities.insert("goog:chromeOptions".to_owned(), json!({ "args": args }));
        capabilities.insert("goog:loggingPrefs".to_owned(), json!({ "browser": "ALL" }));
        let client = ClientBuilder::new(HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .expect("chromedriver answers");
        Self { driver, client, profile }
    }

    pub(crate) async fn text(&self, css: &str) -> String {
        match self.client.find(Locator::Css(css)).await {
            Ok(element) => element.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    pub(crate) async fn click(&self, css: &str) {
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await;
        element.unwrap_or_else(|error| panic!("{css}: {error}")).click().await.unwrap();
    }

    pub(crate) async fn fill(&self, css: &str, text: &str) {
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await.unwrap();
        element.send_keys(text).await.unwrap();
    }

    /// Types into the field with this label, in place of what is there.
    pub(crate) async fn set(&self, label: &str, text: &str) {
        let field = format!("//*[@id=//label[starts-with(normalize-space(), '{label}')]/@for]");
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::XPath(&field)).await;
        let element = element.unwrap_or_else(|error| panic!("field {label}: {error}"));
        if element.tag_name().await.unwrap() == "select" {
            element.select_by_label(text).await.unwrap();
            return;
        }
        element.clear().await.unwrap();
        element.send_keys(text).await.unwrap();
    }

    /// Waits until the consequences of what was typed tell this, then makes it live.
    pub(crate) async fn make_live(&self, button: &str, tells: &str) {
        until(tells, async || self.text("[data-testid=consequences]").await.contains(tells)).await;
        let path = format!("//button[normalize-space()='{button}' and not(@disabled)]");
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::XPath(&path)).await;
        element.unwrap_or_else(|error| panic!("button {button}: {error}")).click().await.unwrap();
    }

    pub(crate) async fn log_in(&self, service: &Service) {
        self.client.goto(&service.url()).await.unwrap();
        self.fill("#token", &service.token()).await;
        self.press("Log in").await;
    }

    pub(crate) async fn go(&self, page: &str) {
        self.click(&format!("nav a[href='{page}']")).await;
    }

    /// Types in place of what stands in a field.
    pub(crate) async fn type_over(&self, css: &str, text: &str) {
        let field = self.client.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await;
        let field = field.unwrap_or_else(|error| panic!("{css}: {error}"));
        field.send_keys(&(Key::Control + "a")).await.unwrap();
        field.send_keys(&Key::Backspace).await.unwrap();
        field.send_keys(text).await.unwrap();
    }

    /// What stands in a field; empty when it is not there.
    pub(crate) async fn value(&self, css: &str) -> String {
        match self.client.find(Locator::Css(css)).await {
            Ok(field) => field.prop("value").await.unwrap_or_default().unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    pub(crate) async fn attribute(&self, css: &str, name: &str) -> Option<String> {
        self.client.find(Locator::Css(css)).await.ok()?.attr(name).await.unwrap()
    }

    /// Loads the page anew, and lets the browser do it when it asks whether what was typed may be lost.
    pub(crate) async fn reload_against_a_question(&self) {
        let asks = "const event = new Event('beforeunload', { cancelable: true }); return !window.dispatchEvent(event)";
        assert_eq!(
            self.client.execute(asks, Vec::new()).await.unwrap(),
            json!(true),
            "the browser would not ask"
        );
        self.client.refresh().await.unwrap();
    }

    /// Gives the window another width.
    pub(crate) async fn narrow_to(&self, width: u32) {
        let metrics = json!({ "width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false });
        self.client.issue_cmd(Metrics(metrics)).await.unwrap();
    }

    /// Texts that lie over each other; empty when none does.
    pub(crate) async fn overlaps(&self, css: &str) -> String {
        let script = "const all = [...document.querySelectorAll(arguments[0])].map((it) => [it.textContent, it.getBoundingClientRect()]); \
            const over = all.flatMap(([one, a], i) => all.slice(i + 1).flatMap(([other, b]) => \
              a.left < b.right && b.left < a.right && a.top + 3 < b.bottom && b.top + 3 < a.bottom ? [one + ' / ' + other] : [])); \
            return over.join(' | ')";
        self.client.execute(script, vec![json!(css)]).await.unwrap().as_str().unwrap_or("?").to_owned()
    }

    /// The elements that stand out of the window, in words; empty when none does.
    pub(crate) async fn overhang(&self) -> String {
        let script = "const most = document.documentElement.clientWidth; \
            const open = document.querySelector('dialog[open]'); \
            if (document.documentElement.scrollWidth <= most && (!open || open.scrollWidth <= open.clientWidth)) return ''; \
            const out = [...(open ?? document.body).querySelectorAll('*')].filter((it) => it.getBoundingClientRect().right > (open?.getBoundingClientRect().right ?? most) + 1); \
            return document.documentElement.scrollWidth + ' of ' + most + ': ' + \
            out.slice(0, 6).map((it) => it.tagName + '.' + it.className + ' ' + (it.textContent ?? '').slice(0, 40)).join(' | ')";
        self.client.execute(script, Vec::new()).await.unwrap().as_str().unwrap_or("?").to_owned()
    }

    pub(crate) async fn complaints(&self) -> Vec<serde_json::Value> {
        let complaints = self.client.issue_cmd(ReadLog).await.unwrap();
        complaints.as_array().unwrap().iter().filter(|complaint| !is_expected(complaint)).cloned().collect()
    }

    pub(crate) async fn press(&self, text: &str) {
        let path = format!("//button[normalize-space()='{text}']");
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::XPath(&path)).await;
        element.unwrap_or_else(|error| panic!("button {text}: {error}")).click().await.unwrap();
    }

    pub(crate) async fn end(mut self) {
        self.client.clone().close().await.unwrap();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
        drop(self.profile);
    }
}

/// The browser notes the two refused log-ins: before there was a token, and with the wrong one.
pub(crate) fn is_expected(complaint: &serde_json::Value) -> bool {
    complaint["message"].as_str().is_some_and(|message| message.contains("401 (Unauthorized)"))
}
