//! Probes on request.

use merismos_core::health::{Evidence, HealthState, ProbeStep};
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// Which servers to try a check on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TryRequest {
    /// The servers, as `pool/server`. 1 to 64.
    #[schema(min_items = 1, max_items = 64)]
    pub servers: Vec<String>,
    /// The check's keys, as in the document, when it does not run yet or runs otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub keys: Option<Map<String, Value>>,
}

/// What a check said of some servers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TryResponse {
    /// What the check asks, in words.
    pub asks: String,
    /// One try for each server, in the order of the request.
    pub tries: Vec<TryResult>,
}

/// What a check said of one server.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TryResult {
    /// The server, as `pool/server`.
    pub server: String,
    /// Address and port of the server that was probed.
    pub address: String,
    /// Whether the server passed the check.
    pub passed: bool,
    /// What was tried, step by step, and what came back.
    pub evidence: Evidence,
}

/// The last probes of a server.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Probes {
    /// The server, as `pool/server`.
    pub server: String,
    /// Whether its pool has a check; without one nothing is probed.
    pub checked: bool,
    /// Health of the server by its configured check.
    pub state: HealthState,
    /// Since when it has this state.
    #[schema(value_type = String, format = DateTime)]
    pub since: Wall,
    /// How many times its health has changed today (UTC), as far as this run of the service knows.
    pub changes_today: u32,
    /// Where it stands, in words: `3 of 3 failures, next probe in 1.2 s, needs 2 passes`.
    pub message: String,
    /// When its next probe starts.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next: Option<Wall>,
    /// Its last probes, the oldest first; 60 at most, since the service started.
    pub marks: Vec<ProbeRecord>,
}

/// One probe, as a mark on a line of time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProbeRecord {
    /// When the probe began.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// Whether the probe passed.
    pub passed: bool,
    /// The step that it failed at.
    pub step: ProbeStep,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// What came back, in words.
    pub observed: String,
    /// The state that it changed the server's health to.
    pub to: Option<HealthState>,
}

/// Where a server fails, and what that means.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Diagnosis {
    /// The server, as `pool/server`.
    pub server: String,
    /// Address and port of the server.
    pub address: String,
    /// The server of the same pool that it is held against: one that works.
    pub against: Option<String>,
    /// The steps, in the order in which they were taken; the last one is where it breaks, unless all is well.
    pub rungs: Vec<DiagnosisStep>,
    /// Whether every step worked.
    pub works: bool,
    /// The step that failed and what that means, as a value.
    pub finding: Finding,
    /// What it comes to, in a sentence.
    pub message: String,
    /// What may be the cause, the likeliest first.
    pub causes: Vec<String>,
    /// What to look at next.
    pub next: Vec<String>,
}

/// What a diagnosis found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Finding {
    /// Every step passed: the fault is not on the way to the server.
    Works,
    /// This machine has no route to the server.
    NoRoute,
    /// The server's address is on this machine's network, and no machine there has it.
    SilentNeighbour,
    /// The host refuses connections: nothing listens on the port.
    ConnectionRefused,
    /// Neither a connection nor a refusal comes back.
    NoConnection,
    /// The server was not reached for another reason.
    NotReached,
    /// The connection is made and TLS fails.
    TlsFails,
    /// The connection is made and no response comes in time.
    NoResponse,
    /// What comes back is no response of the protocol.
    UnexpectedResponse,
    /// The status is not among those that pass.
    UnexpectedStatus,
    /// The content is not as expected.
    UnexpectedContent,
}

/// Whether clients get through to a frontend, and if not, where they fail.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FrontendDiagnosis {
    /// The frontend.
    pub frontend: String,
    /// Where it listens.
    pub address: String,
    /// The host that was asked for.
    pub host: String,
    /// The steps, in the order in which they were taken.
    pub steps: Vec<DiagnosisStep>,
    /// Whether every step worked.
    pub works: bool,
    /// What the first step that failed means, or that all is well.
    pub message: String,
    /// What to look at next.
    pub next: Vec<String>,
}

/// One step of a diagnosis.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DiagnosisStep {
    /// What is looked at, in words.
    pub what: String,
    /// The step of a probe that it is, where it is one.
    pub step: Option<ProbeStep>,
    /// Whether this step passed.
    pub works: bool,
    /// What came of it, in words.
    pub observed: String,
    /// How long it took, in microseconds.
    pub took_us: Option<u64>,
    /// What came of the same step at the server that works.
    pub there: Option<String>,
}
