//! How fast a server answers: a mean that forgets.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::time::Tick;

/// After this long without news, 63 percent of what was known is forgotten.
const MEMORY: Duration = Duration::from_secs(10);

/// A mean of response times in which old ones count less and less, by time and not by number, so a burst of requests
/// does not wipe out what was known before it. Workers share it without a lock; of two that write in the same moment
/// one sample may be lost.
#[derive(Debug, Default)]
pub struct LatencyAverage {
    /// Microseconds as the bits of an `f64`; 0 as long as nothing is known.
    mean: AtomicU64,
    /// When it was last written, in nanoseconds as [`Tick`].
    at: AtomicU64,
}

/// How much of something `age` old still counts, 0 to 1.
fn kept(age: Duration) -> f64 {
    (-age.as_secs_f64() / MEMORY.as_secs_f64()).exp()
}

impl LatencyAverage {
    /// Notes a response time.
    pub fn note(&self, now: Tick, took: Duration) {
        let sample = took.as_secs_f64() * 1e6;
        let (mean, at) = self.read();
        // Samples that come close together share the weight of the time that they took.
        let kept = kept(now.since(at)).min(0.9);
        let next = if mean == 0.0 { sample } else { mean * kept + sample * (1.0 - kept) };
        self.mean.store(next.max(1.0).to_bits(), Ordering::Relaxed);
        self.at.store(now.0, Ordering::Relaxed);
    }

    /// The mean in microseconds, drawn towards `others` as it grows old; `others` when nothing is known.
    #[must_use]
    pub fn typical(&self, now: Tick, others: Option<f64>) -> Option<f64> {
        let (mean, at) = self.read();
        match (mean, others) {
            (0.0, others) => others,
            (mean, None) => Some(mean),
            (mean, Some(others)) => Some(others + (mean - others) * kept(now.since(at))),
        }
    }

    fn read(&self) -> (f64, Tick) {
        (f64::from_bits(self.mean.load(Ordering::Relaxed)), Tick(self.at.load(Ordering::Relaxed)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn news_counts_and_age_fades_towards_the_others() {
        let pace = LatencyAverage::default();
        assert_eq!(pace.typical(Tick(0), None), None);
        assert_eq!(pace.typical(Tick(0), Some(500.0)), Some(500.0));
        pace.note(Tick(0), Duration::from_millis(8));
        assert_eq!(pace.typical(Tick(0), Some(500.0)), Some(8_000.0));
        let later = Tick(0).plus(Duration::from_secs(10));
        let faded = pace.typical(later, Some(500.0)).unwrap();
        assert!((3_200.0..3_300.0).contains(&faded), "{faded}");
        pace.note(later, Duration::from_millis(1));
        let mean = pace.typical(later, None).unwrap();
        assert!((3_500.0..3_600.0).contains(&mean), "{mean}");
    }
}
