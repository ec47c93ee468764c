//! From a checked document and the other two truths to a snapshot.

use std::collections::{BTreeMap, BTreeSet};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;

use super::choose_pool::{PoolChoice, PoolReason};
use super::dropped_fields::DroppedFields;
use super::frontend_rules;
use super::request_facts::KeyRule;
use super::snapshot::{
    FirstBytes, Frontend, HttpsRedirect, Passthrough, PassthroughWay, Pool, Server, Snapshot,
    UpstreamTimeouts,
};
use crate::balance::{Balance, Hash, InOrder, LeastConnections, LeastLoad, Member, RandomTwo, RoundRobin};
use crate::certificate_choice::CertificateChoice;
use crate::config::Checked;
use crate::config::document::{
    self, Algorithm, BalancePer, ChoosePool, Document, HttpVersion, Protocol, UnknownName,
};
use crate::eligibility::{IneligibleReason, ServerStates, eligibilities};
use crate::limits::ClientLimit;
use crate::name::{Name, PoolServer};
use crate::pins::{PinRule, PinScope, identity};
use crate::rules::AccessList;
use crate::runtime::{PoolRuntime, RuntimeRegistry, ServerRuntimeLimits};
use crate::time::Tick;
use crate::units::Span;

/// How long a client may take to say which TLS server it wants, where nothing is said.
const USUAL_GREETING: Duration = Duration::from_secs(2);

/// Compiles a snapshot. Cells are found by identity, so turns and counts go on from one snapshot to the next.
#[must_use]
pub fn compile(
    checked: &Checked,
    truths: &impl ServerStates,
    cells: &mut RuntimeRegistry,
    revision: u64,
    version: u64,
    now: Tick,
) -> Snapshot {
    let document = checked.document();
    let mut made = |(name, spec)| Arc::new(pool(name, spec, truths, cells, document, now));
    let pools: Vec<Arc<Pool>> = document.pools.iter().map(&mut made).collect();
    let limits: BTreeMap<&Name, Arc<ClientLimit>> =
        document.limits.iter().map(|(name, spec)| (name, Arc::new(cells.limit(name, spec)))).collect();
    let mut frontends = Vec::new();
    for (name, spec) in &document.frontends {
        let cell = cells.frontend(name);
        let http = spec.http.as_ref();
        let slot = cell.id as usize;
        let first_bytes =
            (spec.protocol == Protocol::Tcp).then(|| first_bytes(document, spec, &pools)).flatten();
        if frontends.len() <= slot {
            frontends.resize_with(slot + 1, || None);
        }
        let made = Frontend {
            name: name.clone(),
            listen: spec.endpoint(),
            protocol: spec.protocol,
            balance_per: spec.balance_per,
            connection_limit: u64::from(spec.connection_limit),
            header_size_limit: http
                .map_or(0, |http| usize::try_from(http.header_size_limit.bytes()).unwrap_or(usize::MAX)),
            header_count_limit: http.map_or(0, |http| usize::from(http.header_count_limit)),
            max_concurrent_streams: http.map_or(0, |http| u32::from(http.max_concurrent_streams)),
            header_timeout: http.map_or(Duration::ZERO, |http| http.header_timeout.get()),
            idle_timeout: spec.idle_timeout.get(),
            tunnel_timeout: http.map_or(Duration::ZERO, |http| http.tunnel_timeout.get()),
            min_rate: http.map_or(0, |http| http.min_rate.bytes()),
            min_rate_grace: http.map_or(Duration::ZERO, |http| http.min_rate_grace.get()),
            dropped_fields: http.map(DroppedFields::of).unwrap_or_default(),
            max_connection_age: spec.max_connection_age.map(Span::get),
            first_bytes,
            handshakes: spec.handshakes(),
            client_certificates: spec.client_certificates,
            redirect: http.and_then(|http| {
                let status = http.redirect_status.unwrap_or_default().number();
                http.redirect_to_https.map(|port| HttpsRedirect { port, status })
            }),
            hsts: http.and_then(hsts),
            errors: http.filter(|http| !http.errors.is_empty()).map(|http| Arc::new(http.errors.clone())),
            body_size_limit: http.and_then(|http| http.body_size_limit).map_or(u64::MAX, |most| most.bytes()),
            requests_per_connection: http.and_then(|http| http.requests_per_connection).unwrap_or(u32::MAX),
            access: AccessList::of(spec, document).map(Arc::new),
            limits: (!spec.limits.is_empty()).then(|| listed(&spec.limits, &limits)),
            trusted: spec.trusted.iter().copied().collect(),
            proxy_protocol: spec.proxy_protocol,
            pool: Arc::clone(find(&pools, &spec.pool)),
            choice: choice(spec, document, &pools),
            ties_clients: spec.balance_per == BalancePer::Connection
                || spec.pools().any(|name| find(&pools, name).pin_rule.is_some()),
            rules: None,
            passthrough: None,
            is_passthrough: false,
            cell,
        };
        let passthrough = passthrough(spec, &made, &pools);
        let find = |name: &Name| Arc::clone(find(&pools, name));
        let rules = frontend_rules::compile(document, (name, spec), &made, find, &limits, cells);
        frontends[slot] = Some(Arc::new(Frontend { passthrough, rules, ..made }));
    }
    Snapshot { version, revision, frontends, pools, limits: limits.into_values().collect() }
}

/// As [`compile`] of the document that `previous` was compiled from, when duty or health changed in some pools only:
/// all else is shared with the previous snapshot, so one server's change costs nothing for ten thousand others.
#[must_use]
pub fn recompile(
    previous: &Snapshot,
    document: &Document,
    touched: &BTreeSet<Name>,
    truths: &impl ServerStates,
    cells: &mut RuntimeRegistry,
    version: u64,
    now: Tick,
) -> Snapshot {
    let mut pools = previous.pools.clone();
    for name in touched {
        let Ok(place) = pools.binary_search_by(|pool| pool.name.cmp(name)) else { continue };
        let Some(spec) = document.pools.get(name) else { continue };
        pools[place] = Arc::new(pool(name, spec, truths, cells, document, now));
    }
    let mut frontends = previous.frontends.clone();
    let concerns = |frontend: &Frontend| frontend.all_pools().any(|pool| touched.contains(&pool.name));
    for frontend in frontends.iter_mut().flatten().filter(|frontend| concerns(frontend)) {
        let now = |pool: &Arc<Pool>| Arc::clone(find(&pools, &pool.name));
        let with_pools = |seen: &Frontend| {
            let choice = seen.choice.as_ref().map(|choice| {
                Box::new(PoolChoice {
                    pools: choice.pools.iter().map(now).collect(),
                    by: choice.by.clone(),
                    last_resort: choice.last_resort.as_ref().map(now),
                    kept_by: choice.kept_by.clone(),
                })
            });
            Frontend { pool: now(&seen.pool), choice, ..seen.clone() }
        };
        let rules = frontend.rules.as_ref().map(|rules| Box::new(rules.with_ways(with_pools)));
        let passthrough = frontend.passthrough.as_ref().map(|passthrough| {
            let way = |way: &PassthroughWay| {
                let frontend = Arc::new(with_pools(&way.frontend));
                PassthroughWay { names: Arc::clone(&way.names), frontend }
            };
            Box::new(Passthrough {
                choice: passthrough.choice.clone(),
                ways: passthrough.ways.iter().map(way).collect(),
            })
        });
        *frontend = Arc::new(Frontend { rules, passthrough, ..with_pools(frontend) });
    }
    let limits = Arc::clone(&previous.limits);
    Snapshot { version, revision: previous.revision, frontends, pools, limits }
}

fn find<'p>(pools: &'p [Arc<Pool>], name: &Name) -> &'p Arc<Pool> {
    let place = pools.binary_search_by(|pool| pool.name.cmp(name));
    &pools[place.expect("a checked document names only pools that it holds")]
}

/// How a frontend chooses among its pools; `None` when it has only one.
fn choice(
    spec: &document::FrontendSpec,
    document: &Document,
    pools: &[Arc<Pool>],
) -> Option<Box<PoolChoice>> {
    let more = &spec.more;
    if more.next_pools.is_empty() && more.last_resort.is_none() {
        return None;
    }
    let names: Vec<&Name> = std::iter::once(&spec.pool).chain(&more.next_pools).collect();
    let by = match more.choose_pool {
        ChoosePool::InOrder => PoolReason::Order,
        ChoosePool::ByWeight => {
            let weight = |name: &&Name| {
                let weight = more.pool_weights.get(*name).copied().unwrap_or(1);
                u32::from(weight) * u32::from(document.pools[*name].capacity)
            };
            PoolReason::Weight(names.iter().map(weight).collect())
        }
        ChoosePool::ByLatency => PoolReason::Latency,
        ChoosePool::ByNetwork => {
            let lists = names
                .iter()
                .enumerate()
                .filter_map(|(number, name)| Some((number, more.pool_networks.get(*name)?)));
            let mut networks: Vec<(IpNet, usize)> = lists
                .flat_map(|(number, lists)| lists.iter().map(move |list| (number, list)))
                .filter_map(|(number, list)| Some((number, document.networks.get(list)?)))
                .flat_map(|(number, prefixes)| prefixes.iter().map(move |prefix| (*prefix, number)))
                .collect();
            networks.sort_by_key(|(prefix, number)| (std::cmp::Reverse(prefix.prefix_len()), *number));
            PoolReason::Network(networks)
        }
    };
    Some(Box::new(PoolChoice {
        pools: names.into_iter().map(|name| Arc::clone(find(pools, name))).collect(),
        by,
        last_resort: more.last_resort.as_ref().map(|name| Arc::clone(find(pools, name))),
        kept_by: None,
    }))
}

fn pool(
    name: &Name,
    spec: &document::PoolSpec,
    truths: &impl ServerStates,
    cells: &mut RuntimeRegistry,
    document: &Document,
    now: Tick,
) -> Pool {
    let eligibilities = eligibilities(name, spec, truths);
    let servers: Vec<Server> = spec
        .servers
        .iter()
        .zip(eligibilities)
        .map(|((server, server_spec), standing)| {
            let id = PoolServer { pool: name.clone(), server: server.clone() };
            let address = server_spec.address.get();
            let cell = cells.server(&id, address);
            Server {
                name: id,
                address,
                other_addresses: server_spec.other_addresses.as_slice().into(),
                standing,
                times: times(server_spec, spec),
                limits: limits(server_spec, spec),
                cell,
            }
        })
        .collect();
    let cell = cells.pool(name);
    let members = |tier: Option<u8>| -> Vec<Member> {
        let member = |(server, server_spec): (&Server, &document::ServerSpec)| {
            let takes_part = match tier {
                None => server.standing.reason.is_none(),
                Some(tier) => {
                    server.standing.reason == Some(IneligibleReason::Standby) && server_spec.tier == tier
                }
            };
            Member {
                weight: if takes_part { server.standing.weight } else { 0 },
                configured: server_spec.weight,
                identity: identity(&server.name.server),
                cell: Arc::clone(&server.cell),
            }
        };
        servers.iter().zip(spec.servers.values()).map(member).collect()
    };
    let limited = servers.iter().any(|server| !server.limits.is_none());
    let standby: BTreeSet<u8> = servers
        .iter()
        .zip(spec.servers.values())
        .filter(|(server, _)| server.standing.reason == Some(IneligibleReason::Standby))
        .map(|(_, server_spec)| server_spec.tier)
        .collect();
    let tiers = || servers.iter().zip(spec.servers.values());
    let works = tiers()
        .filter(|(server, _)| server.standing.reason.is_none())
        .map(|(_, server_spec)| server_spec.tier)
        .min();
    let first_tier = spec.servers.values().map(|server| server.tier).min().unwrap_or_default();
    let spill = standby.into_iter().map(|tier| balance(spec, members(Some(tier)), &cell, now));
    Pool {
        name: name.clone(),
        algorithm: spec.algorithm,
        balance: balance(spec, members(None), &cell, now),
        spill: spill.collect(),
        bounded: spec.hashing.bound.is_some(),
        key_rule: (spec.algorithm == Algorithm::Hash).then(|| KeyRule::new(&spec.hashing)),
        pin_rule: pin_rule(name, spec, truths, cells),
        limited,
        queue: spec.queue,
        timed: spec.algorithm == Algorithm::LeastLoad || spec.adaptive_limit || is_compared(name, document),
        usable: servers
            .iter()
            .filter(|server| server.standing.reason.is_none() && !server.standing.fails)
            .count()
            >= usize::from(spec.min_eligible),
        tiers: (first_tier, works),
        proxy_protocol: spec.proxy_protocol,
        reaching: spec.reaching.clone(),
        trust_id: trust_id(&spec.reaching),
        attempts: usize::from(spec.attempts),
        failing: spec.failing,
        servers,
        cell,
    }
}

/// The field of responses that has browsers refuse plain text (RFC 6797, 6.1).
fn hsts(http: &document::HttpKeys) -> Option<Box<[u8]>> {
    let seconds = http.hsts_age?.get().as_secs();
    let names = if http.hsts_subdomains { "; includeSubDomains" } else { "" };
    Some(format!("Strict-Transport-Security: max-age={seconds}{names}\r\n").into_bytes().into())
}

/// The limits of a list.
pub(super) fn listed(names: &[Name], limits: &BTreeMap<&Name, Arc<ClientLimit>>) -> Arc<[Arc<ClientLimit>]> {
    names.iter().filter_map(|name| limits.get(name)).cloned().collect()
}

fn trust_id(reaching: &document::UpstreamSettings) -> u64 {
    let Some(trust) = &reaching.tls else { return 0 };
    let mut hasher = DefaultHasher::new();
    (trust, reaching.tls_name_of).hash(&mut hasher);
    hasher.finish().max(1)
}

fn pin_rule(
    name: &Name,
    spec: &document::PoolSpec,
    truths: &impl ServerStates,
    cells: &mut RuntimeRegistry,
) -> Option<PinRule> {
    let settings = &spec.persistence;
    if !settings.ties_clients() {
        return None;
    }
    let ground = cells.pin_ground(name, PinScope::of(name, settings));
    PinRule::new(name, settings, spec.servers.keys(), &truths.former_names(name), ground)
}

/// Whether a frontend chooses this pool by how fast it answers.
fn is_compared(name: &Name, document: &Document) -> bool {
    let by_latency = |frontend: &&document::FrontendSpec| frontend.more.choose_pool == ChoosePool::ByLatency;
    document
        .frontends
        .values()
        .filter(by_latency)
        .any(|frontend| document.pools_of(frontend).any(|pool| pool == name))
}

fn times(server: &document::ServerSpec, pool: &document::PoolSpec) -> UpstreamTimeouts {
    UpstreamTimeouts {
        connect: server.connect_timeout.unwrap_or(pool.connect_timeout).get(),
        first_byte: server.first_byte_timeout.unwrap_or(pool.first_byte_timeout).get(),
        whole_answer: server.response_timeout.unwrap_or(pool.response_timeout).get(),
        idle: server.idle_timeout.unwrap_or(pool.idle_timeout).get(),
    }
}

fn limits(server: &document::ServerSpec, pool: &document::PoolSpec) -> ServerRuntimeLimits {
    let (own, usual) = (server.limits, pool.limits);
    let limits = ServerRuntimeLimits {
        in_flight: own.in_flight_limit.or(usual.in_flight_limit),
        connections: own.connection_limit.or(usual.connection_limit),
        one_each: pool.reaching.http_version == HttpVersion::One,
        rate: own.rate_limit.or(usual.rate_limit),
        adaptive: pool.adaptive_limit,
    };
    limits.scaled(u32::from(server.capacity)).scaled(u32::from(pool.capacity))
}

fn balance(
    spec: &document::PoolSpec,
    members: Vec<Member>,
    cell: &PoolRuntime,
    now: Tick,
) -> Box<dyn Balance> {
    match spec.algorithm {
        Algorithm::RoundRobin => {
            Box::new(RoundRobin::new(members.iter().map(|member| member.weight).enumerate()))
        }
        Algorithm::LeastConnections => Box::new(LeastConnections::new(members)),
        Algorithm::LeastLoad => Box::new(LeastLoad::new(members, cell, now)),
        Algorithm::RandomTwo => Box::new(RandomTwo::new(members)),
        Algorithm::Hash => Box::new(Hash::new(members, spec.hashing.bound)),
        Algorithm::InOrder => Box::new(InOrder::new(&members)),
    }
}

/// The frontend as those see it whose TLS is passed on: with another pool, and relayed unread.
fn passthrough(
    spec: &document::FrontendSpec,
    made: &Frontend,
    pools: &[Arc<Pool>],
) -> Option<Box<Passthrough>> {
    let way = |(name, names): (&Name, &Vec<String>)| {
        let seen = Frontend {
            protocol: Protocol::Tcp,
            balance_per: BalancePer::Connection,
            idle_timeout: if spec.http.is_some() { made.tunnel_timeout } else { made.idle_timeout },
            first_bytes: None,
            handshakes: None,
            client_certificates: None,
            redirect: None,
            hsts: None,
            rules: None,
            pool: Arc::clone(find(pools, name)),
            choice: None,
            ties_clients: true,
            is_passthrough: true,
            ..made.clone()
        };
        PassthroughWay { names: names.iter().cloned().collect(), frontend: Arc::new(seen) }
    };
    (!spec.passthrough.is_empty()).then(|| {
        Box::new(Passthrough {
            choice: CertificateChoice::new(spec.passthrough.values(), UnknownName::Refuse),
            ways: spec.passthrough.iter().map(way).collect(),
        })
    })
}

/// What is waited for before a client of a `tcp` frontend is given a server.
fn first_bytes(
    document: &Document,
    spec: &document::FrontendSpec,
    pools: &[Arc<Pool>],
) -> Option<FirstBytes> {
    let pools: Vec<_> = document.pools_of(spec).map(|name| find(pools, name)).collect();
    let patterns = pools.iter().filter_map(|pool| pool.pin_rule.as_ref()).flat_map(PinRule::patterns);
    let waited = FirstBytes {
        within: spec.client_hello_timeout.map_or(USUAL_GREETING, Span::get),
        wants_name: pools.iter().any(|pool| pool.goes_by_sni())
            || !spec.passthrough.is_empty()
            || document.rules_of(spec).any(|(_, rule)| rule.when.asks_server_name()),
        patterns: patterns.cloned().collect(),
    };
    (waited.wants_name || !waited.patterns.is_empty()).then_some(waited)
}
