//! Trials: real requests through a frontend, joined with what the plane's witness saw, counted and judged.

use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use merismos_api::{EventKind, Happening, StreamMessage, Trial, TrialRequest, TrialState};
use merismos_core::name::{Name, NameError, PoolServer};
use merismos_core::proof::{Outcome, Sample, Verdict, tally};
use merismos_core::routing::Snapshot;
use merismos_core::time::Tick;
use merismos_load::{Plan, Seen, Shot};
use merismos_plane::witness::{MARK, Sighting};
use merismos_store::{Store, StoreError, StoredTrial};
use serde_json::json;
use tokio::sync::broadcast;
use tokio::sync::broadcast::error::TryRecvError;

use crate::clock::wall;
use crate::controller::{Controller, Ground, Stopping, WatchError};
use crate::journal::Journal;

/// How many trials may run at the same time.
const MOST_RUNNING: usize = 4;
/// How many trials that are over the service remembers itself, for when the database is away.
const REMEMBERED: usize = 20;
/// How often watchers are told how far a trial is.
const PROGRESS_EVERY: Duration = Duration::from_millis(200);
/// How long one request may take.
const REQUEST_LIMIT: Duration = Duration::from_secs(60);
/// How long the last sightings may take after the last answer.
const LAST_SIGHTINGS: Duration = Duration::from_secs(2);
const MOST_REQUESTS: u32 = 1_000_000;
const MOST_CONNECTIONS: u32 = 256;

/// Why a trial does not begin.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TrialError {
    #[error(
        "a trial sends 1 to {MOST_REQUESTS} requests over 1 to {MOST_CONNECTIONS} connections, for a path that begins with a slash"
    )]
    Request,
    #[error(transparent)]
    Name(#[from] NameError),
    #[error(transparent)]
    Watch(#[from] WatchError),
    #[error("{MOST_RUNNING} trials are running already: wait until one is over")]
    TooMany,
    #[error(transparent)]
    Stopping(#[from] Stopping),
}

/// All trials, running and over.
#[derive(Clone)]
pub(crate) struct Trials {
    controller: Controller,
    journal: Journal,
    store: Store,
    load: tokio::runtime::Handle,
    /// Running ones and the last that are over. Held for a look or a change, never across a wait.
    known: Arc<Mutex<BTreeMap<u64, Trial>>>,
}

impl Trials {
    pub(crate) fn new(
        controller: Controller,
        journal: Journal,
        store: Store,
        load: tokio::runtime::Handle,
    ) -> Self {
        Self { controller, journal, store, load, known: Arc::default() }
    }

    fn with<T>(&self, act: impl FnOnce(&mut BTreeMap<u64, Trial>) -> T) -> T {
        act(&mut self.known.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Begins a trial.
    pub(crate) async fn begin(&self, request: TrialRequest, who: String) -> Result<Trial, TrialError> {
        let path_is_good =
            request.path.starts_with('/') && request.path.bytes().all(|byte| byte.is_ascii_graphic());
        let counts_are_good = (1..=MOST_REQUESTS).contains(&request.requests)
            && (1..=MOST_CONNECTIONS).contains(&request.concurrency);
        if !path_is_good || !counts_are_good || request.per_second == Some(0) {
            return Err(TrialError::Request);
        }
        let frontend: Name = request.frontend.parse()?;
        let ground = self.controller.watch(frontend, request.requests as usize).await??;
        let trial = Trial {
            id: self.journal.number(),
            who,
            at: wall(),
            request,
            state: TrialState::Running,
            ended: 0,
            took_ms: 0,
            tally: None,
            happened: Vec::new(),
        };
        self.with(|known| {
            if known.values().filter(|it| it.state == TrialState::Running).count() >= MOST_RUNNING {
                return Err(TrialError::TooMany);
            }
            known.insert(trial.id, trial.clone());
            Ok(())
        })?;
        tokio::spawn(self.clone().conduct(trial.clone(), ground));
        Ok(trial)
    }

    /// The newest trials, running ones included, and whether the database answered.
    pub(crate) async fn list(&self, limit: u32) -> Vec<Trial> {
        let mut trials = match self.store.trials(limit).await {
            Ok(stored) => stored
                .into_iter()
                .filter_map(|it| Some((it.id, serde_json::from_value(it.trial).ok()?)))
                .collect(),
            Err(error) => {
                tracing::debug!(%error, "trials are listed from memory");
                BTreeMap::new()
            }
        };
        trials.extend(self.with(|known| known.clone()));
        trials.into_values().rev().take(limit as usize).collect()
    }

    /// One trial.
    pub(crate) async fn get(&self, id: u64) -> Result<Option<Trial>, StoreError> {
        if let Some(trial) = self.with(|known| known.get(&id).cloned()) {
            return Ok(Some(trial));
        }
        let stored = self.store.trial(id).await?;
        Ok(stored.and_then(|it| serde_json::from_value(it.trial).ok()))
    }

    async fn conduct(self, mut trial: Trial, ground: Ground) {
        let began = Instant::now();
        let Ground { address, frontend, pools, unjudged, mut sightings, snapshot, published } = ground;
        let mut facts = self.journal.watch();
        let plan = Plan {
            address,
            path: trial.request.path.clone(),
            requests: u64::from(trial.request.requests),
            concurrency: trial.request.concurrency,
            per_second: trial.request.per_second,
            timeout: REQUEST_LIMIT,
            mark: Some((MARK, format!("{}-", sightings.number))),
        };
        let ended = Arc::new(AtomicU64::new(0));
        let counter = Arc::clone(&ended);
        let mut shots = self.load.spawn(merismos_load::run(plan, move |_| {
            counter.fetch_add(1, Ordering::Relaxed);
        }));
        let mut seen = BTreeMap::new();
        let mut progress = tokio::time::interval(PROGRESS_EVERY);
        let mut versions = Versions::new(&frontend, &snapshot, published);
        let shots = loop {
            tokio::select! {
                shots = &mut shots => break shots.unwrap_or_default(),
                Some(sighting) = sightings.receiver.recv() => drop(seen.insert(sighting.number, sighting)),
                _ = progress.tick() => {
                    versions.catch_up();
                    collect(&mut trial.happened, &mut facts, &pools, trial.at);
                    trial.ended = ended.load(Ordering::Relaxed);
                    trial.took_ms = began.elapsed().as_millis() as u64;
                    self.tell(&trial);
                }
            }
        };
        trial.took_ms = began.elapsed().as_millis() as u64;
        trial.ended = shots.len() as u64;
        // An answer is with the client a moment before the plane tells of it.
        let answered = shots.iter().filter(|shot| matches!(shot.seen, Seen::Answer(_))).count();
        let end = tokio::time::Instant::now() + LAST_SIGHTINGS;
        while seen.len() < answered {
            match tokio::time::timeout_at(end, sightings.receiver.recv()).await {
                Ok(Some(sighting)) => drop(seen.insert(sighting.number, sighting)),
                Ok(None) | Err(_) => break,
            }
        }
        if sightings.missed() > 0 {
            tracing::warn!(missed = sightings.missed(), "a trial missed sightings");
        }
        versions.catch_up();
        collect(&mut trial.happened, &mut facts, &pools, trial.at);
        let samples: Vec<_> =
            shots.iter().map(|shot| sample(shot, seen.remove(&shot.number), snapshot.version)).collect();
        trial.tally = Some(tally(&samples, &versions.shares, unjudged.as_deref()));
        trial.state = TrialState::Done;
        self.finish(trial);
    }

    fn tell(&self, trial: &Trial) {
        self.with(|known| known.insert(trial.id, trial.clone()));
        self.journal.tell(StreamMessage::Trial(Box::new(trial.clone())));
    }

    fn finish(&self, trial: Trial) {
        let verdict = trial.tally.as_ref().map(|tally| tally.verdict);
        let words = match verdict {
            Some(Verdict::AsExpected) => "as expected",
            Some(Verdict::TooFew) => "too few requests to judge",
            Some(Verdict::NotAsExpected) | None => "not as expected",
        };
        let says = format!("trial of {} requests by {}: {words}", trial.request.requests, trial.who);
        self.journal.outbox().add_trial(StoredTrial { id: trial.id, trial: json!(trial) });
        self.tell(&trial);
        self.journal.write(EventKind::Trial, &trial.request.frontend, says, json!({ "trial": trial.id }));
        self.with(|known| {
            let over = known.values().filter(|it| it.state == TrialState::Done).map(|it| it.id);
            let over: Vec<_> = over.collect();
            for id in over.iter().take(over.len().saturating_sub(REMEMBERED)) {
                known.remove(id);
            }
        });
    }
}

/// The expected shares in each version of the snapshot while a trial runs.
struct Versions {
    frontend: Name,
    published: broadcast::Receiver<Arc<Snapshot>>,
    shares: BTreeMap<u64, Vec<(PoolServer, f64)>>,
}

impl Versions {
    fn new(frontend: &Name, first: &Snapshot, published: broadcast::Receiver<Arc<Snapshot>>) -> Self {
        let mut versions = Self { frontend: frontend.clone(), published, shares: BTreeMap::new() };
        versions.note(first);
        versions
    }

    fn note(&mut self, snapshot: &Snapshot) {
        // A trial's clients come from this machine.
        let frontend = snapshot.frontend_named(&self.frontend);
        let shares = frontend.map(|it| it.expected(Ipv4Addr::LOCALHOST.into(), Tick(0))).unwrap_or_default();
        self.shares.insert(snapshot.version, shares);
    }

    fn catch_up(&mut self) {
        loop {
            match self.published.try_recv() {
                Ok(snapshot) => self.note(&snapshot),
                Err(TryRecvError::Lagged(_)) => {}
                Err(TryRecvError::Empty | TryRecvError::Closed) => return,
            }
        }
    }
}

/// Takes over what happened to the pool since the last call.
fn collect(
    happened: &mut Vec<Happening>,
    facts: &mut broadcast::Receiver<StreamMessage>,
    pools: &[Name],
    began: merismos_core::time::Wall,
) {
    loop {
        let event = match facts.try_recv() {
            Ok(StreamMessage::Event(event)) => event,
            Ok(StreamMessage::Status(_) | StreamMessage::Trial(_)) | Err(TryRecvError::Lagged(_)) => continue,
            Err(TryRecvError::Empty | TryRecvError::Closed) => return,
        };
        let concerns = match event.kind {
            EventKind::Health | EventKind::Duty | EventKind::Lookup => {
                pools.iter().any(|pool| event.subject.starts_with(&format!("{pool}/")))
            }
            EventKind::Tier => pools.iter().any(|pool| event.subject == pool.as_str()),
            EventKind::Revision => true,
            EventKind::Node | EventKind::Trial | EventKind::Draft | EventKind::Message => false,
        };
        if concerns {
            let after_ms = event.at.since(began).as_millis() as u64;
            happened.push(Happening { after_ms, subject: event.subject, says: event.says });
        }
    }
}

/// Joins what a client saw with what the witness saw.
fn sample(shot: &Shot, sighting: Option<Sighting>, first_version: u64) -> Sample {
    let (server, failed_at, version) = match sighting {
        Some(sighting) => (sighting.server, sighting.failed_at, sighting.version),
        None => (None, Vec::new(), first_version),
    };
    Sample {
        server,
        failed_at,
        outcome: match shot.seen {
            Seen::Answer(status) => Outcome::Answered(status),
            Seen::Broken | Seen::Late => Outcome::Broken,
        },
        latency_us: u64::try_from(shot.took.as_micros()).unwrap_or(u64::MAX),
        expectation: Some(version),
    }
}
