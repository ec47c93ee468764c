//! Probing: a shell around [`HealthMachine`] that waits, probes and reports.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use merismos_core::config::document::{CheckSpec, ChecksNeeded, PassiveAction};
use merismos_core::health::{
    CompletedStep, Evidence, HealthMachine, HealthRules, HealthState, HealthTransition, InitialHealth,
    ProbeStep,
};
use merismos_core::name::PoolServer;
use merismos_core::text::printable;
use merismos_core::time::{Tick, Wall};
use tokio::runtime::{Builder, Runtime};
use tokio::sync::{Notify, Semaphore, mpsc};
use tokio::task::JoinHandle;
use tokio::time::Instant;

use crate::http::KeptConnection;
use crate::run::{ProbeEnvironment, ProbeFailure, ProbeOpening, ProbeRun};

/// How many probes are under way at once when nothing else is said.
pub const AT_ONCE: usize = 4_096;

/// New servers are probed first within this time, spread evenly.
const FIRST_WITHIN: Duration = Duration::from_secs(1);
/// Of few servers each takes so much of that time at most.
const FIRST_FOR_EACH: Duration = Duration::from_millis(1);

/// A server to be probed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProbeTarget {
    /// The server that is probed.
    pub server: PoolServer,
    /// Address and port of its traffic.
    pub address: SocketAddr,
    /// Where it listens too.
    pub other_addresses: Vec<SocketAddr>,
    /// What to ask it; the first says how often.
    pub checks: Arc<[Arc<CheckSpec>]>,
    /// How many of them it has to pass.
    pub needed: ChecksNeeded,
    /// How connections to it begin.
    pub opening: Arc<ProbeOpening>,
}

/// What one probe said, and what the server's health is with it.
#[derive(Clone, Debug)]
pub struct ProbeReport {
    /// The server that was probed.
    pub server: PoolServer,
    /// Where it was probed: a report on an address that the server has no more is out of date.
    pub address: SocketAddr,
    /// Its health after the probe.
    pub state: HealthState,
    /// The change that this probe made.
    pub transition: Option<HealthTransition>,
    /// What was tried and what came back.
    pub evidence: Evidence,
    /// Failures in a row from now that would make it down.
    pub failures_to_down: Option<u32>,
    /// Passes in a row from now that would make it up.
    pub passes_to_up: Option<u32>,
    /// How long until its next probe starts.
    pub next_in: Duration,
    /// Whether it keeps changing.
    pub flapping: bool,
    /// How long it is still held down.
    pub held_for: Option<Duration>,
}

/// What traffic says of a server, on its way to its probes.
#[derive(Debug, Default)]
struct TrafficHint {
    hints: Notify,
    /// The next probe is due at once.
    due_now: Notify,
    says: Mutex<Option<(PassiveAction, String)>>,
}

/// What all probes share.
#[derive(Debug)]
struct ServerProber {
    reports: mpsc::Sender<ProbeReport>,
    surroundings: ProbeEnvironment,
    room: Semaphore,
    punctuality: Punctuality,
    /// Reports that change nothing, on their way: held for a push or a take only.
    quiet: Mutex<Vec<ProbeReport>>,
    /// One passes on at a time, so that reports stay in their order.
    sending: tokio::sync::Mutex<()>,
}

impl ServerProber {
    /// Passes a report on: at once when something changed, and else with those of the next moment, for each that goes
    /// alone wakes another thread. Gives whether anybody listens.
    async fn pass_on(&self, report: ProbeReport) -> bool {
        let changes = report.transition.is_some();
        self.quiet.lock().unwrap_or_else(PoisonError::into_inner).push(report);
        !changes || self.flush().await
    }

    async fn flush(&self) -> bool {
        let _alone = self.sending.lock().await;
        let reports = std::mem::take(&mut *self.quiet.lock().unwrap_or_else(PoisonError::into_inner));
        for report in reports {
            if self.reports.send(report).await.is_err() {
                return false;
            }
        }
        !self.reports.is_closed()
    }

    /// Passes on what is quiet, until the receiver is gone.
    async fn flush_for_ever(self: Arc<Self>) {
        let mut moments = tokio::time::interval(MOMENT);
        moments.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        while self.flush().await {
            moments.tick().await;
        }
    }
}

/// How long a report that changes nothing may wait for others.
const MOMENT: Duration = Duration::from_millis(50);

/// How punctual probes are: a prober that is late notices late.
#[derive(Debug, Default)]
struct Punctuality {
    started: AtomicU64,
    late: AtomicU64,
}

impl Punctuality {
    fn note(&self, due: Instant) {
        self.started.fetch_add(1, Relaxed);
        if due.elapsed() > LATE {
            self.late.fetch_add(1, Relaxed);
        }
    }
}

/// A probe that starts so much after its time is late.
pub(crate) const LATE: Duration = Duration::from_millis(5);

/// All running probes, on a thread of their own. Dropping it ends them.
#[derive(Debug)]
pub struct Prober {
    shell: Arc<ServerProber>,
    thread: Option<Runtime>,
    running: BTreeMap<PoolServer, (ProbeTarget, JoinHandle<()>, Arc<TrafficHint>)>,
}

impl Prober {
    /// Probes nothing yet; reports go to `reports`. At most `at_once` probes are under way at once; one more waits.
    ///
    /// # Errors
    /// The system has no more threads or descriptors.
    pub fn new(
        reports: mpsc::Sender<ProbeReport>,
        surroundings: ProbeEnvironment,
        at_once: usize,
    ) -> std::io::Result<Self> {
        let thread =
            Builder::new_multi_thread().worker_threads(1).thread_name("probes").enable_all().build()?;
        let room = Semaphore::new(at_once.min(Semaphore::MAX_PERMITS));
        let (punctuality, quiet) = (Punctuality::default(), Mutex::default());
        let sending = tokio::sync::Mutex::default();
        let shell = Arc::new(ServerProber { reports, surroundings, room, punctuality, quiet, sending });
        thread.spawn(Arc::clone(&shell).flush_for_ever());
        Ok(Self { shell, thread: Some(thread), running: BTreeMap::new() })
    }

    /// How many probes were started, and how many of them more than [`LATE`] after their time.
    #[must_use]
    pub fn started(&self) -> (u64, u64) {
        let Punctuality { started, late } = &self.shell.punctuality;
        (started.load(Relaxed), late.load(Relaxed))
    }

    /// Probes these servers and no others from now on. A server that was probed the same way before keeps its
    /// pace; for any other one `known` says the health to start from.
    pub fn set(&mut self, targets: Vec<ProbeTarget>, known: impl Fn(&ProbeTarget) -> InitialHealth) {
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
                    let (known, shell) = (known(&target), Arc::clone(&self.shell));
                    let nudge = Arc::new(TrafficHint::default());
                    let watched = watch(target.clone(), known, first_within, shell, Arc::clone(&nudge));
                    let thread = self.thread.as_ref().expect("it is there until the end");
                    (thread.spawn(watched), nudge)
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
    /// Makes the next probe of a server due at once. While one is under way, another one follows it.
    pub fn probe_now(&self, server: &PoolServer) {
        if let Some((_, _, nudge)) = self.running.get(server) {
            nudge.due_now.notify_one();
        }
    }

    /// Tells the probes of a server what traffic says of it, and why.
    pub fn tell(&self, server: &PoolServer, verdict: PassiveAction, why: String) {
        if let Some((_, _, nudge)) = self.running.get(server) {
            *nudge.says.lock().unwrap_or_else(PoisonError::into_inner) = Some((verdict, why));
            nudge.hints.notify_one();
        }
    }
}

impl Drop for Prober {
    fn drop(&mut self) {
        self.running.values().for_each(|(_, task, _)| task.abort());
        // It may be dropped by a task, which must not wait for threads.
        if let Some(thread) = self.thread.take() {
            thread.shutdown_background();
        }
    }
}

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
    target: ProbeTarget,
    known: InitialHealth,
    first_within: Duration,
    shell: Arc<ServerProber>,
    nudge: Arc<TrafficHint>,
) {
    let Some(pace) = target.checks.first() else { return };
    let kept: Vec<KeptConnection> = target.checks.iter().map(|_| KeptConnection::default()).collect();
    let start = Instant::now();
    let now = || Tick(u64::try_from(start.elapsed().as_nanos()).unwrap_or(u64::MAX));
    let mut machine =
        HealthMachine::new(HealthRules::from(&**pace), known, seed(&target.server), now(), first_within);
    let begun = AtomicBool::new(false);
    loop {
        begun.store(false, Relaxed);
        let due = start + Duration::from_nanos(machine.next_timeout().0);
        let mut probe = std::pin::pin!(async {
            let due = tokio::select! {
                () = tokio::time::sleep_until(due) => due,
                () = nudge.due_now.notified() => Instant::now(),
            };
            // Probes of many servers that do not answer must not use up all descriptors.
            let _room = shell.room.acquire().await;
            begun.store(true, Relaxed);
            shell.punctuality.note(due);
            probe_all(&target, &kept, &shell.surroundings).await
        });
        let mut is_noted = false;
        let (evidence, transition) = loop {
            let ended = std::future::poll_fn(|context| {
                let ended = probe.as_mut().poll(context);
                // The machine counts its pace from here.
                if begun.load(Relaxed) && !is_noted {
                    is_noted = true;
                    machine.on_probe_started(now());
                }
                ended
            });
            tokio::select! {
                evidence = ended => {
                    // One that could not be made says nothing of the server.
                    let counts = evidence.counts();
                    let transition = counts.then(|| machine.on_probe_ended(evidence.passed(), now())).flatten();
                    break (evidence, transition);
                }
                () = nudge.hints.notified() => {
                    let says = nudge.says.lock().unwrap_or_else(PoisonError::into_inner).take();
                    let Some((verdict, observed)) = says else { continue };
                    // A probe that began before says nothing of a server that traffic speaks against since: it is given up.
                    let Some(transition) = machine.on_traffic(verdict, now()) else { continue };
                    let tried = format!("traffic to {}", target.address);
                    let (at, step, steps) = (wall(), ProbeStep::Answer, Vec::new());
                    let evidence = Evidence { at, tried, step, cause: None, observed, took_us: 0, steps, status: None, feedback: None };
                    break (evidence, Some(transition));
                }
            }
        };
        let report = ProbeReport {
            server: target.server.clone(),
            address: target.address,
            state: machine.state(),
            transition,
            evidence,
            failures_to_down: machine.failures_to_down(),
            passes_to_up: machine.passes_to_up(),
            next_in: machine.next_timeout().since(now()),
            flapping: machine.is_flapping(now()),
            held_for: machine.held_for(now()),
        };
        if !shell.pass_on(report).await {
            return;
        }
    }
}

/// Makes all checks of a server at once. The failed one is reported; when all that is needed passed, what the first one saw.
async fn probe_all(
    target: &ProbeTarget,
    kept: &[KeptConnection],
    surroundings: &ProbeEnvironment,
) -> Evidence {
    let addresses: Arc<[SocketAddr]> =
        std::iter::once(target.address).chain(target.other_addresses.iter().copied()).collect();
    let ask = |(check, kept): (&Arc<CheckSpec>, &'_ KeptConnection)| {
        let (check, kept, addresses) = (Arc::clone(check), kept.clone(), Arc::clone(&addresses));
        async move { probe_with(&addresses, &check, &target.opening, surroundings, &kept).await }
    };
    let all = futures_util::future::join_all(target.checks.iter().zip(kept).map(ask)).await;
    let feedback = all.iter().find_map(|evidence| evidence.feedback);
    let mut all = all.into_iter();
    let first = Evidence { feedback, ..all.next().expect("a target has a check") };
    let decides = |evidence: &Evidence| match target.needed {
        ChecksNeeded::All => !evidence.passed(),
        ChecksNeeded::Any => evidence.passed(),
    };
    if decides(&first) { first } else { all.find(|evidence| decides(evidence)).unwrap_or(first) }
}

/// Runs a check once against a server, with connections that begin as its pool's. Of several addresses the one
/// that answers first is asked, where the check makes a connection of its own; else the first.
///
/// # Panics
/// Without an address.
pub async fn probe(
    addresses: &[SocketAddr],
    check: &CheckSpec,
    opening: &ProbeOpening,
    surroundings: &ProbeEnvironment,
) -> Evidence {
    probe_with(addresses, check, opening, surroundings, &KeptConnection::default()).await
}

async fn probe_with(
    addresses: &[SocketAddr],
    check: &CheckSpec,
    opening: &ProbeOpening,
    surroundings: &ProbeEnvironment,
    kept: &KeptConnection,
) -> Evidence {
    let (at, began) = (wall(), Instant::now());
    let mut addresses: Vec<_> = addresses.iter().map(|address| check.elsewhere.of(*address)).collect();
    addresses.dedup();
    let asking = ProbeRun { address: addresses[0], addresses, check, opening, surroundings, kept };
    let (tried, asked, trace) = asking.ask().await;
    let took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
    let (step, cause, got) = match asked {
        Ok(got) => (ProbeStep::Done, None, got),
        Err(ProbeFailure { step, cause, got }) => (step, cause, got),
    };
    // What servers say is shown to people in many places, and cleaned in this one.
    let clean = |text: String| printable(&text).into_owned();
    let steps = trace
        .taken
        .into_iter()
        .map(|taken| CompletedStep { observed: clean(taken.observed), ..taken })
        .collect();
    Evidence {
        at,
        tried: clean(tried),
        step,
        cause,
        observed: clean(got),
        took_us,
        steps,
        status: trace.status,
        feedback: trace.feedback,
    }
}
