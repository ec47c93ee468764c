//! One worker: a thread, its runtime, and everything that only it touches.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::future::Future;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use arc_swap::{ArcSwap, Cache};
use merismos_core::config::document::Endpoint;
use merismos_core::draw::{Draw, GOLDEN, mix};
use merismos_core::pins::PinKey;
use merismos_core::routing::Snapshot;
use merismos_core::time::Tick;
use socket2::SockRef;
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::LocalOptions;
use tokio::sync::{Notify, mpsc, oneshot};
use tokio::task::JoinHandle;

use crate::accept;
use crate::buffer::{BufferPool, LARGE, SMALL};
use crate::deadline::{DeadlineEntry, TimerWheel, WakeReason};
use crate::decisions::{DecisionLog, DecisionSampler};
use crate::http;
use crate::idle::IdleConnections;
use crate::listen::Listener;
use crate::memory::{CONNECTION, Memory, MemoryEnforcer, STREAM};
use crate::memory_trim::MemoryTrim;
use crate::observer::ObserverList;
use crate::pipe::Pipes;
use crate::preconnect::Preconnector;
use crate::udp;
use merismos_connector::descriptors;

/// How often idle connections and free buffers are looked through.
const TIDY_EVERY: Duration = Duration::from_secs(1);
/// How many texts to write heads into are kept over a quiet second.
const MOST_SCRAPS: usize = 64;
/// How many ticks accepting rests when there are no file descriptors left.
const ACCEPT_REST_TICKS: u32 = 3;

/// What the plane tells a worker.
#[derive(Debug)]
pub(crate) enum WorkerCommand {
    /// Serve a frontend on this socket.
    Listen { frontend: u32, endpoint: Endpoint, socket: Listener },
    /// Stop listening on an address; connections to it are closed when they have nothing in flight.
    Unlisten { endpoint: Endpoint },
    /// From now on the sockets on an address, and the connections to it, are another frontend's.
    HandOver { frontend: u32, endpoint: Endpoint },
    /// Break off every exchange with a server and forget its idle connections.
    Cut { server: u32 },
    /// A server went down: what waits for it and may go elsewhere does. Its idle connections are forgotten.
    Down { server: u32 },
    /// A server stands by again, for work went back to a lower tier.
    StandsBy { server: u32 },
    /// Stop listening everywhere, let work in flight finish until the deadline, then end.
    Stop { grace: Duration, done: oneshot::Sender<usize> },
}

/// What the plane shares with all workers.
#[derive(Clone, Debug)]
pub(crate) struct WorkerShared {
    pub(crate) snapshot: Arc<ArcSwap<Snapshot>>,
    pub(crate) watches: ObserverList,
    /// From when time counts, for all workers alike.
    pub(crate) start: Instant,
    pub(crate) pin_key: PinKey,
    pub(crate) log: DecisionLog,
    pub(crate) memory: Memory,
}

/// What drives a worker's clock: told by the plane's clock thread once a tick.
///
/// A worker's runtime has no timer of its own, for with one each wait in the kernel begins and ends with reading
/// the time and looking through the timers: about a thousand instructions a request.
pub(crate) type WorkerPulse = Arc<Notify>;

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
    /// Nobody listens where it came to any more: it is let go after its next answer.
    pub(crate) leaving: Cell<bool>,
    /// It has not asked for anything yet.
    pub(crate) fresh: Cell<bool>,
    pub(crate) alarm: Rc<DeadlineEntry>,
    /// The server of the exchange in flight.
    pub(crate) server: Cell<Option<u32>>,
    /// The server that this connection was dealt out to, where connections are.
    pub(crate) dealt_to: Rc<Cell<Option<u32>>>,
    /// Between two requests: may be closed without hurting anyone.
    pub(crate) resting: Cell<bool>,
    /// Nothing of an answer is here, and another server may have what it asked for; or it is to be broken off when its server
    /// goes down.
    pub(crate) may_move: Cell<bool>,
    /// It is to be broken off when its server stands by again.
    pub(crate) leaves_at_failback: Cell<bool>,
}

/// The minute since 1970, as pins count.
pub(crate) fn minute() -> u32 {
    let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    u32::try_from(seconds / 60).unwrap_or(u32::MAX)
}

/// Where a worker's random numbers begin: elsewhere at each start, and elsewhere for each worker.
fn seed(index: usize) -> u64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_nanos() as u64);
    mix(now ^ (index as u64).wrapping_mul(GOLDEN))
}

/// Everything that a worker's connections share.
#[derive(Debug)]
pub(crate) struct Worker {
    pub(crate) index: usize,
    pub(crate) wheel: TimerWheel,
    pub(crate) idle: IdleConnections,
    pub(crate) shared: http::SharedConnections,
    ahead: Preconnector,
    quiet: MemoryTrim,
    pub(crate) small: Rc<BufferPool>,
    pub(crate) large: Rc<BufferPool>,
    pub(crate) pipes: Pipes,
    keeping: MemoryEnforcer,
    pub(crate) watches: ObserverList,
    pub(crate) stopping: Cell<bool>,
    start: Instant,
    pub(crate) pin_key: PinKey,
    pub(crate) teller: DecisionSampler,
    draw: RefCell<Draw>,
    /// Told at each tick, for the few that wait for time to pass.
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
}

impl Worker {
    fn new(index: usize, shared: WorkerShared) -> Rc<Self> {
        let current = shared.snapshot.load_full();
        Rc::new(Self {
            index,
            wheel: TimerWheel::new(),
            idle: IdleConnections::default(),
            shared: http::SharedConnections::default(),
            ahead: Preconnector::default(),
            quiet: MemoryTrim::default(),
            small: BufferPool::new(SMALL),
            large: BufferPool::new(LARGE),
            pipes: Pipes::default(),
            keeping: MemoryEnforcer::new(shared.memory),
            watches: shared.watches,
            stopping: Cell::new(false),
            start: shared.start,
            pin_key: shared.pin_key,
            teller: DecisionSampler::new(shared.log),
            draw: RefCell::new(Draw::seeded(seed(index))),
            ticked: Notify::new(),
            scraps: RefCell::new(Vec::new()),
            cache: RefCell::new(Cache::new(shared.snapshot)),
            current: RefCell::new(Rc::new(current)),
            clients: RefCell::new(BTreeMap::new()),
            clients_cost: Cell::new(0),
            next_client: Cell::new(0),
        })
    }

    /// The time, for all workers alike.
    pub(crate) fn now(&self) -> Tick {
        Tick(0).plus(self.start.elapsed())
    }

    /// A random number.
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
            fresh: Cell::new(true),
            alarm: DeadlineEntry::new(),
            server: Cell::new(None),
            dealt_to: dealt_with.map(Rc::clone).unwrap_or_default(),
            resting: Cell::new(true),
            may_move: Cell::new(false),
            leaves_at_failback: Cell::new(false),
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

    fn close_resting(&self) {
        self.each_client(|client| {
            if client.resting.get() {
                client.alarm.wake(WakeReason::Close);
            }
        });
    }

    /// Lets the clients of an address go: at once when they rest, else after their next answer. One that has not
    /// asked yet is answered once.
    fn close_clients_of(&self, address: SocketAddr) {
        self.each_client(|client| {
            if client.address == address {
                client.leaving.set(true);
                if client.resting.get() && !client.fresh.get() {
                    client.alarm.wake(WakeReason::Close);
                }
            }
        });
    }
}

/// A registered connection.
#[derive(Debug)]
pub(crate) struct RegisteredConnection {
    pub(crate) worker: Rc<Worker>,
    key: u64,
    pub(crate) client: Rc<ConnectionState>,
}

impl Drop for RegisteredConnection {
    fn drop(&mut self) {
        self.worker.set_cost(&self.client, 0);
        self.worker.clients.borrow_mut().remove(&self.key);
    }
}

/// Runs a worker on this thread until it is stopped.
pub(crate) fn run(
    index: usize,
    shared: WorkerShared,
    pulse: WorkerPulse,
    commands: mpsc::UnboundedReceiver<WorkerCommand>,
) {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_io()
        .build_local(LocalOptions::default())
        .expect("a runtime needs only memory and an epoll descriptor");
    let worker = Worker::new(index, shared);
    // The runtime looks at its first future whenever anything wakes, so that one only waits for the real one.
    runtime.block_on(async {
        if let Err(error) = tokio::task::spawn_local(serve(worker, pulse, commands)).await {
            tracing::error!(%error, "a worker ended badly");
        }
    });
}

async fn serve(worker: Rc<Worker>, pulse: WorkerPulse, mut commands: mpsc::UnboundedReceiver<WorkerCommand>) {
    let clock = tokio::task::spawn_local(keep_time(Rc::clone(&worker), pulse));
    let mut listeners: BTreeMap<Endpoint, ActiveListener> = BTreeMap::new();
    while let Some(command) = commands.recv().await {
        match command {
            WorkerCommand::Listen { frontend, endpoint, socket } => {
                match ActiveListener::begin(&worker, endpoint, frontend, socket) {
                    Ok(listening) => drop(listeners.insert(endpoint, listening)),
                    Err(error) => {
                        tracing::error!(%endpoint, %error, "a listening socket could not be watched")
                    }
                }
            }
            WorkerCommand::Unlisten { endpoint } => {
                if let Some(listening) = listeners.remove(&endpoint) {
                    listening.close(&worker, endpoint.address).await;
                }
                worker.close_clients_of(endpoint.address);
            }
            WorkerCommand::HandOver { frontend, endpoint } => {
                if let Some(listening) = listeners.get_mut(&endpoint) {
                    listening.hand_over(&worker, endpoint, frontend);
                }
                worker.each_client(|client| {
                    if client.address == endpoint.address {
                        client.frontend.set(frontend);
                    }
                });
            }
            WorkerCommand::Cut { server } => {
                worker.idle.forget(server);
                worker.shared.forget(server);
                worker.each_client(|client| {
                    if client.server.get() == Some(server) {
                        client.alarm.wake(WakeReason::Cut);
                    }
                });
            }
            WorkerCommand::Down { server } => {
                worker.idle.forget(server);
                worker.shared.forget(server);
                worker.each_client(|client| {
                    if client.server.get() == Some(server) && client.may_move.get() {
                        client.alarm.wake(WakeReason::Cut);
                    }
                });
            }
            WorkerCommand::StandsBy { server } => worker.each_client(|client| {
                if client.server.get() == Some(server) && client.leaves_at_failback.get() {
                    client.alarm.wake(WakeReason::Cut);
                }
            }),
            WorkerCommand::Stop { grace, done } => {
                for (endpoint, listening) in std::mem::take(&mut listeners) {
                    listening.close(&worker, endpoint.address).await;
                }
                let left = finish(&worker, grace).await;
                clock.abort();
                // Nobody may be waiting any more; the number is for the log only.
                let _ = done.send(left);
                return;
            }
        }
    }
}

/// Waits until the last client is done or the grace is over; gives the number of those that were not done.
async fn finish(worker: &Worker, grace: Duration) -> usize {
    worker.stopping.set(true);
    let end = Instant::now() + grace;
    loop {
        worker.close_resting();
        let left = worker.client_count();
        if left == 0 || Instant::now() >= end {
            return left;
        }
        worker.ticked.notified().await;
    }
}

async fn keep_time(worker: Rc<Worker>, pulse: WorkerPulse) {
    let mut tidied = Instant::now();
    loop {
        pulse.notified().await;
        worker.wheel.advance();
        worker.ticked.notify_waiters();
        worker.ahead.connect_returned_servers(&worker);
        worker.keeping.look(&worker);
        worker.idle.make_room();
        if tidied.elapsed() >= TIDY_EVERY {
            tidied = Instant::now();
            worker.idle.close_expired(worker.wheel.now());
            worker.shared.tidy(worker.wheel.now());
            worker.small.trim();
            worker.large.trim();
            worker.pipes.trim();
            worker.scraps.borrow_mut().truncate(MOST_SCRAPS);
            if worker.quiet.look(worker.client_count()) {
                worker.wheel.sweep();
            }
        }
    }
}

/// A socket that clients come to, and the task that takes what comes.
struct ActiveListener {
    socket: ListenerSocket,
    task: JoinHandle<()>,
    frontend: u32,
}

#[derive(Clone)]
enum ListenerSocket {
    Tcp(Rc<TcpListener>),
    Udp(Rc<udp::UdpListener>),
}

impl ListenerSocket {
    fn task(&self, worker: &Rc<Worker>, endpoint: Endpoint, frontend: u32) -> JoinHandle<()> {
        let worker = Rc::clone(worker);
        match self {
            Self::Tcp(listener) => {
                tokio::task::spawn_local(accept(worker, Rc::clone(listener), frontend, endpoint.address))
            }
            Self::Udp(port) => tokio::task::spawn_local(udp::serve(worker, Rc::clone(port), frontend)),
        }
    }
}

impl ActiveListener {
    fn begin(worker: &Rc<Worker>, endpoint: Endpoint, frontend: u32, socket: Listener) -> io::Result<Self> {
        let socket = match socket {
            Listener::Tcp(socket) => ListenerSocket::Tcp(Rc::new(TcpListener::from_std(socket)?)),
            Listener::Udp(socket) => ListenerSocket::Udp(udp::UdpListener::new(endpoint.address, socket)?),
        };
        Ok(Self { task: socket.task(worker, endpoint, frontend), socket, frontend })
    }

    /// From now on what comes is another frontend's.
    fn hand_over(&mut self, worker: &Rc<Worker>, endpoint: Endpoint, frontend: u32) {
        self.task.abort();
        self.task = self.socket.task(worker, endpoint, frontend);
        self.frontend = frontend;
    }

    /// Stops taking. The connections that wait in the socket's queue are taken, for closing it would reset them.
    async fn close(self, worker: &Rc<Worker>, address: SocketAddr) {
        self.task.abort();
        // The task holds the socket too: only when it has ended is the queue emptied for the last time.
        let _ = self.task.await;
        let ListenerSocket::Tcp(listener) = &self.socket else { return };
        while let Some((stream, peer)) = accept_queued(listener) {
            let registered = worker.register(self.frontend, address);
            accept::accept_connection(registered, stream, peer);
        }
    }
}

async fn accept(worker: Rc<Worker>, listener: Rc<TcpListener>, frontend: u32, address: SocketAddr) {
    loop {
        match listener.accept().await {
            Ok((stream, peer)) => {
                let may_go_on = descriptors::allows_clients(&stream);
                let registered = worker.register(frontend, address);
                accept::accept_connection(registered, stream, peer);
                if !may_go_on {
                    // Others wait in the listen queue, which costs no descriptor, until some have left.
                    while !descriptors::has_room_for_clients() {
                        rest_of_accepting(&worker).await;
                    }
                }
            }
            // The client was gone before we took it: nothing to do.
            Err(error) if error.kind() == std::io::ErrorKind::ConnectionAborted => {}
            Err(error) => {
                tracing::debug!(%error, "no connection can be taken; trying again soon");
                descriptors::note_shortage();
                rest_of_accepting(&worker).await;
            }
        }
    }
}

async fn rest_of_accepting(worker: &Worker) {
    for _ in 0..ACCEPT_REST_TICKS {
        worker.ticked.notified().await;
    }
}

/// Takes a connection from a listening socket's queue, if one is there. The system is asked itself: the runtime learns of
/// a connection only when it looks for events the next time.
fn accept_queued(listener: &TcpListener) -> Option<(TcpStream, SocketAddr)> {
    let (socket, peer) = SockRef::from(listener).accept().ok()?;
    socket.set_nonblocking(true).ok()?;
    Some((TcpStream::from_std(socket.into()).ok()?, peer.as_socket()?))
}
