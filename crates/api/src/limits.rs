//! Limits of clients: what they let pass and what they held off.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The limits of the running revision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Limits {
    /// The limits, by name. All counts are this node's since it started, or since the limit was made.
    pub limits: Vec<LimitView>,
}

/// A limit with what it did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LimitView {
    /// Name of the limit.
    pub name: String,
    /// What counts as one client: `client-address`, `header:x-api-key`, `all` and so on.
    pub per: String,
    /// What each client may ask for: `100 within 1m, 20 in flight`.
    pub allows: String,
    /// What becomes of what is too much: `refuse`, `delay` or `observe`; `slow` of a limit of bandwidth alone.
    pub action: String,
    /// Frontends that list it.
    pub frontends: Vec<String>,
    /// Rules that list it.
    pub rules: Vec<String>,
    /// Requests, connections and flows that passed at once.
    pub passed: u64,
    /// Requests that had to wait for their turn.
    pub delayed: u64,
    /// What was refused.
    pub refused: u64,
    /// What was too much and passed, for the limit only observes.
    pub observed: u64,
    /// What was counted together with other clients, because as many as are counted by themselves (`clients`) were there. Where there is much of it, clients may be
    /// held off too early.
    pub shared: u64,
    /// How many clients it counts now by their rate, about; absent where it has no rate.
    pub clients: Option<u64>,
    /// The networks of clients that it held off most, most often first; 10 at most.
    pub held_off: Vec<HeldOffNetwork>,
}

/// A network of clients that were held off: refused, delayed, or only observed by a limit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HeldOffNetwork {
    /// The network, as wide as addresses are distinguished.
    #[schema(example = "192.0.2.7/32")]
    pub network: String,
    /// How often, at most.
    pub count: u64,
    /// How much of `count` may have been others': more than 32 networks are counted together.
    pub over: u64,
    /// When it was held off last.
    #[schema(value_type = String, format = DateTime)]
    pub last: Wall,
}

/// What a limit says of a request that would come now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LimitTrace {
    /// Name of the limit.
    pub name: String,
    /// What counts as one client.
    pub per: String,
    /// What each client may ask for.
    pub allows: String,
    /// What becomes of what is too much.
    pub action: String,
    /// Whether the request would pass, at once or later.
    pub passes: bool,
    /// What the limit says, in words.
    pub says: String,
}
