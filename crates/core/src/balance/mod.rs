//! How a pool distributes work: one file an algorithm behind one trait.

mod hash;
mod in_order;
mod least_connections;
mod least_load;
mod random_two;
mod round_robin;
mod tournament_tree;

use std::sync::Arc;

pub use hash::Hash;
pub use in_order::InOrder;
pub use least_connections::LeastConnections;
pub use least_load::LeastLoad;
pub use random_two::RandomTwo;
pub use round_robin::RoundRobin;

use crate::runtime::{PoolRuntime, ServerRuntime};
use crate::time::Tick;

/// The most servers that one request may be offered to.
pub const MOST_ATTEMPTS: usize = 16;

/// The servers that one request is not to go to any more, by their place in the pool.
#[derive(Clone, Copy, Debug, Default)]
pub struct Excluded {
    indexes: [u32; MOST_ATTEMPTS],
    len: usize,
}

impl Excluded {
    /// Notes a server; `false` when there is no room for more than [`MOST_ATTEMPTS`].
    pub fn add(&mut self, place: usize) -> bool {
        match (self.indexes.get_mut(self.len), u32::try_from(place)) {
            (Some(slot), Ok(place)) => {
                *slot = place;
                self.len += 1;
                true
            }
            (None, _) | (_, Err(_)) => false,
        }
    }

    /// The empty set: no server was tried yet.
    #[must_use]
    pub const fn none() -> Self {
        Self { indexes: [0; MOST_ATTEMPTS], len: 0 }
    }

    /// The servers' places, in the order in which they were tried.
    #[must_use]
    pub fn indexes(&self) -> &[u32] {
        &self.indexes[..self.len]
    }

    /// Whether a server was tried.
    #[must_use]
    pub fn contains(&self, place: usize) -> bool {
        self.indexes().iter().any(|tried| *tried as usize == place)
    }

    /// How many servers were tried.
    #[must_use]
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether none was tried.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }
}

/// One server of a pool as an algorithm sees it.
#[derive(Clone, Debug)]
pub struct Member {
    /// What it counts now, in thousandths of a weight: its weight with its capacity and its ramp. 0 takes no work,
    /// as does a server that is not eligible.
    pub weight: u32,
    /// Its weight as configured, whether it is eligible or not. 0 to 1000.
    pub configured: u16,
    /// A number made of its name, the same after a restart and on every node.
    pub identity: u64,
    /// Its identity and counts.
    pub cell: Arc<ServerRuntime>,
}

/// What a pick goes by, beside what the algorithm knows itself.
#[derive(Clone, Copy, Debug)]
pub struct PickContext<'a> {
    /// State of the pool that outlives snapshots: turns, spent weight.
    pub cell: &'a PoolRuntime,
    /// The number of the key that this request is distributed by, when it has one.
    pub key: Option<u64>,
    /// A random number, where the algorithm [draws](crate::config::document::Algorithm::draws).
    pub draw: u64,
    /// The time of the decision; 0 where neither the pool nor its algorithm needs it.
    pub now: Tick,
}

/// One way of dealing out work among the eligible servers of a pool.
///
/// The contract, kept by every implementation and tested for all of them together:
/// a server without weight is never picked; one that was tried is not picked again; when one untried server is left it
/// is found; nothing is allocated; the same cells and questions give the same picks.
pub trait Balance: Send + Sync + std::fmt::Debug {
    /// Picks a server by its place in the pool; `None` when every eligible one was tried or none is.
    fn pick(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize>;

    /// The server that [`pick`](Self::pick) would give, without taking a turn.
    fn peek(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize>;

    /// In how many requests from now the server's turn comes (0 is the next one); `None` when it has none, or when
    /// this algorithm distributes by something else than turns.
    fn turns_until(&self, _cell: &PoolRuntime, _place: usize) -> Option<u64> {
        None
    }

    /// Work has begun at a server, and its counts say so already.
    fn on_begin(&self, _ask: &PickContext<'_>, _place: usize) {}

    /// Work has ended at a server, and its counts say so already.
    fn on_end(&self, _ask: &PickContext<'_>, _place: usize) {}

    /// What it goes by for a server at this moment, for explanations; `None` where it goes by turns or by the key alone.
    fn server_fact(&self, _ask: &PickContext<'_>, _place: usize) -> Option<ServerFact> {
        None
    }
}

/// What an algorithm goes by for one server. [`crate::describe::server_fact`] puts it into words.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ServerFact {
    /// How much work is in flight at it.
    InFlight {
        /// Requests, connections or flows.
        count: u64,
        /// It has as much as the bound of its pool allows (`bounded_load`).
        at_bound: bool,
    },
    /// How long work would wait there.
    Load {
        /// Requests, connections or flows in flight.
        in_flight: u64,
        /// How long it takes for a response, in microseconds; `None` before the first one was timed.
        response_us: Option<u64>,
    },
    /// Its place in a fixed order, from 1.
    Rank {
        /// The place; 1 gets the work while it can.
        rank: usize,
        /// How many servers the order has.
        of: usize,
    },
}

#[cfg(test)]
mod contract_tests;
#[cfg(test)]
mod properties;
