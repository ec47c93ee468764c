//! The immutable snapshot that traffic reads, how it is compiled, and the decision on the hot path.

mod choose_pool;
mod compile;
mod dropped_fields;
mod explain;
mod frontend_rules;
mod request_facts;
mod snapshot;

pub use choose_pool::{
    AskedPools, ChosenPool, CurrentRouting, MOST_POOLS, PoolChance, PoolChoice, PoolChoiceReason,
    PoolLatency, PoolReason, WhyPool, kept_number,
};
pub use compile::{compile, recompile};
pub use dropped_fields::DroppedFields;
pub use explain::{ExplainedServer, Explanation, PassedOver, Spill};
pub use frontend_rules::{CompiledRule, FrontendRules, Maintenance, RuleDecision};
pub(crate) use request_facts::masked;
pub use request_facts::{KeyRule, RequestFacts, RequestKey};
pub use snapshot::{
    FirstBytes, Frontend, HttpsRedirect, Passthrough, Pick, Pool, Server, Snapshot, UpstreamTimeouts,
};

#[cfg(test)]
mod tests;
