//! Whom a frontend refused, and why.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    /// The networks of clients that it refused most, most often first; 10 at most.
    pub networks: Vec<RefusedNetwork>,
}

/// A network of clients that were refused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RefusedNetwork {
    /// The network: an IPv4 address, or the 64 bits of an IPv6 network.
    #[schema(example = "192.0.2.7/32")]
    pub network: String,
    /// How often, at most.
    pub count: u64,
    /// How much of `count` may have been others': more than 32 networks are counted together.
    pub over: u64,
    /// When it was refused last.
    #[schema(value_type = String, format = DateTime)]
    pub last: Wall,
}
