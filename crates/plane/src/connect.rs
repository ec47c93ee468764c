//! The one connector: every connection to a server, for traffic and for probes, is made here.

use std::future::Future;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use merismos_core::config::document::UpstreamSettings;
use merismos_core::routing::{Pool, Server};
use merismos_core::runtime::ServerRuntime;
use nix::sys::socket::sockopt::IpBindAddressNoPort;
use tokio::net::{TcpSocket, TcpStream};

use crate::deadline::{TICK, WakeReason};
use crate::descriptors;
use crate::io::ConnectionTimer;
use crate::worker::Worker;

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
pub(crate) fn sources(all: &[IpAddr], server: SocketAddr, turn: u64) -> impl Iterator<Item = IpAddr> {
    let fitting = move || all.iter().copied().filter(move |address| address.is_ipv4() == server.is_ipv4());
    let count = fitting().count();
    let first = (turn % count.max(1) as u64) as usize;
    fitting().chain(fitting()).skip(first).take(count)
}

/// As [`open`], from one of some addresses: the `turn`th of the server's family, and the next when that has no port
/// left.
pub(crate) async fn connect_address_from(
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
const NEXT_ADDRESS_AFTER: Duration = Duration::from_millis(250);

/// One attempt to connect.
type Attempt<'a> = Pin<Box<dyn Future<Output = Result<TcpStream, ConnectError>> + Send + 'a>>;

/// Attempts to connect to several addresses of one server, each begun while the ones before it are still under way
/// (RFC 8305, 5).
struct HappyEyeballs<'a> {
    sources: &'a [IpAddr],
    turn: u64,
    addresses: Vec<SocketAddr>,
    /// The place of the first that is tried.
    first: usize,
    begun: usize,
    running: Vec<(usize, Attempt<'a>)>,
    failed: ConnectError,
}

impl<'a> HappyEyeballs<'a> {
    fn new(sources: &'a [IpAddr], turn: u64, addresses: Vec<SocketAddr>, first: usize) -> Self {
        let first = first % addresses.len();
        let (running, failed) = (Vec::new(), ConnectError::Silent);
        let mut race = Self { sources, turn, addresses, first, begun: 0, running, failed };
        race.begin_next();
        race
    }

    /// Begins with the next address; `false` when there is none.
    fn begin_next(&mut self) -> bool {
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
    fn poll(&mut self, context: &mut Context<'_>) -> Poll<Result<(TcpStream, usize), ConnectError>> {
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
pub(crate) async fn connect_any_address(
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

/// Connects to the first of a server's addresses that answers, within the server's time, and remembers which it was.
async fn connect_within_timeout(
    server: &Server,
    how: &UpstreamSettings,
    turn: u64,
    watch: ConnectionTimer<'_>,
) -> Result<TcpStream, ConnectFailure> {
    let addresses = std::iter::once(server.address).chain(server.other_addresses.iter().copied()).collect();
    let mut race = HappyEyeballs::new(&how.source_addresses, turn, addresses, server.cell.way());
    let mut left = server.times.connect;
    let mut wait = |is_last: bool| {
        let part = if is_last { left } else { left.min(NEXT_ADDRESS_AFTER) };
        left -= part;
        watch.set_timeout(part);
        !part.is_zero()
    };
    wait(false);
    let (stream, place) = std::future::poll_fn(|context| {
        loop {
            if let Poll::Ready(ended) = race.poll(context) {
                return Poll::Ready(ended.map_err(ConnectFailure::Failed));
            }
            match watch.alarm.fired() {
                None => return Poll::Pending,
                Some(WakeReason::Cut | WakeReason::Crowded) => return Poll::Ready(Err(ConnectFailure::Cut)),
                Some(WakeReason::Close) => {
                    return Poll::Ready(Err(ConnectFailure::Failed(ConnectError::Silent)));
                }
                Some(WakeReason::Deadline) => {
                    let is_last = !race.begin_next();
                    watch.alarm.ack();
                    if !wait(is_last) {
                        return Poll::Ready(Err(ConnectFailure::Failed(ConnectError::Silent)));
                    }
                }
            }
        }
    })
    .await?;
    server.cell.goes_by(place);
    Ok(stream)
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

/// A connection to a server, counted where the server's connections are limited.
#[derive(Debug)]
pub(crate) struct Upstream {
    pub(crate) stream: TcpStream,
    pub(crate) seat: Option<ConnectionSlot>,
    /// When it was made, in ticks.
    pub(crate) born: u64,
    /// The last answer on it was long.
    pub(crate) was_long: bool,
}

/// A place among the connections to a server.
#[derive(Debug)]
pub(crate) struct ConnectionSlot {
    cell: Arc<ServerRuntime>,
    limit: u32,
}

impl Drop for ConnectionSlot {
    fn drop(&mut self) {
        self.cell.room.disconnect();
    }
}

impl Upstream {
    /// Whether it may be kept for later. Where connections are limited, half of them at most rest, for a resting
    /// connection of one worker is of no use to another.
    pub(crate) fn may_rest(&self) -> bool {
        let has_room = |seat: &ConnectionSlot| seat.cell.room.connections() * 2 <= u64::from(seat.limit);
        self.seat.as_ref().is_none_or(has_room) && !self.is_wanted()
    }

    /// Whether somebody needs a connection to the server and can't have one, for as many as may be are open.
    pub(crate) fn is_wanted(&self) -> bool {
        self.seat.as_ref().is_some_and(|seat| seat.cell.room.wants_rest())
    }
}

/// Why a server was not reached for a piece of work.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ConnectFailure {
    /// There is no connection.
    Failed(ConnectError),
    /// It was withdrawn meanwhile.
    Cut,
}

/// Connects to a server for a piece of work, within the server's limits. `turn` tells the source addresses apart.
pub(crate) async fn connect_server(
    server: &Server,
    how: &UpstreamSettings,
    turn: u64,
    watch: ConnectionTimer<'_>,
) -> Result<Upstream, ConnectFailure> {
    let seat = match server.limits.connections {
        None => None,
        Some(_) if !server.cell.room.connect(server.limits) => {
            return Err(ConnectFailure::Failed(ConnectError::LimitReached));
        }
        Some(limit) => Some(ConnectionSlot { cell: Arc::clone(&server.cell), limit }),
    };
    if !server.other_addresses.is_empty() {
        let stream =
            Box::pin(connect_within_timeout(server, how, turn, watch)).await.and_then(only_of_traffic)?;
        return Ok(Upstream { stream, seat, born: watch.wheel.now(), was_long: false });
    }
    watch.set_timeout(server.times.connect);
    let mut opening = pin!(connect_address_from(&how.source_addresses, turn, server.address));
    let stream =
        std::future::poll_fn(|context| match (opening.as_mut().poll(context), watch.alarm.fired()) {
            (Poll::Ready(opened), _) => Poll::Ready(opened.map_err(ConnectFailure::Failed)),
            (Poll::Pending, None) => Poll::Pending,
            (Poll::Pending, Some(WakeReason::Cut | WakeReason::Crowded)) => {
                Poll::Ready(Err(ConnectFailure::Cut))
            }
            (Poll::Pending, Some(WakeReason::Deadline | WakeReason::Close)) => {
                Poll::Ready(Err(ConnectFailure::Failed(ConnectError::Silent)))
            }
        })
        .await
        .and_then(only_of_traffic)?;
    Ok(Upstream { stream, seat, born: watch.wheel.now(), was_long: false })
}

/// As [`reach`], for work of a worker: while the process is short of descriptors, those that rest unused are given up, and it is
/// tried again for as long as work of the pool may wait.
pub(crate) async fn connect_server_from(
    worker: &Worker,
    server: &Server,
    pool: &Pool,
    watch: ConnectionTimer<'_>,
) -> Result<Upstream, ConnectFailure> {
    let mut left = pool.queue.timeout.get();
    loop {
        match connect_server(server, &pool.reaching, worker.draw(), watch).await {
            Err(ConnectFailure::Failed(ConnectError::Exhausted)) if !left.is_zero() => {
                worker.idle.close_all();
                worker.next_tick().await;
                left = left.saturating_sub(TICK);
            }
            reached => return reached,
        }
    }
}

/// Closes a connection again that takes a descriptor of those kept for probes and the control side.
fn only_of_traffic(stream: TcpStream) -> Result<TcpStream, ConnectFailure> {
    if descriptors::allows_traffic(&stream) {
        return Ok(stream);
    }
    Err(ConnectFailure::Failed(ConnectError::Exhausted))
}
