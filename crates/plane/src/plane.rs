//! The handle by which the service drives its workers.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::{Arc, Weak};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use merismos_core::config::document::Endpoint;
use merismos_core::routing::Snapshot;
use merismos_core::time::Tick;
use tokio::sync::{Notify, mpsc, oneshot};

use crate::challenges::ChallengeTable;
use crate::context::WorkerShared;
use crate::deadline::TICK;
use crate::decisions::DecisionLog;
use crate::listen::{self, BindError, BoundSockets, HandedSocket, Listener};
use crate::memory::{Memory, MemoryLimits};
use crate::observer::{Observations, ObserveFilter, ObserverList};
use crate::request_samples::RequestSamples;
use crate::tls::{ServerTlsTable, TlsTable};
use crate::worker::{self, ClosingToken, WorkerCommand};

/// Why the plane could not start.
#[derive(Debug, thiserror::Error)]
#[error("worker {worker} could not be started: {source}")]
pub struct StartError {
    worker: usize,
    source: std::io::Error,
}

/// Tells every worker the time once a tick, for as long as there are workers.
fn beat(pulses: &[Weak<Notify>]) {
    loop {
        std::thread::sleep(TICK);
        let mut reached = 0;
        for pulse in pulses.iter().filter_map(Weak::upgrade) {
            pulse.notify_one();
            reached += 1;
        }
        if reached == 0 {
            return;
        }
    }
}

/// What becomes of connections that wait in the queues of listening sockets when a service stops.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Queued {
    /// They are taken and served: closing the sockets would reset them.
    Served,
    /// They are a successor's, which listens with the same sockets.
    HandedOn,
}

/// All workers. Dropping it leaves them running until their threads end with the process; use [`Plane::stop`].
#[derive(Debug)]
pub struct Plane {
    shared: WorkerShared,
    workers: Vec<(mpsc::UnboundedSender<WorkerCommand>, JoinHandle<()>)>,
    /// Which frontend listens where.
    listening: BTreeMap<Endpoint, u32>,
    /// Where workers may still have sockets that they were ordered to close.
    closing: BTreeMap<Endpoint, Weak<ClosingToken>>,
    /// Sockets that a service before this one handed over, until the first snapshot says whose they are.
    inherited: BTreeMap<Endpoint, Vec<Listener>>,
}

impl Plane {
    /// Starts `workers` threads that serve nothing yet. Clients may make them hold so much memory.
    ///
    /// # Errors
    /// When the system gives no more threads.
    pub fn start(workers: usize, limits: MemoryLimits) -> Result<Self, StartError> {
        let workers = workers.max(1);
        let snapshot = Arc::new(ArcSwap::from_pointee(Snapshot::empty()));
        let shared = WorkerShared {
            snapshot,
            watches: ObserverList::default(),
            start: Instant::now(),
            start_second: crate::context::second(),
            log: DecisionLog::new(),
            samples: RequestSamples::new(),
            memory: Memory::new(limits, workers),
            tls: TlsTable::default(),
            server_tls: ServerTlsTable::default(),
            challenges: ChallengeTable::default(),
        };
        let mut pulses = Vec::new();
        let mut spawn = |index: usize| {
            // Unbounded, for only the controller sends, a handful for each change.
            let (sender, commands) = mpsc::unbounded_channel();
            let shared = shared.clone();
            let pulse = Arc::new(Notify::new());
            pulses.push(Arc::downgrade(&pulse));
            let thread = std::thread::Builder::new()
                .name(format!("worker-{index}"))
                .spawn(move || worker::run(index, shared, pulse, commands))
                .map_err(|source| StartError { worker: index, source })?;
            Ok((sender, thread))
        };
        let workers: Vec<_> = (0..workers).map(&mut spawn).collect::<Result<_, _>>()?;
        std::thread::Builder::new()
            .name("clock".to_owned())
            .spawn(move || beat(&pulses))
            .map_err(|source| StartError { worker: workers.len(), source })?;
        Ok(Self {
            shared,
            workers,
            listening: BTreeMap::new(),
            closing: BTreeMap::new(),
            inherited: BTreeMap::new(),
        })
    }

    /// Takes over the sockets of the service before this one. The first snapshot that is published listens with them; those that it has
    /// no frontend for are closed then.
    pub fn inherit(&mut self, sockets: impl IntoIterator<Item = HandedSocket>) {
        for socket in sockets {
            self.inherited.entry(socket.endpoint).or_default().push(socket.into());
        }
    }

    /// The time as the workers count it.
    #[must_use]
    pub fn now(&self) -> Tick {
        Tick(0).plus(self.shared.start.elapsed())
    }

    /// How many workers there are: the number of lanes that cells need.
    #[must_use]
    pub fn workers(&self) -> usize {
        self.workers.len()
    }

    /// Binds those of the addresses that are not listened on yet; those that are `moving` also while this machine does not have them. Nothing is accepted before [`publish`](Self::publish);
    /// dropping what was bound undoes it.
    ///
    /// # Errors
    /// The first address that can't be bound, and why; none is bound then.
    pub fn bind(
        &self,
        endpoints: impl IntoIterator<Item = Endpoint>,
        moving: &BTreeSet<IpAddr>,
    ) -> Result<Vec<BoundSockets>, BindError> {
        let is_there = |endpoint: &Endpoint| {
            self.listening.contains_key(endpoint) || self.inherited.contains_key(endpoint)
        };
        let fresh = endpoints.into_iter().filter(|endpoint| !is_there(endpoint));
        // Where we listen on the same port already, perhaps on all addresses, our own sockets are no other program's.
        let same_port = |own: &Endpoint, endpoint: &Endpoint| {
            own.udp == endpoint.udp && own.address.port() == endpoint.address.port()
        };
        let closing =
            self.closing.iter().filter(|(_, token)| token.strong_count() > 0).map(|(endpoint, _)| endpoint);
        let own: Vec<&Endpoint> = self.listening.keys().chain(self.inherited.keys()).chain(closing).collect();
        let ours = |endpoint: &Endpoint| own.iter().any(|own| same_port(own, endpoint));
        fresh
            .map(|endpoint| {
                let is_moving = moving.contains(&endpoint.address.ip());
                listen::bind(endpoint, self.workers.len(), ours(&endpoint), is_moving)
            })
            .collect()
    }

    /// Makes a snapshot the one that every worker reads from its next request on, and listens where it says.
    /// A frontend whose address could not be bound is passed over; see [`Self::deaf`].
    pub fn publish(&mut self, snapshot: Arc<Snapshot>, bound: Vec<BoundSockets>) {
        self.shared.snapshot.store(Arc::clone(&snapshot));
        let wanted: BTreeMap<Endpoint, u32> =
            snapshot.frontends().map(|frontend| (frontend.listen, frontend.cell.id)).collect();
        let gone: Vec<_> = self
            .listening
            .iter()
            .filter(|(endpoint, frontend)| wanted.get(endpoint) != Some(frontend))
            .map(|(endpoint, _)| *endpoint)
            .collect();
        for endpoint in gone {
            match wanted.get(&endpoint) {
                // The sockets stay open, so clients that connect meanwhile are not refused.
                Some(frontend) => {
                    let frontend = *frontend;
                    self.listening.insert(endpoint, frontend);
                    self.tell(|| WorkerCommand::HandOver { frontend, endpoint });
                }
                None => {
                    self.listening.remove(&endpoint);
                    let closing = Arc::new(ClosingToken);
                    self.closing.retain(|_, token| token.strong_count() > 0);
                    self.closing.insert(endpoint, Arc::downgrade(&closing));
                    self.tell(|| WorkerCommand::Unlisten { endpoint, closing: Arc::clone(&closing) });
                }
            }
        }
        for (endpoint, sockets) in std::mem::take(&mut self.inherited) {
            match listen::complete(endpoint, sockets, self.workers.len()) {
                Ok(sockets) => self.listen(sockets, &wanted),
                Err(error) => tracing::error!(%error, "a socket for each worker could not be had"),
            }
        }
        for sockets in bound {
            self.listen(sockets, &wanted);
        }
    }

    fn listen(&mut self, bound: BoundSockets, wanted: &BTreeMap<Endpoint, u32>) {
        let endpoint = bound.endpoint;
        let Some(frontend) = wanted.get(&endpoint).copied() else { return };
        self.listening.insert(endpoint, frontend);
        // Every socket is accepted from, also where a service with more workers handed its own over: the queue of one that is closed
        // would be reset.
        for ((sender, _), socket) in self.workers.iter().cycle().zip(bound.sockets) {
            // A worker that is gone has stopped for good; there is no receiver.
            let _ = sender.send(WorkerCommand::Listen { frontend, endpoint, socket });
        }
    }

    fn tell(&self, command: impl Fn() -> WorkerCommand) {
        for (sender, _) in &self.workers {
            let _ = sender.send(command());
        }
    }

    /// The addresses of the published snapshot on which nothing listens.
    #[must_use]
    pub fn deaf(&self) -> BTreeSet<Endpoint> {
        let snapshot = self.shared.snapshot.load();
        let wanted = snapshot.frontends().map(|frontend| frontend.listen);
        wanted.filter(|endpoint| !self.listening.contains_key(endpoint)).collect()
    }

    /// The snapshot that workers read.
    #[must_use]
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.shared.snapshot.load_full()
    }

    /// Breaks off every exchange with a server, by the number of its cell.
    pub fn cut(&self, server: u32) {
        self.tell(|| WorkerCommand::Cut { server });
    }

    /// The deadline of a server's drain has passed, by the number of its cell: what is open at it is ended in order.
    pub fn end_drain(&self, server: u32) {
        self.tell(|| WorkerCommand::Drained { server });
    }

    /// A server went down, by the number of its cell: idempotent requests of which it has not begun an answer go to others, and
    /// TCP connections that are to be broken then are reset.
    pub fn leave_down(&self, server: u32) {
        self.tell(|| WorkerCommand::Down { server });
    }

    /// A server stands by again, by the number of its cell: TCP connections that are to be broken then are reset.
    pub fn leave_standby(&self, server: u32) {
        self.tell(|| WorkerCommand::StandsBy { server });
    }

    /// Certificates of clients are judged by other terms than before: those whose clients do not pass any more are broken off.
    pub fn judge_clients(&self) {
        self.tell(|| WorkerCommand::JudgeClients);
    }

    /// What clients make the workers hold.
    #[must_use]
    pub fn memory(&self) -> Memory {
        self.shared.memory.clone()
    }

    /// The second that learned pins count by.
    #[must_use]
    pub fn pin_second(&self) -> u32 {
        let since = u32::try_from(self.shared.start.elapsed().as_secs()).unwrap_or(u32::MAX);
        self.shared.start_second.saturating_add(since)
    }

    /// How frontends speak TLS.
    #[must_use]
    pub fn tls(&self) -> TlsTable {
        self.shared.tls.clone()
    }

    /// How servers are spoken to in TLS.
    #[must_use]
    pub fn server_tls(&self) -> ServerTlsTable {
        self.shared.server_tls.clone()
    }

    /// What frontends answer authorities of certificates.
    #[must_use]
    pub fn challenges(&self) -> ChallengeTable {
        self.shared.challenges.clone()
    }

    /// Where decisions can be watched.
    #[must_use]
    pub fn decisions(&self) -> DecisionLog {
        self.shared.log.clone()
    }

    /// Where samples of requests can be had.
    #[must_use]
    pub fn samples(&self) -> RequestSamples {
        self.shared.samples.clone()
    }

    /// Begins a watch of this number.
    #[must_use]
    pub fn watch(&self, number: u64, what: ObserveFilter, capacity: usize) -> Observations {
        self.shared.watches.begin(number, what, capacity)
    }

    /// Copies of all sockets that workers listen with, for a successor. Workers go on accepting from them.
    pub fn sockets(&self) -> impl Future<Output = Vec<HandedSocket>> + Send + use<> {
        let mut waiting = Vec::new();
        for (sender, _) in &self.workers {
            let (reply, sockets) = oneshot::channel();
            if sender.send(WorkerCommand::Sockets { reply }).is_ok() {
                waiting.push(sockets);
            }
        }
        async move {
            let mut all = Vec::new();
            for sockets in waiting {
                all.extend(sockets.await.unwrap_or_default());
            }
            all
        }
    }

    /// Stops accepting, lets work in flight finish within the grace period, and ends the workers. Gives the number
    /// of connections that were broken off.
    pub fn stop(&self, grace: Duration, queued: Queued) -> impl Future<Output = usize> + Send + use<> {
        let mut waiting = Vec::new();
        for (sender, _) in &self.workers {
            let (done, finished) = oneshot::channel();
            if sender.send(WorkerCommand::Stop { grace, queued, done }).is_ok() {
                waiting.push(finished);
            }
        }
        async move {
            let mut left = 0;
            for finished in waiting {
                left += finished.await.unwrap_or(0);
            }
            left
        }
    }
}
