//! What is allowed in a document and probably not wanted.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::config::document::{
    Algorithm, BalancePer, CertificateTrust, CheckKind, Document, Failback, FrontendSpec, HashKey,
    PersistenceKind, PoolSpec, Protocol, TlsVerify, WhenAbsent,
};
use crate::duty::Duty;
use crate::health::Evidence;
use crate::name::{Name, PoolServer};
use crate::time::Wall;
use crate::units::Span;

/// How much a [`Warning`] weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum WarningLevel {
    /// Clients would feel it: it has to be accepted before it goes live.
    Warning,
    /// Worth knowing; needs no acceptance.
    Notice,
}

/// Why a document is warned about: allowed, and probably a mistake.
#[derive(Clone, Debug, PartialEq, strum::EnumDiscriminants)]
#[expect(missing_docs, reason = "fields that are named after what they hold need no sentence")]
#[strum_discriminants(
    name(WarningKind),
    doc = "The kinds of warnings.",
    derive(PartialOrd, Ord, Serialize, Deserialize, strum::Display, strum::EnumString, strum::VariantArray),
    serde(rename_all = "kebab-case"),
    strum(serialize_all = "kebab-case"),
    cfg_attr(feature = "schema", derive(utoipa::ToSchema)),
    allow(missing_docs)
)]
pub enum WarningReason {
    /// A pool has no servers.
    EmptyPool {
        pool: Name,
        /// What becomes of its clients.
        fate: ClientFate,
    },
    /// All servers of a pool have weight 0.
    NoWeight {
        pool: Name,
        /// What becomes of its clients.
        fate: ClientFate,
    },
    /// A pool needs more eligible servers than it has.
    NeverUsable {
        /// How many it needs.
        min_eligible: u16,
        /// How many it has.
        servers: usize,
    },
    /// A pool has no check.
    NoCheck { pool: Name },
    /// A check's timeout is not shorter than its interval.
    SlowTimeout { timeout: Span, interval: Span },
    /// Keys to hash by, in a pool with another algorithm.
    HashKeysWithoutEffect { pool: Name, algorithm: Algorithm },
    /// A failback in a pool with one tier.
    FailbackWithoutEffect { pool: Name },
    /// A time for the ClientHello, where no pool needs the server name.
    ClientHelloWithoutEffect { frontend: Name },
    /// Kinds of persistence that no client of some frontends can carry.
    NeverTied { frontends: Vec<Name>, kinds: Vec<PersistenceKind> },
    /// A group of pins in which no other pool has a server of the same name.
    UnsharedPins { pool: Name, group: Name },
    /// Keys to hash by that no client of some frontends can have.
    NeverThere {
        frontends: Vec<Name>,
        keys: Vec<HashKey>,
        /// Whether such clients are refused.
        is_refused: bool,
    },
    /// Whoever stands between may read and change what is sent to a pool's servers.
    UnverifiedServers { pool: Name },
    /// Browsers will refuse plain text for longer than anyone could wait who has to take it back.
    LongHsts { frontend: Name, age: Span, subdomains: bool },
    /// An error page has something in braces that is none of its values.
    UnknownPageValue { frontend: Name, key: &'static str, values: Vec<String> },
    /// No request can meet a rule: its condition excludes itself.
    RuleNeverMet { rule: Name },
    /// No frontend lists a rule.
    UnusedRule { rule: Name },
    /// Neither a frontend nor a rule lists a limit.
    UnusedLimit { limit: Name },
    /// Every request that meets a rule meets an earlier one.
    ShadowedRule { rule: Name, by: Name, frontend: Name },
    /// Some requests meet two rules that do different things, and the first decides.
    OverlappingRules { first: Name, rule: Name, frontend: Name },
    /// No certificate of a frontend is for a host that its rules name.
    UncoveredHost { frontend: Name, hosts: Vec<String> },
    /// A redirect leads to a request that it redirects again.
    RedirectCircle { rule: Name, frontend: Name },
    /// No frontend uses a pool.
    UnusedPool { pool: Name },
    /// Flows of UDP, distributed in turns.
    OneSenderOneServer { frontend: Name },
    /// A `udp` check that sends nothing.
    EmptyDatagram { check: Name },
    /// Two pools have servers of the same address and port.
    Shared { pool: Name, other: Name, servers: Vec<SharedServer> },
    /// A server's address is where a frontend listens that leads back to it.
    Circle { address: SocketAddr, frontend: Name },
    /// A server's address is where another frontend listens.
    Chain { address: SocketAddr, frontend: Name },
    /// A frontend would have no eligible server.
    NoServerLeft {
        frontend: Name,
        /// What its clients speak.
        protocol: Protocol,
        pools: Vec<EligibleCount>,
    },
    /// A pool of several would become unusable.
    PoolLost {
        frontend: Name,
        pool: EligibleCount,
        /// How many eligible servers it needs.
        min_eligible: u16,
    },
    /// A new server has a name to which an order was given before.
    DutyStands {
        server: PoolServer,
        duty: Duty,
        /// Who gave the order.
        who: String,
        reason: String,
    },
    /// More servers are new than were tried.
    NotTried {
        /// How many are new or changed.
        servers: usize,
        /// How many were tried.
        tried: usize,
    },
    /// A secret can't be read.
    NoSecret { problem: String },
    /// A certificate can't be shown to clients.
    BadCertificate { problem: String },
    /// What a pool's servers are to be verified by can't be read.
    NoTrust { pool: Name, problem: String },
    /// What a frontend's clients are to be judged by can't be read.
    NoClientTrust { problem: String },
    /// A new server does not answer.
    NoAnswer { server: PoolServer, evidence: Box<Evidence> },
    /// A new server of a pool without a check does not answer.
    NoAnswerUnchecked {
        server: PoolServer,
        /// Where it should be.
        address: SocketAddr,
        problem: String,
    },
    /// A new server answers, and does not pass its check.
    CheckFails { server: PoolServer, evidence: Box<Evidence> },
    /// A new DNS name gives no servers.
    LookupFails { problem: String },
}

/// What becomes of the clients of a pool without servers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClientFate {
    /// The frontends that send them there.
    pub frontends: Vec<Name>,
    /// What they all speak; `None` where that differs.
    pub protocol: Option<Protocol>,
}

/// A server that two pools have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SharedServer {
    /// The address and port that several servers have.
    pub address: SocketAddr,
    /// Its name in one pool.
    pub server: Name,
    /// Its name in the other pool.
    pub other: Name,
}

/// How many servers of a pool are eligible and do not fail.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EligibleCount {
    /// The pool that falls short.
    pub pool: Name,
    /// How many of its servers are eligible.
    pub eligible: usize,
    /// How many servers the pool has.
    pub servers: usize,
}

impl WarningReason {
    /// The word for the kind in a warning's key. Keys of several kinds that have no effect are called alike.
    fn word(&self) -> String {
        match WarningKind::from(self) {
            WarningKind::HashKeysWithoutEffect
            | WarningKind::FailbackWithoutEffect
            | WarningKind::ClientHelloWithoutEffect => "no-effect".to_owned(),
            WarningKind::NoAnswerUnchecked => WarningKind::NoAnswer.to_string(),
            kind => kind.to_string(),
        }
    }
}

/// Something that is allowed and that the engineer probably does not want.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Warning {
    /// The name by which it is accepted: its kind and its path, such as `empty-pool:pools.booking`.
    pub key: String,
    /// What it warns of, for programs.
    pub kind: WarningKind,
    /// How much it weighs.
    pub level: WarningLevel,
    /// Path of the key that it concerns, as `pools.booking.check`.
    pub path: String,
    /// The line in the text, where there is one.
    pub line: Option<usize>,
    /// What will happen, as a sentence for people.
    pub message: String,
    /// What to do about it.
    pub help: String,
}

impl Warning {
    /// A warning at a key path.
    #[must_use]
    pub fn new(reason: &WarningReason, level: WarningLevel, path: &str) -> Self {
        let crate::describe::Advice { message, help } = crate::describe::warning(reason);
        let key = format!("{}:{path}", reason.word());
        Self { key, kind: reason.into(), level, path: path.to_owned(), line: None, message, help }
    }

    pub(super) fn notice(reason: &WarningReason, path: &str) -> Self {
        Self::new(reason, WarningLevel::Notice, path)
    }
}

/// The acceptance of a warning.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Acceptance {
    /// Key of the warning that is accepted.
    pub key: String,
    /// Text of the warning when it was accepted.
    #[serde(alias = "says")]
    pub message: String,
    /// Name of the token that accepted it.
    pub who: String,
    /// When it was accepted.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub at: Wall,
}

/// Who sends clients to which pool.
fn frontends_of(document: &Document) -> BTreeMap<&Name, Vec<(&Name, &FrontendSpec)>> {
    let mut of: BTreeMap<&Name, Vec<(&Name, &FrontendSpec)>> = BTreeMap::new();
    for (name, frontend) in &document.frontends {
        for pool in document.pools_of(frontend).collect::<BTreeSet<_>>() {
            of.entry(pool).or_default().push((name, frontend));
        }
    }
    of
}

pub(in crate::config) fn warnings(document: &Document) -> Vec<Warning> {
    let mut found = Vec::new();
    let frontends = frontends_of(document);
    let none = Vec::new();
    for (name, pool) in &document.pools {
        pool_warnings(name, pool, frontends.get(name).unwrap_or(&none), &mut found);
    }
    unshared_pins(document, &mut found);
    unknown_page_values(document, &mut found);
    super::rules::warnings(document, &mut found);
    super::limits::unused(document, &mut found);
    long_hsts(document, &mut found);
    unused_greeting(document, &mut found);
    one_way_feeds(document, &mut found);
    shared_servers(document, &mut found);
    circles(document, &mut found);
    for (name, check) in &document.checks {
        if check.timeout >= check.interval {
            let reason = WarningReason::SlowTimeout { timeout: check.timeout, interval: check.interval };
            found.push(Warning::new(&reason, WarningLevel::Warning, &format!("checks.{name}.timeout")));
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
    let level = if frontends.is_empty() { WarningLevel::Notice } else { WarningLevel::Warning };
    let fate = || ClientFate {
        frontends: frontends.iter().map(|(name, _)| (*name).clone()).collect(),
        protocol: common_protocol(frontends),
    };
    let pool_name = || name.clone();
    if pool.servers.is_empty() && pool.lookups.is_empty() {
        found.push(Warning::new(&WarningReason::EmptyPool { pool: pool_name(), fate: fate() }, level, &path));
    } else if !pool.servers.is_empty()
        && pool.lookups.is_empty()
        && pool.servers.values().all(|server| server.weight == 0)
    {
        found.push(Warning::new(&WarningReason::NoWeight { pool: pool_name(), fate: fate() }, level, &path));
    } else if pool.lookups.is_empty() && usize::from(pool.min_eligible) > pool.servers.len() {
        let is_one_of_several = frontends.iter().any(|(_, frontend)| !frontend.more.next_pools.is_empty());
        let level = if is_one_of_several { WarningLevel::Warning } else { WarningLevel::Notice };
        let reason =
            WarningReason::NeverUsable { min_eligible: pool.min_eligible, servers: pool.servers.len() };
        found.push(Warning::new(&reason, level, &format!("{path}.min_eligible")));
    }
    if pool.check.is_none() && !(pool.servers.is_empty() && pool.lookups.is_empty()) {
        found.push(Warning::new(&WarningReason::NoCheck { pool: pool_name() }, level, &path));
    }
    let is_open = |trust: &CertificateTrust| trust.tls == TlsVerify::Unverified && trust.pin.is_none();
    if pool.reaching.tls.as_ref().is_some_and(is_open) {
        let reason = WarningReason::UnverifiedServers { pool: pool_name() };
        found.push(Warning::new(&reason, level, &format!("{path}.tls")));
    }
    without_effect(name, pool, found);
    without_key(name, pool, frontends, found);
    never_tied(name, pool, frontends, found);
    if frontends.is_empty() {
        found.push(Warning::notice(&WarningReason::UnusedPool { pool: pool_name() }, &path));
    }
}

/// From what age on it matters that browsers forget nothing.
const LONG_HSTS: Duration = Duration::from_secs(86_400);

fn long_hsts(document: &Document, found: &mut Vec<Warning>) {
    for (name, frontend) in &document.frontends {
        let Some(http) = &frontend.http else { continue };
        if let Some(age) = http.hsts_age.filter(|age| age.get() >= LONG_HSTS) {
            let (frontend, subdomains) = (name.clone(), http.hsts_subdomains);
            let reason = WarningReason::LongHsts { frontend, age, subdomains };
            found.push(Warning::new(&reason, WarningLevel::Warning, &format!("frontends.{name}.hsts_age")));
        }
    }
}

/// The protocol that all frontends of a pool have; none where they differ.
fn common_protocol(frontends: &[(&Name, &FrontendSpec)]) -> Option<Protocol> {
    let (_, first) = frontends.first()?;
    frontends.iter().all(|(_, frontend)| frontend.protocol == first.protocol).then_some(first.protocol)
}

/// Keys that say something which nothing heeds.
fn without_effect(name: &Name, pool: &PoolSpec, found: &mut Vec<Warning>) {
    let mut notice = |key: &str, reason: &WarningReason| {
        found.push(Warning::notice(reason, &format!("pools.{name}.{key}")))
    };
    if pool.algorithm != Algorithm::Hash && !pool.hashing.keys.is_empty() {
        let reason = WarningReason::HashKeysWithoutEffect { pool: name.clone(), algorithm: pool.algorithm };
        notice("hash_keys", &reason);
    }
    let tiers: BTreeSet<u8> = pool.servers.values().map(|server| server.tier).collect();
    if pool.failback != Failback::Automatic && tiers.len() < 2 && pool.lookups.is_empty() {
        notice("failback", &WarningReason::FailbackWithoutEffect { pool: name.clone() });
    }
}

/// Says of which frontends no client ever has one of the keys that the pool distributes by.
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
    let is_refused = pool.hashing.when_absent == Some(WhenAbsent::Refuse);
    let reason = WarningReason::NeverThere {
        frontends: all.iter().map(|(name, _)| (*name).clone()).collect(),
        keys: pool.hashing.keys.clone(),
        is_refused,
    };
    let level = if is_refused { WarningLevel::Warning } else { WarningLevel::Notice };
    found.push(Warning::new(&reason, level, &format!("pools.{name}.hash_keys")));
}

/// Says of which error pages a value is probably misspelt: clients would get it as it is written.
fn unknown_page_values(document: &Document, found: &mut Vec<Warning>) {
    for (name, frontend) in &document.frontends {
        for (key, values) in frontend.http.iter().flat_map(|http| http.errors.unknown_values()) {
            let reason = WarningReason::UnknownPageValue { frontend: name.clone(), key, values };
            found.push(Warning::notice(&reason, &format!("frontends.{name}.{key}")));
        }
    }
}

/// Says of which pools the pins hold in no other one of their group.
fn unshared_pins(document: &Document, found: &mut Vec<Warning>) {
    let mut homes: BTreeMap<(&Name, &Name), u32> = BTreeMap::new();
    let grouped = || {
        document.pools.iter().filter_map(|(name, pool)| Some((name, pool, pool.persistence.group.as_ref()?)))
    };
    for (_, pool, group) in grouped() {
        for server in pool.servers.keys() {
            *homes.entry((group, server)).or_default() += 1;
        }
    }
    for (name, _, group) in grouped().filter(|(_, pool, group)| {
        pool.lookups.is_empty()
            && pool.servers.keys().all(|server| homes.get(&(*group, server)).is_none_or(|homes| *homes < 2))
    }) {
        let reason = WarningReason::UnsharedPins { pool: name.clone(), group: group.clone() };
        found.push(Warning::notice(&reason, &format!("pools.{name}.pin_group")));
    }
}

/// Says of which frontends no client is ever tied by what the pool goes by.
fn never_tied(name: &Name, pool: &PoolSpec, frontends: &[(&Name, &FrontendSpec)], found: &mut Vec<Warning>) {
    let kinds = &pool.persistence.by.0;
    let never = |(_, frontend): &&(&Name, &FrontendSpec)| {
        !kinds.is_empty() && !kinds.iter().any(|kind| kind.is_known_of(frontend.protocol))
    };
    let frontends: Vec<Name> = frontends.iter().filter(never).map(|(name, _)| (*name).clone()).collect();
    if !frontends.is_empty() {
        let reason = WarningReason::NeverTied { frontends, kinds: kinds.clone() };
        found.push(Warning::notice(&reason, &format!("pools.{name}.persistence")));
    }
}

/// Says of frontends that wait for nothing.
fn unused_greeting(document: &Document, found: &mut Vec<Warning>) {
    for (name, frontend) in
        document.frontends.iter().filter(|(_, frontend)| frontend.client_hello_timeout.is_some())
    {
        let by_sni = |pool: &PoolSpec| {
            pool.algorithm == Algorithm::Hash && pool.hashing.keys.contains(&HashKey::Sni)
                || pool.persistence.has(&PersistenceKind::Sni)
                || pool.persistence.by.0.iter().any(|kind| matches!(kind, PersistenceKind::FirstBytes(_)))
        };
        if !frontend.pools().filter_map(|pool| document.pools.get(pool)).any(by_sni) {
            let path = format!("frontends.{name}.client_hello_timeout");
            let reason = WarningReason::ClientHelloWithoutEffect { frontend: name.clone() };
            found.push(Warning::notice(&reason, &path));
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
            let reason = WarningReason::OneSenderOneServer { frontend: name.clone() };
            found.push(Warning::notice(&reason, &format!("frontends.{name}.balance_per")));
        }
        for pool in frontend.pools().filter_map(|pool| document.pools.get(pool)) {
            for check in pool.checks() {
                let is_empty = document.checks.get(check).is_some_and(|check| match &check.kind {
                    CheckKind::Udp(exchange) => exchange.send.as_deref().unwrap_or_default().is_empty(),
                    _ => false,
                });
                let warning = Warning::notice(
                    &WarningReason::EmptyDatagram { check: check.clone() },
                    &format!("checks.{check}.send"),
                );
                if is_empty && !found.contains(&warning) {
                    found.push(warning);
                }
            }
        }
    }
}

/// Says once for each two pools which servers of one also serve the other.
fn shared_servers(document: &Document, found: &mut Vec<Warning>) {
    let mut users: BTreeMap<SocketAddr, (&Name, &Name)> = BTreeMap::new();
    let mut shared: BTreeMap<(&Name, &Name), Vec<SharedServer>> = BTreeMap::new();
    for (name, pool) in &document.pools {
        for (server, spec) in &pool.servers {
            match users.get(&spec.address.get()) {
                Some((other_pool, other)) => {
                    let (address, server, other) = (spec.address.get(), server.clone(), (*other).clone());
                    shared.entry((name, *other_pool)).or_default().push(SharedServer {
                        address,
                        server,
                        other,
                    });
                }
                None => drop(users.insert(spec.address.get(), (name, server))),
            }
        }
    }
    for ((name, other), servers) in shared {
        let reason = WarningReason::Shared { pool: name.clone(), other: other.clone(), servers };
        found.push(Warning::notice(&reason, &format!("pools.{name}")));
    }
}

fn circles(document: &Document, found: &mut Vec<Warning>) {
    let listening: BTreeMap<SocketAddr, &Name> =
        document.frontends.iter().map(|(name, frontend)| (frontend.listen.get(), name)).collect();
    for (name, pool) in &document.pools {
        for (server, spec) in &pool.servers {
            let address = spec.address.get();
            let Some(frontend) = listening.get(&address) else { continue };
            let path = format!("pools.{name}.servers.{server}.address");
            let frontend = (*frontend).clone();
            found.push(if leads_to(document, &listening, &frontend, name) {
                Warning::new(&WarningReason::Circle { address, frontend }, WarningLevel::Warning, &path)
            } else {
                Warning::notice(&WarningReason::Chain { address, frontend }, &path)
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
