//! The status: the three truths beside the answer, and what was observed.

use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use merismos_api::{
    AtStake, CheckStatus, FrontendStatus, HealthStatus, Latency, LookupStatus, Node, Observed, PassedNames,
    PoolShare, PoolStatus, RevisionStatus, ServerStatus, ServerTrust, Status, StoreStatus, Totals,
    TrafficPeriod,
};
use merismos_core::config::document::{
    CheckSpec, Document, LookupSpec, PoolSpec, Protocol, ServerSpec, TlsVerify,
};
use merismos_core::health::HealthState;
use merismos_core::health::timing::{DetectionTiming, timing};
use merismos_core::name::{Name, PoolServer};
use merismos_core::pins::identity;
use merismos_core::routing::{Frontend, Pool, PoolReason, Server};
use merismos_core::runtime::{ServerCounts, of_thousand};
use merismos_core::time::{Tick, Wall};
use merismos_core::units::humane;

use super::StatusDetail;
use super::moves::{failing_words, moved_words, tier_words};
use super::rates::{MINUTE, TEN_SECONDS};
use super::rules::{ruled_out, ruled_pools};
use super::state::{ControllerState, RunningRevision};
use crate::clock::wall;

/// From how many servers on a status does not show each one, unless it is asked to.
const MANY_SERVERS: u64 = 500;
/// How long servers may go unwatched for a state to count as one that lasted: the copy is a minute old at most.
const RESTART: Duration = Duration::from_secs(90);
/// How many troubles are listed one by one.
const MOST_TROUBLES: usize = 50;

impl ControllerState {
    /// Everything that is going on.
    pub(super) fn status(&self, detail: &StatusDetail) -> Status {
        let (snapshot, document) = (self.publisher.plane.snapshot(), self.document());
        let (at, now) = (wall(), Instant::now());
        let deaf = self.publisher.plane.deaf();
        let (probed, nodes) = (probes_per_minute(&document), self.node.nodes.count());
        let frontends: Vec<FrontendStatus> = document
            .frontends
            .keys()
            .filter_map(|name| {
                let found = snapshot.frontend_named(name)?;
                Some(self.frontend(found, !deaf.contains(&found.listen), now))
            })
            .collect();
        let mut pools: Vec<PoolStatus> = snapshot
            .pools
            .iter()
            .filter_map(|pool| {
                let spec = document.pools.get(&pool.name)?;
                let mut status = self.pool(pool, spec, &document, now);
                if let Some(check) = &mut status.check {
                    let of =
                        |server: &ServerSpec| probed.get(&server.address.get()).copied().unwrap_or_default();
                    check.probes_per_minute = nodes * spec.servers.values().map(of).max().unwrap_or_default();
                    check.at_stake = at_stake(&check.timing, &status.servers, status.per_second);
                }
                Some(status)
            })
            .collect();
        let servers: u64 = pools.iter().map(|pool| pool.size).sum();
        let (records, mut elsewhere) = (self.records(), self.lookup_troubles());
        elsewhere.extend(self.node.nodes.troubles(self.running_number()));
        elsewhere.extend(self.addresses.troubles());
        elsewhere.extend(self.announcements.troubles());
        elsewhere.extend(self.overdue(at));
        elsewhere.extend(self.late_windows(at));
        elsewhere.extend(self.rolls_in_need());
        elsewhere.extend(self.crowded_pins());
        elsewhere.extend(self.certificates.troubles(at));
        elsewhere.extend(self.finishing_predecessor(at));
        elsewhere.extend(
            self.publisher
                .plane
                .snapshot()
                .pools
                .iter()
                .filter_map(|pool| tier_words(pool, self.servers.is_held(&pool.name))),
        );
        let troubles = troubles(
            &frontends,
            &pools,
            &elsewhere,
            &self.reports.troubles.messages(),
            &records,
            self.node.started,
            at,
        );
        let (probes, late_probes) = self.prober.started();
        let mut shortened = false;
        if let StatusDetail::Short(wanted) = detail
            && servers > MANY_SERVERS
        {
            shortened = true;
            let wanted = wanted.as_ref().map(Name::as_str);
            for pool in pools.iter_mut().filter(|pool| Some(pool.name.as_str()) != wanted) {
                pool.servers = Vec::new();
            }
        }
        Status {
            at,
            node: Node {
                name: self.node.nodes.name().to_string(),
                version: env!("CARGO_PKG_VERSION").to_owned(),
                started: self.node.started,
                counted_since: self.node.counted_since,
                totals_reset: self.totals.reset.as_ref().map(|(at, _)| *at),
                workers: self.publisher.plane.workers() as u64,
                nodes,
                leads: self.node.nodes.leads(),
                probes,
                late_probes,
                client_memory: self.publisher.plane.memory().held(),
                client_memory_limit: self.publisher.plane.memory().limits().in_all,
                api_connections: self.node.api_usage.connections(),
                api_streams: self.node.api_usage.streams(),
                api_turned_away: self.node.api_usage.turned_away(),
                api_denied: self.node.api_usage.denied(),
                wrong_tokens: self.node.guesses.all(),
            },
            revision: self.revision(),
            troubles,
            records,
            servers,
            shortened,
            frontends,
            pools,
        }
    }

    /// What is wrong with lookups, a sentence each.
    fn lookup_troubles(&self) -> Vec<String> {
        let troubled =
            self.discovery.looked.iter().filter_map(|(id, looked)| Some((id, looked.trouble.as_ref()?)));
        troubled.map(|((pool, lookup), trouble)| format!("lookup {pool}/{lookup}: {trouble}")).collect()
    }

    fn lookups(&self, pool: &Name, spec: &PoolSpec) -> Vec<LookupStatus> {
        let status = |(name, lookup): (&Name, &LookupSpec)| {
            let id = (pool.clone(), name.clone());
            let looked = self.discovery.looked.get(&id).cloned().unwrap_or_default();
            LookupStatus {
                lookup: name.to_string(),
                name: lookup.name.clone(),
                found: self.discovery.found.get(&id).map_or(0, |found| found.len() as u64),
                at: looked.at,
                trouble: looked.trouble,
            }
        };
        spec.lookups.iter().map(status).collect()
    }

    fn revision(&self) -> RevisionStatus {
        match self.running.as_deref() {
            Some(RunningRevision { revision, .. }) => RevisionStatus {
                number: revision.number,
                author: revision.author.clone(),
                note: revision.note.clone(),
                at: revision.at,
            },
            None => RevisionStatus {
                number: 0,
                author: String::new(),
                note: "nothing was applied yet".to_owned(),
                at: self.node.started,
            },
        }
    }

    fn records(&self) -> StoreStatus {
        let backlog = self.reports.journal.outbox().backlog();
        StoreStatus {
            kept: backlog.why.is_none(),
            waiting: backlog.waiting,
            lost: backlog.dropped,
            refused: backlog.refused,
            refused_why: backlog.refused_why,
            why: backlog.why,
        }
    }

    fn frontend(&self, frontend: &Frontend, listening: bool, now: Instant) -> FrontendStatus {
        let counts = frontend.cell.counts();
        let short = self.totals.rates.frontend(frontend.cell.id, &counts, TEN_SECONDS, now);
        let minute = self.totals.rates.frontend(frontend.cell.id, &counts, MINUTE, now).by;
        let (pool, at) = (&frontend.pool, self.publisher.plane.now());
        let none_eligible = !frontend.pools().any(|pool| pool.eligible() > 0);
        let clients = match frontend.protocol {
            Protocol::Http => "every client gets 503",
            Protocol::Tcp => "every connection is reset",
            Protocol::Udp => "every datagram is lost",
        };
        let waiting = pool.cell.line.waiting();
        let trouble = if !listening {
            Some(format!("does not listen: {} is taken by another program or not ours", frontend.listen))
        } else if let Some(maintenance) = frontend.rules.as_ref().and_then(|rules| rules.maintenance()) {
            Some(format!("in maintenance: {}; clients get 503", maintenance.reason))
        } else if none_eligible && frontend.choice.is_some() {
            Some(format!("{clients}: no server of any of its pools is eligible"))
        } else if none_eligible && pool.servers.is_empty() {
            Some(format!("{clients}: pool {} has no servers", pool.name))
        } else if none_eligible {
            Some(format!("{clients}: no server of pool {} is eligible", pool.name))
        } else if let Some((names, pool)) = frontend.passed_names().find(|(_, pool)| pool.eligible() == 0) {
            let names = names.join(", ");
            Some(format!(
                "every client that asks for {names} is reset: no server of pool {} is eligible",
                pool.name
            ))
        } else if let Some(ruled_out) = ruled_out(frontend) {
            Some(ruled_out)
        } else if waiting > 0 {
            Some(format!("{waiting} wait: every eligible server of pool {} is full", pool.name))
        } else {
            let failing = self.reports.moves.is_failing(frontend);
            let failing = failing.then(|| failing_words(&minute, &frontend.balance_per.to_string()));
            let both: Vec<String> = failing.into_iter().chain(moved_words(frontend)).collect();
            (!both.is_empty()).then(|| both.join("; "))
        };
        FrontendStatus {
            name: frontend.name.to_string(),
            protocol: frontend.protocol.to_string(),
            unit: frontend.balance_per.to_string(),
            listen: frontend.listen.address.to_string(),
            tls: frontend.handshakes.is_some(),
            client_certificates: frontend.client_certificates.map(|asks| asks.to_string()),
            pool: pool.name.to_string(),
            pools: pool_shares(frontend, at),
            passthrough: passed_names(frontend),
            ruled_pools: ruled_pools(frontend),
            listening,
            trouble,
            connections: counts.connections,
            per_second: per_second(short.by.requests, short.over),
            turned_away: minute.turned_away,
            refused: minute.refused,
            denied: minute.denied,
            limited: minute.limited,
            unavailable: minute.unavailable,
            unanswered: minute.unanswered,
            errors: minute.errors,
            cut_for_memory: minute.cut_for_memory,
            handshakes: minute.handshakes,
            resumed: minute.resumed,
            bad_handshakes: minute.bad_handshakes,
            bad_handshake: self
                .certificates
                .last_failure(&frontend.name)
                .filter(|_| minute.bad_handshakes > 0),
            wrong_protocol: minute.wrong_protocol,
            redirects: frontend.redirect.is_some(),
            redirected: minute.redirected,
            challenges: minute.challenges,
        }
    }

    fn pool(&self, pool: &Pool, spec: &PoolSpec, document: &Document, now: Instant) -> PoolStatus {
        let check = spec.check.as_ref().map(|name| (name, &document.checks[name]));
        let windows = [TEN_SECONDS, MINUTE].map(|window| self.periods(pool, window, now));
        let at = wall();
        let pins = pool.pin_rule.as_ref().and_then(|rule| rule.learned.as_ref());
        let pins = pins.map(|(table, _)| table.per_server());
        let servers = pool.servers.iter().enumerate().filter_map(|(place, server)| {
            let observed = Observed { ten_seconds: windows[0][place], minute: windows[1][place] };
            let mut status =
                self.server(server, spec.servers.get(&server.name.server)?, check.is_some(), observed);
            status.draining = self.draining(pool, server, document, at);
            let identity = identity(&server.name.server);
            status.pins = pins.as_ref().map(|pins| pins.get(&identity).copied().unwrap_or_default());
            Some(status)
        });
        let servers: Vec<ServerStatus> = servers.collect();
        let fails = |server: &&ServerStatus| server.health.checked && is_failing(server.health.state);
        PoolStatus {
            name: pool.name.to_string(),
            algorithm: spec.algorithm.to_string(),
            shares_go_by: pool.shares_go_by().map(str::to_owned),
            check: check.map(|(name, check)| check_status(name, check)),
            more_checks: spec
                .more_checks
                .iter()
                .map(|name| format!("{name} · {}", document.checks[name].kind.asks()))
                .collect(),
            sends_to_all: pool.servers.iter().any(|server| server.standing.fails),
            server_tls: server_trust(spec),
            server_tls_failure: self.certificates.last_server_failure(&pool.name),
            size: servers.len() as u64,
            eligible: pool.eligible() as u64,
            failing: servers.iter().filter(fails).count() as u64,
            downs_today: servers.iter().map(|server| server.health.downs_today).sum(),
            per_second: windows[0].iter().map(|window| window.per_second).sum(),
            tier: pool.tiers.1,
            held: self.servers.is_held(&pool.name),
            waiting: pool.cell.line.waiting(),
            waited_in_vain: pool.cell.line.in_vain(),
            retries_withheld: pool.cell.attempts.withheld(),
            lookups: self.lookups(&pool.name, spec),
            servers,
        }
    }

    /// The status of single servers, without that of their pools.
    pub(super) fn server_statuses(&self, servers: &[PoolServer]) -> Vec<Option<ServerStatus>> {
        let (snapshot, document) = (self.publisher.plane.snapshot(), self.document());
        let (now, at) = (Instant::now(), wall());
        let status = |name: &PoolServer| {
            let pool = snapshot.pools.iter().find(|pool| pool.name == name.pool)?;
            let spec = document.pools.get(&name.pool)?;
            let place = pool.servers.iter().position(|server| server.name == *name)?;
            let server = &pool.servers[place];
            let [ten_seconds, minute] =
                [TEN_SECONDS, MINUTE].map(|window| self.periods(pool, window, now)[place]);
            let observed = Observed { ten_seconds, minute };
            let spec_of_server = spec.servers.get(&name.server)?;
            let mut status = self.server(server, spec_of_server, spec.check.is_some(), observed);
            status.draining = self.draining(pool, server, &document, at);
            Some(status)
        };
        servers.iter().map(status).collect()
    }

    /// Counts totals anew from now on.
    pub(super) fn reset_totals(&mut self) -> Wall {
        let (at, snapshot) = (wall(), self.publisher.plane.snapshot());
        let servers = snapshot.pools.iter().flat_map(|pool| &pool.servers);
        let counts = servers.map(|server| (server.cell.id, server.cell.counts())).collect();
        self.totals.reset = Some((at, counts));
        at
    }

    /// Until when an earlier run of the service watched the servers, where that is longer ago than a restart takes.
    fn unwatched_since(&self) -> Option<Wall> {
        self.node.watched_until.filter(|until| self.node.started.since(*until) > RESTART)
    }

    pub(super) fn periods(&self, pool: &Pool, window: Duration, now: Instant) -> Vec<TrafficPeriod> {
        let growths: Vec<_> = pool
            .servers
            .iter()
            .map(|server| self.totals.rates.server(server.cell.id, &server.cell.counts(), window, now))
            .collect();
        let total: u64 = growths.iter().map(|growth| growth.by.taken).sum();
        let new: u64 = growths.iter().map(|growth| growth.by.new_clients).sum();
        growths
            .into_iter()
            .map(|growth| TrafficPeriod {
                share: (total > 0).then(|| growth.by.taken as f64 / total as f64),
                new_share: (new > 0).then(|| growth.by.new_clients as f64 / new as f64),
                per_second: per_second(growth.by.taken, growth.over),
                failed: growth.by.failed,
                retried: growth.by.retried,
                errors: growth.by.errors,
            })
            .collect()
    }

    fn server(&self, server: &Server, spec: &ServerSpec, checked: bool, observed: Observed) -> ServerStatus {
        let health = self.servers.health.get(&server.name);
        let reason = server.standing.reason;
        let counts = server.cell.counts();
        ServerStatus {
            server: server.name.to_string(),
            address: server.address.to_string(),
            weight: spec.weight,
            tier: spec.tier,
            ramp: self.servers.ramp_of(&server.name),
            full: server.cell.room.full(server.limits, self.publisher.plane.now()).is_some(),
            found_by: spec.found_by.as_ref().map(ToString::to_string),
            duty: self.servers.duties.get(&server.name).cloned(),
            health: HealthStatus {
                checked,
                state: health.map(|health| health.state).unwrap_or_default(),
                since: health.map_or(self.node.started, |health| health.since),
                watched_until: health
                    .and_then(|health| self.unwatched_since().filter(|_| health.since < self.node.started)),
                last_probe: health.and_then(|health| health.last_probe.clone()),
                failures_to_down: health.and_then(|health| health.failures_to_down),
                passes_to_up: health.and_then(|health| health.passes_to_up),
                feedback: health.and_then(|health| health.feedback),
                flapping: health.is_some_and(|health| health.flapping),
                held_until: health.and_then(|health| health.held_until),
                downs_today: health.map_or(0, |health| health.history.downs_today(wall())),
            },
            eligible: reason.is_none(),
            reason,
            reason_words: reason.map(|reason| reason.to_string()),
            expected: server.standing.share,
            observed,
            latency: latency(&server.cell.latencies.last_minute(self.publisher.plane.now())),
            totals: totals(&counts),
            since_reset: self.totals.reset.as_ref().map(|(_, base)| {
                let before = base.get(&server.cell.id).copied().unwrap_or_default();
                totals(&counts.since(&before))
            }),
            in_flight: counts.in_flight,
            adaptive_limit: server.cell.room.adaptive_limit(server.limits).map(u64::from),
            pins: None,
            draining: None,
        }
    }
}

fn latency(sorted: &[u32]) -> Option<Latency> {
    Some(Latency {
        measured: u32::try_from(sorted.len()).unwrap_or(u32::MAX),
        median_us: of_thousand(sorted, 500)?,
        p99_us: of_thousand(sorted, 990)?,
    })
}

fn totals(counts: &ServerCounts) -> Totals {
    let ServerCounts { taken, failed, retried, errors, bytes_to, bytes_from, .. } = *counts;
    Totals { taken, failed, retried, errors, bytes_to, bytes_from }
}

/// What a frontend passes on, by server name.
fn passed_names(frontend: &Frontend) -> Vec<PassedNames> {
    let names = |(names, pool): (&[String], &Arc<Pool>)| PassedNames {
        names: names.to_vec(),
        pool: pool.name.to_string(),
        usable: pool.eligible() > 0,
    };
    frontend.passed_names().map(names).collect()
}

/// What a frontend with several pools sends to each of them.
fn pool_shares(frontend: &Frontend, now: Tick) -> Vec<PoolShare> {
    let Some(choice) = &frontend.choice else { return Vec::new() };
    let by_client = matches!(choice.by, PoolReason::Network(_));
    let shares = frontend.pool_shares(Ipv4Addr::UNSPECIFIED.into(), now);
    let share = |(pool, share): (&Arc<Pool>, f64)| PoolShare {
        pool: pool.name.to_string(),
        usable: pool.usable,
        expected: (!by_client).then_some(share),
    };
    frontend.pools().zip(shares).map(share).collect()
}

fn is_failing(state: HealthState) -> bool {
    match state {
        HealthState::Down | HealthState::Suspect => true,
        HealthState::Unproven | HealthState::Up | HealthState::Recovering => false,
    }
}

fn per_second(count: u64, over: Duration) -> f64 {
    count as f64 / over.as_secs_f64()
}

fn check_status(name: &Name, check: &CheckSpec) -> CheckStatus {
    let asks = format!(
        "{}; every {}, timeout {}, down after {}, up after {}",
        check.kind.asks(),
        check.interval,
        check.timeout,
        check.down_after,
        check.up_after
    );
    CheckStatus {
        name: name.to_string(),
        asks,
        timing: timing(check),
        probes_per_minute: 0,
        at_stake: AtStake::default(),
    }
}

/// How many probes each address gets in a minute, by all checks of all pools.
fn probes_per_minute(document: &Document) -> HashMap<SocketAddr, u64> {
    let mut probed = HashMap::new();
    for pool in document.pools.values() {
        // The first check says how often all of them are made.
        let Some(pace) = &pool.check else { continue };
        let each = timing(&document.checks[pace]).probes_per_minute * pool.checks().count() as u64;
        for server in pool.servers.values() {
            *probed.entry(server.address.get()).or_default() += each;
        }
    }
    probed
}

/// What would meet a failure of the server with the largest share before it is noticed.
fn at_stake(timing: &DetectionTiming, servers: &[ServerStatus], pool_per_second: f64) -> AtStake {
    let largest = servers.iter().map(|server| server.expected).fold(0.0, f64::max);
    let per_second = pool_per_second * largest;
    let within = |millis: u64| (per_second * millis as f64 / 1_000.0).ceil() as u64;
    let noticed = timing.noticed;
    AtStake { per_second, average: within(noticed.average_ms), worst: within(noticed.worst_ms) }
}

/// Whether traffic to a pool's servers is encrypted and verified.
fn server_trust(pool: &PoolSpec) -> ServerTrust {
    match &pool.reaching.tls {
        None => ServerTrust::Plain,
        Some(trust) if trust.tls == TlsVerify::Verified => ServerTrust::Verified,
        Some(trust) if trust.pin.is_some() => ServerTrust::Pinned,
        Some(_) => ServerTrust::Unverified,
    }
}

/// What is wrong, the worst first: clients without answers, then servers that fail, then records.
fn troubles(
    frontends: &[FrontendStatus],
    pools: &[PoolStatus],
    elsewhere: &[String],
    own: &[String],
    records: &StoreStatus,
    started: Wall,
    at: Wall,
) -> Vec<String> {
    let mut troubles: Vec<String> = frontends
        .iter()
        .filter_map(|frontend| {
            frontend.trouble.as_ref().map(|trouble| format!("frontend {}: {trouble}", frontend.name))
        })
        .collect();
    let mut more = 0;
    for server in pools.iter().flat_map(|pool| &pool.servers) {
        let health = &server.health;
        if health.checked && is_failing(health.state) {
            if troubles.len() >= MOST_TROUBLES {
                more += 1;
                continue;
            }
            let probe =
                health.last_probe.as_ref().map_or(String::new(), |probe| format!(": {}", probe.observed));
            let is_older = health.watched_until.is_some();
            let since = humane(at.since(if is_older { started } else { health.since }));
            let before = if is_older { " and when it was seen before this start" } else { "" };
            troubles.push(format!("{} is {} for {since}{before}{probe}", server.server, health.state));
        }
    }
    if more > 0 {
        troubles.push(format!("{more} more servers are failing; each pool's page shows its own"));
    }
    troubles.extend(elsewhere.iter().cloned());
    troubles.extend(own.iter().cloned());
    if let Some(why) = &records.why {
        troubles.push(format!("records are behind ({} wait, {} lost): {why}", records.waiting, records.lost));
    }
    if let Some(why) = &records.refused_why {
        troubles.push(format!(
            "{} records were refused by the database and set aside; the log holds them. The last one: {why}",
            records.refused
        ));
    }
    troubles
}
