//! How a pool deals out work: one file an algorithm behind one trait.

mod round_robin;

pub use round_robin::RoundRobin;

use crate::cells::PoolCell;

/// The most servers that one request may be offered to.
pub const MOST_ATTEMPTS: usize = 16;

/// The servers that one request was offered to already, by their place in the pool.
#[derive(Clone, Copy, Debug, Default)]
pub struct Tried {
    places: [u32; MOST_ATTEMPTS],
    len: usize,
}

impl Tried {
    /// Notes a server. More than [`MOST_ATTEMPTS`] are not kept: nobody asks that often.
    pub fn note(&mut self, place: usize) {
        if let (Some(slot), Ok(place)) = (self.places.get_mut(self.len), u32::try_from(place)) {
            *slot = place;
            self.len += 1;
        }
    }

    /// Whether a server was tried.
    #[must_use]
    pub fn holds(&self, place: usize) -> bool {
        self.places[..self.len].iter().any(|tried| *tried as usize == place)
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

/// One way of dealing out work among the eligible servers of a pool.
///
/// The contract, kept by every implementation and tested for all of them together:
/// a server that is not among the weights is never picked; one that was tried is not picked again; when one
/// untried server is left it is found; nothing is allocated; the same cell and calls give the same picks.
pub trait Balance: Send + Sync + std::fmt::Debug {
    /// Picks a server by its place in the pool; `None` when every eligible one was tried or none is.
    fn pick(&self, cell: &PoolCell, tried: &Tried) -> Option<usize>;

    /// The server that the next [`pick`](Self::pick) would give when nothing was tried, without taking a turn.
    fn peek(&self, cell: &PoolCell) -> Option<usize>;

    /// In how many requests from now the server's turn comes (0 is the next one); `None` when it has none.
    fn turns_until(&self, cell: &PoolCell, place: usize) -> Option<u64>;
}

#[cfg(test)]
mod contract_tests;
