//! Trials: real requests, connections or datagrams, counted and judged.

use merismos_core::proof::{RequestResults, Tally};
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a trial is to do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrialRequest {
    /// The frontend to send through.
    pub frontend: String,
    /// How many requests (`http`), connections (`tcp`) or datagrams (`udp`).
    #[schema(minimum = 1, maximum = 1000000)]
    pub requests: u32,
    /// How many at the same time.
    #[serde(default = "one_connection")]
    #[schema(minimum = 1, maximum = 256)]
    pub concurrency: u32,
    /// How many clients take turns, each with a connection of its own (`http`); without it, as many as `concurrency`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 1000)]
    pub clients: Option<u32>,
    /// The network that the clients come from, each from an address of its own as far as it has so many; all of them have
    /// to be this machine's. Such as `127.0.9.0/24`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Whether each client keeps the cookies that it is given (`http`).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_cookies: bool,
    /// How many of 100 requests come from a client that begins anew, without connection and cookies (`http`): the others are of
    /// clients that come again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 100)]
    pub new_percent: Option<u8>,
    /// The server that gets all of it, whatever its duty and its health (`http`): so one that is withdrawn is tried before
    /// clients reach it. Such as `booking/gull`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// The host that clients ask for (`http`), and the name of the handshake at a frontend that speaks TLS; without it, the first name of its
    /// first certificate, or its address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(min_length = 1, max_length = 253)]
    pub host: Option<String>,
    /// The certificate that clients show a frontend that asks for one (`client_certificates`), by its name in the document.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
    /// The path to ask for (`http`).
    #[serde(default = "root")]
    pub path: String,
    /// What each client says (`tcp`, `udp`). A `tcp` client that says nothing ends its side at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(min_length = 1, max_length = 1000)]
    pub say: Option<String>,
    /// No answers are waited for (`udp`): the feed goes one way, and what counts is where each datagram went.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub one_way: bool,
    /// So many a second at most; without it, as fast as the answers come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 100000)]
    pub per_second: Option<u32>,
}

impl TrialRequest {
    /// So many requests through a frontend, one after the other, and all else as usual.
    #[must_use]
    pub fn of(frontend: &str, requests: u32) -> Self {
        Self {
            frontend: frontend.to_owned(),
            requests,
            concurrency: one_connection(),
            clients: None,
            from: None,
            keep_cookies: false,
            new_percent: None,
            server: None,
            host: None,
            certificate: None,
            path: root(),
            say: None,
            one_way: false,
            per_second: None,
        }
    }
}

fn one_connection() -> u32 {
    1
}

fn root() -> String {
    "/".to_owned()
}

/// How far a trial is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TrialState {
    /// Requests are being sent.
    Running,
    /// It is over and was judged.
    Done,
}

/// Something that happened while a trial ran.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrialHappening {
    /// How long after the trial's beginning, in milliseconds.
    pub after_ms: u64,
    /// What it is about.
    pub subject: String,
    /// What happened, as a sentence.
    #[serde(alias = "says")]
    pub message: String,
}

/// A trial: what was asked for, how far it is, what it showed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trial {
    /// Number of the trial; a later trial has a larger one.
    pub id: u64,
    /// Name of the token that began it.
    pub who: String,
    /// When the trial began.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// What it was to do.
    pub request: TrialRequest,
    /// Requests, connections or datagrams, by the frontend's protocol.
    #[serde(default)]
    pub sends: RequestResults,
    /// How far it is.
    pub state: TrialState,
    /// How many of them have ended.
    pub ended: u64,
    /// How long it has taken, in milliseconds.
    pub took_ms: u64,
    /// The count and the verdict, when it is done.
    pub tally: Option<Tally>,
    /// What happened to the pool meanwhile.
    pub happened: Vec<TrialHappening>,
}

/// Trials, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trials {
    /// The newest trials first, without their samples.
    pub trials: Vec<Trial>,
}
