//! The immutable snapshot that traffic reads, how it is compiled, and the decision on the hot path.

mod compile;
mod explain;
mod snapshot;

pub use compile::{compile, recompile};
pub use explain::{Chosen, Explanation, Passed};
pub use snapshot::{Frontend, Pool, Server, Snapshot, Times};

#[cfg(test)]
mod tests;
