//! How long a server took for some of its work in the last minute.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::time::Duration;

use crate::time::Tick;

/// How many are kept of a server: 2 KiB once it has had work.
const KEPT: usize = 256;
/// The greatest age of a sample that is reported.
const REPORT_WINDOW: Duration = Duration::from_secs(60);

/// Some response times: any number of writers, none of which waits for another, and any number of readers. Each takes the place of the
/// oldest one.
#[derive(Debug, Default)]
pub struct LatencySamples {
    /// Each the millisecond that it was noted in, above its microseconds; 0 where there is none yet.
    kept: OnceLock<Box<[AtomicU64; KEPT]>>,
    next: AtomicU32,
}

impl LatencySamples {
    /// Notes a response time, to the microsecond; of more than an hour, an hour.
    pub fn note(&self, now: Tick, took: Duration) {
        let kept = self.kept.get_or_init(|| Box::new([const { AtomicU64::new(0) }; KEPT]));
        let place = self.next.fetch_add(1, Ordering::Relaxed) as usize % KEPT;
        // A time of 0 would look as if there were none.
        let micros = took.as_micros().clamp(1, 3_600_000_000) as u64;
        kept[place].store((now.0 / 1_000_000) << 32 | micros, Ordering::Relaxed);
    }

    /// Those of the last minute in microseconds, the shortest first.
    #[must_use]
    pub fn last_minute(&self, now: Tick) -> Vec<u32> {
        let Some(kept) = self.kept.get() else { return Vec::new() };
        // What is kept of the millisecond wraps after 49 days.
        let (now, window) = ((now.0 / 1_000_000) as u32, REPORT_WINDOW.as_millis() as u32);
        let all = kept.iter().map(|slot| slot.load(Ordering::Relaxed)).filter(|measured| *measured != 0);
        let recent = all.filter(|measured| now.wrapping_sub((measured >> 32) as u32) <= window);
        let mut found: Vec<u32> = recent.map(|measured| measured as u32).collect();
        found.sort_unstable();
        found
    }
}

/// The time that so many of a thousand do not exceed (nearest rank); `None` of nothing. `sorted` has the shortest first.
#[must_use]
pub fn of_thousand(sorted: &[u32], thousandths: usize) -> Option<u32> {
    let rank = (sorted.len() * thousandths).div_ceil(1_000).max(1);
    sorted.get(rank - 1).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: u64) -> Tick {
        Tick(0).plus(Duration::from_secs(seconds))
    }

    #[test]
    fn the_last_minute_is_told_and_no_more_than_what_is_kept() {
        let latencies = LatencySamples::default();
        assert!(latencies.last_minute(at(5)).is_empty());
        for second in 0..100 {
            latencies.note(at(second), Duration::from_micros(1_000 - second));
        }
        let recent = latencies.last_minute(at(99));
        assert_eq!((recent.len(), recent.first(), recent.last()), (61, Some(&901), Some(&961)));
        for _ in 0..1_000 {
            latencies.note(at(100), Duration::ZERO);
        }
        assert_eq!(latencies.last_minute(at(100)), [1; KEPT]);
    }

    #[test]
    fn ranks_are_the_nearest() {
        let hundred: Vec<u32> = (1..=100).collect();
        assert_eq!((of_thousand(&hundred, 500), of_thousand(&hundred, 990)), (Some(50), Some(99)));
        assert_eq!(
            (of_thousand(&[7], 500), of_thousand(&[7], 990), of_thousand(&[], 500)),
            (Some(7), Some(7), None)
        );
    }
}
