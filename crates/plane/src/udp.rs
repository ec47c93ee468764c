//! UDP clients: datagrams of a flow go to one server and its answers come back, or each datagram is distributed by itself.
//!
//! Datagrams are received many at a time, and those of one client that the kernel put together (GRO) are sent on
//! together (GSO). A flow has a socket of its own towards its server, so answers find their client by the port.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::io::{self, IoSliceMut};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket as StdSocket};
use std::os::fd::{AsFd, OwnedFd};
use std::rc::Rc;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use merismos_core::balance::{Excluded, PickContext};
use merismos_core::config::document::{BalancePer, PinWhenGone, UpstreamSettings};
use merismos_core::limits::RefusalReason;
use merismos_core::routing::{AskedPools, Frontend, Pick, Pool, RequestFacts, RequestKey, Server};
use merismos_core::runtime::FrontendWorkerCounters;
use quinn_udp::{RecvMeta, Transmit, UdpSockRef, UdpSocketState};
use tokio::io::Interest;
use tokio::net::UdpSocket;

use crate::buffer::Buffer;
use crate::context::{RegisteredConnection, WorkerContext};
use crate::deadline::{WakeReason, ticks};
use crate::decisions::DecisionContext;
use crate::limits::{HeldWork, admit};
use crate::pinning::ClientPin;
use crate::select::choose;
use merismos_connector::connect::sources;
use merismos_connector::descriptors;

/// How many datagrams, or rows of datagrams that the kernel put together, are received in one system call.
const BATCH: usize = 8;
/// How many batches are received before other work of the worker gets its turn.
const BUDGET: u32 = 16;

/// How many servers one datagram may be offered to.
const MOST_TRIED: usize = 3;
/// How long a server gets nothing more after ICMP has said that no process listens there, unless there is no other: what is sent to it
/// is lost, and only the datagram after it learns that.
const SHUNNED_FOR: Duration = Duration::from_secs(3);

/// A socket with what the kernel can do for it.
#[derive(Debug)]
struct ServerSocket {
    socket: UdpSocket,
    state: UdpSocketState,
}

/// A datagram, or several of the same length (but the last) in a row.
#[derive(Clone, Copy)]
struct SegmentBatch<'a> {
    bytes: &'a [u8],
    stride: usize,
}

impl ServerSocket {
    fn new(socket: StdSocket) -> io::Result<Self> {
        socket.set_nonblocking(true)?;
        let state = UdpSocketState::new(UdpSockRef::from(&socket))?;
        Ok(Self { socket: UdpSocket::from_std(socket)?, state })
    }

    /// A socket that speaks with one server alone, from one of the source addresses.
    fn connect_to(server: SocketAddr, how: &UpstreamSettings, turn: u64) -> io::Result<Self> {
        let any: IpAddr =
            if server.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let mut bound = None;
        for source in sources(&how.source_addresses, server, turn) {
            // One that has no port left is passed over.
            let socket = StdSocket::bind((source, 0));
            let is_bound = socket.is_ok();
            bound = Some(socket);
            if is_bound {
                break;
            }
        }
        let socket = bound.unwrap_or_else(|| StdSocket::bind((any, 0)))?;
        socket.connect(server)?;
        Self::new(socket)
    }

    /// Waits until ICMP says that what was sent did not arrive. It wakes no task that only waits for data.
    async fn trouble(&self) -> io::Error {
        loop {
            if let Err(error) = self.socket.ready(Interest::ERROR).await {
                return error;
            }
            if let Ok(Some(error)) = self.socket.take_error() {
                return error;
            }
            // Some errors are gone by the time one looks; readiness for them has to be taken away by hand.
            let _ = self.socket.try_io(Interest::ERROR, || Err::<(), _>(io::ErrorKind::WouldBlock.into()));
        }
    }

    /// Sends a row. A full send buffer loses it, as any queue on the way would.
    fn send(&self, row: SegmentBatch<'_>, to: SocketAddr, from: Option<IpAddr>) -> io::Result<()> {
        let most = self.state.max_gso_segments() * row.stride.max(1);
        for part in row.bytes.chunks(most.max(1)) {
            let transmit = Transmit {
                destination: to,
                ecn: None,
                contents: part,
                segment_size: (part.len() > row.stride).then_some(row.stride),
                src_ip: from,
            };
            match self.state.try_send(UdpSockRef::from(&self.socket), &transmit) {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return Ok(()),
                sent => sent?,
            }
        }
        // An empty datagram is one too.
        if row.bytes.is_empty() {
            let transmit =
                Transmit { destination: to, ecn: None, contents: &[], segment_size: None, src_ip: from };
            self.state.try_send(UdpSockRef::from(&self.socket), &transmit)?;
        }
        Ok(())
    }

    /// Receives until there is nothing more, or others should have their turn; ready with an error alone.
    fn poll_receive(
        &self,
        worker: &WorkerContext,
        context: &mut Context<'_>,
        mut each: impl FnMut(&RecvMeta, SegmentBatch<'_>),
    ) -> Poll<io::Error> {
        for _ in 0..BUDGET {
            match self.socket.poll_recv_ready(context) {
                Poll::Ready(Ok(())) => {}
                Poll::Ready(Err(error)) => return Poll::Ready(error),
                Poll::Pending => return Poll::Pending,
            }
            let mut buffers: [Buffer; BATCH] = std::array::from_fn(|_| worker.large.take());
            let mut metas = [RecvMeta::default(); BATCH];
            let received = self.socket.try_io(Interest::READABLE, || {
                let mut slices = buffers.each_mut().map(|buffer| IoSliceMut::new(buffer.room()));
                self.state.recv(UdpSockRef::from(&self.socket), &mut slices, &mut metas)
            });
            let count = match received {
                Ok(count) => count,
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => continue,
                Err(error) => return Poll::Ready(error),
            };
            for (buffer, meta) in buffers.iter_mut().zip(&metas).take(count) {
                buffer.filled(meta.len);
                each(meta, SegmentBatch { bytes: buffer, stride: meta.stride });
            }
        }
        context.waker().wake_by_ref();
        Poll::Pending
    }
}

#[derive(Debug)]
struct Flow {
    outlet: ServerSocket,
    pool: Arc<Pool>,
    /// The server's place in the pool.
    place: usize,
    /// The version of the snapshot in which that was decided.
    version: u64,
    /// The version of the snapshot by which it was seen last that its server may go on with it.
    seen: Cell<u64>,
    /// No process listens there (ICMP): the next datagram begins another flow.
    refused: Cell<bool>,
    client: RegisteredConnection,
    /// What limits of the client count it as.
    held: RefCell<HeldWork>,
}

impl Flow {
    fn server(&self) -> &Server {
        &self.pool.servers[self.place]
    }

    /// Whether its server may go on with it, as the newest snapshot says: it may while it drains, and not when it is down,
    /// withdrawn or removed.
    fn keeps_server(&self, frontend: &Frontend, version: u64) -> bool {
        if self.seen.replace(version) == version {
            return true;
        }
        let id = self.server().cell.id;
        let mut known = frontend.pools().flat_map(|pool| &pool.servers);
        known.find(|server| server.cell.id == id).is_some_and(Server::may_go_on)
    }
}

/// Work that a flow is at its server, until it is dropped.
struct UdpInFlight {
    worker: Rc<WorkerContext>,
    pool: Arc<Pool>,
    place: usize,
}

impl UdpInFlight {
    fn begin(worker: &Rc<WorkerContext>, pool: &Arc<Pool>, place: usize) -> Self {
        let lane = pool.servers[place].cell.lane(worker.index);
        lane.begun.increment();
        lane.taken.increment();
        lane.connections.increment();
        pool.begin(&ask(worker, pool, RequestKey::Unneeded), place);
        Self { worker: Rc::clone(worker), pool: Arc::clone(pool), place }
    }

    fn server(&self) -> &Server {
        &self.pool.servers[self.place]
    }

    fn failed(&self) {
        self.server().cell.lane(self.worker.index).failed.increment();
    }
}

impl Drop for UdpInFlight {
    fn drop(&mut self) {
        let lane = self.server().cell.lane(self.worker.index);
        lane.ended.increment();
        lane.connections.decrement();
        self.pool.leave(&ask(&self.worker, &self.pool, RequestKey::Unneeded), self.place);
    }
}

fn ask<'a>(worker: &WorkerContext, pool: &'a Pool, key: RequestKey) -> PickContext<'a> {
    PickContext { cell: &pool.cell, key: key.number(), draw: worker.draw(), now: worker.now() }
}

/// Datagrams can't wait: one that finds no room is dropped. `tried` are the numbers of the cells of servers that are out
/// of the question.
fn select_server<'f>(
    worker: &WorkerContext,
    frontend: &'f Frontend,
    client: SocketAddr,
    tried: &[u32],
) -> Option<(&'f Arc<Pool>, usize)> {
    let mut asked = AskedPools::default();
    while let Some(chosen) = choose(worker, frontend, client.ip(), asked, None) {
        let pool = chosen.pool;
        let mut passed = Excluded::default();
        for (place, server) in pool.servers.iter().enumerate().filter(|_| !tried.is_empty()) {
            if tried.contains(&server.cell.id) {
                passed.add(place);
            }
        }
        let facts = RequestFacts { port: Some(client.port()), ..RequestFacts::of_client(client.ip()) };
        let pin = if tried.is_empty() { worker.client_pin(pool, &facts) } else { ClientPin::None };
        if let ClientPin::At { place, .. } = pin {
            return Some((pool, place));
        }
        let refuses = pool.pin_rule.as_ref().is_some_and(|rule| rule.when_gone == PinWhenGone::Refuse);
        let key = pool.key(&facts);
        if key != RequestKey::Refused && !(refuses && pin != ClientPin::None) {
            let ask = ask(worker, pool, key);
            let decision = match pool.decide(&ask, &passed) {
                Pick::Full => pool.decide_spilling(&ask, &passed),
                decided => decided,
            };
            if let Pick::Server(place) = decision {
                if pin != ClientPin::Full {
                    worker.learn_pin(pool, place, &facts);
                }
                return Some((pool, place));
            }
        }
        asked.note(chosen.number);
    }
    None
}

/// Reports to the watches of such clients where one went. `tried` are the numbers of the cells of the servers that failed it.
fn report_observation(
    worker: &WorkerContext,
    frontend: &Frontend,
    server: &Server,
    version: u64,
    client: SocketAddr,
    tried: &[u32],
) {
    if worker.watches.is_empty() {
        return;
    }
    let failed = || {
        let known = frontend.pools().flat_map(|pool| &pool.servers);
        let failed = known.filter(|server| tried.contains(&server.cell.id));
        failed.map(|server| server.name.clone()).collect()
    };
    worker.watches.report(frontend.cell.id, client, version, Some(&server.name), failed);
}

/// Samples the decision for the decision log.
fn sample_decision(
    worker: &WorkerContext,
    frontend: &Frontend,
    pool: &Pool,
    place: usize,
    client: SocketAddr,
) {
    if !worker.sampler.should_sample(worker.wheel.now()) {
        return;
    }
    let facts = RequestFacts::of_client(client.ip());
    let key = pool.key(&facts);
    let made = DecisionContext {
        frontend,
        rule: None,
        label: None,
        pool,
        why_pool: None,
        client,
        key: pool.key_rule.as_ref().and_then(|rule| rule.words(key, &facts)),
        tied: None,
        place,
        failed_at: &[],
        version: worker.snapshot().version,
    };
    worker.sampler.record(made.into_decision(&ask(worker, pool, key)));
}

/// A UDP address that is listened on, as one worker has it.
#[derive(Debug)]
pub(crate) struct UdpListener {
    address: SocketAddr,
    outlet: ServerSocket,
    flows: RefCell<HashMap<SocketAddr, Rc<Flow>>>,
    /// Sockets towards servers for datagrams without answers, by the number of the server's cell.
    one_way: RefCell<HashMap<u32, ServerSocket>>,
    /// Servers where no process listened (ICMP), by the number of their cell, and until when they get nothing, in ticks.
    shunned: RefCell<Vec<(u32, u64)>>,
}

impl UdpListener {
    pub(crate) fn new(address: SocketAddr, socket: StdSocket) -> io::Result<Rc<Self>> {
        let outlet = ServerSocket::new(socket)?;
        let (flows, one_way, shunned) = (RefCell::default(), RefCell::default(), RefCell::default());
        Ok(Rc::new(Self { address, outlet, flows, one_way, shunned }))
    }

    /// Another descriptor of the socket that clients send to.
    pub(crate) fn copy(&self) -> io::Result<OwnedFd> {
        self.outlet.socket.as_fd().try_clone_to_owned()
    }

    /// Notes that no process listens at a server.
    fn avoid_server(&self, worker: &WorkerContext, server: u32) {
        let until = worker.wheel.now() + ticks(SHUNNED_FOR);
        let mut shunned = self.shunned.borrow_mut();
        shunned.retain(|(id, _)| *id != server);
        shunned.push((server, until));
    }

    /// A server for a datagram or a flow: one where a process listens, as far as is known, if there is one.
    fn decide<'f>(
        &self,
        worker: &WorkerContext,
        frontend: &'f Frontend,
        client: SocketAddr,
        tried: &[u32],
    ) -> Option<(&'f Arc<Pool>, usize)> {
        let shunned = {
            let mut shunned = self.shunned.borrow_mut();
            shunned.retain(|(_, until)| worker.wheel.now() < *until);
            shunned.iter().map(|(id, _)| *id).chain(tried.iter().copied()).collect::<Vec<_>>()
        };
        if shunned.len() > tried.len()
            && let Some(found) = select_server(worker, frontend, client, &shunned)
        {
            return Some(found);
        }
        select_server(worker, frontend, client, tried)
    }

    fn send_in_flow(
        self: &Rc<Self>,
        worker: &Rc<WorkerContext>,
        frontend: &Arc<Frontend>,
        meta: &RecvMeta,
        row: SegmentBatch<'_>,
    ) {
        let lane = frontend.cell.lane(worker.index);
        let mut tried = Vec::new();
        // A flow that goes on at another server is counted once.
        let mut held = None;
        let known = self.flows.borrow().get(&meta.addr).cloned();
        let mut flow = match known {
            Some(flow) if flow.refused.get() => {
                held = Some(flow.held.take());
                tried.push(flow.server().cell.id);
                None
            }
            Some(flow) if !flow.keeps_server(frontend, worker.snapshot().version) => {
                held = Some(flow.held.take());
                // Its answers are not waited for any more.
                flow.client.client.alarm.wake(WakeReason::Close);
                self.flows.borrow_mut().remove(&meta.addr);
                None
            }
            known => known,
        };
        while tried.len() < MOST_TRIED {
            let Some(current) = flow.take().or_else(|| self.open(worker, frontend, meta, &tried, &mut held))
            else {
                return;
            };
            worker.wheel.set(&current.client.client.alarm, frontend.idle_timeout);
            current.client.client.resting.set(false);
            match current.outlet.send(row, current.server().address, None) {
                Ok(()) => {
                    let cell = &current.server().cell;
                    cell.lane(worker.index).bytes_to.add(row.bytes.len() as u64);
                    report_observation(
                        worker,
                        frontend,
                        current.server(),
                        current.version,
                        meta.addr,
                        &tried,
                    );
                    return;
                }
                Err(error) => {
                    tracing::debug!(%error, server = %current.server().name, "a datagram was not sent");
                    self.avoid_server(worker, current.server().cell.id);
                    current.refused.set(true);
                    held = Some(current.held.take());
                    current.client.client.alarm.wake(WakeReason::Cut);
                    tried.push(current.server().cell.id);
                }
            }
        }
        lane.unanswered.increment();
    }

    /// Begins a flow at a server that was not tried.
    fn open(
        self: &Rc<Self>,
        worker: &Rc<WorkerContext>,
        frontend: &Arc<Frontend>,
        meta: &RecvMeta,
        tried: &[u32],
        held: &mut Option<HeldWork>,
    ) -> Option<Rc<Flow>> {
        let lane: &FrontendWorkerCounters = frontend.cell.lane(worker.index);
        if frontend.access.as_ref().is_some_and(|access| !access.admits(meta.addr.ip())) {
            lane.denied.increment();
            worker.note_refusal(frontend, RefusalReason::NotLetIn, meta.addr.ip());
            return None;
        }
        if frontend.cell.connections() >= frontend.connection_limit {
            lane.turned_away.increment();
            worker.note_refusal(frontend, RefusalReason::ConnectionLimit, meta.addr.ip());
            return None;
        }
        let held = match held.take() {
            Some(held) => held,
            None => admit(worker, frontend, meta.addr.ip(), true).ok()?,
        };
        let Some((pool, place)) = self.decide(worker, frontend, meta.addr, tried) else {
            lane.unavailable.increment();
            return None;
        };
        sample_decision(worker, frontend, pool, place, meta.addr);
        let at = UdpInFlight::begin(worker, pool, place);
        let server = &pool.servers[place];
        let outlet = match ServerSocket::connect_to(server.address, &pool.reaching, worker.draw()) {
            Ok(outlet) => outlet,
            Err(error) => {
                // What this service is short of is no failure of the server.
                tracing::debug!(%error, server = %server.name, "no socket for a flow");
                descriptors::note_shortage();
                lane.unanswered.increment();
                return None;
            }
        };
        if !descriptors::allows_traffic(&outlet.socket) {
            lane.unanswered.increment();
            return None;
        }
        let client = worker.register(frontend.cell.id, self.address);
        client.client.server.set(Some(server.cell.id));
        client.client.fresh.set(false);
        let (pool, version) = (Arc::clone(pool), worker.snapshot().version);
        let (seen, refused) = (Cell::new(version), Cell::new(false));
        let flow =
            Rc::new(Flow { outlet, pool, place, version, seen, refused, client, held: RefCell::new(held) });
        self.flows.borrow_mut().insert(meta.addr, Rc::clone(&flow));
        let answers =
            answer(Rc::clone(self), Rc::clone(&flow), Arc::clone(frontend), at, meta.addr, meta.dst_ip);
        tokio::task::spawn_local(answers);
        Some(flow)
    }

    fn send_one_way(
        &self,
        worker: &Rc<WorkerContext>,
        frontend: &Arc<Frontend>,
        meta: &RecvMeta,
        row: SegmentBatch<'_>,
    ) {
        let datagrams = row.bytes.chunks(row.stride.max(1));
        let empty: &[&[u8]] = if row.bytes.is_empty() { &[&[]] } else { &[] };
        for datagram in datagrams.chain(empty.iter().copied()) {
            let row = SegmentBatch { bytes: datagram, stride: datagram.len() };
            let lane = frontend.cell.lane(worker.index);
            if frontend.access.as_ref().is_some_and(|access| !access.admits(meta.addr.ip())) {
                lane.denied.increment();
                worker.note_refusal(frontend, RefusalReason::NotLetIn, meta.addr.ip());
                continue;
            }
            if admit(worker, frontend, meta.addr.ip(), true).is_err() {
                continue;
            }
            lane.requests.increment();
            let mut tried = Vec::new();
            let mut sent = false;
            while !sent && tried.len() < MOST_TRIED {
                let Some((pool, place)) = self.decide(worker, frontend, meta.addr, &tried) else { break };
                sample_decision(worker, frontend, pool, place, meta.addr);
                let at = UdpInFlight::begin(worker, pool, place);
                sent = self.send_to_server(pool, at.server(), row, worker.draw()).is_ok();
                if sent {
                    at.server().cell.lane(worker.index).bytes_to.add(row.bytes.len() as u64);
                    let version = worker.snapshot().version;
                    report_observation(worker, frontend, at.server(), version, meta.addr, &tried);
                } else {
                    at.failed();
                    self.avoid_server(worker, at.server().cell.id);
                    tried.push(at.server().cell.id);
                }
            }
            match (sent, tried.is_empty()) {
                (true, _) => {}
                (false, true) => lane.unavailable.increment(),
                (false, false) => lane.unanswered.increment(),
            }
        }
    }

    fn send_to_server(
        &self,
        pool: &Pool,
        server: &Server,
        row: SegmentBatch<'_>,
        turn: u64,
    ) -> io::Result<()> {
        let mut outlets = self.one_way.borrow_mut();
        let outlet = match outlets.entry(server.cell.id) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(new) => new.insert(ServerSocket::connect_to(server.address, &pool.reaching, turn)?),
        };
        outlet.send(row, server.address, None)
    }

    /// Closes sockets towards servers that the frontend does not have any more.
    fn close_expired(&self, frontend: &Frontend) {
        let mut outlets = self.one_way.borrow_mut();
        let servers = || frontend.pools().flat_map(|pool| &pool.servers);
        if outlets.len() > servers().count() {
            outlets.retain(|id, _| servers().any(|server| server.cell.id == *id));
        }
    }
}

/// Receives what clients send to an address, for as long as the task lives.
pub(crate) async fn serve(worker: Rc<WorkerContext>, port: Rc<UdpListener>, frontend: u32) {
    loop {
        let error = std::future::poll_fn(|context| {
            // One snapshot for what comes together.
            let snapshot = worker.snapshot();
            let Some(frontend) = snapshot.frontend(frontend) else { return Poll::Pending };
            if frontend.balance_per == BalancePer::Datagram {
                port.close_expired(frontend);
            }
            port.outlet.poll_receive(&worker, context, |meta, row| match frontend.balance_per {
                BalancePer::Datagram => port.send_one_way(&worker, frontend, meta, row),
                BalancePer::Flow | BalancePer::Connection | BalancePer::Request => {
                    port.send_in_flow(&worker, frontend, meta, row)
                }
            })
        })
        .await;
        // An error of a socket that many use says that one datagram of ours did not arrive; there is nothing to close.
        tracing::debug!(%error, address = %port.address, "receiving from clients");
        worker.next_tick().await;
    }
}

/// Counts a flow while it is there.
struct FlowGuard<'a>(&'a FrontendWorkerCounters);

impl Drop for FlowGuard<'_> {
    fn drop(&mut self) {
        self.0.closed.increment();
    }
}

/// Brings the answers of a flow back until it has rested for long enough or is ended.
async fn answer(
    port: Rc<UdpListener>,
    flow: Rc<Flow>,
    frontend: Arc<Frontend>,
    at: UdpInFlight,
    client: SocketAddr,
    from: Option<IpAddr>,
) {
    let worker = Rc::clone(&at.worker);
    let lane = frontend.cell.lane(worker.index);
    lane.opened.increment();
    lane.requests.increment();
    let _counted = FlowGuard(lane);
    let known = &flow.client.client;
    let mut at = Some(at);
    // A socket that listens on every address answers from the one that the client wrote to.
    let from = from.filter(|_| port.address.ip().is_unspecified());
    let mut trouble = std::pin::pin!(flow.outlet.trouble());
    std::future::poll_fn(|context| {
        known.alarm.set_waker(context.waker());
        if flow.refused.get() {
            if let Some(at) = at.take() {
                at.failed();
            }
        } else {
            let received = flow.outlet.poll_receive(&worker, context, |_, row| {
                worker.wheel.set(&known.alarm, frontend.idle_timeout);
                known.resting.set(true);
                flow.server().cell.lane(worker.index).bytes_from.add(row.bytes.len() as u64);
                if let Err(error) = port.outlet.send(row, client, from) {
                    tracing::debug!(%error, %client, "an answer was not sent");
                }
            });
            if received.is_ready() || trouble.as_mut().poll(context).is_ready() {
                flow.refused.set(true);
                port.avoid_server(&worker, flow.server().cell.id);
                at.take().iter().for_each(UdpInFlight::failed);
            }
        }
        match known.alarm.fired() {
            None => Poll::Pending,
            // A refused flow stays known until it has rested, so that its client's next datagram goes elsewhere.
            Some(WakeReason::Cut) if flow.refused.get() => {
                known.alarm.cancel();
                worker.wheel.set(&known.alarm, frontend.idle_timeout);
                Poll::Pending
            }
            Some(WakeReason::Cut | WakeReason::Drained) => {
                flow.server().cell.lane(worker.index).cut_connections.increment();
                Poll::Ready(())
            }
            Some(WakeReason::Deadline | WakeReason::Close | WakeReason::Crowded) => Poll::Ready(()),
        }
    })
    .await;
    let mut flows = port.flows.borrow_mut();
    if flows.get(&client).is_some_and(|known| Rc::ptr_eq(known, &flow)) {
        flows.remove(&client);
    }
}
