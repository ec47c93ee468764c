//! The requests of the last hour, as far as they are sampled; kept in memory alone.

use std::sync::{Arc, Mutex};
use std::time::Instant;

use merismos_core::config::Checked;
use merismos_core::config::replay::{RecentRequests, RequestReplay};
use merismos_core::time::Tick;
use merismos_plane::request_samples::RequestSamples;
use tokio::sync::broadcast::error::RecvError;

/// What came in the last hour. A clone is the same.
#[derive(Clone, Debug, Default)]
pub(crate) struct RequestHistory(Arc<Mutex<RecentRequests>>);

impl RequestHistory {
    /// Keeps what workers sample, from now on.
    pub(crate) fn listen(samples: &RequestSamples) -> Self {
        let (memory, mut receiver, start) = (Self::default(), samples.listen(), Instant::now());
        let kept = memory.clone();
        tokio::spawn(async move {
            loop {
                match receiver.recv().await {
                    Ok(request) => {
                        let now = Tick(u64::try_from(start.elapsed().as_nanos()).unwrap_or(u64::MAX));
                        kept.lock().add(Arc::unwrap_or_clone(request), now);
                    }
                    // They are samples: some more that are not kept change nothing.
                    Err(RecvError::Lagged(_)) => {}
                    Err(RecvError::Closed) => return,
                }
            }
        });
        memory
    }

    /// Where those requests would go after a change, when it may send them elsewhere.
    pub(crate) async fn replay(&self, old: Checked, new: Checked) -> Option<RequestReplay> {
        let recent = self.lock().clone();
        let replayed = tokio::task::spawn_blocking(move || recent.replay(old.document(), new.document()));
        replayed.await.ok().flatten()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, RecentRequests> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}
