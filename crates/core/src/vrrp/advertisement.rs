//! The packet in which a node says that it holds an address (RFC 9568, 5).

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;

use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

/// Number of the protocol in IP (RFC 9568, 5.1.1.4).
pub const PROTOCOL: u8 = 112;
/// Where advertisements go over IPv4 (RFC 9568, 5.1.1.2).
pub const MULTICAST_V4: Ipv4Addr = Ipv4Addr::new(224, 0, 0, 18);
/// Where advertisements go over IPv6 (RFC 9568, 5.1.2.2).
pub const MULTICAST_V6: Ipv6Addr = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 0x12);

/// Version 3 in the upper four bits, type 1 (ADVERTISEMENT, the only one) in the lower.
const VERSION_AND_TYPE: u8 = 0x31;
/// Octets before the addresses.
const HEAD: usize = 8;
/// The longest interval that the field of 12 bits holds, in hundredths of a second.
const LONGEST: u16 = 0x0fff;

/// How the checksum of an advertisement over IPv4 is made. Both kinds are taken as right when they are received.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
pub enum ChecksumRule {
    /// Over the message alone (RFC 9568, 5.2.8).
    #[default]
    #[serde(rename = "rfc-9568")]
    #[strum(serialize = "rfc-9568")]
    Message,
    /// Over the message and a pseudo-header, as routers of the standard before it want it (RFC 5798, 5.2.8).
    #[serde(rename = "rfc-5798")]
    #[strum(serialize = "rfc-5798")]
    PseudoHeader,
}

/// How often advertisements come: whole hundredths of a second, from 1 to 4095 (RFC 9568, 5.2.7).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct WholeInterval(u16);

impl WholeInterval {
    /// The nearest interval that the field holds.
    #[must_use]
    pub fn nearest(to: Duration) -> Self {
        let hundredths = (to.as_millis() + 5) / 10;
        Self(u16::try_from(hundredths).unwrap_or(LONGEST).clamp(1, LONGEST))
    }

    /// It as a length of time.
    #[must_use]
    pub fn duration(self) -> Duration {
        Duration::from_millis(u64::from(self.0) * 10)
    }
}

/// What a node says of an address that it holds, or is about to leave.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advertisement {
    /// Which of the virtual routers of this link it is (VRID), from 1 on.
    pub router_id: u8,
    /// How much the sender is worth; 0 when it leaves the address.
    pub priority: u8,
    /// How often the sender advertises.
    pub interval: WholeInterval,
    /// The addresses, of one family.
    pub addresses: Vec<IpAddr>,
}

/// Why a packet is no advertisement to act upon (RFC 9568, 7.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AdvertisementError {
    /// Fewer octets than it speaks of.
    #[error("it is cut off: {found} octets of {wanted}")]
    Short {
        /// How many octets came.
        found: usize,
        /// How many were to come.
        wanted: usize,
    },
    /// Another version than 3.
    #[error("it is of VRRP version {0}; wanted 3")]
    Version(u8),
    /// No ADVERTISEMENT.
    #[error("it is of type {0}; wanted 1 (ADVERTISEMENT)")]
    Type(u8),
    /// The checksum fits neither rule.
    #[error("its checksum is wrong")]
    Checksum,
    /// An interval of nothing.
    #[error("its interval is 0")]
    Interval,
    /// Router 0.
    #[error("its virtual router id is 0; wanted 1 to 255")]
    RouterId,
}

impl Advertisement {
    /// It as octets. `from` and `to` are the addresses of the packet, which the checksum may cover.
    ///
    /// # Panics
    /// When there are more than 255 addresses, which no checked document has.
    #[must_use]
    pub fn encode(&self, from: IpAddr, to: IpAddr, rule: ChecksumRule) -> Vec<u8> {
        let count = u8::try_from(self.addresses.len()).expect("a checked document has few addresses");
        let [high, low] = self.interval.0.to_be_bytes();
        let mut octets = vec![VERSION_AND_TYPE, self.router_id, self.priority, count, high, low, 0, 0];
        for address in &self.addresses {
            octets.extend_from_slice(octets_of(*address).as_slice());
        }
        let pseudo = from.is_ipv6() || rule == ChecksumRule::PseudoHeader;
        let before = if pseudo { pseudo_header(from, to, octets.len()) } else { 0 };
        let checksum = !folded(before + sum(&octets));
        octets[6..8].copy_from_slice(&checksum.to_be_bytes());
        octets
    }

    /// Reads one. `from` and `to` are the addresses of the packet.
    ///
    /// # Errors
    /// Why it is none; then it has to be discarded (RFC 9568, 7.1).
    pub fn decode(octets: &[u8], from: IpAddr, to: IpAddr) -> Result<Self, AdvertisementError> {
        let short = |wanted| AdvertisementError::Short { found: octets.len(), wanted };
        let &[version_and_type, router_id, priority, count, high, low, _, _, ref rest @ ..] = octets else {
            return Err(short(HEAD));
        };
        if version_and_type >> 4 != VERSION_AND_TYPE >> 4 {
            return Err(AdvertisementError::Version(version_and_type >> 4));
        }
        if version_and_type & 0x0f != VERSION_AND_TYPE & 0x0f {
            return Err(AdvertisementError::Type(version_and_type & 0x0f));
        }
        let width = if from.is_ipv4() { 4 } else { 16 };
        let wanted = usize::from(count) * width;
        if rest.len() < wanted {
            return Err(short(HEAD + wanted));
        }
        let message = sum(octets);
        let covered = message + pseudo_header(from, to, octets.len());
        if folded(covered) != 0xffff && (from.is_ipv6() || folded(message) != 0xffff) {
            return Err(AdvertisementError::Checksum);
        }
        let interval = u16::from_be_bytes([high & 0x0f, low]);
        if interval == 0 {
            return Err(AdvertisementError::Interval);
        }
        if router_id == 0 {
            return Err(AdvertisementError::RouterId);
        }
        let addresses = rest[..wanted].chunks_exact(width).map(address_of).collect();
        Ok(Self { router_id, priority, interval: WholeInterval(interval), addresses })
    }
}

fn octets_of(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(address) => address.octets().to_vec(),
        IpAddr::V6(address) => address.octets().to_vec(),
    }
}

fn address_of(octets: &[u8]) -> IpAddr {
    match <[u8; 4]>::try_from(octets) {
        Ok(four) => Ipv4Addr::from(four).into(),
        Err(_) => {
            Ipv6Addr::from(<[u8; 16]>::try_from(octets).expect("addresses are 4 or 16 octets wide")).into()
        }
    }
}

/// Sum of the 16-bit words, the last one filled up with zeros (RFC 1071, 1).
fn sum(octets: &[u8]) -> u32 {
    octets.chunks(2).map(|word| u32::from(word[0]) << 8 | u32::from(word.get(1).copied().unwrap_or(0))).sum()
}

/// Sum of the pseudo-header (RFC 8200, 8.1; for IPv4 the same fields in its widths).
fn pseudo_header(from: IpAddr, to: IpAddr, length: usize) -> u32 {
    let length = u32::try_from(length).unwrap_or(u32::MAX >> 8);
    sum(&octets_of(from)) + sum(&octets_of(to)) + u32::from(PROTOCOL) + length
}

/// The sum in 16 bits, with what was carried over added (RFC 1071, 1).
fn folded(mut sum: u32) -> u16 {
    while sum > 0xffff {
        sum = (sum & 0xffff) + (sum >> 16);
    }
    u16::try_from(sum).expect("it was folded")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const FROM: &str = "192.0.2.1";

    fn said() -> Advertisement {
        Advertisement {
            router_id: 10,
            priority: 200,
            interval: WholeInterval::nearest(Duration::from_millis(100)),
            addresses: vec!["192.0.2.10".parse().unwrap()],
        }
    }

    #[rstest]
    // Sums by hand: 310a + c801 + 000a + c000 + 020a = 1bb1f, folded bb20; its complement is 44df.
    #[case::of_the_message(ChecksumRule::Message, 0x44df)]
    // And with c000 + 0201 + e000 + 0012 + 0070 + 000c of the pseudo-header.
    #[case::with_the_pseudo_header(ChecksumRule::PseudoHeader, 0xa24e)]
    fn the_checksum_is_that_of_the_standard(#[case] rule: ChecksumRule, #[case] checksum: u16) {
        let octets = said().encode(FROM.parse().unwrap(), MULTICAST_V4.into(), rule);
        assert_eq!(octets[..6], [0x31, 10, 200, 1, 0, 10]);
        assert_eq!(u16::from_be_bytes([octets[6], octets[7]]), checksum, "{octets:02x?}");
        assert_eq!(octets[8..], [192, 0, 2, 10]);
        assert_eq!(Advertisement::decode(&octets, FROM.parse().unwrap(), MULTICAST_V4.into()), Ok(said()));
    }

    #[rstest]
    #[case::nothing(|octets: &mut Vec<u8>| octets.clear(), AdvertisementError::Short { found: 0, wanted: 8 })]
    #[case::no_address(|octets: &mut Vec<u8>| octets.truncate(11), AdvertisementError::Short { found: 11, wanted: 12 })]
    #[case::version(|octets: &mut Vec<u8>| octets[0] = 0x21, AdvertisementError::Version(2))]
    #[case::kind(|octets: &mut Vec<u8>| octets[0] = 0x32, AdvertisementError::Type(2))]
    #[case::checksum(|octets: &mut Vec<u8>| octets[2] = 201, AdvertisementError::Checksum)]
    fn what_is_wrong_is_named(#[case] spoil: fn(&mut Vec<u8>), #[case] why: AdvertisementError) {
        let mut octets = said().encode(FROM.parse().unwrap(), MULTICAST_V4.into(), ChecksumRule::Message);
        spoil(&mut octets);
        assert_eq!(Advertisement::decode(&octets, FROM.parse().unwrap(), MULTICAST_V4.into()), Err(why));
    }

    #[rstest]
    #[case(5, 10)]
    #[case(104, 100)]
    #[case(105, 110)]
    #[case(1_000_000, 40_950)]
    fn intervals_are_hundredths_of_a_second(#[case] wanted: u64, #[case] has: u64) {
        let interval = WholeInterval::nearest(Duration::from_millis(wanted));
        assert_eq!(interval.duration(), Duration::from_millis(has));
    }

    proptest! {
        #[test]
        fn what_is_sent_is_read_again(
            router_id in 1..=255_u8, priority: u8, interval in 1..=4095_u16,
            six in proptest::collection::vec(any::<u128>(), 0..20), four in proptest::collection::vec(any::<u32>(), 0..20),
            from: u128, is_six: bool, pseudo: bool,
        ) {
            let addresses: Vec<IpAddr> = if is_six {
                six.into_iter().map(|bits| Ipv6Addr::from(bits).into()).collect()
            } else {
                four.into_iter().map(|bits| Ipv4Addr::from(bits).into()).collect()
            };
            let (from, to): (IpAddr, IpAddr) = if is_six {
                (Ipv6Addr::from(from).into(), MULTICAST_V6.into())
            } else {
                (Ipv4Addr::from(from as u32).into(), MULTICAST_V4.into())
            };
            let rule = if pseudo { ChecksumRule::PseudoHeader } else { ChecksumRule::Message };
            let said = Advertisement { router_id, priority, interval: WholeInterval(interval), addresses };
            prop_assert_eq!(Advertisement::decode(&said.encode(from, to, rule), from, to), Ok(said));
        }

        #[test]
        fn anything_is_read_without_harm(octets in proptest::collection::vec(any::<u8>(), 0..100), is_six: bool) {
            let at: IpAddr = if is_six { "fe80::1".parse().unwrap() } else { FROM.parse().unwrap() };
            let _ = Advertisement::decode(&octets, at, at);
        }
    }
}
