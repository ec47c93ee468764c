//! What a keeper says of the addresses that it looks after.

use std::net::IpAddr;
use std::time::{Duration, SystemTime};

use merismos_core::vrrp::Stance;

/// Where this node stands with the addresses of one object.
#[derive(Clone, Debug)]
pub struct AddressView {
    /// Where this node stands.
    pub stance: Stance,
    /// Since when.
    pub since: SystemTime,
    /// What this node is worth; 0 while it takes no part.
    pub priority: u8,
    /// The node that advertised last, unless this one holds the addresses or nothing was heard for long.
    pub holder: Option<HeardHolder>,
    /// This machine's own addresses that advertisements come from.
    pub senders: Vec<IpAddr>,
    /// What keeps this node from taking part as it should, a sentence each.
    pub troubles: Vec<String>,
    /// What was counted since the keeper started.
    pub counted: AdvertisementCounts,
    /// The last advertisements, sent and received, oldest first.
    pub advertisements: Vec<SeenAdvertisement>,
}

/// Another node that says that it holds the addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HeardHolder {
    /// Where its advertisement came from.
    pub from: IpAddr,
    /// What it is worth.
    pub priority: u8,
    /// How often it advertises.
    pub interval: Duration,
    /// When it advertised last.
    pub at: SystemTime,
}

/// What a keeper counts of one object.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct AdvertisementCounts {
    /// Times that this node took the addresses.
    pub taken: u64,
    /// Advertisements that were sent.
    pub sent: u64,
    /// Advertisements that could not be sent.
    pub unsent: u64,
    /// Advertisements that came from others.
    pub received: u64,
    /// Those among them whose time to live shows that they crossed a router (RFC 9568, 7.1).
    pub from_afar: u64,
    /// Those that name other addresses than this node's document.
    pub other_addresses: u64,
    /// Those with another interval than this node's document has.
    pub other_interval: u64,
    /// Those that came while this node held the addresses.
    pub second_holder: u64,
    /// Packets on the interfaces of these addresses that are no advertisement to act upon, and those from none of the peers.
    pub wrong: u64,
}

/// An advertisement that went or came.
#[derive(Clone, Debug)]
pub struct SeenAdvertisement {
    /// Its number, growing.
    pub number: u64,
    /// When.
    pub at: SystemTime,
    /// Where it came from; this node's own address when it was sent.
    pub from: IpAddr,
    /// Whether this node sent it.
    pub is_own: bool,
    /// The priority in it; 0 when its sender leaves the addresses.
    pub priority: u8,
    /// The interval in it.
    pub interval: Duration,
    /// The addresses in it.
    pub addresses: Vec<IpAddr>,
    /// What is wrong with it, where something is.
    pub wrong: Option<String>,
}
