//! What all kinds of checks have in common: timing, where they probe, and what is done about changing servers.

use std::collections::BTreeMap;
use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;

use merismos_derive::Keys;
use serde::{Serialize, Serializer};

use crate::config::document::{CheckKind, Labels};
use crate::config::keys;
use crate::units::Span;

/// An active health check.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct CheckSpec {
    /// What is asked, and what answer counts.
    #[serde(flatten)]
    pub kind: CheckKind,
    /// Time from the start of one probe to the start of the next.
    ///
    /// A shorter interval notices failures sooner and costs each server more probes.
    #[key(basic, range = "100ms".."1h", default = "2s", group = "Timing")]
    pub interval: Span,
    /// Interval while the server is down.
    #[key(range = "100ms".."1h", without = "the interval")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval_down: Option<Span>,
    /// Longest time that a probe may take.
    ///
    /// A longer timeout forgives slow answers and notices silent servers later. It should be shorter than the interval: probes of one
    /// server never overlap, so a probe that takes longer delays the next.
    #[key(basic, range = "10ms".."60s", default = "1s", group = "Timing")]
    pub timeout: Span,
    /// Where it is asked, when that is not where the traffic goes.
    #[serde(flatten)]
    pub elsewhere: ProbeAddress,
    /// Number of failures in a row before a server that is up goes down.
    #[key(basic, range = 1..=100, default = "3", group = "Timing")]
    pub down_after: u32,
    /// Number of passes in a row before a server that is down comes up.
    #[key(basic, range = 1..=100, default = "2", group = "Timing")]
    pub up_after: u32,
    /// What becomes of a server that keeps changing.
    #[serde(flatten)]
    pub steadiness: FlappingSettings,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: Labels,
}

/// When a server that keeps changing is called flapping, and how long it is held down then.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct FlappingSettings {
    /// Number of times that a server goes down within `flapping_within` before it counts as flapping.
    #[key(range = 2..=100, default = "3", group = "Flapping")]
    #[serde(skip_serializing_if = "is_usual_after")]
    pub flapping_after: u32,
    /// Time in which `flapping_after` is counted.
    #[key(range = "1m".."24h", default = "10m")]
    #[serde(skip_serializing_if = "is_usual_within")]
    pub flapping_within: Span,
    /// Shortest time that a flapping server stays down whatever its probes say; it doubles each time.
    ///
    /// A hold outlives a restart. Without it a flapping server is only reported.
    #[key(range = "1s".."1h")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hold_down: Option<Span>,
    /// Longest time that a flapping server is held down.
    #[key(range = "1s".."24h", default = "10m")]
    #[serde(skip_serializing_if = "is_usual_most")]
    pub hold_down_most: Span,
}

impl Default for FlappingSettings {
    fn default() -> Self {
        keys::defaults()
    }
}

fn is_usual_after(after: &u32) -> bool {
    *after == FlappingSettings::default().flapping_after
}

fn is_usual_within(within: &Span) -> bool {
    *within == FlappingSettings::default().flapping_within
}

fn is_usual_most(most: &Span) -> bool {
    *most == FlappingSettings::default().hold_down_most
}

/// Where a check asks, when that is not where the traffic goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct ProbeAddress {
    /// Port to probe instead of the one that gets the traffic.
    #[key(
        range = 1..=65_535,
        without = "the server's",
        when(kind = "tcp http udp dns tls sql grpc"),
        example = "8081",
        group = "Probe address"
    )]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Address to probe instead of the one that gets the traffic.
    #[key(without = "the server's", group = "Probe address")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<IpAddr>,
    /// Address of this machine that probes come from.
    #[key(
        format = SOURCE_ADDRESS,
        without = "the system's choice",
        when(kind = "tcp http icmp udp dns tls grpc"),
        group = "Probe address"
    )]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source_address: Option<IpAddr>,
}

impl ProbeAddress {
    /// Where a server at this address is asked.
    #[must_use]
    pub fn of(&self, server: SocketAddr) -> SocketAddr {
        SocketAddr::new(self.address.unwrap_or(server.ip()), self.port.unwrap_or(server.port()))
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
