//! One client's connection, request after request.

use std::rc::Rc;
use std::time::Duration;

use merismos_core::name::Name;
use merismos_core::routing::{Frontend, Snapshot};
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;

use super::exchange::{Exchange, Outcome, Sending};
use super::forwarded::{ClientFields, Spoken};
use super::head::{self, BARE_LINE_FEED, HeadScan, Origin, Request};
use super::refuse::{Refusal, answer};
use super::two;
use crate::alarm::Ring;
use crate::buffer::{Buffer, with_room};
use crate::client::{Visit, Who};
use crate::io::{Trouble, Watch, read, read_fresh, readable, write_all};
use crate::worker::{Client, Registered, Worker};

/// How long a client has to be quiet to be one that rests.
pub(super) const PAUSE: Duration = Duration::from_millis(200);
/// How long a refused client may go on sending before its connection is closed under it.
const LINGER: Duration = Duration::from_secs(1);
/// How much a refused client may go on sending.
const LINGER_BYTES: usize = 256 << 10;

/// How a client's connection goes on after a request.
enum Next {
    Another,
    /// It waits for something to do, for so long at most, without the state of one who serves.
    Rest(Duration),
    Close,
    /// Close, but first take what the client still sends, so that it can read the answer.
    Linger,
    /// The client speaks HTTP/2; this is all that it has said.
    Two(Buffer),
}

/// Why no request was read.
enum NoRequest {
    Ended,
    /// Nothing came for a moment; something may come for so long.
    Rests(Duration),
    Refused(Refusal),
}

impl From<Trouble> for NoRequest {
    fn from(_: Trouble) -> Self {
        Self::Ended
    }
}

/// What a frontend allows a head.
#[derive(Clone, Copy)]
struct HeadLimits {
    size: usize,
    time: Duration,
    rest: Duration,
}

impl HeadLimits {
    fn of(frontend: &Frontend) -> Self {
        Self { size: frontend.head_limit, time: frontend.head_timeout, rest: frontend.idle_timeout }
    }
}

/// Who asks, over whatever wire.
pub(super) struct Asker<'a> {
    pub(super) worker: &'a Worker,
    pub(super) client: &'a Client,
    pub(super) fields: &'a ClientFields,
    pub(super) who: Who,
}

impl<'a> Asker<'a> {
    /// Takes the head off the buffer: what it asks for, and the head that the server gets.
    pub(super) fn read(
        &self,
        frontend: &Frontend,
        buffer: &mut Buffer,
    ) -> Result<(Request, Vec<u8>), Refusal> {
        let worker = self.worker;
        let id = [worker.draw(), worker.draw()];
        let origin = Origin { client: self.fields, trusted: &frontend.trusted, id };
        let mut out = worker.scrap();
        let request = head::request(buffer, origin, frontend.field_limit, &mut out)?;
        if request.length > frontend.head_limit {
            return Err(head::too_large(buffer, frontend.head_limit));
        }
        buffer.consume(request.length);
        frontend.cell.lane(worker.index).requests.up();
        Ok((request, out))
    }

    /// What sees a request through.
    pub(super) fn exchange(
        &self,
        snapshot: &Snapshot,
        frontend: &'a Frontend,
        request: &'a Request,
    ) -> Exchange<'a> {
        let Self { worker, client, who, .. } = *self;
        let watch = Watch { alarm: &client.alarm, wheel: &worker.wheel };
        Exchange { worker, client, frontend, version: snapshot.version, request, who, watch }
    }

    /// Tidies up after it.
    pub(super) fn finish(&self, out: Vec<u8>) {
        self.client.server.set(None);
        self.client.alarm.silence();
        self.worker.give_back(out);
    }
}

struct Session {
    visit: Visit,
    fields: ClientFields,
}

/// Serves one client until its connection ends or it rests. `input` is what it has sent already.
///
/// Not an async function: one would keep room for what it was given beside the session that is made of it.
pub(crate) fn serve(visit: Visit, mut input: Option<Buffer>) -> impl Future<Output = ()> {
    let fields = ClientFields::new(visit.who.client, Spoken::One);
    let mut session = Session { visit, fields };
    async move {
        session.visit.at.client.alarm.wakes_this_task().await;
        loop {
            match session.request(&mut input).await {
                Next::Another => {}
                Next::Rest(patience) => {
                    tokio::task::spawn_local(rest(session.visit, patience));
                    return;
                }
                Next::Close => return,
                Next::Linger => {
                    session.linger().await;
                    return;
                }
                // In a box, for its state is large and most connections are others.
                Next::Two(first) => return Box::pin(two::serve(session.visit, first)).await,
            }
        }
    }
}

/// Waits until a client that rests says something, which has it served again, or its connection ends.
///
/// A task of its own, for the state of one that serves has room for an exchange: three quarters of all that a resting
/// client would cost.
async fn rest(mut visit: Visit, patience: Duration) {
    let Visit { at: Registered { worker, client, .. }, stream, .. } = &mut visit;
    client.alarm.wakes_this_task().await;
    let watch = Watch { alarm: &client.alarm, wheel: &worker.wheel };
    watch.within(patience);
    if readable(stream, watch).await.is_ok() {
        tokio::task::spawn_local(serve(visit, None));
    }
}

/// Answers a client for whom there is no room, and lets it go.
pub(crate) async fn turn_away(at: Registered, mut stream: TcpStream, frontend: Name) {
    let Registered { worker, client, .. } = &at;
    client.alarm.wakes_this_task().await;
    let text = answer(503, &"as many clients as are allowed are connected", &frontend, true, true);
    let watch = Watch { alarm: &client.alarm, wheel: &worker.wheel };
    if write_all(&mut stream, &text, watch, LINGER).await.is_ok() {
        linger(&mut stream, worker, watch).await;
    }
}

/// Ends our side and takes what still comes for a short while: closing a socket with unread data resets the
/// connection, and the client would lose the answer that it has not read yet (RFC 9112, 9.6).
async fn linger(stream: &mut TcpStream, worker: &Worker, watch: Watch<'_>) {
    watch.alarm.silence();
    if stream.shutdown().await.is_err() {
        return;
    }
    watch.within(LINGER);
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

impl Session {
    /// Reads one request and sees it through. `input` holds what came after the one before.
    async fn request(&mut self, input: &mut Option<Buffer>) -> Next {
        let worker = Rc::clone(&self.visit.at.worker);
        // No snapshot is held while a client rests, or each idle client would keep an old one alive.
        let Some(limits) =
            worker.snapshot().frontend(self.visit.at.client.frontend.get()).map(|it| HeadLimits::of(it))
        else {
            return Next::Close;
        };
        let is_first = self.visit.at.client.fresh.get();
        let head = self.read_head(input.take(), limits).await;
        // The head took its time to come; what decides about it is the snapshot of now.
        let snapshot = worker.snapshot();
        let Some(frontend) = snapshot.frontend(self.visit.at.client.frontend.get()) else {
            return Next::Close;
        };
        let mut buffer = match head {
            Ok(read) => read,
            Err(NoRequest::Ended) => return Next::Close,
            Err(NoRequest::Rests(patience)) => return Next::Rest(patience),
            Err(NoRequest::Refused(refusal)) => return self.refuse(refusal, frontend).await,
        };
        if is_first && buffer.starts_with(two::OPENING) {
            return Next::Two(buffer);
        }
        let asker = Asker {
            worker: &worker,
            client: &self.visit.at.client,
            fields: &self.fields,
            who: self.visit.who,
        };
        let outcome = match asker.read(frontend, &mut buffer) {
            Ok((request, mut out)) => {
                let outcome = match Sending::new(&request, buffer, &mut out) {
                    Ok(mut sending) => {
                        asker
                            .exchange(&snapshot, frontend, &request)
                            .run(&mut self.visit.stream, &mut sending)
                            .await
                    }
                    Err(refusal) => Outcome::Refused(refusal),
                };
                asker.finish(out);
                outcome
            }
            Err(refusal) => Outcome::Refused(refusal),
        };
        match outcome {
            Outcome::Answered { keep: true, rest } => {
                *input = rest;
                Next::Another
            }
            Outcome::Answered { keep: false, rest: None } | Outcome::ClientGone => Next::Close,
            Outcome::Answered { keep: false, rest: Some(_) } | Outcome::AnsweredEarly => Next::Linger,
            Outcome::Refused(refusal) => self.refuse(refusal, frontend).await,
            Outcome::BrokenOff { open_ended: false } => Next::Close,
            Outcome::BrokenOff { open_ended: true } => {
                // The client must not take the end of the connection for the end of the body: it gets a reset.
                let _ = socket2::SockRef::from(&self.visit.stream).set_linger(Some(Duration::ZERO));
                Next::Close
            }
        }
    }

    /// Waits for a request and reads until its whole head is at the front of the buffer.
    async fn read_head(&mut self, input: Option<Buffer>, limits: HeadLimits) -> Result<Buffer, NoRequest> {
        let watch = Watch { alarm: &self.visit.at.client.alarm, wheel: &self.visit.at.worker.wheel };
        let mut buffer = match input {
            Some(buffer) => buffer,
            None => {
                if self.visit.at.worker.stopping.get() {
                    return Err(NoRequest::Ended);
                }
                self.visit.at.client.resting.set(true);
                let pause = PAUSE.min(limits.rest);
                watch.within(pause);
                let came = read_fresh(&mut self.visit.stream, &self.visit.at.worker.small, watch).await;
                if matches!(came, Err(Trouble::Rang(Ring::Deadline))) && pause < limits.rest {
                    watch.alarm.silence();
                    return Err(NoRequest::Rests(limits.rest - pause));
                }
                came?
            }
        };
        self.visit.at.client.resting.set(false);
        self.visit.at.client.fresh.set(false);
        watch.within(limits.time);
        let mut scan = HeadScan::default();
        loop {
            if scan.is_new() {
                while buffer.starts_with(b"\r\n") {
                    buffer.consume(2);
                }
                // Mostly it is all there, and parsing it tells its end.
                if head::holds_whole_head(&buffer) {
                    self.visit.at.client.alarm.silence();
                    return Ok(buffer);
                }
            }
            match scan.end(&buffer).map_err(|_| NoRequest::Refused(BARE_LINE_FEED))? {
                Some(length) if length > limits.size => {
                    return Err(NoRequest::Refused(head::too_large(&buffer, limits.size)));
                }
                Some(_) => {
                    self.visit.at.client.alarm.silence();
                    return Ok(buffer);
                }
                None if buffer.len() >= limits.size => {
                    return Err(NoRequest::Refused(head::too_large(&buffer, limits.size)));
                }
                // Whoever speaks something else, TLS mostly, would wait for us as we for it.
                None if !head::may_begin_head(&buffer) => {
                    return Err(NoRequest::Refused(Refusal::Malformed("this is not HTTP")));
                }
                None => {}
            }
            buffer = with_room(buffer, &self.visit.at.worker.large)
                .ok_or(NoRequest::Refused(Refusal::HeadTooLarge))?;
            match read(&mut self.visit.stream, &mut buffer, watch).await {
                Ok(_) => {}
                Err(Trouble::Rang(Ring::Deadline)) if !buffer.is_empty() => {
                    return Err(NoRequest::Refused(Refusal::Slow));
                }
                Err(_) => return Err(NoRequest::Ended),
            }
        }
    }

    async fn refuse(&mut self, refusal: Refusal, frontend: &Frontend) -> Next {
        frontend.cell.lane(self.visit.at.worker.index).refused.up();
        self.visit.at.client.alarm.silence();
        let text = answer(refusal.status(), &refusal, &frontend.name, true, true);
        let watch = Watch { alarm: &self.visit.at.client.alarm, wheel: &self.visit.at.worker.wheel };
        match write_all(&mut self.visit.stream, &text, watch, LINGER).await {
            Ok(()) => Next::Linger,
            Err(_) => Next::Close,
        }
    }

    async fn linger(&mut self) {
        let Visit { at: Registered { worker, client, .. }, stream, .. } = &mut self.visit;
        linger(stream, worker, Watch { alarm: &client.alarm, wheel: &worker.wheel }).await;
    }
}
