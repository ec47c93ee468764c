//! The three truths, and what follows from them.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use merismos_api::EventKind;
use merismos_core::cells::Cells;
use merismos_core::config::Checked;
use merismos_core::config::diff::diff;
use merismos_core::config::document::{CheckKind, Document};
use merismos_core::config::impact::impact;
use merismos_core::duty::{Duty, Order, guard};
use merismos_core::eligibility::Truths;
use merismos_core::health::{Evidence, State as HealthState};
use merismos_core::name::{Name, PoolServer};
use merismos_core::routing::{Snapshot, compile};
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_plane::probe::{Prober, Report, Target};
use merismos_plane::{BindError, Bound, Plane};
use merismos_store::Revision;
use merismos_store::copy::{Copy, KnownHealth};
use rand::RngExt;
use serde_json::json;
use tokio::sync::{broadcast, watch};

use super::rates::Rates;
use super::{Comparison, DutyError, Ground, NoFrontend};
use crate::clock::wall;
use crate::journal::Journal;

/// How many snapshots a trial may be behind.
const PUBLISHED: usize = 4_096;

/// A server's health as the controller knows it.
#[derive(Clone, Debug)]
pub(super) struct Health {
    pub(super) address: SocketAddr,
    pub(super) asked: Option<CheckKind>,
    pub(super) state: HealthState,
    pub(super) since: Wall,
    pub(super) last_probe: Option<Evidence>,
    pub(super) failures_to_down: Option<u32>,
    pub(super) passes_to_up: Option<u32>,
}

/// Everything that the controller is started with.
pub(crate) struct Start {
    pub(crate) plane: Plane,
    pub(crate) prober: Prober,
    pub(crate) journal: Journal,
    pub(crate) duties: BTreeMap<PoolServer, Order>,
    pub(crate) known_health: BTreeMap<String, KnownHealth>,
    /// Told whenever the copy file should be written anew.
    pub(crate) copy_is_old: watch::Sender<u64>,
}

/// The state of the service.
pub(crate) struct State {
    pub(super) plane: Plane,
    prober: Prober,
    pub(super) journal: Journal,
    cells: Cells,
    pub(super) running: Option<(Revision, Checked)>,
    pub(super) duties: BTreeMap<PoolServer, Order>,
    pub(super) health: BTreeMap<PoolServer, Health>,
    known_health: BTreeMap<String, KnownHealth>,
    pub(super) rates: Rates,
    pub(super) started: Wall,
    version: u64,
    published: broadcast::Sender<Arc<Snapshot>>,
    copy_is_old: watch::Sender<u64>,
}

impl Truths for State {
    fn duty(&self, server: &PoolServer) -> Duty {
        self.duties.get(server).map(|order| order.duty).unwrap_or_default()
    }

    fn health(&self, server: &PoolServer) -> HealthState {
        self.health.get(server).map(|health| health.state).unwrap_or_default()
    }
}

/// How a server's health is named in the copy: at another address it is another server.
fn health_key(server: &PoolServer, address: SocketAddr) -> String {
    format!("{server} {address}")
}

impl State {
    pub(crate) fn new(start: Start) -> Self {
        let (published, _) = broadcast::channel(PUBLISHED);
        Self {
            cells: Cells::new(start.plane.workers()),
            plane: start.plane,
            prober: start.prober,
            journal: start.journal,
            running: None,
            duties: start.duties,
            health: BTreeMap::new(),
            known_health: start.known_health,
            rates: Rates::default(),
            started: wall(),
            version: 0,
            published,
            copy_is_old: start.copy_is_old,
        }
    }

    pub(super) fn document(&self) -> Document {
        self.running.as_ref().map(|(_, checked)| checked.document().clone()).unwrap_or_default()
    }

    pub(super) fn compare(&self, checked: &Checked) -> Comparison {
        let (old, new) = (self.document(), checked.document());
        Comparison {
            revision: self.running.as_ref().map_or(0, |(revision, _)| revision.number),
            changes: diff(&old, new),
            moves: impact(&old, new, self),
        }
    }

    pub(super) fn bind(&self, checked: &Checked) -> Result<Vec<Bound>, BindError> {
        self.plane.bind(checked.document().frontends.values().map(|frontend| frontend.listen))
    }

    /// Runs a revision: health of what stays is kept, of what is new begins anew.
    pub(super) fn run(&mut self, revision: Revision, checked: Checked, bound: Vec<Bound>) {
        let (number, note, author) = (revision.number, revision.note.clone(), revision.author.clone());
        let runs = if revision.at < self.started { "runs again after the start" } else { "runs now" };
        let says = if note.is_empty() {
            format!("{runs}, by {author}")
        } else {
            format!("{runs}, by {author}: {note}")
        };
        self.settle_health(checked.document());
        self.running = Some((revision, checked));
        self.publish(bound);
        self.set_probes();
        self.forget_gone_servers();
        let detail = json!({ "number": number, "author": author, "note": note });
        self.journal.write(EventKind::Revision, format!("revision {number}"), says, detail);
        self.copy_is_old.send_modify(|changes| *changes += 1);
    }

    fn settle_health(&mut self, document: &Document) {
        let mut before = std::mem::take(&mut self.health);
        for (pool, spec) in &document.pools {
            let asked = spec.check.as_ref().map(|check| document.checks[check].kind.clone());
            for (server, it) in &spec.servers {
                let id = PoolServer { pool: pool.clone(), server: server.clone() };
                let same =
                    before.remove(&id).filter(|health| health.address == it.address && health.asked == asked);
                let health = same.unwrap_or_else(|| {
                    let known =
                        self.known_health.remove(&health_key(&id, it.address)).filter(|_| asked.is_some());
                    Health {
                        address: it.address,
                        asked: asked.clone(),
                        state: known.map(|known| known.state).unwrap_or_default(),
                        since: known.map_or_else(wall, |known| known.since),
                        last_probe: None,
                        failures_to_down: None,
                        passes_to_up: None,
                    }
                });
                self.health.insert(id, health);
            }
        }
    }

    fn set_probes(&mut self) {
        let document = self.document();
        let mut targets = Vec::new();
        for (pool, spec) in &document.pools {
            let Some(check) = spec.check.as_ref().map(|name| &document.checks[name]) else { continue };
            targets.extend(spec.servers.iter().map(|(server, it)| Target {
                server: PoolServer { pool: pool.clone(), server: server.clone() },
                address: it.address,
                check: check.clone(),
            }));
        }
        let health = &self.health;
        self.prober.set(targets, |target| health.get(&target.server).map(|it| it.state).unwrap_or_default());
    }

    fn forget_gone_servers(&mut self) {
        let health = &self.health;
        self.cells
            .retain_servers(|server, address| health.get(server).is_some_and(|it| it.address == address));
    }

    /// Compiles what is so now and publishes it to the workers.
    pub(super) fn publish(&mut self, bound: Vec<Bound>) {
        let Some((revision, checked)) = self.running.take() else { return };
        self.version += 1;
        let mut cells = std::mem::replace(&mut self.cells, Cells::new(0));
        let snapshot = Arc::new(compile(&checked, self, &mut cells, revision.number, self.version));
        self.cells = cells;
        self.running = Some((revision, checked));
        self.plane.publish(Arc::clone(&snapshot), bound);
        // Only running trials listen.
        let _ = self.published.send(snapshot);
    }

    /// Takes a probe's report; gives whether it changes what servers are eligible.
    pub(super) fn on_report(&mut self, report: Report) -> bool {
        let Some(health) = self.health.get_mut(&report.server) else { return false };
        if health.address != report.address {
            return false;
        }
        health.failures_to_down = report.failures_to_down;
        health.passes_to_up = report.passes_to_up;
        health.last_probe = Some(report.evidence.clone());
        let Some(transition) = report.transition else { return false };
        let now = wall();
        let lasted = now.since(health.since);
        health.state = report.state;
        health.since = now;
        let says =
            format!("{} after {} {}: {}", transition.to, humane(lasted), transition.from, report.evidence);
        let detail = json!({
            "from": transition.from, "to": transition.to, "evidence": report.evidence,
            "lasted_ms": lasted.as_millis() as u64,
        });
        self.journal.write(EventKind::Health, report.server.to_string(), says, detail);
        self.copy_is_old.send_modify(|changes| *changes += 1);
        true
    }

    /// Follows an order at once; gives the number of requests in flight at the server.
    pub(super) fn order(
        &mut self,
        server: &PoolServer,
        order: Order,
        even_if_last: bool,
    ) -> Result<u64, DutyError> {
        let snapshot = self.plane.snapshot();
        let pool = snapshot.pools.iter().find(|pool| pool.name == server.pool);
        let found =
            pool.and_then(|pool| pool.servers.iter().find(|it| it.name == *server).map(|it| (pool, it)));
        let Some((pool, it)) = found else { return Err(DutyError::Unknown(server.clone())) };
        let is_eligible = it.standing.reason.is_none();
        if !even_if_last {
            guard(server, order.duty, is_eligible, pool.eligible() - usize::from(is_eligible))?;
        }
        let says = format!("{} by {}: {}", order.duty, order.who, order.reason);
        self.journal.write(EventKind::Duty, server.to_string(), says, json!({ "order": order }));
        let cut = order.duty == Duty::Withdrawn;
        self.duties.insert(server.clone(), order);
        self.publish(Vec::new());
        if cut {
            self.plane.cut(it.cell.id);
        }
        self.copy_is_old.send_modify(|changes| *changes += 1);
        Ok(it.cell.counts().in_flight)
    }

    pub(super) fn export(&self) -> Option<(Revision, Box<Checked>)> {
        self.running.as_ref().map(|(revision, checked)| (revision.clone(), Box::new(checked.clone())))
    }

    pub(super) fn watch(&self, frontend: &Name, capacity: usize) -> Result<Ground, NoFrontend> {
        let snapshot = self.plane.snapshot();
        let found = snapshot.frontend_named(frontend).ok_or_else(|| NoFrontend(frontend.clone()))?;
        let mut address = found.listen;
        if address.ip().is_unspecified() {
            address.set_ip(match address {
                SocketAddr::V4(_) => std::net::Ipv4Addr::LOCALHOST.into(),
                SocketAddr::V6(_) => std::net::Ipv6Addr::LOCALHOST.into(),
            });
        }
        Ok(Ground {
            address,
            pool: found.pool.name.clone(),
            // Nobody outside can guess it, so nobody can mix marks of their own into a trial.
            sightings: self.plane.watch(rand::rng().random(), capacity),
            published: self.published.subscribe(),
            snapshot: Arc::clone(&snapshot),
        })
    }

    pub(super) fn copy(&self) -> Copy {
        let health = self.health.iter().filter(|(_, health)| health.state != HealthState::Unproven);
        Copy {
            revision: self.running.as_ref().map(|(revision, _)| revision.clone()),
            duties: self.duties.iter().map(|(server, order)| (server.to_string(), order.clone())).collect(),
            health: health
                .map(|(server, it)| {
                    (health_key(server, it.address), KnownHealth { state: it.state, since: it.since })
                })
                .collect(),
            tokens: Vec::new(),
        }
    }

    /// Samples the rates, and tries again to listen where it was not possible.
    pub(super) fn on_second(&mut self) {
        let snapshot = self.plane.snapshot();
        self.rates.sample(&snapshot, std::time::Instant::now());
        for address in self.plane.deaf() {
            if let Ok(bound) = self.plane.bind([address]) {
                self.plane.publish(Arc::clone(&snapshot), bound);
                self.journal.write(
                    EventKind::Node,
                    "this node",
                    format!("listens on {address} again"),
                    json!({}),
                );
            }
        }
    }

    /// Stops probing and traffic.
    pub(super) async fn stop(self, grace: Duration) -> usize {
        drop(self.prober);
        self.plane.stop(grace).await
    }
}
