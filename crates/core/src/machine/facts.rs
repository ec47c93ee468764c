//! What can be read of a machine at one moment, and what a node needs of it.

use std::collections::BTreeMap;
use std::net::SocketAddr;

/// So much of so much.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    /// What is in use.
    pub used: u64,
    /// The most that there can be.
    pub limit: u64,
}

impl Usage {
    /// The part that is in use, in hundredths, rounded down; 0 where there is no limit.
    #[must_use]
    pub fn percent(self) -> u64 {
        (self.used.saturating_mul(100)).checked_div(self.limit).unwrap_or(0)
    }
}

/// What was read of a machine at one moment. What is absent could not be read there.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MachineFacts {
    /// Ports that connections to servers come from.
    pub ports: Option<PortFacts>,
    /// Queues of those who wait to be taken.
    pub queues: Option<QueueFacts>,
    /// File descriptors of this process.
    pub descriptors: Option<Usage>,
    /// File descriptors of all processes.
    pub all_descriptors: Option<Usage>,
    /// Connections that the packet filter tracks, where it does.
    pub tracked: Option<Usage>,
    /// Memory.
    pub memory: Option<MemoryFacts>,
    /// Whether those who wait at a listener that closes go to another one of the same address (`net.ipv4.tcp_migrate_req`).
    pub migrates: Option<bool>,
    /// Neighbours that the machine knows the hardware address of (IPv4), and how many it may.
    pub neighbours: Option<Usage>,
    /// Packets that were dropped since the machine began, for a processor's queue was full.
    pub queue_drops: Option<u64>,
    /// Datagrams that were dropped since the machine began, for their socket was full.
    pub datagram_drops: Option<u64>,
    /// The largest receive buffer that a socket may ask for, in bytes.
    pub receive_buffer: Option<u64>,
    /// Network interfaces other than the loopback, by name.
    pub interfaces: BTreeMap<String, InterfaceFacts>,
    /// What the clock is read from.
    pub clock: Option<String>,
    /// What the processors did since the machine began.
    pub stolen: Option<Stolen>,
}

/// Ports that connections to servers come from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PortFacts {
    /// The first port that the system gives to connections.
    pub first: u16,
    /// The last one.
    pub last: u16,
    /// How many between them are reserved.
    pub reserved: u16,
    /// Sockets that are connected to an address or wait there to be over, for each address that a server has.
    pub used: BTreeMap<SocketAddr, u64>,
}

impl PortFacts {
    /// How many ports there are for one source address and one server.
    #[must_use]
    pub fn each(&self) -> u64 {
        (u64::from(self.last) + 1).saturating_sub(u64::from(self.first) + u64::from(self.reserved))
    }
}

/// Queues of those who wait to be taken.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct QueueFacts {
    /// The most that any listener may have wait (`net.core.somaxconn`).
    pub limit: u64,
    /// The most whose handshake is not done (`net.ipv4.tcp_max_syn_backlog`).
    pub handshakes: u64,
    /// Whether handshakes go on when there are more (`net.ipv4.tcp_syncookies`).
    pub cookies: bool,
    /// How often someone could not wait since the machine began: of all its programs.
    pub overflows: u64,
    /// Where most wait at this moment, of what the node listens on.
    pub longest: Option<(SocketAddr, u64)>,
}

/// Memory, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct MemoryFacts {
    /// All that there is.
    pub total: u64,
    /// What programs can have without the machine beginning to swap.
    pub available: u64,
    /// What TCP holds, and from where on it takes less from everybody (`net.ipv4.tcp_mem`, the second); the machine itself says that, a network namespace of it does not.
    pub tcp: Option<Usage>,
}

/// A network interface.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct InterfaceFacts {
    /// Packets that came and were dropped since it is there.
    pub dropped_in: u64,
    /// Packets that were to leave and were dropped since then.
    pub dropped_out: u64,
    /// `rp_filter`: 1 drops what comes by an interface that the way back does not lead by.
    pub return_filter: u8,
    /// `arp_ignore`: from 1 on it answers for its own addresses alone.
    pub arp_ignore: u8,
    /// `arp_announce`: 2 asks from its own addresses alone.
    pub arp_announce: u8,
}

/// What the processors did since the machine began, in the system's ticks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Stolen {
    /// All ticks.
    pub all: u64,
    /// Those in which a program waited, for another machine had the processor.
    pub stolen: u64,
}

/// What a node needs of its machine.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MachineNeeds {
    /// How many may wait at each listener.
    pub backlog: u64,
    /// Servers that connections go to.
    pub servers: Vec<ServerPorts>,
    /// Whether addresses move to this node and away.
    pub addresses_move: bool,
    /// Whether a frontend takes datagrams.
    pub takes_datagrams: bool,
}

/// A server and from where it is connected to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServerPorts {
    /// Its pool and name.
    pub server: String,
    /// Its addresses.
    pub addresses: Vec<SocketAddr>,
    /// How many addresses connections to it come from.
    pub sources: u64,
}
