//! What was observed over the last 10 seconds and the last minute.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

use merismos_core::routing::Snapshot;
use merismos_core::runtime::{FrontendCounts, ServerCounts};
use merismos_core::time::Wall;

pub(super) const TEN_SECONDS: Duration = Duration::from_secs(10);
pub(super) const MINUTE: Duration = Duration::from_secs(60);

/// How far apart the samples are that are older than the short window: they are kept for the long one alone.
const COARSE: Duration = Duration::from_secs(5);

/// All counts at one moment, in the order of the numbers of the cells.
#[derive(Debug)]
struct CountsSample {
    at: Instant,
    servers: Box<[(u32, ServerCounts)]>,
    frontends: Box<[(u32, FrontendCounts)]>,
}

fn find<T: Copy>(counts: &[(u32, T)], id: u32) -> Option<T> {
    let place = counts.binary_search_by_key(&id, |(id, _)| *id).ok()?;
    Some(counts[place].1)
}

/// Samples of the last minute, the oldest first.
#[derive(Debug)]
pub(super) struct Rates(VecDeque<CountsSample>);

/// What a count grew by over a window, and how long the window really was.
pub(super) struct Growth<T> {
    pub(super) by: T,
    pub(super) over: Duration,
}

impl Rates {
    /// Before anything was counted.
    pub(super) fn new(at: Instant) -> Self {
        Self(VecDeque::from([CountsSample { at, servers: Box::default(), frontends: Box::default() }]))
    }

    /// Takes a sample and forgets those that are older than the long window.
    pub(super) fn sample(&mut self, snapshot: &Snapshot, at: Instant) {
        let servers = snapshot.pools.iter().flat_map(|pool| &pool.servers);
        let mut servers: Vec<_> = servers.map(|server| (server.cell.id, server.cell.counts())).collect();
        servers.sort_unstable_by_key(|(id, _)| *id);
        let mut frontends: Vec<_> =
            snapshot.frontends().map(|frontend| (frontend.cell.id, frontend.cell.counts())).collect();
        frontends.sort_unstable_by_key(|(id, _)| *id);
        self.0.push_back(CountsSample { at, servers: servers.into(), frontends: frontends.into() });
        while self.0.get(1).is_some_and(|second| at.duration_since(second.at) >= MINUTE) {
            self.0.pop_front();
        }
        self.thin(at);
    }

    /// Drops the sample that has just become older than the short window, when its neighbours are close enough.
    fn thin(&mut self, at: Instant) {
        let old = |sample: &CountsSample| at.duration_since(sample.at) > TEN_SECONDS;
        let place = self.0.partition_point(old);
        if place >= 3 {
            let (before, after) = (self.0[place - 3].at, self.0[place - 1].at);
            if after.duration_since(before) <= COARSE {
                self.0.remove(place - 2);
            }
        }
    }

    /// The youngest sample that is at least as old as the window, or the oldest there is.
    fn base(&self, window: Duration, now: Instant) -> Option<&CountsSample> {
        let old_enough = |sample: &&CountsSample| now.duration_since(sample.at) >= window;
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
        let before = base.and_then(|sample| find(&sample.servers, id)).unwrap_or_default();
        let by = counts.since(&before);
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
        let before = base.and_then(|sample| find(&sample.frontends, id)).unwrap_or_default();
        let by = FrontendCounts {
            connections: counts.connections,
            requests: counts.requests.saturating_sub(before.requests),
            refused: counts.refused.saturating_sub(before.refused),
            turned_away: counts.turned_away.saturating_sub(before.turned_away),
            unavailable: counts.unavailable.saturating_sub(before.unavailable),
            unanswered: counts.unanswered.saturating_sub(before.unanswered),
            errors: counts.errors.saturating_sub(before.errors),
            cut_for_memory: counts.cut_for_memory.saturating_sub(before.cut_for_memory),
        };
        Growth { by, over: age(base, now) }
    }
}

/// At least a second, so that a rate right after the start is not a huge number made of nothing.
fn age(base: Option<&CountsSample>, now: Instant) -> Duration {
    base.map_or(Duration::ZERO, |sample| now.duration_since(sample.at)).max(Duration::from_secs(1))
}
/// What traffic was: rates of the last minute, and the moment from which totals count.
pub(super) struct TrafficTotals {
    pub(super) rates: Rates,
    /// When totals began to be counted anew, and what each server's cell had counted then.
    pub(super) reset: Option<(Wall, BTreeMap<u32, ServerCounts>)>,
}

impl TrafficTotals {
    pub(super) fn new(now: Instant) -> Self {
        Self { rates: Rates::new(now), reset: None }
    }
}
