//! Bodies that pass at the pace that limits give their client.

use std::time::Duration;

use merismos_core::limits::BodyPace;

use crate::context::WorkerContext;
use crate::io::ConnectionTimer;

/// The time of neither side ends within so long after a wait.
const MARGIN: Duration = Duration::from_secs(1);

/// How many bytes pass in one step.
pub(super) fn step(paces: &[BodyPace]) -> usize {
    paces.iter().map(BodyPace::step).min().unwrap_or(usize::MAX)
}

/// Waits until so many more bytes may pass. It ends early where the connection is to end: the next step meets that.
#[cold]
pub(super) async fn wait(
    worker: &WorkerContext,
    watch: ConnectionTimer<'_>,
    paces: &[BodyPace],
    bytes: usize,
) {
    let now = worker.now();
    let nanos = paces.iter().map(|pace| pace.pass(bytes, now.0, worker.index)).max().unwrap_or_default();
    if nanos == 0 {
        return;
    }
    let length = Duration::from_nanos(nanos);
    let until = now.plus(length);
    // Neither side is waited for meanwhile.
    watch.set_timeout(length + MARGIN);
    while worker.now() < until && watch.alarm.fired().is_none() {
        worker.next_tick().await;
    }
}
