//! Probing: a shell around [`Machine`] that waits, probes and reports.

mod asking;
mod command;
mod dns;
mod grpc;
mod http;
mod icmp;
mod sql;
mod tcp;
mod tls;
mod udp;

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use merismos_core::config::document::{Check, ChecksNeeded, ProxyVersion, TrafficVerdict};
use merismos_core::health::{Evidence, Machine, Rules, State, Step, Transition};
use merismos_core::name::PoolServer;
use merismos_core::time::{Tick, Wall};
use tokio::sync::{Notify, mpsc};
use tokio::task::JoinHandle;
use tokio::time::Instant;

pub use self::asking::Surroundings;
use self::asking::{Asking, Failed};

/// New servers are probed first within this time, spread evenly.
const FIRST_WITHIN: Duration = Duration::from_secs(1);
/// Of few servers each takes so much of that time at most.
const FIRST_FOR_EACH: Duration = Duration::from_millis(1);

/// A server to be probed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// The server.
    pub server: PoolServer,
    /// Where it listens.
    pub address: SocketAddr,
    /// What to ask it; the first says how often.
    pub checks: Arc<[Arc<Check>]>,
    /// How many of them it has to pass.
    pub needed: ChecksNeeded,
    /// The PROXY protocol header that it wants to see first.
    pub proxy_protocol: Option<ProxyVersion>,
}

/// What one probe said, and what the server's health is with it.
#[derive(Clone, Debug)]
pub struct Report {
    /// The server.
    pub server: PoolServer,
    /// Where it was probed: a report on an address that the server has no more is out of date.
    pub address: SocketAddr,
    /// Its health.
    pub state: State,
    /// The change that this probe made.
    pub transition: Option<Transition>,
    /// What was tried and what came back.
    pub evidence: Evidence,
    /// Failures in a row from now that would make it down.
    pub failures_to_down: Option<u32>,
    /// Passes in a row from now that would make it up.
    pub passes_to_up: Option<u32>,
    /// How long until its next probe starts.
    pub next_in: Duration,
}

/// What traffic says of a server, on its way to its probes.
#[derive(Debug, Default)]
struct Nudge {
    told: Notify,
    says: Mutex<Option<(TrafficVerdict, String)>>,
}

/// All running probes. Dropping it ends them.
#[derive(Debug)]
pub struct Prober {
    reports: mpsc::Sender<Report>,
    surroundings: Arc<Surroundings>,
    running: BTreeMap<PoolServer, (Target, JoinHandle<()>, Arc<Nudge>)>,
}

impl Prober {
    /// Probes nothing yet; reports go to `reports`.
    #[must_use]
    pub fn new(reports: mpsc::Sender<Report>, surroundings: Surroundings) -> Self {
        Self { reports, surroundings: Arc::new(surroundings), running: BTreeMap::new() }
    }

    /// Probes these servers and no others from now on. A server that was probed the same way before keeps its
    /// pace; for any other one `known` says the health to start from. Must be called on a Tokio runtime.
    pub fn set(&mut self, targets: Vec<Target>, known: impl Fn(&Target) -> State) {
        let first_within = FIRST_FOR_EACH.saturating_mul(u32::try_from(targets.len()).unwrap_or(u32::MAX));
        let first_within = first_within.min(FIRST_WITHIN);
        let mut before = std::mem::take(&mut self.running);
        for target in targets {
            let (task, nudge) = match before.remove(&target.server) {
                Some((same, task, nudge)) if same == target => (task, nudge),
                other => {
                    if let Some((_, task, _)) = other {
                        task.abort();
                    }
                    let surroundings = Arc::clone(&self.surroundings);
                    let known = known(&target);
                    let nudge = Arc::new(Nudge::default());
                    let (reports, told) = (self.reports.clone(), Arc::clone(&nudge));
                    let watched = watch(target.clone(), (known, first_within), reports, surroundings, told);
                    (tokio::spawn(watched), nudge)
                }
            };
            self.running.insert(target.server.clone(), (target, task, nudge));
        }
        for (_, task, _) in before.into_values() {
            task.abort();
        }
    }
}

impl Prober {
    /// Tells the probes of a server what traffic says of it, and why.
    pub fn tell(&self, server: &PoolServer, verdict: TrafficVerdict, why: String) {
        if let Some((_, _, nudge)) = self.running.get(server) {
            *nudge.says.lock().unwrap_or_else(PoisonError::into_inner) = Some((verdict, why));
            nudge.told.notify_one();
        }
    }
}

impl Drop for Prober {
    fn drop(&mut self) {
        self.running.values().for_each(|(_, task, _)| task.abort());
    }
}

/// The wall clock.
fn wall() -> Wall {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Wall(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
}

/// A number that differs between servers, to spread their probes.
fn seed(server: &PoolServer) -> u64 {
    let bytes = server.to_string().into_bytes();
    // FNV-1a, http://www.isthe.com/chongo/tech/comp/fnv/: small, and the same on every node.
    bytes
        .iter()
        .fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3))
}

/// Probes one server for ever.
async fn watch(
    target: Target,
    (known, first_within): (State, Duration),
    reports: mpsc::Sender<Report>,
    surroundings: Arc<Surroundings>,
    nudge: Arc<Nudge>,
) {
    let Some(pace) = target.checks.first() else { return };
    let start = Instant::now();
    let now = || Tick(u64::try_from(start.elapsed().as_nanos()).unwrap_or(u64::MAX));
    let mut machine = Machine::new(Rules::from(&**pace), known, seed(&target.server), now(), first_within);
    loop {
        let due = start + Duration::from_nanos(machine.next_timeout().0);
        let (evidence, transition) = tokio::select! {
            () = tokio::time::sleep_until(due) => {
                machine.on_probe_started(now());
                let evidence = probe_all(&target, &surroundings).await;
                let transition = machine.on_probe_ended(evidence.passed());
                (evidence, transition)
            }
            () = nudge.told.notified() => {
                let says = nudge.says.lock().unwrap_or_else(PoisonError::into_inner).take();
                let Some((verdict, got)) = says else { continue };
                let Some(transition) = machine.on_traffic(verdict, now()) else { continue };
                let tried = format!("traffic to {}", target.address);
                let evidence =
                    Evidence { at: wall(), tried, step: Step::Answer, cause: None, got, took_us: 0, steps: Vec::new() };
                (evidence, Some(transition))
            }
        };
        let report = Report {
            server: target.server.clone(),
            address: target.address,
            state: machine.state(),
            transition,
            evidence,
            failures_to_down: machine.failures_to_down(),
            passes_to_up: machine.passes_to_up(),
            next_in: machine.next_timeout().since(now()),
        };
        if reports.send(report).await.is_err() {
            return;
        }
    }
}

/// Makes all checks of a server at once. What failed is told; when all that is needed passed, what the first one saw.
async fn probe_all(target: &Target, surroundings: &Surroundings) -> Evidence {
    let ask = |check: &Arc<Check>| {
        let check = Arc::clone(check);
        async move { probe(target.address, &check, target.proxy_protocol, surroundings).await }
    };
    let mut all = futures_util::future::join_all(target.checks.iter().map(ask)).await.into_iter();
    let first = all.next().expect("a target has a check");
    let decides = |evidence: &Evidence| match target.needed {
        ChecksNeeded::All => !evidence.passed(),
        ChecksNeeded::Any => evidence.passed(),
    };
    if decides(&first) { first } else { all.find(|evidence| decides(evidence)).unwrap_or(first) }
}

/// Runs a check once against a server's address, which may want to see a PROXY protocol header first.
pub async fn probe(
    address: SocketAddr,
    check: &Check,
    proxy_protocol: Option<ProxyVersion>,
    surroundings: &Surroundings,
) -> Evidence {
    let (at, began) = (wall(), Instant::now());
    let asking = Asking { address: check.elsewhere.of(address), check, proxy_protocol, surroundings };
    let (tried, asked, steps) = asking.ask().await;
    let took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
    let (step, cause, got) = match asked {
        Ok(got) => (Step::Done, None, got),
        Err(Failed { step, cause, got }) => (step, cause, got),
    };
    Evidence { at, tried, step, cause, got, took_us, steps }
}
