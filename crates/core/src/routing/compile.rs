//! From a checked document and the other two truths to a snapshot.

use std::sync::Arc;

use super::snapshot::{Frontend, Pool, Server, Snapshot};
use crate::balance::{Balance, RoundRobin};
use crate::cells::Cells;
use crate::config::Checked;
use crate::config::document::{self, Algorithm};
use crate::eligibility::{Truths, pool_shares};
use crate::name::{Name, PoolServer};

/// Compiles a snapshot. Cells are found by identity, so turns and counts go on from one snapshot to the next.
#[must_use]
pub fn compile(
    checked: &Checked,
    truths: &impl Truths,
    cells: &mut Cells,
    revision: u64,
    version: u64,
) -> Snapshot {
    let document = checked.document();
    let pools: Vec<Arc<Pool>> =
        document.pools.iter().map(|(name, spec)| Arc::new(pool(name, spec, truths, cells))).collect();
    let mut frontends = Vec::new();
    for (name, spec) in &document.frontends {
        let place = pools.binary_search_by(|pool| pool.name.cmp(&spec.pool));
        let place = place.expect("a checked document names only pools that it holds");
        let cell = cells.frontend(name);
        let slot = cell.id as usize;
        if frontends.len() <= slot {
            frontends.resize_with(slot + 1, || None);
        }
        frontends[slot] = Some(Arc::new(Frontend {
            name: name.clone(),
            listen: spec.listen,
            head_limit: usize::try_from(spec.head_limit.bytes()).unwrap_or(usize::MAX),
            head_timeout: spec.head_timeout.get(),
            idle_timeout: spec.idle_timeout.get(),
            pool: Arc::clone(&pools[place]),
            cell,
        }));
    }
    Snapshot { version, revision, frontends, pools }
}

fn pool(name: &Name, spec: &document::Pool, truths: &impl Truths, cells: &mut Cells) -> Pool {
    let standings = pool_shares(name, spec, truths);
    let servers: Vec<Server> = spec
        .servers
        .iter()
        .map(|(server, it)| {
            let id = PoolServer { pool: name.clone(), server: server.clone() };
            let cell = cells.server(&id, it.address);
            Server { name: id, address: it.address, standing: standings[server], cell }
        })
        .collect();
    let weights = spec.servers.values().enumerate().map(|(place, it)| {
        let eligible = servers[place].standing.reason.is_none();
        (place, if eligible { it.weight } else { 0 })
    });
    let balance: Box<dyn Balance> = match spec.algorithm {
        Algorithm::RoundRobin => Box::new(RoundRobin::new(weights)),
    };
    Pool {
        name: name.clone(),
        balance,
        servers,
        connect_timeout: spec.connect_timeout.get(),
        answer_timeout: spec.answer_timeout.get(),
        idle_timeout: spec.idle_timeout.get(),
        attempts: usize::from(spec.attempts),
        cell: cells.pool(name),
    }
}
