//! What a speaker says of its sessions.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, SystemTime};

use merismos_core::announcement::{RouteAttributes, SessionState};

/// All that a speaker knows.
#[derive(Clone, Debug, Default)]
pub struct SpeakerView {
    /// Its sessions, by their routers.
    pub sessions: BTreeMap<IpAddr, SessionView>,
    /// Addresses that this machine could not be given, each with why.
    pub troubles: BTreeMap<IpAddr, String>,
}

/// A session with a router.
#[derive(Clone, Debug)]
pub struct SessionView {
    /// Where it stands.
    pub state: SessionState,
    /// Since when.
    pub since: SystemTime,
    /// Why the last one ended, or could not be had; absent while there is one.
    pub trouble: Option<String>,
    /// This machine's address in it, while it is established.
    pub local: Option<IpAddr>,
    /// The router's identifier, while it is established.
    pub identifier: Option<Ipv4Addr>,
    /// The hold time that both agreed on, while it is established; zero when neither is ever taken for gone.
    pub hold_time: Option<Duration>,
    /// What the router was sent and has not been taken back.
    pub announced: BTreeMap<IpAddr, RouteAttributes>,
    /// What was counted since the speaker started.
    pub counted: SessionCounts,
}

/// What a speaker counts of a session, over all its connections.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SessionCounts {
    /// Times that it was established.
    pub established: u64,
    /// Times that it ended after that.
    pub lost: u64,
    /// Times that it could not be had.
    pub failed: u64,
    /// Routes that were announced, again or anew.
    pub announced: u64,
    /// Routes that were withdrawn.
    pub withdrawn: u64,
    /// Messages with routes of the router's own, which are not followed.
    pub ignored: u64,
}
