//! One client's connection, request after request.

use std::hint::cold_path;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use merismos_core::limits::RefusalReason;
use merismos_core::name::Name;
use merismos_core::routing::Frontend;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;

use super::error_response::{RequestError, error_response, frontend_error, limited};
use super::forward::{RequestForwarder, RequestOutcome};
use super::forwarded::{ClientFields, ClientProtocol};
use super::head::{self, BARE_LINE_FEED, HeadScan, Request, RequestOrigin};
use super::http2;
use super::request_body::RequestBody;
use crate::accept::ClientConnection;
use crate::buffer::{Buffer, with_room};
use crate::context::{RegisteredConnection, WorkerContext};
use crate::deadline::WakeReason;
use crate::io::{Connection, ConnectionTimer, IoError, read, read_fresh, readable, write_all};
use crate::memory::{MemoryGuard, hold_head};
use crate::tls::HANDSHAKE;

/// How long a client has to be quiet to be one that rests.
pub(super) const IDLE_AFTER: Duration = Duration::from_millis(200);
/// What a request for the head alone begins with.
const HEAD: &[u8] = b"HEAD ";
/// How long a refused client may go on sending before its connection is closed under it.
const LINGER: Duration = Duration::from_secs(1);
/// How much a refused client may go on sending.
const LINGER_BYTES: usize = 256 << 10;

/// How a client's connection goes on after a request.
enum NextStep {
    Another,
    /// It waits for something to do, for so long at most, without the state of one who serves.
    Rest(Duration),
    Close,
    /// Close, but first say why; an answer to HEAD has no content.
    Refuse {
        refusal: RequestError,
        to_head: bool,
        /// What the client wants to read, where its head made sense.
        accept: Box<[u8]>,
    },
    /// Close, but first take what the client still sends, so that it can read the answer.
    Linger,
    /// The client speaks TLS, and it is told so.
    Tls,
    /// The client speaks HTTP/2; this is all that it has said.
    Two(Buffer),
}

/// Why no request was read.
enum NoRequest {
    Ended,
    /// Nothing came for a moment; something may come for so long.
    Rests(Duration),
    /// It speaks TLS.
    Tls,
    /// It speaks HTTP/2; this is all that it has said.
    Two(Buffer),
    Refused(RequestError),
    /// The same, of a request for the head alone.
    RefusedHead(RequestError),
}

/// The alert `handshake_failure` (RFC 8446, 6.2) in a record of its own.
const HANDSHAKE_FAILURE: [u8; 7] = [21, 3, 3, 0, 2, 2, 40];

/// What a frontend allows a head.
#[derive(Clone, Copy)]
struct HeadLimits {
    size: usize,
    time: Duration,
    rest: Duration,
}

impl HeadLimits {
    fn of(frontend: &Frontend) -> Self {
        Self { size: frontend.header_size_limit, time: frontend.header_timeout, rest: frontend.idle_timeout }
    }

    /// Whether the data begins with a whole head. When it does not, it may still become one.
    fn is_whole(self, scan: &mut HeadScan, data: &[u8]) -> Result<bool, NoRequest> {
        // A greeting of TLS may hold anything, line ends among it.
        if data.first() == Some(&HANDSHAKE) {
            return Err(NoRequest::Tls);
        }
        match scan.end(data).map_err(|_| NoRequest::Refused(BARE_LINE_FEED))? {
            Some(length) if length > self.size => Err(NoRequest::Refused(head::too_large(data, self.size))),
            Some(_) => Ok(true),
            None if data.len() >= self.size => Err(NoRequest::Refused(head::too_large(data, self.size))),
            // A client of another protocol, TLS mostly, would wait for us as we for it.
            None if !head::may_begin_head(data) => {
                Err(NoRequest::Refused(RequestError::Malformed("this is not HTTP")))
            }
            None => Ok(false),
        }
    }
}

/// Takes the head of a request of a client off the buffer, which begins with it: what it asks for; the head that the server gets is
/// written into `out`.
pub(super) fn take_head(
    worker: &WorkerContext,
    fields: &ClientFields,
    frontend: &Frontend,
    buffer: &mut Buffer,
    out: &mut Vec<u8>,
) -> Result<Request, RequestError> {
    let id = [worker.draw(), worker.draw()];
    let origin =
        RequestOrigin { client: fields, trusted: &frontend.trusted, dropped: &frontend.dropped_fields, id };
    let request = head::request(buffer, origin, frontend.header_count_limit, out)?;
    if request.length > frontend.header_size_limit {
        return Err(head::too_large(buffer, frontend.header_size_limit));
    }
    buffer.consume(request.length);
    frontend.cell.lane(worker.index).requests.increment();
    Ok(request)
}

struct HttpSession<C> {
    visit: ClientConnection<C>,
    fields: ClientFields,
}

/// Serves one client until its connection ends or it rests. `input` is what it has sent already.
///
/// Not an async function: one would keep room for what it was given beside the session that is made of it.
pub(crate) fn serve<C: Connection>(
    visit: ClientConnection<C>,
    mut input: Option<Buffer>,
) -> impl Future<Output = ()> {
    let fields = ClientFields::new(&visit.who, ClientProtocol::One)
        .with_certificate(visit.stream.certificate_fields())
        .with_server_name(visit.stream.name());
    let mut session = HttpSession { visit, fields };
    async move {
        session.visit.at.client.alarm.bind_to_this_task().await;
        loop {
            let next = session.request(&mut input).await;
            if matches!(next, NextStep::Another) {
                continue;
            }
            cold_path();
            match next {
                NextStep::Another => {}
                NextStep::Rest(patience) => {
                    tokio::task::spawn_local(wait_idle(session.visit, patience));
                    return;
                }
                NextStep::Close => {
                    if C::HAS_FAREWELL {
                        Box::pin(session.farewell()).await;
                    }
                    return;
                }
                NextStep::Refuse { refusal, to_head, accept } => {
                    return Box::pin(session.refuse(refusal, to_head, &accept)).await;
                }
                NextStep::Linger => return Box::pin(session.linger()).await,
                NextStep::Tls => return Box::pin(session.refuse_tls()).await,
                // In a box, for its state is large and most connections are others.
                NextStep::Two(first) => return Box::pin(http2::serve(session.visit, first)).await,
            }
        }
    }
}

/// Waits until a client that rests says something, which has it served again, or its connection ends.
///
/// A task of its own, for the state of one that serves has room for an exchange, which one that rests would hold for nothing.
async fn wait_idle<C: Connection>(mut visit: ClientConnection<C>, patience: Duration) {
    let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, .. } = &mut visit;
    client.alarm.bind_to_this_task().await;
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    watch.set_timeout(patience);
    if readable(stream, watch).await.is_ok() {
        tokio::task::spawn_local(serve(visit, None));
        return;
    }
    if C::HAS_FAREWELL {
        client.alarm.cancel();
        watch.set_timeout(LINGER);
        farewell(stream, watch).await;
    }
}

/// Says, where the protocol has a word for it, that this is the end.
fn farewell(stream: &mut impl Connection, watch: ConnectionTimer<'_>) -> impl Future<Output = ()> {
    std::future::poll_fn(move |context| match watch.check() {
        Ok(()) => stream.poll_farewell(context),
        Err(_) => Poll::Ready(()),
    })
}

/// Answers a client for whom there is no room, and lets it go.
pub(crate) async fn reject_over_limit(at: RegisteredConnection, mut stream: TcpStream, frontend: Name) {
    let RegisteredConnection { worker, client, .. } = &at;
    client.alarm.bind_to_this_task().await;
    let text = error_response(503, &"as many clients as are allowed are connected", &frontend, true, true);
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    if write_all(&mut stream, &text, watch, LINGER).await.is_ok() {
        linger(&mut stream, worker, watch).await;
    }
}

/// Answers a client who has as many connections as it may have, and lets it go.
pub(crate) async fn reject_limited(
    at: RegisteredConnection,
    mut stream: TcpStream,
    frontend: Arc<Frontend>,
    retry_after: u64,
) {
    let RegisteredConnection { worker, client, .. } = &at;
    client.alarm.bind_to_this_task().await;
    let text = limited(retry_after, &frontend, b"", true, true);
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    if write_all(&mut stream, &text, watch, LINGER).await.is_ok() {
        linger(&mut stream, worker, watch).await;
    }
}

/// Tells a client that speaks in plain text where TLS is spoken, and lets it go.
pub(crate) async fn reject_plain(at: RegisteredConnection, mut stream: TcpStream, frontend: Name) {
    let RegisteredConnection { worker, client, .. } = &at;
    let says = "this port speaks TLS, and the request came in plain text: use https";
    let text = error_response(400, &says, &frontend, true, true);
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    if write_all(&mut stream, &text, watch, LINGER).await.is_ok() {
        linger(&mut stream, worker, watch).await;
    }
}

/// Ends our side and takes what still comes for a short while: closing a socket with unread data resets the
/// connection, and the client would lose the answer that it has not read yet (RFC 9112, 9.6).
async fn linger(stream: &mut impl Connection, worker: &WorkerContext, watch: ConnectionTimer<'_>) {
    watch.alarm.cancel();
    if stream.shutdown().await.is_err() {
        return;
    }
    watch.set_timeout(LINGER);
    let mut buffer = worker.small.take();
    let mut taken = 0;
    while taken < LINGER_BYTES {
        match read(stream, &mut buffer, watch).await {
            Ok(count) => taken += count,
            Err(_) => return,
        }
        let length = buffer.len();
        buffer.consume(length);
    }
}

impl<C: Connection> HttpSession<C> {
    /// Reads one request and sees it through. `input` holds what came after the one before.
    fn request(&mut self, input: &mut Option<Buffer>) -> impl Future<Output = NextStep> {
        async move {
            // No snapshot is held while a client rests, or each idle client would keep an old one alive.
            let RegisteredConnection { worker, client, .. } = &self.visit.at;
            let frontend = client.frontend.get();
            let limits = worker.with_snapshot(|snapshot| {
                snapshot.frontend(frontend).map(|frontend| HeadLimits::of(frontend))
            });
            let Some(limits) = limits else {
                cold_path();
                return NextStep::Close;
            };
            let mut buffer = match self.read_head(input.take(), limits).await {
                Ok(buffer) => buffer,
                Err(why) => {
                    cold_path();
                    return match why {
                        NoRequest::Ended => NextStep::Close,
                        NoRequest::Rests(patience) => NextStep::Rest(patience),
                        NoRequest::Tls => NextStep::Tls,
                        NoRequest::Two(buffer) => NextStep::Two(buffer),
                        NoRequest::Refused(refusal) => {
                            NextStep::Refuse { refusal, to_head: false, accept: Box::default() }
                        }
                        NoRequest::RefusedHead(refusal) => {
                            NextStep::Refuse { refusal, to_head: true, accept: Box::default() }
                        }
                    };
                }
            };
            let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, who, .. } =
                &mut self.visit;
            // The head took its time to come; what decides about it is the snapshot of now.
            let snapshot = worker.snapshot();
            let Some(frontend) = snapshot.frontend(client.frontend.get()) else {
                cold_path();
                return NextStep::Close;
            };
            let mut out = worker.take_scratch();
            let to_head = buffer.starts_with(HEAD);
            let request = match take_head(worker, &self.fields, frontend, &mut buffer, &mut out) {
                Ok(request) => request,
                Err(refusal) => {
                    cold_path();
                    return NextStep::Refuse { refusal, to_head, accept: Box::default() };
                }
            };
            client.count_request(frontend.requests_per_connection);
            let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
            let (version, request, fields) = (snapshot.version, &request, &self.fields);
            let mut exchange = RequestForwarder {
                worker,
                client,
                frontend,
                version,
                request,
                who,
                fields,
                rule: None,
                watch,
            };
            let by_rule = exchange.follow_rules(&mut out);
            let mut sending =
                match RequestBody::new(request, exchange.frontend.body_size_limit, buffer, &mut out) {
                    Ok(sending) => sending,
                    Err(refusal) => {
                        cold_path();
                        return NextStep::Refuse { refusal, to_head, accept: head::accept_of(&out).into() };
                    }
                };
            hold_head(watch, sending.start);
            let outcome = match by_rule {
                None => exchange.forward(stream, &mut sending).await,
                Some(response) => {
                    cold_path();
                    Box::pin(exchange.respond_by_rule(response, stream, &mut sending)).await
                }
            };
            client.server.set(None);
            client.alarm.cancel();
            watch.let_all_go();
            *input = sending.input.take();
            if let RequestOutcome::Answered { keep: true } = outcome {
                worker.return_scratch(out);
                return NextStep::Another;
            }
            cold_path();
            let accept = head::accept_of(&out).into();
            worker.return_scratch(out);
            match outcome {
                RequestOutcome::Answered { .. } if input.is_some() => NextStep::Linger,
                RequestOutcome::Answered { .. } => NextStep::Close,
                RequestOutcome::AnsweredEarly => NextStep::Linger,
                RequestOutcome::Refused(refusal) => NextStep::Refuse { refusal, to_head, accept },
                RequestOutcome::BrokenOff { open_ended: false } => {
                    stream.break_off();
                    NextStep::Close
                }
                RequestOutcome::BrokenOff { open_ended: true } | RequestOutcome::ClientGone => {
                    // The client must not take the end of the connection for the end of the body: it gets a reset. And what the
                    // system holds for one that takes nothing is let go.
                    stream.reset();
                    NextStep::Close
                }
            }
        }
    }

    /// Waits for a request and reads until its whole head is at the front of the buffer.
    fn read_head(
        &mut self,
        input: Option<Buffer>,
        limits: HeadLimits,
    ) -> impl Future<Output = Result<Buffer, NoRequest>> {
        async move {
            let watch =
                ConnectionTimer { alarm: &self.visit.at.client.alarm, wheel: &self.visit.at.worker.wheel };
            let mut buffer = match input {
                Some(buffer) => buffer,
                None => {
                    if self.visit.at.worker.closes_resting.get() {
                        cold_path();
                        return Err(NoRequest::Ended);
                    }
                    self.visit.at.client.resting.set(true);
                    let pause = IDLE_AFTER.min(limits.rest);
                    watch.set_timeout(pause);
                    match read_fresh(&mut self.visit.stream, &self.visit.at.worker.small, watch).await {
                        Ok(buffer) => buffer,
                        Err(IoError::Rang(WakeReason::Deadline)) if pause < limits.rest => {
                            cold_path();
                            watch.alarm.cancel();
                            return Err(NoRequest::Rests(limits.rest - pause));
                        }
                        Err(_) => {
                            cold_path();
                            return Err(NoRequest::Ended);
                        }
                    }
                }
            };
            self.visit.at.client.resting.set(false);
            let is_first = self.visit.at.client.fresh.replace(false);
            while buffer.starts_with(b"\r\n") {
                buffer.consume(2);
            }
            // Mostly it is all there, and parsing it tells its end.
            let mut scan = HeadScan::default();
            let buffer = if head::holds_whole_head(&buffer) || limits.is_whole(&mut scan, &buffer)? {
                buffer
            } else {
                cold_path();
                let to_head = buffer.starts_with(HEAD);
                Box::pin(self.read_on(buffer, scan, limits)).await.map_err(|why| match why {
                    NoRequest::Refused(refusal) if to_head => NoRequest::RefusedHead(refusal),
                    why => why,
                })?
            };
            self.visit.at.client.alarm.cancel();
            if is_first && buffer.starts_with(http2::CONNECTION_PREFACE) {
                cold_path();
                return Err(NoRequest::Two(buffer));
            }
            Ok(buffer)
        }
    }

    /// Reads until the whole head, of which a part is there, is at the front of the buffer.
    async fn read_on(
        &mut self,
        mut buffer: Buffer,
        mut scan: HeadScan,
        limits: HeadLimits,
    ) -> Result<Buffer, NoRequest> {
        let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, .. } =
            &mut self.visit;
        let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
        watch.set_timeout(limits.time);
        let mut held = MemoryGuard::new(watch);
        loop {
            buffer =
                with_room(buffer, &worker.large).ok_or(NoRequest::Refused(RequestError::HeadTooLarge))?;
            held.set(buffer.capacity());
            match read(stream, &mut buffer, watch).await {
                Ok(_) => {}
                Err(IoError::Rang(WakeReason::Deadline)) if !buffer.is_empty() => {
                    return Err(NoRequest::Refused(RequestError::Slow));
                }
                Err(_) => return Err(NoRequest::Ended),
            }
            while scan.is_new() && buffer.starts_with(b"\r\n") {
                buffer.consume(2);
            }
            if limits.is_whole(&mut scan, &buffer)? {
                return Ok(buffer);
            }
        }
    }

    /// Tells the client what was wrong, and lets it go.
    async fn refuse(&mut self, refusal: RequestError, to_head: bool, accept: &[u8]) {
        let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, who, .. } =
            &mut self.visit;
        let snapshot = worker.snapshot();
        let Some(frontend) = snapshot.frontend(client.frontend.get()) else { return };
        frontend.cell.lane(worker.index).refused.increment();
        worker.note_refusal(frontend, refusal.reason(), who.client.ip());
        client.alarm.cancel();
        let text = frontend_error(refusal.status(), &refusal, frontend, accept, true, !to_head);
        let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
        if write_all(stream, &text, watch, LINGER).await.is_ok() {
            linger(stream, worker, watch).await;
        }
    }

    /// Ends a connection in order.
    async fn farewell(&mut self) {
        let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, .. } =
            &mut self.visit;
        client.alarm.cancel();
        let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
        watch.set_timeout(LINGER);
        farewell(stream, watch).await;
    }

    /// Tells a client that speaks TLS to a frontend without certificates that there is none, in its own language: it would show an
    /// answer of HTTP as a version that is wrong.
    async fn refuse_tls(&mut self) {
        let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, who, .. } =
            &mut self.visit;
        let snapshot = worker.snapshot();
        let Some(frontend) = snapshot.frontend(client.frontend.get()) else { return };
        frontend.cell.lane(worker.index).wrong_protocol.increment();
        worker.note_refusal(frontend, RefusalReason::Handshake, who.client.ip());
        client.alarm.cancel();
        let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
        if write_all(stream, &HANDSHAKE_FAILURE, watch, LINGER).await.is_ok() {
            linger(stream, worker, watch).await;
        }
    }

    async fn linger(&mut self) {
        let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, .. } =
            &mut self.visit;
        linger(stream, worker, ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel }).await;
    }
}
