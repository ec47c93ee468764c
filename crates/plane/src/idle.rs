//! The idle connections to servers of one worker.

use std::cell::{Cell, RefCell};
use std::time::Duration;

use merismos_core::config::document::UpstreamSettings;

use crate::deadline::ticks;
use crate::upstream::Upstream;

/// How long one may have rested to be trusted with a request that must not be sent twice.
const LONGEST_TRUSTED_REST: Duration = Duration::from_secs(1);

/// Which kept connections will do for a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ReusePolicy {
    /// Any: if it turns out to be stale, the request is sent again.
    Any,
    /// Only one that was used a moment ago: the request can't be sent again.
    Recent,
}

impl ReusePolicy {
    fn longest_rest(self) -> u64 {
        match self {
            Self::Any => u64::MAX,
            Self::Recent => ticks(LONGEST_TRUSTED_REST),
        }
    }
}

#[derive(Debug)]
struct IdleConnection {
    upstream: Upstream,
    /// The worker's coarse time, in ticks.
    since: u64,
    /// From when on it is not used any more.
    until: u64,
}

/// Idle connections by the number of their server's cell.
#[derive(Debug, Default)]
pub(crate) struct IdleConnections {
    servers: RefCell<Vec<Vec<IdleConnection>>>,
    /// Some of them may be of servers whose connections are limited.
    has_limited: Cell<bool>,
}

impl IdleConnections {
    /// Takes the connection that was used last, if there is one that will do.
    pub(crate) fn take(&self, server: u32, trust: ReusePolicy, now: u64, trust_id: u64) -> Option<Upstream> {
        let mut servers = self.servers.borrow_mut();
        let resting = servers.get_mut(server as usize)?;
        let longest = trust.longest_rest();
        while let Some(mut candidate) =
            resting.pop_if(|connection| now < connection.until && now - connection.since < longest)
        {
            // Servers are trusted in another way by now.
            if candidate.upstream.trust_id != trust_id {
                continue;
            }
            // One that was used in this very tick is taken unseen where being wrong only costs another try.
            let is_fresh = trust == ReusePolicy::Any && candidate.since == now;
            if is_fresh || candidate.upstream.stream.is_quiet() {
                return Some(candidate.upstream);
            }
        }
        None
    }

    /// As [`Self::take`], of those whose server was asked for this host.
    #[cold]
    pub(crate) fn take_for_host(
        &self,
        server: u32,
        host: &str,
        trust: ReusePolicy,
        now: u64,
        trust_id: u64,
    ) -> Option<Upstream> {
        let mut servers = self.servers.borrow_mut();
        let resting = servers.get_mut(server as usize)?;
        let longest = trust.longest_rest();
        loop {
            let fits = |connection: &IdleConnection| {
                connection.upstream.host.as_deref() == Some(host)
                    && connection.upstream.trust_id == trust_id
                    && now < connection.until
                    && now - connection.since < longest
            };
            let mut candidate = resting.remove(resting.iter().rposition(fits)?);
            if candidate.upstream.stream.is_quiet() {
                return Some(candidate.upstream);
            }
        }
    }

    /// Keeps a connection for the next request to the same server.
    pub(crate) fn keep(&self, server: u32, upstream: Upstream, how: &UpstreamSettings, now: u64) {
        let mut servers = self.servers.borrow_mut();
        let place = server as usize;
        if servers.len() <= place {
            servers.resize_with(place + 1, Vec::new);
        }
        let until = (now + ticks(how.idle_connection_timeout.get()))
            .min(upstream.born + ticks(how.idle_connection_age.get()));
        if servers[place].len() < usize::from(how.idle_connections) && now < until && upstream.may_rest() {
            if upstream.seat.is_some() {
                self.has_limited.set(true);
            }
            servers[place].push(IdleConnection { upstream, since: now, until });
        }
    }

    /// Closes those of servers that have all the connections they may have while another worker needs one.
    pub(crate) fn make_room(&self) {
        if !self.has_limited.get() {
            return;
        }
        let mut has_limited = false;
        for resting in self.servers.borrow_mut().iter_mut().filter(|resting| !resting.is_empty()) {
            resting.retain(|connection| !connection.upstream.is_wanted());
            has_limited |= resting.iter().any(|connection| connection.upstream.seat.is_some());
        }
        self.has_limited.set(has_limited);
    }

    /// Closes what rested too long or was closed by its server.
    pub(crate) fn close_expired(&self, now: u64) {
        for resting in self.servers.borrow_mut().iter_mut().filter(|resting| !resting.is_empty()) {
            resting.retain_mut(|connection| now < connection.until && connection.upstream.stream.is_quiet());
            resting.shrink_to(resting.len() * 2);
        }
    }

    /// Closes all of them, for their descriptors are needed.
    pub(crate) fn close_all(&self) {
        self.servers.borrow_mut().iter_mut().for_each(|resting| *resting = Vec::new());
    }

    /// Closes every idle connection to a server.
    pub(crate) fn forget(&self, server: u32) {
        if let Some(resting) = self.servers.borrow_mut().get_mut(server as usize) {
            *resting = Vec::new();
        }
    }
}
