//! What was observed over the last 10 seconds and the last minute.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

use merismos_core::duty::LoadPeak;
use merismos_core::name::Name;
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

    /// Forgets all samples: what was counted up to now is no growth.
    pub(super) fn begin_anew(&mut self, snapshot: &Snapshot, at: Instant) {
        self.0.clear();
        self.sample(snapshot, at);
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
            denied: counts.denied.saturating_sub(before.denied),
            limited: counts.limited.saturating_sub(before.limited),
            unavailable: counts.unavailable.saturating_sub(before.unavailable),
            unanswered: counts.unanswered.saturating_sub(before.unanswered),
            errors: counts.errors.saturating_sub(before.errors),
            cut_for_memory: counts.cut_for_memory.saturating_sub(before.cut_for_memory),
            handshakes: counts.handshakes.saturating_sub(before.handshakes),
            resumed: counts.resumed.saturating_sub(before.resumed),
            bad_handshakes: counts.bad_handshakes.saturating_sub(before.bad_handshakes),
            wrong_protocol: counts.wrong_protocol.saturating_sub(before.wrong_protocol),
            redirected: counts.redirected.saturating_sub(before.redirected),
            challenges: counts.challenges.saturating_sub(before.challenges),
        };
        Growth { by, over: age(base, now) }
    }
}

/// At least a second, so that a rate right after the start is not a huge number made of nothing.
fn age(base: Option<&CountsSample>, now: Instant) -> Duration {
    base.map_or(Duration::ZERO, |sample| now.duration_since(sample.at)).max(Duration::from_secs(1))
}
/// Over how long the work of a pool is taken for a peak.
const PEAK_OVER: usize = 10;
/// How many hours of peaks are kept.
const PEAK_HOURS: usize = 24;

/// The most work that pools had within each of the last 24 hours of this run.
#[derive(Debug)]
pub(super) struct LoadPeaks {
    started: Instant,
    pools: BTreeMap<Name, PoolPeaks>,
}

#[derive(Debug)]
struct PoolPeaks {
    /// What had begun, at the last seconds.
    begun: VecDeque<(Instant, u64)>,
    /// The peak of each hour, the newest last, with the hour's number since the start.
    hours: VecDeque<(u64, f64, u64)>,
}

impl LoadPeaks {
    fn new(started: Instant) -> Self {
        Self { started, pools: BTreeMap::new() }
    }

    /// Takes a sample, each second.
    pub(super) fn sample(&mut self, snapshot: &Snapshot, at: Instant) {
        let hour = at.duration_since(self.started).as_secs() / 3_600;
        self.pools.retain(|name, _| snapshot.pools.binary_search_by(|pool| pool.name.cmp(name)).is_ok());
        for pool in &snapshot.pools {
            let counts = pool.servers.iter().map(|server| server.cell.counts());
            let (begun, in_flight) =
                counts.fold((0, 0), |(begun, open), counts| (begun + counts.begun, open + counts.in_flight));
            let peaks = self
                .pools
                .entry(pool.name.clone())
                .or_insert_with(|| PoolPeaks { begun: VecDeque::new(), hours: VecDeque::new() });
            peaks.note(at, hour, begun, in_flight);
        }
    }

    /// The most work that a pool had within the last 24 hours.
    pub(super) fn of(&self, pool: &Name) -> LoadPeak {
        let Some(peaks) = self.pools.get(pool) else { return LoadPeak::default() };
        let hours = self.started.elapsed().as_secs() / 3_600 + 1;
        LoadPeak {
            per_second: peaks.hours.iter().map(|(_, rate, _)| *rate).fold(0.0, f64::max),
            in_flight: peaks.hours.iter().map(|(.., open)| *open).max().unwrap_or_default(),
            hours: u32::try_from(hours).unwrap_or(u32::MAX).min(PEAK_HOURS as u32),
        }
    }
}

impl PoolPeaks {
    fn note(&mut self, at: Instant, hour: u64, begun: u64, in_flight: u64) {
        // Servers that are gone take their counts along: that is no negative rate.
        let rate = self.begun.front().map_or(0.0, |(since, before)| {
            let seconds = at.duration_since(*since).as_secs_f64().max(1.0);
            begun.saturating_sub(*before) as f64 / seconds
        });
        self.begun.push_back((at, begun));
        if self.begun.len() > PEAK_OVER {
            self.begun.pop_front();
        }
        match self.hours.back_mut().filter(|(known, ..)| *known == hour) {
            Some((_, peak, open)) => (*peak, *open) = (peak.max(rate), (*open).max(in_flight)),
            None => self.hours.push_back((hour, rate, in_flight)),
        }
        while self.hours.front().is_some_and(|(known, ..)| known + PEAK_HOURS as u64 <= hour) {
            self.hours.pop_front();
        }
    }
}

/// What traffic was: rates of the last minute, and the moment from which totals count.
pub(super) struct TrafficTotals {
    pub(super) rates: Rates,
    pub(super) peaks: LoadPeaks,
    /// When totals began to be counted anew, and what each server's cell had counted then.
    pub(super) reset: Option<(Wall, BTreeMap<u32, ServerCounts>)>,
}

impl TrafficTotals {
    pub(super) fn new(now: Instant) -> Self {
        Self { rates: Rates::new(now), peaks: LoadPeaks::new(now), reset: None }
    }
}
