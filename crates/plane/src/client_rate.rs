//! The lowest rate at which a client may send and take.
//!
//! A client that moves a byte now and then never rests for long, and would hold a server's connection for ever. What counts is the
//! time for which the client was waited for, and what moved when that was over: a client that is faster than its server is
//! never slow.

use std::cell::Cell;
use std::time::Duration;

use merismos_core::routing::Frontend;

use crate::deadline::{TICK, ticks};

/// How fast a client was in one direction of one exchange.
#[derive(Debug)]
pub(crate) struct ClientRate {
    /// Bytes a second; 0 is none.
    least: u64,
    /// For how long it may be slower.
    grace: Duration,
    /// Since when it is waited for, in ticks.
    since: Cell<Option<u64>>,
    /// For how long it was waited for, in ticks.
    waited: Cell<u64>,
    /// What moved after that.
    moved: Cell<u64>,
}

impl ClientRate {
    pub(crate) fn new(frontend: &Frontend) -> Self {
        Self::of(frontend.min_rate, frontend.min_rate_grace)
    }

    fn of(least: u64, grace: Duration) -> Self {
        let (waited, moved) = (Cell::new(0), Cell::new(0));
        Self { least, grace, since: Cell::new(None), waited, moved }
    }

    /// The client is waited for from now on.
    pub(crate) fn wait(&self, now: u64) {
        if self.since.get().is_none() {
            self.since.set(Some(now));
        }
    }

    /// Something moved. Gives whether it is too little for the time that it took by now.
    pub(crate) fn is_too_slow(&self, now: u64, bytes: usize) -> bool {
        let Some(since) = self.since.take() else { return false };
        let waited = self.waited.get() + (now - since);
        let moved = self.moved.get() + bytes as u64;
        self.waited.set(waited);
        self.moved.set(moved);
        // The bytes that `waited` ticks would have brought at the lowest rate.
        let wanted = u128::from(self.least) * u128::from(waited) * TICK.as_millis() / 1_000;
        waited > ticks(self.grace) && u128::from(moved) < wanted
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ends_after(rate: &ClientRate, bytes: usize, every: u64, within: u64) -> Option<u64> {
        (1..within / every).find_map(|step| {
            rate.wait((step - 1) * every);
            rate.is_too_slow(step * every, bytes).then_some(step * every)
        })
    }

    #[test]
    fn a_byte_a_second_ends_after_the_grace_and_enough_of_them_never() {
        let (second, grace) = (ticks(Duration::from_secs(1)), Duration::from_secs(30));
        let hour = 3_600 * second;
        let slow = ends_after(&ClientRate::of(32, grace), 1, second, hour).unwrap();
        assert!((30 * second..=32 * second).contains(&slow), "{slow}");
        assert_eq!(ends_after(&ClientRate::of(32, grace), 32, second, hour), None);
        assert_eq!(ends_after(&ClientRate::of(0, grace), 1, second, hour), None, "no lowest rate");
    }

    #[test]
    fn time_in_which_the_client_is_not_waited_for_does_not_count() {
        let rate = ClientRate::of(32, Duration::from_secs(1));
        for step in 0..1_000 {
            assert!(!rate.is_too_slow(step * 1_000, 1), "no one waited for it");
        }
    }
}
