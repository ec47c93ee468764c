//! What all connections of one worker share: the snapshot, deadlines, buffers, connections to servers, and who its clients are.
//!
//! Only its own thread touches it, so nothing here is locked. The worker itself ([`crate::worker`]) accepts connections and keeps the
//! time; what serves a connection needs this context alone.

use std::cell::{Cell, OnceCell, RefCell};
use std::collections::BTreeMap;
use std::future::Future;
use std::hint::cold_path;
use std::net::{IpAddr, SocketAddr};
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Instant, SystemTime, UNIX_EPOCH};

use arc_swap::{ArcSwap, Cache};
use merismos_connector::connect::ConnectError;
use merismos_connector::descriptors;
use merismos_core::draw::{Draw, GOLDEN, mix};
use merismos_core::limits::RefusalReason;
use merismos_core::routing::{Frontend, Pool, Server, Snapshot};
use merismos_core::time::Tick;
use rustls::pki_types::CertificateDer;
use tokio::sync::Notify;

use crate::buffer::{BufferPool, LARGE, SMALL};
use crate::challenges::ChallengeTable;
use crate::deadline::{DeadlineEntry, TICK, TimerWheel, WakeReason};
use crate::decisions::{DecisionLog, DecisionSampler};
use crate::http;
use crate::idle::IdleConnections;
use crate::io::ConnectionTimer;
use crate::memory::{CONNECTION, Memory, STREAM};
use crate::observer::ObserverList;
use crate::pipe::Pipes;
use crate::request_samples::{RequestSampler, RequestSamples};
use crate::tls::{HandshakeCounts, ServerProtocol, ServerTlsTable, TlsTable};
use crate::upstream::{ConnectFailure, ServerApproach, Upstream, connect_server};

/// How many texts to write heads into are kept over a quiet second.
const MOST_SCRAPS: usize = 64;

/// What the plane shares with all workers.
#[derive(Clone, Debug)]
pub(crate) struct WorkerShared {
    pub(crate) snapshot: Arc<ArcSwap<Snapshot>>,
    pub(crate) watches: ObserverList,
    /// From when time counts, for all workers alike.
    pub(crate) start: Instant,
    /// The second since 1970 of `start`.
    pub(crate) start_second: u32,
    pub(crate) log: DecisionLog,
    pub(crate) samples: RequestSamples,
    pub(crate) memory: Memory,
    /// How frontends speak TLS.
    pub(crate) tls: TlsTable,
    /// How servers are spoken to in TLS.
    pub(crate) server_tls: ServerTlsTable,
    /// What authorities of certificates are answered.
    pub(crate) challenges: ChallengeTable,
}

/// One client's connection, as the worker knows it.
#[derive(Debug)]
pub(crate) struct ConnectionState {
    /// The frontend that it is a client of: that of the address it came to, also when that changes.
    pub(crate) frontend: Cell<u32>,
    /// Where it came to.
    pub(crate) address: SocketAddr,
    /// Where it came from, if what lies here for it counts.
    pub(crate) peer: Cell<Option<IpAddr>>,
    /// It is one request of several that share a connection.
    pub(crate) is_stream: bool,
    /// What it costs while nothing waits in it, in bytes.
    pub(crate) cost: Cell<usize>,
    /// Its address is not listened on any more: it is let go after its next answer.
    pub(crate) leaving: Cell<bool>,
    /// How many requests came over it, where they are counted.
    pub(crate) requests: Cell<u32>,
    /// It has not asked for anything yet.
    pub(crate) fresh: Cell<bool>,
    pub(crate) alarm: Rc<DeadlineEntry>,
    /// The server of the exchange in flight.
    pub(crate) server: Cell<Option<u32>>,
    /// The server that this connection was assigned to, where connections are.
    pub(crate) dealt_to: Rc<Cell<Option<u32>>>,
    /// Between two requests: may be closed without hurting anyone.
    pub(crate) resting: Cell<bool>,
    /// It speaks a protocol in which it can be told to go before it asks again (HTTP/2).
    pub(crate) can_go_away: Cell<bool>,
    /// Nothing of an answer is here, and another server may have what it asked for; or it is to be broken off when its server
    /// goes down.
    pub(crate) may_move: Cell<bool>,
    /// It is to be broken off when its server stands by again.
    pub(crate) leaves_at_failback: Cell<bool>,
    /// The certificate that its client showed with those behind it, at a frontend that asks for one; empty where it showed none.
    pub(crate) identity: OnceCell<Rc<[CertificateDer<'static>]>>,
}

impl ConnectionState {
    /// A request came over it, of so many that may. With the last one it is let go after its response.
    #[inline]
    pub(crate) fn count_request(&self, most: u32) {
        if most < u32::MAX {
            cold_path();
            self.requests.set(self.requests.get() + 1);
            if self.requests.get() >= most {
                self.leaving.set(true);
            }
        }
    }

    /// Closes the connection at once when it rests, else after its next response. One that has not asked yet is answered once.
    pub(crate) fn let_go(&self) {
        self.leaving.set(true);
        if self.resting.get() && !self.fresh.get() {
            self.alarm.wake(WakeReason::Close);
        }
    }
}

/// The minute since 1970, as pins count.
pub(crate) fn minute() -> u32 {
    let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    u32::try_from(seconds / 60).unwrap_or(u32::MAX)
}

/// The second since 1970.
pub(crate) fn second() -> u32 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    u32::try_from(since.as_secs()).unwrap_or(u32::MAX)
}

/// Where a worker's random numbers begin: elsewhere at each start, and elsewhere for each worker.
fn seed(index: usize) -> u64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_nanos() as u64);
    mix(now ^ (index as u64).wrapping_mul(GOLDEN))
}

/// Everything that a worker's connections share.
#[derive(Debug)]
pub(crate) struct WorkerContext {
    pub(crate) index: usize,
    pub(crate) wheel: TimerWheel,
    pub(crate) idle: IdleConnections,
    pub(crate) shared: http::SharedConnections,
    pub(crate) small: Rc<BufferPool>,
    pub(crate) large: Rc<BufferPool>,
    pub(crate) pipes: Pipes,
    pub(crate) watches: ObserverList,
    pub(crate) tls: TlsTable,
    pub(crate) server_tls: ServerTlsTable,
    pub(crate) challenges: ChallengeTable,
    /// Handshakes of clients that are under way.
    pub(crate) handshakes: Rc<HandshakeCounts>,
    /// Nothing new is taken, and clients are let go after their next answer.
    pub(crate) stopping: Cell<bool>,
    /// Connections that rest are closed.
    pub(crate) closes_resting: Cell<bool>,
    start: Instant,
    start_second: u32,
    pub(crate) sampler: DecisionSampler,
    pub(crate) request_sampler: RequestSampler,
    draw: RefCell<Draw>,
    /// Notified at each tick, for the few that wait for time to pass.
    ticked: Notify,
    /// Texts that were used to write heads into, kept for their memory.
    scraps: RefCell<Vec<Vec<u8>>>,
    cache: RefCell<Cache<Arc<ArcSwap<Snapshot>>, Arc<Snapshot>>>,
    #[allow(clippy::redundant_allocation)] // the outer count is the worker's own; see `snapshot`
    current: RefCell<Rc<Arc<Snapshot>>>,
    clients: RefCell<BTreeMap<u64, Rc<ConnectionState>>>,
    /// What all of them cost while nothing waits in them, in bytes.
    clients_cost: Cell<u64>,
    next_client: Cell<u64>,
    /// How often a worker needed a descriptor that an idle connection may have held, when this one looked last.
    claims_seen: Cell<u64>,
}

impl WorkerContext {
    pub(crate) fn new(index: usize, shared: WorkerShared) -> Rc<Self> {
        let current = shared.snapshot.load_full();
        Rc::new(Self {
            index,
            wheel: TimerWheel::new(),
            idle: IdleConnections::default(),
            shared: http::SharedConnections::default(),
            small: BufferPool::new(SMALL),
            large: BufferPool::new(LARGE),
            pipes: Pipes::default(),
            watches: shared.watches,
            tls: shared.tls,
            server_tls: shared.server_tls,
            challenges: shared.challenges,
            handshakes: Rc::default(),
            stopping: Cell::new(false),
            closes_resting: Cell::new(false),
            start: shared.start,
            start_second: shared.start_second,
            sampler: DecisionSampler::new(shared.log),
            request_sampler: RequestSampler::new(shared.samples),
            draw: RefCell::new(Draw::seeded(seed(index))),
            ticked: Notify::new(),
            scraps: RefCell::new(Vec::new()),
            cache: RefCell::new(Cache::new(shared.snapshot)),
            current: RefCell::new(Rc::new(current)),
            clients: RefCell::new(BTreeMap::new()),
            clients_cost: Cell::new(0),
            next_client: Cell::new(0),
            claims_seen: Cell::new(descriptors::claims()),
        })
    }

    /// The time, for all workers alike.
    pub(crate) fn now(&self) -> Tick {
        Tick(0).plus(self.start.elapsed())
    }

    /// The second that learned pins count by: since 1970 at the start, and by a monotonic clock from then on.
    pub(crate) fn pin_second(&self) -> u32 {
        let since = u32::try_from(self.start.elapsed().as_secs()).unwrap_or(u32::MAX);
        self.start_second.saturating_add(since)
    }

    /// Notes that a frontend refused a client, and why.
    #[cold]
    pub(crate) fn note_refusal(&self, frontend: &Frontend, reason: RefusalReason, client: IpAddr) {
        frontend.cell.lane(self.index).refusals.note(reason, client, self.now().0);
    }

    pub(crate) fn draw(&self) -> u64 {
        self.draw.borrow_mut().number()
    }

    /// Waits for the next tick of the clock.
    pub(crate) fn next_tick(&self) -> impl Future<Output = ()> {
        self.ticked.notified()
    }

    /// The snapshot of this moment. The worker's own count of references keeps its cache line on its core.
    #[allow(clippy::redundant_allocation)]
    pub(crate) fn snapshot(&self) -> Rc<Arc<Snapshot>> {
        let mut cache = self.cache.borrow_mut();
        let newest = cache.load();
        let mut current = self.current.borrow_mut();
        if !Arc::ptr_eq(newest, &current) {
            *current = Rc::new(Arc::clone(newest));
        }
        Rc::clone(&current)
    }

    /// A look at the snapshot of this moment, which is held for no longer.
    #[inline]
    pub(crate) fn with_snapshot<T>(&self, at: impl FnOnce(&Snapshot) -> T) -> T {
        at(self.cache.borrow_mut().load())
    }

    /// Registers a client's connection until the returned guard is dropped.
    pub(crate) fn register(self: &Rc<Self>, frontend: u32, address: SocketAddr) -> RegisteredConnection {
        self.register_as(frontend, address, None)
    }

    /// Registers one request among several that share a client's connection.
    pub(crate) fn register_stream(self: &Rc<Self>, of: &ConnectionState) -> RegisteredConnection {
        let stream = self.register_as(of.frontend.get(), of.address, Some(&of.dealt_to));
        stream.client.peer.set(of.peer.get());
        if let Some(identity) = of.identity.get() {
            // It has none yet.
            let _ = stream.client.identity.set(Rc::clone(identity));
        }
        stream
    }

    fn register_as(
        self: &Rc<Self>,
        frontend: u32,
        address: SocketAddr,
        dealt_with: Option<&Rc<Cell<Option<u32>>>>,
    ) -> RegisteredConnection {
        let cost = if dealt_with.is_some() { STREAM } else { CONNECTION };
        self.clients_cost.set(self.clients_cost.get() + cost as u64);
        let key = self.next_client.get();
        self.next_client.set(key + 1);
        let client = Rc::new(ConnectionState {
            frontend: Cell::new(frontend),
            address,
            peer: Cell::new(None),
            is_stream: dealt_with.is_some(),
            cost: Cell::new(cost),
            leaving: Cell::new(false),
            requests: Cell::new(0),
            fresh: Cell::new(true),
            alarm: DeadlineEntry::new(),
            server: Cell::new(None),
            dealt_to: dealt_with.map(Rc::clone).unwrap_or_default(),
            resting: Cell::new(true),
            can_go_away: Cell::new(false),
            may_move: Cell::new(false),
            leaves_at_failback: Cell::new(false),
            identity: OnceCell::new(),
        });
        self.clients.borrow_mut().insert(key, Rc::clone(&client));
        RegisteredConnection { worker: Rc::clone(self), key, client }
    }

    /// An empty text to write a head into; give it back with [`Self::return_scratch`].
    pub(crate) fn take_scratch(&self) -> Vec<u8> {
        self.scraps.borrow_mut().pop().unwrap_or_else(|| Vec::with_capacity(2 << 10))
    }

    /// Keeps a text's memory for the next head, unless it grew large.
    pub(crate) fn return_scratch(&self, mut scrap: Vec<u8>) {
        if scrap.capacity() <= SMALL {
            scrap.clear();
            self.scraps.borrow_mut().push(scrap);
        }
    }

    /// A tick has passed: deadlines are looked at, and those that wait for time to pass are woken.
    pub(crate) fn tick(&self) {
        self.wheel.advance();
        self.ticked.notify_waiters();
        self.idle.make_room();
        let claims = descriptors::claims();
        if self.claims_seen.replace(claims) != claims {
            self.idle.close_all();
        }
    }

    /// Lets go of connections and memory that were not needed for a while.
    pub(crate) fn tidy(&self) {
        self.idle.close_expired(self.wheel.now());
        self.shared.tidy(self.wheel.now());
        self.small.trim();
        self.large.trim();
        self.pipes.trim();
        self.scraps.borrow_mut().truncate(MOST_SCRAPS);
    }

    /// How servers of a pool are to be reached for something that speaks so.
    pub(crate) fn approach<'a>(
        &'a self,
        pool: &'a Pool,
        protocol: ServerProtocol,
        watch: ConnectionTimer<'a>,
    ) -> ServerApproach<'a> {
        ServerApproach {
            how: &pool.reaching,
            trust_id: pool.trust_id,
            turn: self.draw(),
            watch,
            tls: &self.server_tls,
            protocol,
            host: None,
            header: None,
        }
    }

    /// Connects to a server for a client's work. While the process is short of descriptors, the idle connections of all workers are closed,
    /// and it is tried again for as long as work of the pool may wait.
    ///
    /// # Errors
    /// Why there is no connection.
    pub(crate) async fn connect_server(
        &self,
        server: &Server,
        pool: &Pool,
        approach: ServerApproach<'_>,
    ) -> Result<Upstream, ConnectFailure> {
        let mut left = pool.queue.timeout.get();
        loop {
            match connect_server(server, approach).await {
                Err(ConnectFailure::Failed(ConnectError::Exhausted)) if !left.is_zero() => {
                    descriptors::claim_idle();
                    self.idle.close_all();
                    self.next_tick().await;
                    left = left.saturating_sub(TICK);
                }
                ended => return ended,
            }
        }
    }

    /// How many clients there are.
    pub(crate) fn client_count(&self) -> usize {
        self.clients.borrow().len()
    }

    /// What all clients cost while nothing waits in them, in bytes.
    pub(crate) fn clients_cost(&self) -> u64 {
        self.clients_cost.get()
    }

    /// A client costs so much from now on.
    pub(crate) fn set_cost(&self, client: &ConnectionState, cost: usize) {
        let before = client.cost.replace(cost);
        self.clients_cost.set(self.clients_cost.get() - before as u64 + cost as u64);
    }

    pub(crate) fn each_client(&self, mut act: impl FnMut(&Rc<ConnectionState>)) {
        for client in self.clients.borrow().values() {
            act(client);
        }
    }

    /// Closes every connection that rests between two requests; only those that can be told before, until `closes_resting` is set.
    pub(crate) fn close_resting(&self) {
        self.each_client(|client| {
            if client.resting.get() && (self.closes_resting.get() || client.can_go_away.get()) {
                client.alarm.wake(WakeReason::Close);
            }
        });
    }

    /// Ends connections of clients whose certificate does not pass any more, and what is open over them: who was revoked gets nothing more.
    pub(crate) fn judge_clients(&self) {
        let snapshot = self.snapshot();
        self.each_client(|client| {
            let (Some(chain), Some(frontend)) =
                (client.identity.get(), snapshot.frontend(client.frontend.get()))
            else {
                return;
            };
            let judged_by = self.tls.of(&frontend.name).and_then(|tls| tls.clients);
            if judged_by.is_none_or(|clients| clients.judge_again(Some(chain)).is_ok()) {
                return;
            }
            client.leaving.set(true);
            let why = if client.resting.get() { WakeReason::Close } else { WakeReason::Cut };
            client.alarm.wake(why);
        });
    }

    /// Lets the clients of an address go: at once when they rest, else after their next answer. One that has not
    /// asked yet is answered once.
    pub(crate) fn close_clients_of(&self, address: SocketAddr) {
        self.each_client(|client| {
            if client.address == address {
                client.let_go();
            }
        });
    }
}

#[derive(Debug)]
pub(crate) struct RegisteredConnection {
    pub(crate) worker: Rc<WorkerContext>,
    key: u64,
    pub(crate) client: Rc<ConnectionState>,
}

impl Drop for RegisteredConnection {
    fn drop(&mut self) {
        self.worker.set_cost(&self.client, 0);
        self.worker.clients.borrow_mut().remove(&self.key);
    }
}
