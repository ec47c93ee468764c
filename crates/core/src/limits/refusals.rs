//! What a frontend refused, by reason and by the network of the client.

use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};

use ipnet::IpNet;
use serde::Serialize;
use strum::{Display, EnumCount, EnumMessage, EnumString, VariantArray};

use super::offenders::{Offender, Offenders};

/// The bits of an IPv6 address by which clients are distinguished: a client has a whole network of them.
const PREFIX_IPV6: u8 = 64;

/// Why a client was refused.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, EnumMessage, EnumCount, VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum RefusalReason {
    /// Its address is not let in (`allow`, `deny`).
    NotLetIn,
    /// It asks for more than a limit allows.
    Limit,
    /// As many clients as may be are connected (`connection_limit`).
    ConnectionLimit,
    /// Its request makes no sense, or can be read in several ways.
    Malformed,
    /// Its request is too large.
    TooLarge,
    /// It sends or reads too slowly.
    TooSlow,
    /// Its TLS handshake came to nothing, or it speaks no TLS where that is spoken.
    Handshake,
    /// A rule refuses it, or closes its connection.
    Rule,
    /// It held too much memory.
    Memory,
}

impl RefusalReason {
    /// The reason in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        self.get_documentation().unwrap_or_default()
    }
}

/// What was refused for one reason.
#[derive(Clone, Debug, Default)]
struct ReasonRefusals {
    /// How often.
    count: u64,
    /// The networks of the clients.
    networks: Offenders,
}

/// What one worker refused at one frontend. Nothing is held until something is refused.
#[derive(Debug, Default)]
pub struct RefusalLane(Mutex<Option<Box<[ReasonRefusals; RefusalReason::COUNT]>>>);

impl RefusalLane {
    /// A client was refused. Its own worker calls it, so that the lock is mostly free.
    #[cold]
    pub fn note(&self, reason: RefusalReason, client: IpAddr, now: u64) {
        let client = client.to_canonical();
        let bits = if client.is_ipv4() { 32 } else { PREFIX_IPV6 };
        let Ok(network) = IpNet::new(client, bits) else { return };
        let mut all = self.lock();
        let of = &mut all.get_or_insert_default()[reason as usize];
        of.count += 1;
        of.networks.add(network.trunc(), 1, 0, now);
    }

    fn lock(&self) -> MutexGuard<'_, Option<Box<[ReasonRefusals; RefusalReason::COUNT]>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What lanes refused together: how often, and which networks most, for each reason that there was.
pub(crate) fn refusals<'l>(
    lanes: impl Iterator<Item = &'l RefusalLane>,
) -> Vec<(RefusalReason, u64, Vec<Offender>)> {
    let mut all: [ReasonRefusals; RefusalReason::COUNT] = Default::default();
    for lane in lanes {
        for (sum, of) in all.iter_mut().zip(lane.lock().iter().flat_map(|of| of.iter())) {
            sum.count += of.count;
            for network in of.networks.iter() {
                sum.networks.add(network.network, network.count, network.over, network.last);
            }
        }
    }
    let reasons = RefusalReason::VARIANTS.iter().copied().zip(all);
    reasons
        .filter(|(_, of)| of.count > 0)
        .map(|(reason, of)| (reason, of.count, of.networks.most()))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refusals_are_counted_by_reason_and_network_over_all_lanes() {
        let lanes = [RefusalLane::default(), RefusalLane::default()];
        assert!(refusals(lanes.iter()).is_empty());
        for (lane, reason, client) in [
            (0, RefusalReason::Limit, "192.0.2.7"),
            (1, RefusalReason::Limit, "::ffff:192.0.2.7"),
            (1, RefusalReason::Limit, "192.0.2.8"),
            (0, RefusalReason::TooSlow, "2001:db8::1"),
            (0, RefusalReason::TooSlow, "2001:db8::2"),
        ] {
            lanes[lane].note(reason, client.parse().unwrap(), 5);
        }
        let words = |(reason, count, most): (RefusalReason, u64, Vec<Offender>)| {
            let most: Vec<String> = most.iter().map(|one| format!("{} {}", one.network, one.count)).collect();
            format!("{reason} {count}: {}", most.join(", "))
        };
        let found: Vec<String> = refusals(lanes.iter()).into_iter().map(words).collect();
        assert_eq!(found, ["limit 3: 192.0.2.7/32 2, 192.0.2.8/32 1", "too_slow 2: 2001:db8::/64 2"]);
    }
}
