//! The one connector: every connection to a server, for traffic and for probes, is made here.

use std::future::Future;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use nix::sys::socket::sockopt::IpBindAddressNoPort;
use tokio::net::{TcpSocket, TcpStream};

use crate::descriptors;

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
    /// As many connections to the server are open as its limit allows.
    #[error("as many connections to this server are open as its connection_limit allows")]
    LimitReached,
    /// A source address of the pool is not this machine's.
    #[error(
        "this machine does not have the source address {0} that connections to this server are to come from"
    )]
    SourceAddress(IpAddr),
    /// This process may open no more sockets.
    #[error("this service has no free file descriptor (or local port) for another connection")]
    Exhausted,
    /// There is a connection, and the handshake of TLS on it failed.
    #[error("TLS with the server failed: {0}")]
    Tls(TlsFailure),
    /// Any other error of the system.
    #[error("the connection failed: {0}")]
    Other(io::ErrorKind),
}

/// Why a handshake with a server failed, as far as that matters to the work that needed it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TlsFailure {
    /// Its certificate is not to be trusted.
    #[error("its certificate does not pass")]
    Certificate,
    /// Its certificate is another one than the pinned one.
    #[error("its certificate is not the pinned one")]
    OtherPin,
    /// It does not speak TLS.
    #[error("what it says is no TLS")]
    NoTls,
    /// It does not want to go on.
    #[error("it refused")]
    Refused,
    /// It took too long.
    #[error("the handshake did not end in time")]
    Slow,
    /// It speaks no HTTP/2.
    #[error("it does not agree to HTTP/2")]
    NoHttp2,
    /// The request names no host that a server could be asked for.
    #[error("the request's host is no name")]
    NoName,
    /// The authorities of the pool can't be read.
    #[error("the authorities that the pool trusts can't be read")]
    NotSetUp,
    /// The connection broke.
    #[error("the connection broke in the handshake")]
    Broken,
}

impl From<io::Error> for ConnectError {
    fn from(error: io::Error) -> Self {
        match (error.kind(), error.raw_os_error()) {
            (io::ErrorKind::ConnectionRefused, _) => Self::Refused,
            (io::ErrorKind::TimedOut, _) => Self::Silent,
            (io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable, _) => Self::Unreachable,
            (io::ErrorKind::AddrNotAvailable, _) | (_, Some(EMFILE | ENFILE)) => {
                descriptors::note_shortage();
                Self::Exhausted
            }
            (kind, _) => Self::Other(kind),
        }
    }
}

/// `errno` of a process that has too many files open (POSIX).
const EMFILE: i32 = 24;
/// `errno` of a system that has too many files open (POSIX).
const ENFILE: i32 = 23;

/// Connects to a server for as long as it takes: the caller sets the limit.
async fn connect_address(address: SocketAddr) -> Result<TcpStream, ConnectError> {
    let stream = TcpStream::connect(address).await?;
    stream.set_nodelay(true)?;
    Ok(stream)
}

/// The addresses of a server's family, each once, beginning with the `turn`th.
pub fn sources(all: &[IpAddr], server: SocketAddr, turn: u64) -> impl Iterator<Item = IpAddr> {
    let fitting = move || all.iter().copied().filter(move |address| address.is_ipv4() == server.is_ipv4());
    let count = fitting().count();
    let first = (turn % count.max(1) as u64) as usize;
    fitting().chain(fitting()).skip(first).take(count)
}

/// As [`connect_address`], from one of some addresses: the `turn`th of the server's family, and the next when that has no port
/// left.
pub async fn connect_address_from(
    sources: &[IpAddr],
    turn: u64,
    address: SocketAddr,
) -> Result<TcpStream, ConnectError> {
    let mut sources = self::sources(sources, address, turn).peekable();
    if sources.peek().is_none() {
        return connect_address(address).await;
    }
    let mut last = ConnectError::Exhausted;
    for source in sources {
        let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
        // The port is chosen when the peer is known: then one may serve for many peers.
        nix::sys::socket::setsockopt(&socket, IpBindAddressNoPort, &true).map_err(io::Error::from)?;
        socket.bind(SocketAddr::new(source, 0)).map_err(|error| match error.kind() {
            io::ErrorKind::AddrNotAvailable => ConnectError::SourceAddress(source),
            _ => error.into(),
        })?;
        match socket.connect(address).await.map_err(ConnectError::from) {
            Ok(stream) => {
                stream.set_nodelay(true)?;
                return Ok(stream);
            }
            Err(ConnectError::Exhausted) => last = ConnectError::Exhausted,
            Err(error) => return Err(error),
        }
    }
    Err(last)
}

/// How long an attempt may take before the next address is tried beside it (RFC 8305, 5 and 8).
pub const NEXT_ADDRESS_AFTER: Duration = Duration::from_millis(250);

/// One attempt to connect.
type Attempt<'a> = Pin<Box<dyn Future<Output = Result<TcpStream, ConnectError>> + Send + 'a>>;

/// Attempts to connect to several addresses of one server, each begun while the ones before it are still under way
/// (RFC 8305, 5).
pub struct HappyEyeballs<'a> {
    sources: &'a [IpAddr],
    turn: u64,
    addresses: Vec<SocketAddr>,
    /// The place of the first that is tried.
    first: usize,
    begun: usize,
    running: Vec<(usize, Attempt<'a>)>,
    failed: ConnectError,
}

impl std::fmt::Debug for HappyEyeballs<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("HappyEyeballs")
            .field("addresses", &self.addresses)
            .field("begun", &self.begun)
            .finish_non_exhaustive()
    }
}

impl<'a> HappyEyeballs<'a> {
    /// Begins with the address at `first`; from the `turn`th of the source addresses of its family.
    ///
    /// # Panics
    /// Without an address.
    #[must_use]
    pub fn new(sources: &'a [IpAddr], turn: u64, addresses: Vec<SocketAddr>, first: usize) -> Self {
        let first = first % addresses.len();
        let (running, failed) = (Vec::new(), ConnectError::Silent);
        let mut race = Self { sources, turn, addresses, first, begun: 0, running, failed };
        race.begin_next();
        race
    }

    /// Begins with the next address; `false` when there is none.
    pub fn begin_next(&mut self) -> bool {
        if self.begun == self.addresses.len() {
            return false;
        }
        let place = (self.first + self.begun) % self.addresses.len();
        self.begun += 1;
        let attempt = connect_address_from(self.sources, self.turn, self.addresses[place]);
        self.running.push((place, Box::pin(attempt)));
        true
    }

    /// Ready with the first connection and the place of its address, or when all attempts have failed. One that fails has
    /// the next begin at once.
    pub fn poll(&mut self, context: &mut Context<'_>) -> Poll<Result<(TcpStream, usize), ConnectError>> {
        let mut at = 0;
        while at < self.running.len() {
            let (place, attempt) = &mut self.running[at];
            match attempt.as_mut().poll(context) {
                Poll::Ready(Ok(stream)) => return Poll::Ready(Ok((stream, *place))),
                Poll::Ready(Err(error)) => {
                    self.failed = error;
                    drop(self.running.remove(at));
                    self.begin_next();
                }
                Poll::Pending => at += 1,
            }
        }
        if self.running.is_empty() { Poll::Ready(Err(self.failed)) } else { Poll::Pending }
    }
}

/// Connects to the first of a server's addresses that answers, for as long as it takes. Needs a runtime with a timer.
pub async fn connect_any_address(
    sources: &[IpAddr],
    addresses: &[SocketAddr],
) -> Result<(TcpStream, SocketAddr), ConnectError> {
    if let [address] = addresses {
        return Ok((connect_address_from(sources, 0, *address).await?, *address));
    }
    let mut race = HappyEyeballs::new(sources, 0, addresses.to_vec(), 0);
    let mut next = tokio::time::interval(NEXT_ADDRESS_AFTER);
    next.reset();
    let (stream, place) = std::future::poll_fn(|context| {
        while next.poll_tick(context).is_ready() && race.begin_next() {}
        race.poll(context)
    })
    .await?;
    Ok((stream, addresses[place]))
}

/// Connects to a server at the first of its addresses that answers, within `limit`. Needs a runtime with a timer; workers
/// have none and limit theirs by their alarms.
///
/// # Errors
/// [`ConnectError`], which tells a refusal from silence.
///
/// # Panics
/// Without an address.
pub async fn connect(addresses: &[SocketAddr], limit: Duration) -> Result<TcpStream, ConnectError> {
    let opened = tokio::time::timeout(limit, connect_any_address(&[], addresses)).await;
    opened.unwrap_or(Err(ConnectError::Silent)).map(|(stream, _)| stream)
}
