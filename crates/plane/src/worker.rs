//! One worker: a thread and its runtime. It listens, accepts connections, keeps the time, and does what the plane tells it.

use std::collections::BTreeMap;
use std::io;
use std::net::SocketAddr;
use std::os::fd::{AsFd, OwnedFd};
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use merismos_connector::descriptors;
use merismos_core::config::document::Endpoint;
use socket2::SockRef;
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::LocalOptions;
use tokio::sync::{Notify, mpsc, oneshot};
use tokio::task::JoinHandle;

use crate::accept;
use crate::context::{WorkerContext, WorkerShared};
use crate::deadline::WakeReason;
use crate::listen::{HandedSocket, Listener};
use crate::memory::MemoryEnforcer;
use crate::memory_trim::MemoryTrim;
use crate::plane::Queued;
use crate::preconnect::Preconnector;
use crate::udp;

/// How often idle connections and free buffers are looked through.
const TIDY_EVERY: Duration = Duration::from_secs(1);
/// How long a connection of HTTP/1.1 may rest when the service stops, before it is closed.
const REST_BEFORE_CLOSE: Duration = Duration::from_secs(1);
/// How many ticks accepting rests when there are no file descriptors left.
const ACCEPT_REST_TICKS: u32 = 3;

/// What the plane tells a worker.
#[derive(Debug)]
pub(crate) enum WorkerCommand {
    /// Serve a frontend on this socket.
    Listen { frontend: u32, endpoint: Endpoint, socket: Listener },
    /// Stop listening on an address; connections to it are closed when they have nothing in flight. The token is dropped when the socket
    /// is closed.
    Unlisten { endpoint: Endpoint, closing: Arc<ClosingToken> },
    /// From now on the sockets on an address, and the connections to it, are another frontend's.
    HandOver { frontend: u32, endpoint: Endpoint },
    /// Break off every exchange with a server and forget its idle connections.
    Cut { server: u32 },
    /// Certificates of clients are judged by other terms: connections of those who do not pass are ended.
    JudgeClients,
    /// The deadline of a server's drain has passed: every exchange with it is ended, in order where its protocol has a way, and the
    /// connections of clients that were assigned to it are closed after their next response.
    Drained { server: u32 },
    /// A server went down: what waits for it and may go elsewhere does. Its idle connections are forgotten.
    Down { server: u32 },
    /// A server stands by again, for work went back to a lower tier.
    StandsBy { server: u32 },
    /// Give copies of all listening sockets.
    Sockets { reply: oneshot::Sender<Vec<HandedSocket>> },
    /// Stop listening everywhere, let work in flight finish until the deadline, then end.
    Stop { grace: Duration, queued: Queued, done: oneshot::Sender<usize> },
}

/// Held by each worker that has not closed its socket on an address yet.
#[derive(Debug)]
pub(crate) struct ClosingToken;

/// What drives a worker's clock: notified by the plane's clock thread once a tick.
///
/// A worker's runtime has no timer of its own, for with one each wait in the kernel begins and ends with reading
/// the time and looking through the timers: about a thousand instructions a request.
pub(crate) type WorkerPulse = Arc<Notify>;

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
    let keeping = Housekeeping {
        preconnector: Preconnector::default(),
        memory: MemoryEnforcer::new(shared.memory.clone()),
        trim: MemoryTrim::default(),
    };
    let worker = WorkerContext::new(index, shared);
    // The runtime looks at its first future whenever anything wakes, so that one only waits for the real one.
    runtime.block_on(async {
        if let Err(error) = tokio::task::spawn_local(serve(worker, keeping, pulse, commands)).await {
            tracing::error!(%error, "a worker ended badly");
        }
    });
}

async fn serve(
    worker: Rc<WorkerContext>,
    keeping: Housekeeping,
    pulse: WorkerPulse,
    mut commands: mpsc::UnboundedReceiver<WorkerCommand>,
) {
    let clock = tokio::task::spawn_local(keep_time(Rc::clone(&worker), keeping, pulse));
    let mut listeners: BTreeMap<Endpoint, Vec<ActiveListener>> = BTreeMap::new();
    let mut finishing: Option<(JoinHandle<usize>, oneshot::Sender<usize>)> = None;
    loop {
        // What clients still do here can be cut off until they are done.
        let finished = async {
            match &mut finishing {
                Some((finishing, _)) => finishing.await.unwrap_or(0),
                None => std::future::pending().await,
            }
        };
        let command = tokio::select! {
            command = commands.recv() => command,
            left = finished => {
                clock.abort();
                // The receiver may be gone; the number is for the log only.
                let _ = finishing.map(|(_, done)| done.send(left));
                return;
            }
        };
        let Some(command) = command else { return };
        match command {
            WorkerCommand::Listen { frontend, endpoint, socket } => {
                match ActiveListener::begin(&worker, endpoint, frontend, socket) {
                    Ok(listening) => listeners.entry(endpoint).or_default().push(listening),
                    Err(error) => {
                        tracing::error!(%endpoint, %error, "a listening socket could not be watched")
                    }
                }
            }
            WorkerCommand::Unlisten { endpoint, closing } => {
                for listening in listeners.remove(&endpoint).into_iter().flatten() {
                    listening.close(&worker, endpoint.address).await;
                }
                drop(closing);
                worker.close_clients_of(endpoint.address);
            }
            WorkerCommand::HandOver { frontend, endpoint } => {
                for listening in listeners.get_mut(&endpoint).into_iter().flatten() {
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
            WorkerCommand::Drained { server } => {
                worker.idle.forget(server);
                worker.shared.forget(server);
                worker.each_client(|client| {
                    if client.server.get() == Some(server) {
                        client.alarm.wake(WakeReason::Drained);
                    } else if client.dealt_to.get() == Some(server) && !client.is_stream {
                        client.let_go();
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
            WorkerCommand::JudgeClients => worker.judge_clients(),
            WorkerCommand::Sockets { reply } => {
                let all = listeners
                    .iter()
                    .flat_map(|(endpoint, active)| active.iter().map(move |one| (endpoint, one)));
                let copies = all.filter_map(|(endpoint, one)| {
                    Some(HandedSocket { endpoint: *endpoint, descriptor: one.socket.copy().ok()? })
                });
                // Who asked may have given up.
                let _ = reply.send(copies.collect());
            }
            WorkerCommand::Stop { grace, queued, done } => {
                for (endpoint, active) in std::mem::take(&mut listeners) {
                    for listening in active {
                        match queued {
                            Queued::Served => listening.close(&worker, endpoint.address).await,
                            Queued::HandedOn => listening.let_go().await,
                        }
                    }
                }
                finishing = Some((tokio::task::spawn_local(finish(Rc::clone(&worker), grace)), done));
            }
        }
    }
}

/// Waits until the last client is done or the grace is over; gives the number of those that were not done.
///
/// Connections of HTTP/2 that rest are told at once (GOAWAY). One of HTTP/1.1 can't be told: a request may be on its way, and would be
/// lost with the connection. It is answered once more, with `Connection: close`, and closed only when it has rested for a while.
async fn finish(worker: Rc<WorkerContext>, grace: Duration) -> usize {
    worker.stopping.set(true);
    let begin = Instant::now();
    let end = begin + grace;
    let patient_until = begin + REST_BEFORE_CLOSE.min(grace / 2);
    loop {
        if Instant::now() >= patient_until {
            worker.closes_resting.set(true);
        }
        worker.close_resting();
        let left = worker.client_count();
        if left == 0 || Instant::now() >= end {
            return left;
        }
        worker.next_tick().await;
    }
}

/// What the worker does while time passes, beside serving clients.
struct Housekeeping {
    preconnector: Preconnector,
    memory: MemoryEnforcer,
    trim: MemoryTrim,
}

async fn keep_time(worker: Rc<WorkerContext>, keeping: Housekeeping, pulse: WorkerPulse) {
    let mut tidied = Instant::now();
    loop {
        pulse.notified().await;
        worker.tick();
        keeping.preconnector.connect_returned_servers(&worker);
        keeping.memory.look(&worker);
        if tidied.elapsed() >= TIDY_EVERY {
            tidied = Instant::now();
            worker.tidy();
            if keeping.trim.look(worker.client_count()) {
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
    /// Another descriptor of the same socket.
    fn copy(&self) -> io::Result<OwnedFd> {
        match self {
            Self::Tcp(listener) => listener.as_fd().try_clone_to_owned(),
            Self::Udp(listener) => listener.copy(),
        }
    }

    fn task(&self, worker: &Rc<WorkerContext>, endpoint: Endpoint, frontend: u32) -> JoinHandle<()> {
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
    fn begin(
        worker: &Rc<WorkerContext>,
        endpoint: Endpoint,
        frontend: u32,
        socket: Listener,
    ) -> io::Result<Self> {
        let socket = match socket {
            Listener::Tcp(socket) => ListenerSocket::Tcp(Rc::new(TcpListener::from_std(socket)?)),
            Listener::Udp(socket) => ListenerSocket::Udp(udp::UdpListener::new(endpoint.address, socket)?),
        };
        Ok(Self { task: socket.task(worker, endpoint, frontend), socket, frontend })
    }

    /// From now on what comes is another frontend's.
    fn hand_over(&mut self, worker: &Rc<WorkerContext>, endpoint: Endpoint, frontend: u32) {
        self.task.abort();
        self.task = self.socket.task(worker, endpoint, frontend);
        self.frontend = frontend;
    }

    /// Stops taking; what waits in the socket's queue is another's.
    async fn let_go(self) {
        self.task.abort();
        let _ = self.task.await;
    }

    /// Stops taking. The connections that wait in the socket's queue are taken, for closing it would reset them.
    async fn close(self, worker: &Rc<WorkerContext>, address: SocketAddr) {
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

async fn accept(worker: Rc<WorkerContext>, listener: Rc<TcpListener>, frontend: u32, address: SocketAddr) {
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

async fn rest_of_accepting(worker: &WorkerContext) {
    for _ in 0..ACCEPT_REST_TICKS {
        worker.next_tick().await;
    }
}

/// Takes a connection from a listening socket's queue, if one is there. The system is asked itself: the runtime learns of
/// a connection only when it looks for events the next time.
fn accept_queued(listener: &TcpListener) -> Option<(TcpStream, SocketAddr)> {
    let (socket, peer) = SockRef::from(listener).accept().ok()?;
    socket.set_nonblocking(true).ok()?;
    Some((TcpStream::from_std(socket.into()).ok()?, peer.as_socket()?))
}
