//! The pins of clients, whatever they speak: which server a client is tied to, and tying it to one.

use std::net::IpAddr;

use merismos_core::pins::{PinLearned, PinLookup, PinMoment, PinRule};
use merismos_core::routing::{Pool, RequestFacts};

use crate::context::{WorkerContext, minute};
use crate::select::{Affinity, affinity};

/// What a pool's pins say of a client.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ClientPin {
    /// Nothing: the pool has none, or the client is tied to no server that is there.
    None,
    /// It goes on with this server; room was taken for it. As of which minute it is to get a cookie, where it has none of the key of now.
    At { place: usize, wants_cookie: Option<u32> },
    /// Its server has no room now, and stays the client's.
    Full,
    /// Its server can't have it now.
    Gone,
}

impl WorkerContext {
    /// The moment for a look at pins. What only learned pins or only cookies need is not read for the others.
    pub(crate) fn pin_moment(&self, rule: &PinRule) -> PinMoment {
        PinMoment {
            minute: if rule.cookie.is_some() { minute() } else { 0 },
            second: if rule.learned.is_some() { self.pin_second() } else { 0 },
        }
    }

    /// What a pool's pins say of a client.
    pub(crate) fn client_pin(&self, pool: &Pool, facts: &RequestFacts<'_>) -> ClientPin {
        let Some(rule) = &pool.pin_rule else { return ClientPin::None };
        let now = self.pin_moment(rule);
        match rule.look_up(facts, now) {
            PinLookup::None | PinLookup::Unpinned { .. } => ClientPin::None,
            PinLookup::Pinned { place, key, signed_before, .. } => match affinity(self, pool, place) {
                Affinity::At(place) => {
                    ClientPin::At { place, wants_cookie: signed_before.or_else(|| key.map(|_| now.minute)) }
                }
                Affinity::Full => ClientPin::Full,
                Affinity::Gone => ClientPin::Gone,
            },
        }
    }

    /// Ties a client to the server that was selected for it, as far as its pins are kept here.
    pub(crate) fn learn_pin(&self, pool: &Pool, place: usize, facts: &RequestFacts<'_>) {
        let Some(rule) = pool.pin_rule.as_ref() else { return };
        let server = &pool.servers[place];
        server.cell.lane(self.index).new_clients.increment();
        if rule.learned.is_none() {
            return;
        }
        let now = self.pin_moment(rule);
        let (PinLookup::Unpinned { kind, key } | PinLookup::Pinned { kind, key: Some(key), .. }) =
            rule.peek(facts, now)
        else {
            return;
        };
        let learned = PinLearned { kind, key, client: facts.client };
        rule.learn(learned, &server.name.server, now.second);
    }
}

/// Where a server's responses may begin sessions of the application: their clients are tied to it.
#[derive(Clone, Copy)]
pub(crate) struct SessionLearner<'a> {
    pool: &'a Pool,
    place: usize,
    client: IpAddr,
}

impl<'a> SessionLearner<'a> {
    /// For a response to a client; `None` where nothing is learned from responses.
    pub(crate) fn of(pool: &'a Pool, place: usize, client: impl FnOnce() -> IpAddr) -> Option<Self> {
        let learns = pool.pin_rule.as_ref().is_some_and(PinRule::reads_responses);
        learns.then(|| Self { pool, place, client: client() })
    }

    /// Takes a `Set-Cookie` field of the response.
    pub(crate) fn learn(&self, worker: &WorkerContext, set_cookie: &[u8]) {
        let Some(rule) = &self.pool.pin_rule else { return };
        if let Some(learned) = rule.of_set_cookie(set_cookie, self.client) {
            rule.learn(learned, &self.pool.servers[self.place].name.server, worker.pin_second());
        }
    }
}
