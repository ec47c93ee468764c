//! Samples of the requests that come, for whoever wants to know where they would go by other rules.
//!
//! A worker takes one in [`EVERY`] ticks at most, and only while somebody listens.

use std::cell::Cell;
use std::sync::Arc;

use merismos_core::config::replay::SampledRequest;
use tokio::sync::broadcast;

/// Of so many ticks of 20 ms one request is sampled at most: ten a second of each worker.
const EVERY: u64 = 5;
/// How many may wait for a slow listener.
const WAITING: usize = 1_024;
/// A request whose target or host is longer is not sampled, in bytes.
pub(crate) const LONGEST: usize = 1_024;

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
    next: Cell<u64>,
}

impl RequestSampler {
    pub(crate) fn new(samples: RequestSamples) -> Self {
        Self { samples, next: Cell::new(0) }
    }

    /// Whether the request that comes in this tick is to be sampled.
    #[inline]
    pub(crate) fn is_due(&self, tick: u64) -> bool {
        tick >= self.next.get() && {
            self.next.set(tick + EVERY);
            self.samples.0.receiver_count() > 0
        }
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
    fn one_in_several_ticks_is_sampled_while_somebody_listens() {
        let samples = RequestSamples::new();
        let sampler = RequestSampler::new(samples.clone());
        assert!((1..100).all(|tick| !sampler.is_due(tick)));
        let _listener = samples.listen();
        assert_eq!((200..300).filter(|tick| sampler.is_due(*tick)).count(), 20);
        assert_eq!((0..9).filter(|_| sampler.is_due(300)).count(), 1);
    }
}
