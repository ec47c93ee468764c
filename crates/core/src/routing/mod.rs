//! The immutable snapshot that traffic reads, how it is compiled, and the decision on the hot path.

mod choose;
mod compile;
mod dropped;
mod explain;
mod facts;
mod snapshot;

pub use choose::{AskedPools, ChosenPool, CurrentRouting, MOST_POOLS, PoolChoice, PoolReason};
pub use compile::{compile, recompile};
pub use dropped::DroppedFields;
pub use explain::{ExplainedServer, Explanation, PassedOver, Spill};
pub use facts::{KeyRule, RequestFacts, RequestKey, cookie_in};
pub use snapshot::{Frontend, Pick, Pool, Server, Snapshot, UpstreamTimeouts};

#[cfg(test)]
mod tests;
