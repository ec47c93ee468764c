//! Connections of workers to servers, within the servers' limits and timeouts.

use std::future::Future;
use std::io;
use std::pin::pin;
use std::sync::Arc;
use std::task::{Context, Poll, Waker};

use merismos_connector::connect::{ConnectError, HappyEyeballs, NEXT_ADDRESS_AFTER, connect_address_from};
use merismos_connector::descriptors;
use merismos_core::config::document::UpstreamSettings;
use merismos_core::routing::Server;
use merismos_core::runtime::ServerRuntime;
use tokio::net::TcpStream;

use crate::deadline::WakeReason;
use crate::io::{ConnectionTimer, write_all};
use crate::tls::{ServerProtocol, ServerTlsTable, TlsConnection};

/// Connects to the first of a server's addresses that answers, within the server's time, and remembers which it was.
async fn connect_within_timeout(
    server: &Server,
    approach: ServerApproach<'_>,
) -> Result<TcpStream, ConnectFailure> {
    let ServerApproach { how, turn, watch, .. } = approach;
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
                Some(WakeReason::Cut | WakeReason::Drained | WakeReason::Crowded) => {
                    return Poll::Ready(Err(ConnectFailure::Cut));
                }
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

/// A connection to a server, in plain text or in TLS.
#[derive(Debug)]
pub(crate) enum ServerConnection {
    Plain(TcpStream),
    Tls(Box<TlsConnection>),
}

impl ServerConnection {
    /// Whether the server has neither closed it nor sent anything unasked, as far as is known.
    pub(crate) fn is_quiet(&mut self) -> bool {
        let stream = match self {
            Self::Plain(stream) => stream,
            Self::Tls(stream) => return stream.is_quiet(),
        };
        let mut context = Context::from_waker(Waker::noop());
        match stream.poll_read_ready(&mut context) {
            Poll::Pending => true,
            Poll::Ready(_) => {
                let mut byte = [0];
                matches!(stream.try_read(&mut byte), Err(error) if error.kind() == io::ErrorKind::WouldBlock)
            }
        }
    }
}

/// A connection to a server, counted where the server's connections are limited.
#[derive(Debug)]
pub(crate) struct Upstream {
    pub(crate) stream: ServerConnection,
    /// The host that its server was asked for by a request.
    pub(crate) host: Option<Box<str>>,
    /// The pool's `trust_id` when it was made.
    pub(crate) trust_id: u64,
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
    /// Says who the client is, and begins with TLS, where the pool's servers want that.
    async fn begin(
        server: &Server,
        mut stream: TcpStream,
        seat: Option<ConnectionSlot>,
        approach: ServerApproach<'_>,
    ) -> Result<Self, ConnectFailure> {
        if let Some(header) = approach.header {
            let sent = write_all(&mut stream, header, approach.watch, server.times.idle).await;
            sent.map_err(|_| ConnectFailure::Failed(ConnectError::Other(io::ErrorKind::BrokenPipe)))?;
        }
        let stream = match approach.how.tls {
            None => ServerConnection::Plain(stream),
            Some(_) => {
                // Rare beside kept connections; in a box it does not make every connection's future larger.
                let handshake = Box::pin(approach.tls.handshake(server, stream, approach)).await?;
                ServerConnection::Tls(Box::new(handshake))
            }
        };
        let (born, host) = (approach.watch.wheel.now(), approach.host.map(Box::from));
        Ok(Self { stream, host, trust_id: approach.trust_id, seat, born, was_long: false })
    }

    /// Whether it may be kept for later. Where connections are limited, half of them at most rest, for a resting
    /// connection of one worker is of no use to another.
    pub(crate) fn may_rest(&self) -> bool {
        let has_room = |seat: &ConnectionSlot| seat.cell.room.connections() * 2 <= u64::from(seat.limit);
        self.seat.as_ref().is_none_or(has_room) && !self.is_wanted()
    }

    /// Whether a worker needs a connection to the server and can't have one, for as many as may be are open.
    pub(crate) fn is_wanted(&self) -> bool {
        self.seat.as_ref().is_some_and(|seat| seat.cell.room.wants_rest())
    }
}

/// Why a server was not reached for a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ConnectFailure {
    /// There is no connection.
    Failed(ConnectError),
    /// It was withdrawn meanwhile.
    Cut,
}

/// How a server is to be reached for some work.
#[derive(Clone, Copy)]
pub(crate) struct ServerApproach<'a> {
    pub(crate) how: &'a UpstreamSettings,
    pub(crate) trust_id: u64,
    /// Tells the source addresses apart.
    pub(crate) turn: u64,
    pub(crate) watch: ConnectionTimer<'a>,
    /// How servers are spoken to in TLS.
    pub(crate) tls: &'a ServerTlsTable,
    pub(crate) protocol: ServerProtocol,
    /// The host of the request, where servers are asked for that.
    pub(crate) host: Option<&'a str>,
    /// The header of the PROXY protocol, where servers want one.
    pub(crate) header: Option<&'a [u8]>,
}

/// Connects to a server for a request, within the server's limits.
pub(crate) async fn connect_server(
    server: &Server,
    approach: ServerApproach<'_>,
) -> Result<Upstream, ConnectFailure> {
    let ServerApproach { how, turn, watch, .. } = approach;
    let seat = match server.limits.connections {
        None => None,
        Some(_) if !server.cell.room.connect(server.limits) => {
            return Err(ConnectFailure::Failed(ConnectError::LimitReached));
        }
        Some(limit) => Some(ConnectionSlot { cell: Arc::clone(&server.cell), limit }),
    };
    if !server.other_addresses.is_empty() {
        let stream = Box::pin(connect_within_timeout(server, approach)).await.and_then(only_of_traffic)?;
        return Upstream::begin(server, stream, seat, approach).await;
    }
    watch.set_timeout(server.times.connect);
    let mut opening = pin!(connect_address_from(&how.source_addresses, turn, server.address));
    let stream =
        std::future::poll_fn(|context| match (opening.as_mut().poll(context), watch.alarm.fired()) {
            (Poll::Ready(opened), _) => Poll::Ready(opened.map_err(ConnectFailure::Failed)),
            (Poll::Pending, None) => Poll::Pending,
            (Poll::Pending, Some(WakeReason::Cut | WakeReason::Drained | WakeReason::Crowded)) => {
                Poll::Ready(Err(ConnectFailure::Cut))
            }
            (Poll::Pending, Some(WakeReason::Deadline | WakeReason::Close)) => {
                Poll::Ready(Err(ConnectFailure::Failed(ConnectError::Silent)))
            }
        })
        .await
        .and_then(only_of_traffic)?;
    Upstream::begin(server, stream, seat, approach).await
}

/// Closes a connection again that takes a descriptor of those kept for probes and the control side.
fn only_of_traffic(stream: TcpStream) -> Result<TcpStream, ConnectFailure> {
    if descriptors::allows_traffic(&stream) {
        return Ok(stream);
    }
    Err(ConnectFailure::Failed(ConnectError::Exhausted))
}
