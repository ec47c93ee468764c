//! What was observed over the last 10 seconds and the last minute.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

use merismos_core::cells::{FrontendCounts, ServerCounts};
use merismos_core::routing::Snapshot;

/// The short window.
pub(super) const TEN_SECONDS: Duration = Duration::from_secs(10);
/// The long window.
pub(super) const MINUTE: Duration = Duration::from_secs(60);

/// All counts at one moment, by the numbers of the cells.
#[derive(Debug)]
struct Sample {
    at: Instant,
    servers: BTreeMap<u32, ServerCounts>,
    frontends: BTreeMap<u32, FrontendCounts>,
}

/// Samples of the last minute, the oldest first.
#[derive(Debug, Default)]
pub(super) struct Rates(VecDeque<Sample>);

/// What a count grew by over a window, and how long the window really was.
pub(super) struct Growth<T> {
    pub(super) by: T,
    pub(super) over: Duration,
}

impl Rates {
    /// Takes a sample and forgets those that are older than the long window.
    pub(super) fn sample(&mut self, snapshot: &Snapshot, at: Instant) {
        let servers = snapshot.pools.iter().flat_map(|pool| &pool.servers);
        let servers = servers.map(|server| (server.cell.id, server.cell.counts())).collect();
        let frontends = snapshot.frontends().map(|it| (it.cell.id, it.cell.counts())).collect();
        self.0.push_back(Sample { at, servers, frontends });
        while self.0.get(1).is_some_and(|second| at.duration_since(second.at) >= MINUTE) {
            self.0.pop_front();
        }
    }

    /// The youngest sample that is at least as old as the window, or the oldest there is.
    fn base(&self, window: Duration, now: Instant) -> Option<&Sample> {
        let old_enough = |sample: &&Sample| now.duration_since(sample.at) >= window;
        self.0.iter().rev().find(old_enough).or_else(|| self.0.front())
    }

    /// How a server's counts grew.
    pub(super) fn server(
        &self,
        id: u32,
        counts: &ServerCounts,
        window: Duration,
        now: Instant,
    ) -> Growth<ServerCounts> {
        let base = self.base(window, now);
        let before = base.and_then(|sample| sample.servers.get(&id)).copied().unwrap_or_default();
        let by = ServerCounts {
            in_flight: counts.in_flight,
            taken: counts.taken.saturating_sub(before.taken),
            failed: counts.failed.saturating_sub(before.failed),
            retried: counts.retried.saturating_sub(before.retried),
            errors: counts.errors.saturating_sub(before.errors),
        };
        Growth { by, over: age(base, now) }
    }

    /// How a frontend's counts grew.
    pub(super) fn frontend(
        &self,
        id: u32,
        counts: &FrontendCounts,
        window: Duration,
        now: Instant,
    ) -> Growth<FrontendCounts> {
        let base = self.base(window, now);
        let before = base.and_then(|sample| sample.frontends.get(&id)).copied().unwrap_or_default();
        let by = FrontendCounts {
            connections: counts.connections,
            requests: counts.requests.saturating_sub(before.requests),
            refused: counts.refused.saturating_sub(before.refused),
            unavailable: counts.unavailable.saturating_sub(before.unavailable),
            unanswered: counts.unanswered.saturating_sub(before.unanswered),
        };
        Growth { by, over: age(base, now) }
    }
}

/// At least a second, so that a rate right after the start is not a huge number made of nothing.
fn age(base: Option<&Sample>, now: Instant) -> Duration {
    base.map_or(Duration::ZERO, |sample| now.duration_since(sample.at)).max(Duration::from_secs(1))
}
