//! Trials: real requests, counted and judged.

use merismos_core::proof::Tally;
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a trial is to do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrialRequest {
    /// The frontend to send through.
    pub frontend: String,
    /// How many requests.
    #[schema(minimum = 1, maximum = 1000000)]
    pub requests: u32,
    /// How many connections at the same time.
    #[serde(default = "one_connection")]
    #[schema(minimum = 1, maximum = 256)]
    pub concurrency: u32,
    /// The path to ask for.
    #[serde(default = "root")]
    pub path: String,
    /// Requests a second at most; without it, as fast as the answers come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 100000)]
    pub per_second: Option<u32>,
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
pub struct Happening {
    /// How long after the trial's beginning, in milliseconds.
    pub after_ms: u64,
    /// What it is about.
    pub subject: String,
    /// What happened.
    pub says: String,
}

/// A trial.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trial {
    /// Its number.
    pub id: u64,
    /// Who began it.
    pub who: String,
    /// When it began.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// What it was to do.
    pub request: TrialRequest,
    /// How far it is.
    pub state: TrialState,
    /// Requests that have ended.
    pub ended: u64,
    /// How long it has taken, in milliseconds.
    pub took_ms: u64,
    /// The count and the verdict, when it is done.
    pub tally: Option<Tally>,
    /// What happened to the pool meanwhile.
    pub happened: Vec<Happening>,
}

/// Trials, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trials {
    /// The trials.
    pub trials: Vec<Trial>,
}
