//! Which server the next request would go to, and why no other.

use super::snapshot::Frontend;
use crate::eligibility::Reason;
use crate::name::PoolServer;

/// The answer to "where would the next request go?", from a snapshot, without sending anything.
#[derive(Clone, Debug, PartialEq)]
pub struct Explanation {
    /// The server that would get it; `None` when none is eligible and the client would get 503.
    pub chosen: Option<Chosen>,
    /// Every other server and why not it, in the order of the names.
    pub passed: Vec<Passed>,
}

/// The server that the next request would go to.
#[derive(Clone, Debug, PartialEq)]
pub struct Chosen {
    /// The server.
    pub server: PoolServer,
    /// Its expected share, 0 to 1.
    pub share: f64,
}

/// A server that would not get the next request.
#[derive(Clone, Debug, PartialEq)]
pub struct Passed {
    /// The server.
    pub server: PoolServer,
    /// Why it is not eligible; `None` when it is and only its turn has not come.
    pub reason: Option<Reason>,
    /// In how many requests from now its turn comes, when it is eligible.
    pub turns_until: Option<u64>,
}

impl Frontend {
    /// Explains the next decision.
    #[must_use]
    pub fn explain(&self) -> Explanation {
        let pool = &self.pool;
        let next = pool.balance.peek(&pool.cell);
        let chosen = next.map(|place| Chosen {
            server: pool.servers[place].name.clone(),
            share: pool.servers[place].standing.share,
        });
        let others = pool.servers.iter().enumerate().filter(|(place, _)| Some(*place) != next);
        let passed = others
            .map(|(place, server)| Passed {
                server: server.name.clone(),
                reason: server.standing.reason,
                turns_until: pool.balance.turns_until(&pool.cell, place),
            })
            .collect();
        Explanation { chosen, passed }
    }
}
