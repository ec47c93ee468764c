//! Where something listens: an address and port as it was written, and what it comes to.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::str::FromStr;

use serde::{Serialize, Serializer};

use crate::name::Name;

/// How a place was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AddressSource {
    /// An address: `192.0.2.21:8080`.
    Literal,
    /// A known host: `gull:8080`.
    Host(Name),
    /// An address that was taken from a range: `public/web:80`.
    Taken {
        /// Name of the range that has the address.
        range: Name,
        /// The name under which the address was taken.
        name: Name,
    },
}

/// An address and port, as it was written and as it came out.
///
/// A place that names a host or a reserved address has the address `0.0.0.0` until the document that holds it is
/// checked; a [`Checked`](crate::config::Checked) document holds none of those.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AddressRef {
    written: AddressSource,
    address: SocketAddr,
}

/// Why a text is no [`AddressRef`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("this is not an address, a host or a reserved address with a port from 1 to 65535")]
pub struct AddressError;

impl AddressRef {
    /// A place written as an address.
    #[must_use]
    pub fn literal(address: SocketAddr) -> Self {
        Self { written: AddressSource::Literal, address }
    }

    /// The address and port.
    #[must_use]
    pub fn get(&self) -> SocketAddr {
        self.address
    }

    /// How it was written.
    #[must_use]
    pub fn written(&self) -> &AddressSource {
        &self.written
    }

    /// Writes the same port another way.
    pub(in crate::config) fn rewrite(&mut self, written: AddressSource) {
        self.written = written;
    }

    /// Fills in the address that the written name stands for.
    pub(in crate::config) fn settle(&mut self, ip: IpAddr) {
        self.address.set_ip(ip);
    }
}

impl FromStr for AddressRef {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, AddressError> {
        if let Ok(address) = text.parse::<SocketAddr>() {
            return if address.port() == 0 { Err(AddressError) } else { Ok(Self::literal(address)) };
        }
        let (named, port) = text.rsplit_once(':').ok_or(AddressError)?;
        let port: u16 = port.parse().ok().filter(|port| *port != 0).ok_or(AddressError)?;
        let name = |text: &str| text.parse::<Name>().map_err(|_| AddressError);
        let written = match named.split_once('/') {
            Some((range, taken)) => AddressSource::Taken { range: name(range)?, name: name(taken)? },
            None => AddressSource::Host(name(named)?),
        };
        Ok(Self { written, address: SocketAddr::new(Ipv4Addr::UNSPECIFIED.into(), port) })
    }
}

impl fmt::Display for AddressRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let port = self.address.port();
        match &self.written {
            AddressSource::Literal => write!(f, "{}", self.address),
            AddressSource::Host(host) => write!(f, "{host}:{port}"),
            AddressSource::Taken { range, name } => write!(f, "{range}/{name}:{port}"),
        }
    }
}

impl Serialize for AddressRef {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// Addresses from a first to a last, both included: written `192.0.2.16/28` or `192.0.2.16-192.0.2.31`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AddressRange {
    written: String,
    first: IpAddr,
    last: IpAddr,
}

/// Why a text is no [`AddressRange`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("wanted a prefix such as 192.0.2.16/28 or a range such as 192.0.2.16-192.0.2.31; found {0:?}")]
pub struct AddressRangeError(String);

fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(address) => u128::from(u32::from(address)),
        IpAddr::V6(address) => u128::from(address),
    }
}

/// The address of a number, of the same kind as `like`.
fn address(number: u128, like: IpAddr) -> IpAddr {
    match like {
        IpAddr::V4(_) => {
            Ipv4Addr::from(u32::try_from(number).expect("a number between two IPv4 addresses")).into()
        }
        IpAddr::V6(_) => Ipv6Addr::from(number).into(),
    }
}

impl AddressRange {
    /// Whether an address lies in the range.
    #[must_use]
    pub fn holds(&self, address: IpAddr) -> bool {
        address.is_ipv4() == self.first.is_ipv4()
            && (number(self.first)..=number(self.last)).contains(&number(address))
    }

    /// The addresses from the first on.
    pub fn iter(&self) -> impl Iterator<Item = IpAddr> {
        let like = self.first;
        (number(self.first)..=number(self.last)).map(move |number| address(number, like))
    }

    /// How many addresses there are.
    #[must_use]
    pub fn len(&self) -> u128 {
        (number(self.last) - number(self.first)).saturating_add(1)
    }

    /// Never: a range has at least one address.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        false
    }
}

impl FromStr for AddressRange {
    type Err = AddressRangeError;

    fn from_str(text: &str) -> Result<Self, AddressRangeError> {
        let wrong = || AddressRangeError(text.to_owned());
        let ip = |part: &str| part.trim().parse::<IpAddr>().map_err(|_| wrong());
        let (first, last) = if let Some((start, length)) = text.split_once('/') {
            let start = ip(start)?;
            let width: u32 = if start.is_ipv4() { 32 } else { 128 };
            let length: u32 = length.trim().parse().ok().filter(|bits| *bits <= width).ok_or_else(wrong)?;
            let free = width - length;
            let mask = if free == 128 { u128::MAX } else { (1 << free) - 1 };
            let first = number(start);
            if first & mask != 0 {
                return Err(wrong());
            }
            (start, address(first | mask, start))
        } else {
            let (first, last) = text.split_once('-').unwrap_or((text, text));
            (ip(first)?, ip(last)?)
        };
        if first.is_ipv4() != last.is_ipv4() || number(first) > number(last) {
            return Err(wrong());
        }
        Ok(Self { written: text.to_owned(), first, last })
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.written)
    }
}

impl Serialize for AddressRange {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::ipv4("192.0.2.21:8080", Some(AddressSource::Literal))]
    #[case::ipv6("[2001:db8::21]:8080", Some(AddressSource::Literal))]
    #[case::host("gull:8080", Some(AddressSource::Host("gull".parse().unwrap())))]
    #[case::address_of_a_range("public/web:80", Some(AddressSource::Taken { range: "public".parse().unwrap(), name: "web".parse().unwrap() }))]
    #[case::no_port("gull", None)]
    #[case::port_zero("192.0.2.21:0", None)]
    #[case::host_and_port_zero("gull:0", None)]
    #[case::a_dns_name("gull.skerry.example:80", None)]
    #[case::too_many_parts("a/b/c:80", None)]
    fn places(#[case] text: &str, #[case] written: Option<AddressSource>) {
        let place = text.parse::<AddressRef>().ok();
        assert_eq!(place.as_ref().map(|reference| reference.written().clone()), written);
        assert!(place.is_none_or(|place| place.to_string() == text));
    }

    #[rstest]
    #[case::prefix("192.0.2.16/28", Some(16))]
    #[case::first_and_last("192.0.2.16-192.0.2.18", Some(3))]
    #[case::single_address("192.0.2.16", Some(1))]
    #[case::ipv6_prefix("2001:db8::/126", Some(4))]
    #[case::not_on_its_border("192.0.2.17/28", None)]
    #[case::backwards("192.0.2.18-192.0.2.16", None)]
    #[case::two_kinds("192.0.2.16-2001:db8::1", None)]
    #[case::too_long("192.0.2.0/33", None)]
    fn ranges(#[case] text: &str, #[case] length: Option<usize>) {
        let range = text.parse::<AddressRange>().ok();
        assert_eq!(range.as_ref().map(|range| range.iter().count()), length);
        assert!(range.is_none_or(|range| range.iter().all(|address| range.holds(address))));
    }
}
