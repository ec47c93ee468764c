//! Service addresses that move between nodes, by the Virtual Router Redundancy Protocol, version 3 (RFC 9568).

mod advertisement;
mod election;
mod order;
mod priority;
#[cfg(test)]
mod schedules;

pub use advertisement::{
    Advertisement, AdvertisementError, ChecksumRule, MULTICAST_V4, MULTICAST_V6, PROTOCOL, WholeInterval,
};
pub use election::{Act, Election, Heard, LEAVING, Preemption, Stance};
pub use order::{AddressReport, CLAIMED, OrderWord, StandingOrder};
pub use priority::{LEAST, PoolLosses, listed_priority};
