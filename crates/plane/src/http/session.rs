//! One client's connection, request after request.

use std::net::SocketAddr;
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
use crate::client::Who;
use crate::io::{Trouble, Watch, read, read_fresh, write_all};
use crate::worker::{Client, Worker};

/// How long a refused client may go on sending before its connection is closed under it.
const LINGER: Duration = Duration::from_secs(1);
/// How much a refused client may go on sending.
const LINGER_BYTES: usize = 256 << 10;

/// How a client's connection goes on after a request.
enum Next {
    Another,
    Close,
    /// Close, but first take what the client still sends, so that it can read the answer.
    Linger,
    /// The client speaks HTTP/2; this is all that it has said.
    Two(Buffer),
}

/// Why no request was read.
enum NoRequest {
    Ended,
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
            return Err(Refusal::HeadTooLarge);
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
    worker: Rc<Worker>,
    client: Rc<Client>,
    stream: TcpStream,
    fields: ClientFields,
    who: Who,
}

/// Serves one client until its connection ends. `input` is what it has sent already.
///
/// Not an async function: one would keep room for what it was given beside the session that is made of it, for each
/// client that rests.
pub(crate) fn serve(
    worker: Rc<Worker>,
    client: Rc<Client>,
    stream: TcpStream,
    who: Who,
    mut input: Option<Buffer>,
) -> impl Future<Output = ()> {
    let fields = ClientFields::new(who.client, Spoken::One);
    let mut session = Session { worker, client, stream, fields, who };
    async move {
        loop {
            match session.request(&mut input).await {
                Next::Another => {}
                Next::Close => return,
                Next::Linger => {
                    session.linger().await;
                    return;
                }
                Next::Two(first) => {
                    let Session { worker, client, stream, who, .. } = session;
                    // In a box, for its state is large and most connections are others.
                    return Box::pin(two::serve(worker, client, stream, who, first)).await;
                }
            }
        }
    }
}

/// Answers a client for whom there is no room, and lets it go.
pub(crate) async fn turn_away(worker: Rc<Worker>, client: Rc<Client>, stream: TcpStream, frontend: &Name) {
    let unknown = SocketAddr::from(([0, 0, 0, 0], 0));
    let who = Who { client: unknown, meant_for: unknown };
    let mut session =
        Session { worker, client, stream, fields: ClientFields::new(unknown, Spoken::One), who };
    session.turn_away(frontend).await;
}

impl Session {
    /// Reads one request and sees it through. `input` holds what came after the one before.
    async fn request(&mut self, input: &mut Option<Buffer>) -> Next {
        let worker = Rc::clone(&self.worker);
        // No snapshot is held while a client rests, or each idle client would keep an old one alive.
        let Some(limits) =
            worker.snapshot().frontend(self.client.frontend.get()).map(|it| HeadLimits::of(it))
        else {
            return Next::Close;
        };
        let is_first = self.client.fresh.get();
        let head = self.read_head(input.take(), limits).await;
        // The head took its time to come; what decides about it is the snapshot of now.
        let snapshot = worker.snapshot();
        let Some(frontend) = snapshot.frontend(self.client.frontend.get()) else { return Next::Close };
        let mut buffer = match head {
            Ok(read) => read,
            Err(NoRequest::Ended) => return Next::Close,
            Err(NoRequest::Refused(refusal)) => return self.refuse(refusal, frontend).await,
        };
        if is_first && buffer.starts_with(two::OPENING) {
            return Next::Two(buffer);
        }
        let asker = Asker { worker: &worker, client: &self.client, fields: &self.fields, who: self.who };
        let outcome = match asker.read(frontend, &mut buffer) {
            Ok((request, mut out)) => {
                let outcome = match Sending::new(&request, buffer, &mut out) {
                    Ok(mut sending) => {
                        asker
                            .exchange(&snapshot, frontend, &request)
                            .run(&mut self.stream, &mut sending)
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
                let _ = socket2::SockRef::from(&self.stream).set_linger(Some(Duration::ZERO));
                Next::Close
            }
        }
    }

    /// Waits for a request and reads until its whole head is at the front of the buffer.
    async fn read_head(&mut self, input: Option<Buffer>, limits: HeadLimits) -> Result<Buffer, NoRequest> {
        let watch = Watch { alarm: &self.client.alarm, wheel: &self.worker.wheel };
        let mut buffer = match input {
            Some(buffer) => buffer,
            None => {
                if self.worker.stopping.get() {
                    return Err(NoRequest::Ended);
                }
                self.client.resting.set(true);
                watch.within(limits.rest);
                read_fresh(&mut self.stream, &self.worker.small, watch).await?
            }
        };
        self.client.resting.set(false);
        self.client.fresh.set(false);
        watch.within(limits.time);
        let mut scan = HeadScan::default();
        loop {
            if scan.is_new() {
                while buffer.starts_with(b"\r\n") {
                    buffer.consume(2);
                }
                // Mostly it is all there, and parsing it tells its end.
                if head::holds_whole_head(&buffer) {
                    self.client.alarm.silence();
                    return Ok(buffer);
                }
            }
            match scan.end(&buffer).map_err(|_| NoRequest::Refused(BARE_LINE_FEED))? {
                Some(length) if length > limits.size => {
                    return Err(NoRequest::Refused(Refusal::HeadTooLarge));
                }
                Some(_) => {
                    self.client.alarm.silence();
                    return Ok(buffer);
                }
                None if buffer.len() >= limits.size => {
                    return Err(NoRequest::Refused(Refusal::HeadTooLarge));
                }
                None => {}
            }
            buffer =
                with_room(buffer, &self.worker.large).ok_or(NoRequest::Refused(Refusal::HeadTooLarge))?;
            match read(&mut self.stream, &mut buffer, watch).await {
                Ok(_) => {}
                Err(Trouble::Rang(Ring::Deadline)) if !buffer.is_empty() => {
                    return Err(NoRequest::Refused(Refusal::Slow));
                }
                Err(_) => return Err(NoRequest::Ended),
            }
        }
    }

    async fn refuse(&mut self, refusal: Refusal, frontend: &Frontend) -> Next {
        frontend.cell.lane(self.worker.index).refused.up();
        self.client.alarm.silence();
        let text = answer(refusal.status(), &refusal, &frontend.name, true, true);
        let watch = Watch { alarm: &self.client.alarm, wheel: &self.worker.wheel };
        match write_all(&mut self.stream, &text, watch, LINGER).await {
            Ok(()) => Next::Linger,
            Err(_) => Next::Close,
        }
    }

    /// Answers a client for whom there is no room, and lets it go.
    async fn turn_away(&mut self, frontend: &Name) {
        let text = answer(503, &"as many clients as are allowed are connected", frontend, true, true);
        let watch = Watch { alarm: &self.client.alarm, wheel: &self.worker.wheel };
        if write_all(&mut self.stream, &text, watch, LINGER).await.is_ok() {
            self.linger().await;
        }
    }

    /// Ends our side and takes what still comes for a short while: closing a socket with unread data resets the
    /// connection, and the client would lose the answer that it has not read yet (RFC 9112, 9.6).
    async fn linger(&mut self) {
        self.client.alarm.silence();
        if self.stream.shutdown().await.is_err() {
            return;
        }
        let watch = Watch { alarm: &self.client.alarm, wheel: &self.worker.wheel };
        watch.within(LINGER);
        let mut buffer = self.worker.small.take();
        let mut taken = 0;
        while taken < LINGER_BYTES {
            match read(&mut self.stream, &mut buffer, watch).await {
                Ok(count) => taken += count,
                Err(_) => return,
            }
            let length = buffer.len();
            buffer.consume(length);
        }
    }
}
