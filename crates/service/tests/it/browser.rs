//! A real browser: Debian's Chromium, driven by the console's own driver (`console/tests/bridge.mjs`), one command a line.

use std::path::Path;
use std::process::Stdio;

use serde_json::{Value, json};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader, Lines};
use tokio::process::{Child, ChildStdin, ChildStdout, Command};
use tokio::sync::Mutex;

use crate::harness::{PATIENCE, Service, until};

/// How much longer than the browser's own waits an answer of it is waited for.
const GRACE: u32 = 2;

#[derive(Debug)]
struct Pipes {
    commands: ChildStdin,
    answers: Lines<BufReader<ChildStdout>>,
}

/// A real browser, with what pages need to be tried as a person would. Elements are named by CSS selectors, or by XPath after `xpath=`.
#[derive(Debug)]
pub(crate) struct Browser {
    driver: Child,
    pipes: Mutex<Pipes>,
}

impl Browser {
    pub(crate) async fn start() -> Self {
        let console = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console");
        let mut driver = Command::new("node")
            .arg("tests/bridge.mjs")
            .current_dir(console)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .expect("node is installed");
        let commands = driver.stdin.take().expect("it is a pipe");
        let answers = BufReader::new(driver.stdout.take().expect("it is a pipe")).lines();
        Self { driver, pipes: Mutex::new(Pipes { commands, answers }) }
    }

    /// Has the browser do something; gives what comes of it.
    async fn order(&self, command: Value) -> Value {
        let mut pipes = self.pipes.lock().await;
        pipes.commands.write_all(format!("{command}\n").as_bytes()).await.expect("the driver runs");
        let line = tokio::time::timeout(PATIENCE * GRACE, pipes.answers.next_line()).await;
        let line = line.unwrap_or_else(|_| panic!("no answer to {command}")).expect("the driver runs");
        let mut answer: Value = serde_json::from_str(&line.expect("the driver runs")).unwrap();
        assert!(answer.get("error").is_none(), "{command}: {}", answer["error"]);
        answer["value"].take()
    }

    pub(crate) async fn goto(&self, url: &str) {
        self.order(json!({ "do": "goto", "url": url })).await;
    }

    /// Goes on in another tab.
    pub(crate) async fn new_tab(&self) {
        self.order(json!({ "do": "newPage" })).await;
    }

    pub(crate) async fn url(&self) -> url::Url {
        self.order(json!({ "do": "url" })).await.as_str().unwrap().parse().unwrap()
    }

    pub(crate) async fn title(&self) -> String {
        self.order(json!({ "do": "title" })).await.as_str().unwrap().to_owned()
    }

    /// How many elements there are.
    pub(crate) async fn count(&self, selector: &str) -> u64 {
        self.order(json!({ "do": "count", "selector": selector })).await.as_u64().unwrap()
    }

    pub(crate) async fn wait_for(&self, selector: &str) {
        self.order(json!({ "do": "waitFor", "selector": selector })).await;
    }

    /// The text of an element as a person sees it; empty when it is not there.
    pub(crate) async fn text(&self, selector: &str) -> String {
        let text = self.order(json!({ "do": "text", "selector": selector })).await;
        text.as_str().map(str::to_owned).unwrap_or_default()
    }

    pub(crate) async fn click(&self, selector: &str) {
        self.order(json!({ "do": "click", "selector": selector })).await;
    }

    /// Types behind what stands in a field.
    pub(crate) async fn fill(&self, selector: &str, text: &str) {
        self.order(json!({ "do": "type", "selector": selector, "text": text })).await;
    }

    /// As [`Self::type_over`], into the field with this label.
    pub(crate) async fn set(&self, label: &str, text: &str) {
        let field = format!("xpath=//*[@id=//label[starts-with(normalize-space(), '{label}')]/@for]");
        self.type_over(&field, text).await;
    }

    /// Types in place of what stands in a field. A tab or a line end at the end of the text presses that key.
    pub(crate) async fn type_over(&self, selector: &str, text: &str) {
        let (typed, key) = match (text.strip_suffix('\t'), text.strip_suffix('\n')) {
            (Some(typed), _) => (typed, Some("Tab")),
            (None, Some(typed)) => (typed, Some("Enter")),
            (None, None) => (text, None),
        };
        self.order(json!({ "do": "replace", "selector": selector, "text": typed, "press": key })).await;
    }

    /// Chooses an entry of a list by its value.
    pub(crate) async fn choose(&self, selector: &str, value: &str) {
        self.order(json!({ "do": "choose", "selector": selector, "value": value })).await;
    }

    /// Waits until the consequences of what was typed tell this, then makes it live.
    pub(crate) async fn make_live(&self, button: &str, tells: &str) {
        until(tells, async || self.text("[data-testid=consequences]").await.contains(tells)).await;
        self.click(&format!("xpath=//button[normalize-space()='{button}' and not(@disabled)]")).await;
    }

    pub(crate) async fn log_in(&self, service: &Service) {
        self.goto(&service.url()).await;
        self.fill("#token", &service.token()).await;
        self.press("Log in").await;
        self.wait_for("nav").await;
    }

    pub(crate) async fn go(&self, page: &str) {
        self.click(&format!("nav a[href='{page}']")).await;
    }

    /// What stands in a field; empty when it is not there.
    pub(crate) async fn value(&self, selector: &str) -> String {
        let value = self.order(json!({ "do": "value", "selector": selector })).await;
        value.as_str().map(str::to_owned).unwrap_or_default()
    }

    pub(crate) async fn attribute(&self, selector: &str, name: &str) -> Option<String> {
        let value = self.order(json!({ "do": "attribute", "selector": selector, "name": name })).await;
        value.as_str().map(str::to_owned)
    }

    /// An attribute of every such element.
    pub(crate) async fn attributes(&self, selector: &str, name: &str) -> Vec<String> {
        let values = self.order(json!({ "do": "attributes", "selector": selector, "name": name })).await;
        serde_json::from_value(values).unwrap()
    }

    /// Runs the body of a function in the page.
    pub(crate) async fn run(&self, script: &str, arguments: Vec<Value>) -> Value {
        self.order(json!({ "do": "run", "script": script, "arguments": arguments })).await
    }

    /// The names of the cookies that the browser has.
    pub(crate) async fn cookies(&self) -> Vec<String> {
        serde_json::from_value(self.order(json!({ "do": "cookies" })).await).unwrap()
    }

    pub(crate) async fn clear_cookies(&self) {
        self.order(json!({ "do": "clearCookies" })).await;
    }

    /// Loads the page anew, after the browser would have asked whether what was typed may be lost.
    pub(crate) async fn reload_against_a_question(&self) {
        let asks = "const event = new Event('beforeunload', { cancelable: true }); return !window.dispatchEvent(event)";
        assert_eq!(self.run(asks, Vec::new()).await, json!(true), "the browser would not ask");
        self.order(json!({ "do": "reload" })).await;
    }

    /// Gives the window another width.
    pub(crate) async fn narrow_to(&self, width: u32) {
        self.order(json!({ "do": "size", "width": width, "height": 800 })).await;
    }

    /// Texts that lie over each other; empty when none does.
    pub(crate) async fn overlaps(&self, css: &str) -> String {
        let script = "const all = [...document.querySelectorAll(arguments[0])].map((text) => [text.textContent, text.getBoundingClientRect()]); \
            const over = all.flatMap(([one, a], i) => all.slice(i + 1).flatMap(([other, b]) => \
              a.left < b.right && b.left < a.right && a.top + 3 < b.bottom && b.top + 3 < a.bottom ? [one + ' / ' + other] : [])); \
            return over.join(' | ')";
        self.run(script, vec![json!(css)]).await.as_str().unwrap_or("?").to_owned()
    }

    /// The elements that stand out of the window, in words; empty when none does.
    pub(crate) async fn overhang(&self) -> String {
        let script = "const most = document.documentElement.clientWidth; \
            const open = document.querySelector('dialog[open]'); \
            if (document.documentElement.scrollWidth <= most && (!open || open.scrollWidth <= open.clientWidth)) return ''; \
            const edge = (open?.getBoundingClientRect().right ?? most) + 1; \
            const out = [...(open ?? document.body).querySelectorAll('*')].filter((part) => part.getBoundingClientRect().right > edge); \
            return document.documentElement.scrollWidth + ' of ' + most + ': ' + \
            out.slice(0, 6).map((part) => part.tagName + '.' + part.className + ' ' + (part.textContent ?? '').slice(0, 40)).join(' | ')";
        self.run(script, Vec::new()).await.as_str().unwrap_or("?").to_owned()
    }

    /// What the browser's log complains of.
    pub(crate) async fn complaints(&self) -> Vec<Value> {
        let complaints = self.order(json!({ "do": "complaints" })).await;
        complaints.as_array().unwrap().iter().filter(|complaint| !is_expected(complaint)).cloned().collect()
    }

    pub(crate) async fn press(&self, text: &str) {
        self.click(&format!("xpath=//button[normalize-space()='{text}']")).await;
    }

    pub(crate) async fn end(self) {
        let Self { mut driver, pipes } = self;
        // The end of its commands ends the browser, and then the driver.
        drop(pipes);
        let ended = tokio::time::timeout(PATIENCE, driver.wait()).await;
        assert!(ended.expect("the driver ends").unwrap().success());
    }
}

/// The browser notes the two refused log-ins: before there was a token, and with the wrong one. It notes each preview of a form that is refused as well,
/// as one may be that is asked for between two fields, or while an object goes away; the form shows why.
pub(crate) fn is_expected(complaint: &Value) -> bool {
    let is_refused_preview = |message: &str| {
        message.contains("/api/v1/changes: ") && message.contains("the server responded with a status of 4")
    };
    complaint["message"]
        .as_str()
        .is_some_and(|message| message.contains("401 (Unauthorized)") || is_refused_preview(message))
}
