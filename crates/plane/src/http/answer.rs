//! The way of an answer from a server to a client.

use std::cell::Cell;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use merismos_core::cells::ServerLane;
use merismos_core::routing::{Frontend, Server, Times};

use tokio::io::{AsyncRead, ReadBuf};

use super::body::{Follow, content};
use super::failure::{ServerFailure, server_failure};
use super::head::{self, Framing, HeadScan, More, Request, Response};
use crate::buffer::{Buffer, SMALL, with_room};
use crate::io::{Sink, Source, Spilt, Trouble, Watch, read, read_fresh, splice, write_all};
use crate::worker::{Client, Worker};

/// From how much on the rest of a body of known length goes by `splice` (see docs/performance.md).
const SPLICE_FROM: u64 = 32 << 10;

/// A whole answer has gone to the client.
pub(super) struct Delivered {
    /// The client's connection can carry another request.
    pub(super) keep_client: bool,
    /// The server's connection can carry another request.
    pub(super) keep_server: bool,
    /// Both go on with another protocol; what the server has sent of it already.
    pub(super) tunnel: Option<Option<Buffer>>,
}

/// Why an answer did not get through.
pub(super) enum NotDelivered {
    /// The server failed before a byte of its answer went to the client.
    Server(ServerFailure),
    /// The server failed in the middle of its answer.
    BrokenOff {
        /// Only the end of the connection would tell the client that the body is whole.
        open_ended: bool,
    },
    /// The client went away.
    ClientGone,
}

/// Everything that is needed to bring one answer back.
pub(super) struct Answer<'a> {
    worker: &'a Worker,
    client: &'a Client,
    frontend: &'a Frontend,
    request: &'a Request,
    lane: &'a ServerLane,
    times: Times,
    watch: Watch<'a>,
    /// A field that ties the client to the server.
    pin: Option<Vec<u8>>,
    begun: Cell<bool>,
}

impl<'a> Answer<'a> {
    pub(super) fn new(
        (worker, client): (&'a Worker, &'a Client),
        frontend: &'a Frontend,
        request: &'a Request,
        (server, pin): (&'a Server, Option<Vec<u8>>),
        watch: Watch<'a>,
    ) -> Self {
        let (lane, times) = (server.cell.lane(worker.index), server.times);
        Self { worker, client, frontend, request, lane, times, watch, pin, begun: Cell::new(false) }
    }

    /// Whether the final answer's head has come.
    pub(super) fn has_begun(&self) -> bool {
        self.begun.get()
    }

    /// Waits for the answer and brings it to the client. The deadline for its beginning is the caller's to set.
    pub(super) async fn deliver(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
    ) -> Result<Delivered, NotDelivered> {
        let (mut buffer, response) = self.final_head(server, client).await?;
        let length = response.length;
        self.begun.set(true);
        if response.status == 101 {
            self.count(response);
            self.send(client, &buffer[..length]).await?;
            buffer.consume(length);
            let rest = (!buffer.is_empty()).then_some(buffer);
            return Ok(Delivered { keep_client: false, keep_server: false, tunnel: Some(rest) });
        }
        self.watch.all_within(self.times.whole_answer);
        let unchunk = self.request.is_http_10 && response.framing == Framing::Chunked;
        let ends_with_close = unchunk || response.framing == Framing::UntilClose;
        let stays = !self.worker.stopping.get() && !self.client.leaving.get();
        let keep_client = self.request.keep_alive && !ends_with_close && stays;
        let connection = match (keep_client, self.request.is_http_10) {
            (false, _) => Some("close"),
            (true, true) => Some("keep-alive"),
            (true, false) => None,
        };
        let mut follow = Follow::new(response.framing);
        if response.passes_as_is && connection.is_none() && self.pin.is_none() {
            // The head needs no change: it goes on from the buffer it was read into, with what came behind it.
            let used = follow.pass(&buffer[length..], |_| {}).map_err(|_| nonsense())?;
            self.count(response);
            self.send(client, &buffer[..length + used]).await?;
            buffer.consume(length + used);
        } else {
            self.count(response);
            let mut out = self.worker.scrap();
            let more = More { connection, field: self.pin.as_deref() };
            head::write_response(&buffer[..length], unchunk, more, &mut out);
            buffer.consume(length);
            let sent = self.send_body(client, &mut follow, &mut buffer, unchunk, &mut out).await;
            self.worker.give_back(out);
            sent?;
        }
        let clean = self.rest_of_body(server, client, follow, buffer, unchunk).await?;
        Ok(Delivered { keep_client, keep_server: response.keep_alive && clean, tunnel: None })
    }

    /// Counts the answer, before the client can have it.
    fn count(&self, response: Response) {
        self.lane.taken.up();
        if response.status >= 500 {
            self.lane.errors.up();
        }
    }

    /// Reads heads until the final one; informational ones (1xx) go to the client on the way.
    async fn final_head(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
    ) -> Result<(Buffer, Response), NotDelivered> {
        let mut rest = None;
        loop {
            let mut attentive = Attentive { server, client, given_up: false };
            let head = self.read_head(&mut attentive, rest.take()).await;
            if attentive.given_up {
                return Err(NotDelivered::ClientGone);
            }
            let (mut buffer, response) = head.map_err(NotDelivered::Server)?;
            let length = response.length;
            match response.status {
                101 if self.request.upgrade => return Ok((buffer, response)),
                // No upgrade was passed on, so none can be agreed to.
                101 => return Err(nonsense()),
                100..=199 => {
                    if !self.request.is_http_10 {
                        self.send(client, &buffer[..length]).await?;
                    }
                    buffer.consume(length);
                    rest = (!buffer.is_empty()).then_some(buffer);
                }
                _ => return Ok((buffer, response)),
            }
        }
    }

    async fn read_head(
        &self,
        server: &mut impl Source,
        rest: Option<Buffer>,
    ) -> Result<(Buffer, Response), ServerFailure> {
        let failure = |trouble: Trouble| server_failure(&trouble);
        let mut buffer = match rest {
            Some(buffer) => buffer,
            None => read_fresh(server, &self.worker.small, self.watch).await.map_err(failure)?,
        };
        let mut scan = HeadScan::default();
        // Mostly it is all there at once. A head that comes in pieces is parsed again when its end has come.
        let parse = |buffer: &Buffer| head::response(buffer, self.request.is_head);
        if let Some(response) = parse(&buffer).map_err(|_| ServerFailure::Nonsense)? {
            return Ok((buffer, response));
        }
        loop {
            if scan.end(&buffer).map_err(|_| ServerFailure::Nonsense)?.is_some() {
                let response = parse(&buffer).ok().flatten().ok_or(ServerFailure::Nonsense)?;
                return Ok((buffer, response));
            }
            buffer = with_room(buffer, &self.worker.large).ok_or(ServerFailure::Nonsense)?;
            match read(server, &mut buffer, self.watch).await {
                Ok(_) => {}
                Err(Trouble::Closed | Trouble::Broken) => return Err(ServerFailure::Nonsense),
                Err(trouble @ Trouble::Rang(_)) => return Err(server_failure(&trouble)),
            }
        }
    }

    /// Carries what is left of the body. Gives whether the server sent nothing beyond it.
    async fn rest_of_body(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
        mut follow: Follow,
        mut buffer: Buffer,
        unchunk: bool,
    ) -> Result<bool, NotDelivered> {
        if let Follow::Counted(left) = follow
            && left >= SPLICE_FROM
            && let (Some(from), Some(to)) = (server.socket(), client.socket())
            && let Some(mut pipe) = self.worker.pipes.take()
        {
            drop(buffer);
            let (patience, resting) = (self.times.idle, self.frontend.idle_timeout);
            let moved = Box::pin(splice((from, patience), (to, resting), left, &mut pipe, self.watch)).await;
            self.worker.pipes.give_back(Some(pipe));
            return match moved {
                Ok(()) => Ok(true),
                Err(Spilt::Source) => Err(NotDelivered::BrokenOff { open_ended: false }),
                Err(Spilt::Sink(trouble)) => Err(not_taken(&trouble)),
            };
        }
        let mut out = Vec::new();
        while !follow.is_done() {
            let is_long = !matches!(follow, Follow::Counted(left) if left <= SMALL as u64);
            if is_long && buffer.capacity() == SMALL {
                buffer = self.worker.large.take();
            }
            self.watch.within(self.times.idle);
            let mut attentive = Attentive { server, client, given_up: false };
            let came = read(&mut attentive, &mut buffer, self.watch).await;
            if attentive.given_up {
                return Err(NotDelivered::ClientGone);
            }
            match came {
                Ok(_) => self.send_body(client, &mut follow, &mut buffer, unchunk, &mut out).await?,
                Err(Trouble::Closed) if matches!(follow, Follow::UntilClose) => return Ok(false),
                Err(_) => {
                    let open_ended = unchunk || matches!(follow, Follow::UntilClose);
                    return Err(NotDelivered::BrokenOff { open_ended });
                }
            }
        }
        Ok(buffer.is_empty())
    }

    /// Sends `out` and what of the buffer belongs to the body.
    async fn send_body(
        &self,
        client: &mut impl Sink,
        follow: &mut Follow,
        buffer: &mut Buffer,
        unchunk: bool,
        out: &mut Vec<u8>,
    ) -> Result<(), NotDelivered> {
        let broken = |_| NotDelivered::BrokenOff { open_ended: unchunk };
        let used = if unchunk {
            follow.pass(buffer, content(out)).map_err(broken)?
        } else {
            follow.pass(buffer, |_| {}).map_err(broken)?
        };
        if !unchunk && out.is_empty() {
            self.send(client, &buffer[..used]).await?;
        } else {
            if !unchunk {
                out.extend_from_slice(&buffer[..used]);
            }
            self.send(client, out).await?;
            out.clear();
        }
        buffer.consume(used);
        Ok(())
    }

    async fn send(&self, client: &mut impl Sink, bytes: &[u8]) -> Result<(), NotDelivered> {
        let sent = write_all(client, bytes, self.watch, self.frontend.idle_timeout).await;
        sent.map_err(|trouble| not_taken(&trouble))
    }
}

/// A server that is read from for a client who may say meanwhile that it wants nothing more.
struct Attentive<'a, S, C> {
    server: &'a mut S,
    client: &'a mut C,
    /// It said so; that is what reading failed of.
    given_up: bool,
}

impl<S: Source, C: Sink> Attentive<'_, S, C> {
    fn attend(&mut self, context: &mut Context<'_>) -> io::Result<()> {
        if self.client.poll_given_up(context).is_ready() {
            self.given_up = true;
            return Err(io::ErrorKind::ConnectionAborted.into());
        }
        Ok(())
    }
}

impl<S: Source, C: Sink> AsyncRead for Attentive<'_, S, C> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        room: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        self.attend(context)?;
        Pin::new(&mut *self.server).poll_read(context, room)
    }
}

impl<S: Source, C: Sink> Source for Attentive<'_, S, C> {
    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.attend(context)?;
        self.server.poll_ready(context)
    }
}

/// What it means that the client did not take a part of its answer.
fn not_taken(trouble: &Trouble) -> NotDelivered {
    match trouble {
        Trouble::Rang(crate::alarm::Ring::Cut) => NotDelivered::BrokenOff { open_ended: true },
        Trouble::Rang(_) | Trouble::Closed | Trouble::Broken => NotDelivered::ClientGone,
    }
}

fn nonsense() -> NotDelivered {
    NotDelivered::Server(ServerFailure::Nonsense)
}
