//! The service's clocks.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use merismos_core::time::Wall;

pub(crate) fn wall() -> Wall {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Wall(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

/// Numbers that grow with time, also over restarts: milliseconds and a counter of 10 bits, so that they stay
/// below 2^53 and a console reads them exactly.
#[derive(Debug, Default)]
pub(crate) struct GrowingNumbers(AtomicU64);

impl GrowingNumbers {
    /// From now on all are larger than this one.
    pub(crate) fn not_before(&self, known: u64) {
        self.0.fetch_max(known, Ordering::Relaxed);
    }

    pub(crate) fn next(&self) -> u64 {
        let now = u64::try_from(wall().0).unwrap_or(0) << 10;
        let grown = |last: u64| Some(now.max(last + 1));
        let last =
            self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, grown).unwrap_or_else(|last| last);
        now.max(last + 1)
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
        assert_eq!(numbers.next(), ahead + 1);
    }

    #[test]
    fn numbers_grow_whatever_the_clock_does() {
        let numbers = GrowingNumbers::default();
        let drawn: Vec<_> = (0..1_000).map(|_| numbers.next()).collect();
        assert!(drawn.is_sorted_by(|a, b| a < b));
    }
}
