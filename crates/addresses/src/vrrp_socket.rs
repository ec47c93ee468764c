//! Raw sockets that advertisements go and come by.

use std::io::{self, IoSlice, IoSliceMut};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddrV4, SocketAddrV6};
use std::os::fd::AsRawFd;

use etherparse::Ipv4HeaderSlice;
use merismos_core::vrrp::{MULTICAST_V4, MULTICAST_V6, PROTOCOL};
use nix::libc;
use nix::sys::socket::sockopt::Ipv6RecvPacketInfo;
use nix::sys::socket::{
    ControlMessage, ControlMessageOwned, MsgFlags, SockaddrIn, SockaddrIn6, SockaddrStorage, recvmsg,
    sendmsg, setsockopt,
};
use socket2::{Domain, InterfaceIndexOrAddress, Protocol, Socket, Type};
use tokio::io::Interest;
use tokio::io::unix::AsyncFd;

/// Time to live of advertisements, which tells that they crossed no router (RFC 9568, 5.1.1.3 and 5.1.2.3).
pub(crate) const FRESH: u8 = 255;
/// "Internetwork control" (RFC 2474, 4.2.2): routers send such packets before others.
const CONTROL_TRAFFIC: u32 = 0xc0;
/// Room for any packet of this protocol: a head and 255 addresses of IPv6, behind a head of IPv4.
const LONGEST: usize = 60 + 8 + 255 * 16;

/// A socket for the advertisements of one family on one interface.
#[derive(Debug)]
pub(crate) struct VrrpSocket {
    socket: AsyncFd<Socket>,
    index: u32,
    is_ipv6: bool,
}

/// A packet of the protocol.
#[derive(Debug)]
pub(crate) struct Packet {
    pub(crate) from: IpAddr,
    pub(crate) to: IpAddr,
    /// Its time to live, or hop limit, when it came.
    pub(crate) lives: u8,
    pub(crate) message: Vec<u8>,
}

impl VrrpSocket {
    /// Opens a socket on an interface, which hears what is sent to all virtual routers there.
    pub(crate) fn open(name: &str, index: u32, is_ipv6: bool) -> io::Result<Self> {
        let domain = if is_ipv6 { Domain::IPV6 } else { Domain::IPV4 };
        let socket = Socket::new(domain, Type::RAW, Some(Protocol::from(i32::from(PROTOCOL))))?;
        socket.set_nonblocking(true)?;
        socket.bind_device(Some(name.as_bytes()))?;
        if is_ipv6 {
            socket.join_multicast_v6(&MULTICAST_V6, index)?;
            socket.set_multicast_if_v6(index)?;
            socket.set_multicast_hops_v6(u32::from(FRESH))?;
            socket.set_unicast_hops_v6(u32::from(FRESH))?;
            socket.set_multicast_loop_v6(false)?;
            socket.set_tclass_v6(CONTROL_TRAFFIC)?;
            socket.set_recv_hoplimit_v6(true)?;
            setsockopt(&socket, Ipv6RecvPacketInfo, &true)?;
        } else {
            // It is not bound to an address: a raw socket of IPv4 that is gets no multicast.
            socket.join_multicast_v4_n(&MULTICAST_V4, &InterfaceIndexOrAddress::Index(index))?;
            socket.set_multicast_ttl_v4(u32::from(FRESH))?;
            socket.set_ttl_v4(u32::from(FRESH))?;
            socket.set_multicast_loop_v4(false)?;
            socket.set_tos_v4(CONTROL_TRAFFIC)?;
        }
        // SAFETY: the socket owns its descriptor, and is neither replaced nor closed while it is registered.
        let socket = unsafe { AsyncFd::register(socket) }.map_err(io::Error::other)?;
        Ok(Self { socket, index, is_ipv6 })
    }

    /// Whether it is for IPv6.
    pub(crate) fn is_ipv6(&self) -> bool {
        self.is_ipv6
    }

    /// Waits until there may be something to read.
    pub(crate) async fn readable(&self) -> io::Result<()> {
        // What is ready stays so until a read finds nothing.
        self.socket.readable().await.map(drop)
    }

    /// The next packet, where one has come already.
    pub(crate) fn receive(&self) -> Option<io::Result<Packet>> {
        let read = self.socket.try_io(Interest::READABLE, |socket| self.read(socket));
        match read {
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => None,
            read => Some(read),
        }
    }

    fn read(&self, socket: &Socket) -> io::Result<Packet> {
        let mut room = [0; LONGEST];
        let mut parts = [IoSliceMut::new(&mut room)];
        let mut control = nix::cmsg_space!(libc::in6_pktinfo, libc::c_int);
        let received = recvmsg::<SockaddrStorage>(
            socket.as_raw_fd(),
            &mut parts,
            Some(&mut control),
            MsgFlags::empty(),
        )?;
        let length = received.bytes;
        if !self.is_ipv6 {
            let header = Ipv4HeaderSlice::from_slice(&room[..length]).map_err(io::Error::other)?;
            return Ok(Packet {
                from: header.source_addr().into(),
                to: header.destination_addr().into(),
                lives: header.ttl(),
                message: room[header.slice().len()..length].to_vec(),
            });
        }
        let from = received.address.as_ref().and_then(SockaddrStorage::as_sockaddr_in6).map(SockaddrIn6::ip);
        let from = from.ok_or_else(|| io::Error::other("a packet without its sender"))?;
        let (mut to, mut lives) = (Ipv6Addr::UNSPECIFIED, 0);
        for message in received.cmsgs().map_err(io::Error::from)? {
            match message {
                ControlMessageOwned::Ipv6HopLimit(hops) => lives = u8::try_from(hops).unwrap_or(0),
                ControlMessageOwned::Ipv6PacketInfo(info) => to = Ipv6Addr::from(info.ipi6_addr.s6_addr),
                _ => {}
            }
        }
        Ok(Packet { from: from.into(), to: to.into(), lives, message: room[..length].to_vec() })
    }

    /// Sends a message from one of this machine's addresses.
    pub(crate) fn send(&self, from: IpAddr, to: IpAddr, message: &[u8]) -> io::Result<()> {
        let parts = [IoSlice::new(message)];
        let socket = self.socket.get_ref().as_raw_fd();
        match (from, to) {
            (IpAddr::V4(from), IpAddr::V4(to)) => {
                let info = libc::in_pktinfo {
                    ipi_ifindex: i32::try_from(self.index).map_err(io::Error::other)?,
                    ipi_spec_dst: libc::in_addr { s_addr: u32::from(from).to_be() },
                    ipi_addr: libc::in_addr { s_addr: u32::from(Ipv4Addr::UNSPECIFIED) },
                };
                let to = SockaddrIn::from(SocketAddrV4::new(to, 0));
                let control = [ControlMessage::Ipv4PacketInfo(&info)];
                sendmsg(socket, &parts, &control, MsgFlags::empty(), Some(&to))?;
            }
            (IpAddr::V6(from), IpAddr::V6(to)) => {
                let info = libc::in6_pktinfo {
                    ipi6_ifindex: self.index,
                    ipi6_addr: libc::in6_addr { s6_addr: from.octets() },
                };
                let to = SockaddrIn6::from(SocketAddrV6::new(to, 0, 0, self.index));
                let control = [ControlMessage::Ipv6PacketInfo(&info)];
                sendmsg(socket, &parts, &control, MsgFlags::empty(), Some(&to))?;
            }
            (IpAddr::V4(_), IpAddr::V6(_)) | (IpAddr::V6(_), IpAddr::V4(_)) => {
                return Err(io::Error::other("sender and receiver are of two families"));
            }
        }
        Ok(())
    }
}
