//! The decision log.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One decision: which server a request went to, and what was known at that moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// When the decision was made.
    #[schema(value_type = String)]
    pub at: Wall,
    /// The frontend that the work came to.
    pub frontend: String,
    /// The rule that the request met; absent when it met none.
    pub rule: Option<String>,
    /// What rules call the request; absent where they give it no label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub label: Option<String>,
    /// Who sent it: address and port.
    pub client: String,
    /// Name of the pool, of the frontend's pools, that the request went to.
    pub pool: String,
    /// Why the pool was chosen, in words, where the frontend has several.
    pub why_pool: Option<String>,
    /// The same as a value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub pool_reason: Option<merismos_core::routing::WhyPool>,
    /// How the pool distributes work.
    pub algorithm: String,
    /// The key that it was distributed by, in words.
    pub key: Option<String>,
    /// The server, as `pool/server`.
    pub server: String,
    /// Why that one, in words.
    pub why: String,
    /// Servers that failed this work before.
    pub failed_at: Vec<String>,
    /// Other servers, eight at most.
    pub others: Vec<NotChosen>,
    /// How many others there were beyond those.
    pub more_others: u64,
    /// How many decisions of the same worker were not sampled since the last one that was.
    pub passed_over: u64,
}

/// A server that did not get the work.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NotChosen {
    /// The server, as `pool/server`.
    pub server: String,
    /// Why not, in words.
    pub why: String,
}
