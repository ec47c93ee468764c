//! The one connector: every connection to a server, for traffic and for probes, is made here.

use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use tokio::net::TcpStream;

/// Why a connection to a server was not made. Nothing of a request can have been acted on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ConnectError {
    /// The host answered that nothing listens there.
    #[error("connection refused: the host answers, and nothing listens on that port")]
    Refused,
    /// Nothing came back in time.
    #[error("no answer to the connection attempt within the timeout: a filter drops it, or the host is away")]
    Silent,
    /// The network says that there is no way.
    #[error("no route to the host")]
    Unreachable,
    /// This process may open no more sockets.
    #[error("this service has no free file descriptor (or local port) for another connection")]
    Exhausted,
    /// Something else.
    #[error("the connection failed: {0}")]
    Other(io::ErrorKind),
}

impl From<io::Error> for ConnectError {
    fn from(error: io::Error) -> Self {
        match (error.kind(), error.raw_os_error()) {
            (io::ErrorKind::ConnectionRefused, _) => Self::Refused,
            (io::ErrorKind::TimedOut, _) => Self::Silent,
            (io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable, _) => Self::Unreachable,
            (io::ErrorKind::AddrNotAvailable, _) | (_, Some(EMFILE | ENFILE)) => Self::Exhausted,
            (kind, _) => Self::Other(kind),
        }
    }
}

/// `errno` of a process that has too many files open (POSIX).
const EMFILE: i32 = 24;
/// `errno` of a system that has too many files open (POSIX).
const ENFILE: i32 = 23;

/// Connects to a server for as long as it takes: the caller sets the limit.
pub(crate) async fn open(address: SocketAddr) -> Result<TcpStream, ConnectError> {
    let stream = TcpStream::connect(address).await?;
    stream.set_nodelay(true)?;
    Ok(stream)
}

/// Connects to a server, within `limit`. Needs a runtime with a timer; workers have none and limit [`open`] by
/// their alarms.
///
/// # Errors
/// [`ConnectError`], which tells a refusal from silence.
pub async fn connect(address: SocketAddr, limit: Duration) -> Result<TcpStream, ConnectError> {
    tokio::time::timeout(limit, open(address)).await.unwrap_or(Err(ConnectError::Silent))
}
