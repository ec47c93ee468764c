//! Windows: planned times of maintenance for servers, hosts or all servers with a label.

mod schedule;

use std::collections::BTreeSet;
use std::time::Duration;

use serde::{Deserialize, Serialize};

pub use self::schedule::{Occurrence, Schedule, ScheduleError};
use crate::config::document::Document;
use crate::duty::{DrainPins, DutyRefusal, PoolStock, SelectorError, ServerSelector, guard};
use crate::name::{Name, PoolServer};
use crate::time::Wall;
use crate::units::Span;

/// How long before a window its drain begins, where neither the window nor a pool of its servers has a time for it.
const DRAIN_WITHIN: Duration = Duration::from_secs(600);

/// A window as operators plan it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct WindowPlan {
    /// Servers, each as `pool/server`. Name them in one of three ways: servers, a host or a label.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub servers: Vec<String>,
    /// Name or address of a host: every server on it, in all pools.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub host: Option<String>,
    /// A label, such as `rack=r7`: every server that has it, or whose host has, when the window opens.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub label: Option<String>,
    /// When it is.
    #[serde(flatten)]
    pub schedule: Schedule,
    /// How long before each start the servers begin to drain. What is still open at the start is closed. Absent: the longest
    /// `drain_timeout` of their pools, or 10 minutes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = String, nullable = false, example = "10m"))]
    pub within: Option<Span>,
    /// What becomes of pinned clients while the servers drain.
    #[serde(default)]
    pub pins: DrainPins,
    /// Why; at least one character, shown wherever the servers are shown.
    #[cfg_attr(feature = "schema", schema(min_length = 1, max_length = 500))]
    pub reason: String,
    /// Open it although the guard speaks against it.
    #[serde(default)]
    pub anyway: bool,
}

/// A window.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Window {
    /// What was planned.
    pub plan: WindowPlan,
    /// Name of the token that planned it.
    pub who: String,
    /// When it was planned.
    pub at: Wall,
    /// Start of the last time at which its servers were taken out, or at which the guard kept them in.
    #[serde(default)]
    pub begun: Option<Wall>,
}

/// What is wrong with a plan.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum WindowError {
    /// It is for no server.
    #[error(transparent)]
    Servers(#[from] SelectorError),
    /// It names servers in more than one way.
    #[error("a window is for servers, for a host or for a label: name one of the three")]
    Selection,
    /// A server's name that is none.
    #[error("{0}")]
    Server(String),
    /// It is at no time.
    #[error(transparent)]
    Schedule(#[from] ScheduleError),
    /// A start with a fraction of a second, or in a year that no calendar shows.
    #[error("a window starts at a whole second between the years 1970 and 9999")]
    Start,
    /// A window that is over.
    #[error("the window has no time that lies ahead")]
    Past,
    /// It clashes with the guard, alone or together with others.
    #[error("{}. Plan it for another time, or say that it is to be opened anyway", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Clashes(Vec<Clash>),
}

/// Servers that windows would take out together, and the guard would not.
#[derive(Clone, Debug, PartialEq)]
pub struct Clash {
    /// When.
    pub at: Wall,
    /// The other windows that are open then.
    pub others: Vec<Name>,
    /// What the guard says.
    pub refusal: DutyRefusal,
}

impl std::fmt::Display for Clash {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "on {}", minute(self.at))?;
        if !self.others.is_empty() {
            let others: Vec<&str> = self.others.iter().map(Name::as_str).collect();
            write!(f, ", together with {}", others.join(" and "))?;
        }
        write!(f, ": {}", self.refusal)
    }
}

/// A moment to the minute, as people read it.
#[must_use]
pub fn minute(at: Wall) -> String {
    let utc = chrono::DateTime::from_timestamp_millis(at.0).unwrap_or_default();
    utc.format("%Y-%m-%d %H:%M UTC").to_string()
}

impl WindowPlan {
    /// Its servers, as they were named.
    ///
    /// # Errors
    /// When they are named in no way or in two, or a name is none.
    pub fn selector(&self) -> Result<ServerSelector, WindowError> {
        match (&self.servers[..], &self.host, &self.label) {
            ([], Some(host), None) => Ok(ServerSelector::Host(host.clone())),
            ([], None, Some(label)) => Ok(ServerSelector::label(label)?),
            (servers, None, None) => {
                let servers = servers.iter().map(|server| server.parse::<PoolServer>());
                let servers: Result<Vec<_>, _> = servers.collect();
                let wrong = |error: crate::name::PoolServerError| WindowError::Server(error.to_string());
                Ok(ServerSelector::Servers(servers.map_err(wrong)?))
            }
            _ => Err(WindowError::Selection),
        }
    }

    /// Checks what can be checked without a document. A rule that seldom has a time takes up to half a second.
    ///
    /// # Errors
    /// What is wrong with it, and what would be right.
    pub fn check(&self, now: Wall) -> Result<(), WindowError> {
        self.selector()?;
        if !schedule::is_plain(&self.schedule.start) {
            return Err(WindowError::Start);
        }
        self.schedule.check()?;
        if self.schedule.next(now).is_none() {
            return Err(WindowError::Past);
        }
        Ok(())
    }

    /// How long before its start the drain begins.
    #[must_use]
    pub fn drains_for(&self, document: &Document, servers: &BTreeSet<PoolServer>) -> Duration {
        let of_pools = || {
            let pools = servers.iter().filter_map(|server| document.pools.get(&server.pool));
            pools.filter_map(|pool| pool.drain_timeout).map(Span::get).max()
        };
        self.within.map(Span::get).or_else(of_pools).unwrap_or(DRAIN_WITHIN)
    }
}

/// Where the guard would not let the servers of a window go: `own` are its times with its servers, `others` those of other windows.
/// Each clash with the same windows and the same arithmetic is given once, at its first time.
#[must_use]
pub fn clashes(
    own: (&[Occurrence], &BTreeSet<PoolServer>),
    others: &[(&Name, Vec<Occurrence>, BTreeSet<PoolServer>)],
    stocks: impl Fn(&BTreeSet<PoolServer>) -> Vec<PoolStock>,
) -> Vec<Clash> {
    let mut found: Vec<Clash> = Vec::new();
    for occurrence in own.0 {
        let (mut servers, mut names) = (own.1.clone(), Vec::new());
        for (name, times, theirs) in others {
            if times.iter().any(|other| other.overlaps(*occurrence)) {
                servers.extend(theirs.iter().cloned());
                names.push((*name).clone());
            }
        }
        // Pools that only the other windows touch are not this one's matter.
        let pools: BTreeSet<&Name> = own.1.iter().map(|server| &server.pool).collect();
        servers.retain(|server| pools.contains(&server.pool));
        for refusal in guard(&stocks(&servers), &servers) {
            let is_known = found.iter().any(|known| known.others == names && known.refusal == refusal);
            if !is_known {
                found.push(Clash { at: occurrence.start, others: names.clone(), refusal });
            }
        }
    }
    found
}
