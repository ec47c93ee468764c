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
    #[error("{address} is taken by another program: stop it, or choose another port")]
    Taken {
        /// The address.
        address: SocketAddr,
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

impl BindError {
    fn new(address: SocketAddr, source: io::Error) -> Self {
        match source.kind() {
            io::ErrorKind::AddrInUse => Self::Taken { address },
            io::ErrorKind::AddrNotAvailable => Self::NotOurs { address },
            io::ErrorKind::PermissionDenied => Self::Forbidden { address },
            _ => Self::Other { address, source },
        }
    }
}

/// Sockets that are bound and listen, one for each worker, and not yet handed to them.
#[derive(Debug)]
pub struct Bound {
    pub(crate) address: SocketAddr,
    pub(crate) sockets: Vec<TcpListener>,
}

/// Binds an address once for each worker.
pub(crate) fn bind(address: SocketAddr, workers: usize) -> Result<Bound, BindError> {
    // SO_REUSEPORT lets several of our sockets share the port, but also those of another service that uses it
    // too; one try without it tells whether anybody is there.
    drop(socket(address, false).map_err(|error| BindError::new(address, error))?);
    bind_shared(address, workers)
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

/// Binds an address that our own workers are about to let go.
pub(crate) fn bind_shared(address: SocketAddr, workers: usize) -> Result<Bound, BindError> {
    let sockets: Result<Vec<_>, _> = (0..workers).map(|_| socket(address, true)).collect();
    Ok(Bound { address, sockets: sockets.map_err(|error| BindError::new(address, error))? })
}
