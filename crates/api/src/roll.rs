//! Rolls: maintenance of many servers one after the other.

use merismos_core::name::PoolServer;
use merismos_core::roll::{RollPlan, RollServer, RollState, WorkOutcome};
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A roll to begin.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RollRequest {
    /// What it is to do.
    pub plan: RollPlan,
    /// Answer with the roll as it would begin, and begin nothing.
    #[serde(default)]
    pub preview: bool,
}

/// Rolls, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Rolls {
    /// Those that go on, and the last that are over.
    pub rolls: Vec<RollView>,
}

/// A roll and how it goes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RollView {
    /// Its number; 0 in a preview.
    pub id: u64,
    /// What it is to do.
    pub plan: RollPlan,
    /// Name of the token that began it.
    pub who: String,
    /// When it was begun.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// How it goes.
    pub state: RollState,
    /// Why it is paused or stopped, and by whom.
    pub why: Option<String>,
    /// Whether nothing of it will go on by itself.
    pub is_over: bool,
    /// Its servers in the order of their turns.
    pub servers: Vec<RollServer>,
    /// Address and port of each server that still is there, in the order of `servers`; what works on them needs it.
    pub addresses: Vec<Option<String>>,
    /// What the guard would say of the first servers if they were taken out now; only in a preview.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub guard: Vec<String>,
}

/// An order for a roll.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RollOrderRequest {
    /// What it shall do.
    pub order: RollVerb,
    /// Why, shown with the roll.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false, max_length = 500)]
    pub reason: Option<String>,
}

/// What a roll can be ordered to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RollVerb {
    /// Begin no further server; what is begun goes on.
    Pause,
    /// Go on.
    Resume,
    /// End: servers that drain or are ready return, those that are being worked on stay out.
    Stop,
}

/// What is reported of the work on a server.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WorkReport {
    /// The server, as `pool/server`.
    #[schema(value_type = String)]
    pub server: PoolServer,
    /// How far the work is.
    pub outcome: WorkOutcome,
    /// What is to be known of it, such as why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false, max_length = 500)]
    pub note: Option<String>,
}
