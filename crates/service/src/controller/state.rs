//! The three truths, and what follows from them.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use ipnet::IpNet;
use merismos_api::EventKind;
use merismos_core::config::Checked;
use merismos_core::config::discovery::DiscoveredServer;
use merismos_core::config::document::{Document, FrontendSpec, PersistenceKind, Protocol};
use merismos_core::config::renames::Renames;
use merismos_core::duty::{Duty, DutyOrder};
use merismos_core::eligibility::{IneligibleReason, ServerStates};
use merismos_core::health::{HealthState, InitialHealth};
use merismos_core::name::{Name, PoolServer};
use merismos_core::pins::{FormerNames, KeptPin, PinKey, PinRule, PinScope, mark_of};
use merismos_core::routing::{self, PoolReason, Snapshot};
use merismos_core::tiers::TierHold;
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_plane::observer::ObserveFilter;
use merismos_plane::{BindError, BoundSockets, Plane, Queued};
use merismos_probe::lookup::Lookups;
use merismos_probe::{ProbeOpening, ProbeReport, ProbeTarget, Prober};
use merismos_store::Revision;
use merismos_store::plans::StoredPlan;
use merismos_store::state_snapshot::{KnownHealth, StateSnapshot};
use rand::RngExt;
use serde_json::json;
use tokio::sync::watch;

use super::addresses::floating;
use super::history::after;
use super::lookups::{Discovery, lookup_key};
use super::notify::Reports;
use super::publisher::SnapshotPublisher;
use super::rates::TrafficTotals;
use super::rolls::RollBook;
use super::server_records::{ServerRecords, health_key};
use super::windows::WindowBook;
use super::{RevisionChange, RunningView, ServersReport, StatesSnapshot, TrialTarget, UnknownFrontend};
use crate::access::FailedLogins;
use crate::addresses::AddressWatch;
use crate::announcements::AnnouncementWatch;
use crate::api::ApiUsage;
use crate::certificates::CertificateKeeper;
use crate::clock::{GrowingNumbers, wall};
use crate::journal::Journal;
use crate::nodes::NodeWatch;
use crate::notifications::NotificationSender;
use crate::troubles::Troubles;
use crate::upgrade::WorkAct;

/// To whole seconds, for people.
pub(super) fn round(length: Duration) -> Duration {
    Duration::from_secs((length + Duration::from_millis(500)).as_secs())
}

/// How old the copy may become, for its time tells until when servers were watched.
const COPY_TIMED_EVERY: Duration = Duration::from_secs(60);
/// From how many changes of health a day on an event says how many there were.
const OFTEN: u32 = 4;

/// The revision that runs. It is shared, so that parts of the state can change while it is read.
#[derive(Clone)]
pub(super) struct RunningRevision {
    pub(super) revision: Arc<Revision>,
    pub(super) checked: Checked,
    /// Its document with the servers that lookups found.
    pub(super) effective: Checked,
}

/// Everything that the controller is started with.
pub(crate) struct ControllerStart {
    pub(crate) plane: Plane,
    pub(crate) messages: NotificationSender,
    /// The nodes that share the database.
    pub(crate) nodes: NodeWatch,
    /// Addresses that move between them.
    pub(crate) addresses: AddressWatch,
    pub(crate) announcements: AnnouncementWatch,
    /// Numbers of events and orders.
    pub(crate) order_numbers: GrowingNumbers,
    pub(crate) api_usage: Arc<ApiUsage>,
    pub(crate) guesses: FailedLogins,
    pub(crate) troubles: Troubles,
    pub(crate) prober: Prober,
    pub(crate) lookups: Lookups,
    pub(crate) found: BTreeMap<String, BTreeSet<DiscoveredServer>>,
    pub(crate) journal: Journal,
    pub(crate) duties: BTreeMap<PoolServer, DutyOrder>,
    pub(crate) plans: Vec<StoredPlan>,
    pub(crate) known_health: BTreeMap<String, KnownHealth>,
    /// Until when an earlier run of the service watched the servers.
    pub(crate) watched_until: Option<Wall>,
    pub(crate) holds: BTreeMap<Name, TierHold>,
    pub(crate) former_names: BTreeMap<Name, FormerNames>,
    pub(crate) pin_key: PinKey,
    pub(crate) certificates: CertificateKeeper,
    /// Pins that were kept.
    pub(crate) pins: Vec<(PinScope, Vec<KeptPin>)>,
    /// Whether a service before this one finishes its clients' work.
    pub(crate) has_predecessor: bool,
    /// Notified whenever the state file should be written anew.
    pub(crate) copy_is_old: watch::Sender<u64>,
}

/// What this node is and since when, for the status.
pub(super) struct NodeFacts {
    pub(super) nodes: NodeWatch,
    pub(super) api_usage: Arc<ApiUsage>,
    pub(super) guesses: FailedLogins,
    pub(super) started: Wall,
    /// Since when totals count: that of the first of services that took over from each other.
    pub(super) counted_since: Wall,
    /// Until when an earlier run of the service watched the servers.
    pub(super) watched_until: Option<Wall>,
}

/// Asks for the state file to be written anew.
pub(super) struct StateFileSignal {
    changes: watch::Sender<u64>,
    /// When it was asked last for the sake of the time in it.
    timed: Instant,
}

impl StateFileSignal {
    /// Something that it holds has changed.
    pub(super) fn changed(&self) {
        self.changes.send_modify(|changes| *changes += 1);
    }

    /// Has it written when the time in it is older than [`COPY_TIMED_EVERY`].
    fn keep_time(&mut self, now: Instant) {
        if self.timed.elapsed() >= COPY_TIMED_EVERY {
            self.timed = now;
            self.changed();
        }
    }
}

/// The state of the service. Each part has one concern and can be borrowed alone.
pub(crate) struct ControllerState {
    pub(super) running: Option<Arc<RunningRevision>>,
    pub(super) servers: ServerRecords,
    pub(super) windows: WindowBook,
    pub(super) addresses: AddressWatch,
    pub(super) announcements: AnnouncementWatch,
    pub(super) rolls: RollBook,
    pub(super) discovery: Discovery,
    pub(super) publisher: SnapshotPublisher,
    pub(super) totals: TrafficTotals,
    pub(super) reports: Reports,
    pub(super) node: NodeFacts,
    pub(super) state_file: StateFileSignal,
    pub(super) prober: Prober,
    pub(super) certificates: CertificateKeeper,
    /// Numbers for orders: larger than all that are known, whatever the clock says.
    pub(super) order_numbers: Arc<GrowingNumbers>,
    /// Nothing is changed any more.
    pub(super) stopping: bool,
    /// Another service has taken over: what time brings is its business.
    pub(super) handed_on: bool,
}

/// Why the shares of a trial can't be held against the weights, where that is so.
fn unjudged(frontend: &routing::Frontend) -> Option<String> {
    if frontend.choice.as_ref().is_some_and(|choice| matches!(choice.by, PoolReason::Latency)) {
        return Some("its pool is chosen by how fast each answers".to_owned());
    }
    let of_rules = frontend.rules.iter().flat_map(|rules| rules.pools());
    frontend.pools().chain(of_rules).find_map(|pool| {
        match pool.pin_rule.as_ref().and_then(PinRule::without_cookie) {
            Some(PersistenceKind::ClientAddress | PersistenceKind::ClientAddressAndPort) => {
                return Some(format!("pool {} ties clients by their addresses", pool.name));
            }
            Some(kind) => {
                let pool = &pool.name;
                return Some(format!(
                    "pool {pool} ties clients by {kind}, which is the same for all of the trial"
                ));
            }
            None => {}
        }
        let goes_by = pool.shares_go_by()?;
        Some(format!("pool {} distributes by {goes_by} ({})", pool.name, pool.algorithm))
    })
}

impl ControllerState {
    pub(crate) fn new(start: ControllerStart) -> Self {
        let order_numbers = Arc::new(start.order_numbers);
        order_numbers.not_before(start.duties.values().map(|order| order.number).max().unwrap_or_default());
        let windows = WindowBook::restore(&start.plans);
        for plan in &start.plans {
            start.addresses.adopt(plan);
        }
        let rolls = RollBook::restore(&start.plans);
        order_numbers.not_before(windows.newest().max(rolls.newest()).max(start.addresses.newest()));
        Self {
            running: None,
            windows,
            addresses: start.addresses,
            announcements: start.announcements,
            rolls,
            servers: ServerRecords {
                duties: start.duties,
                known_health: start.known_health,
                holds: start.holds,
                former_names: start.former_names,
                ..ServerRecords::default()
            },
            discovery: Discovery::new(start.lookups, start.found),
            publisher: SnapshotPublisher::new(start.plane, start.has_predecessor, start.pin_key, start.pins),
            totals: TrafficTotals::new(Instant::now()),
            reports: Reports::new(start.journal, start.messages, start.troubles),
            node: NodeFacts {
                nodes: start.nodes,
                api_usage: start.api_usage,
                guesses: start.guesses,
                started: wall(),
                counted_since: wall(),
                watched_until: start.watched_until,
            },
            state_file: StateFileSignal { changes: start.copy_is_old, timed: Instant::now() },
            prober: start.prober,
            certificates: start.certificates,
            order_numbers,
            stopping: false,
            handed_on: false,
        }
    }

    /// What runs, with the servers that lookups found.
    pub(super) fn document(&self) -> Arc<Document> {
        self.running.as_ref().map(|running| running.effective.shared()).unwrap_or_default()
    }

    /// The revision that runs; 0 before the first.
    pub(super) fn running_number(&self) -> u64 {
        self.running.as_ref().map_or(0, |running| running.revision.number)
    }

    /// What other nodes want to know of the servers here.
    pub(super) fn servers_report(&self) -> ServersReport {
        let down = self.servers.health.iter().filter(|(_, health)| health.state == HealthState::Down);
        ServersReport { down: down.map(|(server, _)| server.clone()).collect(), out: self.leaving_here() }
    }

    /// Everything that a change is weighed against.
    pub(super) fn view(&self) -> RunningView {
        // Only what is out of the ordinary is reported one by one: when all is well, ten thousand servers cost nothing.
        let out_of_order = |server: &&PoolServer| {
            self.servers.duty(server) != Duty::InService
                || self
                    .servers
                    .health
                    .get(*server)
                    .is_some_and(|health| health.state != HealthState::Up || health.feedback.is_some())
        };
        let facts = self.servers.health.keys().chain(self.servers.duties.keys()).filter(out_of_order);
        let facts = facts
            .map(|server| {
                (
                    server.clone(),
                    (self.servers.duty(server), self.servers.health(server), self.servers.feedback(server)),
                )
            })
            .collect();
        let empty = Checked::empty();
        RunningView {
            revision: self.running.as_ref().map(|running| Arc::clone(&running.revision)),
            checked: self.running.as_ref().map_or_else(|| empty.clone(), |running| running.checked.clone()),
            effective: self.running.as_ref().map_or(empty, |running| running.effective.clone()),
            found: self.discovery.found.clone(),
            facts: StatesSnapshot {
                servers: facts,
                tiers: self.servers.holds.iter().map(|(pool, hold)| (pool.clone(), hold.tier)).collect(),
            },
            orders: self.servers.duties.clone(),
            order_numbers: Arc::clone(&self.order_numbers),
            snapshot: self.publisher.plane.snapshot(),
        }
    }

    pub(super) fn bind(&self, checked: &Checked) -> Result<Vec<BoundSockets>, BindError> {
        let document = checked.document();
        self.publisher
            .plane
            .bind(document.frontends.values().map(FrontendSpec::endpoint), &floating(document))
    }

    /// Runs a revision: what stays keeps its health and its counts, also under a new name; what is new begins anew.
    /// Gives the moment from which on every worker reads it.
    pub(super) fn run(&mut self, change: RevisionChange) -> Instant {
        let RevisionChange { revision, checked, bound, joining, is_followed } = change;
        let (number, note, author) = (revision.number, revision.note.clone(), revision.author.clone());
        let runs = if revision.at < self.node.started { "runs again after the start" } else { "runs now" };
        let mut says = format!("{runs}, by {author}");
        if !note.is_empty() {
            says += &format!(": {note}");
        }
        if !revision.changed.is_empty() {
            says += &format!("; changed: {}", revision.changed);
        }
        let accepted = revision.accepted.clone();
        self.keep_found(checked.document());
        if let Some(running) = self.running.clone() {
            let (old, new) = (running.checked.document(), checked.document());
            let renames = Renames::between(old, new);
            self.end_removed_duties(old, new, &renames, number, is_followed);
            self.rename_in_windows(&renames, is_followed);
        }
        let effective = checked.with_found(&self.discovery.found);
        self.settle(effective.document(), is_followed.then_some(revision.at));
        // What joins out of service never has a client: its orders stand before the workers know it.
        for (server, order) in joining {
            self.tell_of_order(&server, &order, 1, &[]);
            self.servers.duties.insert(server, order);
        }
        self.running = Some(Arc::new(RunningRevision { revision: Arc::new(revision), checked, effective }));
        self.publish(bound);
        let published = Instant::now();
        self.keep_addresses();
        self.follow_drains();
        self.set_probes();
        self.set_lookups();
        self.forget_gone_servers();
        self.plan_windows();
        let detail = json!({ "number": number, "author": author, "note": note, "accepted": accepted });
        let subject = format!("revision {number}");
        if is_followed {
            self.reports.journal.note(EventKind::Revision, subject, says, detail);
        } else {
            self.reports.journal.write(EventKind::Revision, subject, says, detail);
        }
        self.state_file.changed();
        published
    }

    pub(super) fn set_probes(&mut self) {
        let document = self.document();
        let mut targets = Vec::new();
        for (pool, spec) in &document.pools {
            let checks: Arc<[_]> =
                spec.checks().map(|name| Arc::new(document.checks[name].clone())).collect();
            if checks.is_empty() {
                continue;
            }
            let opening = Arc::new(ProbeOpening::of(spec));
            targets.extend(spec.servers.iter().map(|(server, server_spec)| ProbeTarget {
                server: PoolServer { pool: pool.clone(), server: server.clone() },
                address: server_spec.address.get(),
                other_addresses: server_spec.other_addresses.clone(),
                checks: Arc::clone(&checks),
                needed: spec.checks_needed,
                opening: Arc::clone(&opening),
            }));
        }
        let health = &self.servers.health;
        let now = wall();
        self.prober.set(targets, |target| {
            health.get(&target.server).map(|health| health.known(now)).unwrap_or_default()
        });
    }

    pub(super) fn forget_gone_servers(&mut self) {
        let health = &self.servers.health;
        self.publisher.cells.retain_servers(|server, address| {
            health.get(server).is_some_and(|health| health.address == address)
        });
        let document = self.document();
        let mut pins: BTreeMap<PinScope, BTreeSet<u8>> = BTreeMap::new();
        for (name, pool) in document.pools.iter().filter(|(_, pool)| pool.persistence.ties_clients()) {
            let kinds = pool.persistence.by.0.iter().map(mark_of);
            pins.entry(PinScope::of(name, &pool.persistence)).or_default().extend(kinds);
        }
        self.publisher.cells.retain_pins(pins);
        let listed: BTreeMap<&Name, BTreeSet<&Name>> =
            document.frontends.iter().map(|(name, spec)| (name, spec.rules.iter().collect())).collect();
        self.publisher
            .cells
            .retain_rules(|frontend, rule| listed.get(frontend).is_some_and(|rules| rules.contains(rule)));
        self.publisher.cells.retain_limits(|limit| document.limits.contains_key(limit));
    }

    /// Compiles what is so now and publishes it to the workers.
    pub(super) fn publish(&mut self, bound: Vec<BoundSockets>) {
        let Some(running) = self.running.clone() else { return };
        let document = running.effective.document();
        self.follow_pools(document.pools.iter());
        self.reports.messages.set(&document.notifications);
        let judges_anew = self.certificates.speak(document);
        let snapshot = self.publisher.compile(&running.effective, &self.servers, running.revision.number);
        self.go_over_to(snapshot, document, bound);
        if judges_anew {
            self.publisher.plane.judge_clients();
        }
        self.certificates.forget_others(document);
    }

    /// As [`Self::publish`], when only the duty or the health of servers of these pools changed.
    pub(super) fn publish_pools(&mut self, touched: &BTreeSet<Name>) {
        let Some(running) = self.running.clone() else { return };
        let document = running.effective.document();
        self.follow_pools(document.pools.iter().filter(|(name, _)| touched.contains(*name)));
        let snapshot = self.publisher.recompile(document, touched, &self.servers);
        self.go_over_to(snapshot, document, Vec::new());
    }

    /// Reports what the snapshot changes, and has the workers go by it.
    fn go_over_to(&mut self, snapshot: Arc<Snapshot>, document: &Document, bound: Vec<BoundSockets>) {
        let previous = self.publisher.plane.snapshot();
        self.tell_of_pools(&previous, &snapshot);
        self.tell_of_moves(&snapshot, document);
        self.publisher.publish(Arc::clone(&snapshot), bound);
        self.leave_servers(&previous, &snapshot);
    }

    /// Has work leave the servers that are down now, and those that stand by again, as far as it should.
    fn leave_servers(&self, previous: &Snapshot, now: &Snapshot) {
        for pool in &now.pools {
            let found = previous.pools.binary_search_by(|before| before.name.cmp(&pool.name));
            let Some(before) = found.ok().map(|place| &previous.pools[place]) else { continue };
            if Arc::ptr_eq(before, pool) {
                continue;
            }
            for server in &pool.servers {
                let reason = server.standing.reason;
                if !matches!(reason, Some(IneligibleReason::Down | IneligibleReason::Standby)) {
                    continue;
                }
                let place = before.servers.binary_search_by(|candidate| candidate.name.cmp(&server.name));
                let worked = place.is_ok_and(|place| {
                    let known = &before.servers[place];
                    known.cell.id == server.cell.id && known.standing.reason != reason
                });
                match reason {
                    Some(IneligibleReason::Down) if worked => {
                        self.publisher.act(WorkAct::LeaveDown, server.cell.id)
                    }
                    Some(IneligibleReason::Standby) if worked => {
                        self.publisher.act(WorkAct::LeaveStandby, server.cell.id)
                    }
                    _ => {}
                }
            }
        }
    }

    /// Takes a probe's report; gives the pool whose eligible servers may change with it.
    pub(super) fn on_report(&mut self, report: ProbeReport) -> Option<Name> {
        let health = self.servers.health.get_mut(&report.server)?;
        if health.address != report.address {
            return None;
        }
        health.failures_to_down = report.failures_to_down;
        health.passes_to_up = report.passes_to_up;
        let now = wall();
        health.history.note(&report, now);
        health.flapping = report.flapping;
        health.held_until = report.held_for.map(|rest| after(now, rest));
        // What it asks for stands until the server answers without it.
        let is_other = report.evidence.passed() && health.feedback != report.evidence.feedback;
        if is_other {
            health.feedback = report.evidence.feedback;
            let says = health
                .feedback
                .map_or("asks for nothing any more".to_owned(), |feedback| feedback.to_string());
            let detail = json!({ "feedback": health.feedback });
            self.reports.journal.write(EventKind::Health, report.server.to_string(), says, detail);
            self.state_file.changed();
        }
        // What began before the server returned says nothing of it.
        let returned = self.servers.awaiting.get(&report.server).copied();
        let proves = returned.is_some_and(|at| report.evidence.passed() && report.evidence.at >= at);
        if proves {
            self.servers.awaiting.remove(&report.server);
        }
        let Some(transition) = report.transition else {
            // Nearly all reports are such.
            health.last_probe = Some(report.evidence);
            return (is_other || proves).then_some(report.server.pool);
        };
        health.last_probe = Some(report.evidence.clone());
        let lasted = now.since(health.since);
        health.state = report.state;
        health.since = now;
        let today = health.history.changes_today(now);
        let mut often = if today > OFTEN { format!(" (change {today} of today)") } else { String::new() };
        if report.flapping && transition.to == HealthState::Down {
            often.push_str("; it is flapping");
            if let Some(held) = report.held_for {
                often.push_str(&format!(", and held down for {}", humane(round(held))));
            }
        }
        let says = format!(
            "{} after {} {}: {}{often}",
            transition.to,
            humane(lasted),
            transition.from,
            report.evidence
        );
        let detail = json!({
            "from": transition.from, "to": transition.to, "evidence": report.evidence,
            "lasted_ms": lasted.as_millis() as u64, "changes_today": today,
            "flapping": report.flapping, "held_for_ms": report.held_for.map(|held| held.as_millis() as u64),
        });
        self.tell_people(&report, transition, &says, now);
        self.reports.journal.write(EventKind::Health, report.server.to_string(), says, detail);
        self.state_file.changed();
        if report.state == HealthState::Down {
            self.tell_common_failure(&report.server.pool);
        }
        Some(report.server.pool)
    }

    pub(super) fn watch(
        &self,
        name: &Name,
        from: Option<IpNet>,
        to: Option<&str>,
        capacity: usize,
    ) -> Result<TrialTarget, UnknownFrontend> {
        let snapshot = self.publisher.plane.snapshot();
        let frontend = snapshot.frontend_named(name).ok_or_else(|| UnknownFrontend(name.clone()))?;
        let mut address = frontend.listen.address;
        if address.ip().is_unspecified() {
            address.set_ip(match address {
                SocketAddr::V4(_) => std::net::Ipv4Addr::LOCALHOST.into(),
                SocketAddr::V6(_) => std::net::Ipv6Addr::LOCALHOST.into(),
            });
        }
        // Who is its own neighbour sends from where it listens.
        let usual = || merismos_load::usual_source(address).unwrap_or(address.ip()).into();
        let from = from.unwrap_or_else(usual);
        let what = match frontend.protocol {
            Protocol::Http => ObserveFilter::Marks { to: to.and_then(|to| to.parse().ok()) },
            Protocol::Tcp | Protocol::Udp => {
                ObserveFilter::Clients { frontend: frontend.cell.id, from: vec![from] }
            }
        };
        let document = self.document();
        let spec = document.frontends.get(name);
        Ok(TrialTarget {
            address,
            frontend: Arc::clone(frontend),
            tls_name: spec.and_then(|spec| self.certificates.usual_name(spec)),
            client_certificates: spec.and_then(|spec| spec.client_certificates),
            from,
            unjudged: unjudged(frontend),
            away: self.away(address.ip()),
            // It can not be guessed from outside, so no client can mix marks of its own into a trial.
            sightings: self.publisher.plane.watch(rand::rng().random(), what, capacity),
            published: self.publisher.published.subscribe(),
            snapshot: Arc::clone(&snapshot),
        })
    }

    pub(super) fn copy(&self) -> StateSnapshot {
        let health = self.servers.health.iter().filter(|(_, health)| health.state != HealthState::Unproven);
        StateSnapshot {
            written: Some(wall()),
            revision: self.running.as_ref().map(|running| Revision::clone(&running.revision)),
            duties: self
                .servers
                .duties
                .iter()
                .map(|(server, order)| (server.to_string(), order.clone()))
                .collect(),
            health: health
                .map(|(server, health)| (health_key(server, health.address), health.to_keep()))
                .collect(),
            plans: [self.windows.to_keep(), self.rolls.to_keep(), self.addresses.to_keep()].concat(),
            tokens: Vec::new(),
            sessions: Vec::new(),
            found: self
                .discovery
                .found
                .iter()
                .map(|(id, servers)| (lookup_key(id), servers.clone()))
                .collect(),
            tiers: self.servers.holds.iter().map(|(pool, hold)| (pool.to_string(), *hold)).collect(),
            former_names: self
                .servers
                .former_names
                .iter()
                .map(|(pool, former)| (pool.to_string(), former.clone()))
                .collect(),
        }
    }

    /// Whether clients can be sent here.
    pub(super) fn is_ready(&self) -> bool {
        self.running.is_some() && !self.stopping && self.publisher.plane.deaf().is_empty()
    }

    /// Samples the rates, and tries again to listen where it was not possible.
    pub(super) fn on_second(&mut self) {
        if self.handed_on {
            return;
        }
        let snapshot = self.publisher.plane.snapshot();
        let now = Instant::now();
        self.totals.rates.sample(&snapshot, now);
        self.totals.peaks.sample(&snapshot, now);
        self.tell_of_failures(now);
        self.report_limits(now);
        self.forget_idle_pins();
        self.watch_pin_skew(now);
        self.watch_pin_room();
        self.watch_drains();
        self.keep_windows();
        self.keep_rolls();
        self.tell_of_overdue();
        self.state_file.keep_time(now);
        self.weigh_traffic();
        if self.stopping {
            return;
        }
        self.keep_addresses();
        let floating = floating(&self.document());
        for endpoint in self.publisher.plane.deaf() {
            if let Ok(bound) = self.publisher.plane.bind([endpoint], &floating) {
                self.publisher.plane.publish(Arc::clone(&snapshot), bound);
                self.reports.journal.here(format!("listens on {endpoint} again"), json!({}));
            }
        }
    }

    /// Stops probing and traffic.
    pub(super) fn stop(
        &mut self,
        grace: Duration,
        queued: Queued,
    ) -> impl Future<Output = usize> + Send + use<> {
        self.stopping = true;
        self.handed_on = queued == Queued::HandedOn;
        self.prober.set(Vec::new(), |_| InitialHealth::default());
        self.discovery.lookups.set(BTreeMap::new());
        self.publisher.plane.stop(grace, queued)
    }
}
