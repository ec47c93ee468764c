//! Trials: real requests, connections or datagrams through a frontend, joined with what the plane's witness saw, counted
//! and judged.

mod expected;
mod order;

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use merismos_api::{EventKind, Trial, TrialHappening, TrialRequest, TrialState};
use merismos_core::name::{Name, NameError, PoolServer};
use merismos_core::proof::{TrialVerdict, tally};
use merismos_load::LoadPlan;
use merismos_store::{Store, StoreError, StoredTrial};
use serde_json::json;
use tokio::sync::broadcast;
use tokio::sync::broadcast::error::TryRecvError;

use self::expected::{FrontendVersions, TrialObservations, join, without_cookies};
pub(crate) use self::order::OrderError;
use crate::clock::wall;
use crate::controller::{Controller, Stopping, TrialTarget, UnknownFrontend};
use crate::journal::{Journal, StreamItem};

/// How many trials may run at the same time.
const MOST_RUNNING: usize = 4;
/// How many trials that are over the service remembers itself, for when the database is away.
const REMEMBERED: usize = 20;
/// How often the progress of a trial is published.
const PROGRESS_EVERY: Duration = Duration::from_millis(200);
/// How long the last sightings may take after the last answer.
const LAST_SIGHTINGS: Duration = Duration::from_secs(2);

/// Why a trial does not begin.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TrialError {
    #[error(transparent)]
    Order(#[from] OrderError),
    #[error(transparent)]
    Name(#[from] NameError),
    #[error(transparent)]
    NoFrontend(#[from] UnknownFrontend),
    #[error("{MOST_RUNNING} trials are running already: wait until one is over")]
    TooMany,
    #[error(transparent)]
    Stopping(#[from] Stopping),
}

/// All trials, running and over.
#[derive(Clone)]
pub(crate) struct TrialRunner {
    controller: Controller,
    journal: Journal,
    store: Store,
    load: tokio::runtime::Handle,
    /// Running ones and the last that are over. Held for a look or a change, never across a wait.
    known: Arc<Mutex<BTreeMap<u64, Trial>>>,
}

impl TrialRunner {
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

    pub(crate) async fn begin(&self, request: TrialRequest, who: String) -> Result<Trial, TrialError> {
        let from = order::check(&request)?;
        let frontend: Name = request.frontend.parse()?;
        let to = request.server.clone();
        let ground = self.controller.watch(frontend, from, to, request.requests as usize).await??;
        let plan = order::plan(&request, &ground)?;
        let way = Arc::clone(
            expected::routed(&ground.frontend, &plan, expected::client_address(&plan, 0))
                .unwrap_or(&ground.frontend),
        );
        let server = order::server(&way, &request)?;
        let trial = Trial {
            id: self.journal.number(),
            who,
            at: wall(),
            sends: order::sends(&ground.frontend, &request),
            request,
            state: TrialState::Running,
            ended: 0,
            took_ms: 0,
            tally: None,
            happened: Vec::new(),
        };
        self.with(|known| {
            if known.values().filter(|trial| trial.state == TrialState::Running).count() >= MOST_RUNNING {
                return Err(TrialError::TooMany);
            }
            known.insert(trial.id, trial.clone());
            Ok(())
        })?;
        tokio::spawn(self.clone().conduct(trial.clone(), plan, ground, server));
        Ok(trial)
    }

    /// The newest trials, running ones included, and whether the database answered.
    pub(crate) async fn list(&self, limit: u32) -> Vec<Trial> {
        let mut trials = match self.store.trials(limit).await {
            Ok(stored) => stored
                .into_iter()
                .filter_map(|trial| Some((trial.id, serde_json::from_value(trial.trial).ok()?)))
                .collect(),
            Err(error) => {
                tracing::debug!(%error, "trials are listed from memory");
                BTreeMap::new()
            }
        };
        trials.extend(self.with(|known| known.clone()));
        trials.into_values().rev().take(limit as usize).collect()
    }

    pub(crate) async fn get(&self, id: u64) -> Result<Option<Trial>, StoreError> {
        if let Some(trial) = self.with(|known| known.get(&id).cloned()) {
            return Ok(Some(trial));
        }
        let stored = self.store.trial(id).await?;
        Ok(stored.and_then(|trial| serde_json::from_value(trial.trial).ok()))
    }

    async fn conduct(
        self,
        mut trial: Trial,
        plan: LoadPlan,
        ground: TrialTarget,
        server: Option<PoolServer>,
    ) {
        let began = Instant::now();
        let TrialTarget { frontend, unjudged, mut sightings, snapshot, published, .. } = ground;
        let pools: Vec<Name> = frontend.all_pools().map(|pool| pool.name.clone()).collect();
        let name = frontend.name.clone();
        let mut facts = self.journal.watch();
        let ended = Arc::new(AtomicU64::new(0));
        let counter = Arc::clone(&ended);
        let mut shots = self.load.spawn(merismos_load::run(plan.clone(), move |_| {
            counter.fetch_add(1, Ordering::Relaxed);
        }));
        let mut seen = TrialObservations::default();
        let mut progress = tokio::time::interval(PROGRESS_EVERY);
        let mut versions = FrontendVersions::new(&frontend, snapshot.version, published);
        let shots = loop {
            tokio::select! {
                shots = &mut shots => break shots.unwrap_or_default(),
                Some(sighting) = sightings.receiver.recv() => seen.note(sighting),
                _ = progress.tick() => {
                    versions.catch_up();
                    collect(&mut trial.happened, &mut facts, name.as_str(), &pools, trial.at);
                    trial.ended = ended.load(Ordering::Relaxed);
                    trial.took_ms = began.elapsed().as_millis() as u64;
                    self.tell(&trial);
                }
            }
        };
        trial.took_ms = began.elapsed().as_millis() as u64;
        trial.ended = shots.len() as u64;
        // An answer is with the client a moment before the plane tells of it.
        let mut missing = seen.missing(&shots);
        let end = tokio::time::Instant::now() + LAST_SIGHTINGS;
        while !missing.is_empty() {
            match tokio::time::timeout_at(end, sightings.receiver.recv()).await {
                Ok(Some(sighting)) => {
                    missing.note(&sighting.of);
                    seen.note(sighting);
                }
                Ok(None) | Err(_) => break,
            }
        }
        if sightings.missed() > 0 {
            tracing::warn!(missed = sightings.missed(), "a trial missed sightings");
        }
        versions.catch_up();
        collect(&mut trial.happened, &mut facts, name.as_str(), &pools, trial.at);
        let joined = join(&plan, &shots, seen, &versions, trial.sends, server.as_ref());
        let mut counted = tally(&joined.samples, &joined.shares, trial.sends, unjudged.as_deref());
        counted.because.extend(without_cookies(&plan, &shots, &frontend));
        if let Some(server) = server.filter(|_| counted.verdict == TrialVerdict::AsExpected) {
            counted.because = vec![format!("every request was answered by {server}")];
        }
        trial.tally = Some(counted);
        trial.state = TrialState::Done;
        self.finish(trial);
    }

    fn tell(&self, trial: &Trial) {
        self.with(|known| known.insert(trial.id, trial.clone()));
        self.journal.tell_trial(trial);
    }

    fn finish(&self, trial: Trial) {
        let verdict = trial.tally.as_ref().map(|tally| tally.verdict);
        let words = match verdict {
            Some(TrialVerdict::AsExpected) => "as expected",
            Some(TrialVerdict::TooFew) => "too few to judge",
            Some(TrialVerdict::NotAsExpected) | None => "not as expected",
        };
        let says =
            format!("trial of {} {} by {}: {words}", trial.request.requests, trial.sends.many(), trial.who);
        self.journal.outbox().add_trial(StoredTrial { id: trial.id, trial: json!(trial) });
        self.tell(&trial);
        self.journal.write(EventKind::Trial, &trial.request.frontend, says, json!({ "trial": trial.id }));
        self.with(|known| {
            let over = known.values().filter(|trial| trial.state == TrialState::Done).map(|trial| trial.id);
            let over: Vec<_> = over.collect();
            for id in over.iter().take(over.len().saturating_sub(REMEMBERED)) {
                known.remove(id);
            }
        });
    }
}

/// Takes over what happened to the pool since the last call.
fn collect(
    happened: &mut Vec<TrialHappening>,
    facts: &mut broadcast::Receiver<StreamItem>,
    frontend: &str,
    pools: &[Name],
    began: merismos_core::time::Wall,
) {
    loop {
        let event = match facts.try_recv() {
            Ok(StreamItem { event: Some(event), .. }) => event,
            Ok(StreamItem { event: None, .. }) | Err(TryRecvError::Lagged(_)) => continue,
            Err(TryRecvError::Empty | TryRecvError::Closed) => return,
        };
        let concerns = match event.kind {
            EventKind::Health | EventKind::Duty | EventKind::Lookup => {
                pools.iter().any(|pool| event.subject.starts_with(&format!("{pool}/")))
            }
            EventKind::Tier => pools.iter().any(|pool| event.subject == pool.as_str()),
            EventKind::Revision => true,
            EventKind::Traffic => event.subject == format!("frontend {frontend}"),
            EventKind::Node
            | EventKind::Trial
            | EventKind::Draft
            | EventKind::Notification
            | EventKind::Token
            | EventKind::Window
            | EventKind::Certificate
            | EventKind::Roll => false,
        };
        if concerns {
            let after_ms = event.at.since(began).as_millis() as u64;
            happened.push(TrialHappening {
                after_ms,
                subject: event.subject.clone(),
                message: event.message.clone(),
            });
        }
    }
}
