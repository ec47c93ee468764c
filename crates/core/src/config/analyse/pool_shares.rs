//! How a change moves work between pools, and how much room they have.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::config::document::{ChoosePool, Document, FrontendSpec, PoolSpec, ServerLimits};
use crate::eligibility::{ServerStates, pool_shares};
use crate::name::Name;

/// How a change moves one pool's part of a frontend's work.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PoolShareChange {
    /// The frontend whose work is divided.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub frontend: Name,
    /// The pool whose part of it changes.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub pool: Name,
    /// Its part now, 0 to 1; absent when it is not one of the frontend's pools yet.
    pub before: Option<f64>,
    /// Its part afterwards, 0 to 1; absent when it is none of the frontend's pools any more.
    pub after: Option<f64>,
}

/// What servers have a limited room for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum CapacityKind {
    /// Requests in flight at the same time.
    InFlight,
    /// Connections open at the same time.
    Connections,
    /// Requests that begin in a second.
    EachSecond,
}

impl CapacityKind {
    /// What there is room for, in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::InFlight => "in flight",
            Self::Connections => "connections",
            Self::EachSecond => "a second",
        }
    }

    fn of(self, limits: &ServerLimits) -> Option<u32> {
        match self {
            Self::InFlight => limits.in_flight_limit,
            Self::Connections => limits.connection_limit,
            Self::EachSecond => limits.rate_limit,
        }
    }
}

/// How a change moves the room that the working servers of a pool have together.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CapacityChange {
    /// The pool whose capacity changes.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub pool: Name,
    /// What the capacity is counted in.
    pub room: CapacityKind,
    /// How much now; absent when a server has no such limit.
    pub before: Option<u64>,
    /// How much afterwards; absent when a server has no such limit.
    pub after: Option<u64>,
}

/// Which part of a frontend's new work each of its pools gets, 0 to 1, of clients that nothing ties to a server; `None` when more than
/// the document and the state of the servers decides: who the client is, or how fast pools answer.
pub(in crate::config) fn parts<'d>(
    document: &'d Document,
    frontend: &'d FrontendSpec,
    truths: &impl ServerStates,
) -> Option<BTreeMap<&'d Name, f64>> {
    let more = &frontend.more;
    let mut parts: BTreeMap<&Name, f64> = frontend.chosen_pools().map(|pool| (pool, 0.0)).collect();
    if parts.len() == 1 {
        // Its only pool gets all of it, usable or not.
        return Some(parts.into_keys().map(|pool| (pool, 1.0)).collect());
    }
    let in_turn: Vec<&Name> = std::iter::once(&frontend.pool).chain(&more.next_pools).collect();
    let usable: Vec<&Name> = in_turn.into_iter().filter(|name| is_usable(name, document, truths)).collect();
    let weight = |name: &Name| {
        let weight = more.pool_weights.get(name).copied().unwrap_or(1);
        f64::from(weight) * document.pools.get(name).map_or(0.0, |pool| f64::from(pool.capacity))
    };
    let total: f64 = usable.iter().map(|name| weight(name)).sum();
    let only = match (more.choose_pool, usable.as_slice()) {
        (_, []) => more.last_resort.as_ref(),
        (ChoosePool::ByWeight, _) if total > 0.0 => {
            parts.extend(usable.iter().map(|name| (*name, weight(name) / total)));
            return Some(parts);
        }
        (ChoosePool::ByWeight, _) => more.last_resort.as_ref(),
        (ChoosePool::InOrder, [first, ..]) | (_, [first]) => Some(*first),
        (ChoosePool::ByLatency | ChoosePool::ByNetwork, _) => return None,
    };
    parts.extend(only.map(|name| (name, 1.0)));
    Some(parts)
}

fn is_usable(name: &Name, document: &Document, truths: &impl ServerStates) -> bool {
    let Some(pool) = document.pools.get(name) else { return false };
    let eligibilities = pool_shares(name, pool, truths);
    let well = eligibilities
        .values()
        .filter(|eligibility| eligibility.reason.is_none() && !eligibility.fails)
        .count();
    well >= usize::from(pool.min_eligible)
}

/// How much room the working servers of a pool have together; `None` when one of them has no such limit, or none works.
pub(in crate::config) fn room(
    name: &Name,
    pool: &PoolSpec,
    truths: &impl ServerStates,
    room: CapacityKind,
) -> Option<u64> {
    let eligibilities = pool_shares(name, pool, truths);
    let mut working =
        pool.servers.iter().filter(|(name, _)| eligibilities[*name].reason.is_none()).peekable();
    working.peek()?;
    let of = |server: &crate::config::document::ServerSpec| {
        let limit = room.of(&server.limits).or(room.of(&pool.limits))?;
        let scale = |limit: u64, percent: u8| (limit * u64::from(percent) / 100).max(1);
        Some(scale(scale(u64::from(limit), server.capacity), pool.capacity))
    };
    working.map(|(_, server)| of(server)).sum()
}
