//! Whom a frontend refused, and why.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::limits::HeldOffNetwork;

/// Whom a frontend refused since the node started.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Refusals {
    /// Name of the frontend.
    pub frontend: String,
    /// The reasons that there were, the most frequent first.
    pub reasons: Vec<RefusalsForReason>,
}

/// Whom a frontend refused for one reason.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RefusalsForReason {
    /// The reason: `not_let_in`, `limit`, `connection_limit`, `malformed`, `too_large`, `too_slow`, `handshake`, `rule` or `memory`.
    #[schema(example = "too_large")]
    pub reason: String,
    /// The reason, in words.
    pub says: String,
    /// How many requests, connections and flows it refused for that.
    pub count: u64,
    /// The networks of clients that it refused most, most often first; 10 at most. An IPv4 address is one, and so are the 64 bits of an IPv6 network.
    pub networks: Vec<HeldOffNetwork>,
}
