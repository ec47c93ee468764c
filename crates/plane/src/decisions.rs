//! The decision log: of some requests, which server they went to and what was known of the others at that moment.
//!
//! Nothing is written without a watcher, and at most [`PER_TICK`] decisions of a worker in 20 ms with
//! one; what was passed over is counted, so that the log is not taken for all there was.

use std::cell::Cell;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use merismos_core::balance::{PickContext, ServerFact};
use merismos_core::config::document::Algorithm;
use merismos_core::eligibility::IneligibleReason;
use merismos_core::name::{Name, PoolServer};
use merismos_core::routing::{Frontend, Pool, WhyPool};
use merismos_core::runtime::LimitReached;
use tokio::sync::broadcast;

/// How many decisions of one worker are sampled in one tick.
const PER_TICK: u32 = 2;
/// How many may wait for a slow watcher.
const WAITING: usize = 1_024;
/// How many of the other servers are described.
const MOST_OTHERS: usize = 8;

/// A decision that was sampled: which server, and why.
#[derive(Clone, Debug)]
pub struct SampledDecision {
    /// The frontend that the work came to.
    pub frontend: Name,
    /// The rule that the request met, if it met one.
    pub rule: Option<Name>,
    /// What rules call the request.
    pub label: Option<String>,
    /// Address and port of the client.
    pub client: SocketAddr,
    /// The pool, and how it was chosen where there are several.
    pub pool: Name,
    /// See [`Self::pool`].
    pub why_pool: Option<WhyPool>,
    /// How the pool distributes work.
    pub algorithm: Algorithm,
    /// The key that it was distributed by, in words.
    pub key: Option<String>,
    /// Why this server and no other was asked, when the algorithm was not.
    pub tied: Option<PinReason>,
    /// The server that got the request.
    pub server: PoolServer,
    /// What the algorithm knew of it, in words.
    pub fact: Option<ServerFact>,
    /// Servers that failed this work before.
    pub failed_at: Vec<PoolServer>,
    /// The other servers of the pool, the nearest ones first.
    pub others: Vec<OtherServer>,
    /// How many others there were beyond those.
    pub more_others: u64,
    /// The version of the snapshot that decided.
    pub version: u64,
    /// How many decisions of the same worker were passed over since the last one that was sampled.
    pub passed_over: u64,
}

/// A server that did not get the work.
#[derive(Clone, Debug)]
pub struct OtherServer {
    /// The server that did not get the request.
    pub server: PoolServer,
    /// Why it is not eligible.
    pub reason: Option<IneligibleReason>,
    /// Which of its limits it had reached.
    pub full: Option<LimitReached>,
    /// What the algorithm knew of it, in words.
    pub fact: Option<ServerFact>,
}

/// What ties work to a server before an algorithm is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PinReason {
    /// The client is pinned to it.
    Pin,
    /// Its connection was assigned to it.
    Connection,
    /// A trial sends it there.
    Trial,
}

/// Where workers send decisions while there is a watcher.
#[derive(Clone, Debug)]
pub struct DecisionLog {
    watchers: Arc<AtomicU32>,
    sender: broadcast::Sender<Arc<SampledDecision>>,
}

/// A watcher; dropping it ends the watching.
#[derive(Debug)]
pub struct DecisionWatcher {
    /// The decisions as they are made.
    pub receiver: broadcast::Receiver<Arc<SampledDecision>>,
    watchers: Arc<AtomicU32>,
}

impl Drop for DecisionWatcher {
    fn drop(&mut self) {
        self.watchers.fetch_sub(1, Ordering::Relaxed);
    }
}

impl DecisionLog {
    pub(crate) fn new() -> Self {
        let (sender, _) = broadcast::channel(WAITING);
        Self { watchers: Arc::default(), sender }
    }

    /// Watches from now on.
    #[must_use]
    pub fn watch(&self) -> DecisionWatcher {
        self.watchers.fetch_add(1, Ordering::Relaxed);
        DecisionWatcher { receiver: self.sender.subscribe(), watchers: Arc::clone(&self.watchers) }
    }
}

/// One worker's way to the log.
#[derive(Debug)]
pub(crate) struct DecisionSampler {
    log: DecisionLog,
    tick: Cell<u64>,
    sampled: Cell<u32>,
    passed_over: Cell<u64>,
}

impl DecisionSampler {
    pub(crate) fn new(log: DecisionLog) -> Self {
        Self { log, tick: Cell::new(0), sampled: Cell::new(0), passed_over: Cell::new(0) }
    }

    /// Whether this decision is to be sampled. One look at a number that is not written without a watcher.
    pub(crate) fn should_sample(&self, tick: u64) -> bool {
        if self.log.watchers.load(Ordering::Relaxed) == 0 {
            return false;
        }
        if self.tick.replace(tick) != tick {
            self.sampled.set(0);
        }
        let wants = self.sampled.get() < PER_TICK;
        if wants {
            self.sampled.set(self.sampled.get() + 1);
        } else {
            self.passed_over.set(self.passed_over.get() + 1);
        }
        wants
    }

    pub(crate) fn record(&self, mut decision: SampledDecision) {
        decision.passed_over = self.passed_over.take();
        // The watcher may be gone by now.
        let _ = self.log.sender.send(Arc::new(decision));
    }
}

/// What is known of a decision where it is made.
pub(crate) struct DecisionContext<'a> {
    pub(crate) frontend: &'a Frontend,
    pub(crate) rule: Option<&'a Name>,
    pub(crate) label: Option<&'a str>,
    pub(crate) pool: &'a Pool,
    pub(crate) why_pool: Option<WhyPool>,
    pub(crate) client: SocketAddr,
    pub(crate) key: Option<String>,
    pub(crate) tied: Option<PinReason>,
    pub(crate) place: usize,
    pub(crate) failed_at: &'a [u32],
    pub(crate) version: u64,
}

impl DecisionContext<'_> {
    /// Puts it into words.
    pub(crate) fn into_decision(self, ask: &PickContext<'_>) -> SampledDecision {
        let pool = self.pool;
        let name = |place: usize| pool.servers[place].name.clone();
        let fact = |place: usize| pool.balance.server_fact(ask, place);
        let others = pool.servers.iter().enumerate().filter(|(place, _)| *place != self.place);
        let other = |(place, server): (usize, &merismos_core::routing::Server)| OtherServer {
            server: server.name.clone(),
            reason: server.standing.reason,
            full: server.cell.room.full(server.limits, ask.now),
            fact: fact(place),
        };
        SampledDecision {
            frontend: self.frontend.name.clone(),
            rule: self.rule.cloned(),
            label: self.label.map(str::to_owned),
            client: self.client,
            pool: pool.name.clone(),
            why_pool: self.why_pool,
            algorithm: pool.algorithm,
            key: self.key,
            tied: self.tied,
            server: name(self.place),
            fact: fact(self.place),
            failed_at: self.failed_at.iter().map(|place| name(*place as usize)).collect(),
            others: others.map(other).take(MOST_OTHERS).collect(),
            more_others: pool.servers.len().saturating_sub(1 + MOST_OTHERS) as u64,
            version: self.version,
            passed_over: 0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_told_to_nobody_and_little_to_somebody() {
        let log = DecisionLog::new();
        let sampler = DecisionSampler::new(log.clone());
        assert!((0..10).all(|_| !sampler.should_sample(1)));
        let watcher = log.watch();
        assert_eq!((0..10).filter(|_| sampler.should_sample(2)).count(), PER_TICK as usize);
        assert_eq!(sampler.passed_over.get(), 10 - u64::from(PER_TICK));
        assert!(sampler.should_sample(3), "the next tick has room again");
        drop(watcher);
        assert!(!sampler.should_sample(4));
    }
}
