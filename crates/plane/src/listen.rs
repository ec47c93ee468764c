//! Listening sockets: one for each worker on each frontend's address.

use std::io;
use std::net::{SocketAddr, TcpListener};

use socket2::{Domain, Protocol, SockAddr, Socket, Type};

/// How many connections the kernel holds for a worker that is busy.
const BACKLOG: i32 = 4_096;

/// Why an address can't be listened on.
#[derive(Debug, thiserror::Error)]
pub enum BindError {
    /// Something else listens there.
    #[error("{address} is taken by {}: stop it, or choose another port", holder_words(.holder))]
    Taken {
        /// The address.
        address: SocketAddr,
        /// The process that listens there, where the system tells: its name and number.
        holder: Option<String>,
    },
    /// This machine has no such address.
    #[error("this machine has no address {}: choose one of its own, or 0.0.0.0 for all", address.ip())]
    NotOurs {
        /// The address.
        address: SocketAddr,
    },
    /// The port is reserved for root.
    #[error("port {} is reserved: choose one from 1024 on, or give the service the right to bind it", address.port())]
    Forbidden {
        /// The address.
        address: SocketAddr,
    },
    /// Something else.
    #[error("{address} can't be listened on: {source}")]
    Other {
        /// The address.
        address: SocketAddr,
        /// What the system said.
        source: io::Error,
    },
}

fn holder_words(holder: &Option<String>) -> String {
    holder.as_ref().map_or_else(|| "another program".to_owned(), Clone::clone)
}

/// Which process listens on an address or on all addresses with its port, as far as `/proc` tells us.
fn holder(address: SocketAddr) -> Option<String> {
    use procfs::net::{TcpNetEntry, TcpState};

    let port = address.port();
    let same = |entry: &TcpNetEntry| {
        let there = entry.local_address;
        let meets =
            there.ip() == address.ip() || there.ip().is_unspecified() || address.ip().is_unspecified();
        entry.state == TcpState::Listen && there.port() == port && meets
    };
    let tables = [procfs::net::tcp(), procfs::net::tcp6()];
    let entry = tables.into_iter().filter_map(Result::ok).flatten().find(same)?;
    for process in procfs::process::all_processes().ok()?.filter_map(Result::ok) {
        let Ok(mut files) = process.fd() else { continue };
        let holds = files.any(|file| {
            file.is_ok_and(|file| {
                matches!(file.target, procfs::process::FDTarget::Socket(inode) if inode == entry.inode)
            })
        });
        if holds {
            let name = process.stat().map_or_else(|_| "a process".to_owned(), |stat| stat.comm);
            return Some(format!("{name} (process {})", process.pid));
        }
    }
    None
}

impl BindError {
    fn new(address: SocketAddr, source: io::Error) -> Self {
        match source.kind() {
            io::ErrorKind::AddrInUse => Self::Taken { address, holder: holder(address) },
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

/// Sockets that are bound and listen, one for each worker, and not yet handed to them.
#[derive(Debug)]
pub struct Bound {
    pub(crate) address: SocketAddr,
    pub(crate) sockets: Vec<TcpListener>,
}

/// Binds an address once for each worker; `ours` when sockets of this service may be in the way.
pub(crate) fn bind(address: SocketAddr, workers: usize, ours: bool) -> Result<Bound, BindError> {
    // SO_REUSEPORT lets several of our sockets share the port, but also those of another service that uses it
    // too; one try without it tells whether anybody is there.
    if !ours {
        drop(socket(address, false).map_err(|error| BindError::new(address, error))?);
    }
    let sockets: Result<Vec<_>, _> = (0..workers).map(|_| socket(address, true)).collect();
    Ok(Bound { address, sockets: sockets.map_err(|error| BindError::new(address, error))? })
}

fn socket(address: SocketAddr, share_port: bool) -> io::Result<TcpListener> {
    let socket = Socket::new(Domain::for_address(address), Type::STREAM, Some(Protocol::TCP))?;
    socket.set_reuse_address(true)?;
    socket.set_reuse_port(share_port)?;
    socket.set_nonblocking(true)?;
    if address.is_ipv6() {
        socket.set_only_v6(!address.ip().is_unspecified())?;
    }
    socket.bind(&SockAddr::from(address))?;
    socket.listen(BACKLOG)?;
    Ok(socket.into())
}
