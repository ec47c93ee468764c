//! From the three truths to the workers: snapshots are numbered, compiled and published here.

use std::collections::BTreeSet;
use std::sync::Arc;

use merismos_core::config::Checked;
use merismos_core::config::document::Document;
use merismos_core::name::Name;
use merismos_core::pins::{KeptPin, PinKey, PinScope};
use merismos_core::routing::{Snapshot, compile, recompile};
use merismos_core::runtime::RuntimeRegistry;
use merismos_plane::{BoundSockets, Plane};
use rand::RngExt;
use tokio::sync::broadcast;

use super::server_records::ServerRecords;
use super::upgrade::PredecessorWork;
use crate::upgrade::WorkAct;

/// How many snapshots a running trial may lag behind.
const PUBLISHED: usize = 4_096;

/// The plane, with what its snapshots are made of.
pub(super) struct SnapshotPublisher {
    pub(super) plane: Plane,
    pub(super) cells: RuntimeRegistry,
    version: u64,
    pub(super) published: broadcast::Sender<Arc<Snapshot>>,
    pub(super) predecessor: PredecessorWork,
}

impl SnapshotPublisher {
    /// With the pins that were kept, and cells that can take over what a service before this one counted, if there was one.
    pub(super) fn new(
        plane: Plane,
        has_predecessor: bool,
        pin_key: PinKey,
        pins: Vec<(PinScope, Vec<KeptPin>)>,
    ) -> Self {
        let (published, _) = broadcast::channel(PUBLISHED);
        let mut cells = RuntimeRegistry::new(plane.workers());
        cells.seed_pins(rand::rng().random());
        cells.sign_pins(pin_key);
        if has_predecessor {
            cells.inherit();
        }
        for (scope, pins) in pins {
            cells.pin_table(scope).restore(pins, plane.pin_second());
        }
        Self { cells, plane, version: 0, published, predecessor: PredecessorWork::default() }
    }

    /// Does something to the work at a server, by the number of its cell; also to what a service before this one has open there.
    pub(super) fn act(&self, act: WorkAct, server: u32) {
        match act {
            WorkAct::Cut => self.plane.cut(server),
            WorkAct::EndDrain => self.plane.end_drain(server),
            WorkAct::LeaveDown => self.plane.leave_down(server),
            WorkAct::LeaveStandby => self.plane.leave_standby(server),
        }
        self.predecessor.act(act, server);
    }

    /// Compiles a document whole.
    pub(super) fn compile(
        &mut self,
        effective: &Checked,
        servers: &ServerRecords,
        revision: u64,
    ) -> Arc<Snapshot> {
        self.version += 1;
        let now = self.plane.now();
        Arc::new(compile(effective, servers, &mut self.cells, revision, self.version, now))
    }

    /// Compiles these pools anew; all others stay as they are in the snapshot that holds now.
    pub(super) fn recompile(
        &mut self,
        document: &Document,
        touched: &BTreeSet<Name>,
        servers: &ServerRecords,
    ) -> Arc<Snapshot> {
        self.version += 1;
        let (previous, now) = (self.plane.snapshot(), self.plane.now());
        Arc::new(recompile(&previous, document, touched, servers, &mut self.cells, self.version, now))
    }

    /// Has every worker go by a snapshot from its next request on.
    pub(super) fn publish(&mut self, snapshot: Arc<Snapshot>, bound: Vec<BoundSockets>) {
        self.plane.publish(Arc::clone(&snapshot), bound);
        // Only running trials listen.
        let _ = self.published.send(snapshot);
    }
}
