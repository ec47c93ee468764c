//! Typed client of the Merismos API, used by the command line, the lab and the tests.
#![forbid(unsafe_code)]

mod error;
mod stream;

use std::time::Duration;

use merismos_api::{
    AddressDetail, AddressOrderRequest, Addresses, AnnouncementDetail, Announcements, ApplyOptions,
    ApplyRequest, Between, CertificateOrder, CertificateView, Certificates, ChangeRequest, Decision,
    Diagnosis, Draft, DraftEdits, DraftReview, Drafts, Drains, DutiesRequest, DutiesResponse, DutyRequest,
    DutyResponse, EventFilter, Events, ExplainResponse, FailbackResponse, FrontendDiagnosis, HandshakeQuery,
    Handshakes, Hosts, Limits, MachineReport, MadeToken, NewDraft, NewToken, NodeOrderRequest, NodeRemoved,
    Nodes, ObjectView, Objects, PinKeyTimes, PinQuery, Pins, PinsRemoved, Probes, ProblemDocument, Refusals,
    RevertRequest, Review, RevisionResponse, Revisions, RollOrderRequest, RollRequest, RollView, Rolls,
    RuleCounts, SentMessages, ServerStatus, Status, TokenResponse, Tokens, TotalsReset, Trial, TrialRequest,
    Trials, TryRequest, TryResponse, WindowQuery, WindowResponse, Windows, WorkReport,
};
use merismos_core::config::object::ObjectKind;
use merismos_core::config::{DocumentFormat, ObjectPath};
use merismos_core::name::{Name, PoolServer};
use merismos_core::text::{is_plain, printable};
use merismos_core::window::WindowPlan;
use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

pub use error::ClientError;
pub use stream::Stream;

/// How long connecting to the service may take.
const CONNECT_LIMIT: Duration = Duration::from_secs(5);
/// How long a call may take; applying waits for the database.
const CALL_LIMIT: Duration = Duration::from_secs(60);

/// Which objects to list.
#[derive(Clone, Debug, Default, Serialize)]
pub struct EventFilterQuery {
    /// Only objects of this kind; all kinds when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<ObjectKind>,
    /// Only what is inside this pool or range.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub inside: Option<String>,
    /// Only objects with this in their texts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
    /// Only objects with these labels, `key=value` or `key` with commas between.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub labels: Option<String>,
    /// Of a draft instead of the running revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub draft: Option<String>,
    /// How many to pass over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offset: Option<u32>,
    /// How many at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// A way to one service, with one token.
#[derive(Clone, Debug)]
pub struct Client {
    http: reqwest::Client,
    url: String,
    token: String,
    /// Texts are made printable as they come.
    is_for_people: bool,
}

/// Fields that the printing code escapes itself, so that their text can be typed again: documents, and what checks send and expect.
const SHOWN_ESCAPED: [&str; 3] = ["document", "send", "expect"];

/// Makes every text in an answer printable.
fn make_printable(value: &mut serde_json::Value) {
    match value {
        serde_json::Value::String(text) => {
            if let std::borrow::Cow::Owned(clean) = printable(text) {
                *text = clean;
            }
        }
        serde_json::Value::Array(values) => values.iter_mut().for_each(make_printable),
        serde_json::Value::Object(entries) => {
            let others = entries.iter_mut().filter(|(key, _)| !SHOWN_ESCAPED.contains(&key.as_str()));
            others.for_each(|(_, node)| make_printable(node));
        }
        serde_json::Value::Null | serde_json::Value::Bool(_) | serde_json::Value::Number(_) => {}
    }
}

/// Reads JSON, and makes its texts printable where people are to see them.
fn from_json<T: DeserializeOwned>(text: &str, is_for_people: bool) -> Result<T, serde_json::Error> {
    // JSON has its control characters escaped, so most answers need no second look.
    let is_clean = text.chars().all(is_plain) && !text.contains("\\u") && !text.contains("\\n");
    if !is_for_people || is_clean {
        return serde_json::from_str(text);
    }
    let mut value = serde_json::from_str(text)?;
    make_printable(&mut value);
    serde_json::from_value(value)
}

impl Client {
    /// A client of the service at `url` (such as `http://127.0.0.1:7480`), with a token.
    ///
    /// # Errors
    /// When the HTTP client can't be made.
    pub fn new(url: &str, token: &str) -> Result<Self, ClientError> {
        let url = url.trim_end_matches('/').to_owned();
        // Refused when the process has one already, which is as good.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let http = reqwest::Client::builder().connect_timeout(CONNECT_LIMIT).no_proxy().build();
        let http = http.map_err(|error| ClientError::from_http(&url, error))?;
        Ok(Self { http, url, token: token.to_owned(), is_for_people: false })
    }

    /// The same, for showing what it answers to people: control characters of others, and those that turn the direction of text,
    /// come escaped.
    #[must_use]
    pub fn for_people(self) -> Self {
        Self { is_for_people: true, ..self }
    }

    /// Address of the service, without a path.
    #[must_use]
    pub fn url(&self) -> &str {
        &self.url
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}/api/v1{path}", self.url)).bearer_auth(&self.token)
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response, ClientError> {
        let response = request.send().await.map_err(|error| ClientError::from_http(&self.url, error))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status().as_u16();
        let text = response.text().await.map_err(|error| ClientError::from_http(&self.url, error))?;
        match from_json::<ProblemDocument>(&text, self.is_for_people) {
            Ok(problem) => Err(ClientError::Refused(Box::new(problem))),
            Err(_) => Err(ClientError::NotMerismos { url: self.url.clone(), status }),
        }
    }

    async fn call<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, ClientError> {
        self.call_within(request, CALL_LIMIT).await
    }

    async fn call_within<T: DeserializeOwned>(
        &self,
        request: RequestBuilder,
        limit: Duration,
    ) -> Result<T, ClientError> {
        let response = self.send(request.timeout(limit)).await?;
        let text = response.text().await.map_err(|error| ClientError::from_http(&self.url, error))?;
        from_json(&text, self.is_for_people)
            .map_err(|source| ClientError::Unreadable { url: self.url.clone(), source })
    }

    async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.call(self.request(Method::GET, path)).await
    }

    async fn write<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, ClientError> {
        self.call(self.request(method, path).json(body)).await
    }

    /// Every token, without the tokens themselves.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn tokens(&self) -> Result<Tokens, ClientError> {
        self.get("/tokens").await
    }

    /// Makes a token.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn create_token(&self, name: &Name) -> Result<MadeToken, ClientError> {
        self.write(Method::POST, "/tokens", &NewToken { name: name.clone() }).await
    }

    /// Takes a token back.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn revoke_token(&self, name: &Name) -> Result<TokenResponse, ClientError> {
        self.call(self.request(Method::DELETE, &format!("/tokens/{name}"))).await
    }

    /// Everything that is going on.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn status(&self) -> Result<Status, ClientError> {
        self.get("/status").await
    }

    /// As [`Self::status`], but where there are very many servers with those of one pool only, or of none.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn short_status(&self, pool: Option<&Name>) -> Result<Status, ClientError> {
        match pool {
            Some(pool) => self.get(&format!("/status?pool={pool}")).await,
            None => self.get("/status?short=true").await,
        }
    }

    /// Makes a document the running revision, or says what that would change.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn apply(&self, request: &ApplyRequest) -> Result<Review, ClientError> {
        self.write(Method::POST, "/apply", request).await
    }

    /// Makes edits the next revision, or says what they would change.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn change(&self, request: &ChangeRequest) -> Result<Review, ClientError> {
        self.write(Method::POST, "/changes", request).await
    }

    /// Objects of the configuration.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn objects(&self, wanted: &EventFilterQuery) -> Result<Objects, ClientError> {
        self.call(self.request(Method::GET, "/objects").query(wanted)).await
    }

    /// One object of the running configuration, or of a draft.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn object(&self, object: &ObjectPath, draft: Option<&Name>) -> Result<ObjectView, ClientError> {
        let wanted =
            EventFilterQuery { draft: draft.map(ToString::to_string), ..EventFilterQuery::default() };
        self.call(self.request(Method::GET, &format!("/objects/{object}")).query(&wanted)).await
    }

    /// Machines, known or seen in pools.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn hosts(&self, wanted: &EventFilterQuery) -> Result<Hosts, ClientError> {
        self.call(self.request(Method::GET, "/hosts").query(wanted)).await
    }

    /// Every draft.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn drafts(&self) -> Result<Drafts, ClientError> {
        self.get("/drafts").await
    }

    /// Begins a draft.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn begin_draft(&self, draft: &NewDraft) -> Result<Draft, ClientError> {
        self.write(Method::POST, "/drafts", draft).await
    }

    /// What a draft would do.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn draft(&self, draft: &Name) -> Result<DraftReview, ClientError> {
        self.get(&format!("/drafts/{draft}")).await
    }

    /// Makes edits in a draft.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn edit_draft(&self, draft: &Name, edits: &DraftEdits) -> Result<DraftReview, ClientError> {
        self.write(Method::POST, &format!("/drafts/{draft}/edits"), edits).await
    }

    /// Makes a draft the running revision.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn deploy_draft(&self, draft: &Name, going: ApplyOptions) -> Result<Review, ClientError> {
        self.write(Method::POST, &format!("/drafts/{draft}/deploy"), &RevertRequest { going }).await
    }

    /// Makes a draft begin from what runs now.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn rebase_draft(&self, draft: &Name) -> Result<DraftReview, ClientError> {
        self.call(self.request(Method::POST, &format!("/drafts/{draft}/rebase"))).await
    }

    /// Throws a draft away.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn discard_draft(&self, draft: &Name) -> Result<(), ClientError> {
        let request = self.request(Method::DELETE, &format!("/drafts/{draft}")).timeout(CALL_LIMIT);
        self.send(request).await.map(drop)
    }

    /// The newest revisions.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn revisions(&self, before: Option<u64>, limit: u32) -> Result<Revisions, ClientError> {
        let before = before.map_or_else(String::new, |before| format!("&before={before}"));
        self.get(&format!("/revisions?limit={limit}{before}")).await
    }

    /// One revision.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn revision(&self, number: u64) -> Result<RevisionResponse, ClientError> {
        self.get(&format!("/revisions/{number}")).await
    }

    /// What changed between two revisions.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn compare(&self, from: u64, to: u64) -> Result<Between, ClientError> {
        self.get(&format!("/compare?from={from}&to={to}")).await
    }

    /// Makes an older revision's content the newest revision.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn revert(&self, number: u64, going: ApplyOptions) -> Result<Review, ClientError> {
        self.write(Method::POST, &format!("/revisions/{number}/revert"), &RevertRequest { going }).await
    }

    /// The running document as text.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn document(&self, format: DocumentFormat) -> Result<String, ClientError> {
        let format = match format {
            DocumentFormat::Toml => "toml",
            DocumentFormat::Json => "json",
        };
        let request = self.request(Method::GET, &format!("/document?format={format}")).timeout(CALL_LIMIT);
        let response = self.send(request).await?;
        response.text().await.map_err(|error| ClientError::from_http(&self.url, error))
    }

    /// Gives a server a duty.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn duty(
        &self,
        server: &PoolServer,
        request: &DutyRequest,
    ) -> Result<DutyResponse, ClientError> {
        let path = format!("/servers/{}/{}/duty", server.pool, server.server);
        self.write(Method::POST, &path, request).await
    }

    /// Gives several servers a duty in one order, and waits for so long at most until what was ordered is reached.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn duties(
        &self,
        request: &DutiesRequest,
        wait: Option<Duration>,
    ) -> Result<DutiesResponse, ClientError> {
        let Some(wait) = wait else { return self.write(Method::POST, "/duties", request).await };
        let path = format!("/duties?wait={}ms", wait.as_millis());
        self.call_within(self.request(Method::POST, &path).json(request), CALL_LIMIT + wait).await
    }

    /// One server: configuration, duty, health and traffic.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn server(&self, server: &PoolServer) -> Result<ServerStatus, ClientError> {
        self.get(&format!("/servers/{}/{}", server.pool, server.server)).await
    }

    /// Pins of a pool that are kept by the service.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn pins(&self, pool: &Name, query: &PinQuery) -> Result<Pins, ClientError> {
        self.call(self.request(Method::GET, &format!("/pools/{pool}/pins")).query(query)).await
    }

    /// Removes pins of a pool; their clients are distributed anew.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn remove_pins(&self, pool: &Name, query: &PinQuery) -> Result<PinsRemoved, ClientError> {
        self.call(self.request(Method::DELETE, &format!("/pools/{pool}/pins")).query(query)).await
    }

    /// Every server that operators took out of service, and how far that is.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn drains(&self) -> Result<Drains, ClientError> {
        self.get("/drains").await
    }

    /// Windows, with their times in so many days.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn windows(&self, query: &WindowQuery) -> Result<Windows, ClientError> {
        self.call(self.request(Method::GET, "/windows").query(query)).await
    }

    /// Windows as a calendar: iCalendar (RFC 5545).
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn windows_calendar(&self, query: &WindowQuery) -> Result<String, ClientError> {
        let request = self.request(Method::GET, "/windows.ics").query(query).timeout(CALL_LIMIT);
        let response = self.send(request).await?;
        response.text().await.map_err(|error| ClientError::from_http(&self.url, error))
    }

    /// Plans a window, or plans it anew.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn put_window(&self, name: &Name, plan: &WindowPlan) -> Result<WindowResponse, ClientError> {
        self.write(Method::PUT, &format!("/windows/{name}"), plan).await
    }

    /// Removes a window.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn remove_window(&self, name: &Name) -> Result<(), ClientError> {
        let request = self.request(Method::DELETE, &format!("/windows/{name}")).timeout(CALL_LIMIT);
        self.send(request).await.map(drop)
    }

    /// Rolls, the newest first.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn rolls(&self) -> Result<Rolls, ClientError> {
        self.get("/rolls").await
    }

    /// One roll.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn roll(&self, id: u64) -> Result<RollView, ClientError> {
        self.get(&format!("/rolls/{id}")).await
    }

    /// Begins a roll, or says how it would begin. The same call with the same `key` begins no second one.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn begin_roll(
        &self,
        request: &RollRequest,
        key: Option<&str>,
    ) -> Result<RollView, ClientError> {
        let mut call = self.request(Method::POST, "/rolls").json(request);
        if let Some(key) = key {
            call = call.header("Idempotency-Key", key);
        }
        self.call(call.timeout(CALL_LIMIT)).await
    }

    /// Has a roll pause, go on or end.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn order_roll(&self, id: u64, order: &RollOrderRequest) -> Result<RollView, ClientError> {
        self.write(Method::POST, &format!("/rolls/{id}/order"), order).await
    }

    /// Reports the work on a server of a roll.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn report_work(&self, id: u64, report: &WorkReport) -> Result<RollView, ClientError> {
        self.write(Method::POST, &format!("/rolls/{id}/work"), report).await
    }

    /// Since when cookies that tie clients are signed with which key.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn pin_key(&self) -> Result<PinKeyTimes, ClientError> {
        self.get("/pin-key").await
    }

    /// What clients are shown.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn certificates(&self) -> Result<Certificates, ClientError> {
        self.get("/certificates").await
    }

    /// Orders a certificate from its authority now.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn order_certificate(
        &self,
        name: &Name,
        order: CertificateOrder,
    ) -> Result<CertificateView, ClientError> {
        let path = format!("/certificates/{name}/orders");
        self.call(self.request(Method::POST, &path).json(&order)).await
    }

    /// What clients are shown that ask for a host.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn handshakes(&self, query: &HandshakeQuery) -> Result<Handshakes, ClientError> {
        self.call(self.request(Method::GET, "/certificates/handshakes").query(query)).await
    }

    /// Draws a new key that cookies are signed with.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn renew_pin_key(&self) -> Result<PinKeyTimes, ClientError> {
        self.write(Method::POST, "/pin-key", &()).await
    }

    /// Counts the totals of all servers anew from now on.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn reset_totals(&self) -> Result<TotalsReset, ClientError> {
        self.write(Method::POST, "/totals/reset", &()).await
    }

    /// Sends the work of a pool back to the lowest tier that can do it.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn fail_back(&self, pool: &Name) -> Result<FailbackResponse, ClientError> {
        self.write(Method::POST, &format!("/pools/{pool}/failback"), &()).await
    }

    /// Which server a request would go to; `facts` are the call's parameters (`client`, `path`, `host`, `cookie`,
    /// `header`).
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn explain(
        &self,
        frontend: &Name,
        facts: &[(&str, String)],
    ) -> Result<ExplainResponse, ClientError> {
        let path = format!("/frontends/{frontend}/explain");
        self.call(self.request(Method::GET, &path).query(facts)).await
    }

    /// Limits of clients with what they did.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn limits(&self) -> Result<Limits, ClientError> {
        self.call(self.request(Method::GET, "/limits")).await
    }

    /// The nodes that share the database of the one that answers.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn nodes(&self) -> Result<Nodes, ClientError> {
        self.call(self.request(Method::GET, "/nodes")).await
    }

    /// Whether the machine of the node that answers is enough for it.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn machine(&self) -> Result<MachineReport, ClientError> {
        self.call(self.request(Method::GET, "/machine")).await
    }

    /// Every object of announced addresses, and which node announces what.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn announcements(&self) -> Result<Announcements, ClientError> {
        self.call(self.request(Method::GET, "/announcements")).await
    }

    /// One object of announced addresses, with the sessions of the node that answers.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn announcement(&self, name: &Name) -> Result<AnnouncementDetail, ClientError> {
        self.call(self.request(Method::GET, &format!("/announcements/{name}"))).await
    }

    /// Every object of addresses that move between nodes, and who holds it.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn addresses(&self) -> Result<Addresses, ClientError> {
        self.call(self.request(Method::GET, "/addresses")).await
    }

    /// One object of addresses, with the advertisements that the node sent and heard.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn address(&self, name: &Name) -> Result<AddressDetail, ClientError> {
        self.call(self.request(Method::GET, &format!("/addresses/{name}"))).await
    }

    /// Moves addresses to a node, holds them, or ends an order.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn order_address(
        &self,
        name: &Name,
        request: &AddressOrderRequest,
    ) -> Result<AddressDetail, ClientError> {
        self.call(self.request(Method::POST, &format!("/addresses/{name}/order")).json(request)).await
    }

    /// Drains a node of its addresses, or lets it take part again.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn order_node(
        &self,
        node: &Name,
        request: &NodeOrderRequest,
    ) -> Result<Addresses, ClientError> {
        self.call(self.request(Method::POST, &format!("/nodes/{node}/order")).json(request)).await
    }

    /// Forgets a node that is gone, by its name or the first digits of its identity.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn remove_node(&self, node: &str) -> Result<NodeRemoved, ClientError> {
        self.call(self.request(Method::DELETE, &format!("/nodes/{node}"))).await
    }

    /// The rules of a frontend with what they counted.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn rule_counts(&self, frontend: &Name) -> Result<RuleCounts, ClientError> {
        self.call(self.request(Method::GET, &format!("/frontends/{frontend}/rules"))).await
    }

    /// Whom a frontend refused since the node started.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn refusals(&self, frontend: &Name) -> Result<Refusals, ClientError> {
        self.call(self.request(Method::GET, &format!("/frontends/{frontend}/refusals"))).await
    }

    /// Runs a check once on some servers.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn try_check(&self, check: &Name, request: &TryRequest) -> Result<TryResponse, ClientError> {
        self.call(self.request(Method::POST, &format!("/checks/{check}/try")).json(request)).await
    }

    /// The last probes of a server.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn probes(&self, server: &PoolServer) -> Result<Probes, ClientError> {
        self.call(self.request(Method::GET, &format!("/servers/{}/{}/probes", server.pool, server.server)))
            .await
    }

    /// Finds the step at which a server fails.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn diagnose(&self, server: &PoolServer) -> Result<Diagnosis, ClientError> {
        let path = format!("/servers/{}/{}/diagnosis", server.pool, server.server);
        self.call(self.request(Method::POST, &path)).await
    }

    /// Finds out whether clients of a frontend get through that ask for a host, and if not, why.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn diagnose_frontend(
        &self,
        frontend: &Name,
        host: Option<&str>,
    ) -> Result<FrontendDiagnosis, ClientError> {
        let request = self.request(Method::POST, &format!("/frontends/{frontend}/diagnosis"));
        self.call(request.query(&[("host", host)])).await
    }

    /// The newest messages to people.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn messages(&self, limit: u32) -> Result<SentMessages, ClientError> {
        self.get(&format!("/notifications?limit={limit}")).await
    }

    /// Sends a message that only says that it is a try.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn try_message(&self, name: &Name) -> Result<SentMessages, ClientError> {
        self.call(self.request(Method::POST, &format!("/notifications/{name}/try"))).await
    }

    /// The newest events.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn events(&self, limit: u32) -> Result<Events, ClientError> {
        self.get(&format!("/events?limit={limit}")).await
    }

    /// The newest events that are wanted, at most 1000.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn events_like(&self, filter: &EventFilter, limit: u32) -> Result<Events, ClientError> {
        let kinds: Vec<_> = filter.kinds.iter().map(|kind| kind.word()).collect();
        let facts: [(&str, Option<String>); 7] = [
            ("limit", Some(limit.to_string())),
            ("before", filter.before.map(|before| before.to_string())),
            ("kind", (!kinds.is_empty()).then(|| kinds.join(","))),
            ("object", filter.object.clone()),
            ("by", filter.by.clone()),
            ("since", filter.since.map(|since| since.to_string())),
            ("until", filter.until.map(|until| until.to_string())),
        ];
        let facts: Vec<_> = facts.into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
        self.call(self.request(Method::GET, "/events").query(&facts)).await
    }

    /// Begins a trial.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn begin_trial(&self, request: &TrialRequest) -> Result<Trial, ClientError> {
        self.write(Method::POST, "/trials", request).await
    }

    /// One trial.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn trial(&self, id: u64) -> Result<Trial, ClientError> {
        self.get(&format!("/trials/{id}")).await
    }

    /// The newest trials.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn trials(&self) -> Result<Trials, ClientError> {
        self.get("/trials").await
    }

    /// The live stream.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn stream(&self) -> Result<Stream, ClientError> {
        let response = self.send(self.request(Method::GET, "/stream")).await?;
        Ok(Stream::new(self.url.clone(), response, self.is_for_people))
    }

    /// Decisions as they are made, of all frontends or of one.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn decisions(&self, frontend: Option<&Name>) -> Result<Stream<Decision>, ClientError> {
        let query: Vec<_> = frontend.map(|name| ("frontend", name.to_string())).into_iter().collect();
        let response = self.send(self.request(Method::GET, "/decisions").query(&query)).await?;
        Ok(Stream::new(self.url.clone(), response, self.is_for_people))
    }
}
