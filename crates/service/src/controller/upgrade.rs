//! What goes to the service after this one, and what comes from the one before.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use merismos_core::name::Name;
use merismos_core::pins::{KeptPin, PinScope};
use merismos_core::runtime::{FrontendCounts, FrontendRuntime, ServerCounts, ServerRuntime};
use merismos_core::time::Wall;
use merismos_core::units::humane;
use serde_json::json;
use tokio::sync::mpsc;

use super::server_records::health_key;
use super::state::{ControllerState, round};
use crate::upgrade::{HandedTotals, UpgradeReport, WorkAct};

/// Everything that changes by itself while a service hands over, at one moment.
#[derive(Debug)]
pub(crate) struct HandedWork {
    pub(crate) work: UpgradeReport,
    pub(crate) totals: HandedTotals,
    /// Pins that were made or used since the second that was asked for.
    pub(crate) pins: Vec<(PinScope, Vec<KeptPin>)>,
    /// The second of these pins.
    pub(crate) pin_second: u32,
}

impl HandedWork {
    /// Pins as they go in a report.
    pub(crate) fn written((scope, pins): &(PinScope, Vec<KeptPin>)) -> (PinScope, String) {
        let mut bytes = Vec::with_capacity(pins.len() * KeptPin::LENGTH);
        pins.iter().for_each(|pin| pin.write(&mut bytes));
        (scope.clone(), BASE64_STANDARD.encode(bytes))
    }
}

/// What a service before this one has open and counted, and the way to it.
#[derive(Debug, Default)]
pub(super) struct PredecessorWork {
    /// By `pool/server address` as that service knows it: here it may have been renamed since.
    servers: BTreeMap<String, (Arc<ServerRuntime>, ServerCounts)>,
    frontends: BTreeMap<Name, (Arc<FrontendRuntime>, FrontendCounts)>,
    follows: Option<FollowedPredecessor>,
}

/// The way to the service before this one, and until when it is there at most.
#[derive(Debug)]
pub(super) struct FollowedPredecessor {
    pub(super) process: u32,
    pub(super) since: Wall,
    pub(super) until: Wall,
    pub(super) acts: mpsc::UnboundedSender<(WorkAct, String)>,
}

impl PredecessorWork {
    /// Has the same done to the work at a server there.
    pub(super) fn act(&self, act: WorkAct, server: u32) {
        let Some(FollowedPredecessor { acts, .. }) = &self.follows else { return };
        for (key, (cell, _)) in &self.servers {
            if cell.id == server {
                // When it has ended nothing is open.
                let _ = acts.send((act, key.clone()));
            }
        }
    }
}

/// How long a service that handed over may finish its clients' work before the status tells of it.
const TOLD_AFTER: Duration = Duration::from_secs(5);

impl ControllerState {
    /// That the service before this one still finishes its clients' work, for the status.
    pub(super) fn finishing_predecessor(&self, now: Wall) -> Option<String> {
        let before = &self.publisher.predecessor;
        let FollowedPredecessor { process, since, until, .. } = before.follows.as_ref()?;
        let clients: u64 = before.frontends.values().map(|(_, counts)| counts.connections).sum();
        let connections =
            if clients == 1 { "1 connection".to_owned() } else { format!("{clients} connections") };
        (now.since(*since) >= TOLD_AFTER).then(|| {
            format!(
                "process {process}, which handed over to this one, finishes {connections} of clients; it ends after {} at the latest",
                humane(round(until.since(now)))
            )
        })
    }

    /// What goes to a successor; with the pins that were made or used at `pins_since` or after it, by default all.
    pub(super) fn handed_work(&self, pins_since: Option<u32>) -> HandedWork {
        let cells = &self.publisher.cells;
        let key = |(server, address, _): &(&_, _, &_)| health_key(server, *address);
        let reset = self.totals.reset.as_ref().map(|(at, base)| {
            let counted = cells.servers().filter_map(|entry| Some((key(&entry), *base.get(&entry.2.id)?)));
            (*at, counted.collect())
        });
        HandedWork {
            work: UpgradeReport {
                servers: cells.servers().map(|entry| (key(&entry), entry.2.counts())).collect(),
                frontends: cells.frontends().map(|(name, cell)| (name.clone(), cell.counts())).collect(),
                pins: Vec::new(),
            },
            totals: HandedTotals { counted_since: self.node.counted_since, reset },
            pins: cells
                .pin_tables()
                .map(|(scope, table)| (scope.clone(), table.changed_since(pins_since.unwrap_or(0))))
                .collect(),
            pin_second: self.publisher.plane.pin_second(),
        }
    }

    /// Goes on counting where the service before this one stopped.
    pub(super) fn inherit_totals(&mut self, totals: &HandedTotals) {
        self.node.counted_since = totals.counted_since;
        self.totals.reset = totals.reset.as_ref().map(|(at, base)| {
            let known = self.publisher.cells.servers();
            let counted = known.filter_map(|(server, address, cell)| {
                Some((cell.id, *base.get(&health_key(server, address))?))
            });
            (*at, counted.collect())
        });
        // What was counted before is no work of the last second.
        self.totals.rates.begin_anew(&self.publisher.plane.snapshot(), std::time::Instant::now());
    }

    /// The way to the service before this one, as long as it finishes its clients' work.
    pub(super) fn follow_predecessor(&mut self, follows: FollowedPredecessor) {
        self.publisher.predecessor.follows = Some(follows);
    }

    /// Takes over what the service before this one reports.
    pub(super) fn inherit_work(&mut self, report: UpgradeReport) {
        let second = self.publisher.plane.pin_second();
        let (cells, before) = (&mut self.publisher.cells, &mut self.publisher.predecessor);
        if report.servers.keys().any(|key| !before.servers.contains_key(key)) {
            for (server, address, cell) in cells.servers() {
                let new = || (Arc::clone(cell), ServerCounts::default());
                before.servers.entry(health_key(server, address)).or_insert_with(new);
            }
        }
        for (key, counts) in report.servers {
            // One that the running revision does not know any more has no place for its counts.
            if let Some((cell, known)) = before.servers.get_mut(&key) {
                *known = counts;
                cell.inherit(&counts);
            }
        }
        for (name, counts) in report.frontends {
            let entry = before.frontends.entry(name);
            let entry = entry.or_insert_with_key(|name| (cells.frontend(name), FrontendCounts::default()));
            entry.1 = counts;
            entry.0.inherit(&counts);
        }
        for (scope, written) in report.pins {
            let bytes = BASE64_STANDARD.decode(written).unwrap_or_default();
            let pins = bytes.as_chunks::<{ KeptPin::LENGTH }>().0.iter().map(KeptPin::read).collect();
            cells.pin_table(scope).restore(pins, second);
        }
    }

    /// The service before this one has ended: nothing is open there any more.
    pub(super) fn end_predecessor(&mut self) {
        let before = std::mem::take(&mut self.publisher.predecessor);
        before.servers.values().for_each(|(cell, counts)| cell.inherit(&counts.closed()));
        for (cell, counts) in before.frontends.values() {
            cell.inherit(&FrontendCounts { connections: 0, ..*counts });
        }
        self.reports
            .journal
            .here("the service before this one has finished its clients' work and ended", json!({}));
    }

    /// Does what the successor says to the work at a server, here and at the service before this one.
    pub(super) fn work_act(&self, act: WorkAct, server: &str) {
        let found =
            self.publisher.cells.servers().find(|(known, address, _)| health_key(known, *address) == server);
        if let Some((.., cell)) = found {
            self.publisher.act(act, cell.id);
        }
    }
}
