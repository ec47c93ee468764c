//! Duty: what the operators say of a server. It is theirs alone: health never changes it, nor does a new revision.

mod drain;
mod guard;
mod selector;

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

pub use self::drain::{ClientTies, CutWork, DrainWatch, OpenWork, is_safe};
pub use self::guard::{DutyRefusal, LoadPeak, PoolStock, ServerStock, guard};
pub use self::selector::{SelectorError, ServerSelector};
use crate::name::Name;
use crate::time::Wall;

/// What the operators say of a server.
///
/// ```text
///              drain                withdraw
/// in service ───────▶ draining ───────────────▶ withdrawn
///     ▲  └──────────────────────────────────────▶  │
///     └───────────────── return ◀──────────────────┘
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Duty {
    /// It gets new work as far as its health allows.
    #[default]
    InService,
    /// No new clients; those it has may finish.
    Draining,
    /// Nothing more, at once.
    Withdrawn,
}

impl fmt::Display for Duty {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::InService => "in service",
            Self::Draining => "draining",
            Self::Withdrawn => "withdrawn",
        })
    }
}

/// What becomes of clients that are tied to a server while it drains.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum DrainPins {
    /// They go on with it until the deadline, or until their pins end.
    #[default]
    Honour,
    /// Their next request goes to another server.
    Move,
}

impl DrainPins {
    fn is_honour(&self) -> bool {
        *self == Self::Honour
    }
}

impl fmt::Display for DrainPins {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Honour => "honour",
            Self::Move => "move",
        })
    }
}

/// A word that says nothing of pins.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "found {0:?}; expected honour (pinned clients go on until the deadline) or move (they go elsewhere at once)"
)]
pub struct DrainPinsError(String);

impl FromStr for DrainPins {
    type Err = DrainPinsError;

    fn from_str(word: &str) -> Result<Self, DrainPinsError> {
        match word {
            "honour" => Ok(Self::Honour),
            "move" => Ok(Self::Move),
            _ => Err(DrainPinsError(word.to_owned())),
        }
    }
}

/// A duty with who gave it, when and why.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DutyOrder {
    /// The duty that the order gives.
    pub duty: Duty,
    /// Why, in the operator's words.
    pub reason: String,
    /// Name of the token that gave the order.
    pub who: String,
    /// Its place among all orders: of two for one server the one with the larger number counts, whatever the clocks said.
    #[serde(default)]
    pub number: u64,
    /// Number of the order that stood when it was given; 0 where none did. An order that follows another one than that which stands was given
    /// at the same time on another node.
    #[serde(default, skip_serializing_if = "follows_none")]
    pub follows: u64,
    /// When it was given.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub at: Wall,
    /// When a drain stops waiting: what is still open then is closed. Absent: it waits for as long as it takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = String, nullable = false))]
    pub deadline: Option<Wall>,
    /// What becomes of clients that are tied to the server while it drains.
    #[serde(default, skip_serializing_if = "DrainPins::is_honour")]
    pub pins: DrainPins,
    /// When the server is expected back. An order of a window ends then, if the server is healthy. Any other stands until an operator
    /// changes it, and is reported as overdue.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = String, nullable = false))]
    pub until: Option<Wall>,
    /// Name of the window that gave the order; absent when an operator did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = String, nullable = false))]
    pub window: Option<Name>,
}

fn follows_none(number: &u64) -> bool {
    *number == 0
}

impl DutyOrder {
    /// An order without deadline and end.
    #[must_use]
    pub fn new(duty: Duty, reason: impl Into<String>, who: impl Into<String>, at: Wall) -> Self {
        Self {
            duty,
            reason: reason.into(),
            who: who.into(),
            number: 0,
            follows: 0,
            at,
            deadline: None,
            pins: DrainPins::default(),
            until: None,
            window: None,
        }
    }

    /// Whether it says the same as one that stands, apart from author and time. Deadlines are compared by how long they leave after
    /// the order, so a call that is sent twice does not prolong a drain.
    #[must_use]
    pub fn says_the_same(&self, standing: &Self) -> bool {
        let within = |order: &Self| order.deadline.map(|deadline| deadline.since(order.at));
        self.duty == standing.duty
            && self.reason == standing.reason
            && (self.deadline == standing.deadline || within(self) == within(standing))
            && self.pins == standing.pins
            && self.until == standing.until
            && self.window == standing.window
    }

    /// Whether the server should be back by now, and is not.
    #[must_use]
    pub fn is_overdue(&self, now: Wall) -> bool {
        self.duty != Duty::InService && self.until.is_some_and(|until| until < now)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn order(duty: Duty, until: Option<i64>) -> DutyOrder {
        DutyOrder { until: until.map(Wall), ..DutyOrder::new(duty, "new disk", "kittiwake", Wall(0)) }
    }

    #[rstest]
    #[case::away_for_too_long(Duty::Withdrawn, Some(9), true)]
    #[case::still_within_its_time(Duty::Draining, Some(11), false)]
    #[case::without_an_end(Duty::Withdrawn, None, false)]
    #[case::back_again(Duty::InService, Some(9), false)]
    fn servers_that_should_be_back_are_overdue(
        #[case] duty: Duty,
        #[case] until: Option<i64>,
        #[case] is_overdue: bool,
    ) {
        assert_eq!(order(duty, until).is_overdue(Wall(10)), is_overdue);
    }

    #[test]
    fn orders_from_before_deadlines_are_read() {
        let text = r#"{"duty":"draining","reason":"new disk","who":"kittiwake","number":7,"at":"1970-01-01T00:00:00.000Z"}"#;
        let read: DutyOrder = serde_json::from_str(text).unwrap();
        assert_eq!(read, DutyOrder { number: 7, ..order(Duty::Draining, None) });
        assert_eq!(serde_json::to_string(&read).unwrap(), text, "and what they do not say is not written");
    }
}
