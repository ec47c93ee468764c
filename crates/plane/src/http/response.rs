//! The way of an answer from a server to a client.

use std::cell::Cell;
use std::hint::cold_path;
use std::pin::pin;
use std::task::Poll;
use std::time::SystemTime;

use futures_util::TryFutureExt;
use merismos_core::limits::RefusalReason;
use merismos_core::routing::{Frontend, UpstreamTimeouts};
use merismos_core::runtime::ServerWorkerCounters;

use super::attempt::AttemptTarget;
use super::body::{BodyTracker, content};
use super::body_pace;
use super::cancel_on_reset::CancelOnReset;
use super::failure::{ForwardError, ServerFailure, server_failure};
use super::forward::RequestForwarder;
use super::head::{self, ExtraFields, Framing, HeadScan, Request, Response};
use super::long_response::{ResponseStart, long_rest};
use crate::buffer::{Buffer, SMALL, with_room};
use crate::client_rate::ClientRate;
use crate::context::{ConnectionState, WorkerContext};
use crate::deadline::WakeReason;
use crate::io::{
    BodyKind, ConnectionTimer, IoError, Sink, Source, read, read_first, read_fresh, write_to_client,
};
use crate::pinning::SessionLearner;

/// How much of an answer that may be long is read at first: room for its head.
pub(super) const HEAD_ALONE: usize = 2 << 10;

/// A whole answer has gone to the client.
pub(super) struct ResponseDone {
    /// The client's connection can carry another request.
    pub(super) keep_client: bool,
    /// The server's connection can carry another request.
    pub(super) keep_server: bool,
    /// The larger part of it went by `splice`.
    pub(super) was_long: bool,
    /// Both go on with another protocol.
    pub(super) tunnel: Option<Box<Tunnel>>,
}

/// Another protocol that two connections go on with.
pub(super) struct Tunnel {
    /// What the server has sent of it already.
    pub(super) begun: Option<Buffer>,
    /// Whether it is a WebSocket (RFC 6455, 4.2.2).
    pub(super) is_websocket: bool,
}

/// How much of its request a server has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum RequestProgress {
    /// The request was sent whole.
    Whole,
    /// The rest is on its way.
    InPart,
    /// It takes no more.
    InVain,
}

/// Everything that is needed to bring one answer back.
pub(super) struct ResponseForwarder<'a> {
    pub(super) worker: &'a WorkerContext,
    pub(super) client: &'a ConnectionState,
    pub(super) frontend: &'a Frontend,
    pub(super) request: &'a Request,
    pub(super) lane: &'a ServerWorkerCounters,
    pub(super) times: &'a UpstreamTimeouts,
    pub(super) watch: ConnectionTimer<'a>,
    /// A field that ties the client to the server.
    pub(super) pin: Option<&'a [u8]>,
    /// Where sessions are learned from the response.
    pub(super) learns: Option<SessionLearner<'a>>,
    /// The last answer that came this way was long: this one probably is, too.
    pub(super) may_be_long: bool,
    pub(super) carried: BodyKind<'a>,
    pub(super) rate: ClientRate,
    pub(super) begun: Cell<bool>,
    pub(super) received: Cell<RequestProgress>,
}

/// Which connections may carry another request after the response.
#[derive(Clone, Copy)]
pub(super) struct KeepAlive {
    pub(super) client: bool,
    pub(super) server: bool,
}

impl<'a> ResponseForwarder<'a> {
    pub(super) fn new(
        exchange: RequestForwarder<'a>,
        target: AttemptTarget<'a>,
        may_be_long: bool,
        carried: BodyKind<'a>,
    ) -> Self {
        let RequestForwarder { worker, client, frontend, request, watch, .. } = exchange;
        let AttemptTarget { server, pin, learns, .. } = target;
        let (lane, times, begun) = (server.cell.lane(worker.index), &server.times, Cell::new(false));
        let whole = matches!(carried, BodyKind::Answer);
        let received = Cell::new(if whole { RequestProgress::Whole } else { RequestProgress::InPart });
        Self {
            worker,
            client,
            frontend,
            request,
            lane,
            times,
            watch,
            pin,
            // What goes on unread teaches nothing.
            may_be_long: may_be_long && learns.is_none(),
            learns,
            carried,
            rate: ClientRate::new(frontend),
            begun,
            received,
        }
    }

    /// Whether the final answer's head has come.
    pub(super) fn has_begun(&self) -> bool {
        self.begun.get()
    }

    /// Notes how much of the request the server has.
    pub(super) fn note(&self, received: RequestProgress) {
        self.received.set(received);
    }

    /// Waits for the answer and brings it to the client. The deadline for its beginning is the caller's to set.
    pub(super) async fn forward_response(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
    ) -> Result<ResponseDone, ForwardError> {
        if let Some(long) = self.forward_long(server, client).await {
            return long;
        }
        let (buffer, response) = self.read_final_head(server, client).await?;
        self.forward_from_head(server, client, buffer, response).await
    }

    /// Brings an answer to the client whole, when it is one that is likely to be long and is; `None` when it has to be read.
    pub(super) fn forward_long(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
    ) -> impl Future<Output = Option<Result<ResponseDone, ForwardError>>> {
        async move {
            if !self.may_be_long {
                return None;
            }
            cold_path();
            Box::pin(self.peek_long(server, client)).await
        }
    }

    /// Brings the answer to the client whose final head the buffer begins with.
    pub(super) fn forward_from_head(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
        mut buffer: Buffer,
        response: Response,
    ) -> impl Future<Output = Result<ResponseDone, ForwardError>> {
        async move {
            let length = response.length;
            self.begun.set(true);
            if let Some(sessions) = &self.learns {
                cold_path();
                head::set_cookies(&buffer[..length], |value| sessions.learn(self.worker, value));
            }
            if response.status == 101 {
                cold_path();
                return Box::pin(self.switch_protocols(client, buffer, response)).await;
            }
            self.watch.set_total_timeout(self.request.whole_answer(self.times));
            let unchunk = self.request.is_http_10 && response.framing == Framing::Chunked;
            let (keep_client, connection) = self.keeps_connection(response, unchunk);
            let keep = KeepAlive { client: keep_client, server: response.keep_alive };
            let mut follow = BodyTracker::new(response.framing);
            if response.passes_as_is && connection.is_none() && self.pin.is_none() {
                // The head needs no change: it goes on from the buffer it was read into, with what came behind it.
                let mut clean = Vec::new();
                let passed = follow.forward(&buffer[length..], &mut clean).map_err(|_| invalid_response())?;
                let used = passed.used;
                self.count(response);
                if !passed.as_is {
                    cold_path();
                    clean.splice(..0, buffer[..length].iter().copied());
                    self.send(client, &clean, buffer.capacity()).await?;
                    buffer.consume(length + used);
                    return Box::pin(self.forward_rest(server, client, follow, buffer, false, keep)).await;
                }
                if let Some((pipe, left)) = long_rest(self.worker, &follow, server, client) {
                    cold_path();
                    let ahead = ResponseStart::Read(buffer, length + used);
                    return Box::pin(self.splice_long(server, client, ahead, pipe, left, keep)).await;
                }
                self.send(client, &buffer[..length + used], buffer.capacity()).await?;
                buffer.consume(length + used);
            } else {
                let mut out = self.worker.take_scratch();
                let date = (!response.is_dated).then(SystemTime::now);
                let removed = self.request.rule_effects.get().map_or(&[][..], |effects| &effects.removed);
                let more = ExtraFields { connection, field: self.pin, removed, date };
                head::write_response(&buffer[..length], unchunk, more, &mut out);
                buffer.consume(length);
                // Nothing has gone to the client yet.
                let used = if unchunk {
                    follow.pass(&buffer, content(&mut out)).map_err(|_| invalid_response())?
                } else {
                    let passed = follow.forward(&buffer, &mut out).map_err(|_| invalid_response())?;
                    if passed.as_is {
                        out.extend_from_slice(&buffer[..passed.used]);
                    }
                    passed.used
                };
                buffer.consume(used);
                self.count(response);
                if self.request.paces().is_empty()
                    && let Some((pipe, left)) = long_rest(self.worker, &follow, server, client)
                {
                    drop(buffer);
                    return Box::pin(self.splice_long(
                        server,
                        client,
                        ResponseStart::Written(out),
                        pipe,
                        left,
                        keep,
                    ))
                    .await;
                }
                let held = buffer.capacity() + out.capacity();
                let sent = if self.request.paces().is_empty() {
                    self.send(client, &out, held).await
                } else {
                    cold_path();
                    Box::pin(self.send_paced(client, &out, held)).await
                };
                self.worker.return_scratch(out);
                sent?;
            }
            if follow.is_done() {
                let keep_server = response.keep_alive && buffer.is_empty();
                return Ok(ResponseDone { keep_client, keep_server, was_long: false, tunnel: None });
            }
            cold_path();
            Box::pin(self.forward_rest(server, client, follow, buffer, unchunk, keep)).await
        }
    }

    /// Carries what is left of a body whose head has gone to the client.
    async fn forward_rest(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
        follow: BodyTracker,
        buffer: Buffer,
        unchunk: bool,
        keep: KeepAlive,
    ) -> Result<ResponseDone, ForwardError> {
        let clean = if follow.is_done() {
            buffer.is_empty()
        } else {
            // All of it was passed on with the head.
            drop(buffer);
            self.forward_body(server, client, follow, unchunk).await?
        };
        Ok(ResponseDone {
            keep_client: keep.client,
            keep_server: keep.server && clean,
            was_long: false,
            tunnel: None,
        })
    }

    /// Tells the client that the server goes on with another protocol, and leaves the rest to them.
    async fn switch_protocols(
        &self,
        client: &mut impl Sink,
        mut buffer: Buffer,
        response: Response,
    ) -> Result<ResponseDone, ForwardError> {
        self.count(response);
        // What concerns the server's connection alone ends here, as with every other answer; what is agreed on goes on.
        let mut more = head::upgrade_field(&buffer[..response.length]);
        let is_websocket = more.eq_ignore_ascii_case(b"Upgrade: websocket\r\n");
        more.extend_from_slice(self.pin.unwrap_or_default());
        let mut out = Vec::new();
        let removed = self.request.rule_effects.get().map_or(&[][..], |effects| &effects.removed);
        let more = ExtraFields { connection: Some("Upgrade"), field: Some(&more), removed, date: None };
        head::write_response(&buffer[..response.length], false, more, &mut out);
        self.send(client, &out, buffer.capacity()).await?;
        buffer.consume(response.length);
        let begun = (!buffer.is_empty()).then_some(buffer);
        let tunnel = Some(Box::new(Tunnel { begun, is_websocket }));
        Ok(ResponseDone { keep_client: false, keep_server: false, was_long: false, tunnel })
    }

    /// Whether the client's connection goes on after the answer, and what has to be said of that.
    pub(super) fn keeps_connection(&self, response: Response, unchunk: bool) -> (bool, Option<&'static str>) {
        let ends_with_close = unchunk || response.framing == Framing::UntilClose;
        let stays = !self.worker.stopping.get() && !self.client.leaving.get();
        // A server that answers before it has everything, and does not look as if it wanted more, leaves the rest of
        // the request between this answer and the next (RFC 9110, 10.1.1; RFC 9112, 9.3).
        let is_cut_short = match self.received.get() {
            RequestProgress::Whole => false,
            RequestProgress::InPart => self.request.expects || !response.keep_alive || response.status >= 400,
            RequestProgress::InVain => true,
        };
        let keep_client = self.request.keep_alive && !ends_with_close && stays && !is_cut_short;
        let connection = match (keep_client, self.request.is_http_10) {
            (false, _) => Some("close"),
            (true, true) => Some("keep-alive"),
            (true, false) => None,
        };
        (keep_client, connection)
    }

    /// Counts the answer, before the client can have it.
    pub(super) fn count(&self, response: Response) {
        self.lane.taken.increment();
        if response.status >= 500 {
            cold_path();
            self.lane.errors.increment();
            self.frontend.cell.lane(self.worker.index).errors.increment();
        }
    }

    /// Reads heads until the final one; informational ones (1xx) go to the client on the way.
    pub(super) fn read_final_head(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
    ) -> impl Future<Output = Result<(Buffer, Response), ForwardError>> {
        async move {
            let mut attentive = CancelOnReset { server, client, given_up: false };
            let head = self.read_head(&mut attentive).await;
            let head = attentive.heard(head);
            if matches!(&head, Ok((_, response)) if response.status < 200) {
                cold_path();
                let (buffer, response) = head?;
                return Box::pin(self.skip_informational(server, client, buffer, response)).await;
            }
            head
        }
    }

    /// Goes on to the final head from an informational one, which the buffer begins with.
    async fn skip_informational(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
        mut buffer: Buffer,
        mut response: Response,
    ) -> Result<(Buffer, Response), ForwardError> {
        while response.status < 200 {
            match response.status {
                101 if self.request.upgrade => break,
                // No upgrade was passed on, so none can be agreed to.
                101 => return Err(invalid_response()),
                _ if self.request.is_http_10 => {}
                _ => {
                    let mut sent =
                        pin!(self.forward_informational(client, &buffer[..response.length], response));
                    // More of them may come than the client takes.
                    std::future::poll_fn(|context| {
                        let sent = sent.as_mut().poll(context);
                        if sent.is_pending() && server.poll_unasked(context).is_err() {
                            return Poll::Ready(Err(ForwardError::ClientGone));
                        }
                        sent
                    })
                    .await?;
                }
            }
            buffer.consume(response.length);
            let mut attentive = CancelOnReset { server, client, given_up: false };
            let head = if buffer.is_empty() {
                drop(buffer);
                self.read_head(&mut attentive).await
            } else {
                self.read_on(&mut attentive, buffer).await
            };
            (buffer, response) = attentive.heard(head)?;
        }
        Ok((buffer, response))
    }

    async fn forward_informational(
        &self,
        client: &mut impl Sink,
        head: &[u8],
        response: Response,
    ) -> Result<(), ForwardError> {
        if response.passes_as_is {
            return self.send(client, head, SMALL).await;
        }
        let mut out = Vec::new();
        head::write_response(head, false, ExtraFields::default(), &mut out);
        self.send(client, &out, SMALL).await
    }

    fn read_head(
        &self,
        server: &mut impl Source,
    ) -> impl Future<Output = Result<(Buffer, Response), ServerFailure>> {
        async move {
            // What is read is copied, and what of a long body stays where it is need not be.
            let most = if self.may_be_long { HEAD_ALONE } else { usize::MAX };
            let buffer = match read_first(server, &self.worker.small, most, self.watch).await {
                Ok(buffer) => buffer,
                Err(trouble) => return Err(server_failure(&trouble)),
            };
            // Mostly it is all there at once. A head that comes in pieces is parsed again when its end has come.
            match head::server_response(&buffer, self.request.is_head) {
                Ok(Some(response)) => Ok((buffer, response)),
                Ok(None) => {
                    cold_path();
                    Box::pin(self.read_on(server, buffer)).await
                }
                Err(_) => {
                    cold_path();
                    Err(ServerFailure::Nonsense)
                }
            }
        }
    }

    /// Reads until the whole head, of which a part is there, is at the front of the buffer.
    async fn read_on(
        &self,
        server: &mut impl Source,
        mut buffer: Buffer,
    ) -> Result<(Buffer, Response), ServerFailure> {
        let mut scan = HeadScan::default();
        loop {
            if scan.end(&buffer).map_err(|_| ServerFailure::Nonsense)?.is_some() {
                let response = head::server_response(&buffer, self.request.is_head);
                return Ok((buffer, response.ok().flatten().ok_or(ServerFailure::Nonsense)?));
            }
            buffer = with_room(buffer, &self.worker.large).ok_or(ServerFailure::Nonsense)?;
            match read(server, &mut buffer, self.watch).await {
                Ok(_) => {}
                Err(IoError::Closed | IoError::Broken) => return Err(ServerFailure::Nonsense),
                Err(trouble @ IoError::Rang(_)) => return Err(server_failure(&trouble)),
            }
        }
    }

    /// Carries what is left of the body. Gives whether the server sent nothing beyond it.
    async fn forward_body(
        &self,
        server: &mut impl Source,
        client: &mut impl Sink,
        mut follow: BodyTracker,
        unchunk: bool,
    ) -> Result<bool, ForwardError> {
        let mut out = Vec::new();
        let mut clean = true;
        while !follow.is_done() {
            // What goes over a stream waits for its window, and many of them may: they hold small ones.
            let is_long = is_connection(client)
                && !matches!(follow, BodyTracker::Counted(left) if left <= SMALL as u64);
            let shelf = if is_long { &self.worker.large } else { &self.worker.small };
            self.watch.set_timeout(self.times.idle);
            let mut attentive = CancelOnReset { server, client, given_up: false };
            // Nothing is held for a client while its server takes its time.
            let came = read_fresh(&mut attentive, shelf, self.watch).await;
            if attentive.given_up {
                return Err(ForwardError::ClientGone);
            }
            match came {
                Ok(mut buffer) => {
                    self.send_body(client, &mut follow, &mut buffer, unchunk, &mut out).await?;
                    clean = buffer.is_empty();
                }
                Err(IoError::Closed) if matches!(follow, BodyTracker::UntilClose) => return Ok(false),
                Err(_) => {
                    let open_ended = unchunk || matches!(follow, BodyTracker::UntilClose);
                    return Err(ForwardError::BrokenOff { open_ended });
                }
            }
        }
        Ok(clean)
    }

    /// Sends what of the buffer belongs to the body; `out` is for what is left of it without the chunked coding.
    async fn send_body(
        &self,
        client: &mut impl Sink,
        follow: &mut BodyTracker,
        buffer: &mut Buffer,
        unchunk: bool,
        out: &mut Vec<u8>,
    ) -> Result<(), ForwardError> {
        let broken = |_| ForwardError::BrokenOff { open_ended: unchunk };
        let used = if unchunk {
            let used = follow.pass(buffer, content(out)).map_err(broken)?;
            self.send_paced(client, out, buffer.capacity() + out.capacity()).await?;
            out.clear();
            used
        } else {
            let passed = follow.forward(buffer, out).map_err(broken)?;
            let on = if passed.as_is { &buffer[..passed.used] } else { &*out };
            self.send_paced(client, on, buffer.capacity() + out.capacity()).await?;
            out.clear();
            passed.used
        };
        buffer.consume(used);
        Ok(())
    }

    /// As [`Self::send`], at the pace that limits give the client.
    async fn send_paced(
        &self,
        client: &mut impl Sink,
        bytes: &[u8],
        held: usize,
    ) -> Result<(), ForwardError> {
        let paces = self.request.paces();
        if paces.is_empty() {
            return self.send(client, bytes, held).await;
        }
        for piece in bytes.chunks(body_pace::step(paces)) {
            body_pace::wait(self.worker, self.watch, paces, piece.len()).await;
            self.send(client, piece, held).await?;
        }
        Ok(())
    }

    /// Sends to the client; while it takes nothing, `held` bytes lie here for it.
    fn send(
        &self,
        client: &mut impl Sink,
        bytes: &[u8],
        held: usize,
    ) -> impl Future<Output = Result<(), ForwardError>> {
        let patience = self.frontend.idle_timeout;
        self.lane.bytes_from.add(bytes.len() as u64);
        let sent = write_to_client(client, bytes, self.watch, patience, &self.rate, held);
        sent.map_err(|trouble| self.client_write_error(&trouble))
    }
}

impl ResponseForwarder<'_> {
    /// What it means that the client did not take a part of its answer.
    #[cold]
    pub(super) fn client_write_error(&self, trouble: &IoError) -> ForwardError {
        match trouble {
            IoError::Rang(WakeReason::Cut | WakeReason::Drained) => {
                ForwardError::BrokenOff { open_ended: true }
            }
            IoError::Rang(WakeReason::Deadline) => {
                let client = self.request.client.or(self.client.peer.get());
                if let Some(client) = client {
                    self.worker.note_refusal(self.frontend, RefusalReason::TooSlow, client);
                }
                ForwardError::ClientGone
            }
            IoError::Rang(_) | IoError::Closed | IoError::Broken => ForwardError::ClientGone,
        }
    }
}

fn is_connection<S: Sink>(_: &S) -> bool {
    S::IS_CONNECTION
}

#[cold]
pub(super) fn invalid_response() -> ForwardError {
    ForwardError::Server(ServerFailure::Nonsense)
}
