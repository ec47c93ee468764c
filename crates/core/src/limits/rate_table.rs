//! How fast each client asks: one number each, in a table of bounded size.

use std::sync::atomic::{AtomicU64, Ordering};

use super::turns::PlaceTurns;

/// How many clients may stand in one bucket: two cache lines.
const WAYS: usize = 8;
/// Places for each client that is to be counted by itself: with half of them empty, few buckets are full.
const ROOM: usize = 2;
/// One shared count for so many places.
const PLACES_PER_SHARED: usize = 8;

/// A rate with a burst, as the generic cell rate algorithm counts it (ITU-T I.371, annex A.1, virtual scheduling).
///
/// A client has one number: the time at which it will have used up nothing of its burst (the theoretical arrival time). Each request
/// moves it on by `interval`; a request that finds it more than the burst ahead comes too early.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PacedRate {
    /// Nanoseconds for each request at the full rate; 1 at least.
    interval: u64,
    /// How far ahead of the time that number may be, in nanoseconds.
    tolerance: u64,
}

/// What becomes of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RateAnswer {
    /// It may go on, in so many nanoseconds: at once with 0.
    Pass(u64),
    /// It comes too early, by so many nanoseconds.
    Early(u64),
}

impl PacedRate {
    /// So many requests in a time of so many nanoseconds, of which `burst` may come at once.
    #[must_use]
    pub fn new(requests: u32, within_nanos: u64, burst: u32) -> Self {
        let interval = (within_nanos / u64::from(requests.max(1))).max(1);
        Self { interval, tolerance: interval.saturating_mul(u64::from(burst.max(1) - 1)) }
    }

    /// The rate of something that takes so many nanoseconds by itself, of which so many nanoseconds' worth may come at once.
    #[must_use]
    pub fn of_cost(nanos: u64, at_once: u64) -> Self {
        Self { interval: nanos.max(1), tolerance: at_once }
    }

    /// Decides about a client whose number is `ahead`; gives the answer, and the number as it is afterwards where the request passes. A request
    /// that would have to wait for `patience` nanoseconds at most passes all the same, later.
    #[must_use]
    pub fn decide(&self, ahead: u64, now: u64, patience: u64) -> (RateAnswer, Option<u64>) {
        let begins = ahead.max(now);
        let early = (begins - now).saturating_sub(self.tolerance);
        if early > patience {
            return (RateAnswer::Early(early), None);
        }
        (RateAnswer::Pass(early), Some(begins.saturating_add(self.interval)))
    }
}

/// A client's place. One whose time has passed says nothing any more and may be taken by another.
#[derive(Debug, Default)]
struct RatePlace {
    /// The client's hash, with the lowest bit set; 0 is no client.
    tag: AtomicU64,
    /// See [`PacedRate`].
    ahead: AtomicU64,
}

#[derive(Debug, Default)]
#[repr(align(128))]
struct RateBucket([RatePlace; WAYS]);

/// The numbers of all clients of one limit.
///
/// Who asks most keeps a place of its own; those for whom there is none share counts by two hashes of theirs, of which the lower one
/// counts (Estan, Varghese: "New directions in traffic measurement and accounting", SIGCOMM 2002, with conservative update). A client that shares may be
/// held off too early, never too late. Memory: 36 bytes for each client of `clients`, rounded up to a power of two; a look touches two
/// cache lines, four when the bucket is full, and allocates nothing.
#[derive(Debug)]
pub struct RateTable {
    buckets: Box<[RateBucket]>,
    shared: Box<[AtomicU64]>,
    turns: PlaceTurns,
}

impl RateTable {
    /// A table in which so many clients are counted by themselves.
    #[must_use]
    pub fn new(clients: usize) -> Self {
        let places = (clients.max(WAYS) * ROOM).next_power_of_two();
        let shared = (places / PLACES_PER_SHARED).next_power_of_two().max(2);
        Self {
            buckets: (0..places / WAYS).map(|_| RateBucket::default()).collect(),
            shared: (0..shared).map(|_| AtomicU64::new(0)).collect(),
            turns: PlaceTurns::default(),
        }
    }

    /// What becomes of a request of the client with this hash at this time, in nanoseconds; whether it shares its count with others.
    #[must_use]
    pub fn ask(&self, hash: u64, rate: PacedRate, now: u64, patience: u64) -> (RateAnswer, bool) {
        let (number, tag) = (self.number_of(hash), hash | 1);
        let bucket = &self.buckets[number].0;
        let own = || bucket.iter().find(|place| place.tag.load(Ordering::Relaxed) == tag);
        if let Some(place) = own() {
            return (count(&place.ahead, rate, now, patience), false);
        }
        let _turn = self.turns.take(number);
        // Another worker may have had its turn in between.
        match own().or_else(|| bucket.iter().find(|place| takes(place, tag, now))) {
            Some(place) => (count(&place.ahead, rate, now, patience), false),
            None => (self.share(bucket, tag, rate, now, patience), true),
        }
    }

    /// What would become of a request, without counting it.
    #[must_use]
    pub fn peek(&self, hash: u64, rate: PacedRate, now: u64, patience: u64) -> RateAnswer {
        let tag = hash | 1;
        let own = self.buckets[self.number_of(hash)]
            .0
            .iter()
            .find(|place| place.tag.load(Ordering::Relaxed) == tag);
        let ahead = own.map_or_else(|| self.shared_ahead(tag), |place| place.ahead.load(Ordering::Relaxed));
        rate.decide(ahead, now, patience).0
    }

    /// How many clients have a place now. It looks at 1,024 buckets at most, and multiplies.
    #[must_use]
    pub fn clients(&self, now: u64) -> usize {
        const MOST: usize = 1_024;
        let step = self.buckets.len().div_ceil(MOST);
        let looked_at = self.buckets.iter().step_by(step);
        let used = |bucket: &RateBucket| {
            bucket.0.iter().filter(|place| place.ahead.load(Ordering::Relaxed) > now).count()
        };
        looked_at.map(used).sum::<usize>() * step
    }

    fn number_of(&self, hash: u64) -> usize {
        // The lowest bits are in the tag alone; the highest choose the shared counts.
        (hash >> 1) as usize & (self.buckets.len() - 1)
    }

    fn shared_places(&self, tag: u64) -> [&AtomicU64; 2] {
        let half = self.shared.len() / 2;
        let (one, other) = ((tag >> 40) as usize, (tag >> 20) as usize);
        [&self.shared[one & (half - 1)], &self.shared[half + (other & (half - 1))]]
    }

    fn shared_ahead(&self, tag: u64) -> u64 {
        self.shared_places(tag).map(|place| place.load(Ordering::Relaxed)).into_iter().min().unwrap_or(0)
    }

    /// Counts a client for which there is no place; one that asks more than another that has one takes that place.
    fn share(
        &self,
        bucket: &[RatePlace; WAYS],
        tag: u64,
        rate: PacedRate,
        now: u64,
        patience: u64,
    ) -> RateAnswer {
        let (answer, after) = rate.decide(self.shared_ahead(tag), now, patience);
        let Some(after) = after else { return answer };
        let raise = |tag: u64, ahead: u64| {
            for place in self.shared_places(tag) {
                place.fetch_max(ahead, Ordering::Relaxed);
            }
        };
        let least = bucket.iter().min_by_key(|place| place.ahead.load(Ordering::Relaxed));
        let lighter = least.map(|place| (place, place.ahead.load(Ordering::Relaxed)));
        if let Some((place, ahead)) = lighter.filter(|(_, ahead)| *ahead < after) {
            let before = place.tag.load(Ordering::Relaxed);
            if place.tag.compare_exchange(before, tag, Ordering::Relaxed, Ordering::Relaxed).is_ok() {
                place.ahead.store(after, Ordering::Relaxed);
                raise(before, ahead);
                return answer;
            }
        }
        raise(tag, after);
        answer
    }
}

/// Takes a place whose client's time has passed.
fn takes(place: &RatePlace, tag: u64, now: u64) -> bool {
    let before = place.tag.load(Ordering::Relaxed);
    place.ahead.load(Ordering::Relaxed) <= now
        && place.tag.compare_exchange(before, tag, Ordering::Relaxed, Ordering::Relaxed).is_ok()
}

/// Decides by a number and moves it on, in one step for all workers.
fn count(place: &AtomicU64, rate: PacedRate, now: u64, patience: u64) -> RateAnswer {
    let mut ahead = place.load(Ordering::Relaxed);
    loop {
        let (answer, after) = rate.decide(ahead, now, patience);
        let Some(after) = after else { return answer };
        match place.compare_exchange_weak(ahead, after, Ordering::Relaxed, Ordering::Relaxed) {
            Ok(_) => return answer,
            Err(now_there) => ahead = now_there,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;
    use rstest::rstest;

    use super::super::turns::meet;
    use super::*;
    use crate::draw::{Draw, mix};

    const SECOND: u64 = 1_000_000_000;

    fn passes(answer: (RateAnswer, bool)) -> bool {
        matches!(answer.0, RateAnswer::Pass(_))
    }

    #[test]
    fn a_client_that_two_workers_meet_at_the_same_moment_has_one_number() {
        const CLIENTS: usize = 4_000;
        let (table, rate) = (RateTable::new(2 * CLIENTS), PacedRate::new(1, 1_000 * SECOND, 1));
        let both = meet(CLIENTS, |client| passes(table.ask(mix(client), rate, SECOND, 0)));
        let twice = both.iter().filter(|(one, other)| *one && *other).count();
        assert_eq!(twice, 0, "clients of which two passed at once");
    }

    #[rstest]
    #[case::at_once(1, 10)]
    #[case::one_at_a_time(1, 1)]
    fn a_burst_passes_and_then_the_rate(#[case] per_second: u32, #[case] burst: u32) {
        let (table, rate) = (RateTable::new(64), PacedRate::new(per_second, SECOND, burst));
        let at = |now: u64| passes(table.ask(77, rate, now, 0));
        let now = 5 * SECOND;
        assert_eq!((0..burst + 5).filter(|_| at(now)).count(), burst as usize);
        // One more for each second from then on, none earlier.
        assert!(!at(now + SECOND - 1));
        assert!(at(now + SECOND));
        assert!(!at(now + SECOND));
        assert_eq!(table.ask(77, rate, now + SECOND, 0).0, RateAnswer::Early(SECOND));
    }

    #[test]
    fn who_has_patience_passes_later() {
        let (table, rate) = (RateTable::new(64), PacedRate::new(10, SECOND, 1));
        let waits: Vec<RateAnswer> = (0..4).map(|_| table.ask(5, rate, SECOND, SECOND / 5).0).collect();
        let tenth = SECOND / 10;
        assert_eq!(
            waits,
            [
                RateAnswer::Pass(0),
                RateAnswer::Pass(tenth),
                RateAnswer::Pass(2 * tenth),
                RateAnswer::Early(3 * tenth)
            ]
        );
        assert_eq!(table.peek(5, rate, SECOND, SECOND), RateAnswer::Pass(3 * tenth), "a look counts nothing");
        assert_eq!(table.peek(5, rate, SECOND, SECOND), RateAnswer::Pass(3 * tenth));
    }

    #[test]
    fn strangers_cost_those_who_have_a_place_nothing() {
        // Far more clients at once than have a place, and one of them asks a hundred times as often.
        let (table, rate) = (RateTable::new(1_000), PacedRate::new(1, SECOND, 100));
        let (mut held_off, mut of_the_heavy) = (0, 0);
        for turn in 0..100_u64 {
            let now = SECOND + turn * SECOND / 100;
            of_the_heavy += u64::from(passes(table.ask(mix(1), rate, now, 0)));
            for one in 0..100 {
                held_off += u64::from(!passes(table.ask(mix(1_000 + turn * 100 + one), rate, now, 0)));
            }
        }
        assert!(of_the_heavy >= 100, "its whole burst: {of_the_heavy}");
        // Each of the ten thousand asked once, and shares with a dozen others at most twenty of a burst of a hundred.
        assert_eq!(held_off, 0);
        assert!(
            !passes(table.ask(mix(1), rate, 2 * SECOND - SECOND / 100, 0)),
            "it is held off at its limit"
        );
    }

    #[test]
    fn the_memory_of_a_million_clients_is_bounded() {
        let table = RateTable::new(1_000_000);
        let bytes = std::mem::size_of_val(&*table.buckets) + std::mem::size_of_val(&*table.shared);
        assert!(bytes <= 64 << 20, "{bytes}");
        let rate = PacedRate::new(1, 60 * SECOND, 1);
        let mut draw = Draw::seeded(7);
        let shared = (0..1_000_000).filter(|_| table.ask(draw.number(), rate, SECOND, 0).1).count();
        assert!(shared < 40_000, "of a million clients {shared} share");
        let known = table.clients(SECOND);
        assert!((930_000..=1_000_000).contains(&known), "{known}");
        assert_eq!(table.clients(62 * SECOND), 0, "their time has passed");
    }

    #[test]
    fn workers_count_together() {
        let (table, rate) = (RateTable::new(64), PacedRate::new(1, SECOND, 1_000));
        let passed: usize = std::thread::scope(|scope| {
            let one = || (0..1_000).filter(|_| passes(table.ask(9, rate, SECOND, 0))).count();
            let threads: Vec<_> = (0..4).map(|_| scope.spawn(one)).collect();
            threads.into_iter().map(|thread| thread.join().unwrap()).sum()
        });
        assert_eq!(passed, 1_000);
    }

    proptest! {
        /// With a place for everyone, each client gets what a bucket of tokens would give it.
        #[test]
        fn each_client_gets_what_a_bucket_of_tokens_gives(
            asked in prop::collection::vec((0_u64..6, 0_u64..400_000_000), 1..300),
            per_second in 1_u32..20,
            burst in 1_u32..8,
        ) {
            let (table, rate) = (RateTable::new(1_000), PacedRate::new(per_second, SECOND, burst));
            let mut buckets: BTreeMap<u64, (u64, u64)> = BTreeMap::new();
            let (mut now, interval) = (SECOND, SECOND / u64::from(per_second));
            for (client, later) in asked {
                now += later;
                // Tokens in nanoseconds: full at burst intervals.
                let full = interval * u64::from(burst);
                let (tokens, since) = buckets.get(&client).copied().unwrap_or((full, now));
                let tokens = (tokens + (now - since)).min(full);
                let wanted = tokens >= interval;
                buckets.insert(client, (if wanted { tokens - interval } else { tokens }, now));
                let got = table.ask(mix(client + 1), rate, now, 0);
                prop_assert_eq!((passes(got), got.1), (wanted, false));
            }
        }
    }
}
