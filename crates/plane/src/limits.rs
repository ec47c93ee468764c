//! Limits of clients, where connections, flows and datagrams begin. Those of requests are asked with the rules.

use std::net::IpAddr;

use merismos_core::limits::{LimitVerdict, LimitedWork, RefusalReason};
use merismos_core::routing::Frontend;

use crate::context::WorkerContext;

/// What a connection or a flow is counted as while it is there; most frontends count nothing.
pub(crate) type HeldWork = Option<Box<[LimitedWork]>>;

/// Lets a connection, a flow or a datagram of a client in, or gives in how many seconds it may come again. `counts_rate` is false where each of its requests
/// will be asked for by itself.
pub(crate) fn admit(
    worker: &WorkerContext,
    frontend: &Frontend,
    client: IpAddr,
    counts_rate: bool,
) -> Result<HeldWork, u64> {
    let Some(limits) = &frontend.limits else { return Ok(None) };
    let (now, mut held) = (worker.now().0, Vec::new());
    for limit in limits.iter() {
        match limit.ask_connection(client, counts_rate, now, worker.index, &mut held) {
            LimitVerdict::Pass(_) => {}
            LimitVerdict::Refuse { retry_after, .. } => {
                frontend.cell.lane(worker.index).limited.increment();
                worker.note_refusal(frontend, RefusalReason::Limit, client);
                return Err(retry_after);
            }
        }
    }
    Ok((!held.is_empty()).then(|| held.into_boxed_slice()))
}
