//! Addresses that nodes announce to routers.

use merismos_core::announcement::{SessionState, WithheldReason};
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Every object of announced addresses, and which node announces what.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Announcements {
    /// Whether the database does not answer: then what is known of other nodes is as it was when it did last.
    pub database_away: bool,
    /// The objects, by name.
    pub announcements: Vec<AnnouncementStatus>,
}

/// Addresses that are announced together, and what each node makes of them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnnouncementStatus {
    /// Name of the object.
    pub name: String,
    /// AS number of the nodes.
    pub as_number: u32,
    /// AS number of the routers.
    pub peer_as: u32,
    /// The addresses.
    pub addresses: Vec<String>,
    /// The routers.
    pub peers: Vec<String>,
    /// The nodes that announce them, by name.
    pub nodes: Vec<AnnouncementNode>,
}

/// A node's part in announced addresses. What is empty it never said.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnnouncementNode {
    /// Name of the node.
    pub node: String,
    /// Whether it is the one that answers.
    pub is_here: bool,
    /// Whether it gave a sign of life within the last 10 seconds.
    pub is_alive: bool,
    /// Whether it is drained: it asks routers to send traffic elsewhere, and then withdraws its routes.
    pub is_drained: bool,
    /// Its sessions with the routers.
    pub sessions: Vec<RouterSession>,
    /// What it announces of the addresses.
    pub routes: Vec<AnnouncedRoute>,
    /// Pools that have too few eligible servers as seen from it.
    pub lost: Vec<String>,
    /// What keeps it from taking part as it should, a sentence each.
    pub troubles: Vec<String>,
}

/// A session of a node with a router.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RouterSession {
    /// The router.
    pub peer: String,
    /// Where it stands; routes are exchanged when it is `established`.
    pub state: SessionState,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Wall,
    /// Why the last one ended, or could not be had; absent while there is one.
    pub trouble: Option<String>,
}

/// What a node announces of an address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnnouncedRoute {
    /// The address.
    pub address: String,
    /// Why it is not announced; absent when it is.
    pub withheld: Option<WithheldReason>,
    /// To how many routers it is announced now.
    pub routers: u64,
    /// To how many it should be: those of its family.
    pub of_routers: u64,
    /// How many times more than once the node's AS number is in the path.
    pub prepend: u8,
    /// The multi-exit discriminator; absent when none is sent.
    pub med: Option<u32>,
    /// The communities, GRACEFUL_SHUTDOWN (65535:0) among them while the node leaves.
    pub communities: Vec<String>,
}

/// One object of announced addresses, with the sessions of the node that answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnnouncementDetail {
    /// What each node makes of it.
    pub announcement: AnnouncementStatus,
    /// The sessions of the node that answers; none when it takes no part.
    pub sessions: Vec<RouterSessionDetail>,
}

/// A session of the node that answers, in detail.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RouterSessionDetail {
    /// The router.
    pub peer: String,
    /// The node's address in it; absent while it is not established.
    pub local: Option<String>,
    /// The router's identifier; absent while it is not established.
    pub identifier: Option<String>,
    /// The hold time that both agreed on, in seconds, 0 when neither is ever taken for gone; absent while it is not established.
    pub hold_time_s: Option<u64>,
    /// The addresses that the router was sent and that were not taken back, those of other objects among them.
    pub announced: Vec<String>,
    /// Times that it was established since the service started.
    pub established: u64,
    /// Times that it ended after that.
    pub lost: u64,
    /// Times that it could not be had.
    pub failed: u64,
    /// Routes that were announced, anew or again.
    pub routes_announced: u64,
    /// Routes that were withdrawn.
    pub routes_withdrawn: u64,
    /// Messages with routes of the router's own: none is followed.
    pub routes_ignored: u64,
}
