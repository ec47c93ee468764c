//! A client that speaks HTTP/2: its connection, and each stream as a wire of its own.

use std::cell::{Cell, RefCell};
use std::collections::VecDeque;
use std::io;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll, Waker, ready};
use std::time::Duration;

use bytes::Bytes;
use h2::Reason;
use h2::server::{Builder, SendResponse};
use http::header::CONTENT_TYPE;
use http::{HeaderMap, HeaderValue, Method};
use merismos_core::limits::RefusalReason;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use super::super::error_response::{RequestError, frontend_error};
use super::super::forward::{RequestForwarder, RequestOutcome};
use super::super::forwarded::{ClientFields, ClientProtocol};
use super::super::head::{self, HeadScan};
use super::super::request_body::RequestBody;
use super::super::session::{IDLE_AFTER, take_head};
use super::request_body::{BodyCoding, StreamBodyReader};
use super::response_body::StreamBodyWriter;
use super::stream_halves::StreamHalves;
use super::task_pool::{StreamRequest, TaskPool};
use super::{CONNECTION_WINDOW, SEND_BUFFER, STREAM_WINDOW, convert, stream_error};
use crate::accept::{ClientConnection, ConnectionAddrs};
use crate::buffer::{Buffer, SMALL};
use crate::context::{ConnectionState, RegisteredConnection, WorkerContext};
use crate::deadline::{WakeReason, ticks};
use crate::io::{Connection, ConnectionTimer, Sink, write_all};
use crate::memory::{CONNECTION_TWO, MemoryGuard, hold_head};

/// What a client begins its connection with (RFC 9113, 3.4), up to where the head of a request would end.
pub(in super::super) const CONNECTION_PREFACE: &[u8] = b"PRI * HTTP/2.0\r\n\r\n";
/// How long a client may after GOAWAY take to be done with what it has.
const GOAWAY_GRACE: Duration = Duration::from_secs(1);
/// How long a client may take for an answer of our own.
const REFUSAL_TIME: Duration = Duration::from_secs(5);

/// How many requests of one connection may be refused for what they are, or reset by their client, before they have to be the
/// smaller part (RFC 9113, 10.5).
const FREE_VIOLATIONS: u64 = 100;
/// How much larger the fields behind a body may be than those of a head, for the codec: what is beyond its limit it leaves out
/// without a word, so ours has to be met first.
const TRAILER_ROOM: usize = 64 << 10;
/// Where the type of a connection's first frame stands, behind its preface (RFC 9113, 3.4 and 4.1).
const FIRST_FRAME_TYPE: usize = 24 + 3;
/// The type of a SETTINGS frame (RFC 9113, 6.5).
const SETTINGS: u8 = 4;

/// Whether a connection takes what is written to it. While it does not, nothing more is begun for its client.
#[derive(Default)]
struct WriteState {
    /// Since when it takes nothing, in ticks.
    blocked: Cell<Option<u64>>,
    waiting: RefCell<Vec<Waker>>,
    /// How much the codec was given since all of it had been written.
    queued: Cell<usize>,
}

impl WriteState {
    fn note(&self, is_pending: bool, now: u64) {
        if is_pending {
            if self.blocked.get().is_none() {
                self.blocked.set(Some(now));
            }
        } else if self.blocked.take().is_some() {
            self.waiting.borrow_mut().drain(..).for_each(Waker::wake);
        }
    }

    fn queue(&self, bytes: usize) {
        self.queued.set(self.queued.get() + bytes);
    }

    /// The codec was asked to write what it has; gives how much it still may have.
    fn left(&self) -> usize {
        if !self.is_blocked() {
            self.queued.set(0);
        }
        self.queued.get()
    }

    fn is_blocked(&self) -> bool {
        self.blocked.get().is_some()
    }

    /// Ready when it takes something.
    fn poll_open(&self, context: &mut Context<'_>) -> Poll<()> {
        if self.is_blocked() {
            self.waiting.borrow_mut().push(context.waker().clone());
            return Poll::Pending;
        }
        Poll::Ready(())
    }
}

/// A connection of which the beginning was read already.
struct PrefacedStream<C> {
    first: Option<Buffer>,
    stream: C,
    /// How many of the first bytes went by.
    seen: usize,
    writing: Rc<WriteState>,
    worker: Rc<WorkerContext>,
}

impl<C> PrefacedStream<C> {
    /// Refuses a connection whose first frame is not SETTINGS (RFC 9113, 3.4), which the codec would take.
    fn check_first_frame(&mut self, bytes: &[u8]) -> io::Result<()> {
        let at = FIRST_FRAME_TYPE.checked_sub(self.seen).and_then(|at| bytes.get(at));
        self.seen = self.seen.saturating_add(bytes.len());
        if at.is_some_and(|kind| *kind != SETTINGS) {
            return Err(io::ErrorKind::InvalidData.into());
        }
        Ok(())
    }

    fn noted<T>(&self, written: Poll<io::Result<T>>) -> Poll<io::Result<T>> {
        self.writing.note(written.is_pending(), self.worker.wheel.now());
        written
    }
}

impl<C: Connection> AsyncRead for PrefacedStream<C> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        room: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = room.filled().len();
        if let Some(first) = &mut self.first {
            let count = first.len().min(room.remaining());
            room.put_slice(&first[..count]);
            first.consume(count);
            if first.is_empty() {
                self.first = None;
            }
        } else {
            ready!(Pin::new(&mut self.stream).poll_read(context, room))?;
        }
        if self.seen <= FIRST_FRAME_TYPE {
            self.check_first_frame(&room.filled()[before..])?;
        }
        Poll::Ready(Ok(()))
    }
}

impl<C: Connection> AsyncWrite for PrefacedStream<C> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write(context, bytes);
        self.noted(written)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        slices: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write_vectored(context, slices);
        self.noted(written)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }
}

/// What all streams of a connection share.
struct ClientStreams {
    worker: Rc<WorkerContext>,
    client: Rc<ConnectionState>,
    fields: ClientFields,
    who: ConnectionAddrs,
    /// How long the connection may rest.
    rest: Duration,
    /// How many requests are being answered, or wait for that.
    busy: Cell<usize>,
    seats: TaskPool,
    writing: Rc<WriteState>,
    /// Requests that are not begun while their client takes nothing of what it was answered.
    waiting: RefCell<VecDeque<StreamRequest>>,
    /// Requests that were refused for what they are or reset by their client, and those that were answered.
    violations: Cell<u64>,
    answered: Cell<u64>,
}

impl ClientStreams {
    /// A request was refused for what it is, or reset by its client.
    fn record_violation(&self) {
        self.violations.set(self.violations.get() + 1);
        if self.is_abusive() {
            self.client.alarm.wake(WakeReason::Close);
        }
    }

    /// Whether such requests are more than can be by accident.
    fn is_abusive(&self) -> bool {
        self.violations.get() > FREE_VIOLATIONS + self.answered.get() / 2
    }

    /// Begins with requests that wait, as long as the client takes what it is answered.
    fn begin_waiting(self: &Rc<Self>) {
        while !self.writing.is_blocked()
            && let Some(asked) = { self.waiting.borrow_mut().pop_front() }
        {
            match self.seats.take() {
                Some(seat) => seat.fill(asked),
                None => drop(tokio::task::spawn_local(serve_requests(Rc::clone(self), asked))),
            }
        }
    }
}

/// Serves a client until its connection ends. `first` is all that was read of it.
pub(in super::super) async fn serve<C: Connection>(visit: ClientConnection<C>, first: Buffer) {
    let ClientConnection { at: RegisteredConnection { ref worker, ref client, .. }, stream, who, .. } = visit;
    let Some(frontend) = worker.snapshot().frontend(client.frontend.get()).cloned() else { return };
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    let mut builder = Builder::new();
    builder
        .initial_window_size(STREAM_WINDOW)
        .initial_connection_window_size(CONNECTION_WINDOW)
        .max_concurrent_streams(frontend.max_concurrent_streams)
        .max_header_list_size(u32::try_from(frontend.header_size_limit + TRAILER_ROOM).unwrap_or(u32::MAX))
        .max_send_buffer_size(SEND_BUFFER);
    let (certificate, name) = (stream.certificate_fields(), stream.name());
    let writing = Rc::<WriteState>::default();
    let opened = PrefacedStream {
        first: Some(first),
        stream,
        seen: 0,
        writing: Rc::clone(&writing),
        worker: Rc::clone(worker),
    };
    let mut opening = std::pin::pin!(builder.handshake(opened));
    watch.set_timeout(frontend.header_timeout);
    let opened = std::future::poll_fn(|context| {
        if client.alarm.fired().is_some() {
            return Poll::Ready(None);
        }
        opening.as_mut().poll(context).map(Result::ok)
    });
    let Some(connection) = opened.await else {
        frontend.cell.lane(worker.index).refused.increment();
        worker.note_refusal(&frontend, RefusalReason::Malformed, who.client.ip());
        return;
    };
    // No snapshot is held while a client rests, or each idle client would keep an old one alive.
    let rest = frontend.idle_timeout;
    drop(frontend);
    let fields =
        ClientFields::new(&who, ClientProtocol::Two).with_certificate(certificate).with_server_name(name);
    let line = Rc::new(ClientStreams {
        worker: Rc::clone(worker),
        client: Rc::clone(client),
        fields,
        who,
        rest,
        busy: Cell::new(0),
        seats: TaskPool::default(),
        writing,
        waiting: RefCell::default(),
        violations: Cell::new(0),
        answered: Cell::new(0),
    });
    // To close it means to say so and to let its streams end: that may be done at any time.
    client.resting.set(true);
    client.can_go_away.set(true);
    take_heads(&line, connection).await;
    line.seats.close();
}

/// Takes one request after the other until the client has ended or got GOAWAY.
async fn take_heads<C: Connection>(
    line: &Rc<ClientStreams>,
    mut connection: h2::server::Connection<PrefacedStream<C>, Bytes>,
) {
    let ClientStreams { ref worker, ref client, rest, .. } = **line;
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    let mut held = MemoryGuard::new(watch);
    worker.set_cost(client, CONNECTION_TWO);
    client.alarm.cancel();
    watch.set_timeout(rest);
    let mut told_to_go = false;
    loop {
        let next = std::future::poll_fn(|context| {
            let rang = client.alarm.fired();
            if rang.is_some() {
                client.alarm.cancel();
            }
            if line.is_abusive() && !told_to_go {
                told_to_go = true;
                tracing::debug!(client = %line.who.client, "an HTTP/2 client resets too much, or asks for nonsense");
                connection.abrupt_shutdown(Reason::ENHANCE_YOUR_CALM);
                watch.set_timeout(GOAWAY_GRACE);
                return connection.poll_accept(context);
            }
            let blocked_for = line.writing.blocked.get().map_or(0, |since| worker.wheel.now() - since);
            match rang {
                // It takes nothing of what it was answered.
                Some(WakeReason::Deadline) if blocked_for >= ticks(rest) => return Poll::Ready(None),
                Some(WakeReason::Deadline) if line.busy.get() > 0 => watch.set_timeout(rest),
                // It got its GOAWAY and has nothing under way, and does not go.
                Some(WakeReason::Deadline) if told_to_go => return Poll::Ready(None),
                Some(WakeReason::Deadline) if line.seats.clear() && rest > IDLE_AFTER => {
                    watch.set_timeout(rest - IDLE_AFTER)
                }
                Some(WakeReason::Crowded) if line.writing.is_blocked() => return Poll::Ready(None),
                Some(WakeReason::Deadline | WakeReason::Close | WakeReason::Crowded) => {
                    if !told_to_go {
                        told_to_go = true;
                        connection.graceful_shutdown();
                    }
                    watch.set_timeout(GOAWAY_GRACE);
                }
                Some(WakeReason::Cut | WakeReason::Drained) | None => {}
            }
            let accepted = connection.poll_accept(context);
            // Looking for the next one has written what could be written.
            line.begin_waiting();
            let waiting: usize = line.waiting.borrow().iter().map(StreamRequest::size).sum();
            held.set(line.writing.left() + waiting);
            accepted
        });
        match next.await {
            Some(Ok((request, respond))) => {
                client.fresh.set(false);
                line.busy.set(line.busy.get() + 1);
                line.waiting.borrow_mut().push_back(StreamRequest { request, respond });
                line.begin_waiting();
            }
            Some(Err(error)) => {
                tracing::debug!(%error, client = %line.who.client, "an HTTP/2 connection ended badly");
                return;
            }
            None => return,
        }
    }
}

/// Answers requests of one connection, one after the other.
async fn serve_requests(line: Rc<ClientStreams>, first: StreamRequest) {
    let registered = line.worker.register_stream(&line.client);
    let own = &registered.client;
    own.alarm.bind_to_this_task().await;
    own.fresh.set(false);
    let (seat, mut next) = (Rc::default(), Some(first));
    while let Some(asked) = next {
        own.resting.set(false);
        own.alarm.cancel();
        serve_request(&line, own, asked).await;
        own.resting.set(true);
        own.alarm.cancel();
        next = line.seats.wait(&seat, &own.alarm).await;
    }
}

async fn serve_request(
    line: &ClientStreams,
    own: &ConnectionState,
    StreamRequest { request, respond }: StreamRequest,
) {
    let ClientStreams { worker, client, .. } = line;
    let is_head = request.method() == Method::HEAD;
    let mut text = worker.take_scratch();
    let coding = convert::request_text(&request, request.body().is_end_stream(), &mut text);
    let reading = StreamBodyReader::new(request.into_body(), *coding.as_ref().unwrap_or(&BodyCoding::Bare));
    let mut stream =
        StreamHalves { reading, writing: ResponseWriter::new(respond, is_head, Rc::clone(&line.writing)) };
    let snapshot = worker.snapshot();
    // What the client wants to read, where it is refused and its head made sense.
    let mut accept = Box::default();
    if let Some(frontend) = snapshot.frontend(own.frontend.get()) {
        let outcome = match coding.and_then(|_| in_buffer(worker, &text)) {
            Ok(mut buffer) => {
                let who = &line.who;
                let mut out = worker.take_scratch();
                let outcome = match take_head(worker, &line.fields, frontend, &mut buffer, &mut out) {
                    Ok(request) => {
                        client.count_request(frontend.requests_per_connection);
                        let watch = ConnectionTimer { alarm: &own.alarm, wheel: &worker.wheel };
                        let (version, request) = (snapshot.version, &request);
                        let mut exchange = RequestForwarder {
                            worker,
                            client: own,
                            frontend,
                            version,
                            request,
                            who,
                            fields: &line.fields,
                            rule: None,
                            watch,
                        };
                        let by_rule = exchange.follow_rules(&mut out);
                        let most = exchange.frontend.body_size_limit;
                        match (RequestBody::new(request, most, buffer, &mut out), by_rule) {
                            (Err(refusal), _) => RequestOutcome::Refused(refusal),
                            (Ok(mut sending), None) => {
                                hold_head(watch, sending.start);
                                exchange.forward(&mut stream, &mut sending).await
                            }
                            (Ok(mut sending), Some(response)) => {
                                Box::pin(exchange.respond_by_rule(response, &mut stream, &mut sending)).await
                            }
                        }
                    }
                    Err(refusal) => RequestOutcome::Refused(refusal),
                };
                own.server.set(None);
                if let RequestOutcome::Refused(_) = outcome {
                    accept = head::accept_of(&out).into();
                }
                worker.return_scratch(out);
                outcome
            }
            Err(refusal) => RequestOutcome::Refused(refusal),
        };
        own.alarm.cancel();
        ConnectionTimer { alarm: &own.alarm, wheel: &worker.wheel }.let_all_go();
        match outcome {
            RequestOutcome::Answered { .. } | RequestOutcome::AnsweredEarly => {
                line.answered.set(line.answered.get() + 1);
                stream.writing.end();
            }
            RequestOutcome::Refused(refusal) => {
                line.record_violation();
                frontend.cell.lane(worker.index).refused.increment();
                worker.note_refusal(frontend, refusal.reason(), line.who.client.ip());
                let text = frontend_error(refusal.status(), &refusal, frontend, &accept, false, !is_head);
                let watch = ConnectionTimer { alarm: &own.alarm, wheel: &worker.wheel };
                // A client that does not want to hear it needs no answer.
                let _ = write_all(&mut stream, &text, watch, REFUSAL_TIME).await;
            }
            RequestOutcome::BrokenOff { .. } => stream.writing.break_off(),
            RequestOutcome::ClientGone => {
                line.record_violation();
                stream.writing.reset(Reason::CANCEL);
            }
        }
    }
    worker.return_scratch(text);
    line.busy.set(line.busy.get() - 1);
    if client.leaving.get() || worker.stopping.get() {
        client.alarm.wake(WakeReason::Close);
    } else if line.busy.get() == 0 {
        // What was needed to answer is kept for a moment, in which the next request may come.
        ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel }.set_timeout(line.rest.min(IDLE_AFTER));
    }
}

/// The head in a buffer that it fits into.
fn in_buffer(worker: &WorkerContext, text: &[u8]) -> Result<Buffer, RequestError> {
    let mut buffer = if text.len() <= SMALL { worker.small.take() } else { worker.large.take() };
    if buffer.append(text) { Ok(buffer) } else { Err(RequestError::HeadTooLarge) }
}

/// Whether a message is one of gRPC (gRPC over HTTP/2, "Responses"): its content type is `application/grpc`, alone or with `+` or `;`.
fn is_grpc(fields: &HeaderMap) -> bool {
    let kind = fields.get(CONTENT_TYPE).map_or(&b""[..], HeaderValue::as_bytes);
    let rest = kind.strip_prefix(b"application/grpc");
    rest.is_some_and(|rest| rest.first().is_none_or(|next| matches!(next, b'+' | b';' | b' ')))
}

struct ResponseWriter {
    respond: SendResponse<Bytes>,
    to_head: bool,
    /// What there is of the head.
    head: Vec<u8>,
    scan: HeadScan,
    body: Option<StreamBodyWriter>,
    /// The response is one of gRPC, whose outcome is in its trailers.
    is_grpc: bool,
    connection: Rc<WriteState>,
}

impl ResponseWriter {
    fn new(respond: SendResponse<Bytes>, to_head: bool, connection: Rc<WriteState>) -> Self {
        Self {
            respond,
            to_head,
            head: Vec::new(),
            scan: HeadScan::default(),
            body: None,
            is_grpc: false,
            connection,
        }
    }

    /// Takes what belongs to the head; the answer begins when it is whole.
    fn take_head(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let nonsense = || io::Error::from(io::ErrorKind::InvalidData);
        let before = self.head.len();
        self.head.extend_from_slice(bytes);
        let Some(length) = self.scan.end(&self.head).map_err(|_| nonsense())? else { return Ok(bytes.len()) };
        self.head.truncate(length);
        let known = head::response(&self.head, self.to_head).map_err(|_| nonsense())?.ok_or_else(nonsense)?;
        let response = convert::response(&std::mem::take(&mut self.head).into()).map_err(|_| nonsense())?;
        if response.status().is_informational() {
            self.respond.send_informational(response).map_err(stream_error)?;
        } else {
            let ends = known.framing == head::Framing::None;
            self.is_grpc = is_grpc(response.headers());
            let stream = self.respond.send_response(response, ends).map_err(stream_error)?;
            self.body = Some(StreamBodyWriter::new(stream, known.framing, ends));
        }
        self.scan = HeadScan::default();
        Ok(length - before)
    }

    fn end(&mut self) {
        if let Some(body) = &mut self.body {
            body.end();
        }
    }

    /// Ends a response that its server did not end. Clients of gRPC try a call again that was `UNAVAILABLE`, and none that was reset.
    fn break_off(&mut self) {
        match &mut self.body {
            Some(body) if self.is_grpc => body.end_unavailable(),
            _ => self.reset(Reason::INTERNAL_ERROR),
        }
    }

    fn reset(&mut self, reason: Reason) {
        match &mut self.body {
            Some(body) => body.reset(reason),
            None => self.respond.send_reset(reason),
        }
    }
}

impl AsyncWrite for ResponseWriter {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        // The codec would keep all that the connection does not take: heads know no window, and a client may open one without end.
        ready!(self.connection.poll_open(context));
        let taken = match &mut self.body {
            Some(body) => ready!(body.poll_write(context, bytes)),
            None => self.take_head(bytes),
        };
        self.connection.queue(*taken.as_ref().unwrap_or(&0));
        Poll::Ready(taken)
    }

    fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }
}

impl Sink for ResponseWriter {
    fn poll_given_up(&mut self, context: &mut Context<'_>) -> Poll<()> {
        match &mut self.body {
            Some(body) => body.poll_reset(context),
            None => self.respond.poll_reset(context).map(|_| ()),
        }
    }
}
