//! What the controller tells people of: changes of health, pools that are emptied, and failures that all servers share.

use std::collections::{BTreeMap, BTreeSet};

use merismos_api::EventKind;
use merismos_core::config::document::NotifiedChange;
use merismos_core::health::timing::timing;
use merismos_core::health::{HealthState, HealthTransition, ProbeStep};
use merismos_core::name::{Name, PoolServer};
use merismos_core::notifications::ReportedChange;
use merismos_core::pins::{PinCrowding, PinSkew};
use merismos_core::routing::Snapshot;
use merismos_core::time::Wall;
use merismos_probe::ProbeReport;
use serde_json::json;

use super::limits::ReportedLimits;
use super::moves::ReportedMoves;
use super::state::ControllerState;
use crate::clock::wall;
use crate::journal::Journal;
use crate::notifications::{ChangeReport, NotificationSender};
use crate::troubles::Troubles;

/// Where changes are reported: the journal, notifications and troubles, with what was reported already.
pub(super) struct Reports {
    pub(super) journal: Journal,
    pub(super) messages: NotificationSender,
    pub(super) troubles: Troubles,
    /// Servers that should be back by now, by the numbers of their orders.
    pub(super) overdue: BTreeSet<(PoolServer, u64)>,
    /// Pools with pins, and whether those fight the weights.
    pub(super) pin_skews: BTreeMap<Name, PinSkew>,
    /// Pools whose pins are kept here, and whether those have too little room.
    pub(super) pin_crowdings: BTreeMap<Name, PinCrowding>,
    /// Pools that had an eligible server and have none now.
    pub(super) emptied: BTreeSet<Name>,
    /// What goes otherwise than it is meant to.
    pub(super) moves: ReportedMoves,
    /// Which limits hold clients off.
    pub(super) limits: ReportedLimits,
}

impl Reports {
    pub(super) fn new(journal: Journal, messages: NotificationSender, troubles: Troubles) -> Self {
        Self {
            journal,
            messages,
            troubles,
            overdue: BTreeSet::new(),
            pin_skews: BTreeMap::new(),
            pin_crowdings: BTreeMap::new(),
            emptied: BTreeSet::new(),
            moves: ReportedMoves::default(),
            limits: ReportedLimits::default(),
        }
    }
}

impl ControllerState {
    /// Tells those who want to know of a change of health. Within a window its servers may do as they like.
    pub(super) fn tell_people(
        &mut self,
        report: &ProbeReport,
        transition: HealthTransition,
        says: &str,
        at: Wall,
    ) {
        let change = match (transition.from, transition.to) {
            (_, HealthState::Down) => NotifiedChange::Down,
            (_, HealthState::Suspect) => NotifiedChange::Suspect,
            (HealthState::Down | HealthState::Recovering, HealthState::Up) => NotifiedChange::Up,
            _ => return,
        };
        if self.hold_back(&report.server) {
            return;
        }
        let flaps = report.flapping && change == NotifiedChange::Down;
        for change in std::iter::once(change).chain(flaps.then_some(NotifiedChange::Flapping)) {
            let report = ReportedChange {
                at,
                pool: report.server.pool.clone(),
                subject: report.server.to_string(),
                change: change.to_string(),
                message: says.to_owned(),
            };
            self.reports.messages.changed(ChangeReport { change, report });
        }
    }

    /// Tells those who want to know which pools have no eligible server any more, or have one again.
    pub(super) fn tell_of_pools(&mut self, before: &Snapshot, after: &Snapshot) {
        for pool in &after.pools {
            // Both are in the order of the names.
            let Ok(place) = before.pools.binary_search_by(|candidate| candidate.name.cmp(&pool.name)) else {
                continue;
            };
            let was = &before.pools[place];
            let (change, says) = match (was.eligible() > 0, pool.eligible() > 0) {
                (true, false) => {
                    self.reports.emptied.insert(pool.name.clone());
                    (NotifiedChange::Empty, "no server is eligible any more")
                }
                // A new pool was not emptied: its first server is no news.
                (false, true) if self.reports.emptied.remove(&pool.name) => {
                    (NotifiedChange::Filled, "a server is eligible again")
                }
                _ => continue,
            };
            let report = ReportedChange {
                at: wall(),
                pool: pool.name.clone(),
                subject: format!("pool {}", pool.name),
                change: change.to_string(),
                message: says.to_owned(),
            };
            self.reports.messages.changed(ChangeReport { change, report });
        }
    }

    /// Says so when the last server of a pool went down like all the others, in the same moment: then it may be the check.
    pub(super) fn tell_common_failure(&self, pool: &Name) {
        let document = self.document();
        let Some(spec) = document.pools.get(pool).filter(|spec| spec.servers.len() > 1) else { return };
        let Some(name) = &spec.check else { return };
        let worst = timing(&document.checks[name]).noticed.worst_ms;
        let now = wall();
        let mut way: Option<(ProbeStep, &str)> = None;
        for server in spec.servers.keys() {
            let id = PoolServer { pool: pool.clone(), server: server.clone() };
            let Some(health) = self.servers.health.get(&id).filter(|known| known.state == HealthState::Down)
            else {
                return;
            };
            let Some(probe) = &health.last_probe else { return };
            let this = (probe.step, probe.observed.as_str());
            let is_late = now.since(health.since).as_millis() > u128::from(2 * worst);
            if is_late || *way.get_or_insert(this) != this {
                return;
            }
        }
        let Some((step, got)) = way else { return };
        let count = spec.servers.len();
        let says = format!(
            "all {count} servers fail in the same moment and in the same way ({got}): it may be the check {name}, the way to \
             them, or something that all of them need"
        );
        let detail = json!({ "pool": pool, "check": name, "step": step, "got": got });
        self.reports.journal.write(EventKind::Health, format!("pool {pool}"), says, detail);
    }
}
