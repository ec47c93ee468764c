//! The immutable snapshot that traffic reads, how it is compiled, and the decision on the hot path.

mod choose;
mod compile;
mod dropped;
mod explain;
mod facts;
mod snapshot;

pub use choose::{Asked, By, Choice, Chosen as ChosenPool, Goes, MOST_POOLS};
pub use compile::{compile, recompile};
pub use dropped::DroppedFields;
pub use explain::{Chosen, Explanation, Passed, Spill};
pub use facts::{Facts, Key, KeyRule, cookie_in};
pub use snapshot::{Decision, Frontend, Pool, Server, Snapshot, Times};

#[cfg(test)]
mod tests;
