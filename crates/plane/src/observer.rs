//! The observer: what became of watched work.
//!
//! A trial sends HTTP requests with the field [`MARK`]. The plane takes the field off, so servers see nothing of it, and
//! tells the trial's watch where the request went. A mark without a watch has no effect. Connections and flows
//! carry no marks: a watch may name a frontend, and gets all work that comes to it from some addresses.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arc_swap::ArcSwap;
use ipnet::IpNet;
use merismos_core::name::PoolServer;
use tokio::sync::mpsc;

use crate::accept::is_in;

/// The name of the request field that carries a mark: `<watch>-<number>`, both in decimal.
pub const MARK: &str = "merismos-mark";

/// What became of watched work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum ObservedWork {
    /// The request of this number.
    Request(u64),
    /// A connection or a flow of the client with this address and port.
    Client(SocketAddr),
}

/// What became of it.
#[derive(Clone, Debug)]
pub struct Observation {
    /// The request, connection, flow or datagram that was watched.
    pub of: ObservedWork,
    /// The version of the snapshot in which it was decided.
    pub version: u64,
    /// The server that took it in the end.
    pub server: Option<PoolServer>,
    /// The servers that failed it before, in order.
    pub failed_at: Vec<PoolServer>,
}

/// What a watch is for.
#[derive(Clone, Debug)]
pub enum ObserveFilter {
    /// Requests with its marks.
    Marks {
        /// The server that has to have them, whatever its duty and its health.
        to: Option<PoolServer>,
    },
    /// Connections and flows that come to a frontend (by the number of its cell) from these networks.
    Clients {
        /// The number of the frontend's cell.
        frontend: u32,
        /// Where they come from.
        from: Vec<IpNet>,
    },
}

/// One trial's ear: observations of one watch number.
#[derive(Debug)]
pub(crate) struct Observer {
    number: u64,
    what: ObserveFilter,
    sender: mpsc::Sender<Observation>,
    missed: Arc<AtomicU64>,
}

/// All watches. Cheap to ask for requests without a mark: they never ask.
#[derive(Clone, Debug, Default)]
pub(crate) struct ObserverList(Arc<ArcSwap<Vec<Arc<Observer>>>>);

/// The observations of one watch; dropping it ends the watch.
#[derive(Debug)]
pub struct Observations {
    /// The watch's number, the first part of its marks.
    pub number: u64,
    /// The observations as they come.
    pub receiver: mpsc::Receiver<Observation>,
    missed: Arc<AtomicU64>,
    watches: ObserverList,
}

impl ObserverList {
    /// Begins a watch that holds up to `capacity` observations that were not yet received.
    pub(crate) fn begin(&self, number: u64, what: ObserveFilter, capacity: usize) -> Observations {
        let (sender, receiver) = mpsc::channel(capacity.max(1));
        let missed = Arc::new(AtomicU64::new(0));
        let watch = Arc::new(Observer { number, what, sender, missed: Arc::clone(&missed) });
        self.0.rcu(|watches| {
            let mut watches = Vec::clone(watches);
            watches.push(Arc::clone(&watch));
            watches
        });
        Observations { number, receiver, missed, watches: self.clone() }
    }

    /// Whether there is no watch.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.load().is_empty()
    }

    /// The watch that a mark is for, and the request's number.
    pub(crate) fn find(&self, mark: &[u8]) -> Option<(Arc<Observer>, u64)> {
        let (watch, number) = std::str::from_utf8(mark).ok()?.split_once('-')?;
        let (watch, number): (u64, u64) = (watch.parse().ok()?, number.parse().ok()?);
        let is_meant = |observer: &&Arc<Observer>| {
            observer.number == watch && matches!(observer.what, ObserveFilter::Marks { .. })
        };
        self.0.load().iter().find(is_meant).map(|observer| (Arc::clone(observer), number))
    }

    /// Reports to every watch of a frontend where a connection or flow of this client went.
    pub(crate) fn report(
        &self,
        frontend: u32,
        client: SocketAddr,
        version: u64,
        server: Option<&PoolServer>,
        failed_at: impl Fn() -> Vec<PoolServer>,
    ) {
        for watch in self.0.load().iter() {
            let ObserveFilter::Clients { frontend: watched, from } = &watch.what else { continue };
            if *watched != frontend || !is_in(client.ip(), from) {
                continue;
            }
            watch.report(Observation {
                of: ObservedWork::Client(SocketAddr::new(client.ip().to_canonical(), client.port())),
                version,
                server: server.cloned(),
                failed_at: failed_at(),
            });
        }
    }
}

impl Observer {
    /// The server that has to have the requests with its marks.
    pub(crate) fn target(&self) -> Option<&PoolServer> {
        match &self.what {
            ObserveFilter::Marks { to } => to.as_ref(),
            ObserveFilter::Clients { .. } => None,
        }
    }

    /// Reports an observation; one for which there is no room is counted.
    pub(crate) fn report(&self, observation: Observation) {
        if self.sender.try_send(observation).is_err() {
            self.missed.fetch_add(1, Ordering::Relaxed);
        }
    }
}

impl Observations {
    /// Observations that were lost because they were not received in time.
    #[must_use]
    pub fn missed(&self) -> u64 {
        self.missed.load(Ordering::Relaxed)
    }
}

impl Drop for Observations {
    fn drop(&mut self) {
        let number = self.number;
        self.watches.0.rcu(|watches| {
            watches.iter().filter(|watch| watch.number != number).cloned().collect::<Vec<_>>()
        });
    }
}
