//! Connections that are made before anybody asks for one: to servers that come back.

use std::cell::{Cell, RefCell};
use std::collections::BTreeSet;
use std::rc::Rc;
use std::sync::Arc;

use merismos_core::config::document::{HttpVersion, Protocol, TlsNameOf};
use merismos_core::routing::{Pool, Snapshot};

use crate::context::WorkerContext;
use crate::deadline::DeadlineEntry;
use crate::io::ConnectionTimer;
use crate::tls::ServerProtocol;
use crate::upstream::connect_server;

/// What a worker knew of servers when it looked last.
#[derive(Debug, Default)]
pub(crate) struct Preconnector {
    seen: Cell<u64>,
    /// The numbers of the cells of those that were eligible.
    eligible: RefCell<BTreeSet<u32>>,
}

/// The pools whose connections can be kept for a later request.
fn pools(snapshot: &Snapshot) -> impl Iterator<Item = &Arc<Pool>> {
    snapshot.pools.iter().filter(|pool| {
        let serves_http = || {
            let fronts = snapshot.frontends().filter(|frontend| frontend.protocol == Protocol::Http);
            fronts.flat_map(|frontend| frontend.all_pools()).any(|candidate| candidate.name == pool.name)
        };
        let is_for_all = pool.proxy_protocol.is_none() && pool.reaching.tls_name_of == TlsNameOf::Server;
        pool.reaching.preconnect > 0 && is_for_all && serves_http()
    })
}

impl Preconnector {
    /// Looks which servers have come back since the last look, and begins to connect to them.
    pub(crate) fn connect_returned_servers(&self, worker: &Rc<WorkerContext>) {
        let snapshot = worker.snapshot();
        if self.seen.replace(snapshot.version) == snapshot.version {
            return;
        }
        let mut eligible = BTreeSet::new();
        let before = self.eligible.take();
        for pool in pools(&snapshot) {
            for (place, server) in pool.servers.iter().enumerate() {
                if server.standing.reason.is_some() {
                    continue;
                }
                eligible.insert(server.cell.id);
                if !before.contains(&server.cell.id) {
                    tokio::task::spawn_local(connect(Rc::clone(worker), Arc::clone(pool), place));
                }
            }
        }
        self.eligible.replace(eligible);
    }
}

/// Makes a server's connections, one after the other: it has only just come back.
async fn connect(worker: Rc<WorkerContext>, pool: Arc<Pool>, place: usize) {
    let (alarm, server) = (DeadlineEntry::new(), &pool.servers[place]);
    alarm.bind_to_this_task().await;
    let watch = ConnectionTimer { alarm: &alarm, wheel: &worker.wheel };
    let how = &pool.reaching;
    for _ in 0..how.preconnect {
        let made = match how.http_version {
            HttpVersion::One => {
                let approach = worker.approach(&pool, ServerProtocol::Http1, watch);
                let reached = connect_server(server, approach).await;
                reached.map(|upstream| worker.idle.keep(server.cell.id, upstream, how, worker.wheel.now()))
            }
            HttpVersion::Two => {
                worker.shared.open(server, worker.approach(&pool, ServerProtocol::Http2, watch)).await
            }
        };
        if let Err(failure) = made {
            tracing::debug!(server = %server.name, ?failure, "no connection could be made ahead");
            return;
        }
        alarm.cancel();
    }
}
