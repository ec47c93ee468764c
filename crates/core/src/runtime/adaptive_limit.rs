//! How many requests a server may have at once, found from how long it takes for them.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::time::Tick;

/// Where a limit begins.
const FIRST: f64 = 16.0;
/// What a limit never falls below.
const LEAST: f64 = 2.0;
/// How long response times are gathered before the limit moves.
const WINDOW: Duration = Duration::from_millis(100);
/// How many of them are needed for that.
const SAMPLES: u64 = 10;
/// How long the lowest mean is believed.
const BELIEVED: Duration = Duration::from_secs(30);
/// The parts of the limit that may wait inside the server: below the first it grows, above the second it shrinks.
const FEW_WAIT: f64 = 0.33;
const MANY_WAIT: f64 = 0.5;
/// The part of the limit that has to be in flight for it to grow. Halved, it is still more than that.
const USED: f64 = 0.4;

/// A limit that follows the response time, as TCP Vegas sets its window (Brakmo, Peterson: "TCP Vegas: end to end congestion avoidance on
/// a global Internet", IEEE JSAC 13 (8), 1995).
///
/// Of `limit` requests that take `mean` each where an idle server takes `base`, `limit * (1 - base / mean)` wait inside the server and gain
/// nothing by it. While these are few the limit grows, doubling until the first time that they are not; while they are many it shrinks. `base` is the lowest mean of a window
/// of at least ten requests, not the fastest request: applications have fast and slow pages. It is measured anew every 30 s, with the limit
/// halved for one window so that the server can empty (as the probe of BBR: Cardwell and others, "BBR: congestion-based congestion
/// control", ACM Queue 14 (5), 2016); a server that has less to do than that feels nothing of it.
///
/// Workers share it without a lock. A response costs two additions; the one that ends a window sets the limit.
#[derive(Debug, Default)]
pub struct AdaptiveLimit {
    /// The limit, as the bits of an `f64`; 0 before the first response.
    limit: AtomicU64,
    /// The lowest mean, in microseconds as the bits of an `f64`; 0 when none is known.
    base: AtomicU64,
    /// When that was measured.
    base_at: AtomicU64,
    /// The sum of the response times of this window, in microseconds.
    sum: AtomicU64,
    /// How many they are.
    count: AtomicU64,
    /// The most that was in flight in this window.
    most: AtomicU64,
    /// When the window ends.
    until: AtomicU64,
    /// Whether it still doubles.
    has_settled: AtomicU64,
    /// Whether it is halved for one window, to measure `base`.
    probes: AtomicU64,
}

fn read(cell: &AtomicU64) -> f64 {
    f64::from_bits(cell.load(Ordering::Relaxed))
}

fn write(cell: &AtomicU64, value: f64) {
    cell.store(value.to_bits(), Ordering::Relaxed);
}

impl AdaptiveLimit {
    /// The most requests that may be in flight, `most` at most.
    #[must_use]
    pub fn now(&self, most: u32) -> u32 {
        let limit = match read(&self.limit) {
            0.0 => FIRST,
            limit => limit,
        };
        let part = if self.probes.load(Ordering::Relaxed) == 1 { 0.5 } else { 1.0 };
        ((limit * part).max(LEAST) as u32).min(most)
    }

    /// A request that was one of so many in flight got its response after a time.
    pub fn note(&self, now: Tick, took: Duration, in_flight: u64, most: u32) {
        let micros = u64::try_from(took.as_micros()).unwrap_or(u64::MAX).max(1);
        self.sum.fetch_add(micros, Ordering::Relaxed);
        let count = self.count.fetch_add(1, Ordering::Relaxed) + 1;
        self.most.fetch_max(in_flight, Ordering::Relaxed);
        let until = self.until.load(Ordering::Relaxed);
        if count < SAMPLES || now.0 < until {
            return;
        }
        let next = now.plus(WINDOW).0;
        if self.until.compare_exchange(until, next, Ordering::Relaxed, Ordering::Relaxed).is_err() {
            return;
        }
        let (sum, count) = (self.sum.swap(0, Ordering::Relaxed), self.count.swap(0, Ordering::Relaxed));
        let in_flight = self.most.swap(0, Ordering::Relaxed);
        if count > 0 {
            self.end_window(now, sum as f64 / count as f64, in_flight, most);
        }
    }

    fn end_window(&self, now: Tick, mean: f64, in_flight: u64, most: u32) {
        let is_probe = self.probes.swap(0, Ordering::Relaxed) == 1;
        let base = read(&self.base);
        let is_old = now.since(Tick(self.base_at.load(Ordering::Relaxed))) >= BELIEVED;
        if base == 0.0 || mean < base || is_probe {
            write(&self.base, mean);
            self.base_at.store(now.0, Ordering::Relaxed);
        } else if is_old {
            // What is in flight now still waits; the window after this one has less of it.
            self.probes.store(1, Ordering::Relaxed);
            return;
        }
        if is_probe {
            return;
        }
        let limit = f64::from(self.now(u32::MAX));
        let waiting = limit * (1.0 - read(&self.base) / mean);
        let has_settled = self.has_settled.load(Ordering::Relaxed) == 1;
        let next = if waiting > (limit * MANY_WAIT).max(2.0) {
            self.has_settled.store(1, Ordering::Relaxed);
            limit * 0.9
        } else if waiting > (limit * FEW_WAIT).max(1.0) {
            self.has_settled.store(1, Ordering::Relaxed);
            limit
        } else if (in_flight as f64) < limit * USED {
            // Nothing is known of a limit that is not used.
            limit
        } else if has_settled {
            limit + (limit * 0.05).max(1.0)
        } else {
            limit * 2.0
        };
        write(&self.limit, next.clamp(LEAST, f64::from(most).max(LEAST)));
    }
}

#[cfg(test)]
mod tests {
    use std::collections::VecDeque;

    use rstest::rstest;

    use super::*;
    use crate::draw::Draw;

    const MILLI: u64 = 1_000_000;

    /// A server with so many hands, each of which works a while for a request; what comes beyond waits inside of it.
    struct World {
        limit: AdaptiveLimit,
        most: u32,
        now: u64,
        /// When each hand is free again.
        hands: Vec<u64>,
        /// Requests that have begun or wait: when they came, and when they will be done.
        in_flight: VecDeque<(u64, u64)>,
        refused: u64,
        taken: u64,
        draw: Draw,
    }

    impl World {
        fn new(hands: usize, most: u32) -> Self {
            let in_flight = VecDeque::new();
            let (limit, hands, draw) = (AdaptiveLimit::default(), vec![0; hands], Draw::seeded(5));
            Self { limit, most, now: MILLI, hands, in_flight, refused: 0, taken: 0, draw }
        }

        /// Requests come for a while, so many a second, each of which takes a time between half and one and a half of `work`.
        /// Gives the mean response time of the last second.
        fn run(&mut self, seconds: u64, per_second: u64, work: Duration) -> Duration {
            let end = self.now + seconds * 1_000 * MILLI;
            let (mut sum, mut count) = (0, 0);
            let step = 1_000 * MILLI / per_second;
            while self.now < end {
                self.now += step / 2 + self.draw.number() % step;
                while let Some((came, done)) =
                    self.in_flight.front().copied().filter(|(_, done)| *done <= self.now)
                {
                    let in_flight = self.in_flight.len() as u64;
                    self.in_flight.pop_front();
                    self.limit.note(Tick(done), Duration::from_nanos(done - came), in_flight, self.most);
                    if done > end - 1_000 * MILLI {
                        (sum, count) = (sum + done - came, count + 1);
                    }
                }
                if self.in_flight.len() >= self.limit.now(self.most) as usize {
                    self.refused += 1;
                    continue;
                }
                self.taken += 1;
                let hand = (0..self.hands.len()).min_by_key(|hand| self.hands[*hand]).unwrap();
                let nanos = u64::try_from(work.as_nanos()).unwrap();
                let begins = self.hands[hand].max(self.now);
                self.hands[hand] = begins + nanos / 2 + self.draw.number() % nanos;
                let place = self.in_flight.partition_point(|(_, done)| *done < self.hands[hand]);
                self.in_flight.insert(place, (self.now, self.hands[hand]));
            }
            Duration::from_nanos(sum.checked_div(count).unwrap_or(0))
        }
    }

    #[rstest]
    #[case::few_hands(8, 10)]
    #[case::many_hands(100, 50)]
    fn an_overloaded_server_gets_what_it_can_do_and_stays_fast(#[case] hands: usize, #[case] millis: u64) {
        let work = Duration::from_millis(millis);
        let can_do = hands as u64 * 1_000 / millis;
        let mut world = World::new(hands, 10_000);
        world.run(10, can_do / 2, work);
        let early = world.refused;
        world.run(10, can_do / 2, work);
        assert_eq!((world.refused, early < can_do), (early, true), "half of what it can do: {early}");
        // Twice what it can do, for two minutes: several probes fall into them.
        let mean = world.run(20, can_do * 2, work);
        assert!(mean < work * 3, "{mean:?}");
        let (taken, refused) = (world.taken, world.refused);
        let mean = world.run(100, can_do * 2, work);
        let done = (world.taken - taken) / 100;
        assert!(mean < work * 3, "{mean:?} after two minutes");
        assert!(done * 10 > can_do * 9, "{done} of {can_do} a second");
        assert!(world.refused - refused > can_do * 90);
        let limit = world.limit.now(10_000) as usize;
        assert!((hands..hands * 3).contains(&limit), "{limit}");
        // And nothing is refused any more when the rush is over.
        let refused = world.refused;
        world.run(2, can_do / 2, work);
        let early = world.refused;
        world.run(60, can_do / 2, work);
        assert_eq!((world.refused - early, early - refused < can_do / 20), (0, true), "{early} {refused}");
    }

    #[test]
    fn an_application_that_became_slower_is_believed() {
        let mut world = World::new(1_000, 10_000);
        world.run(10, 1_000, Duration::from_millis(20));
        world.run(60, 1_000, Duration::from_millis(200));
        let refused = world.refused;
        world.run(60, 1_000, Duration::from_millis(200));
        assert_eq!(world.refused, refused, "a thousand hands take two hundred at once");
    }

    #[test]
    fn it_is_never_above_what_is_configured() {
        let mut world = World::new(1_000, 50);
        world.run(30, 20_000, Duration::from_millis(10));
        assert_eq!((world.limit.now(50), AdaptiveLimit::default().now(5)), (50, 5));
    }
}
