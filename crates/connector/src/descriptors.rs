//! File descriptors: a part of them is kept for probes, the API and the database, so that a service which is short of them still
//! knows its state and takes commands.
//!
//! The system gives the lowest free number (POSIX, `open`), so the number of a new socket says how many are taken, for nothing.
//! The table of descriptors is the process's, and so are these counts.

use std::os::fd::{AsRawFd, RawFd};
use std::sync::atomic::{AtomicI32, AtomicU64, Ordering::Relaxed};

/// From this number on no more clients are taken.
static CLIENTS_BELOW: AtomicI32 = AtomicI32::new(i32::MAX);
/// From this number on traffic makes no more connections.
static TRAFFIC_BELOW: AtomicI32 = AtomicI32::new(i32::MAX);
/// How often there were too few.
static SHORTAGES: AtomicU64 = AtomicU64::new(0);
/// How often a client's work found no descriptor for a connection to its server.
static CLAIMS: AtomicU64 = AtomicU64::new(0);

/// How the descriptors of the process are shared out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DescriptorBudget {
    /// The most that the process may have.
    pub limit: u64,
    /// Clients are taken as long as fewer than so many are in use; those that wait in the listen queue wait on.
    pub clients_below: u64,
    /// Connections for traffic are made as long as fewer than so many are in use.
    pub traffic_below: u64,
    /// What is left for probes, the API and the database.
    pub reserve: u64,
}

impl DescriptorBudget {
    /// Shares out so many descriptors: an eighth, but no less than 64 and no more than 4096, is kept in reserve, and an eighth of all
    /// is for connections to servers alone, so that clients that were taken can be served.
    #[must_use]
    pub fn of(limit: u64) -> Self {
        let reserve = (limit / 8).clamp(64, 4_096).min(limit / 2);
        let traffic_below = limit - reserve;
        Self {
            limit,
            clients_below: traffic_below - (limit / 8).min(traffic_below / 2),
            traffic_below,
            reserve,
        }
    }

    /// Has the plane keep to it.
    pub fn apply(self) {
        let number = |count: u64| i32::try_from(count).unwrap_or(i32::MAX);
        CLIENTS_BELOW.store(number(self.clients_below), Relaxed);
        TRAFFIC_BELOW.store(number(self.traffic_below), Relaxed);
    }
}

/// How often a client had to wait or a connection was not made because there were too few descriptors, since the start.
#[must_use]
pub fn shortages() -> u64 {
    SHORTAGES.load(Relaxed)
}

/// Counts that a socket could not be had, or was one of those kept in reserve.
pub fn note_shortage() {
    SHORTAGES.fetch_add(1, Relaxed);
}

/// Asks every worker to close its idle connections, for a client's work needs a descriptor.
pub fn claim_idle() {
    CLAIMS.fetch_add(1, Relaxed);
}

/// How often idle connections were claimed since the start. A worker that sees another number than before closes its own.
#[must_use]
pub fn claims() -> u64 {
    CLAIMS.load(Relaxed)
}

/// Whether a socket for traffic is one that may be used; one that may not is to be closed again.
pub fn allows_traffic(socket: &impl AsRawFd) -> bool {
    is_below(socket.as_raw_fd(), &TRAFFIC_BELOW)
}

/// Whether one more client may be taken after this one.
pub fn allows_clients(socket: &impl AsRawFd) -> bool {
    is_below(socket.as_raw_fd(), &CLIENTS_BELOW)
}

fn is_below(number: RawFd, limit: &AtomicI32) -> bool {
    let is_below = number < limit.load(Relaxed);
    if !is_below {
        note_shortage();
    }
    is_below
}

/// Whether clients may be taken again.
pub fn has_room_for_clients() -> bool {
    // The number that the next socket would have.
    std::fs::File::open("/dev/null").is_ok_and(|file| file.as_raw_fd() < CLIENTS_BELOW.load(Relaxed))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_is_kept_in_reserve_and_a_part_for_servers() {
        for limit in [64, 256, 1_024, 20_000, 1_000_000] {
            let DescriptorBudget { clients_below, traffic_below, reserve, .. } = DescriptorBudget::of(limit);
            assert!(0 < clients_below && clients_below < traffic_below && traffic_below < limit, "{limit}");
            assert_eq!(traffic_below + reserve, limit);
        }
        assert_eq!(DescriptorBudget::of(256).reserve, 64);
        assert_eq!(DescriptorBudget::of(1_000_000).reserve, 4_096);
    }
}
