//! A request on its way to a server: deciding, waiting for room, and being counted while it is there.

use std::future::Future;
use std::hint::cold_path;
use std::net::IpAddr;
use std::pin::pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use merismos_core::balance::{Excluded, PickContext};
use merismos_core::name::PoolServer;
use merismos_core::routing::{AskedPools, ChosenPool, Frontend, Pick, Pool, RequestKey};
use merismos_core::runtime::{Counter, PoolRuntime, ServerRuntime, ServerWorkerCounters};
use merismos_core::time::Tick;

use crate::context::{ConnectionState, WorkerContext};
use crate::deadline::{TICK, WakeReason};
use crate::decisions::DecisionContext;
use crate::io::ConnectionTimer;

/// Why no server was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NoServer {
    /// None is eligible, or all that are were tried.
    NoneEligible,
    /// All that are eligible are full, and so is the line, or the wait was too long.
    Full,
    /// The client went away while it waited.
    ClientGone,
    /// Another snapshot holds by now: what it says is to be asked again.
    Stale,
}

/// A server that failed a request.
#[derive(Debug)]
pub(crate) struct FailedServer {
    pub(crate) name: PoolServer,
    pub(crate) cell: Arc<ServerRuntime>,
}

/// What became so far of a request that no server has taken yet. It outlives the snapshots that it was decided by: each
/// attempt goes by the newest one.
#[derive(Debug)]
pub(crate) struct AttemptHistory<F> {
    /// The servers that failed it: mostly none.
    #[expect(clippy::box_collection, reason = "what is not there costs nothing to drop")]
    failed_at: Option<Box<Vec<FailedServer>>>,
    /// How the last one did.
    pub(crate) last: Option<F>,
    /// The pool that the last attempt was made in: another is asked when it has no server left.
    pool: Option<Arc<PoolRuntime>>,
    arrival: QueueArrival,
    /// The number that means its pool, where a cookie keeps it.
    pub(crate) draw: Option<u64>,
}

impl<F> Default for AttemptHistory<F> {
    fn default() -> Self {
        Self { failed_at: None, last: None, pool: None, arrival: QueueArrival::default(), draw: None }
    }
}

impl<F> AttemptHistory<F> {
    /// Notes a server that failed it.
    pub(crate) fn record_failure(&mut self, pool: &Pool, place: usize) {
        let server = &pool.servers[place];
        let failed = FailedServer { name: server.name.clone(), cell: Arc::clone(&server.cell) };
        self.failed_at.get_or_insert_default().push(failed);
        self.stays_in(pool);
        self.arrival = QueueArrival::default();
    }

    /// Notes that a server has no connection to give: a request that waits for one waits before all others.
    pub(crate) fn record_no_connection(&mut self, pool: &Pool) {
        self.stays_in(pool);
        self.arrival.is_first = true;
        self.arrival.needs_connection = true;
    }

    /// The next attempt is made in this pool, as long as it has a server.
    pub(crate) fn stays_in(&mut self, pool: &Pool) {
        self.pool = Some(Arc::clone(&pool.cell));
    }

    /// How many servers failed it.
    pub(crate) fn failures(&self) -> usize {
        self.failed_at.as_ref().map_or(0, |all| all.len())
    }

    /// Whether it was offered to no server yet, and has not waited.
    pub(crate) fn is_new(&self) -> bool {
        self.failed_at.is_none() && self.arrival.since.is_none()
    }

    /// Those of a pool's servers that failed it; mostly none did, and the room for them is not taken.
    pub(crate) fn tried_in(&self, pool: &Pool) -> Option<Box<Excluded>> {
        let failed_at = self.failed_at.as_ref()?;
        cold_path();
        let mut tried = Box::new(Excluded::default());
        for failed in failed_at.iter() {
            if let Some(place) = pool.servers.iter().position(|server| server.cell.id == failed.cell.id) {
                tried.add(place);
            }
        }
        Some(tried)
    }

    /// Counts at the server that failed it last that another one gets it.
    pub(crate) fn count_retry(&self, worker: &WorkerContext) {
        if let Some(last) = self.failed_at.as_ref().and_then(|all| all.last()) {
            cold_path();
            last.cell.lane(worker.index).retried.increment();
        }
    }

    /// The names of the servers that failed it.
    pub(crate) fn server_names(&self) -> Vec<PoolServer> {
        self.failed_at.iter().flat_map(|all| all.iter()).map(|failed| failed.name.clone()).collect()
    }

    /// The pool for the next attempt, among those that were not asked yet.
    #[inline]
    pub(crate) fn choose<'f>(
        &self,
        worker: &WorkerContext,
        frontend: &'f Frontend,
        client: IpAddr,
        asked: AskedPools,
    ) -> Option<ChosenPool<'f>> {
        if let (Some(before), Some(choice)) = (&self.pool, &frontend.choice) {
            cold_path();
            let is_it = |pool: &&Arc<Pool>| Arc::ptr_eq(&pool.cell, before);
            let pools = choice.pools.iter().chain(&choice.last_resort);
            let found = pools.enumerate().find(|(_, pool)| is_it(pool));
            if let Some((number, pool)) = found.filter(|(number, _)| !asked.holds(*number)) {
                return Some(ChosenPool { number, pool });
            }
        }
        choose(worker, frontend, client, asked, self.draw)
    }
}

/// How a request comes to a pool's line.
#[derive(Clone, Copy, Debug, Default)]
struct QueueArrival {
    /// Since when it waits, in ticks.
    since: Option<u64>,
    /// It was the first, and left to look at a newer snapshot.
    is_first: bool,
    /// What it waits for is a connection.
    needs_connection: bool,
    /// It has waited for as long as it may.
    is_overdue: bool,
}

/// The pool for a request, among those that were not asked yet.
#[inline]
pub(crate) fn choose<'f>(
    worker: &WorkerContext,
    frontend: &'f Frontend,
    client: IpAddr,
    asked: AskedPools,
    draw: Option<u64>,
) -> Option<ChosenPool<'f>> {
    // Most frontends have one pool, and need neither the time nor a random number.
    if frontend.choice.is_none() {
        return asked.is_empty().then_some(ChosenPool { number: 0, pool: &frontend.pool });
    }
    cold_path();
    frontend.choose(client, draw.unwrap_or_else(|| worker.draw()), worker.now(), asked)
}

/// Whether a client may go on with the server that it is tied to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Affinity {
    /// It may; room was taken for it.
    At(usize),
    /// Not this time: the server is full. It stays the client's.
    Full,
    /// No more: it is down, withdrawn, or not there.
    Gone,
}

/// Whether a server that a client is tied to may go on with it: it may while it drains, and not when it is down or withdrawn.
pub(crate) fn affinity(worker: &WorkerContext, pool: &Pool, place: usize) -> Affinity {
    let server = &pool.servers[place];
    if !server.may_go_on() {
        return Affinity::Gone;
    }
    if !take_room(worker, pool, place) {
        return Affinity::Full;
    }
    Affinity::At(place)
}

/// Takes room for one more at a server, where its pool has limits; `false` when there is none.
pub(crate) fn take_room(worker: &WorkerContext, pool: &Pool, place: usize) -> bool {
    let server = &pool.servers[place];
    !pool.limited || server.cell.room.try_acquire(server.limits, worker.now()).is_ok()
}

/// A request that seeks a server.
#[derive(Clone, Copy)]
pub(crate) struct ServerSelection<'a> {
    pub(crate) worker: &'a WorkerContext,
    pub(crate) client: &'a ConnectionState,
    pub(crate) pool: &'a Pool,
    pub(crate) key: RequestKey,
    pub(crate) watch: ConnectionTimer<'a>,
    /// The version of the snapshot that the pool is of.
    pub(crate) version: u64,
}

impl<'a> ServerSelection<'a> {
    /// Tells the decision log of a decision, when there is a watcher and room for it.
    pub(crate) fn sample_decision(&self, made: impl FnOnce() -> DecisionContext<'a>) {
        if self.worker.sampler.should_sample(self.worker.wheel.now()) {
            let ask = PickContext { now: self.worker.now(), ..self.pick_context() };
            self.worker.sampler.record(made().into_decision(&ask));
        }
    }

    fn pick_context(&self) -> PickContext<'a> {
        self.pick_context_with(if self.pool.algorithm.draws() { self.worker.draw() } else { 0 })
    }

    fn pick_context_with(&self, draw: u64) -> PickContext<'a> {
        let now = if self.pool.limited || self.pool.timed { self.worker.now() } else { Tick(0) };
        PickContext { cell: &self.pool.cell, key: self.key.number(), draw, now }
    }

    /// The next server for this work, waiting for room where the pool has a line. `gone` says whether the client went
    /// away meanwhile.
    #[expect(clippy::manual_async_fn, reason = "an async function keeps each argument twice")]
    pub(crate) fn select_server<F>(
        &self,
        tried: &Excluded,
        course: &mut AttemptHistory<F>,
        gone: impl FnMut(&mut Context<'_>) -> bool,
    ) -> impl Future<Output = Result<usize, NoServer>> {
        async move {
            let arrival = &mut course.arrival;
            // Those in the queue were here before.
            let must_wait = self.pool.limited
                && (arrival.needs_connection || (!arrival.is_first && self.pool.cell.line.waiting() > 0));
            let decision = if must_wait { Pick::Full } else { self.pool.decide(&self.pick_context(), tried) };
            match decision {
                Pick::Server(place) => Ok(place),
                Pick::NoneEligible => Err(NoServer::NoneEligible),
                // Rare; in a box it does not make every request's future larger.
                Pick::Full => Box::pin(self.wait_in_queue(tried, arrival, gone)).await,
            }
        }
    }

    async fn wait_in_queue(
        &self,
        tried: &Excluded,
        arrival: &mut QueueArrival,
        mut gone: impl FnMut(&mut Context<'_>) -> bool,
    ) -> Result<usize, NoServer> {
        let pool = self.pool;
        let mut ticket = None;
        let now = self.worker.wheel.now();
        let waited = TICK * u32::try_from(now - *arrival.since.get_or_insert(now)).unwrap_or(u32::MAX);
        self.watch.set_timeout(pool.queue.timeout.get().saturating_sub(waited));
        loop {
            // Rates make room without anybody leaving, and a newer snapshot may know more servers, so the first waiter looks again at
            // each tick. The others are woken when they become the first.
            let mut ticked = pin!(self.worker.next_tick());
            let found = std::future::poll_fn(|context| {
                if ticket.is_none() {
                    ticket = if arrival.is_first && pool.queue.limit > 0 {
                        Some(pool.cell.line.enqueue_first(context.waker()))
                    } else {
                        pool.cell.line.enqueue(pool.queue.limit, context.waker())
                    };
                }
                let Some(place) = &ticket else { return Poll::Ready(Some(Err(NoServer::Full))) };
                match self.client.alarm.fired() {
                    None => {}
                    Some(WakeReason::Deadline) => return Poll::Ready(Some(Err(NoServer::Full))),
                    Some(WakeReason::Cut | WakeReason::Drained | WakeReason::Close | WakeReason::Crowded) => {
                        return Poll::Ready(Some(Err(NoServer::ClientGone)));
                    }
                }
                if gone(context) {
                    return Poll::Ready(Some(Err(NoServer::ClientGone)));
                }
                if !place.is_first() {
                    return Poll::Pending;
                }
                if self.worker.snapshot().version != self.version {
                    return Poll::Ready(Some(Err(NoServer::Stale)));
                }
                if !arrival.needs_connection {
                    match pool.decide(&self.pick_context(), tried) {
                        Pick::Server(place) => return Poll::Ready(Some(Ok(place))),
                        Pick::NoneEligible => return Poll::Ready(Some(Err(NoServer::NoneEligible))),
                        Pick::Full => {}
                    }
                }

                ticked.as_mut().poll(context).map(|()| None)
            })
            .await;
            match found {
                // A tick later a connection may have been given back.
                None => arrival.needs_connection = false,
                Some(Err(NoServer::Full)) => {
                    self.client.alarm.cancel();
                    if !arrival.is_overdue && self.worker.snapshot().version != self.version {
                        // Before it is refused it looks once at what is so by now.
                        (arrival.is_overdue, arrival.is_first) = (true, true);
                        return Err(NoServer::Stale);
                    }
                    if let Pick::Server(place) = pool.decide_spilling(&self.pick_context(), tried) {
                        return Ok(place);
                    }
                    if let Some(ticket) = ticket {
                        ticket.give_up();
                    }
                    return Err(NoServer::Full);
                }
                Some(found) => {
                    self.client.alarm.cancel();
                    arrival.is_first = found == Err(NoServer::Stale);
                    return found;
                }
            }
        }
    }

    /// Counts the work as being at a server until the answer is dropped.
    #[inline]
    pub(crate) fn begin(&self, place: usize) -> InFlight<'a> {
        let lane = self.pool.servers[place].cell.lane(self.worker.index);
        lane.begun.increment();
        // Nothing is drawn any more.
        let mut ask = self.pick_context_with(0);
        self.pool.begin(&ask, place);
        // Reading the clock costs something: some work is measured, and all of it where there is little.
        let now = self.worker.wheel.now();
        let measured = now >= lane.measured_next.get();
        if measured {
            lane.measured_next.set(now + MEASURED_EVERY);
            if ask.now == Tick(0) {
                ask.now = self.worker.now();
            }
        }
        self.client.server.set(Some(self.pool.servers[place].cell.id));
        InFlight {
            pool: self.pool,
            worker: self.worker,
            lane,
            place,
            begun: ask.now,
            verdict: None,
            timed: false,
            measured,
        }
    }
}

/// Counts something as open until it is dropped.
pub(crate) struct GaugeGuard<'a>(&'a Counter);

impl<'a> GaugeGuard<'a> {
    pub(crate) fn new(gauge: &'a Counter) -> Self {
        gauge.increment();
        Self(gauge)
    }
}

impl Drop for GaugeGuard<'_> {
    fn drop(&mut self) {
        self.0.decrement();
    }
}

/// How far apart work is that is measured, for each server and worker: as many as are kept of a server come from one worker in a minute.
const MEASURED_EVERY: u64 = 240 / TICK.as_millis() as u64;

/// How a server did with a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ServerResult {
    Well,
    Failed,
}

/// Work that is at a server.
pub(crate) struct InFlight<'a> {
    pool: &'a Pool,
    worker: &'a WorkerContext,
    pub(crate) lane: &'a ServerWorkerCounters,
    place: usize,
    begun: Tick,
    /// What became of it; nothing is said of a server whose client went away.
    verdict: Option<ServerResult>,
    /// Its pace was noted: what comes now takes as long as its client likes.
    timed: bool,
    /// Whether its response time is among those that are sampled.
    measured: bool,
}

impl InFlight<'_> {
    /// The server did what it was asked.
    pub(crate) fn succeeded(&mut self) {
        self.verdict = Some(ServerResult::Well);
    }

    /// The server failed, and that is counted.
    pub(crate) fn failed(&mut self) {
        self.lane.failed.increment();
        self.verdict = Some(ServerResult::Failed);
    }

    /// The server has answered, and goes on for as long as its client likes: what it took until now is its pace.
    pub(crate) fn goes_on(&mut self) {
        self.verdict = Some(ServerResult::Well);
        if (self.pool.timed || self.measured) && !self.timed {
            self.record_latency(ServerResult::Well, self.worker.now());
            self.timed = true;
        }
    }

    /// Notes how long it took. A server that fails fast is not a fast server: its failure counts as twice what is
    /// usual in the pool.
    fn record_latency(&self, verdict: ServerResult, now: Tick) {
        let cell = &self.pool.servers[self.place].cell;
        let took = now.since(self.begun);
        if self.measured && verdict == ServerResult::Well {
            cell.latencies.note(now, took);
        }
        if !self.pool.timed {
            return;
        }
        let pace = &cell.pace;
        if verdict == ServerResult::Well {
            let limits = self.pool.servers[self.place].limits;
            cell.room.note(limits, now, took);
            pace.note(now, took);
            self.pool.cell.pace.note(now, took);
            return;
        }
        let usual = self.pool.cell.pace.typical(now, None).unwrap_or(0.0);
        pace.note(now, took.max(Duration::from_micros(2 * usual as u64)));
    }
}

impl Drop for InFlight<'_> {
    fn drop(&mut self) {
        self.lane.ended.increment();
        let is_timed = self.pool.timed || self.measured;
        let now = if is_timed { self.worker.now() } else { self.begun };
        if is_timed
            && !self.timed
            && let Some(verdict) = self.verdict
        {
            self.record_latency(verdict, now);
        }
        self.pool.leave(&PickContext { cell: &self.pool.cell, key: None, draw: 0, now }, self.place);
    }
}
