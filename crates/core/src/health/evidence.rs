//! What a probe tried and what came back.

use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::ServerFeedback;
use crate::time::Wall;
use crate::units::humane;

/// How far a probe came.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ProbeStep {
    /// The connection was not made.
    Connect,
    /// The connection was made and the TLS handshake failed.
    Tls,
    /// The connection was made and no whole answer came.
    Answer,
    /// An answer came and its status was judged.
    Status,
    /// An answer came and what stands in it was judged.
    Body,
    /// Everything that was asked for was there.
    Done,
}

/// What kind of failure it was, where that is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum FailureCause {
    /// The host answered that nothing listens there.
    Refused,
    /// Nothing came back, or not all of it, in time.
    Silent,
    /// The probe could not be made, for this service is short of descriptors or ports: it says nothing of the server.
    NotMade,
}

/// One step of a probe: what it gave, and how long it took.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CompletedStep {
    /// The step of the probe that was done.
    pub step: ProbeStep,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// What it gave, in words.
    #[serde(alias = "got")]
    pub observed: String,
}

/// One probe: when, what was tried, how far it came, what came back, how long it took.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Evidence {
    /// When the probe began.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub at: Wall,
    /// What was tried, such as `GET http://192.0.2.21:8080/health`.
    pub tried: String,
    /// The step that it failed at, or [`ProbeStep::Done`].
    pub step: ProbeStep,
    /// What kind of failure it was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub cause: Option<FailureCause>,
    /// What came back, in words.
    #[serde(alias = "got")]
    pub observed: String,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// Its steps, the last one as above.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<CompletedStep>,
    /// The status of the response, where the server spoke HTTP.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub status: Option<u16>,
    /// What the server asked for, where its check listens.
    #[serde(default, alias = "wish", skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub feedback: Option<ServerFeedback>,
}

impl Evidence {
    /// Whether it says anything of the server.
    #[must_use]
    pub fn counts(&self) -> bool {
        self.cause != Some(FailureCause::NotMade)
    }

    /// Whether the probe passed.
    #[must_use]
    pub fn passed(&self) -> bool {
        self.step == ProbeStep::Done
    }
}

impl fmt::Display for Evidence {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {} (after {})", self.tried, self.observed, humane(Duration::from_micros(self.took_us)))
    }
}
