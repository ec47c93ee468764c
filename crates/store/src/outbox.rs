//! The outbox: records that must not make anybody wait go through a bounded queue.

use std::collections::{BTreeMap, VecDeque};
use std::io;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use merismos_core::duty::DutyOrder;
use merismos_core::name::PoolServer;
use tokio::sync::Notify;

use crate::plans::{PlanKind, StoredPlan};
use crate::waiting_events::WaitingEvents;
use crate::{Store, StoreError, StoredEvent, StoredMessage, StoredTrial};

/// How many events are written in one step.
const BATCH: usize = 200;
/// How long a step may take before what waits is kept in the file.
const KEPT_AFTER: Duration = Duration::from_secs(1);
/// How long after a failure the database is tried again.
const RETRY_AFTER: Duration = Duration::from_secs(1);

/// What the outbox holds right now.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Backlog {
    /// How many records wait to be written.
    pub waiting: u64,
    /// Records that were dropped because too many waited.
    pub dropped: u64,
    /// Records that the database refused for what they are; they are set aside.
    pub refused: u64,
    /// What it said of the last one, and which one that was.
    pub refused_why: Option<String>,
    /// Why the last try failed; `None` while the database takes records.
    pub why: Option<String>,
}

#[derive(Debug, Default)]
struct OutboxQueue {
    events: VecDeque<StoredEvent>,
    /// Only the newest order for each server matters, so these are bounded by the number of servers.
    duties: BTreeMap<PoolServer, DutyOrder>,
    /// Only the newest state of each plan matters.
    plans: BTreeMap<(PlanKind, String), StoredPlan>,
    trials: VecDeque<StoredTrial>,
    /// Only what is last known of each message matters.
    messages: BTreeMap<u64, StoredMessage>,
    dropped: u64,
    refused: u64,
    refused_why: Option<String>,
    why: Option<String>,
}

/// A queue of records on their way to the database.
#[derive(Clone, Debug)]
pub struct Outbox {
    limit: usize,
    /// A lock held for a push or a look, never across a wait.
    queue: Arc<Mutex<OutboxQueue>>,
    wake: Arc<Notify>,
    /// Where events wait while the database is away; held for a write by those who may block.
    file: Option<Arc<Mutex<WaitingEvents>>>,
}

impl Outbox {
    /// An outbox for at most `limit` events; when it is full the oldest is dropped and counted. While the database is away, events
    /// are kept in `file`, so that they outlive a crash: what is in it already waits from now on. A file that can't be read is left as
    /// it is, and nothing is kept.
    #[must_use]
    pub fn new(limit: usize, file: Option<PathBuf>) -> Self {
        let mut queue = OutboxQueue::default();
        let file = file.and_then(|path| {
            let opened = WaitingEvents::open(path.clone());
            if let Err(error) = &opened {
                tracing::error!(%error, path = %path.display(), "the events that wait for the database can't be read");
            }
            let (file, events) = opened.ok()?;
            queue.events.extend(events);
            Some(Arc::new(Mutex::new(file)))
        });
        Self { limit: limit.max(1), queue: Arc::new(Mutex::new(queue)), wake: Arc::default(), file }
    }

    fn queue(&self) -> MutexGuard<'_, OutboxQueue> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds an event; the oldest one is dropped and counted when there is no room.
    pub fn add_event(&self, event: StoredEvent) {
        let mut queue = self.queue();
        if queue.events.len() >= self.limit {
            queue.events.pop_front();
            queue.dropped += 1;
        }
        queue.events.push_back(event);
        drop(queue);
        self.wake.notify_one();
    }

    /// Adds an order; of several for one server the newest is kept.
    pub fn add_duty(&self, server: PoolServer, order: DutyOrder) {
        let mut queue = self.queue();
        let is_newer = queue.duties.get(&server).is_none_or(|waiting| waiting.number <= order.number);
        if is_newer {
            queue.duties.insert(server, order);
        }
        drop(queue);
        self.wake.notify_one();
    }

    /// Adds the state of a plan; of several of one plan the newest is kept.
    pub fn add_plan(&self, plan: StoredPlan) {
        let mut queue = self.queue();
        let key = plan.key();
        if queue.plans.get(&key).is_none_or(|waiting| waiting.number <= plan.number) {
            queue.plans.insert(key, plan);
        }
        drop(queue);
        self.wake.notify_one();
    }

    /// Adds a trial; a later state of the same trial takes its place.
    pub fn add_trial(&self, trial: StoredTrial) {
        let mut queue = self.queue();
        if queue.trials.len() >= self.limit {
            queue.trials.pop_front();
            queue.dropped += 1;
        }
        queue.trials.push_back(trial);
        drop(queue);
        self.wake.notify_one();
    }

    /// Adds what is known of a message now.
    pub fn add_message(&self, message: StoredMessage) {
        let mut queue = self.queue();
        queue.messages.insert(message.id, message);
        if queue.messages.len() > self.limit {
            queue.messages.pop_first();
            queue.dropped += 1;
        }
        drop(queue);
        self.wake.notify_one();
    }

    /// How much waits, and how much had to be dropped.
    #[must_use]
    pub fn backlog(&self) -> Backlog {
        let queue = self.queue();
        let orders = queue.duties.len() + queue.plans.len();
        let waiting = queue.events.len() + orders + queue.trials.len() + queue.messages.len();
        Backlog {
            waiting: waiting as u64,
            dropped: queue.dropped,
            refused: queue.refused,
            refused_why: queue.refused_why.clone(),
            why: queue.why.clone(),
        }
    }

    /// Whether the database took records when it was last tried.
    #[must_use]
    pub fn is_flowing(&self) -> bool {
        self.queue().why.is_none()
    }

    /// Empties the outbox into the store for ever. `changed` is called when the database goes away and comes back.
    pub async fn run(self, store: Store, mut changed: impl FnMut(Option<&StoreError>)) {
        loop {
            match self.write_or_keep(&store).await {
                Ok(true) => self.flows(None, &mut changed),
                Ok(false) => {
                    self.flows(None, &mut changed);
                    self.with_waiting(|file, _| file.clear()).await;
                    self.wake.notified().await;
                }
                Err(error) => {
                    self.flows(Some(&error), &mut changed);
                    self.keep_waiting().await;
                    let mut rest = std::pin::pin!(tokio::time::sleep(RETRY_AFTER));
                    loop {
                        tokio::select! {
                            () = &mut rest => break,
                            () = self.wake.notified() => self.keep_waiting().await,
                        }
                    }
                }
            }
        }
    }

    /// As [`Self::write_some`]; while the database takes long, what waits is kept.
    async fn write_or_keep(&self, store: &Store) -> Result<bool, StoreError> {
        let mut writing = std::pin::pin!(self.write_some(store));
        loop {
            tokio::select! {
                written = &mut writing => return written,
                () = self.wake.notified(), if !self.is_flowing() => self.keep_waiting().await,
                () = tokio::time::sleep(KEPT_AFTER) => self.keep_waiting().await,
            }
        }
    }

    /// Keeps the events that wait in the file.
    pub async fn keep_waiting(&self) {
        self.with_waiting(WaitingEvents::keep).await;
    }

    /// Does something to the file of waiting events with those that wait now.
    async fn with_waiting(
        &self,
        act: impl FnOnce(&mut WaitingEvents, &[StoredEvent]) -> io::Result<()> + Send + 'static,
    ) {
        let Some(file) = self.file.clone() else { return };
        let waiting: Vec<StoredEvent> = self.queue().events.iter().cloned().collect();
        let acted = tokio::task::spawn_blocking(move || {
            let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
            act(&mut file, &waiting)
        });
        if let Ok(Err(error)) = acted.await {
            // The events are in the log as well, and wait in memory.
            tracing::warn!(%error, "events that wait for the database can't be kept on the disk");
        }
    }

    /// Tries to write what is there, once, until it is empty or the database fails. For the end of the service.
    ///
    /// # Errors
    /// When the database fails.
    pub async fn flush(&self, store: &Store) -> Result<(), StoreError> {
        while self.write_some(store).await? {}
        Ok(())
    }

    fn flows(&self, error: Option<&StoreError>, changed: &mut impl FnMut(Option<&StoreError>)) {
        let why = error.map(ToString::to_string);
        let mut queue = self.queue();
        let turned = queue.why.is_some() != why.is_some();
        queue.why = why;
        drop(queue);
        if turned {
            changed(error);
        }
    }

    /// Writes the next records; `false` when there were none. What was not written stays.
    async fn write_some(&self, store: &Store) -> Result<bool, StoreError> {
        let (duty, plan, events, trial, messages) = {
            let queue = self.queue();
            let duty = queue.duties.first_key_value().map(|(server, order)| (server.clone(), order.clone()));
            let plan = queue.plans.first_key_value().map(|(_, plan)| plan.clone());
            let events: Vec<_> = queue.events.iter().take(BATCH).cloned().collect();
            let messages: Vec<_> = queue.messages.values().take(BATCH).cloned().collect();
            (duty, plan, events, queue.trials.front().cloned(), messages)
        };
        if let Some((server, order)) = duty {
            let written = store.put_duty(&server, &order).await;
            self.or_set_aside(written, || format!("the order {} for {server}", order.duty))?;
            let mut queue = self.queue();
            if queue.duties.get(&server) == Some(&order) {
                queue.duties.remove(&server);
            }
            return Ok(true);
        }
        if let Some(plan) = plan {
            let written = store.put_plan(&plan).await;
            self.or_set_aside(written, || format!("{} {}", plan.kind.word(), plan.name))?;
            let mut queue = self.queue();
            if queue.plans.get(&plan.key()) == Some(&plan) {
                queue.plans.remove(&plan.key());
            }
            return Ok(true);
        }
        if let Some(last) = events.last().map(|event| event.id) {
            match store.add_events(&events).await {
                // One bad event must not take the others with it.
                Err(StoreError::Refused(_)) if events.len() > 1 => {
                    for event in &events {
                        let written = store.add_events(std::slice::from_ref(event)).await;
                        self.or_set_aside(written, || format!("an event of {}", event.subject))?;
                    }
                }
                written => self.or_set_aside(written, || format!("an event of {}", events[0].subject))?,
            }
            self.queue().events.retain(|event| event.id > last);
            return Ok(true);
        }
        if let Some(trial) = trial {
            let written = store.put_trial(&trial).await;
            self.or_set_aside(written, || format!("trial {}", trial.id))?;
            self.queue().trials.retain(|waiting| waiting.id != trial.id);
            return Ok(true);
        }
        if !messages.is_empty() {
            match store.put_messages(&messages).await {
                Err(StoreError::Refused(_)) if messages.len() > 1 => {
                    for message in &messages {
                        let written = store.put_messages(std::slice::from_ref(message)).await;
                        self.or_set_aside(written, || format!("a message of {}", message.name))?;
                    }
                }
                written => self.or_set_aside(written, || format!("a message of {}", messages[0].name))?,
            }
            let mut queue = self.queue();
            // What changed meanwhile is written once more.
            queue
                .messages
                .retain(|id, now| messages.iter().all(|message| message.id != *id || message != now));
            return Ok(true);
        }
        Ok(false)
    }

    /// Counts a record that the database refuses for what it is, and goes on with the next. It is in the log whole, so that it is
    /// not lost.
    fn or_set_aside(
        &self,
        written: Result<(), StoreError>,
        what: impl FnOnce() -> String,
    ) -> Result<(), StoreError> {
        let Err(StoreError::Refused(error)) = written else { return written };
        let what = what();
        tracing::error!(%error, %what, "the database refused a record; it was set aside");
        let mut queue = self.queue();
        queue.refused += 1;
        queue.refused_why = Some(format!("{what}: {error}"));
        Ok(())
    }
}
