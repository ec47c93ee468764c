//! The nodes that share a database.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The nodes that share the database of the one that answers, as it knows them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Nodes {
    /// The revision that runs on the node that answers; 0 before the first.
    pub revision: u64,
    /// Whether the database does not answer: then all of this is as it was when it did last.
    pub database_away: bool,
    /// The nodes, by name.
    pub nodes: Vec<NodeView>,
    /// Servers that nodes see differently now, a sentence each. Those that last are troubles in the status.
    pub differences: Vec<String>,
}

/// A node with what it said of itself last. What is absent it never said.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NodeView {
    /// What it is called (`--node`).
    pub name: String,
    /// The first digits of its identity, which its state folder keeps.
    #[schema(example = "70d0c1")]
    pub id: String,
    /// Whether it is the one that answers.
    pub is_here: bool,
    /// Whether it gave a sign of life within the last 10 seconds.
    pub is_alive: bool,
    /// Whether it leads: one node opens windows, goes on with rolls and delivers messages.
    pub leads: bool,
    /// How old its last sign of life is, in milliseconds.
    pub seen_ms: u64,
    /// Version of its software.
    pub version: Option<String>,
    /// When it started.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub started: Option<Wall>,
    /// The revision that runs there.
    pub revision: Option<u64>,
    /// How many workers it has.
    pub workers: Option<u64>,
    /// Where its API listens.
    pub api: Option<String>,
    /// By how much its clock is ahead of that of the node that answers, in milliseconds; negative when it is behind. A few milliseconds are the way.
    pub clock_ahead_ms: Option<i64>,
    /// Why it does not run the newest revision.
    pub trouble: Option<String>,
    /// Servers that are down as seen from there; 200 at most.
    pub down: Vec<String>,
    /// How many there are in all.
    pub down_in_all: u64,
    /// Addresses that move, and that it holds, by the names of their objects.
    pub holds: Vec<String>,
    /// Whether it is drained: it gives up its addresses, and takes none.
    pub is_drained: bool,
}

/// A node that was forgotten.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NodeRemoved {
    /// What it was called.
    pub name: String,
    /// The first digits of its identity.
    pub id: String,
}
