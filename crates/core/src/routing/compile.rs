//! From a checked document and the other two truths to a snapshot.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::snapshot::{Frontend, Pool, Server, Snapshot, Times};
use crate::balance::{Balance, RoundRobin};
use crate::cells::Cells;
use crate::config::Checked;
use crate::config::document::{self, Algorithm, Document};
use crate::eligibility::{Truths, standings};
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
            listen: spec.listen.get(),
            connection_limit: u64::from(spec.connection_limit),
            head_limit: usize::try_from(spec.head_limit.bytes()).unwrap_or(usize::MAX),
            field_limit: usize::from(spec.field_limit),
            head_timeout: spec.head_timeout.get(),
            idle_timeout: spec.idle_timeout.get(),
            pool: Arc::clone(&pools[place]),
            cell,
        }));
    }
    Snapshot { version, revision, frontends, pools }
}

/// As [`compile`] of the document that `previous` was compiled from, when duty or health changed in some pools only:
/// all else is shared with the previous snapshot, so one server's change costs nothing for ten thousand others.
#[must_use]
pub fn recompile(
    previous: &Snapshot,
    document: &Document,
    touched: &BTreeSet<Name>,
    truths: &impl Truths,
    cells: &mut Cells,
    version: u64,
) -> Snapshot {
    let mut pools = previous.pools.clone();
    for name in touched {
        let Ok(place) = pools.binary_search_by(|pool| pool.name.cmp(name)) else { continue };
        let Some(spec) = document.pools.get(name) else { continue };
        pools[place] = Arc::new(pool(name, spec, truths, cells));
    }
    let mut frontends = previous.frontends.clone();
    for frontend in frontends.iter_mut().flatten().filter(|it| touched.contains(&it.pool.name)) {
        let place = pools.binary_search_by(|pool| pool.name.cmp(&frontend.pool.name));
        let place = place.expect("the previous snapshot's frontends name only its pools");
        *frontend = Arc::new(Frontend { pool: Arc::clone(&pools[place]), ..(**frontend).clone() });
    }
    Snapshot { version, revision: previous.revision, frontends, pools }
}

fn pool(name: &Name, spec: &document::Pool, truths: &impl Truths, cells: &mut Cells) -> Pool {
    let standings = standings(name, spec, truths);
    let servers: Vec<Server> = spec
        .servers
        .iter()
        .zip(standings)
        .map(|((server, it), standing)| {
            let id = PoolServer { pool: name.clone(), server: server.clone() };
            let address = it.address.get();
            let cell = cells.server(&id, address);
            let times = Times {
                connect: it.connect_timeout.unwrap_or(spec.connect_timeout).get(),
                first_byte: it.first_byte_timeout.unwrap_or(spec.first_byte_timeout).get(),
                whole_answer: it.whole_answer_timeout.unwrap_or(spec.whole_answer_timeout).get(),
                idle: it.idle_timeout.unwrap_or(spec.idle_timeout).get(),
            };
            Server { name: id, address, standing, times, cell }
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
        attempts: usize::from(spec.attempts),
        cell: cells.pool(name),
    }
}
