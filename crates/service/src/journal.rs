//! The journal: facts go to the log, to the database by way of the outbox, and to watchers.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use bytes::Bytes;
use merismos_api::{Event, EventFilter, EventKind, Status, StreamMessage, Trial};
use merismos_core::text::printable;
use merismos_core::time::Wall;
use merismos_store::StoredEvent;
use merismos_store::outbox::Outbox;
use serde_json::Value;
use tokio::sync::{broadcast, watch};

use crate::clock::{GrowingNumbers, wall};
use crate::nodes::NodeIdentity;

/// How many events the service remembers itself, for when the database is away.
const REMEMBERED: usize = 500;
/// How many messages a watcher may be behind before it misses some.
const STREAM: usize = 1_024;

/// A server-sent event, made once for all who get it.
fn frame(message: &StreamMessage) -> Bytes {
    let data = serde_json::to_string(message).expect("the API's types are JSON");
    Bytes::from(format!("event: {}\ndata: {data}\n\n", message.name()))
}

/// What watchers get: an event, or how a trial goes on.
#[derive(Clone, Debug)]
pub(crate) struct StreamItem {
    /// The event, for those inside the service.
    pub(crate) event: Option<Arc<Event>>,
    pub(crate) frame: Bytes,
}

/// The status as a server-sent event.
#[derive(Clone, Debug)]
pub(crate) struct StatusFrame {
    /// Grows with each status.
    pub(crate) number: u64,
    /// When it was made.
    pub(crate) made: Instant,
    /// Whether servers were left out of it.
    pub(crate) shortened: bool,
    pub(crate) frame: Bytes,
}

impl StatusFrame {
    pub(crate) fn new(number: u64, status: Box<Status>) -> Self {
        let (made, shortened) = (Instant::now(), status.shortened);
        Self { number, made, shortened, frame: frame(&StreamMessage::Status(status)) }
    }
}

/// An event that the service itself remembers.
#[derive(Debug)]
struct RecentEvent {
    event: Event,
    /// Whether this node records it; another one does otherwise.
    is_recorded: bool,
}

/// Where facts are written.
#[derive(Clone, Debug)]
pub(crate) struct Journal {
    numbers: Arc<GrowingNumbers>,
    outbox: Outbox,
    stream: broadcast::Sender<StreamItem>,
    /// Only the newest status is kept, however slow a watcher is.
    status: watch::Sender<Option<StatusFrame>>,
    /// Held for a push or a copy only.
    recent: Arc<Mutex<VecDeque<RecentEvent>>>,
    /// What this node is called.
    node: Arc<str>,
}

impl Journal {
    /// The journal of a node.
    pub(crate) fn new(outbox: Outbox, node: &NodeIdentity, slot: u8) -> Self {
        let (stream, _) = broadcast::channel(STREAM);
        let (status, _) = watch::channel(None);
        let numbers = Arc::new(GrowingNumbers::of_slot(slot));
        let node = node.name.as_str().into();
        Self { numbers, outbox, stream, status, recent: Arc::default(), node }
    }

    /// Writes a fact about this node.
    pub(crate) fn here(&self, says: impl Into<String>, detail: Value) {
        self.write(EventKind::Node, format!("node {}", self.node), says, detail);
    }

    pub(crate) fn write(
        &self,
        kind: EventKind,
        subject: impl Into<String>,
        says: impl Into<String>,
        detail: Value,
    ) {
        let event = self.event(kind, subject, says, detail);
        self.outbox.add_event(StoredEvent {
            id: event.id,
            node: event.node.clone(),
            at: event.at,
            kind: kind.word().to_owned(),
            subject: event.subject.clone(),
            message: event.message.clone(),
            detail: event.detail.clone(),
        });
        self.remember(event.clone(), true);
        self.relay(event);
    }

    /// As [`Self::write`], for what another node records: it is logged here, and not recorded again. Who watches gets the other node's event.
    pub(crate) fn note(
        &self,
        kind: EventKind,
        subject: impl Into<String>,
        says: impl Into<String>,
        detail: Value,
    ) {
        self.remember(self.event(kind, subject, says, detail), false);
    }

    fn event(
        &self,
        kind: EventKind,
        subject: impl Into<String>,
        says: impl Into<String>,
        detail: Value,
    ) -> Event {
        let event = Event {
            id: self.numbers.next(),
            node: self.node.to_string(),
            at: wall(),
            kind,
            subject: printable(&subject.into()).into_owned(),
            message: printable(&says.into()).into_owned(),
            detail,
        };
        tracing::info!(kind = kind.word(), subject = %event.subject, "{}", event.message);
        event
    }

    fn remember(&self, event: Event, is_recorded: bool) {
        let mut recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        if recent.len() >= REMEMBERED {
            recent.pop_back();
        }
        recent.push_front(RecentEvent { event, is_recorded });
    }

    /// Whether anyone watches events.
    pub(crate) fn is_watched(&self) -> bool {
        self.stream.receiver_count() > 0
    }

    /// Sends an event, this node's or another's, to everyone who watches.
    pub(crate) fn relay(&self, event: Event) {
        self.tell(Some(Arc::new(event.clone())), StreamMessage::Event(event));
    }

    /// Tells everyone who watches how a trial goes on.
    pub(crate) fn tell_trial(&self, trial: &Trial) {
        self.tell(None, StreamMessage::Trial(Box::new(trial.clone())));
    }

    fn tell(&self, event: Option<Arc<Event>>, message: StreamMessage) {
        if self.stream.receiver_count() > 0 {
            let _ = self.stream.send(StreamItem { event, frame: frame(&message) });
        }
    }

    /// Tells everyone who watches what is so.
    pub(crate) fn tell_status(&self, status: Box<Status>) {
        self.status.send_modify(|latest| {
            let number = latest.as_ref().map_or(0, |frame| frame.number) + 1;
            *latest = Some(StatusFrame::new(number, status));
        });
    }

    /// Whether anyone watches the status.
    pub(crate) fn is_status_watched(&self) -> bool {
        self.status.receiver_count() > 0
    }

    /// Watches events and trials from now on.
    pub(crate) fn watch(&self) -> broadcast::Receiver<StreamItem> {
        self.stream.subscribe()
    }

    /// Watches the status; the latest one counts as seen.
    pub(crate) fn watch_status(&self) -> watch::Receiver<Option<StatusFrame>> {
        self.status.subscribe()
    }

    /// The newest events that the service itself remembers, the newest first; those that other nodes record only with `followed`.
    pub(crate) fn recent(&self, filter: &EventFilter, followed: bool, limit: usize) -> Vec<Event> {
        let recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        let wanted = |kept: &&RecentEvent| (followed || kept.is_recorded) && filter.wants(&kept.event);
        recent.iter().filter(wanted).take(limit).map(|kept| kept.event.clone()).collect()
    }

    /// The smallest number that an event of then could have.
    pub(crate) fn number_at(&self, at: Wall) -> u64 {
        GrowingNumbers::at(at)
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

/// An event as the API shows it; a kind that this release does not know counts as the node's.
pub(crate) fn from_store(event: StoredEvent) -> Event {
    let kind = EventKind::of(&event.kind).unwrap_or(EventKind::Node);
    Event {
        id: event.id,
        node: event.node,
        at: event.at,
        kind,
        subject: event.subject,
        message: event.message,
        detail: event.detail,
    }
}
