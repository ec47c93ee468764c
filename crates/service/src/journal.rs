//! The journal: facts go to the log, to the database by way of the outbox, and to whoever watches.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use merismos_api::{Event, EventKind, StreamMessage};
use merismos_store::StoredEvent;
use merismos_store::outbox::Outbox;
use serde_json::Value;
use tokio::sync::broadcast;

use crate::clock::{Numbers, wall};

/// How many events the service remembers itself, for when the database is away.
const REMEMBERED: usize = 500;
/// How many messages a watcher may be behind before it misses some.
const STREAM: usize = 1_024;

/// Where facts are written.
#[derive(Clone, Debug)]
pub(crate) struct Journal {
    numbers: Arc<Numbers>,
    outbox: Outbox,
    stream: broadcast::Sender<StreamMessage>,
    /// Held for a push or a copy only.
    recent: Arc<Mutex<VecDeque<Event>>>,
}

impl Journal {
    pub(crate) fn new(outbox: Outbox) -> Self {
        let (stream, _) = broadcast::channel(STREAM);
        Self { numbers: Arc::default(), outbox, stream, recent: Arc::default() }
    }

    /// Writes a fact.
    pub(crate) fn write(
        &self,
        kind: EventKind,
        subject: impl Into<String>,
        says: impl Into<String>,
        detail: Value,
    ) {
        let event = Event {
            id: self.numbers.next(),
            at: wall(),
            kind,
            subject: subject.into(),
            says: says.into(),
            detail,
        };
        tracing::info!(kind = kind_word(kind), subject = %event.subject, "{}", event.says);
        self.outbox.add_event(StoredEvent {
            id: event.id,
            at: event.at,
            kind: kind_word(kind).to_owned(),
            subject: event.subject.clone(),
            says: event.says.clone(),
            detail: event.detail.clone(),
        });
        let mut recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        if recent.len() >= REMEMBERED {
            recent.pop_back();
        }
        recent.push_front(event.clone());
        drop(recent);
        self.tell(StreamMessage::Event(event));
    }

    /// Tells everyone who watches.
    pub(crate) fn tell(&self, message: StreamMessage) {
        // Without watchers there is nobody to tell.
        let _ = self.stream.send(message);
    }

    /// Whether anyone watches.
    pub(crate) fn is_watched(&self) -> bool {
        self.stream.receiver_count() > 0
    }

    /// Watches from now on.
    pub(crate) fn watch(&self) -> broadcast::Receiver<StreamMessage> {
        self.stream.subscribe()
    }

    /// The newest events that the service itself remembers, the newest first.
    pub(crate) fn recent(&self, before: Option<u64>, limit: usize) -> Vec<Event> {
        let recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        let older = recent.iter().filter(|event| before.is_none_or(|before| event.id < before));
        older.take(limit).cloned().collect()
    }

    /// A number that grows with time.
    pub(crate) fn number(&self) -> u64 {
        self.numbers.next()
    }

    /// The outbox, for records that are not events.
    pub(crate) fn outbox(&self) -> &Outbox {
        &self.outbox
    }
}

fn kind_word(kind: EventKind) -> &'static str {
    match kind {
        EventKind::Health => "health",
        EventKind::Duty => "duty",
        EventKind::Revision => "revision",
        EventKind::Draft => "draft",
        EventKind::Lookup => "lookup",
        EventKind::Tier => "tier",
        EventKind::Node => "node",
        EventKind::Trial => "trial",
        EventKind::Message => "message",
    }
}

/// An event as the API shows it; a kind that this release does not know counts as the node's.
pub(crate) fn from_store(event: StoredEvent) -> Event {
    let kinds = [
        EventKind::Health,
        EventKind::Duty,
        EventKind::Revision,
        EventKind::Draft,
        EventKind::Lookup,
        EventKind::Tier,
        EventKind::Node,
        EventKind::Trial,
        EventKind::Message,
    ];
    let kind = kinds.into_iter().find(|kind| kind_word(*kind) == event.kind).unwrap_or(EventKind::Node);
    Event { id: event.id, at: event.at, kind, subject: event.subject, says: event.says, detail: event.detail }
}
