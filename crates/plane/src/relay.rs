//! Bytes in both directions between two connections, until both have ended.
//!
//! Each side's end is passed on by itself, so a peer that has said all it has to say still gets its answer. Data goes
//! through a buffer that is taken when there is some; a direction that keeps filling its buffer goes on through a pipe
//! by `splice`, without being copied into this process at all.

use std::hint::cold_path;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use merismos_core::runtime::ServerWorkerCounters;
use merismos_core::websocket::{FrameTracker, GOING_AWAY, close_frame};
use tokio::io::ReadBuf;

use crate::buffer::Buffer;
use crate::context::WorkerContext;
use crate::deadline::WakeReason;
use crate::io::{Connection, ConnectionTimer, Sink, Source};
use crate::memory::MemoryGuard;
use crate::pipe::Pipe;

/// How often in a row a direction fills its buffer before it goes on by `splice`: a pipe costs two system calls to make
/// and each portion one more to move, which pays from some hundred KiB on.
const FULL_BUFFERS: u32 = 4;
/// How much one connection may move before others get their turn.
const BUDGET: usize = 4 << 20;
/// How long two sides that are told to end have to do so.
const END_WITHIN: Duration = Duration::from_secs(2);

/// How a relay ended.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum RelayEnd {
    /// Both sides had said all.
    Finished,
    /// One of them broke off.
    Broken,
    /// The alarm rang: a deadline passed, or the connection is cut.
    Rang(WakeReason),
}

/// What is known of the frames of one direction of a WebSocket.
#[derive(Default)]
struct WebSocketDirection {
    frames: FrameTracker,
    /// What is written before our end, after all else.
    farewell: Vec<u8>,
}

#[derive(Default)]
struct Direction {
    buffer: Option<Buffer>,
    pipe: Option<Pipe>,
    full: u32,
    /// Its sink took nothing more at the last look.
    waits: bool,
    /// Its source has ended.
    ended: bool,
    /// Its end was passed on.
    done: bool,
    /// Of a WebSocket. Its data never goes through a pipe, because the ends of frames can't be seen there.
    websocket: Option<Box<WebSocketDirection>>,
}

impl Direction {
    /// How much of what came waits to go on.
    fn held(&self) -> usize {
        if !self.waits {
            return 0;
        }
        self.buffer.as_ref().map_or(0, Buffer::capacity) + self.pipe.as_ref().map_or(0, Pipe::holds)
    }

    /// Takes nothing more from its source; what was taken goes on.
    fn end(&mut self, mask: Option<[u8; 4]>) {
        self.ended = true;
        if let Some(websocket) = self.websocket.as_mut().filter(|of| of.frames.is_between_frames()) {
            websocket.farewell = close_frame(GOING_AWAY, mask);
        }
    }

    /// Moves what can be moved; ready when the direction has ended and its end was passed on.
    fn poll(
        &mut self,
        worker: &WorkerContext,
        from: &mut impl Source,
        to: &mut impl Sink,
        context: &mut Context<'_>,
        moved: &mut usize,
    ) -> Poll<io::Result<()>> {
        while !self.ended || self.buffer.is_some() || self.pipe.as_ref().is_some_and(|pipe| !pipe.is_empty())
        {
            if *moved > BUDGET {
                context.waker().wake_by_ref();
                return Poll::Pending;
            }
            let step = if self.pipe.is_some() && self.buffer.is_none() {
                ready!(self.poll_pipe(from, to, context))?
            } else {
                ready!(self.poll_buffer(worker, from, to, context))?
            };
            *moved += step;
        }
        if !self.done {
            if let Some(websocket) = &mut self.websocket {
                while !websocket.farewell.is_empty() {
                    let count = ready!(Pin::new(&mut *to).poll_write(context, &websocket.farewell))?;
                    websocket.farewell.drain(..count);
                }
            }
            ready!(Pin::new(&mut *to).poll_shutdown(context))?;
            self.done = true;
        }
        Poll::Ready(Ok(()))
    }

    fn poll_buffer(
        &mut self,
        worker: &WorkerContext,
        from: &mut impl Source,
        to: &mut impl Sink,
        context: &mut Context<'_>,
    ) -> Poll<io::Result<usize>> {
        if self.buffer.is_none() {
            ready!(from.poll_ready(context))?;
            let mut buffer = if self.full > 0 { worker.large.take() } else { worker.small.take() };
            let mut room = ReadBuf::new(buffer.room());
            ready!(Pin::new(&mut *from).poll_read(context, &mut room))?;
            let count = room.filled().len();
            buffer.filled(count);
            if let Some(websocket) = &mut self.websocket {
                websocket.frames.on_bytes(&buffer);
            }
            if count == 0 {
                self.ended = true;
                return Poll::Ready(Ok(0));
            }
            self.full = if count == buffer.capacity() { self.full + 1 } else { 0 };
            if self.full >= FULL_BUFFERS
                && self.websocket.is_none()
                && from.socket().is_some()
                && to.socket().is_some()
            {
                self.pipe = worker.pipes.take();
                self.full = 0;
            }
            self.buffer = Some(buffer);
        }
        let Some(buffer) = &mut self.buffer else { return Poll::Ready(Ok(0)) };
        let written = Pin::new(to).poll_write(context, buffer);
        self.waits = written.is_pending();
        let count = ready!(written)?;
        buffer.consume(count);
        if buffer.is_empty() {
            self.buffer = None;
        }
        Poll::Ready(Ok(count))
    }

    fn poll_pipe(
        &mut self,
        from: &impl Source,
        to: &impl Sink,
        context: &mut Context<'_>,
    ) -> Poll<io::Result<usize>> {
        let (Some(pipe), Some(from), Some(to)) = (&mut self.pipe, from.socket(), to.socket()) else {
            return Poll::Ready(Ok(0));
        };
        if pipe.is_empty() && ready!(pipe.poll_fill(from, u64::MAX, context))? == 0 {
            self.ended = true;
            return Poll::Ready(Ok(0));
        }
        let drained = pipe.poll_drain(to, context);
        self.waits = drained.is_pending();
        drained
    }
}

/// Two connections that are joined.
pub(crate) struct Relay<'a> {
    worker: &'a WorkerContext,
    /// Where bytes are counted.
    lane: &'a ServerWorkerCounters,
    watch: ConnectionTimer<'a>,
    idle: Duration,
    there: Direction,
    back: Direction,
}

impl Drop for Relay<'_> {
    fn drop(&mut self) {
        for way in [&mut self.there, &mut self.back] {
            self.worker.pipes.give_back(way.pipe.take());
        }
    }
}

impl<'a> Relay<'a> {
    /// A relay that ends when nothing moves for `idle`. `there` and `back` are what the client and the server have sent
    /// already.
    pub(crate) fn new(
        worker: &'a WorkerContext,
        lane: &'a ServerWorkerCounters,
        watch: ConnectionTimer<'a>,
        idle: Duration,
        there: Option<Buffer>,
        back: Option<Buffer>,
    ) -> Self {
        let way = |buffer| Direction { buffer, ..Direction::default() };
        Self { worker, lane, watch, idle, there: way(there), back: way(back) }
    }

    /// A relay that knows that its connections are a WebSocket's (RFC 6455).
    pub(crate) fn of_websocket(mut self) -> Self {
        for way in [&mut self.there, &mut self.back] {
            let mut websocket = Box::<WebSocketDirection>::default();
            websocket.frames.on_bytes(way.buffer.as_deref().unwrap_or_default());
            way.websocket = Some(websocket);
        }
        self
    }

    /// Ends both connections in order: what was taken goes on, both sides of a WebSocket get a close frame where one may stand, then
    /// both get our end (FIN). Gives whether both ended theirs within [`END_WITHIN`]; if not, they are to be reset.
    pub(crate) async fn end_in_order(
        &mut self,
        client: &mut impl Connection,
        server: &mut impl Connection,
    ) -> bool {
        self.watch.alarm.cancel();
        self.watch.set_timeout(END_WITHIN);
        self.there.end(Some((self.worker.draw() as u32).to_ne_bytes()));
        self.back.end(None);
        let mut ended = [false; 2];
        std::future::poll_fn(|context| {
            let mut moved = 0;
            let there = self.there.poll(self.worker, client, server, context, &mut moved);
            let back = self.back.poll(self.worker, server, client, context, &mut moved);
            ended[0] = ended[0] || poll_discard(client, context).is_ready();
            ended[1] = ended[1] || poll_discard(server, context).is_ready();
            match (there, back) {
                (Poll::Ready(Err(_)), _) | (_, Poll::Ready(Err(_))) => Poll::Ready(false),
                (Poll::Ready(Ok(())), Poll::Ready(Ok(()))) if ended == [true; 2] => Poll::Ready(true),
                (_, _) if self.watch.alarm.fired().is_some() => Poll::Ready(false),
                (_, _) => Poll::Pending,
            }
        })
        .await
    }

    /// Carries bytes until both sides have ended, one breaks off, or the alarm rings.
    pub(crate) async fn run(
        &mut self,
        client: &mut impl Connection,
        server: &mut impl Connection,
    ) -> RelayEnd {
        self.watch.set_timeout(self.idle);
        let mut held = MemoryGuard::new(self.watch);
        std::future::poll_fn(|context| {
            let mut moved = 0;
            let there = self.there.poll(self.worker, client, server, context, &mut moved);
            let to_server = moved;
            let back = self.back.poll(self.worker, server, client, context, &mut moved);
            if moved > 0 {
                self.lane.bytes_to.add(to_server as u64);
                self.lane.bytes_from.add((moved - to_server) as u64);
                self.watch.set_timeout(self.idle);
            }
            if self.there.waits || self.back.waits || held.is_some() {
                cold_path();
                held.set(self.there.held() + self.back.held());
            }
            match (there, back) {
                (Poll::Ready(Err(_)), _) | (_, Poll::Ready(Err(_))) => Poll::Ready(RelayEnd::Broken),
                (Poll::Ready(Ok(())), Poll::Ready(Ok(()))) => Poll::Ready(RelayEnd::Finished),
                (_, _) => match self.watch.alarm.fired() {
                    // What moves is not idle; it may be too old all the same.
                    Some(WakeReason::Deadline) if moved > 0 && !self.watch.is_total_over() => {
                        self.watch.alarm.ack();
                        Poll::Pending
                    }
                    Some(ring) => Poll::Ready(RelayEnd::Rang(ring)),
                    None => Poll::Pending,
                },
            }
        })
        .await
    }
}

/// Takes what still comes and forgets it; ready when the peer has ended its side or broken off.
fn poll_discard(stream: &mut impl Connection, context: &mut Context<'_>) -> Poll<()> {
    let mut scrap = [0; 4 << 10];
    loop {
        let mut room = ReadBuf::new(&mut scrap);
        match ready!(Pin::new(&mut *stream).poll_read(context, &mut room)) {
            Ok(()) if !room.filled().is_empty() => {}
            Ok(()) | Err(_) => return Poll::Ready(()),
        }
    }
}
