//! The immutable snapshot that traffic reads, how it is compiled, and the decision on the hot path.

mod compile;
mod explain;
mod facts;
mod snapshot;

pub use compile::{compile, recompile};
pub use explain::{Chosen, Explanation, Passed};
pub use facts::{Facts, Key, KeyRule};
pub use snapshot::{Decision, Frontend, Pool, Server, Snapshot, Times};

#[cfg(test)]
mod tests;
