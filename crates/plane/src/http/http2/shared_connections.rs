//! Connections to servers that speak HTTP/2, each shared by many requests.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::io;
use std::pin::pin;
use std::rc::{Rc, Weak};
use std::task::Poll;

use bytes::Bytes;
use h2::client::{Builder, SendRequest};
use merismos_core::routing::Server;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::sync::Notify;

use super::convert::RequestHead;
use super::server_stream::ServerStream;
use super::{CONNECTION_WINDOW, SEND_BUFFER, STREAM_WINDOW};
use crate::deadline::{WakeReason, ticks};
use crate::io::ConnectionTimer;
use crate::upstream::{
    ConnectFailure, ConnectionSlot, ServerApproach, ServerConnection, Upstream, connect_server,
};
use merismos_connector::connect::ConnectError;

/// The most requests that share a connection, where the server would take more.
const MOST_STREAMS: usize = 100;

/// A connection to a server.
pub(super) struct SharedConnection {
    pub(super) requests: SendRequest<Bytes>,
    pub(super) streams: Cell<usize>,
    /// It takes no more requests: it is closed, or it did not answer in time.
    pub(super) spent: Cell<bool>,
    /// When it was used last, in ticks.
    pub(super) used: Cell<u64>,
    /// How long it stays without use, in ticks.
    rests: u64,
    /// From when on it takes no more requests, in ticks.
    until: u64,
    /// The pool's `trust_id` when it was made.
    trust_id: u64,
}

impl SharedConnection {
    fn has_room(&self) -> bool {
        let most = self.requests.current_max_send_streams().min(MOST_STREAMS);
        !self.spent.get() && self.streams.get() < most
    }
}

/// A connection that is being made; the others wait for it instead of making one each.
struct PendingConnection {
    done: Notify,
    failure: Cell<Option<ConnectFailure>>,
}

/// What there is for one server.
#[derive(Default)]
struct ServerConnections {
    lines: Vec<Rc<SharedConnection>>,
    opening: Option<Weak<PendingConnection>>,
}

/// The shared connections of one worker, by the number of their server's cell.
#[derive(Default)]
pub(crate) struct SharedConnections {
    servers: RefCell<BTreeMap<u32, ServerConnections>>,
}

impl std::fmt::Debug for SharedConnections {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Shared").finish_non_exhaustive()
    }
}

/// What to do for a stream.
enum StreamStep {
    Use(Rc<SharedConnection>),
    WaitFor(Rc<PendingConnection>),
    Open(Rc<PendingConnection>),
}

impl SharedConnections {
    fn step(&self, server: u32, trust_id: u64) -> StreamStep {
        let mut servers = self.servers.borrow_mut();
        let known = servers.entry(server).or_default();
        if let Some(line) = known.lines.iter().find(|line| line.has_room() && line.trust_id == trust_id) {
            return StreamStep::Use(Rc::clone(line));
        }
        if let Some(opening) = known.opening.as_ref().and_then(Weak::upgrade) {
            return StreamStep::WaitFor(opening);
        }
        let opening = Rc::new(PendingConnection { done: Notify::new(), failure: Cell::new(None) });
        known.opening = Some(Rc::downgrade(&opening));
        StreamStep::Open(opening)
    }

    /// A stream to a server, over a connection that is there or a new one.
    pub(in super::super) async fn stream(
        &self,
        server: &Server,
        approach: ServerApproach<'_>,
        asked: RequestHead,
    ) -> Result<ServerStream, ConnectFailure> {
        let watch = approach.watch;
        loop {
            match self.step(server.cell.id, approach.trust_id) {
                StreamStep::Use(line) => {
                    return Ok(ServerStream::server_stream(line, watch.wheel.now(), asked));
                }
                StreamStep::WaitFor(opening) => wait_for(&opening, server, watch).await?,
                StreamStep::Open(opening) => {
                    // Those who wait are woken, also when this request ends before the connection is made.
                    let notify = NotifyWaiting(Rc::clone(&opening));
                    let line = self.open(server, approach).await;
                    if let Err(failure) = &line {
                        opening.failure.set(Some(*failure));
                    }
                    drop((notify, opening));
                    line?;
                }
            }
        }
    }

    pub(crate) async fn open(
        &self,
        server: &Server,
        approach: ServerApproach<'_>,
    ) -> Result<(), ConnectFailure> {
        let Upstream { stream, seat, born, .. } = connect_server(server, approach).await?;
        let line = match stream {
            ServerConnection::Plain(stream) => share(stream, approach, seat, born).await,
            ServerConnection::Tls(stream) => share(*stream, approach, seat, born).await,
        };
        self.servers.borrow_mut().entry(server.cell.id).or_default().lines.push(line?);
        Ok(())
    }

    /// Lets go of what rested too long or takes no more requests. What is under way on it still ends.
    pub(crate) fn tidy(&self, now: u64) {
        self.servers.borrow_mut().retain(|_, known| {
            known.lines.retain(|line| {
                let rested = line.streams.get() == 0 && now - line.used.get() >= line.rests;
                !line.spent.get() && !rested && now < line.until
            });
            !known.lines.is_empty()
                || known.opening.as_ref().is_some_and(|opening| opening.strong_count() > 0)
        });
    }

    /// Gives no more requests to the connections of a server.
    pub(crate) fn forget(&self, server: u32) {
        if let Some(known) = self.servers.borrow_mut().get_mut(&server) {
            known.lines.clear();
        }
    }
}

/// Begins with HTTP/2 on a connection to a server.
async fn share(
    stream: impl AsyncRead + AsyncWrite + Unpin + 'static,
    ServerApproach { how, trust_id, .. }: ServerApproach<'_>,
    seat: Option<ConnectionSlot>,
    born: u64,
) -> Result<Rc<SharedConnection>, ConnectFailure> {
    let mut builder = Builder::new();
    builder
        .initial_window_size(STREAM_WINDOW)
        .initial_connection_window_size(CONNECTION_WINDOW)
        .max_send_buffer_size(SEND_BUFFER)
        .enable_push(false);
    let failed = |_| ConnectFailure::Failed(ConnectError::Other(io::ErrorKind::ConnectionReset));
    // This sends the client's side of the opening and does not wait for the server's.
    let (requests, connection) = builder.handshake(stream).await.map_err(failed)?;
    let line = Rc::new(SharedConnection {
        requests,
        streams: Cell::new(0),
        spent: Cell::new(false),
        used: Cell::new(born),
        rests: ticks(how.idle_connection_timeout.get()),
        until: born + ticks(how.idle_connection_age.get()),
        trust_id,
    });
    let weak = Rc::downgrade(&line);
    tokio::task::spawn_local(async move {
        if let Err(error) = connection.await {
            tracing::debug!(%error, "an HTTP/2 connection to a server ended badly");
        }
        drop(seat);
        if let Some(line) = weak.upgrade() {
            line.spent.set(true);
        }
    });
    Ok(line)
}

/// Tells those that wait for a connection that it is made, or will not be.
struct NotifyWaiting(Rc<PendingConnection>);

impl Drop for NotifyWaiting {
    fn drop(&mut self) {
        self.0.done.notify_waiters();
    }
}

/// Waits until another request has made a connection.
async fn wait_for(
    opening: &PendingConnection,
    server: &Server,
    watch: ConnectionTimer<'_>,
) -> Result<(), ConnectFailure> {
    let mut done = pin!(opening.done.notified());
    watch.set_timeout(server.times.connect);
    std::future::poll_fn(|context| {
        if done.as_mut().poll(context).is_ready() {
            return Poll::Ready(opening.failure.get().map_or(Ok(()), Err));
        }
        match watch.alarm.fired() {
            None => Poll::Pending,
            Some(WakeReason::Cut | WakeReason::Drained | WakeReason::Crowded) => {
                Poll::Ready(Err(ConnectFailure::Cut))
            }
            Some(WakeReason::Deadline | WakeReason::Close) => {
                Poll::Ready(Err(ConnectFailure::Failed(ConnectError::Silent)))
            }
        }
    })
    .await
}
