//! What a server's limits count, and whether there is room.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use super::adaptive_limit::AdaptiveLimit;
use crate::time::Tick;

/// The limits of one server. `None` is no limit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ServerRuntimeLimits {
    /// The most requests in flight at once.
    pub in_flight: Option<u32>,
    /// The most connections that we have to it at once.
    pub connections: Option<u32>,
    /// Whether each request in flight needs a connection of its own, as all but those of HTTP/2 do: then no more work may
    /// be in flight than connections are allowed.
    pub one_each: bool,
    /// The most requests in a second.
    pub rate: Option<u32>,
    /// Whether fewer may be in flight while response times grow.
    pub adaptive: bool,
}

/// Which limit a server has reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LimitReached {
    /// [`ServerRuntimeLimits::in_flight`].
    InFlight,
    /// [`ServerRuntimeLimits::connections`].
    Connections,
    /// [`ServerRuntimeLimits::rate`].
    Rate,
    /// [`ServerRuntimeLimits::adaptive`].
    Adaptive,
}

/// How much there is of what limits count: one number for all workers, written only where there is a limit.
#[derive(Debug, Default)]
pub struct Limiter {
    in_flight: AtomicU64,
    /// How much may be in flight where that goes by the response times.
    adaptive: AdaptiveLimit,
    connections: AtomicU64,
    wants_rest: AtomicBool,
    /// When the next request may begin, were they spread evenly, in nanoseconds as [`Tick`]
    /// (the generic cell rate algorithm of ITU-T I.371).
    due: AtomicU64,
}

/// How far ahead of an even spread work may come, as a part of a second: a tenth of the rate may come at once.
const BURST: u64 = 10;
const SECOND: u64 = 1_000_000_000;

impl ServerRuntimeLimits {
    /// Whether there is no limit at all.
    #[must_use]
    pub fn is_none(&self) -> bool {
        self.in_flight.is_none() && self.connections.is_none() && self.rate.is_none() && !self.adaptive
    }

    /// The most work in flight at once, and which limit says so.
    fn work(&self) -> (Option<u32>, LimitReached) {
        match (self.in_flight, self.connections.filter(|_| self.one_each)) {
            (Some(work), Some(connections)) if connections < work => {
                (Some(connections), LimitReached::Connections)
            }
            (None, Some(connections)) => (Some(connections), LimitReached::Connections),
            (work, _) => (work, LimitReached::InFlight),
        }
    }

    /// The limits of a server that works at a part of its capacity, in percent; none goes below 1.
    #[must_use]
    pub fn scaled(self, percent: u32) -> Self {
        let scale = |limit: u32| (u64::from(limit) * u64::from(percent) / 100).max(1) as u32;
        Self {
            in_flight: self.in_flight.map(scale),
            connections: self.connections.map(scale),
            one_each: self.one_each,
            rate: self.rate.map(scale),
            adaptive: self.adaptive,
        }
    }
}

fn raise(count: &AtomicU64, limit: Option<u32>) -> bool {
    let Some(limit) = limit else {
        count.fetch_add(1, Ordering::Relaxed);
        return true;
    };
    let step = |count: u64| (count < u64::from(limit)).then_some(count + 1);
    count.fetch_update(Ordering::Relaxed, Ordering::Relaxed, step).is_ok()
}

/// The most work in flight where it adapts and nothing else is said.
const MOST_ADAPTIVE: u32 = 10_000;

impl Limiter {
    /// The most work in flight at once now, and which limit says so.
    fn work(&self, limits: ServerRuntimeLimits) -> (Option<u32>, LimitReached) {
        let (work, reached) = limits.work();
        match self.adaptive_limit(limits) {
            Some(most) if work.is_none_or(|work| most < work) => (Some(most), LimitReached::Adaptive),
            _ => (work, reached),
        }
    }

    /// How much may be in flight as response times are now; `None` where that does not adapt.
    #[must_use]
    pub fn adaptive_limit(&self, limits: ServerRuntimeLimits) -> Option<u32> {
        limits.adaptive.then(|| self.adaptive.now(limits.in_flight.unwrap_or(MOST_ADAPTIVE)))
    }

    /// A request got its response after a time.
    pub fn note(&self, limits: ServerRuntimeLimits, now: Tick, took: Duration) {
        if limits.adaptive {
            let most = limits.in_flight.unwrap_or(MOST_ADAPTIVE);
            self.adaptive.note(now, took, self.in_flight.load(Ordering::Relaxed), most);
        }
    }

    /// Which limit is reached, without taking any room.
    #[must_use]
    pub fn full(&self, limits: ServerRuntimeLimits, now: Tick) -> Option<LimitReached> {
        let reached = |count: &AtomicU64, limit: Option<u32>| {
            limit.is_some_and(|most| count.load(Ordering::Relaxed) >= u64::from(most))
        };
        let (work, full) = self.work(limits);
        if reached(&self.in_flight, work) {
            return Some(full);
        }
        if limits.rate.is_some_and(|rate| !Self::is_due(self.due.load(Ordering::Relaxed), rate, now)) {
            return Some(LimitReached::Rate);
        }
        None
    }

    /// Takes room for one request; give it back with [`leave`](Self::leave).
    ///
    /// # Errors
    /// Which limit is reached; no room is taken then.
    pub fn try_acquire(&self, limits: ServerRuntimeLimits, now: Tick) -> Result<(), LimitReached> {
        let (work, full) = self.work(limits);
        if !raise(&self.in_flight, work) {
            return Err(full);
        }
        if let Some(rate) = limits.rate {
            let step =
                |due: u64| Self::is_due(due, rate, now).then(|| due.max(now.0) + SECOND / u64::from(rate));
            if self.due.fetch_update(Ordering::Relaxed, Ordering::Relaxed, step).is_err() {
                self.leave();
                return Err(LimitReached::Rate);
            }
        }
        Ok(())
    }

    fn is_due(due: u64, rate: u32, now: Tick) -> bool {
        let spread = SECOND / u64::from(rate);
        due <= now.0 + (SECOND / BURST).max(spread) - spread
    }

    /// Gives back what [`enter`](Self::try_acquire) took.
    pub fn leave(&self) {
        self.in_flight.fetch_sub(1, Ordering::Relaxed);
    }

    /// Takes room for one connection, when there is room.
    #[must_use]
    pub fn connect(&self, limits: ServerRuntimeLimits) -> bool {
        let has_room = raise(&self.connections, limits.connections);
        // A worker keeps idle connections: they are wanted here.
        self.wants_rest.store(!has_room, Ordering::Relaxed);
        has_room
    }

    /// Whether a connection could not be made because as many as may be are open: those that rest unused are to be closed.
    #[must_use]
    pub fn wants_rest(&self) -> bool {
        self.wants_rest.load(Ordering::Relaxed)
    }

    /// Gives back what [`connect`](Self::connect) took.
    pub fn disconnect(&self) {
        self.connections.fetch_sub(1, Ordering::Relaxed);
    }

    /// Connections to the server right now, where they are counted.
    #[must_use]
    pub fn connections(&self) -> u64 {
        self.connections.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn work_in_flight_is_bounded_and_given_back() {
        let (room, limits) = (
            Limiter::default(),
            ServerRuntimeLimits { in_flight: Some(2), ..ServerRuntimeLimits::default() },
        );
        assert_eq!(
            [(); 3].map(|()| room.try_acquire(limits, Tick(0))),
            [Ok(()), Ok(()), Err(LimitReached::InFlight)]
        );
        assert_eq!(room.full(limits, Tick(0)), Some(LimitReached::InFlight));
        room.leave();
        assert_eq!(room.try_acquire(limits, Tick(0)), Ok(()));
    }

    #[test]
    fn a_rate_holds_over_time_and_a_tenth_may_come_at_once() {
        let (room, limits) =
            (Limiter::default(), ServerRuntimeLimits { rate: Some(100), ..ServerRuntimeLimits::default() });
        let mut taken = Vec::new();
        for millis in 0..3_000_u64 {
            let now = Tick(millis * 1_000_000);
            while room.try_acquire(limits, now).is_ok() {
                room.leave();
                taken.push(millis);
            }
        }
        assert_eq!(taken.iter().filter(|at| **at == 0).count(), 10, "the burst");
        assert!((305..=310).contains(&taken.len()), "{} in three seconds", taken.len());
        assert_eq!(room.full(limits, Tick(0).plus(Duration::from_secs(9))), None);
    }

    #[test]
    fn a_limit_of_connections_makes_a_server_full_where_work_needs_one_each() {
        let limits = ServerRuntimeLimits {
            in_flight: Some(9),
            connections: Some(2),
            one_each: true,
            ..ServerRuntimeLimits::default()
        };
        let room = Limiter::default();
        assert_eq!(
            [(); 3].map(|()| room.try_acquire(limits, Tick(0))),
            [Ok(()), Ok(()), Err(LimitReached::Connections)]
        );
        assert_eq!(room.full(limits, Tick(0)), Some(LimitReached::Connections));
        let shared = ServerRuntimeLimits { one_each: false, ..limits };
        assert_eq!(
            room.try_acquire(shared, Tick(0)),
            Ok(()),
            "requests that share connections need none each"
        );
        let fewer = ServerRuntimeLimits { in_flight: Some(1), ..limits };
        assert_eq!(room.full(fewer, Tick(0)), Some(LimitReached::InFlight), "the smaller one is named");
    }

    #[test]
    fn a_limit_that_adapts_is_named_where_it_is_the_smaller_one() {
        let room = Limiter::default();
        let limits =
            ServerRuntimeLimits { adaptive: true, in_flight: Some(100), ..ServerRuntimeLimits::default() };
        let taken = (0..100).filter(|_| room.try_acquire(limits, Tick(0)).is_ok()).count();
        assert_eq!((taken, room.full(limits, Tick(0))), (16, Some(LimitReached::Adaptive)));
        let small = ServerRuntimeLimits { in_flight: Some(3), ..limits };
        assert_eq!(
            (room.adaptive_limit(small), room.full(small, Tick(0))),
            (Some(3), Some(LimitReached::InFlight))
        );
    }

    #[test]
    fn connections_are_bounded() {
        let (room, limits) = (
            Limiter::default(),
            ServerRuntimeLimits { connections: Some(1), ..ServerRuntimeLimits::default() },
        );
        assert!(room.connect(limits));
        assert!(!room.connect(limits));
        room.disconnect();
        assert!(room.connect(limits));
    }

    #[test]
    fn a_part_of_the_capacity_scales_every_limit() {
        let limits = ServerRuntimeLimits {
            in_flight: Some(10),
            connections: Some(3),
            ..ServerRuntimeLimits::default()
        };
        let half = limits.scaled(50);
        assert_eq!(
            half,
            ServerRuntimeLimits {
                in_flight: Some(5),
                connections: Some(1),
                ..ServerRuntimeLimits::default()
            }
        );
        assert_eq!(limits.scaled(1).connections, Some(1));
    }
}
