//! Which server a request would go to, and why no other.

use std::sync::Arc;

use super::choose_pool::{AskedPools, PoolReason, WhyPool};
use super::request_facts::RequestFacts;
use super::snapshot::{Frontend, Pool, Server};
use crate::balance::{Excluded, PickContext, ServerFact};
use crate::eligibility::IneligibleReason;
use crate::name::{Name, PoolServer};
use crate::runtime::LimitReached;
use crate::time::Tick;

/// The answer to "where would this go?", from a snapshot, without sending anything.
#[derive(Clone, Debug)]
pub struct Explanation {
    /// The pool that would get it.
    pub pool: Arc<Pool>,
    /// How the pool was chosen, where the frontend has several.
    pub why_pool: Option<WhyPool>,
    /// The key that it is distributed by, in words; `None` when the algorithm goes by something else.
    pub key: Option<String>,
    /// Whether it has none of the keys that the pool goes by, and is refused for it.
    pub refused: bool,
    /// The server that would get it; `None` when none is eligible, all are full, or it is refused.
    pub chosen: Option<ExplainedServer>,
    /// Who gets it when all are full and it has waited in vain, if anybody does.
    pub spills: Option<Spill>,
    /// Every other server and why not it, in the order of the names.
    pub passed: Vec<PassedOver>,
}

/// Who gets work that has waited in vain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Spill {
    /// A server of the pool that stands by.
    Standby(PoolServer),
    /// Another pool of the frontend.
    Pool(Name),
}

/// The server that a request would go to.
#[derive(Clone, Debug, PartialEq)]
pub struct ExplainedServer {
    /// The server that is explained.
    pub server: PoolServer,
    /// Its expected share, 0 to 1.
    pub share: f64,
    /// What the algorithm goes by for it.
    pub fact: Option<ServerFact>,
}

/// A server that would not get it.
#[derive(Clone, Debug, PartialEq)]
pub struct PassedOver {
    /// The server that did not get the request.
    pub server: PoolServer,
    /// Why it is not eligible; `None` when it is and another one was preferred.
    pub reason: Option<IneligibleReason>,
    /// Which of its limits it has reached.
    pub full: Option<LimitReached>,
    /// In how many requests from now its turn comes, when it is eligible and there are turns.
    pub turns_until: Option<u64>,
    /// What the algorithm goes by for it.
    pub fact: Option<ServerFact>,
}

impl Frontend {
    /// The one server that a request goes to by its key; `None` where something else has a part in that: chance,
    /// turns, or how busy the servers are.
    #[must_use]
    pub fn certain(&self, facts: &RequestFacts<'_>, now: Tick) -> Option<&PoolServer> {
        let by_chance = self
            .choice
            .as_ref()
            .is_some_and(|choice| matches!(choice.by, PoolReason::Weight(_) | PoolReason::Latency));
        let pool = self.choose(facts.client, 0, now, AskedPools::default()).filter(|_| !by_chance)?.pool;
        if pool.limited || pool.bounded {
            return None;
        }
        let ask = PickContext { cell: &pool.cell, key: Some(pool.key(facts).number()?), draw: 0, now };
        let place = pool.balance.peek(&ask, &Excluded::default())?;
        Some(&pool.servers[place].name)
    }

    /// Explains the decision about a request that would come now. `draw` stands for the random number that it
    /// would be distributed by.
    #[must_use]
    pub fn explain(&self, facts: &RequestFacts<'_>, draw: u64, now: Tick) -> Explanation {
        let chosen_pool = self.choose(facts.client, draw, now, AskedPools::default());
        let (pool, why_pool) = match &chosen_pool {
            Some(chosen) => (chosen.pool, self.why_pool(chosen, facts.client, now)),
            None => (&self.pool, None),
        };
        let key = pool.key(facts);
        let ask = PickContext { cell: &pool.cell, key: key.number(), draw, now };
        let full = |server: &Server| server.cell.room.full(server.limits, now);
        let refused = key == super::RequestKey::Refused;
        let mut tried = Excluded::default();
        let mut next = pool.balance.peek(&ask, &tried).filter(|_| !refused);
        while let Some(place) = next.filter(|place| full(&pool.servers[*place]).is_some()) {
            next = tried.add(place).then(|| pool.balance.peek(&ask, &tried)).flatten();
        }
        // As in deciding: behind so many full ones, whichever has room will do.
        let has_room = |place: &usize| {
            let server = &pool.servers[*place];
            server.standing.reason.is_none() && full(server).is_none()
        };
        let next = next.or_else(|| (0..pool.servers.len()).filter(|_| !refused).find(has_room));
        let fact = |place: usize| pool.balance.server_fact(&ask, place);
        let chosen = next.map(|place| ExplainedServer {
            server: pool.servers[place].name.clone(),
            share: pool.servers[place].standing.share,
            fact: fact(place),
        });
        let others = pool.servers.iter().enumerate().filter(|(place, _)| Some(*place) != next);
        let passed = others
            .map(|(place, server)| PassedOver {
                server: server.name.clone(),
                reason: server.standing.reason,
                full: full(server),
                turns_until: pool.balance.turns_until(&pool.cell, place),
                fact: fact(place),
            })
            .collect();
        let is_full = next.is_none() && !refused && pool.eligible() > 0;
        let spills = chosen_pool.filter(|_| is_full).and_then(|from| {
            let mut asked = AskedPools::default();
            asked.note(from.number);
            let elsewhere =
                || Some(Spill::Pool(self.choose(facts.client, draw, now, asked)?.pool.name.clone()));
            pool.standby(&ask).map(Spill::Standby).or_else(elsewhere)
        });
        let words = pool.key_rule.as_ref().and_then(|rule| rule.words(key, facts));
        Explanation { pool: Arc::clone(pool), why_pool, key: words, refused, chosen, spills, passed }
    }
}
