//! Reading and writing with the connection's alarm.

use std::future::poll_fn;
use std::hint::cold_path;
use std::io;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use merismos_core::runtime::Counter;
use rustix::net::RecvFlags;
use socket2::SockRef;
use tokio::io::{AsyncRead, AsyncWrite, Interest, ReadBuf};
use tokio::net::TcpStream;
use tokio::net::tcp::{ReadHalf, WriteHalf};

use crate::buffer::{Buffer, BufferPool};
use crate::client_rate::ClientRate;
use crate::deadline::{DeadlineEntry, TimerWheel, WakeReason};
use crate::memory::MemoryGuard;
use crate::pipe::{Pipe, poll_send};
use crate::receive_low_water::{self, ReceiveLowWater};

/// Why a read or a write did not happen.
pub(crate) enum IoError {
    /// The peer closed its side (reads only).
    Closed,
    /// The peer or the system broke the connection.
    Broken,
    /// The alarm rang first.
    Rang(WakeReason),
}

impl From<io::Error> for IoError {
    fn from(_: io::Error) -> Self {
        Self::Broken
    }
}

/// A connection's alarm with the wheel that it stands in: what every wait needs.
#[derive(Clone, Copy)]
pub(crate) struct ConnectionTimer<'a> {
    pub(crate) alarm: &'a Rc<DeadlineEntry>,
    pub(crate) wheel: &'a TimerWheel,
}

impl ConnectionTimer<'_> {
    pub(crate) fn set_timeout(self, limit: Duration) {
        self.wheel.set(self.alarm, limit);
    }

    /// Ends everything up to the next silence at the latest after `limit`, however patient each step is.
    pub(crate) fn set_total_timeout(self, limit: Duration) {
        self.wheel.set_end(self.alarm, limit);
    }

    /// Whether the time of [`Self::set_total_timeout`] is over.
    pub(crate) fn is_total_over(self) -> bool {
        self.alarm.end.get() <= self.wheel.now()
    }

    /// So many bytes lie here for the client, until they are let go or its request ends.
    #[cold]
    pub(crate) fn hold(self, bytes: usize) {
        self.wheel.count_held(self.alarm, 0, bytes);
    }

    /// Some of what lay here for the client has gone on.
    #[cold]
    pub(crate) fn let_go(self, bytes: usize) {
        self.wheel.count_held(self.alarm, bytes, 0);
    }

    /// The client's request has ended: nothing lies here for it any more, however that came.
    #[inline]
    pub(crate) fn let_all_go(self) {
        let held = self.alarm.held();
        if held > 0 {
            self.let_go(held);
        }
    }

    pub(crate) fn check(self) -> Result<(), IoError> {
        self.alarm.fired().map_or(Ok(()), |ring| Err(IoError::Rang(ring)))
    }
}

/// What bytes come from: the reading side of a connection, or of one stream of it.
pub(crate) trait Source: AsyncRead + Unpin {
    /// The connection, when the bytes are its own.
    fn socket(&self) -> Option<&TcpStream> {
        None
    }

    /// How many bytes have come and wait to be read, where that is not the system's to keep.
    fn unread(&mut self) -> usize {
        0
    }

    /// Takes in what the peer sends unasked, where only that keeps it from lying somewhere without bound; to be asked while nothing
    /// is read. Fails when it is too much.
    fn poll_unasked(&mut self, context: &mut Context<'_>) -> io::Result<()> {
        let _ = context;
        Ok(())
    }

    /// Ready when reading would give something, or the end.
    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>>;
}

/// What bytes go to: the writing side of a connection, or of one stream of it.
pub(crate) trait Sink: AsyncWrite + Unpin {
    /// Whether it is a connection, and no stream of one that others share.
    const IS_CONNECTION: bool = false;

    /// The connection, when the bytes are its own.
    fn socket(&self) -> Option<&TcpStream> {
        None
    }

    /// Ready when the peer has said that it wants nothing more. A connection that was half closed has not said so.
    fn poll_given_up(&mut self, context: &mut Context<'_>) -> Poll<()> {
        let _ = context;
        Poll::Pending
    }
}

/// Both sides of what a message goes over: a connection, or one stream of it.
pub(crate) trait Transport: Source + Sink {
    /// The reading side alone.
    type Reading<'a>: Source
    where
        Self: 'a;
    /// The writing side alone.
    type Writing<'a>: Sink
    where
        Self: 'a;

    /// What it is when it is a whole connection.
    type Whole: Connection;

    /// Both sides, to be used at the same time.
    fn sides(&mut self) -> (Self::Reading<'_>, Self::Writing<'_>);

    /// Whether the peer went away, as far as is known.
    fn is_gone(&mut self, context: &mut Context<'_>) -> bool;

    /// The connection, when it is this message's alone and can go on with another protocol.
    fn connection(&mut self) -> Option<&mut Self::Whole> {
        None
    }
}

/// A whole connection, whatever is spoken over it.
pub(crate) trait Connection: Transport + 'static {
    /// Whether the protocol has a word for an end in order.
    const HAS_FAREWELL: bool = false;

    /// The connection of the system below it.
    fn tcp(&mut self) -> &mut TcpStream;

    /// The name that a client asked for in its handshake, when there was one.
    fn name(&self) -> Option<String> {
        None
    }

    /// The fields with which servers are told of the certificate that a client showed and that passed (RFC 9440, 2); empty without one.
    fn certificate_fields(&self) -> Box<str> {
        Box::default()
    }

    /// The peer was not given all that it was promised: our end is no orderly one.
    fn break_off(&mut self) {}

    /// Tells the peer, where its protocol has a word for it, that what it was given is whole; ready when that has left. A connection that
    /// was broken off says nothing.
    fn poll_farewell(&mut self, context: &mut Context<'_>) -> Poll<()> {
        let _ = context;
        Poll::Ready(())
    }

    /// The peer must not take our end for an orderly one: it gets a reset when the connection is closed.
    fn reset(&mut self) {
        self.break_off();
        let _ = SockRef::from(&*self.tcp()).set_linger(Some(Duration::ZERO));
    }
}

impl Connection for TcpStream {
    fn tcp(&mut self) -> &mut TcpStream {
        self
    }
}

impl Source for TcpStream {
    fn socket(&self) -> Option<&TcpStream> {
        Some(self)
    }

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.poll_read_ready(context)
    }
}

impl Source for ReadHalf<'_> {
    fn socket(&self) -> Option<&TcpStream> {
        Some(self.as_ref())
    }

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.as_ref().poll_read_ready(context)
    }
}

impl Sink for TcpStream {
    const IS_CONNECTION: bool = true;

    fn socket(&self) -> Option<&TcpStream> {
        Some(self)
    }
}

impl Sink for WriteHalf<'_> {
    const IS_CONNECTION: bool = true;

    fn socket(&self) -> Option<&TcpStream> {
        Some(self.as_ref())
    }
}

impl Transport for TcpStream {
    type Reading<'a> = ReadHalf<'a>;
    type Writing<'a> = WriteHalf<'a>;
    type Whole = Self;

    fn sides(&mut self) -> (ReadHalf<'_>, WriteHalf<'_>) {
        self.split()
    }

    fn is_gone(&mut self, context: &mut Context<'_>) -> bool {
        let mut byte = [std::mem::MaybeUninit::uninit()];
        let mut room = ReadBuf::uninit(&mut byte);
        matches!(self.poll_peek(context, &mut room), Poll::Ready(Ok(0) | Err(_)))
    }

    fn connection(&mut self) -> Option<&mut TcpStream> {
        Some(self)
    }
}

impl<S: Source> Source for &mut S {
    fn socket(&self) -> Option<&TcpStream> {
        (**self).socket()
    }

    fn unread(&mut self) -> usize {
        (**self).unread()
    }

    fn poll_unasked(&mut self, context: &mut Context<'_>) -> io::Result<()> {
        (**self).poll_unasked(context)
    }

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        (**self).poll_ready(context)
    }
}

impl<S: Sink> Sink for &mut S {
    const IS_CONNECTION: bool = S::IS_CONNECTION;

    fn socket(&self) -> Option<&TcpStream> {
        (**self).socket()
    }

    fn poll_given_up(&mut self, context: &mut Context<'_>) -> Poll<()> {
        (**self).poll_given_up(context)
    }
}

/// Waits until there is something to read, without holding a buffer meanwhile.
pub(crate) fn readable(
    source: &mut impl Source,
    watch: ConnectionTimer<'_>,
) -> impl Future<Output = Result<(), IoError>> {
    poll_fn(move |context| {
        watch.check()?;
        source.poll_ready(context).map_err(IoError::from)
    })
}

/// Waits until there is something to read, and only then takes a buffer and reads into it.
///
/// Woken, it reads at once: asking first whether there is something would be asked again by reading.
pub(crate) fn read_fresh(
    source: &mut impl Source,
    shelf: &Rc<BufferPool>,
    watch: ConnectionTimer<'_>,
) -> impl Future<Output = Result<Buffer, IoError>> {
    read_first(source, shelf, usize::MAX, watch)
}

/// As [`read_fresh`], but so many bytes at most.
pub(crate) fn read_first(
    source: &mut impl Source,
    shelf: &Rc<BufferPool>,
    most: usize,
    watch: ConnectionTimer<'_>,
) -> impl Future<Output = Result<Buffer, IoError>> {
    let mut waited = false;
    poll_fn(move |context| {
        if !waited {
            watch.check()?;
            waited = true;
            if source.poll_ready(context)?.is_pending() {
                return Poll::Pending;
            }
        }
        let mut buffer = shelf.take();
        let read = ready!(poll_into(source, &mut buffer, most, watch, context));
        Poll::Ready(read.map(|_| buffer))
    })
}

/// Reads into the buffer's room until something came; gives how much.
///
/// Reads through `poll_read`, for after a read that left room tokio takes the socket to be empty and saves the
/// system call that would only say so.
pub(crate) fn read(
    source: &mut impl Source,
    buffer: &mut Buffer,
    watch: ConnectionTimer<'_>,
) -> impl Future<Output = Result<usize, IoError>> {
    poll_fn(move |context| poll_into(source, buffer, usize::MAX, watch, context))
}

#[inline]
fn poll_into(
    source: &mut impl Source,
    buffer: &mut Buffer,
    most: usize,
    watch: ConnectionTimer<'_>,
    context: &mut Context<'_>,
) -> Poll<Result<usize, IoError>> {
    let room = buffer.room();
    let most = most.min(room.len());
    let mut room = ReadBuf::new(&mut room[..most]);
    if Pin::new(source).poll_read(context, &mut room)?.is_pending() {
        watch.check()?;
        return Poll::Pending;
    }
    let count = room.filled().len();
    buffer.filled(count);
    Poll::Ready(if count == 0 { Err(IoError::Closed) } else { Ok(count) })
}

/// What a connection begins with now, without taking it; `None` when there is nothing to see.
pub(crate) fn peek(stream: &TcpStream, room: &mut [u8]) -> Option<usize> {
    let flags = RecvFlags::PEEK | RecvFlags::DONTWAIT;
    let seen = stream.try_io(Interest::READABLE, || Ok(rustix::net::recv(stream, &mut *room, flags)?));
    seen.ok().map(|(seen, _)| seen).filter(|seen| *seen > 0)
}

/// Writes everything; the peer may rest for `patience` at most.
pub(crate) fn write_all(
    sink: &mut impl Sink,
    mut bytes: &[u8],
    watch: ConnectionTimer<'_>,
    patience: Duration,
) -> impl Future<Output = Result<(), IoError>> {
    let mut waiting = false;
    poll_fn(move |context| {
        while !bytes.is_empty() {
            let written = Pin::new(&mut *sink).poll_write(context, bytes);
            if written.is_pending() {
                cold_path();
                watch.check()?;
                if !waiting {
                    waiting = true;
                    watch.set_timeout(patience);
                }
                return Poll::Pending;
            }
            let count = ready!(written)?;
            bytes = &bytes[count..];
            waiting = false;
        }
        Poll::Ready(Ok(()))
    })
}

/// As [`write_all`], to a client whose rate is watched. While it takes nothing, `buffered` bytes are held for it.
pub(crate) fn write_to_client(
    sink: &mut impl Sink,
    mut bytes: &[u8],
    watch: ConnectionTimer<'_>,
    patience: Duration,
    rate: &ClientRate,
    buffered: usize,
) -> impl Future<Output = Result<(), IoError>> {
    let mut waiting = false;
    poll_fn(move |context| {
        while !bytes.is_empty() {
            let written = Pin::new(&mut *sink).poll_write(context, bytes);
            if written.is_pending() {
                cold_path();
                watch.check()?;
                if !waiting {
                    waiting = true;
                    watch.set_timeout(patience);
                    rate.wait(watch.wheel.now());
                    watch.hold(buffered);
                }
                return Poll::Pending;
            }
            let count = ready!(written)?;
            bytes = &bytes[count..];
            if waiting {
                cold_path();
                waiting = false;
                watch.let_go(buffered);
                if rate.is_too_slow(watch.wheel.now(), count) {
                    return Poll::Ready(Err(IoError::Rang(WakeReason::Deadline)));
                }
            }
        }
        Poll::Ready(Ok(()))
    })
}

/// Whose bytes go through a pipe.
#[derive(Clone, Copy)]
pub(crate) enum BodyKind<'a> {
    /// A server's, which says nothing more before it is asked again.
    Answer,
    /// The same, while the request is still on its way: another part of the task waits with the same alarm.
    EarlyAnswer,
    /// A client's, which may send its next requests at any time, and has to be fast enough.
    Request(&'a ClientRate),
}

/// How bytes that were to go through a pipe did not.
pub(crate) enum SpliceError {
    /// The source ended or broke, or the alarm rang while it was waited for.
    Source(IoError),
    /// The sink broke, or the alarm rang while it was waited for.
    Sink(IoError),
}

/// Two sockets between which bytes move by `splice`.
#[derive(Clone, Copy)]
pub(crate) struct SplicePair<'a> {
    pub(crate) source: &'a TcpStream,
    /// How long the source may rest.
    pub(crate) source_timeout: Duration,
    pub(crate) sink: &'a TcpStream,
    /// How long the sink may take nothing.
    pub(crate) sink_timeout: Duration,
    /// Counts the bytes that are moved.
    pub(crate) counted: &'a Counter,
    pub(crate) watch: ConnectionTimer<'a>,
}

impl SplicePair<'_> {
    /// Moves what is there of the `left` bytes of the source into the empty pipe and sends `ahead`, in one segment with the
    /// beginning of that, and counts both. Gives how many bytes are left to come.
    pub(crate) async fn send_ahead(
        self,
        pipe: &mut Pipe,
        mut ahead: &[u8],
        mut left: u64,
    ) -> Result<u64, IoError> {
        let Self { source, sink, sink_timeout, counted, watch, .. } = self;
        counted.add(ahead.len() as u64);
        watch.set_timeout(sink_timeout);
        let mut held = MemoryGuard::new(watch);
        poll_fn(|context| {
            // Whether the source has ended or has nothing yet, moving what is left will find out.
            if pipe.is_empty()
                && let Poll::Ready(Ok(count)) = pipe.poll_fill_last(source, left, context)
            {
                left -= count as u64;
                counted.add(count as u64);
            }
            while !ahead.is_empty() {
                match poll_send(sink, ahead, !pipe.is_empty(), context) {
                    Poll::Ready(sent) => ahead = &ahead[sent?..],
                    Poll::Pending => {
                        watch.check()?;
                        held.set(ahead.len() + pipe.holds());
                        return Poll::Pending;
                    }
                }
            }
            Poll::Ready(Ok(left))
        })
        .await
    }

    /// Moves what the pipe holds, and exactly `left` bytes behind it, which are counted, by `splice`. Each side may rest for its own
    /// timeout. Gives whether the source said no more than that, as far as it may not.
    pub(crate) async fn splice(
        self,
        pipe: &mut Pipe,
        mut left: u64,
        what: BodyKind<'_>,
    ) -> Result<bool, SpliceError> {
        let Self { source, source_timeout, sink, sink_timeout, counted, watch } = self;
        let mut gathering = matches!(what, BodyKind::Answer).then(|| ReceiveLowWater::new(source));
        // Whether the time of this portion runs.
        let mut is_timed = false;
        watch.set_timeout(if pipe.is_empty() { source_timeout } else { sink_timeout });
        let mut held = MemoryGuard::new(watch);
        poll_fn(|context| {
            while left > 0 || !pipe.is_empty() {
                if pipe.is_empty() {
                    let filled = match what {
                        BodyKind::Answer | BodyKind::EarlyAnswer => {
                            pipe.poll_fill_last(source, left, context)
                        }
                        BodyKind::Request(_) => pipe.poll_fill(source, left, context),
                    };
                    match filled {
                        Poll::Ready(Ok(0)) => return Poll::Ready(Err(SpliceError::Source(IoError::Closed))),
                        Poll::Ready(Err(error)) => {
                            return Poll::Ready(Err(SpliceError::Source(error.into())));
                        }
                        Poll::Ready(Ok(count)) => {
                            left -= count as u64;
                            counted.add(count as u64);
                            is_timed = false;
                            if gathering.as_ref().is_some_and(ReceiveLowWater::is_on)
                                && watch.alarm.fired() == Some(WakeReason::Deadline)
                            {
                                // It came in the moment in which it was not waited for any longer: neither side was late.
                                watch.alarm.ack();
                            }
                            watch.set_timeout(sink_timeout);
                            if let BodyKind::Request(rate) = what
                                && rate.is_too_slow(watch.wheel.now(), count)
                            {
                                let trouble = IoError::Rang(WakeReason::Deadline);
                                return Poll::Ready(Err(SpliceError::Source(trouble)));
                            }
                        }
                        Poll::Pending => {
                            if let BodyKind::Request(rate) = what {
                                rate.wait(watch.wheel.now());
                            }
                            let rang = watch.alarm.fired();
                            if let Some(gathering) = &mut gathering {
                                if rang == Some(WakeReason::Deadline) && gathering.is_on() {
                                    gathering.give_up();
                                    watch.alarm.ack();
                                    watch.set_timeout(source_timeout);
                                    continue;
                                }
                                let is_moved = rang.is_none() && gathering.begin(left);
                                if rang.is_none() && gathering.is_on() && !is_timed {
                                    // For each portion anew, also of the same size: a source that was fast may be slow from now on.
                                    watch.set_timeout(receive_low_water::LONGEST.min(source_timeout));
                                    is_timed = true;
                                }
                                if is_moved {
                                    continue;
                                }
                            }
                            return match rang {
                                Some(ring) => Poll::Ready(Err(SpliceError::Source(IoError::Rang(ring)))),
                                None => Poll::Pending,
                            };
                        }
                    }
                    continue;
                }
                match pipe.poll_drain(sink, context) {
                    Poll::Ready(Ok(_)) if pipe.is_empty() => {
                        held.set(0);
                        watch.set_timeout(source_timeout);
                    }
                    Poll::Ready(Ok(_)) => watch.set_timeout(sink_timeout),
                    Poll::Ready(Err(error)) => return Poll::Ready(Err(SpliceError::Sink(error.into()))),
                    Poll::Pending => {
                        watch.check().map_err(SpliceError::Sink)?;
                        held.set(pipe.holds());
                        return Poll::Pending;
                    }
                }
            }
            Poll::Ready(Ok(!pipe.has_excess()))
        })
        .await
    }
}
