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
    /// A trial ended.
    Trial,
    /// A message to people could not be delivered.
    Message,
    /// A token was made or taken back.
    Token,
}

/// A dated fact worth keeping.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Event {
    /// Grows with time.
    pub id: u64,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// What kind of fact.
    pub kind: EventKind,
    /// What it is about: `pool/server`, a frontend, `revision 7`, or the node.
    pub subject: String,
    /// The fact in words.
    pub says: String,
    /// The fact in detail: for a change of health `from`, `to` and the evidence, for a duty the order.
    #[schema(value_type = Object)]
    pub detail: serde_json::Value,
}

/// Events, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Events {
    /// The events.
    pub events: Vec<Event>,
    /// Whether the database answered; if not, these are only the last ones that the service remembers.
    pub complete: bool,
}

/// One message of the live stream; the server-sent event's name is the tag.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "message", rename_all = "snake_case")]
pub enum StreamMessage {
    /// The status as it is now; comes at least once a second.
    Status(Box<Status>),
    /// Something happened.
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
