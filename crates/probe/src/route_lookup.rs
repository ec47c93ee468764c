//! The way to a host, as the system knows it: is there a route, and does the neighbour answer?

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket};

use procfs::net::{ARPFlags, arp};

/// What the system knows of a neighbour: a host, or a router, on the same network.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Neighbour {
    /// It answered lately: its link-layer address is known.
    Answers,
    /// It was asked for and did not answer.
    Silent,
}

/// The way to an address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Route {
    /// The system has no route to the address; its words for it.
    None(String),
    /// The way that packets to the address take.
    Route {
        /// The address of this machine that it begins at.
        from: IpAddr,
        /// What is known of the host itself, when it is a neighbour (IPv4).
        neighbour: Option<Neighbour>,
    },
}

/// Asks the system for the way to an address. Nothing is sent.
#[must_use]
pub fn way_to(address: SocketAddr, source: Option<IpAddr>) -> Route {
    match route(address, source) {
        Ok(from) => Route::Route { from, neighbour: neighbour(address.ip()) },
        Err(error) => Route::None(error.to_string()),
    }
}

/// A datagram socket that is connected says which address the system would send from, and sends nothing.
fn route(address: SocketAddr, source: Option<IpAddr>) -> io::Result<IpAddr> {
    let any: IpAddr =
        if address.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
    let socket = UdpSocket::bind((source.unwrap_or(any), 0))?;
    socket.connect(address)?;
    Ok(socket.local_addr()?.ip())
}

fn neighbour(address: IpAddr) -> Option<Neighbour> {
    let IpAddr::V4(address) = address else { return None };
    let known = arp().ok()?.into_iter().find(|entry| entry.ip_address == address)?;
    Some(if known.flags.contains(ARPFlags::COM) { Neighbour::Answers } else { Neighbour::Silent })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loopback_is_reached_from_itself() {
        let way = way_to(([127, 0, 0, 1], 80).into(), None);
        assert_eq!(way, Route::Route { from: [127, 0, 0, 1].into(), neighbour: None });
    }

    #[test]
    fn a_source_that_this_machine_does_not_have_has_no_way() {
        assert!(matches!(way_to(([127, 0, 0, 1], 80).into(), Some([192, 0, 2, 77].into())), Route::None(_)));
    }
}
