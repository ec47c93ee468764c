//! The service's clocks.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use merismos_core::time::Wall;

/// How many bits of a growing number are within a millisecond.
const COUNTED: u32 = 10;
/// How far apart the numbers of one node are.
const STEP: u64 = merismos_store::SLOTS as u64;

pub(crate) fn wall() -> Wall {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Wall(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

/// Numbers that grow with time, also over restarts: milliseconds, a counter of 3 bits, and the node's slot of 7 bits, so that no two nodes make the
/// same one, and all stay below 2^53 and a console reads them exactly. More than 8 in a millisecond run ahead of the clock.
#[derive(Debug, Default)]
pub(crate) struct GrowingNumbers {
    last: AtomicU64,
    slot: u64,
}

impl GrowingNumbers {
    /// The numbers of the node with this slot.
    pub(crate) fn of_slot(slot: u8) -> Self {
        Self { last: AtomicU64::new(0), slot: u64::from(slot) % STEP }
    }

    /// The smallest number of a moment.
    pub(crate) fn at(at: Wall) -> u64 {
        u64::try_from(at.0).unwrap_or(0) << COUNTED
    }

    /// From now on all are larger than this one.
    pub(crate) fn not_before(&self, known: u64) {
        self.last.fetch_max(known, Ordering::Relaxed);
    }

    pub(crate) fn next(&self) -> u64 {
        let now = Self::at(wall()) | self.slot;
        // A number that is known may be another node's.
        let after = |last: u64| now.max((last / STEP + 1) * STEP + self.slot);
        let grown = |last: u64| Some(after(last));
        let last =
            self.last.fetch_update(Ordering::Relaxed, Ordering::Relaxed, grown).unwrap_or_else(|last| last);
        after(last)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_that_was_set_back_does_not_make_smaller_ones() {
        let numbers = GrowingNumbers::default();
        let ahead = (u64::try_from(wall().0).unwrap() + 3_600_000) << 10;
        numbers.not_before(ahead);
        numbers.not_before(5);
        assert_eq!(numbers.next(), ahead + STEP);
    }

    #[test]
    fn two_nodes_never_make_the_same_number() {
        let (one, other) = (GrowingNumbers::of_slot(0), GrowingNumbers::of_slot(1));
        let mut seen = std::collections::BTreeSet::new();
        for turn in 0..2_000_u64 {
            let (first, second) = (one.next(), other.next());
            assert!(seen.insert(first) && seen.insert(second), "turn {turn}");
            if turn % 3 == 0 {
                // Each learns of what the other one made.
                one.not_before(second);
                other.not_before(first);
                assert!(one.next() > second && other.next() > first);
            }
        }
    }

    #[test]
    fn numbers_grow_whatever_the_clock_does() {
        let numbers = GrowingNumbers::default();
        let drawn: Vec<_> = (0..1_000).map(|_| numbers.next()).collect();
        assert!(drawn.is_sorted_by(|a, b| a < b));
    }
}
