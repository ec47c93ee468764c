//! What is allowed in a document and probably not wanted.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;

use serde::{Deserialize, Serialize};

use super::document::{
    Algorithm, BalancePer, CheckKind, Document, Failback, FrontendSpec, HashKey, PoolSpec, Protocol,
    WhenAbsent,
};
use crate::name::Name;
use crate::time::Wall;

/// How much a [`Warning`] weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum WarningLevel {
    /// Clients would feel it: somebody has to accept it before it goes live.
    Warning,
    /// Worth knowing; needs nobody's word.
    Notice,
}

/// Something that is allowed and that the engineer probably does not want.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Warning {
    /// What it is called when it is accepted: its kind and its path, such as `empty-pool:pools.booking`.
    pub key: String,
    /// How much it weighs.
    pub level: WarningLevel,
    /// The key path.
    pub path: String,
    /// The line in the text, where there is one.
    pub line: Option<usize>,
    /// What will happen.
    pub message: String,
    /// What to do about it.
    pub help: String,
}

impl Warning {
    /// A warning of a kind at a key path.
    #[must_use]
    pub fn new(kind: &str, level: WarningLevel, path: &str, says: String, help: String) -> Self {
        Self { key: format!("{kind}:{path}"), level, path: path.to_owned(), line: None, message: says, help }
    }
}

/// Somebody's word that a warning is meant to be so.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Acceptance {
    /// The warning's key.
    pub key: String,
    /// What it said.
    #[serde(alias = "says")]
    pub message: String,
    /// Who accepted it.
    pub who: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub at: Wall,
}

/// Who sends clients to which pool.
fn frontends_of(document: &Document) -> BTreeMap<&Name, Vec<(&Name, &FrontendSpec)>> {
    let mut of: BTreeMap<&Name, Vec<(&Name, &FrontendSpec)>> = BTreeMap::new();
    for (name, frontend) in &document.frontends {
        for pool in frontend.pools() {
            of.entry(pool).or_default().push((name, frontend));
        }
    }
    of
}

pub(super) fn warnings(document: &Document) -> Vec<Warning> {
    let mut found = Vec::new();
    let frontends = frontends_of(document);
    let none = Vec::new();
    for (name, pool) in &document.pools {
        pool_warnings(name, pool, frontends.get(name).unwrap_or(&none), &mut found);
    }
    unused_greeting(document, &mut found);
    one_way_feeds(document, &mut found);
    shared_servers(document, &mut found);
    circles(document, &mut found);
    for (name, check) in &document.checks {
        if check.timeout >= check.interval {
            found.push(Warning::new(
                "slow-timeout",
                WarningLevel::Warning,
                &format!("checks.{name}.timeout"),
                format!(
                    "timeout {} is not shorter than interval {}: a silent server is probed only every {}",
                    check.timeout, check.interval, check.timeout
                ),
                "a timeout shorter than the interval".to_owned(),
            ));
        }
    }
    found
}

fn pool_warnings(
    name: &Name,
    pool: &PoolSpec,
    frontends: &[(&Name, &FrontendSpec)],
    found: &mut Vec<Warning>,
) {
    let path = format!("pools.{name}");
    let (level, clients) = match frontends {
        [] => {
            (WarningLevel::Notice, "clients will be turned away once a frontend sends them here".to_owned())
        }
        all => (WarningLevel::Warning, format!("every client of {} {}", names(all), fate(all))),
    };
    if pool.servers.is_empty() && pool.lookups.is_empty() {
        found.push(Warning::new(
            "empty-pool",
            level,
            &path,
            format!("pool {name} has no servers: {clients}"),
            format!("add servers under [pools.{name}.servers]"),
        ));
    } else if !pool.servers.is_empty()
        && pool.lookups.is_empty()
        && pool.servers.values().all(|server| server.weight == 0)
    {
        found.push(Warning::new(
            "no-weight",
            level,
            &path,
            format!("every server of pool {name} has weight 0: {clients}"),
            "give at least one server a weight of 1 or more".to_owned(),
        ));
    } else if pool.lookups.is_empty() && usize::from(pool.min_eligible) > pool.servers.len() {
        let users = frontends.iter().filter(|(_, frontend)| !frontend.more.next_pools.is_empty());
        found.push(Warning::new(
            "never-usable",
            if users.count() > 0 { WarningLevel::Warning } else { WarningLevel::Notice },
            &format!("{path}.min_eligible"),
            format!(
                "min_eligible is {} and the pool has {} servers: a frontend with several pools never uses it",
                pool.min_eligible,
                pool.servers.len()
            ),
            format!("a number from 1 to {}", pool.servers.len()),
        ));
    }
    if pool.check.is_none() && !(pool.servers.is_empty() && pool.lookups.is_empty()) {
        found.push(Warning::new(
            "no-check",
            level,
            &path,
            format!("pool {name} has no check: a server that fails keeps its share"),
            "name a check, such as check = \"answers\"".to_owned(),
        ));
    }
    without_effect(name, pool, found);
    without_key(name, pool, frontends, found);
    if frontends.is_empty() {
        found.push(Warning::new(
            "unused-pool",
            WarningLevel::Notice,
            &path,
            format!("no frontend sends clients to pool {name}"),
            "name it in a frontend, or remove it".to_owned(),
        ));
    }
}

/// Keys that say something which nothing heeds.
fn without_effect(name: &Name, pool: &PoolSpec, found: &mut Vec<Warning>) {
    let mut notice = |key: &str, says: String, help: &str| {
        let path = format!("pools.{name}.{key}");
        found.push(Warning::new("no-effect", WarningLevel::Notice, &path, says, help.to_owned()));
    };
    if pool.algorithm != Algorithm::Hash && !pool.hashing.keys.is_empty() {
        let says = format!("hash_keys of pool {name} have no effect, for it deals out by {}", pool.algorithm);
        notice("hash_keys", says, "algorithm = \"hash\", or no hash_keys");
    }
    let tiers: BTreeSet<u8> = pool.servers.values().map(|server| server.tier).collect();
    if pool.failback != Failback::Automatic && tiers.len() < 2 && pool.lookups.is_empty() {
        let says = format!("failback of pool {name} has no effect, for all its servers are of one tier");
        notice("failback", says, "a tier of 1 for the servers that stand by");
    }
}

/// Says of which frontends no client ever has one of the keys that the pool deals out by.
fn without_key(name: &Name, pool: &PoolSpec, frontends: &[(&Name, &FrontendSpec)], found: &mut Vec<Warning>) {
    if pool.algorithm != Algorithm::Hash || pool.hashing.keys.is_empty() {
        return;
    }
    let never = |(_, frontend): &&(&Name, &FrontendSpec)| {
        !pool.hashing.keys.iter().any(|key| key.is_known_of(frontend.protocol))
    };
    let all: Vec<_> = frontends.iter().filter(never).copied().collect();
    if all.is_empty() {
        return;
    }
    let keys: Vec<String> = pool.hashing.keys.iter().map(ToString::to_string).collect();
    let (level, what) = match pool.hashing.when_absent {
        Some(WhenAbsent::Refuse) => (WarningLevel::Warning, "all of them are refused"),
        Some(WhenAbsent::Spread) | None => (WarningLevel::Notice, "they are dealt out in turns"),
    };
    found.push(Warning::new(
        "never-there",
        level,
        &format!("pools.{name}.hash_keys"),
        format!("clients of {} never have {}: {what}", names(&all), keys.join(" or ")),
        "client-address for any frontend, sni for tcp, the others for http".to_owned(),
    ));
}

/// What happens to clients for whom there is nobody.
fn fate(frontends: &[(&Name, &FrontendSpec)]) -> &'static str {
    let all = |protocol| frontends.iter().all(|(_, frontend)| frontend.protocol == protocol);
    match () {
        () if all(Protocol::Http) => "gets 503",
        () if all(Protocol::Tcp) => "is reset",
        () if all(Protocol::Udp) => "loses its datagrams",
        () => "is turned away",
    }
}

fn names(frontends: &[(&Name, &FrontendSpec)]) -> String {
    let names: Vec<&str> = frontends.iter().map(|(name, _)| name.as_str()).collect();
    names.join(", ")
}

/// Says of frontends that wait for nothing.
fn unused_greeting(document: &Document, found: &mut Vec<Warning>) {
    for (name, frontend) in
        document.frontends.iter().filter(|(_, frontend)| frontend.client_hello_timeout.is_some())
    {
        let by_sni =
            |pool: &PoolSpec| pool.algorithm == Algorithm::Hash && pool.hashing.keys.contains(&HashKey::Sni);
        if !frontend.pools().filter_map(|pool| document.pools.get(pool)).any(by_sni) {
            let path = format!("frontends.{name}.client_hello_timeout");
            let says = format!(
                "client_hello_timeout of frontend {name} has no effect, for none of its pools goes by sni"
            );
            let help = "hash_keys = [\"sni\"] on its pool, or no client_hello_timeout".to_owned();
            found.push(Warning::new("no-effect", WarningLevel::Notice, &path, says, help));
        }
    }
}

/// Says of datagrams that may all go to one server, and of probes that collectors write down.
fn one_way_feeds(document: &Document, found: &mut Vec<Warning>) {
    for (name, frontend) in
        document.frontends.iter().filter(|(_, frontend)| frontend.protocol == Protocol::Udp)
    {
        let by_turns = |pool: &PoolSpec| pool.algorithm == Algorithm::RoundRobin;
        if frontend.balance_per == BalancePer::Flow
            && frontend.pools().filter_map(|pool| document.pools.get(pool)).any(by_turns)
        {
            found.push(Warning::new(
                "one-sender-one-server",
                WarningLevel::Notice,
                &format!("frontends.{name}.balance_per"),
                format!(
                    "frontend {name} keeps each sender's address and port with one server: a machine that sends its logs or \
                     metrics from one port sends all of them to the same server, and few senders are not spread evenly"
                ),
                "right where servers answer; balance_per = \"datagram\" deals out each datagram where nobody answers".to_owned(),
            ));
        }
        for pool in frontend.pools().filter_map(|pool| document.pools.get(pool)) {
            for check in pool.checks() {
                let is_empty = document.checks.get(check).is_some_and(|check| match &check.kind {
                    CheckKind::Udp(exchange) => exchange.send.as_deref().unwrap_or_default().is_empty(),
                    _ => false,
                });
                let key = format!("checks.{check}.send");
                if is_empty && found.iter().all(|warning| warning.key != format!("empty-datagram:{key}")) {
                    found.push(Warning::new(
                        "empty-datagram",
                        WarningLevel::Notice,
                        &key,
                        format!(
                            "check {check} sends an empty datagram with each probe: collectors of logs write it down as an empty line"
                        ),
                        "send = a text that the servers throw away, or a check of another kind (tcp, icmp, command)".to_owned(),
                    ));
                }
            }
        }
    }
}

/// Says once for each two pools which servers of one also serve the other.
fn shared_servers(document: &Document, found: &mut Vec<Warning>) {
    let mut users: BTreeMap<SocketAddr, (&Name, &Name)> = BTreeMap::new();
    let mut shared: BTreeMap<(&Name, &Name), Vec<String>> = BTreeMap::new();
    for (name, pool) in &document.pools {
        for (server, spec) in &pool.servers {
            match users.get(&spec.address.get()) {
                Some((other_pool, other)) => {
                    let says = format!("{} ({server}, there {other})", spec.address.get());
                    shared.entry((name, other_pool)).or_default().push(says);
                }
                None => drop(users.insert(spec.address.get(), (name, server))),
            }
        }
    }
    for ((name, other), servers) in shared {
        found.push(Warning::new(
            "shared",
            WarningLevel::Notice,
            &format!("pools.{name}"),
            format!("pool {name} shares servers with pool {other}: {}", first_of(&servers)),
            "right when one program does both kinds of work; else correct the addresses".to_owned(),
        ));
    }
}

/// The first few of many.
pub(super) fn first_of(all: &[String]) -> String {
    const SHOWN: usize = 5;
    let shown = all.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    if all.len() > SHOWN { format!("{shown} and {} more", all.len() - SHOWN) } else { shown }
}

fn circles(document: &Document, found: &mut Vec<Warning>) {
    let listening: BTreeMap<SocketAddr, &Name> =
        document.frontends.iter().map(|(name, frontend)| (frontend.listen.get(), name)).collect();
    for (name, pool) in &document.pools {
        for (server, spec) in &pool.servers {
            let address = spec.address.get();
            let Some(frontend) = listening.get(&address) else { continue };
            let path = format!("pools.{name}.servers.{server}.address");
            found.push(if leads_to(document, &listening, frontend, name) {
                Warning::new(
                    "circle",
                    WarningLevel::Warning,
                    &path,
                    format!("{address} is where frontend {frontend} listens: requests would go in a circle"),
                    "the address of the server itself".to_owned(),
                )
            } else {
                Warning::new(
                    "chain",
                    WarningLevel::Notice,
                    &path,
                    format!("{address} is where frontend {frontend} listens: work is dealt out twice"),
                    "right when that is meant; else the address of the server itself".to_owned(),
                )
            });
        }
    }
}

/// Whether work that comes to a frontend may come to a pool, also by way of other frontends.
fn leads_to(
    document: &Document,
    listening: &BTreeMap<SocketAddr, &Name>,
    from: &Name,
    wanted: &Name,
) -> bool {
    let (mut seen, mut next) = (BTreeSet::from([from]), vec![from]);
    while let Some(frontend) = next.pop() {
        for pool in document.frontends.get(frontend).into_iter().flat_map(FrontendSpec::pools) {
            if pool == wanted {
                return true;
            }
            let servers = document.pools.get(pool).into_iter().flat_map(|pool| pool.servers.values());
            next.extend(
                servers
                    .filter_map(|server| listening.get(&server.address.get()))
                    .filter(|frontend| seen.insert(frontend)),
            );
        }
    }
    false
}
