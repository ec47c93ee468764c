//! The three truths, and what follows from them.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::time::{Duration, Instant};

use ipnet::IpNet;
use merismos_api::EventKind;
use merismos_core::config::Checked;
use merismos_core::config::discovery::{DiscoveredServer, DiscoveredServers};
use merismos_core::config::document::{CheckKind, Document, FrontendSpec, Protocol};
use merismos_core::duty::{Duty, DutyOrder, guard};
use merismos_core::eligibility::{IneligibleReason, ServerStates};
use merismos_core::health::{Evidence, HealthState, InitialHealth as KnownState, ServerFeedback};
use merismos_core::name::{Name, PoolServer};
use merismos_core::pins::{FormerNames, PinKey};
use merismos_core::routing::{self, PoolReason, Snapshot, compile, recompile};
use merismos_core::runtime::{RuntimeRegistry, ServerCounts};
use merismos_core::tiers::TierHold;
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_plane::observer::ObserveFilter;
use merismos_plane::{BindError, BoundSockets, Plane};
use merismos_probe::lookup::{LookupId, Lookups};
use merismos_probe::{ProbeReport, ProbeTarget, Prober};
use merismos_store::Revision;
use merismos_store::state_snapshot::{KnownHealth, StateSnapshot};
use rand::RngExt;
use serde_json::json;
use tokio::sync::{broadcast, watch};

use super::history::{ProbeHistory, after};
use super::lookups::{LookupState, lookup_id, lookup_key};
use super::moves::ReportedMoves;
use super::rates::Rates;
use super::slow_start::SlowStart;
use super::{DutyError, RunningView, StatesSnapshot, TrialTarget, UnknownFrontend};
use crate::access::FailedLogins;
use crate::api::ApiUsage;
use crate::clock::{GrowingNumbers, wall};
use crate::journal::Journal;
use crate::notifications::NotificationSender;
use crate::troubles::Troubles;

/// How many snapshots a trial may be behind.
const PUBLISHED: usize = 4_096;

/// A server's health as the controller knows it.
#[derive(Clone, Debug)]
pub(super) struct ServerHealth {
    pub(super) address: SocketAddr,
    pub(super) asked: Option<CheckKind>,
    pub(super) state: HealthState,
    pub(super) since: Wall,
    pub(super) last_probe: Option<Evidence>,
    pub(super) failures_to_down: Option<u32>,
    pub(super) passes_to_up: Option<u32>,
    /// What it asks for.
    pub(super) feedback: Option<ServerFeedback>,
    pub(super) flapping: bool,
    /// It is not up before this, whatever its probes say.
    pub(super) held_until: Option<Wall>,
    pub(super) history: ProbeHistory,
    /// How many failures its traffic had when that was reported last.
    pub(super) evidence_told: u64,
}

impl ServerHealth {
    /// Whether it gets work as far as its health goes.
    pub(super) fn works(&self) -> bool {
        self.asked.is_none() || matches!(self.state, HealthState::Up | HealthState::Suspect)
    }

    /// What its probes begin with.
    fn known(&self, now: Wall) -> KnownState {
        let held_for = self.held_until.map(|until| until.since(now)).unwrap_or_default();
        KnownState { state: self.state, held_for }
    }

    /// What a restart goes on with.
    fn to_keep(&self) -> KnownHealth {
        KnownHealth {
            state: self.state,
            since: self.since,
            feedback: self.feedback,
            held_until: self.held_until,
        }
    }
}

/// To whole seconds, for people.
fn round(length: Duration) -> Duration {
    Duration::from_secs((length + Duration::from_millis(500)).as_secs())
}

/// How old the copy may become, for its time tells until when servers were watched.
const COPY_TIMED_EVERY: Duration = Duration::from_secs(60);
/// From how many changes of health a day on an event says how many there were.
const OFTEN: u32 = 4;

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
    /// How many nodes share the database.
    pub(crate) nodes: Arc<AtomicU64>,
    pub(crate) api_usage: Arc<ApiUsage>,
    pub(crate) guesses: FailedLogins,
    pub(crate) troubles: Troubles,
    pub(crate) prober: Prober,
    pub(crate) lookups: Lookups,
    pub(crate) found: BTreeMap<String, BTreeSet<DiscoveredServer>>,
    pub(crate) journal: Journal,
    pub(crate) duties: BTreeMap<PoolServer, DutyOrder>,
    pub(crate) known_health: BTreeMap<String, KnownHealth>,
    /// Until when an earlier run of the service watched the servers.
    pub(crate) watched_until: Option<Wall>,
    pub(crate) holds: BTreeMap<Name, TierHold>,
    pub(crate) former_names: BTreeMap<Name, FormerNames>,
    pub(crate) pin_key: PinKey,
    /// Notified whenever the state file should be written anew.
    pub(crate) copy_is_old: watch::Sender<u64>,
}

/// The state of the service.
pub(crate) struct ControllerState {
    pub(super) plane: Plane,
    pub(super) messages: NotificationSender,
    pub(super) nodes: Arc<AtomicU64>,
    /// Pools that had an eligible server and have none now.
    pub(super) emptied: BTreeSet<Name>,
    pub(super) api_usage: Arc<ApiUsage>,
    pub(super) guesses: FailedLogins,
    pub(super) prober: Prober,
    pub(super) journal: Journal,
    pub(super) cells: RuntimeRegistry,
    pub(super) lookups: Lookups,
    pub(super) running: Option<RunningRevision>,
    pub(super) duties: BTreeMap<PoolServer, DutyOrder>,
    pub(super) health: BTreeMap<PoolServer, ServerHealth>,
    pub(super) known_health: BTreeMap<String, KnownHealth>,
    pub(super) found: DiscoveredServers,
    pub(super) looked: BTreeMap<LookupId, LookupState>,
    pub(super) rates: Rates,
    /// When totals began to be counted anew, and what each server's cell had counted then.
    pub(super) reset: Option<(Wall, BTreeMap<u32, ServerCounts>)>,
    /// The tiers of pools whose work does not go back by itself.
    pub(super) holds: BTreeMap<Name, TierHold>,
    /// What pools and their servers were called before, where that was otherwise.
    pub(super) former_names: BTreeMap<Name, FormerNames>,
    pub(super) pin_key: PinKey,
    /// What goes otherwise than it is meant to.
    pub(super) moves: ReportedMoves,
    /// Servers that returned or recovered a moment ago.
    pub(super) ramps: BTreeMap<PoolServer, SlowStart>,
    pub(super) started: Wall,
    /// Until when an earlier run of the service watched the servers.
    pub(super) watched_until: Option<Wall>,
    /// When the copy was asked to be written last for the sake of its time.
    copy_timed: Instant,
    /// Numbers for orders: larger than all that are known, whatever the clock says.
    pub(super) order_numbers: GrowingNumbers,
    pub(super) troubles: Troubles,
    /// Nothing is changed any more.
    pub(super) stopping: bool,
    version: u64,
    published: broadcast::Sender<Arc<Snapshot>>,
    pub(super) copy_is_old: watch::Sender<u64>,
}

impl ServerStates for ControllerState {
    fn duty(&self, server: &PoolServer) -> Duty {
        self.duties.get(server).map(|order| order.duty).unwrap_or_default()
    }

    fn health(&self, server: &PoolServer) -> HealthState {
        self.health.get(server).map(|health| health.state).unwrap_or_default()
    }

    fn ramp(&self, server: &PoolServer) -> u32 {
        self.thousandths(server)
    }

    fn feedback(&self, server: &PoolServer) -> Option<ServerFeedback> {
        self.health.get(server).and_then(|health| health.feedback)
    }

    fn held_tier(&self, pool: &Name) -> Option<u8> {
        self.holds.get(pool).map(|hold| hold.tier)
    }

    fn former_names(&self, pool: &Name) -> FormerNames {
        self.former_names.get(pool).cloned().unwrap_or_default()
    }
}

/// Why the shares of a trial can't be held against the weights, where that is so.
fn unjudged(frontend: &routing::Frontend) -> Option<String> {
    if frontend.choice.as_ref().is_some_and(|choice| matches!(choice.by, PoolReason::Latency)) {
        return Some("its pool is chosen by how fast each answers".to_owned());
    }
    frontend.pools().find_map(|pool| {
        let goes_by = pool.shares_go_by()?;
        Some(format!("pool {} distributes by {goes_by} ({})", pool.name, pool.algorithm))
    })
}

/// How a server's health is named in the copy: at another address it is another server.
pub(super) fn health_key(server: &PoolServer, address: SocketAddr) -> String {
    format!("{server} {address}")
}

impl ControllerState {
    pub(crate) fn new(start: ControllerStart) -> Self {
        let (published, _) = broadcast::channel(PUBLISHED);
        let order_numbers = GrowingNumbers::default();
        order_numbers.not_before(start.duties.values().map(|order| order.number).max().unwrap_or_default());
        Self {
            cells: RuntimeRegistry::new(start.plane.workers()),
            plane: start.plane,
            messages: start.messages,
            nodes: start.nodes,
            emptied: BTreeSet::new(),
            api_usage: start.api_usage,
            guesses: start.guesses,
            prober: start.prober,
            lookups: start.lookups,
            found: start
                .found
                .into_iter()
                .filter_map(|(key, state)| Some((lookup_id(&key)?, state)))
                .collect(),
            looked: BTreeMap::new(),
            journal: start.journal,
            running: None,
            duties: start.duties,
            health: BTreeMap::new(),
            known_health: start.known_health,
            rates: Rates::new(Instant::now()),
            reset: None,
            holds: start.holds,
            former_names: start.former_names,
            pin_key: start.pin_key,
            moves: ReportedMoves::default(),
            ramps: BTreeMap::new(),
            started: wall(),
            watched_until: start.watched_until,
            copy_timed: Instant::now(),
            order_numbers,
            troubles: start.troubles,
            stopping: false,
            version: 0,
            published,
            copy_is_old: start.copy_is_old,
        }
    }

    /// What runs, with the servers that lookups found.
    pub(super) fn document(&self) -> Arc<Document> {
        self.running.as_ref().map(|running| running.effective.shared()).unwrap_or_default()
    }

    /// Everything that a change is weighed against.
    pub(super) fn view(&self) -> RunningView {
        // Only what is out of the ordinary is reported one by one: when all is well, ten thousand servers cost nothing.
        let out_of_order = |server: &&PoolServer| {
            self.duty(server) != Duty::InService
                || self
                    .health
                    .get(*server)
                    .is_some_and(|health| health.state != HealthState::Up || health.feedback.is_some())
        };
        let facts = self.health.keys().chain(self.duties.keys()).filter(out_of_order);
        let facts = facts
            .map(|server| (server.clone(), (self.duty(server), self.health(server), self.feedback(server))))
            .collect();
        let empty = Checked::empty();
        RunningView {
            revision: self.running.as_ref().map(|running| Arc::clone(&running.revision)),
            checked: self.running.as_ref().map_or_else(|| empty.clone(), |running| running.checked.clone()),
            effective: self.running.as_ref().map_or(empty, |running| running.effective.clone()),
            found: self.found.clone(),
            facts: StatesSnapshot {
                servers: facts,
                tiers: self.holds.iter().map(|(pool, hold)| (pool.clone(), hold.tier)).collect(),
            },
            orders: self.duties.clone(),
            snapshot: self.plane.snapshot(),
        }
    }

    pub(super) fn bind(&self, checked: &Checked) -> Result<Vec<BoundSockets>, BindError> {
        self.plane.bind(checked.document().frontends.values().map(FrontendSpec::endpoint))
    }

    /// Runs a revision: what stays keeps its health and its counts, also under a new name; what is new begins anew.
    /// Gives the moment from which on every worker reads it.
    pub(super) fn run(&mut self, revision: Revision, checked: Checked, bound: Vec<BoundSockets>) -> Instant {
        let (number, note, author) = (revision.number, revision.note.clone(), revision.author.clone());
        let runs = if revision.at < self.started { "runs again after the start" } else { "runs now" };
        let mut says = format!("{runs}, by {author}");
        if !note.is_empty() {
            says += &format!(": {note}");
        }
        if !revision.changed.is_empty() {
            says += &format!("; changed: {}", revision.changed);
        }
        let accepted = revision.accepted.clone();
        self.keep_found(checked.document());
        let effective = checked.with_found(&self.found);
        self.settle(effective.document());
        self.running = Some(RunningRevision { revision: Arc::new(revision), checked, effective });
        self.publish(bound);
        let published = Instant::now();
        self.set_probes();
        self.set_lookups();
        self.forget_gone_servers();
        let detail = json!({ "number": number, "author": author, "note": note, "accepted": accepted });
        self.journal.write(EventKind::Revision, format!("revision {number}"), says, detail);
        self.copy_is_old.send_modify(|changes| *changes += 1);
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
            targets.extend(spec.servers.iter().map(|(server, server_spec)| ProbeTarget {
                server: PoolServer { pool: pool.clone(), server: server.clone() },
                address: server_spec.address.get(),
                other_addresses: server_spec.other_addresses.clone(),
                checks: Arc::clone(&checks),
                needed: spec.checks_needed,
                proxy_protocol: spec.proxy_protocol,
            }));
        }
        let health = &self.health;
        let now = wall();
        self.prober.set(targets, |target| {
            health.get(&target.server).map(|health| health.known(now)).unwrap_or_default()
        });
    }

    pub(super) fn forget_gone_servers(&mut self) {
        let health = &self.health;
        self.cells.retain_servers(|server, address| {
            health.get(server).is_some_and(|health| health.address == address)
        });
    }

    /// Compiles what is so now and publishes it to the workers.
    pub(super) fn publish(&mut self, bound: Vec<BoundSockets>) {
        let Some(running) = self.running.take() else { return };
        self.version += 1;
        self.follow_pools(running.effective.document().pools.iter());
        let mut cells = std::mem::replace(&mut self.cells, RuntimeRegistry::new(0));
        let number = running.revision.number;
        let (version, now) = (self.version, self.plane.now());
        let snapshot = Arc::new(compile(&running.effective, self, &mut cells, number, version, now));
        self.messages.set(&running.effective.document().notifications);
        let previous = self.plane.snapshot();
        self.tell_of_pools(&previous, &snapshot);
        self.tell_of_moves(&snapshot, running.effective.document());
        self.cells = cells;
        self.running = Some(running);
        self.plane.publish(Arc::clone(&snapshot), bound);
        self.leave_servers(&previous, &snapshot);
        // Only running trials listen.
        let _ = self.published.send(snapshot);
    }

    /// As [`Self::publish`], when only the duty or the health of servers of these pools changed.
    pub(super) fn publish_pools(&mut self, touched: &BTreeSet<Name>) {
        let Some(running) = self.running.take() else { return };
        self.version += 1;
        self.follow_pools(
            running.effective.document().pools.iter().filter(|(name, _)| touched.contains(*name)),
        );
        let mut cells = std::mem::replace(&mut self.cells, RuntimeRegistry::new(0));
        let (previous, document) = (self.plane.snapshot(), running.effective.document());
        let (version, now) = (self.version, self.plane.now());
        let snapshot = recompile(&previous, document, touched, self, &mut cells, version, now);
        let snapshot = Arc::new(snapshot);
        self.tell_of_pools(&previous, &snapshot);
        self.tell_of_moves(&snapshot, running.effective.document());
        self.cells = cells;
        self.running = Some(running);
        self.plane.publish(Arc::clone(&snapshot), Vec::new());
        self.leave_servers(&previous, &snapshot);
        let _ = self.published.send(snapshot);
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
                    Some(IneligibleReason::Down) if worked => self.plane.leave_down(server.cell.id),
                    Some(IneligibleReason::Standby) if worked => self.plane.leave_standby(server.cell.id),
                    _ => {}
                }
            }
        }
    }

    /// Takes a probe's report; gives the pool whose eligible servers may change with it.
    pub(super) fn on_report(&mut self, report: ProbeReport) -> Option<Name> {
        let health = self.health.get_mut(&report.server)?;
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
            self.journal.write(EventKind::Health, report.server.to_string(), says, detail);
            self.copy_is_old.send_modify(|changes| *changes += 1);
        }
        let Some(transition) = report.transition else {
            // Nearly all reports are such.
            health.last_probe = Some(report.evidence);
            return is_other.then_some(report.server.pool);
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
        self.journal.write(EventKind::Health, report.server.to_string(), says, detail);
        self.copy_is_old.send_modify(|changes| *changes += 1);
        if report.state == HealthState::Down {
            self.tell_common_failure(&report.server.pool);
        }
        Some(report.server.pool)
    }

    /// Follows an order at once; gives the number of requests in flight at the server.
    pub(super) fn order(
        &mut self,
        server: &PoolServer,
        order: DutyOrder,
        even_if_last: bool,
    ) -> Result<(u64, DutyOrder), DutyError> {
        let order = DutyOrder { number: self.order_numbers.next(), ..order };
        let snapshot = self.plane.snapshot();
        let pool = snapshot.pools.iter().find(|pool| pool.name == server.pool);
        let found = pool.and_then(|pool| {
            pool.servers.iter().find(|candidate| candidate.name == *server).map(|server| (pool, server))
        });
        let Some((pool, it)) = found else { return Err(DutyError::Unknown(server.clone())) };
        let is_eligible = it.standing.reason.is_none();
        if !even_if_last {
            guard(server, order.duty, is_eligible, pool.able() - usize::from(is_eligible))?;
        }
        let says = format!("{} by {}: {}", order.duty, order.who, order.reason);
        self.journal.write(EventKind::Duty, server.to_string(), says, json!({ "order": order }));
        let cut = order.duty == Duty::Withdrawn;
        self.duties.insert(server.clone(), order.clone());
        self.publish_pools(&BTreeSet::from([server.pool.clone()]));
        // Counted before it is broken off: the workers may be done with that at once.
        let in_flight = it.cell.counts().in_flight;
        if cut {
            self.plane.cut(it.cell.id);
        }
        self.copy_is_old.send_modify(|changes| *changes += 1);
        Ok((in_flight, order))
    }

    /// Follows those orders that are later than what is known here: given before the database was away, or while this node's
    /// state file could not be written.
    pub(super) fn adopt_orders(&mut self, orders: Vec<(PoolServer, DutyOrder)>) {
        let mut touched = BTreeSet::new();
        for (server, order) in orders {
            self.order_numbers.not_before(order.number);
            if self.duties.get(&server).is_none_or(|known| known.number < order.number) {
                let says = format!("{} by {}: {} (from the database)", order.duty, order.who, order.reason);
                self.journal.write(EventKind::Duty, server.to_string(), says, json!({ "order": order }));
                touched.insert(server.pool.clone());
                self.duties.insert(server, order);
            }
        }
        if !touched.is_empty() {
            self.publish_pools(&touched);
            self.copy_is_old.send_modify(|changes| *changes += 1);
        }
    }

    pub(super) fn watch(
        &self,
        name: &Name,
        from: Option<IpNet>,
        capacity: usize,
    ) -> Result<TrialTarget, UnknownFrontend> {
        let snapshot = self.plane.snapshot();
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
            Protocol::Http => ObserveFilter::Marks,
            Protocol::Tcp | Protocol::Udp => {
                ObserveFilter::Clients { frontend: frontend.cell.id, from: vec![from] }
            }
        };
        Ok(TrialTarget {
            address,
            frontend: Arc::clone(frontend),
            from,
            unjudged: unjudged(frontend),
            // It can not be guessed from outside, so no client can mix marks of its own into a trial.
            sightings: self.plane.watch(rand::rng().random(), what, capacity),
            published: self.published.subscribe(),
            snapshot: Arc::clone(&snapshot),
        })
    }

    pub(super) fn copy(&self) -> StateSnapshot {
        let health = self.health.iter().filter(|(_, health)| health.state != HealthState::Unproven);
        StateSnapshot {
            written: Some(wall()),
            revision: self.running.as_ref().map(|running| Revision::clone(&running.revision)),
            duties: self.duties.iter().map(|(server, order)| (server.to_string(), order.clone())).collect(),
            health: health
                .map(|(server, health)| (health_key(server, health.address), health.to_keep()))
                .collect(),
            tokens: Vec::new(),
            sessions: Vec::new(),
            found: self.found.iter().map(|(id, servers)| (lookup_key(id), servers.clone())).collect(),
            tiers: self.holds.iter().map(|(pool, hold)| (pool.to_string(), *hold)).collect(),
            former_names: self
                .former_names
                .iter()
                .map(|(pool, former)| (pool.to_string(), former.clone()))
                .collect(),
        }
    }

    /// Whether clients can be sent here.
    pub(super) fn is_ready(&self) -> bool {
        self.running.is_some() && !self.stopping && self.plane.deaf().is_empty()
    }

    /// Samples the rates, and tries again to listen where it was not possible.
    pub(super) fn on_second(&mut self) {
        let snapshot = self.plane.snapshot();
        let now = Instant::now();
        self.rates.sample(&snapshot, now);
        self.tell_of_failures(now);
        self.watch_draining();
        if self.copy_timed.elapsed() >= COPY_TIMED_EVERY {
            self.copy_timed = now;
            self.copy_is_old.send_modify(|changes| *changes += 1);
        }
        self.weigh_traffic();
        if self.stopping {
            return;
        }
        for endpoint in self.plane.deaf() {
            if let Ok(bound) = self.plane.bind([endpoint]) {
                self.plane.publish(Arc::clone(&snapshot), bound);
                self.journal.here(format!("listens on {endpoint} again"), json!({}));
            }
        }
    }

    /// Stops probing and traffic.
    pub(super) fn stop(&mut self, grace: Duration) -> impl Future<Output = usize> + Send + use<> {
        self.stopping = true;
        self.prober.set(Vec::new(), |_| KnownState::default());
        self.lookups.set(BTreeMap::new());
        self.plane.stop(grace)
    }
}
