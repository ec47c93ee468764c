//! A request on its way to a server, and the rest of its body, which may still come while the answer goes back.

use std::hint::cold_path;
use std::pin::pin;
use std::task::Poll;
use std::time::Duration;

use merismos_core::routing::UpstreamTimeouts;

use super::body::BodyTracker;
use super::body_pace;
use super::error_response::RequestError;
use super::failure::ForwardError;
use super::forward::{RequestForwarder, RequestOutcome};
use super::head::{Framing, Request};
use super::long_response::long_rest;
use super::response::{RequestProgress, ResponseDone, ResponseForwarder};
use crate::buffer::Buffer;
use crate::client_rate::ClientRate;
use crate::deadline::WakeReason;
use crate::io::{
    BodyKind, ConnectionTimer, IoError, Sink, Source, SpliceError, SplicePair, Transport, read_fresh,
    readable, write_all,
};
use crate::memory::MemoryGuard;

/// The request on its way to a server.
pub(super) struct RequestBody<'b> {
    /// The rewritten head, and what was there of the body when it was read.
    pub(super) start: &'b [u8],
    /// What the client sent beyond that: more of the body, or its next request.
    pub(super) input: Option<Buffer>,
    /// How much of the body is still to come.
    pub(super) follow: BodyTracker,
    /// Some of what was to come has gone to a server, and can't be sent again.
    pub(super) begun: bool,
    /// How much more a body that does not say its length may have, in bytes.
    left: u64,
    limit: u64,
}

impl<'b> RequestBody<'b> {
    /// A request whose rewritten head is in `out`; `input` is what the client sent behind its head. What is there of the
    /// body travels with the head, in one write, and can be sent again with it.
    ///
    /// # Errors
    /// [`RequestError::BrokenChunks`], [`RequestError::BodyTooLarge`].
    pub(super) fn new(
        request: &Request,
        limit: u64,
        mut input: Buffer,
        out: &'b mut Vec<u8>,
    ) -> Result<Self, RequestError> {
        let mut follow = BodyTracker::of_client(request.framing);
        let mut left = limit;
        if !follow.is_done() {
            cold_path();
            if matches!(request.framing, Framing::Length(length) if length > limit) {
                return Err(RequestError::BodyTooLarge { limit });
            }
            let head = out.len();
            let passed = follow.forward(&input, out).map_err(|_| RequestError::BrokenChunks)?;
            if passed.as_is {
                out.extend_from_slice(&input[..passed.used]);
            }
            input.consume(passed.used);
            if request.framing == Framing::Chunked {
                left = take(left, out.len() - head, limit)?;
            }
        }
        let input = (!input.is_empty()).then_some(input);
        Ok(Self { start: out, input, follow, begun: false, left, limit })
    }
}

/// How much of a body may still come when so many bytes came. The sizes of chunks count too.
fn take(left: u64, came: usize, limit: u64) -> Result<u64, RequestError> {
    left.checked_sub(came as u64).ok_or(RequestError::BodyTooLarge { limit })
}

impl RequestForwarder<'_> {
    /// Waits for the beginning of a body that is sure to come, so that a client which never sends it holds no server. One that
    /// waits for a sign, or sends without saying how much, may have reasons to hear from the server first.
    pub(super) async fn await_body_start(
        &self,
        stream: &mut impl Transport,
        sending: &mut RequestBody<'_>,
    ) -> Result<(), RequestOutcome> {
        let Framing::Length(length) = self.request.framing else { return Ok(()) };
        let is_bare = matches!(sending.follow, BodyTracker::Counted(left) if left == length);
        if !is_bare || sending.input.is_some() || self.request.expects {
            return Ok(());
        }
        self.watch.set_timeout(self.frontend.idle_timeout);
        let came = readable(stream, self.watch).await;
        self.client.alarm.cancel();
        came.map_err(|trouble| match PumpEnd::client(trouble) {
            PumpEnd::Client(Some(refusal)) => RequestOutcome::Refused(refusal),
            PumpEnd::Client(None) | PumpEnd::Server => RequestOutcome::ClientGone,
        })
    }

    /// Sends the rest of the body while the answer may already come.
    pub(super) async fn duplex(
        &self,
        stream: &mut impl Transport,
        upstream: &mut impl Transport,
        answer: &ResponseForwarder<'_>,
        times: &UpstreamTimeouts,
        sending: &mut RequestBody<'_>,
    ) -> Result<ResponseDone, ForwardError> {
        let (mut from_client, mut to_client) = stream.sides();
        let (mut from_server, mut to_server) = upstream.sides();
        let mut pump = pin!(self.pump(&mut from_client, &mut to_server, times, sending, answer));
        let mut deliver = pin!(answer.forward_response(&mut from_server, &mut to_client));
        let mut pumping = true;
        let mut answered = None;
        std::future::poll_fn(|context| {
            if pumping && let Poll::Ready(pumped) = pump.as_mut().poll(context) {
                pumping = false;
                if let Some(delivered) = answered.take() {
                    // What is left of a body, which can't be distinguished from a next request, ends the connection.
                    let keep_client = pumped.is_ok();
                    return Poll::Ready(Ok(ResponseDone { keep_client, ..delivered }));
                }
                match pumped {
                    Ok(()) => {
                        answer.note(RequestProgress::Whole);
                        self.watch.set_timeout(self.request.first_byte(times));
                    }
                    // The server stopped listening; it may have said why before, so its answer is still read.
                    Err(PumpEnd::Server) => answer.note(RequestProgress::InVain),
                    Err(PumpEnd::Client(refusal)) if !answer.has_begun() => {
                        return Poll::Ready(Err(
                            refusal.map_or(ForwardError::ClientGone, ForwardError::Refused)
                        ));
                    }
                    Err(PumpEnd::Client(_)) => {
                        return Poll::Ready(Err(ForwardError::ClientGone));
                    }
                }
            }
            if answered.is_some() {
                return Poll::Pending;
            }
            match deliver.as_mut().poll(context) {
                // The client learned that its connection goes on, so the rest of its request is taken.
                Poll::Ready(Ok(delivered)) if pumping && delivered.keep_client => {
                    answered = Some(delivered);
                    Poll::Pending
                }
                delivered => delivered,
            }
        })
        .await
    }

    /// Carries the body from the client to the server until it has all passed.
    async fn pump(
        &self,
        client: &mut impl Source,
        server: &mut impl Sink,
        times: &UpstreamTimeouts,
        sending: &mut RequestBody<'_>,
        answer: &ResponseForwarder<'_>,
    ) -> Result<(), PumpEnd> {
        let RequestBody { input, follow, begun, left, limit, .. } = sending;
        *begun = true;
        let patience = self.frontend.idle_timeout;
        let rate = ClientRate::new(self.frontend);
        let paces = self.request.paces();
        let counted = &answer.lane.bytes_to;
        let mut clean = Vec::new();
        while !follow.is_done() {
            let mut buffer = match input.take() {
                Some(buffer) => buffer,
                None => {
                    if paces.is_empty()
                        && let Some((mut pipe, left)) = long_rest(self.worker, follow, client, server)
                        && let (Some(source), Some(sink)) = (client.socket(), server.socket())
                    {
                        let pair = SplicePair {
                            source,
                            source_timeout: patience,
                            sink,
                            sink_timeout: times.idle,
                            counted,
                            watch: self.watch,
                        };
                        let moved = pair.splice(&mut pipe, left, BodyKind::Request(&rate)).await;
                        self.worker.pipes.give_back(Some(pipe));
                        moved.map_err(|spilt| match spilt {
                            SpliceError::Source(trouble) => PumpEnd::client(trouble),
                            SpliceError::Sink(_) => PumpEnd::Server,
                        })?;
                        *follow = BodyTracker::Done;
                        return Ok(());
                    }
                    self.watch.set_timeout(patience);
                    rate.wait(self.watch.wheel.now());
                    let came = read_fresh(client, &self.worker.large, self.watch).await;
                    let buffer = came.map_err(PumpEnd::client)?;
                    // Once it is answered, both sides may have good reasons to take their time.
                    if rate.is_too_slow(self.watch.wheel.now(), buffer.len()) && !answer.has_begun() {
                        return Err(PumpEnd::Client(Some(RequestError::Slow)));
                    }
                    buffer
                }
            };
            clean.clear();
            let passed = follow.forward(&buffer, &mut clean);
            let passed = passed.map_err(|_| PumpEnd::Client(Some(RequestError::BrokenChunks)))?;
            let on = if passed.as_is { &buffer[..passed.used] } else { &clean };
            if !matches!(follow, BodyTracker::Counted(_)) && *limit < u64::MAX {
                cold_path();
                *left = take(*left, on.len(), *limit).map_err(|refusal| PumpEnd::Client(Some(refusal)))?;
            }
            if !paces.is_empty() {
                cold_path();
                Box::pin(body_pace::wait(self.worker, self.watch, paces, on.len())).await;
            }
            counted.add(on.len() as u64);
            let sent = write_held(server, on, self.watch, times.idle, || buffer.capacity() + client.unread());
            sent.await.map_err(|_| PumpEnd::Server)?;
            buffer.consume(passed.used);
            *input = (!buffer.is_empty()).then_some(buffer);
        }
        Ok(())
    }
}

/// Writes to a server all of what a client sent; while that waits, so many bytes are held for the client.
async fn write_held(
    server: &mut impl Sink,
    bytes: &[u8],
    watch: ConnectionTimer<'_>,
    patience: Duration,
    mut held_bytes: impl FnMut() -> usize,
) -> Result<(), IoError> {
    let mut sent = pin!(write_all(server, bytes, watch, patience));
    let mut held = MemoryGuard::new(watch);
    std::future::poll_fn(|context| {
        let sent = sent.as_mut().poll(context);
        if sent.is_pending() {
            held.set(held_bytes());
        }
        sent
    })
    .await
}

/// Why a body was not carried to its end.
enum PumpEnd {
    /// The client went away (`None`), or has to get a response.
    Client(Option<RequestError>),
    Server,
}

impl PumpEnd {
    fn client(trouble: IoError) -> Self {
        match trouble {
            IoError::Rang(WakeReason::Deadline) => Self::Client(Some(RequestError::Slow)),
            IoError::Rang(WakeReason::Cut | WakeReason::Drained) => Self::Server,
            IoError::Rang(WakeReason::Close | WakeReason::Crowded) | IoError::Closed | IoError::Broken => {
                Self::Client(None)
            }
        }
    }
}
