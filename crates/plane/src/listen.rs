//! Listening sockets: one for each worker on each frontend's address.

use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::os::fd::OwnedFd;

use merismos_core::config::document::Endpoint;
use socket2::{Domain, Protocol, SockAddr, Socket, Type};

/// How many connections the kernel holds for a worker that is busy.
pub const BACKLOG: i32 = 4_096;

/// Why an address can't be listened on.
#[derive(Debug, thiserror::Error)]
pub enum BindError {
    /// Something else listens there.
    #[error("{address} is taken by {}: stop it, or choose another port", holder_words(.holder))]
    Taken {
        /// The address that is taken.
        address: SocketAddr,
        /// The process that listens there, where the system tells: its name and number.
        holder: Option<String>,
    },
    /// This machine has no such address.
    #[error("this machine has no address {}: choose one of its own, or 0.0.0.0 for all", address.ip())]
    NotOurs {
        /// The address that this machine lacks.
        address: SocketAddr,
    },
    /// The port is reserved for root.
    #[error("port {} is reserved: choose one from 1024 on, or give the service the right to bind it", address.port())]
    Forbidden {
        /// The address whose port is reserved for root.
        address: SocketAddr,
    },
    /// Any other error of the system.
    #[error("{address} can't be listened on: {source}")]
    Other {
        /// The address that was to be bound.
        address: SocketAddr,
        /// What the system said.
        source: io::Error,
    },
}

fn holder_words(holder: &Option<String>) -> String {
    holder.as_ref().map_or_else(|| "another program".to_owned(), Clone::clone)
}

/// Which process listens on an address or on all addresses with its port, as far as `/proc` tells us.
fn holder(Endpoint { udp, address }: Endpoint) -> Option<String> {
    use procfs::net::TcpState;

    let port = address.port();
    let meets = |there: SocketAddr| {
        let same_ip =
            there.ip() == address.ip() || there.ip().is_unspecified() || address.ip().is_unspecified();
        there.port() == port && same_ip
    };
    let inode = if udp {
        let tables = [procfs::net::udp(), procfs::net::udp6()].into_iter().filter_map(Result::ok).flatten();
        tables.into_iter().find(|entry| meets(entry.local_address))?.inode
    } else {
        let tables = [procfs::net::tcp(), procfs::net::tcp6()].into_iter().filter_map(Result::ok).flatten();
        tables.into_iter().find(|entry| entry.state == TcpState::Listen && meets(entry.local_address))?.inode
    };
    for process in procfs::process::all_processes().ok()?.filter_map(Result::ok) {
        let Ok(mut files) = process.fd() else { continue };
        let holds = files.any(|file| {
            file.is_ok_and(|file| matches!(file.target, procfs::process::FDTarget::Socket(of) if of == inode))
        });
        if holds {
            let name = process.stat().map_or_else(|_| "a process".to_owned(), |stat| stat.comm);
            return Some(format!("{name} (process {})", process.pid));
        }
    }
    None
}

impl BindError {
    fn new(endpoint: Endpoint, source: io::Error) -> Self {
        let address = endpoint.address;
        match source.kind() {
            io::ErrorKind::AddrInUse => Self::Taken { address, holder: holder(endpoint) },
            io::ErrorKind::AddrNotAvailable => Self::NotOurs { address },
            io::ErrorKind::PermissionDenied => Self::Forbidden { address },
            _ => Self::Other { address, source },
        }
    }

    /// The address that can't be listened on.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        match self {
            Self::Taken { address, .. }
            | Self::NotOurs { address }
            | Self::Forbidden { address }
            | Self::Other { address, .. } => *address,
        }
    }
}

/// Sockets that are bound and listen, at least one for each worker, and not yet handed to them.
#[derive(Debug)]
pub struct BoundSockets {
    pub(crate) endpoint: Endpoint,
    pub(crate) sockets: Vec<Listener>,
}

/// A socket that clients come to.
#[derive(Debug)]
pub(crate) enum Listener {
    Tcp(TcpListener),
    Udp(UdpSocket),
}

/// A socket that a service listens with, to be handed to its successor: a copy, so that the queue of those that connect is never without
/// an owner.
#[derive(Debug)]
pub struct HandedSocket {
    /// Where it listens.
    pub endpoint: Endpoint,
    /// The socket itself.
    pub descriptor: OwnedFd,
}

impl From<HandedSocket> for Listener {
    fn from(handed: HandedSocket) -> Self {
        if handed.endpoint.udp {
            Self::Udp(handed.descriptor.into())
        } else {
            Self::Tcp(handed.descriptor.into())
        }
    }
}

/// Adds sockets to those that were handed over, until each worker has one.
pub(crate) fn complete(
    endpoint: Endpoint,
    mut sockets: Vec<Listener>,
    workers: usize,
) -> Result<BoundSockets, BindError> {
    while sockets.len() < workers {
        // Those that were handed over are bound: this machine may not have the address at this moment.
        sockets.push(socket(endpoint, true, true).map_err(|error| BindError::new(endpoint, error))?);
    }
    Ok(BoundSockets { endpoint, sockets })
}

/// Binds an address once for each worker; `ours` when sockets of this service may be in the way, `is_moving` when this machine need not have the
/// address now.
pub(crate) fn bind(
    endpoint: Endpoint,
    workers: usize,
    ours: bool,
    is_moving: bool,
) -> Result<BoundSockets, BindError> {
    // SO_REUSEPORT lets several of our sockets share the port, but also those of another service that uses it
    // too; one try without it tells whether anybody is there.
    if !ours {
        drop(socket(endpoint, false, is_moving).map_err(|error| BindError::new(endpoint, error))?);
    }
    let sockets: Result<Vec<_>, _> = (0..workers).map(|_| socket(endpoint, true, is_moving)).collect();
    Ok(BoundSockets { endpoint, sockets: sockets.map_err(|error| BindError::new(endpoint, error))? })
}

fn socket(Endpoint { udp, address }: Endpoint, share_port: bool, is_moving: bool) -> io::Result<Listener> {
    let (kind, protocol) = if udp { (Type::DGRAM, Protocol::UDP) } else { (Type::STREAM, Protocol::TCP) };
    let socket = Socket::new(Domain::for_address(address), kind, Some(protocol))?;
    // For UDP it would let another program take the port beside us.
    if !udp {
        socket.set_reuse_address(true)?;
    }
    socket.set_reuse_port(share_port)?;
    socket.set_nonblocking(true)?;
    if address.is_ipv6() {
        socket.set_only_v6(!address.ip().is_unspecified())?;
    }
    if is_moving && address.is_ipv6() {
        socket.set_freebind_v6(true)?;
    } else if is_moving {
        socket.set_freebind_v4(true)?;
    }
    socket.bind(&SockAddr::from(address))?;
    if udp {
        return Ok(Listener::Udp(socket.into()));
    }
    socket.listen(BACKLOG)?;
    Ok(Listener::Tcp(socket.into()))
}
