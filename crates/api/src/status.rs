//! The status: configuration, duty and health side by side, with the one answer.

use merismos_core::duty::DutyOrder;
use merismos_core::eligibility::IneligibleReason;
use merismos_core::health::timing::DetectionTiming;
use merismos_core::health::{Evidence, HealthState, ServerFeedback};
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::duty::DrainingStatus;
use crate::limits::LimitTrace;
use crate::rules::{RuledPool, RulesView};

/// Everything that is going on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// When this was so.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// The node that answers: version, start, limits and their use.
    pub node: Node,
    /// The revision that runs, and who made it.
    pub revision: RevisionStatus,
    /// Whether what happens is recorded.
    pub records: StoreStatus,
    /// What is wrong, a sentence each, the worst first; empty when all is well.
    pub troubles: Vec<String>,
    /// How many servers there are in all pools.
    pub servers: u64,
    /// Whether servers were left out of some pools because there are very many; ask for a pool by its name.
    pub shortened: bool,
    /// Frontends in the order of their names.
    pub frontends: Vec<FrontendStatus>,
    /// Pools in the order of their names.
    pub pools: Vec<PoolStatus>,
}

/// The service that answers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Node {
    /// What it is called (`--node`).
    pub name: String,
    /// Version of the software.
    pub version: String,
    /// When this run of the service started.
    #[schema(value_type = String, format = DateTime)]
    pub started: Wall,
    /// Since when totals count: when it started, or the first of the services that took over from each other by upgrades.
    #[schema(value_type = String, format = DateTime)]
    pub counted_since: Wall,
    /// When the totals were reset; absent when they never were.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub totals_reset: Option<Wall>,
    /// How many workers it has.
    pub workers: u64,
    /// How many nodes share its database, itself among them; each probes for itself.
    pub nodes: u64,
    /// Whether it does the work that one node has to do: windows, rolls, and messages to people.
    pub leads: bool,
    /// Probes that it has started.
    pub probes: u64,
    /// Those of them that began more than 5 ms after their time.
    pub late_probes: u64,
    /// Bytes that lie here now for clients that do not read or go on.
    pub client_memory: u64,
    /// How many may: beyond, those that hold most are ended.
    pub client_memory_limit: u64,
    /// Connections of the API and the console now.
    pub api_connections: u64,
    /// Event streams among them.
    pub api_streams: u64,
    /// Connections and event streams of the API that were refused since the start, because there were too many.
    pub api_turned_away: u64,
    /// Connections of the API that were refused since the start because their clients are not let in (`--api-allow`).
    pub api_denied: u64,
    /// Calls and log-ins with a wrong token since the start.
    pub wrong_tokens: u64,
}

/// The running revision, with its author and note.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionStatus {
    /// Its number; 0 before the first.
    pub number: u64,
    /// Name of the token that made the revision.
    pub author: String,
    /// The note that its author left; may be empty.
    pub note: String,
    /// When the revision was made.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
}

/// Whether what happens is recorded in the database.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StoreStatus {
    /// The database takes records.
    pub kept: bool,
    /// Records that wait for the database.
    pub waiting: u64,
    /// Records that were lost because too many waited.
    pub lost: u64,
    /// Records that the database refused for what they are; the service's log holds them.
    pub refused: u64,
    /// Which record was refused last, and why.
    pub refused_why: Option<String>,
    /// Why the database does not take them.
    pub why: Option<String>,
}

/// A frontend: where it listens, what it counts, where its work goes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FrontendStatus {
    /// Name of the frontend, unique among frontends.
    pub name: String,
    /// What its clients speak: `http`, `tcp` or `udp`.
    pub protocol: String,
    /// What is distributed: `request`, `connection`, `flow` or `datagram`.
    pub unit: String,
    /// Address and port where it listens, or the reserved address behind it.
    pub listen: String,
    /// Whether its clients speak TLS.
    pub tls: bool,
    /// Whether its clients are asked for certificates: `optional`, `required`; absent where they are not.
    pub client_certificates: Option<String>,
    /// Its pool, or the first of several.
    pub pool: String,
    /// All of its pools, where it has several, with the part of its work that each gets.
    pub pools: Vec<PoolShare>,
    /// TLS that it passes on as it comes, by the server names (SNI) that clients ask for.
    pub passthrough: Vec<PassedNames>,
    /// The pools that its rules send requests to.
    pub ruled_pools: Vec<RuledPool>,
    /// Whether it does listen.
    pub listening: bool,
    /// What is wrong with it.
    pub trouble: Option<String>,
    /// Clients connected right now.
    pub connections: u64,
    /// Requests a second, over the last 10 seconds.
    pub per_second: f64,
    /// Connections refused in the last minute because too many were there.
    pub turned_away: u64,
    /// Requests refused in the last minute for what they were (4xx of our own).
    pub refused: u64,
    /// Connections, flows and requests of the last minute of clients that are not let in (`allow`, `deny`).
    pub denied: u64,
    /// Connections, flows and requests of the last minute that a limit refused.
    pub limited: u64,
    /// Requests of the last minute for which no server was eligible (503).
    pub unavailable: u64,
    /// Requests of the last minute that no server answered properly (502, 504, broken off).
    pub unanswered: u64,
    /// Requests of the last minute that servers answered with 5xx.
    pub errors: u64,
    /// Connections, and requests over HTTP/2, of the last minute that were ended because their clients held too much memory.
    pub cut_for_memory: u64,
    /// TLS handshakes of the last minute that began a session.
    pub handshakes: u64,
    /// TLS handshakes of the last minute that took a session up again.
    pub resumed: u64,
    /// TLS handshakes of the last minute that came to nothing.
    pub bad_handshakes: u64,
    /// Why the last one of them did.
    pub bad_handshake: Option<String>,
    /// Clients of the last minute that spoke TLS where plain text is spoken, or plain text where TLS is.
    pub wrong_protocol: u64,
    /// Whether it redirects every request to where TLS is spoken.
    pub redirects: bool,
    /// Requests of the last minute that it redirected.
    pub redirected: u64,
    /// Requests and handshakes of the last minute by which an authority of certificates saw that a name is ours.
    pub challenges: u64,
}

/// A pool: its check, its servers, and what they get.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PoolStatus {
    /// Name of the pool, unique among pools.
    pub name: String,
    /// How it distributes work.
    pub algorithm: String,
    /// What decides its servers' shares besides their weights; absent where weights alone do. Where it is there, the servers'
    /// expected shares are what their weights say, and not what is to be expected of each.
    pub shares_go_by: Option<String>,
    /// The check of its servers; absent when they are not probed.
    pub check: Option<CheckStatus>,
    /// More checks that are made with it, in words.
    pub more_checks: Vec<String>,
    /// Whether work goes to servers that fail because none passes.
    pub sends_to_all: bool,
    /// How its servers are spoken to.
    pub server_tls: ServerTrust,
    /// Why the last handshake with a server of it failed; absent when none did within a minute.
    pub server_tls_failure: Option<String>,
    /// How many servers it has.
    pub size: u64,
    /// How many of its servers are eligible.
    pub eligible: u64,
    /// How many of its servers are down or failing.
    pub failing: u64,
    /// How many times servers of it went down today (UTC), as far as this run of the service saw it.
    pub downs_today: u32,
    /// Requests a second that it took, over the last 10 seconds.
    pub per_second: f64,
    /// The tier that works; absent when no server is eligible.
    pub tier: Option<u8>,
    /// Whether work is bound to that tier although a lower one could work.
    pub held: bool,
    /// How much work waits because every eligible server is full.
    pub waiting: u64,
    /// How much work has waited in vain since the service started.
    pub waited_in_vain: u64,
    /// How often since then work that a server failed was not offered to another, for so much may not (`retry_share`).
    pub retries_withheld: u64,
    /// DNS names whose answers are servers of it.
    pub lookups: Vec<LookupStatus>,
    /// Servers in the order of their names; left out when there are very many and this pool was not asked for.
    pub servers: Vec<ServerStatus>,
}

/// Whether traffic to servers is encrypted and verified.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ServerTrust {
    /// In plain text.
    Plain,
    /// In TLS: name, dates and signature of certificates are verified.
    Verified,
    /// In TLS: one certificate alone passes.
    Pinned,
    /// In TLS with whoever answers.
    Unverified,
}

/// What a frontend with several pools sends to one of them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PoolShare {
    /// Name of the pool that gets this share.
    pub pool: String,
    /// Whether enough of its servers are eligible.
    pub usable: bool,
    /// The expected part of the frontend's work, 0 to 1; absent where it depends on the client.
    pub expected: Option<f64>,
}

/// Server names whose TLS a frontend passes on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PassedNames {
    /// The names; one with `*` in place of its first label is for every name that differs there.
    pub names: Vec<String>,
    /// The pool that gets them.
    pub pool: String,
    /// Whether one of its servers is eligible.
    pub usable: bool,
}

/// A DNS name whose answers are servers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookupStatus {
    /// Its name in the pool.
    pub lookup: String,
    /// DNS name that is looked up.
    pub name: String,
    /// How many servers it has found.
    pub found: u64,
    /// When the last answer came; absent before the first.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub at: Option<Wall>,
    /// Why the last question had no good answer.
    pub trouble: Option<String>,
}

/// The check of a pool, with its timing and its cost.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckStatus {
    /// Name of the check, unique among checks.
    pub name: String,
    /// What it asks, in words.
    pub asks: String,
    /// What its timing means.
    pub timing: DetectionTiming,
    /// How many probes a server of the pool gets in a minute, at most: from all nodes, by all checks of all pools that
    /// have its address, while it answers at once.
    pub probes_per_minute: u64,
    /// What would meet a failure before it is noticed, at the rate of the last 10 seconds.
    pub at_stake: AtStake,
}

/// How much work goes to a server between its failure and `down`, at the rate of the last 10 seconds. What is refused is
/// offered to another server; what meets silence waits for its timeout first.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AtStake {
    /// Requests a second at the pool's server with the largest expected share.
    pub per_second: f64,
    /// Requests that meet a failure on average before it is noticed.
    pub average: u64,
    /// Requests that meet a failure at worst before it is noticed.
    pub worst: u64,
}

/// A server: the three truths, the one answer, and what was observed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServerStatus {
    /// The server, as `pool/server`.
    pub server: String,
    /// Configuration: where it listens.
    pub address: String,
    /// Configuration: weight of the server, 0 to 1000.
    pub weight: u16,
    /// Configuration: tier of the server; 0 works first.
    pub tier: u8,
    /// How far it has come on its ramp, 0 to 1; absent when it is on none.
    pub ramp: Option<f64>,
    /// Whether it has reached one of its limits, and is passed over.
    pub full: bool,
    /// The lookup that found it; absent for one that stands in the document.
    pub found_by: Option<String>,
    /// Duty: what the operators said; absent without an order.
    pub duty: Option<DutyOrder>,
    /// Health: what probes saw.
    pub health: HealthStatus,
    /// The answer: may it get new work?
    pub eligible: bool,
    /// Why it is not eligible; absent when it is.
    pub reason: Option<IneligibleReason>,
    /// Why not, in words.
    pub reason_words: Option<String>,
    /// The expected share of the pool's new work, 0 to 1.
    pub expected: f64,
    /// What its traffic was: rates, failures and response times.
    pub observed: Observed,
    /// How long it takes; absent when nothing was measured in the last minute.
    pub latency: Option<Latency>,
    /// The totals since `counted_since` of the node.
    pub totals: Totals,
    /// The totals since the last reset; absent when there was none.
    pub since_reset: Option<Totals>,
    /// Requests at the server right now.
    pub in_flight: u64,
    /// How many requests may be in flight at it as its response times are now; absent where the pool has no `adaptive_limit`.
    pub adaptive_limit: Option<u64>,
    /// How many clients are tied to it by pins that are kept here; absent where the pool keeps none.
    pub pins: Option<u64>,
    /// How far it is drained; absent when it is not drained.
    pub draining: Option<DrainingStatus>,
}

/// Health of a server, with the evidence for it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HealthStatus {
    /// Whether the pool has a check; if not, the server is taken to work.
    pub checked: bool,
    /// The state of its health machine.
    pub state: HealthState,
    /// Since when it has this state.
    #[schema(value_type = String, format = DateTime)]
    pub since: Wall,
    /// Where the state is older than this run of the service: until when an earlier run watched the server. From then until this
    /// run's start no node did.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub watched_until: Option<Wall>,
    /// The last probe that ended; absent before the first one.
    pub last_probe: Option<Evidence>,
    /// Failures in a row from now that would make it down.
    pub failures_to_down: Option<u32>,
    /// Passes in a row from now that would make it up.
    pub passes_to_up: Option<u32>,
    /// What it asks for in its answers, where its check listens.
    pub feedback: Option<ServerFeedback>,
    /// Whether it keeps changing.
    pub flapping: bool,
    /// It is not up before this, whatever its probes say, for it keeps changing.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub held_until: Option<Wall>,
    /// How many times it went down today (UTC), as far as this run of the service saw it.
    pub downs_today: u32,
}

/// How long a server took until it had answered, for some of its work of the last minute: all of it where there is little, and up to four
/// pieces a second from each worker.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Latency {
    /// How many were measured.
    pub measured: u32,
    /// Half of them took no longer, in microseconds.
    pub median_us: u32,
    /// 99 of a hundred took no longer, in microseconds.
    pub p99_us: u32,
}

/// Totals of a server.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Totals {
    /// Requests that it took.
    pub taken: u64,
    /// Connections and answers that failed.
    pub failed: u64,
    /// Requests that failed here and were given to another server.
    pub retried: u64,
    /// Answers with a status of 500 and above.
    pub errors: u64,
    /// Bytes that went to it for clients.
    pub bytes_to: u64,
    /// Bytes of its answers that went on to clients.
    pub bytes_from: u64,
}

/// What was observed over two windows.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Observed {
    /// The last 10 seconds.
    pub ten_seconds: TrafficPeriod,
    /// What happened within the last minute.
    pub minute: TrafficPeriod,
}

/// What a server did in a window of time.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TrafficPeriod {
    /// Its share of the pool's requests, 0 to 1; absent when the pool had none.
    pub share: Option<f64>,
    /// Its share of the clients that were tied to no server before; absent when there was none, and where nothing ties clients.
    #[serde(default)]
    pub new_share: Option<f64>,
    /// Requests that it took, a second.
    pub per_second: f64,
    /// Connections and answers that failed.
    pub failed: u64,
    /// Requests that failed here and were given to another server.
    pub retried: u64,
    /// Answers with a status of 500 and above.
    pub errors: u64,
}

/// Where the next request would go, and why nowhere else.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExplainResponse {
    /// Name of the frontend that was asked about.
    pub frontend: String,
    /// The pool that it sends its clients to.
    pub pool: String,
    /// Why the pool was chosen, in words, where the frontend has several.
    pub why_pool: Option<String>,
    /// The same as a value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub pool_reason: Option<merismos_core::routing::WhyPool>,
    /// How the pool distributes work.
    pub algorithm: String,
    /// What is distributed: `request`, `connection`, `flow` or `datagram`.
    pub unit: String,
    /// The key that this request is distributed by, in words; absent when the pool goes by something else.
    pub key: Option<String>,
    /// The revision that decides.
    pub revision: u64,
    /// The server that the next request would go to, as `pool/server`; absent when it would be answered 503.
    pub server: Option<String>,
    /// Why that one, in words.
    pub why: String,
    /// Every other server of the pool, with the reason against it.
    pub others: Vec<PassedOverServer>,
    /// The pin that ties the client, whether it decided or its server can't have the client now; absent when there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub pin: Option<PinView>,
    /// What the rules of the frontend make of the request; absent where it has none.
    pub rules: Option<RulesView>,
    /// What limits of clients would say of it now, those of the frontend and of the rules that it meets; they are asked in this order.
    pub limits: Vec<LimitTrace>,
}

/// A client's tie to a server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PinView {
    /// What ties it: `cookie`, `client-address`, `header:x-account` and so on.
    pub kind: String,
    /// The server, as `pool/server`; absent when it was removed, and the pin ends when its client comes.
    pub server: Option<String>,
    /// Where the client came from when the pin was made; absent of a cookie, which is kept by the client.
    pub client: Option<String>,
    /// When it was made; absent of a cookie.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub made: Option<Wall>,
    /// When it was used last; absent of a cookie.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used: Option<Wall>,
    /// When it ends if it is not used again; absent of a cookie.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Wall>,
}

/// A server that would not get the next request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PassedOverServer {
    /// The server, as `pool/server`.
    pub server: String,
    /// Why not, in words.
    pub why: String,
    /// Why it is not eligible; absent when it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub reason: Option<merismos_core::eligibility::IneligibleReason>,
    /// In how many requests from now its turn comes; absent when it is not eligible.
    pub turns_until: Option<u64>,
}
