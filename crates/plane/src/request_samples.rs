//! Samples of the requests that come, for previews that ask where they would go by other rules.
//!
//! A worker takes one of each frontend in [`EVERY`] ticks at most, so that a busy frontend leaves room for the others, and [`PER_TICK`] of all; and
//! only while there is a listener.

use std::cell::Cell;
use std::sync::Arc;

use merismos_core::config::replay::SampledRequest;
use merismos_core::runtime::Counter;
use tokio::sync::broadcast;

/// Of a frontend one request is sampled in so many ticks of 20 ms at most: five a second of each worker.
const EVERY: u64 = 10;
/// So many are sampled in one tick at most, of all frontends.
const PER_TICK: u32 = 2;
/// How many may wait for a slow listener.
const WAITING: usize = 1_024;
/// A request whose target or host is longer is not sampled, in bytes.
pub(crate) const LONGEST: usize = 512;

/// Where workers send samples of requests.
#[derive(Clone, Debug)]
pub struct RequestSamples(broadcast::Sender<Arc<SampledRequest>>);

impl RequestSamples {
    pub(crate) fn new() -> Self {
        Self(broadcast::channel(WAITING).0)
    }

    /// Listens from now on.
    #[must_use]
    pub fn listen(&self) -> broadcast::Receiver<Arc<SampledRequest>> {
        self.0.subscribe()
    }
}

/// One worker's way to the samples.
#[derive(Debug)]
pub(crate) struct RequestSampler {
    samples: RequestSamples,
    tick: Cell<u64>,
    sampled: Cell<u32>,
}

impl RequestSampler {
    pub(crate) fn new(samples: RequestSamples) -> Self {
        Self { samples, tick: Cell::new(0), sampled: Cell::new(0) }
    }

    /// Whether the request that comes in this tick is to be sampled; `next` is its frontend's, of this worker.
    #[inline]
    pub(crate) fn is_due(&self, next: &Counter, tick: u64) -> bool {
        tick >= next.get() && self.has_room(next, tick)
    }

    #[cold]
    fn has_room(&self, next: &Counter, tick: u64) -> bool {
        if self.tick.replace(tick) != tick {
            self.sampled.set(0);
        }
        let sampled = self.sampled.get();
        if sampled >= PER_TICK || self.samples.0.receiver_count() == 0 {
            return false;
        }
        self.sampled.set(sampled + 1);
        next.set(tick + EVERY);
        true
    }

    pub(crate) fn record(&self, request: SampledRequest) {
        // The listener may be gone by now.
        let _ = self.samples.0.send(Arc::new(request));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_of_each_frontend_in_several_ticks_is_sampled_while_there_is_a_listener() {
        let samples = RequestSamples::new();
        let sampler = RequestSampler::new(samples.clone());
        let [busy, quiet, other] = [Counter::default(), Counter::default(), Counter::default()];
        assert!((1..100).all(|tick| !sampler.is_due(&busy, tick)));
        let _listener = samples.listen();
        assert_eq!((200..300).filter(|tick| sampler.is_due(&busy, *tick)).count(), 10);
        assert_eq!((0..9).filter(|_| sampler.is_due(&busy, 300)).count(), 1);
        assert!(sampler.is_due(&quiet, 300), "another frontend has its own turn");
        assert!(!sampler.is_due(&other, 300), "two in a tick are enough");
        assert!(sampler.is_due(&other, 301));
    }
}
