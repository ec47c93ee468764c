//! An upgrade: a new process takes over from the one that runs, without a client that is refused or cut off.
//!
//! The running service listens on the Unix socket `upgrade` of its state folder. Its successor says that it wants to take over; the running
//! one stops changing things (traffic and checks go on), writes its state and pins down, and hands over copies of its sockets
//! (`SCM_RIGHTS`): the lock of the folder, the socket of the API, and every socket of the workers. The same sockets means the same queues:
//! who waits in one is served, whoever takes it. The successor starts from the state, listens, and says so; only then does the first one
//! let go. Until it has finished its clients' work it reports what is open and counted, so that the successor's numbers are those of both,
//! and is told what is to be cut off. A successor that does not get so far leaves the first one as it was.
//!
//! What is said are lines of JSON, one a message. Descriptors follow a line that asks for them, so that no line is on the way then.

mod descriptors;
mod link;
mod predecessor;
mod successor;

use std::collections::BTreeMap;
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use merismos_core::name::Name;
use merismos_core::pins::PinScope;
use merismos_core::runtime::{FrontendCounts, ServerCounts};
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};

pub(crate) use predecessor::{Following, Predecessor};
pub(crate) use successor::{Succession, UpgradeOffer, UpgradeParts};

/// The name of the socket in the state folder.
const SOCKET: &str = "upgrade";
/// The first version of these messages. One that differs is refused by either side.
const PROTOCOL: u32 = 1;
/// How long a successor may take from the hand-over until it serves.
const SERVES_WITHIN: Duration = Duration::from_secs(30);
/// How often a successor is told what has changed.
pub(crate) const REPORTED_EVERY: Duration = Duration::from_millis(200);
/// How long either side may take to answer.
const ANSWERS_WITHIN: Duration = Duration::from_secs(10);

fn socket_path(folder: &Path) -> PathBuf {
    folder.join(SOCKET)
}

/// Why a service could not take over from another one.
#[derive(Debug, thiserror::Error)]
pub(crate) enum UpgradeError {
    #[error(
        "no merismosd can be reached at {path}: it has to run, with the same state folder and as the same user. Start this one without \
         the word upgrade when none runs",
        path = path.display()
    )]
    Unreachable { path: PathBuf, source: io::Error },
    #[error("the merismosd that runs does not hand over: {0}")]
    Refused(String),
    #[error("the merismosd that runs went on by itself, since this one did not serve within {within:?}", within = SERVES_WITHIN)]
    GivenUp,
    #[error("the hand-over broke off; the merismosd that runs goes on as before")]
    Broken(#[source] io::Error),
}

/// What a successor says.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum FromSuccessor {
    /// It wants to take over.
    Take { protocol: u32, version: String, process: u32 },
    /// It is ready for the descriptors.
    Send,
    /// It serves. The work of clients may take so many milliseconds to finish.
    Serves { within_ms: u64 },
    /// Something is to be done to the work at a server.
    Do { act: WorkAct, server: String },
}

/// What the running service says.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum FromPredecessor {
    /// What it hands over.
    Gives(Box<HandedState>),
    /// It does not hand over, and why.
    Refuses(String),
    /// It has gone on by itself.
    GoesOn,
    /// What has changed since the last time.
    Reports(Box<UpgradeReport>),
}

/// What goes over beside what is in the state folder.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct HandedState {
    protocol: u32,
    pub(crate) version: String,
    pub(crate) process: u32,
    /// What each of the descriptors is, in their order.
    descriptors: Vec<HandedDescriptor>,
    pub(crate) totals: HandedTotals,
    pub(crate) work: UpgradeReport,
}

/// Since when totals count.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct HandedTotals {
    pub(crate) counted_since: Wall,
    /// When they were reset, and what had been counted then.
    pub(crate) reset: Option<(Wall, BTreeMap<String, ServerCounts>)>,
}

/// What a descriptor is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum HandedDescriptor {
    /// The lock of the state folder.
    Lock,
    /// The listening socket of the API.
    Api(SocketAddr),
    /// A listening socket of a TCP or HTTP frontend.
    Tcp(SocketAddr),
    /// A socket of a UDP frontend.
    Udp(SocketAddr),
}

/// What a service counted and has open: all of it, or what differs from the last report.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct UpgradeReport {
    /// By `pool/server address`.
    pub(crate) servers: BTreeMap<String, ServerCounts>,
    pub(crate) frontends: BTreeMap<Name, FrontendCounts>,
    /// Pins that were made or used since, written as in their files, in Base64.
    pub(crate) pins: Vec<(PinScope, String)>,
}

impl UpgradeReport {
    /// What of it differs from an earlier report; pins as they are.
    fn since(&self, before: &Self) -> Self {
        let servers = self.servers.iter().filter(|(key, counts)| before.servers.get(*key) != Some(counts));
        let frontends =
            self.frontends.iter().filter(|(key, counts)| before.frontends.get(*key) != Some(counts));
        Self {
            servers: servers.map(|(key, counts)| (key.clone(), *counts)).collect(),
            frontends: frontends.map(|(key, counts)| (key.clone(), *counts)).collect(),
            pins: self.pins.clone(),
        }
    }

    fn is_empty(&self) -> bool {
        self.servers.is_empty() && self.frontends.is_empty() && self.pins.is_empty()
    }
}

/// What is done to the work at a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(crate) enum WorkAct {
    /// It is broken off: the server was withdrawn.
    Cut,
    /// It is ended in order: the deadline of a drain has passed.
    EndDrain,
    /// It goes to others where it can: the server is down.
    LeaveDown,
    /// It leaves where it is to: the server stands by again.
    LeaveStandby,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_report_holds_what_has_changed_alone() {
        let counts = |begun| ServerCounts { begun, ..ServerCounts::default() };
        let mut before = UpgradeReport::default();
        before.servers.insert("quay/gull 192.0.2.21:80".to_owned(), counts(1));
        before.servers.insert("quay/tern 192.0.2.22:80".to_owned(), counts(1));
        let mut now = before.clone();
        now.servers.insert("quay/tern 192.0.2.22:80".to_owned(), counts(2));
        let changed = now.since(&before);
        assert_eq!(changed.servers.keys().collect::<Vec<_>>(), ["quay/tern 192.0.2.22:80"]);
        assert!(now.since(&now).is_empty() && !changed.is_empty());
    }
}
