//! Events, and the messages of the live stream.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{Status, Trial};

/// What kind of fact an event is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum EventKind {
    /// A server's health changed.
    Health,
    /// An operator gave a server a duty.
    Duty,
    /// A revision was made and runs.
    Revision,
    /// A draft was begun, rebased, deployed or thrown away.
    Draft,
    /// A lookup found or lost servers, or failed.
    Lookup,
    /// Another tier of a pool works, or could.
    Tier,
    /// A frontend fails many of its clients, or its work goes to another pool; or no longer.
    Traffic,
    /// The service itself: started, stopped, lost its database, has it back.
    Node,
    /// A trial ended, by itself or because it was stopped.
    Trial,
    /// A message of a notification could not be delivered.
    Notification,
    /// A token was made or revoked.
    Token,
    /// A window was planned, opened, closed or removed.
    Window,
    /// A certificate was replaced, or can't be shown.
    Certificate,
    /// A roll was begun, paused, resumed or stopped, went on with a server, or ended.
    Roll,
}

impl EventKind {
    /// All kinds, with the word for each.
    pub const ALL: [(Self, &'static str); 14] = [
        (Self::Health, "health"),
        (Self::Duty, "duty"),
        (Self::Revision, "revision"),
        (Self::Draft, "draft"),
        (Self::Lookup, "lookup"),
        (Self::Tier, "tier"),
        (Self::Traffic, "traffic"),
        (Self::Node, "node"),
        (Self::Trial, "trial"),
        (Self::Notification, "notification"),
        (Self::Token, "token"),
        (Self::Window, "window"),
        (Self::Roll, "roll"),
        (Self::Certificate, "certificate"),
    ];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(kind, _)| *kind == self).map_or("", |(_, word)| word)
    }

    /// The kind that a word stands for.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, known)| *known == word).map(|(kind, _)| *kind)
    }
}

/// Which events are wanted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EventFilter {
    /// Only those with numbers below this one.
    pub before: Option<u64>,
    /// Only these kinds; all of them when it is empty.
    pub kinds: Vec<EventKind>,
    /// Only those about this: a subject, or a part of one that stands at its beginning before a `/` or at its end after a space.
    pub object: Option<String>,
    /// Only what this one did.
    pub by: Option<String>,
    /// Only what happened then or later.
    pub since: Option<Wall>,
    /// Only what happened before.
    pub until: Option<Wall>,
}

impl EventFilter {
    /// Whether an event is wanted.
    #[must_use]
    pub fn wants(&self, event: &Event) -> bool {
        let is_about = |object: &str| {
            let subject = event.subject.as_str();
            subject == object
                || subject.strip_prefix(object).is_some_and(|rest| rest.starts_with('/'))
                || subject.strip_suffix(object).is_some_and(|rest| rest.ends_with(' '))
        };
        self.before.is_none_or(|before| event.id < before)
            && (self.kinds.is_empty() || self.kinds.contains(&event.kind))
            && self.object.as_deref().is_none_or(is_about)
            && self.by.as_deref().is_none_or(|by| is_by(&event.message, by))
            && self.since.is_none_or(|since| event.at >= since)
            && self.until.is_none_or(|until| event.at < until)
    }
}

/// Whether a text names a person who acted.
fn is_by(says: &str, by: &str) -> bool {
    let is_end = |rest: &str| !rest.starts_with(|next: char| next.is_ascii_alphanumeric() || next == '-');
    says.match_indices("by ").any(|(at, _)| says[at + 3..].strip_prefix(by).is_some_and(is_end))
}

/// A dated fact worth keeping.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Event {
    /// Number of the event; a later event has a larger one.
    pub id: u64,
    /// Name of the node that wrote it; empty for one of an older release.
    #[serde(default)]
    pub node: String,
    /// When it happened, by the clock of the node.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// What kind of fact.
    pub kind: EventKind,
    /// What it is about: `pool/server`, a frontend, `revision 7`, or the node.
    pub subject: String,
    /// The fact in words.
    pub message: String,
    /// The fact in detail: for a change of health `from`, `to` and the evidence, for a duty the order.
    #[schema(value_type = Object)]
    pub detail: serde_json::Value,
}

/// Events, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Events {
    /// The newest events first, at most as many as were asked for.
    pub events: Vec<Event>,
    /// Whether the database answered; if not, these are only the last ones that the service remembers.
    pub complete: bool,
}

/// One message of the live stream; the server-sent event's name is the tag.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "snake_case")]
pub enum StreamMessage {
    /// The status as it is now; comes at least once a second.
    Status(Box<Status>),
    /// An event was written to the journal.
    Event(Event),
    /// A trial went on or ended.
    Trial(Box<Trial>),
}

impl StreamMessage {
    /// The server-sent event's name.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::Status(_) => "status",
            Self::Event(_) => "event",
            Self::Trial(_) => "trial",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(subject: &str, says: &str) -> Event {
        let (subject, says) = (subject.to_owned(), says.to_owned());
        Event {
            id: 5,
            node: "north".to_owned(),
            at: Wall(1_000),
            kind: EventKind::Duty,
            subject,
            message: says,
            detail: serde_json::Value::Null,
        }
    }

    #[test]
    fn events_are_found_by_what_they_are_about_who_did_it_and_when() {
        let event = event("quay/gull", "draining by first: new disk");
        let wants = |filter: EventFilter| filter.wants(&event);
        let about = |object: &str| EventFilter { object: Some(object.to_owned()), ..EventFilter::default() };
        let by = |who: &str| EventFilter { by: Some(who.to_owned()), ..EventFilter::default() };
        assert!(wants(EventFilter::default()) && wants(about("quay")) && wants(about("quay/gull")));
        assert!(!wants(about("gull")) && !wants(about("qua")));
        assert!(about("quay").wants(&super::tests::event("pool quay", "")) && !about("ay").wants(&event));
        assert!(wants(by("first")) && !wants(by("fir")) && !wants(by("disk")));
        assert!(wants(EventFilter { kinds: vec![EventKind::Duty], ..EventFilter::default() }));
        assert!(!wants(EventFilter { kinds: vec![EventKind::Health], ..EventFilter::default() }));
        assert!(wants(EventFilter {
            since: Some(Wall(1_000)),
            until: Some(Wall(1_001)),
            ..EventFilter::default()
        }));
        assert!(!wants(EventFilter { until: Some(Wall(1_000)), ..EventFilter::default() }));
        assert!(!wants(EventFilter { before: Some(5), ..EventFilter::default() }));
    }
}
