//! The document: what a person wrote, with defaults filled in and nothing derived.

use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use crate::name::Name;
use crate::units::{Size, Span};

/// The format number that this release writes and reads.
pub const FORMAT: i64 = 1;

/// A whole configuration.
///
/// Maps are ordered by name, so the same content always prints the same bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Document {
    /// The document's format number; [`FORMAT`] is the only one so far.
    pub format: i64,
    /// Checks by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub checks: BTreeMap<Name, Check>,
    /// Pools by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pools: BTreeMap<Name, Pool>,
    /// Frontends by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub frontends: BTreeMap<Name, Frontend>,
}

impl Default for Document {
    fn default() -> Self {
        Self { format: FORMAT, checks: BTreeMap::new(), pools: BTreeMap::new(), frontends: BTreeMap::new() }
    }
}

/// Where clients connect.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Frontend {
    /// What clients speak.
    pub protocol: Protocol,
    /// The address and port to listen on.
    pub listen: SocketAddr,
    /// The pool that does the work.
    pub pool: Name,
    /// The largest request head that is taken; a larger one is answered 431. 1KiB to 64KiB.
    pub head_limit: Size,
    /// How long a client may take from a request's first byte to the end of its head; then 408. 100ms to 5m.
    pub head_timeout: Span,
    /// How long a client's connection may rest between requests, or in the middle of a body. 100ms to 1h.
    pub idle_timeout: Span,
}

/// What a frontend's clients speak.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Protocol {
    /// HTTP/1.1 and 1.0.
    Http,
}

/// A set of servers that can do the same work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Pool {
    /// How the pool deals out work.
    pub algorithm: Algorithm,
    /// The check that judges its servers; without one every server is taken to work.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub check: Option<Name>,
    /// How long connecting to a server may take before another one is tried. 10ms to 60s.
    pub connect_timeout: Span,
    /// How long a server may take to begin its answer; then 504. 10ms to 1h.
    pub answer_timeout: Span,
    /// How long a server may rest in the middle of a body before the exchange is given up. 100ms to 1h.
    pub idle_timeout: Span,
    /// How many servers one request may be offered to when connections fail. 1 to 16.
    pub attempts: u8,
    /// Servers by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub servers: BTreeMap<Name, Server>,
}

/// How a pool deals out work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Algorithm {
    /// Each server in its turn, in exact proportion to the weights.
    RoundRobin,
}

impl fmt::Display for Algorithm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::RoundRobin => f.pad("round-robin"),
        }
    }
}

/// One address and port that does a pool's work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Server {
    /// Where it listens.
    pub address: SocketAddr,
    /// Its part of the pool's work against the other servers' weights; 0 takes no new work. 0 to 1000.
    pub weight: u16,
}

/// An active health check.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Check {
    /// What is asked, and what answer counts.
    #[serde(flatten)]
    pub kind: CheckKind,
    /// From the start of one probe to the start of the next. Shorter notices sooner and costs each server
    /// more probes. 100ms to 1h.
    pub interval: Span,
    /// How long a probe may take. Longer forgives slow answers and notices silent servers later. 10ms to 60s.
    pub timeout: Span,
    /// Failures in a row before an up server is down. 1 to 100.
    pub down_after: u32,
    /// Passes in a row before a down server is up. 1 to 100.
    pub up_after: u32,
}

/// What a check asks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum CheckKind {
    /// A connection is made and closed again.
    Tcp,
    /// A GET is sent and the answer's status is judged.
    Http {
        /// The path, with its query; begins with a slash.
        path: String,
        /// The status codes that pass.
        accept: Vec<StatusRange>,
    },
}

impl CheckKind {
    /// `tcp` or `http`.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::Tcp => "tcp",
            Self::Http { .. } => "http",
        }
    }
}

/// Status codes from `first` to `last`, both included; written `200-299` or `204`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StatusRange {
    first: u16,
    last: u16,
}

/// Why a text is not a [`StatusRange`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("wanted a status code from 100 to 599, or a range such as 200-299; found {0:?}")]
pub struct StatusRangeError(String);

impl StatusRange {
    /// Whether a status code lies in the range.
    #[must_use]
    pub fn holds(self, status: u16) -> bool {
        (self.first..=self.last).contains(&status)
    }
}

impl FromStr for StatusRange {
    type Err = StatusRangeError;

    fn from_str(text: &str) -> Result<Self, StatusRangeError> {
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        let code = |part: &str| part.parse::<u16>().ok().filter(|code| (100..=599).contains(code));
        match (code(first), code(last)) {
            (Some(first), Some(last)) if first <= last => Ok(Self { first, last }),
            _ => Err(StatusRangeError(text.to_owned())),
        }
    }
}

impl fmt::Display for StatusRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.first == self.last {
            write!(f, "{}", self.first)
        } else {
            write!(f, "{}-{}", self.first, self.last)
        }
    }
}

impl Serialize for StatusRange {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl Document {
    /// The document as TOML: the same content always gives the same bytes.
    #[must_use]
    pub fn to_toml(&self) -> String {
        toml::to_string(self).expect("a document holds only tables, texts and numbers")
    }

    /// The document as JSON: the same content always gives the same bytes.
    #[must_use]
    pub fn to_json(&self) -> String {
        serde_json::to_string_pretty(self).expect("a document's keys are texts") + "\n"
    }
}
