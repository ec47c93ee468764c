//! The console in a real browser.

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use fantoccini::wd::{Capabilities, WebDriverCompatibleCommand};
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use merismos_lab::stand_in::Fault;
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

struct Browser {
    driver: Child,
    client: Client,
    profile: TempDir,
}

impl Browser {
    async fn start() -> Self {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed: run `make test`");
        let mut lines = BufReader::new(driver.stdout.take().unwrap()).lines();
        let port: u16 = lines
            .by_ref()
            .map_while(Result::ok)
            .find_map(|line| line.split("successfully on port ").nth(1)?.trim_end_matches('.').parse().ok())
            .expect("chromedriver says its port");
        // Its output has to be read on, or it stops when the pipe is full.
        std::thread::spawn(move || lines.map_while(Result::ok).for_each(drop));
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

    async fn text(&self, css: &str) -> String {
        match self.client.find(Locator::Css(css)).await {
            Ok(element) => element.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    async fn click(&self, css: &str) {
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await;
        element.unwrap_or_else(|error| panic!("{css}: {error}")).click().await.unwrap();
    }

    async fn fill(&self, css: &str, text: &str) {
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await.unwrap();
        element.send_keys(text).await.unwrap();
    }

    async fn press(&self, text: &str) {
        let path = format!("//button[normalize-space()='{text}']");
        let element = self.client.wait().at_most(PATIENCE).for_element(Locator::XPath(&path)).await;
        element.unwrap_or_else(|error| panic!("button {text}: {error}")).click().await.unwrap();
    }

    async fn end(mut self) {
        self.client.clone().close().await.unwrap();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
        drop(self.profile);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn from_the_log_in_to_a_drained_server_and_a_trial() {
    let index = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../console/dist/index.html");
    assert!(index.exists(), "the console is not built: run `make test`");
    let service = Service::with(&["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.client.goto(&service.url()).await.unwrap();

    browser.fill("#token", "guess").await;
    browser.press("Log in").await;
    until("the wrong token is refused", async || browser.text("[role=alert]").await.contains("not a token"))
        .await;
    browser.client.find(Locator::Css("#token")).await.unwrap().clear().await.unwrap();
    browser.fill("#token", &service.token()).await;
    browser.press("Log in").await;
    until("all is well", async || browser.text("#verdict").await.contains("All is well.")).await;
    for part in ["harbour", "quay", "gull", "tern", "of 50.0 %"] {
        until(part, async || browser.text("[data-testid=flow]").await.contains(part)).await;
    }

    // A failing server shows by itself.
    service.stand_ins[1].set(Fault::Refuse).await;
    let health = "[data-server='quay/tern'] [data-testid=health]";
    until("tern is shown down", async || browser.text(health).await.contains("✕ down")).await;
    until("and why", async || browser.text("#verdict").await.contains("connection refused")).await;
    service.stand_ins[1].set(Fault::None).await;
    until("tern is shown up", async || browser.text(health).await.contains("● up")).await;

    // A duty needs a reason, and shows at once.
    browser.click("[aria-label='Duty of quay/gull']").await;
    browser.press("Drain").await;
    until("a reason is wanted", async || browser.text("dialog [role=alert]").await.contains("Say why")).await;
    browser.fill("#reason", "new disk").await;
    browser.press("Drain").await;
    let duty = "[data-server='quay/gull'] [data-testid=duty]";
    until("gull is shown drained", async || browser.text(duty).await.contains("▽ drained")).await;
    until("the event is told", async || {
        browser.text("[data-testid=facts]").await.contains("draining by first: new disk")
    })
    .await;
    assert_eq!(service.server("gull").await.duty.unwrap().reason, "new disk");
    browser.click("[aria-label='Duty of quay/gull']").await;
    browser.fill("#reason", "disk is in").await;
    browser.press("Return").await;
    until("gull is back", async || browser.text(duty).await.contains("in service")).await;

    // A trial shows its verdict and its table.
    browser.press("Try harbour …").await;
    browser.press("Send real requests").await;
    until("the verdict is shown", async || {
        browser.text("[data-testid=verdict]").await.contains("As expected")
    })
    .await;
    let table = browser.text("[data-testid=trial]").await;
    assert!(table.contains("quay/gull 300 50.0 % 50.0 % 0.0 0 0"), "{table}");
    let complaints = browser.client.issue_cmd(ReadLog).await.unwrap();
    let complaints: Vec<_> = complaints.as_array().unwrap().iter().filter(|it| !is_expected(it)).collect();
    assert!(complaints.is_empty(), "{complaints:#?}");
    browser.end().await;
}

/// The browser notes the two refused log-ins: before there was a token, and with the wrong one.
fn is_expected(complaint: &serde_json::Value) -> bool {
    complaint["message"].as_str().is_some_and(|message| message.contains("401 (Unauthorized)"))
}
