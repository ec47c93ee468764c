//! State that outlives a snapshot: turns and counts, kept by identity.
//!
//! A cell is shared by every snapshot in which its pool or server exists, so a deploy neither resets a turn
//! nor loses a count. Each worker writes only its own lane and readers add the lanes up, so no worker ever
//! waits for another's cache line. The one number that workers share is a pool's turn, so that the dealing
//! out is exact over all of them together.

mod adaptive_limit;
mod latency_average;
mod latency_samples;
mod limiter;

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};

use serde::{Deserialize, Serialize};

pub use self::adaptive_limit::AdaptiveLimit;
pub use self::latency_average::LatencyAverage;
pub use self::latency_samples::{LatencySamples, of_thousand};
pub use self::limiter::{LimitReached, Limiter, ServerRuntimeLimits};
use crate::config::document::LimitSpec;
use crate::config::renames::Renames;
use crate::duty::{CutWork, OpenWork};
use crate::limits::{ClientLimit, LimitCounts, LimitTables, Offender, RefusalLane, RefusalReason, refusals};
use crate::name::{Name, PoolServer};
use crate::pins::{PinGround, PinKey, PinScope, PinTable};
use crate::time::Tick;
use crate::wait_queue::WaitQueue;

/// A count with one writer and any number of readers.
#[derive(Debug, Default)]
pub struct Counter(AtomicU64);

impl Counter {
    /// Adds one. Only the lane's own worker may call it: it is a load and a store, not one atomic step.
    pub fn increment(&self) {
        self.0.store(self.0.load(Ordering::Relaxed).wrapping_add(1), Ordering::Relaxed);
    }

    /// Takes one away again. Only the lane's own worker may call it.
    pub fn decrement(&self) {
        self.add(u64::MAX);
    }

    /// Adds so many. Only the lane's own worker may call it.
    pub fn add(&self, more: u64) {
        self.set(self.get().wrapping_add(more));
    }

    /// Sets it. Only the lane's own worker may call it.
    pub fn set(&self, count: u64) {
        self.0.store(count, Ordering::Relaxed);
    }

    /// The count since the worker started.
    #[must_use]
    pub fn get(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }
}

/// What one worker counted of one server. Aligned so that two lanes never share a cache line pair.
#[derive(Debug, Default)]
#[repr(align(128))]
pub struct ServerWorkerCounters {
    /// Requests that were begun with this server, whatever became of them.
    pub begun: Counter,
    /// Requests that ended with this server, whatever became of them.
    pub ended: Counter,
    /// Requests that it took: a connection was made and the request was handed over.
    pub taken: Counter,
    /// Connections refused or timed out, answers that never came, broke off or made no sense.
    pub failed: Counter,
    /// Requests that failed here and were given to another server.
    pub retried: Counter,
    /// Answers with a status of 500 and above.
    pub errors: Counter,
    /// Bytes that were sent to it for clients: requests, and what clients sent over connections and in datagrams.
    pub bytes_to: Counter,
    /// Bytes of its answers that went on to clients.
    pub bytes_from: Counter,
    /// Connections of `tcp` frontends and flows of `udp` ones that are open now.
    pub connections: Counter,
    /// Connections that went on with another protocol and are open now.
    pub tunnels: Counter,
    /// Requests that ended without their response because an operator took the server out, or it went down.
    pub cut_requests: Counter,
    /// Connections and flows that were cut for the same reason.
    pub cut_connections: Counter,
    /// Tunnels that were cut for the same reason.
    pub cut_tunnels: Counter,
    /// Requests, connections and flows of clients that were tied to no server before: new sessions.
    pub new_clients: Counter,
    /// From when on a response time is measured again, in the worker's own coarse time.
    pub measured_next: Counter,
}

/// The sum of all lanes of a server at one moment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServerCounts {
    /// See [`ServerWorkerCounters::begun`].
    pub begun: u64,
    /// Requests at the server right now.
    pub in_flight: u64,
    /// See [`ServerWorkerCounters::taken`].
    pub taken: u64,
    /// See [`ServerWorkerCounters::failed`].
    pub failed: u64,
    /// See [`ServerWorkerCounters::retried`].
    pub retried: u64,
    /// See [`ServerWorkerCounters::errors`].
    pub errors: u64,
    /// See [`ServerWorkerCounters::bytes_to`].
    pub bytes_to: u64,
    /// See [`ServerWorkerCounters::bytes_from`].
    pub bytes_from: u64,
    /// See [`ServerWorkerCounters::new_clients`].
    pub new_clients: u64,
    /// What of it is open, by kind.
    pub open: OpenWork,
    /// What was cut off.
    pub cut: CutWork,
}

impl ServerCounts {
    /// The same with nothing open: what stays of it when whoever counted it has ended.
    #[must_use]
    pub fn closed(self) -> Self {
        Self { in_flight: 0, open: OpenWork::default(), ..self }
    }

    /// What was counted since `before`; what is in flight stays as it is.
    #[must_use]
    pub fn since(&self, before: &Self) -> Self {
        Self {
            begun: self.begun.saturating_sub(before.begun),
            in_flight: self.in_flight,
            taken: self.taken.saturating_sub(before.taken),
            failed: self.failed.saturating_sub(before.failed),
            retried: self.retried.saturating_sub(before.retried),
            errors: self.errors.saturating_sub(before.errors),
            bytes_to: self.bytes_to.saturating_sub(before.bytes_to),
            bytes_from: self.bytes_from.saturating_sub(before.bytes_from),
            new_clients: self.new_clients.saturating_sub(before.new_clients),
            open: self.open,
            cut: self.cut.since(before.cut),
        }
    }
}

/// What one worker counted of one frontend.
#[derive(Debug, Default)]
#[repr(align(128))]
pub struct FrontendWorkerCounters {
    /// Connections that were accepted since the start.
    pub opened: Counter,
    /// Connections that have ended since the start.
    pub closed: Counter,
    /// Requests whose head was read whole and made sense.
    pub requests: Counter,
    /// The tick from which on a request is sampled again.
    pub next_sample: Counter,
    /// Requests refused for what they were (400, 408, 431, 501, 505).
    pub refused: Counter,
    /// Connections refused because as many as the frontend takes were there.
    pub turned_away: Counter,
    /// Connections, flows and requests of clients that are not let in (`allow`, `deny`).
    pub denied: Counter,
    /// Requests, connections and flows that a limit refused.
    pub limited: Counter,
    /// Requests for which no server was eligible (503).
    pub unavailable: Counter,
    /// Requests that no server answered properly (502, 504, or a broken-off answer).
    pub unanswered: Counter,
    /// Requests that a server answered with 5xx.
    pub errors: Counter,
    /// Connections, and requests over HTTP/2, that were ended because their clients held too much memory.
    pub cut_for_memory: Counter,
    /// TLS handshakes that began a session.
    pub handshakes: Counter,
    /// TLS handshakes that took a session up again.
    pub resumed: Counter,
    /// TLS handshakes that came to nothing.
    pub bad_handshakes: Counter,
    /// Clients that spoke TLS where plain text is spoken, or the other way round.
    pub wrong_protocol: Counter,
    /// Requests that were redirected to where TLS is spoken.
    pub redirected: Counter,
    /// Requests and handshakes of authorities that wanted to see that a name is ours, and saw it.
    pub challenges: Counter,
    /// Whom it refused, and why.
    pub refusals: RefusalLane,
}

/// The sum of all lanes of a frontend at one moment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FrontendCounts {
    /// Clients connected right now.
    pub connections: u64,
    /// See [`FrontendWorkerCounters::requests`].
    pub requests: u64,
    /// See [`FrontendWorkerCounters::refused`].
    pub refused: u64,
    /// See [`FrontendWorkerCounters::turned_away`].
    pub turned_away: u64,
    /// See [`FrontendWorkerCounters::denied`].
    #[serde(default)]
    pub denied: u64,
    /// See [`FrontendWorkerCounters::limited`].
    #[serde(default)]
    pub limited: u64,
    /// See [`FrontendWorkerCounters::unavailable`].
    pub unavailable: u64,
    /// See [`FrontendWorkerCounters::unanswered`].
    pub unanswered: u64,
    /// See [`FrontendWorkerCounters::errors`].
    pub errors: u64,
    /// See [`FrontendWorkerCounters::cut_for_memory`].
    pub cut_for_memory: u64,
    /// See [`FrontendWorkerCounters::handshakes`].
    #[serde(default)]
    pub handshakes: u64,
    /// See [`FrontendWorkerCounters::resumed`].
    #[serde(default)]
    pub resumed: u64,
    /// See [`FrontendWorkerCounters::bad_handshakes`].
    #[serde(default)]
    pub bad_handshakes: u64,
    /// See [`FrontendWorkerCounters::wrong_protocol`].
    #[serde(default)]
    pub wrong_protocol: u64,
    /// See [`FrontendWorkerCounters::redirected`].
    #[serde(default)]
    pub redirected: u64,
    /// See [`FrontendWorkerCounters::challenges`].
    #[serde(default)]
    pub challenges: u64,
}

/// One server's identity and counts.
#[derive(Debug)]
pub struct ServerRuntime {
    /// The identity's number; never given to another server while the service runs.
    pub id: u32,
    /// One of each worker; behind them, where there was a service before this one, one of what that has counted and has open.
    lanes: Box<[ServerWorkerCounters]>,
    workers: usize,
    /// How fast it answers.
    pub pace: LatencyAverage,
    /// How long it took for some of its work.
    pub latencies: LatencySamples,
    /// How much there is of what its limits count.
    pub room: Limiter,
    /// What it has spent of its weight; see [`crate::balance::LeastConnections`].
    spent: AtomicU64,
    /// Which of its addresses was connected to last.
    way: AtomicU64,
}

impl ServerRuntime {
    /// Which of its addresses was connected to last, for it is tried first the next time (RFC 8305, 5).
    #[must_use]
    pub fn way(&self) -> usize {
        self.way.load(Ordering::Relaxed) as usize
    }

    /// A connection was made to this one of its addresses.
    pub fn goes_by(&self, way: usize) {
        self.way.store(way as u64, Ordering::Relaxed);
    }

    /// The lane of one worker.
    #[must_use]
    pub fn lane(&self, worker: usize) -> &ServerWorkerCounters {
        &self.lanes[worker]
    }

    /// Takes over what a service before this one has counted up to now, and what is open there. Only one task may call it.
    /// Nothing happens where the registry does not [`inherit`](RuntimeRegistry::inherit).
    pub fn inherit(&self, counts: &ServerCounts) {
        let Some(lane) = self.lanes.get(self.workers) else { return };
        // As in `counts`: what ended is never more than what began.
        lane.begun.set(counts.begun);
        lane.ended.set(counts.begun.saturating_sub(counts.in_flight));
        lane.taken.set(counts.taken);
        lane.failed.set(counts.failed);
        lane.retried.set(counts.retried);
        lane.errors.set(counts.errors);
        lane.bytes_to.set(counts.bytes_to);
        lane.bytes_from.set(counts.bytes_from);
        lane.new_clients.set(counts.new_clients);
        lane.connections.set(counts.open.connections);
        lane.tunnels.set(counts.open.tunnels);
        lane.cut_requests.set(counts.cut.requests);
        lane.cut_connections.set(counts.cut.connections);
        lane.cut_tunnels.set(counts.cut.tunnels);
    }

    /// Work at the server right now.
    #[must_use]
    pub fn in_flight(&self) -> u64 {
        // What ended is read first, as in `counts`.
        let ended: u64 = self.lanes.iter().map(|lane| lane.ended.get()).sum();
        self.lanes.iter().map(|lane| lane.begun.get()).sum::<u64>().saturating_sub(ended)
    }

    /// What it has spent of its weight.
    #[must_use]
    pub fn spent(&self) -> u64 {
        self.spent.load(Ordering::Relaxed)
    }

    /// It has spent up to here.
    pub fn spend_until(&self, spent: u64) {
        self.spent.store(spent, Ordering::Relaxed);
    }

    /// The sum over all workers, read without stopping them.
    #[must_use]
    pub fn counts(&self) -> ServerCounts {
        let sum = |pick: fn(&ServerWorkerCounters) -> &Counter| {
            self.lanes.iter().map(|lane| pick(lane).get()).sum::<u64>()
        };
        // `ended` is read first: a request that ends in between is then counted as still there, never below zero.
        let ended = sum(|lane| &lane.ended);
        let begun = sum(|lane| &lane.begun);
        let in_flight = begun.saturating_sub(ended);
        let (connections, tunnels) = (sum(|lane| &lane.connections), sum(|lane| &lane.tunnels));
        ServerCounts {
            begun,
            in_flight,
            new_clients: sum(|lane| &lane.new_clients),
            taken: sum(|lane| &lane.taken),
            failed: sum(|lane| &lane.failed),
            retried: sum(|lane| &lane.retried),
            errors: sum(|lane| &lane.errors),
            bytes_to: sum(|lane| &lane.bytes_to),
            bytes_from: sum(|lane| &lane.bytes_from),
            open: OpenWork {
                requests: in_flight.saturating_sub(connections + tunnels),
                connections,
                tunnels,
            },
            cut: CutWork {
                requests: sum(|lane| &lane.cut_requests),
                connections: sum(|lane| &lane.cut_connections),
                tunnels: sum(|lane| &lane.cut_tunnels),
            },
        }
    }
}

/// What one worker counted of one rule of a frontend.
#[derive(Debug, Default)]
#[repr(align(64))]
pub struct RuleWorkerCounters {
    /// Requests that met it first.
    pub matches: Counter,
    /// When the last of them came, in nanoseconds since the start of the node; 0 when none did.
    pub last: Counter,
}

/// The counts of one rule at one frontend.
#[derive(Debug)]
pub struct RuleRuntime {
    lanes: Box<[RuleWorkerCounters]>,
}

impl RuleRuntime {
    /// The lane of one worker.
    #[must_use]
    pub fn lane(&self, worker: usize) -> &RuleWorkerCounters {
        &self.lanes[worker]
    }

    /// Counts that a request or a connection met it.
    pub fn count(&self, worker: usize, now: Tick) {
        let lane = self.lane(worker);
        lane.matches.increment();
        // Zero stands for never.
        lane.last.set(now.0.max(1));
    }

    /// How many requests met the rule first, over all workers.
    #[must_use]
    pub fn matches(&self) -> u64 {
        self.lanes.iter().map(|lane| lane.matches.get()).sum()
    }

    /// When the last of them came; `None` when none did.
    #[must_use]
    pub fn last(&self) -> Option<Tick> {
        self.lanes.iter().map(|lane| lane.last.get()).max().filter(|last| *last > 0).map(Tick)
    }
}

/// One frontend's identity and counts.
#[derive(Debug)]
pub struct FrontendRuntime {
    /// The identity's number; never given to another frontend while the service runs.
    pub id: u32,
    /// As those of [`ServerRuntime`].
    lanes: Box<[FrontendWorkerCounters]>,
    workers: usize,
}

impl FrontendRuntime {
    /// The lane of one worker.
    #[must_use]
    pub fn lane(&self, worker: usize) -> &FrontendWorkerCounters {
        &self.lanes[worker]
    }

    /// Whom it refused since the start of the node, for each reason that there was: how often, and which networks most.
    #[must_use]
    pub fn refusals(&self) -> Vec<(RefusalReason, u64, Vec<Offender>)> {
        refusals(self.lanes.iter().map(|lane| &lane.refusals))
    }

    /// Clients connected right now.
    #[must_use]
    pub fn connections(&self) -> u64 {
        let closed: u64 = self.lanes.iter().map(|lane| lane.closed.get()).sum();
        self.lanes.iter().map(|lane| lane.opened.get()).sum::<u64>().saturating_sub(closed)
    }

    /// Takes over what a service before this one has counted up to now, and who is still connected there. Only one task may call it.
    pub fn inherit(&self, counts: &FrontendCounts) {
        let Some(lane) = self.lanes.get(self.workers) else { return };
        lane.opened.set(counts.connections);
        lane.requests.set(counts.requests);
        lane.refused.set(counts.refused);
        lane.turned_away.set(counts.turned_away);
        lane.denied.set(counts.denied);
        lane.limited.set(counts.limited);
        lane.unavailable.set(counts.unavailable);
        lane.unanswered.set(counts.unanswered);
        lane.errors.set(counts.errors);
        lane.cut_for_memory.set(counts.cut_for_memory);
        lane.handshakes.set(counts.handshakes);
        lane.resumed.set(counts.resumed);
        lane.bad_handshakes.set(counts.bad_handshakes);
        lane.wrong_protocol.set(counts.wrong_protocol);
        lane.redirected.set(counts.redirected);
        lane.challenges.set(counts.challenges);
    }

    /// The sum over all workers, read without stopping them.
    #[must_use]
    pub fn counts(&self) -> FrontendCounts {
        let sum = |pick: fn(&FrontendWorkerCounters) -> &Counter| {
            self.lanes.iter().map(|lane| pick(lane).get()).sum::<u64>()
        };
        FrontendCounts {
            connections: self.connections(),
            requests: sum(|lane| &lane.requests),
            refused: sum(|lane| &lane.refused),
            turned_away: sum(|lane| &lane.turned_away),
            denied: sum(|lane| &lane.denied),
            limited: sum(|lane| &lane.limited),
            unavailable: sum(|lane| &lane.unavailable),
            unanswered: sum(|lane| &lane.unanswered),
            errors: sum(|lane| &lane.errors),
            cut_for_memory: sum(|lane| &lane.cut_for_memory),
            handshakes: sum(|lane| &lane.handshakes),
            resumed: sum(|lane| &lane.resumed),
            bad_handshakes: sum(|lane| &lane.bad_handshakes),
            wrong_protocol: sum(|lane| &lane.wrong_protocol),
            redirected: sum(|lane| &lane.redirected),
            challenges: sum(|lane| &lane.challenges),
        }
    }
}

/// One pool's turn and what else its algorithms keep, shared by all workers.
#[derive(Debug, Default)]
#[repr(align(128))]
pub struct PoolRuntime {
    turn: AtomicU64,
    retry_turn: AtomicU64,
    /// What the server that got work last had spent before it.
    spent: AtomicU64,
    in_flight: AtomicU64,
    refused_cookies: AtomicU64,
    /// How fast its servers answer, all together.
    pub pace: LatencyAverage,
    /// Who waits while all its servers are full.
    pub line: WaitQueue,
    /// How many of its requests may go to another server because one is slow.
    pub retries: RetryBudget,
    /// How much of its work may be offered to another server because one failed it.
    pub attempts: RetryBudget,
}

/// How much work may be given to another server because the first one is slow, or failed it: a part of all, so that a pool that is slow or fails
/// altogether does not get more work by it.
#[derive(Debug)]
pub struct RetryBudget {
    /// In hundredths of a retry.
    credit: AtomicI64,
    /// How many retries there was no credit for.
    withheld: AtomicU64,
}

impl RetryBudget {
    /// The most that is saved up, in hundredths of a retry; it is there at the beginning.
    const MOST: i64 = 1_000;

    /// A request has come: it earns so many hundredths of a retry.
    pub fn earn(&self, percent: u8) {
        let more = |credit: i64| (credit < Self::MOST).then(|| (credit + i64::from(percent)).min(Self::MOST));
        let _ = self.credit.fetch_update(Ordering::Relaxed, Ordering::Relaxed, more);
    }

    /// Whether there is credit for a retry.
    #[must_use]
    pub fn has_credit(&self) -> bool {
        self.credit.load(Ordering::Relaxed) >= 100
    }

    /// Takes the credit for a retry; where there is none that is counted.
    #[must_use]
    pub fn take(&self) -> bool {
        let less = |credit: i64| (credit >= 100).then(|| credit - 100);
        let is_taken = self.credit.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less).is_ok();
        if !is_taken {
            self.withheld.fetch_add(1, Ordering::Relaxed);
        }
        is_taken
    }

    /// How many retries there was no credit for.
    #[must_use]
    pub fn withheld(&self) -> u64 {
        self.withheld.load(Ordering::Relaxed)
    }

    /// A retry was made.
    pub fn spend(&self) {
        self.credit.fetch_sub(100, Ordering::Relaxed);
    }
}

impl Default for RetryBudget {
    fn default() -> Self {
        Self { credit: AtomicI64::new(Self::MOST), withheld: AtomicU64::new(0) }
    }
}

impl PoolRuntime {
    /// Takes the next turn.
    pub fn take_turn(&self) -> u64 {
        self.turn.fetch_add(1, Ordering::Relaxed)
    }

    /// Takes the next turn of those that distribute retries, so that retries leave the order of first picks alone.
    pub fn take_retry_turn(&self) -> u64 {
        self.retry_turn.fetch_add(1, Ordering::Relaxed)
    }

    /// The turn that the next request will take.
    #[must_use]
    pub fn next_turn(&self) -> u64 {
        self.turn.load(Ordering::Relaxed)
    }

    /// The turn that the next retry will take.
    #[must_use]
    pub fn next_retry_turn(&self) -> u64 {
        self.retry_turn.load(Ordering::Relaxed)
    }

    /// From where servers spend that were away.
    #[must_use]
    pub fn spent_by_all(&self) -> u64 {
        self.spent.load(Ordering::Relaxed)
    }

    /// A server that had spent so much got work.
    pub fn note_spent(&self, spent: u64) {
        self.spent.fetch_max(spent, Ordering::Relaxed);
    }

    /// Work has begun somewhere in the pool. Counted only by algorithms that need the sum.
    pub fn begin(&self) {
        self.in_flight.fetch_add(1, Ordering::Relaxed);
    }

    /// Work has ended somewhere in the pool.
    pub fn end(&self) {
        self.in_flight.fetch_sub(1, Ordering::Relaxed);
    }

    /// A client carried a cookie of the name of its pins that was not taken: forged, over, or another pool's.
    pub fn note_refused_cookie(&self) {
        self.refused_cookies.fetch_add(1, Ordering::Relaxed);
    }

    /// How many cookies were not taken.
    #[must_use]
    pub fn refused_cookies(&self) -> u64 {
        self.refused_cookies.load(Ordering::Relaxed)
    }

    /// The work that [`begin`](Self::begin) and [`end`](Self::end) count.
    #[must_use]
    pub fn in_flight(&self) -> u64 {
        self.in_flight.load(Ordering::Relaxed)
    }
}

/// Every cell by identity. A server's identity is its name and its address: at another address it is another server.
#[derive(Debug)]
pub struct RuntimeRegistry {
    workers: usize,
    /// Whether cells take over what a service before this one counted.
    inherits: bool,
    servers: BTreeMap<PoolServer, (SocketAddr, Arc<ServerRuntime>)>,
    frontends: BTreeMap<Name, Arc<FrontendRuntime>>,
    rules: BTreeMap<Name, BTreeMap<Name, Arc<RuleRuntime>>>,
    limits: BTreeMap<Name, (LimitTables, Arc<LimitCounts>)>,
    pools: BTreeMap<Name, Arc<PoolRuntime>>,
    pin_tables: BTreeMap<PinScope, Arc<PinTable>>,
    /// The marks of the kinds of persistence that each table is for.
    pin_kinds: BTreeMap<PinScope, BTreeSet<u8>>,
    pin_seed: u64,
    pin_key: Option<PinKey>,
    next_server: u32,
    next_frontend: u32,
}

impl RuntimeRegistry {
    /// No cells yet, each to have one lane a worker.
    #[must_use]
    pub fn new(workers: usize) -> Self {
        Self {
            workers,
            inherits: false,
            servers: BTreeMap::new(),
            frontends: BTreeMap::new(),
            rules: BTreeMap::new(),
            limits: BTreeMap::new(),
            pools: BTreeMap::new(),
            pin_tables: BTreeMap::new(),
            pin_kinds: BTreeMap::new(),
            pin_seed: 0,
            pin_key: None,
            next_server: 0,
            next_frontend: 0,
        }
    }

    /// From now on cells are made that can take over what a service before this one counted.
    pub fn inherit(&mut self) {
        self.inherits = true;
    }

    fn lanes(&self) -> usize {
        self.workers + usize::from(self.inherits)
    }

    /// The cell of a server, made when it is first asked for, and anew when it is asked for at another address.
    pub fn server(&mut self, server: &PoolServer, address: SocketAddr) -> Arc<ServerRuntime> {
        if let Some((_, cell)) = self.servers.get(server).filter(|(known, _)| *known == address) {
            return Arc::clone(cell);
        }
        let id = self.next_server;
        self.next_server += 1;
        let lanes = (0..self.lanes()).map(|_| ServerWorkerCounters::default()).collect();
        let cell = Arc::new(ServerRuntime {
            id,
            lanes,
            workers: self.workers,
            pace: LatencyAverage::default(),
            latencies: LatencySamples::default(),
            room: Limiter::default(),
            spent: AtomicU64::new(0),
            way: AtomicU64::new(0),
        });
        self.servers.insert(server.clone(), (address, Arc::clone(&cell)));
        cell
    }

    /// The cell of a frontend, made when it is first asked for. Frontends that go keep theirs, for their number.
    pub fn frontend(&mut self, name: &Name) -> Arc<FrontendRuntime> {
        let (workers, lanes) = (self.workers, self.lanes());
        let next = &mut self.next_frontend;
        let cell = self.frontends.entry(name.clone()).or_insert_with(|| {
            *next += 1;
            let lanes = (0..lanes).map(|_| FrontendWorkerCounters::default()).collect();
            Arc::new(FrontendRuntime { id: *next - 1, lanes, workers })
        });
        Arc::clone(cell)
    }

    /// The counts of a rule at a frontend, made when they are first asked for.
    pub fn rule(&mut self, frontend: &Name, rule: &Name) -> Arc<RuleRuntime> {
        let lanes = self.lanes();
        let of_frontend = self.rules.entry(frontend.clone()).or_default();
        if let Some(cell) = of_frontend.get(rule) {
            return Arc::clone(cell);
        }
        let cell =
            Arc::new(RuleRuntime { lanes: (0..lanes).map(|_| RuleWorkerCounters::default()).collect() });
        of_frontend.insert(rule.clone(), Arc::clone(&cell));
        cell
    }

    /// Forgets the counts of rules that `keep` does not want any more.
    pub fn retain_rules(&mut self, mut keep: impl FnMut(&Name, &Name) -> bool) {
        for (frontend, rules) in &mut self.rules {
            rules.retain(|rule, _| keep(frontend, rule));
        }
        self.rules.retain(|_, rules| !rules.is_empty());
    }

    /// A limit with what it has counted so far.
    pub fn limit(&mut self, name: &Name, spec: &LimitSpec) -> ClientLimit {
        let before = self.limits.get(name);
        let tables = LimitTables::of(spec, self.pin_seed, before.map(|(tables, _)| tables));
        let counts = before.map(|(_, counts)| Arc::clone(counts));
        let counts = counts.unwrap_or_else(|| Arc::new(LimitCounts::new(self.lanes())));
        self.limits.insert(name.clone(), (tables.clone(), Arc::clone(&counts)));
        ClientLimit::new(name.clone(), spec.clone(), tables, counts)
    }

    /// Forgets what limits counted that `keep` does not want any more.
    pub fn retain_limits(&mut self, keep: impl Fn(&Name) -> bool) {
        self.limits.retain(|name, _| keep(name));
    }

    /// The cell of a pool, made when it is first asked for.
    pub fn pool(&mut self, name: &Name) -> Arc<PoolRuntime> {
        Arc::clone(self.pools.entry(name.clone()).or_default())
    }

    /// What tables of pins are seeded with from now on: a secret, so that no client can foresee where its keys are kept.
    pub fn seed_pins(&mut self, seed: u64) {
        self.pin_seed = seed;
    }

    /// The servers that there are, with their addresses.
    pub fn servers(&self) -> impl Iterator<Item = (&PoolServer, SocketAddr, &Arc<ServerRuntime>)> {
        self.servers.iter().map(|(server, (address, cell))| (server, *address, cell))
    }

    /// The frontends that there are, and those that were removed.
    pub fn frontends(&self) -> impl Iterator<Item = (&Name, &Arc<FrontendRuntime>)> {
        self.frontends.iter()
    }

    /// Cookies that tie clients are signed with this from the next snapshot on.
    pub fn sign_pins(&mut self, key: PinKey) {
        self.pin_key = Some(key);
    }

    /// What the pins of a pool need that outlives snapshots.
    pub fn pin_ground(&mut self, pool: &Name, scope: PinScope) -> PinGround {
        PinGround { table: self.pin_table(scope), key: self.pin_key.clone(), cell: self.pool(pool) }
    }

    /// The tables of learned pins that there are.
    pub fn pin_tables(&self) -> impl Iterator<Item = (&PinScope, &Arc<PinTable>)> {
        self.pin_tables.iter()
    }

    /// The table of learned pins of a pool or a group, made when it is first asked for.
    pub fn pin_table(&mut self, scope: PinScope) -> Arc<PinTable> {
        let seed = self.pin_seed;
        Arc::clone(self.pin_tables.entry(scope).or_insert_with(|| Arc::new(PinTable::new(seed))))
    }

    /// Forgets the pins of pools and groups that are not in use any more, and of the others those of kinds that are not: they tie
    /// no client. Costs a look at each pin of a table whose kinds are others than before.
    pub fn retain_pins(&mut self, in_use: BTreeMap<PinScope, BTreeSet<u8>>) {
        self.pin_tables.retain(|scope, _| in_use.contains_key(scope));
        for (scope, table) in &self.pin_tables {
            if let (Some(kinds), Some(before)) = (in_use.get(scope), self.pin_kinds.get(scope))
                && !kinds.is_superset(before)
            {
                table.remove_where(|_, pin| !kinds.contains(&pin.kind));
            }
        }
        self.pin_kinds = in_use;
    }

    /// Lets what was renamed keep its cells under its new name; a frontend's number goes with it.
    pub fn rename(&mut self, renames: &Renames) {
        for (from, to) in &renames.pools {
            if let Some(cell) = self.pools.remove(from) {
                self.pools.insert(to.clone(), cell);
            }
            if let Some(pins) = self.pin_tables.remove(&PinScope::Pool(from.clone())) {
                self.pin_tables.insert(PinScope::Pool(to.clone()), pins);
            }
            if let Some(kinds) = self.pin_kinds.remove(&PinScope::Pool(from.clone())) {
                self.pin_kinds.insert(PinScope::Pool(to.clone()), kinds);
            }
        }
        let moved: Vec<_> =
            renames.servers.iter().map(|(from, to)| (self.servers.remove(from), to.clone())).collect();
        for (cell, to) in moved {
            self.servers.extend(cell.map(|cell| (to, cell)));
        }
        let frontends: Vec<_> =
            renames.frontends.iter().map(|(from, to)| (self.frontends.remove(from), to.clone())).collect();
        for (cell, to) in frontends {
            self.frontends.extend(cell.map(|cell| (to, cell)));
        }
        for (from, to) in &renames.frontends {
            if let Some(rules) = self.rules.remove(from) {
                self.rules.insert(to.clone(), rules);
            }
        }
    }

    /// Forgets the servers that `keep` does not want any more.
    pub fn retain_servers(&mut self, mut keep: impl FnMut(&PoolServer, SocketAddr) -> bool) {
        self.servers.retain(|server, (address, _)| keep(server, *address));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_service_before_counted_is_added_and_ends_with_it() {
        let mut registry = RuntimeRegistry::new(2);
        registry.inherit();
        let cell = registry.server(&"quay/gull".parse().unwrap(), ([192, 0, 2, 21], 80).into());
        for _ in 0..3 {
            cell.lane(1).begun.increment();
        }
        let open = OpenWork { requests: 1, connections: 3, tunnels: 2 };
        let before = ServerCounts { begun: 40, in_flight: 6, taken: 38, open, ..ServerCounts::default() };
        cell.inherit(&before);
        let counts = cell.counts();
        assert_eq!((counts.begun, counts.in_flight, cell.in_flight(), counts.taken), (43, 9, 9, 38));
        assert_eq!(counts.open, OpenWork { requests: 4, ..open });
        cell.inherit(&before.closed());
        let counts = cell.counts();
        assert_eq!((counts.begun, counts.in_flight, counts.open.tunnels), (43, 3, 0));
        let frontend = registry.frontend(&"harbour".parse().unwrap());
        frontend.lane(0).opened.increment();
        frontend.inherit(&FrontendCounts { connections: 4, requests: 70, ..FrontendCounts::default() });
        assert_eq!((frontend.counts().connections, frontend.counts().requests), (5, 70));
    }
}
