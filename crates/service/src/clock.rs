//! The service's clocks.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use merismos_core::time::Wall;

/// The wall clock.
pub(crate) fn wall() -> Wall {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Wall(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

/// Numbers that grow with time, also over restarts: milliseconds and a counter of 10 bits, so that they stay
/// below 2^53 and a console reads them exactly.
#[derive(Debug, Default)]
pub(crate) struct Numbers(AtomicU64);

impl Numbers {
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
    fn numbers_grow_whatever_the_clock_does() {
        let numbers = Numbers::default();
        let drawn: Vec<_> = (0..1_000).map(|_| numbers.next()).collect();
        assert!(drawn.is_sorted_by(|a, b| a < b));
    }
}
