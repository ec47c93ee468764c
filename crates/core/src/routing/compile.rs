//! From a checked document and the other two truths to a snapshot.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use super::facts::KeyRule;
use super::snapshot::{Frontend, Pool, Server, Snapshot, Times};
use crate::balance::{
    Balance, Hash, InOrder, LeastConnections, LeastLoad, Member, RandomTwo, RoundRobin,
};
use crate::cells::{Cells, Limits, PoolCell};
use crate::config::Checked;
use crate::config::document::{self, Algorithm, Document};
use crate::draw::digest;
use crate::eligibility::{Reason, Truths, standings};
use crate::name::{Name, PoolServer};
use crate::time::Tick;
use crate::units::Span;

/// Compiles a snapshot. Cells are found by identity, so turns and counts go on from one snapshot to the next.
#[must_use]
pub fn compile(
    checked: &Checked,
    truths: &impl Truths,
    cells: &mut Cells,
    revision: u64,
    (version, now): (u64, Tick),
) -> Snapshot {
    let document = checked.document();
    let pools: Vec<Arc<Pool>> =
        document.pools.iter().map(|(name, spec)| Arc::new(pool((name, spec), truths, cells, now))).collect();
    let mut frontends = Vec::new();
    for (name, spec) in &document.frontends {
        let place = pools.binary_search_by(|pool| pool.name.cmp(&spec.pool));
        let place = place.expect("a checked document names only pools that it holds");
        let cell = cells.frontend(name);
        let http = spec.http.as_ref();
        let slot = cell.id as usize;
        if frontends.len() <= slot {
            frontends.resize_with(slot + 1, || None);
        }
        frontends[slot] = Some(Arc::new(Frontend {
            name: name.clone(),
            listen: spec.endpoint(),
            protocol: spec.protocol,
            unit: spec.unit,
            connection_limit: u64::from(spec.connection_limit),
            head_limit: http.map_or(0, |it| usize::try_from(it.head_limit.bytes()).unwrap_or(usize::MAX)),
            field_limit: http.map_or(0, |it| usize::from(it.field_limit)),
            head_timeout: http.map_or(Duration::ZERO, |it| it.head_timeout.get()),
            idle_timeout: spec.idle_timeout.get(),
            tunnel_timeout: http.map_or(Duration::ZERO, |it| it.tunnel_timeout.get()),
            life_limit: spec.life_limit.map(Span::get),
            trusted: spec.trusted.iter().copied().collect(),
            proxy_protocol: spec.proxy_protocol,
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
    (version, now): (u64, Tick),
) -> Snapshot {
    let mut pools = previous.pools.clone();
    for name in touched {
        let Ok(place) = pools.binary_search_by(|pool| pool.name.cmp(name)) else { continue };
        let Some(spec) = document.pools.get(name) else { continue };
        pools[place] = Arc::new(pool((name, spec), truths, cells, now));
    }
    let mut frontends = previous.frontends.clone();
    for frontend in frontends.iter_mut().flatten().filter(|it| touched.contains(&it.pool.name)) {
        let place = pools.binary_search_by(|pool| pool.name.cmp(&frontend.pool.name));
        let place = place.expect("the previous snapshot's frontends name only its pools");
        *frontend = Arc::new(Frontend { pool: Arc::clone(&pools[place]), ..(**frontend).clone() });
    }
    Snapshot { version, revision: previous.revision, frontends, pools }
}

fn pool(
    (name, spec): (&Name, &document::Pool),
    truths: &impl Truths,
    cells: &mut Cells,
    now: Tick,
) -> Pool {
    let standings = standings(name, spec, truths);
    let servers: Vec<Server> = spec
        .servers
        .iter()
        .zip(standings)
        .map(|((server, it), standing)| {
            let id = PoolServer { pool: name.clone(), server: server.clone() };
            let address = it.address.get();
            let cell = cells.server(&id, address);
            Server { name: id, address, standing, times: times(it, spec), limits: limits(it, spec), cell }
        })
        .collect();
    let cell = cells.pool(name);
    let members = |tier: Option<u8>| -> Vec<Member> {
        let member = |(server, it): (&Server, &document::Server)| {
            let takes_part = match tier {
                None => server.standing.reason.is_none(),
                Some(tier) => server.standing.reason == Some(Reason::Standby) && it.tier == tier,
            };
            Member {
                weight: if takes_part { server.standing.weight } else { 0 },
                configured: it.weight,
                identity: digest(server.name.server.as_str().as_bytes()),
                cell: Arc::clone(&server.cell),
            }
        };
        servers.iter().zip(spec.servers.values()).map(member).collect()
    };
    let limited = servers.iter().any(|server| !server.limits.is_none());
    let standby: BTreeSet<u8> = servers
        .iter()
        .zip(spec.servers.values())
        .filter(|(server, _)| server.standing.reason == Some(Reason::Standby))
        .map(|(_, it)| it.tier)
        .collect();
    let spill = standby.into_iter().filter(|_| limited).map(|tier| balance(spec, members(Some(tier)), &cell, now));
    Pool {
        name: name.clone(),
        algorithm: spec.algorithm,
        balance: balance(spec, members(None), &cell, now),
        spill: spill.collect(),
        key_rule: (spec.algorithm == Algorithm::Hash).then(|| KeyRule::new(&spec.hashing)),
        limited,
        queue: spec.queue,
        timed: spec.algorithm == Algorithm::LeastLoad,
        proxy_protocol: spec.proxy_protocol,
        attempts: usize::from(spec.attempts),
        servers,
        cell,
    }
}

fn times(server: &document::Server, pool: &document::Pool) -> Times {
    Times {
        connect: server.connect_timeout.unwrap_or(pool.connect_timeout).get(),
        first_byte: server.first_byte_timeout.unwrap_or(pool.first_byte_timeout).get(),
        whole_answer: server.whole_answer_timeout.unwrap_or(pool.whole_answer_timeout).get(),
        idle: server.idle_timeout.unwrap_or(pool.idle_timeout).get(),
    }
}

fn limits(server: &document::Server, pool: &document::Pool) -> Limits {
    let (own, usual) = (server.limits, pool.limits);
    let limits = Limits {
        in_flight: own.in_flight_limit.or(usual.in_flight_limit),
        connections: own.connection_limit.or(usual.connection_limit),
        rate: own.rate_limit.or(usual.rate_limit),
    };
    limits.scaled(u32::from(server.capacity)).scaled(u32::from(pool.capacity))
}

fn balance(spec: &document::Pool, members: Vec<Member>, cell: &PoolCell, now: Tick) -> Box<dyn Balance> {
    match spec.algorithm {
        Algorithm::RoundRobin => Box::new(RoundRobin::new(members.iter().map(|it| it.weight).enumerate())),
        Algorithm::LeastConnections => Box::new(LeastConnections::new(members)),
        Algorithm::LeastLoad => Box::new(LeastLoad::new(members, cell, now)),
        Algorithm::RandomTwo => Box::new(RandomTwo::new(members)),
        Algorithm::Hash => Box::new(Hash::new(members, spec.hashing.bound)),
        Algorithm::InOrder => Box::new(InOrder::new(&members)),
    }
}
