//! Telling the machines of a link where an address is now (RFC 5227, 3; RFC 4861, 7.2.6).

use std::io;
use std::net::{IpAddr, Ipv6Addr};
use std::os::fd::AsRawFd;

use etherparse::icmpv6::NeighborAdvertisementHeader;
use etherparse::{ArpHardwareId, ArpOperation, ArpPacket, EtherType, Icmpv6Type, PacketBuilder};
use nix::sys::socket::{
    AddressFamily, LinkAddr, MsgFlags, SockFlag, SockProtocol, SockType, SockaddrLike, sendto, socket,
};

/// All nodes of a link (RFC 4291, 2.7.1).
const ALL_NODES: Ipv6Addr = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 1);
/// Their hardware address (RFC 2464, 7).
const ALL_NODES_MAC: [u8; 6] = [0x33, 0x33, 0, 0, 0, 1];
const EVERYONE_MAC: [u8; 6] = [0xff; 6];
/// Kind and length of the option with the hardware address of the target (RFC 4861, 4.6.1).
const TARGET_OPTION: [u8; 2] = [2, 1];

/// Says to a whole link that an address is at this hardware address from now on.
pub(crate) fn announce(interface: u32, mac: [u8; 6], ip: IpAddr) -> io::Result<()> {
    send(interface, &announcement(mac, ip))
}

/// The frame for that: a gratuitous ARP, or an unsolicited neighbour advertisement.
fn announcement(mac: [u8; 6], ip: IpAddr) -> Vec<u8> {
    let mut frame = Vec::new();
    let written = match ip {
        IpAddr::V4(ip) => {
            let octets = ip.octets();
            // A request and not a reply: some machines pass over replies that they did not ask for (RFC 5227, 3).
            let arp = ArpPacket::new(
                ArpHardwareId::ETHERNET,
                EtherType::IPV4,
                ArpOperation::REQUEST,
                &mac,
                &octets,
                &[0; 6],
                &octets,
            )
            .expect("hardware addresses have 6 octets, and those of IPv4 have 4");
            PacketBuilder::ethernet2(mac, EVERYONE_MAC).arp(arp).write(&mut frame)
        }
        IpAddr::V6(ip) => {
            let header = NeighborAdvertisementHeader { router: false, solicited: false, r#override: true };
            let body = [&ip.octets()[..], &TARGET_OPTION, &mac].concat();
            PacketBuilder::ethernet2(mac, ALL_NODES_MAC)
                .ipv6(ip.octets(), ALL_NODES.octets(), 255)
                .icmpv6(Icmpv6Type::NeighborAdvertisement(header))
                .write(&mut frame, &body)
        }
    };
    written.expect("a buffer takes all");
    frame
}

fn send(interface: u32, frame: &[u8]) -> io::Result<()> {
    let descriptor = socket(
        AddressFamily::Packet,
        SockType::Raw,
        SockFlag::SOCK_CLOEXEC | SockFlag::SOCK_NONBLOCK,
        None::<SockProtocol>,
    )?;
    let mut to: nix::libc::sockaddr_ll = zeroed();
    to.sll_family = u16::try_from(nix::libc::AF_PACKET).expect("families are small");
    to.sll_ifindex = i32::try_from(interface).map_err(io::Error::other)?;
    to.sll_halen = 6;
    let length = u32::try_from(size_of_val(&to)).expect("an address is short");
    // SAFETY: it points to a whole `sockaddr_ll` of that length, which lives until the end of this function.
    let to = unsafe { LinkAddr::from_raw((&raw const to).cast(), Some(length)) };
    let to = to.ok_or_else(|| io::Error::other("no address of a link"))?;
    sendto(descriptor.as_raw_fd(), frame, &to, MsgFlags::empty())?;
    Ok(())
}

fn zeroed() -> nix::libc::sockaddr_ll {
    nix::libc::sockaddr_ll {
        sll_family: 0,
        sll_protocol: 0,
        sll_ifindex: 0,
        sll_hatype: 0,
        sll_pkttype: 0,
        sll_halen: 0,
        sll_addr: [0; 8],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MAC: [u8; 6] = [2, 0, 0, 0, 0, 7];

    #[test]
    fn ipv4_neighbours_get_a_gratuitous_arp() {
        let frame = announcement(MAC, "192.0.2.10".parse().unwrap());
        let wanted = [
            &EVERYONE_MAC[..],
            &MAC,
            &[8, 6, 0, 1, 8, 0, 6, 4, 0, 1],
            &MAC,
            &[192, 0, 2, 10],
            &[0; 6],
            &[192, 0, 2, 10],
        ]
        .concat();
        assert_eq!(frame[..wanted.len()], wanted);
    }

    #[test]
    fn ipv6_neighbours_get_an_advertisement_that_overrides() {
        let ip: Ipv6Addr = "2001:db8::10".parse().unwrap();
        let frame = announcement(MAC, ip.into());
        assert_eq!(frame[..14], [&ALL_NODES_MAC[..], &MAC, &[0x86, 0xdd]].concat());
        assert_eq!(
            frame[14 + 6..14 + 8],
            [58, 255],
            "ICMPv6, with the hop limit that tells that it crossed no router"
        );
        let message = &frame[54..];
        assert_eq!(
            (message[0], message[1], message[4]),
            (136, 0, 0x20),
            "an advertisement with the flag `override`"
        );
        assert_eq!(message[8..24], ip.octets());
        assert_eq!(message[24..], [&TARGET_OPTION[..], &MAC].concat());
    }
}
