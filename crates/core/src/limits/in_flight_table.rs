//! How much of each client is under way: one count each, in a table of bounded size.

use std::sync::atomic::{AtomicU64, Ordering};

use super::turns::PlaceTurns;

/// How many clients may stand in one bucket: a cache line.
const WAYS: usize = 8;
/// Places for each client that is to be counted by itself.
const ROOM: usize = 2;
/// One shared count for so many places.
const PLACES_PER_SHARED: usize = 8;
/// The lowest bits of a place are the count, the others the client's tag.
const COUNT_BITS: u32 = 24;
const COUNT: u64 = (1 << COUNT_BITS) - 1;

#[derive(Debug, Default)]
#[repr(align(64))]
struct InFlightBucket([AtomicU64; WAYS]);

/// Where something that is under way was counted, to be given back with [`InFlightTable::release`].
#[derive(Debug, PartialEq, Eq)]
pub enum InFlightPlace {
    /// At the client's own place.
    Own(usize),
    /// At two counts that are shared with other clients.
    Shared([usize; 2]),
}

/// The counts of all clients of one limit.
///
/// A place whose count is 0 may be taken by another client. Those for whom there is none share two counts, of which the lower one counts: they may be held
/// off too early. One that gets a place of its own while it has work at shared counts may have as much again. Memory: 18 bytes for each client, rounded up to a power of two; a look touches one cache line, three
/// when the bucket is full, and allocates nothing.
#[derive(Debug)]
pub struct InFlightTable {
    buckets: Box<[InFlightBucket]>,
    shared: Box<[AtomicU64]>,
    turns: PlaceTurns,
}

impl InFlightTable {
    /// A table in which so many clients are counted by themselves.
    #[must_use]
    pub fn new(clients: usize) -> Self {
        let places = (clients.max(WAYS) * ROOM).next_power_of_two();
        let shared = (places / PLACES_PER_SHARED).next_power_of_two().max(2);
        Self {
            buckets: (0..places / WAYS).map(|_| InFlightBucket::default()).collect(),
            shared: (0..shared).map(|_| AtomicU64::new(0)).collect(),
            turns: PlaceTurns::default(),
        }
    }

    /// Counts one more of the client with this hash; `None` where as many as `most` are there.
    #[must_use]
    pub fn acquire(&self, hash: u64, most: u32) -> Option<InFlightPlace> {
        if most == 0 {
            return None;
        }
        let (number, tag) = self.place_of(hash);
        if let Some(counted) = self.count_at_own(number, tag, most) {
            return counted;
        }
        let _turn = self.turns.take(number);
        // Another worker may have had its turn in between.
        if let Some(counted) = self.count_at_own(number, tag, most) {
            return counted;
        }
        for (way, place) in self.buckets[number].0.iter().enumerate() {
            let word = place.load(Ordering::Relaxed);
            let taken = (tag << COUNT_BITS) | 1;
            if word & COUNT == 0
                && place.compare_exchange(word, taken, Ordering::Relaxed, Ordering::Relaxed).is_ok()
            {
                return Some(InFlightPlace::Own(number * WAYS + way));
            }
        }
        let places = self.shared_places(hash);
        let least = places.map(|place| self.shared[place].load(Ordering::Relaxed)).into_iter().min();
        (least.unwrap_or(0) < u64::from(most)).then(|| {
            for place in places {
                self.shared[place].fetch_add(1, Ordering::Relaxed);
            }
            InFlightPlace::Shared(places)
        })
    }

    /// Counts one more where the client has a place, which stays its own after its count is 0 until another takes it; `None` where it has none.
    fn count_at_own(&self, number: usize, tag: u64, most: u32) -> Option<Option<InFlightPlace>> {
        let bucket = &self.buckets[number].0;
        let way = bucket.iter().position(|place| place.load(Ordering::Relaxed) >> COUNT_BITS == tag)?;
        let has_room = more(&bucket[way], tag, most)?;
        Some(has_room.then_some(InFlightPlace::Own(number * WAYS + way)))
    }

    /// What was counted at a place has ended.
    pub fn release(&self, place: &InFlightPlace) {
        match place {
            InFlightPlace::Own(number) => {
                self.buckets[number / WAYS].0[number % WAYS].fetch_sub(1, Ordering::Relaxed);
            }
            InFlightPlace::Shared(places) => {
                for place in places {
                    self.shared[*place].fetch_sub(1, Ordering::Relaxed);
                }
            }
        }
    }

    /// How much of a client is under way.
    #[must_use]
    pub fn peek(&self, hash: u64) -> u64 {
        let (number, tag) = self.place_of(hash);
        let words = self.buckets[number].0.iter().map(|place| place.load(Ordering::Relaxed));
        words.filter(|word| word >> COUNT_BITS == tag).map(|word| word & COUNT).max().unwrap_or_else(|| {
            let places = self.shared_places(hash);
            places.map(|place| self.shared[place].load(Ordering::Relaxed)).into_iter().min().unwrap_or(0)
        })
    }

    fn place_of(&self, hash: u64) -> (usize, u64) {
        (hash as usize & (self.buckets.len() - 1), hash >> COUNT_BITS)
    }

    fn shared_places(&self, hash: u64) -> [usize; 2] {
        let half = self.shared.len() / 2;
        [(hash >> 40) as usize & (half - 1), half + ((hash >> 20) as usize & (half - 1))]
    }
}

/// Counts one more at a place, in one step for all workers: `Some(false)` where that would be too many. `None` where the place went to another client in
/// between.
fn more(place: &AtomicU64, tag: u64, most: u32) -> Option<bool> {
    let mut word = place.load(Ordering::Relaxed);
    loop {
        if word >> COUNT_BITS != tag {
            return None;
        }
        if word & COUNT >= u64::from(most).min(COUNT) {
            return Some(false);
        }
        match place.compare_exchange_weak(word, word + 1, Ordering::Relaxed, Ordering::Relaxed) {
            Ok(_) => return Some(true),
            Err(now_there) => word = now_there,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::super::turns::meet;
    use super::*;
    use crate::draw::mix;

    #[test]
    fn as_many_as_may_be_there_are() {
        let table = InFlightTable::new(64);
        let held: Vec<InFlightPlace> = (0..5).filter_map(|_| table.acquire(mix(7), 3)).collect();
        assert_eq!((held.len(), table.peek(mix(7)), table.peek(mix(8))), (3, 3, 0));
        assert!(table.acquire(mix(8), 3).is_some(), "another client");
        table.release(&held[0]);
        assert_eq!(table.peek(mix(7)), 2);
        assert!(table.acquire(mix(7), 3).is_some());
        assert!(table.acquire(mix(7), 3).is_none());
        assert!(table.acquire(mix(9), 0).is_none());
    }

    #[test]
    fn more_clients_than_places_share_and_give_all_back() {
        let table = InFlightTable::new(8);
        let held: Vec<InFlightPlace> = (0..500).filter_map(|one| table.acquire(mix(one), 1_000)).collect();
        assert_eq!(held.len(), 500);
        assert!(held.iter().any(|place| matches!(place, InFlightPlace::Shared(_))));
        held.iter().for_each(|place| table.release(place));
        assert!((0..500).all(|one| table.peek(mix(one)) == 0));
    }

    #[test]
    fn workers_count_together() {
        let table = InFlightTable::new(64);
        let held: usize = std::thread::scope(|scope| {
            let one = || (0..1_000).filter(|_| table.acquire(mix(3), 1_500).is_some()).count();
            let threads: Vec<_> = (0..4).map(|_| scope.spawn(one)).collect();
            threads.into_iter().map(|thread| thread.join().unwrap()).sum()
        });
        assert_eq!(held, 1_500);
    }

    #[test]
    fn a_client_that_two_workers_meet_at_the_same_moment_has_one_count() {
        const CLIENTS: usize = 4_000;
        let table = InFlightTable::new(2 * CLIENTS);
        let both = meet(CLIENTS, |client| (0..2).filter(|_| table.acquire(mix(client), 2).is_some()).count());
        let sums: Vec<usize> = both.iter().map(|(one, other)| one + other).collect();
        assert_eq!(sums, [2; CLIENTS], "two of each may be there");
    }

    proptest! {
        #[test]
        fn it_counts_as_a_map_would(steps in prop::collection::vec((0_u64..12, any::<bool>()), 1..200)) {
            let table = InFlightTable::new(1_000);
            let mut held: BTreeMap<u64, Vec<InFlightPlace>> = BTreeMap::new();
            for (client, comes) in steps {
                let own = held.entry(client).or_default();
                if comes {
                    let place = table.acquire(mix(client), 4);
                    prop_assert_eq!(place.is_some(), own.len() < 4);
                    own.extend(place);
                } else if let Some(place) = own.pop() {
                    table.release(&place);
                }
                prop_assert_eq!(table.peek(mix(client)), own.len() as u64);
            }
        }
    }
}
