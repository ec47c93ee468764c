//! Connections of workers to servers, within the servers' limits and timeouts.

use std::future::Future;
use std::pin::pin;
use std::sync::Arc;
use std::task::Poll;

use merismos_connector::connect::{ConnectError, HappyEyeballs, NEXT_ADDRESS_AFTER, connect_address_from};
use merismos_connector::descriptors;
use merismos_core::config::document::UpstreamSettings;
use merismos_core::routing::Server;
use merismos_core::runtime::ServerRuntime;
use tokio::net::TcpStream;

use crate::deadline::WakeReason;
use crate::io::ConnectionTimer;

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

/// Connects to a server for a request, within the server's limits. `turn` tells the source addresses apart.
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
            (Poll::Pending, Some(WakeReason::Cut | WakeReason::Drained | WakeReason::Crowded)) => {
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

/// Closes a connection again that takes a descriptor of those kept for probes and the control side.
fn only_of_traffic(stream: TcpStream) -> Result<TcpStream, ConnectFailure> {
    if descriptors::allows_traffic(&stream) {
        return Ok(stream);
    }
    Err(ConnectFailure::Failed(ConnectError::Exhausted))
}
