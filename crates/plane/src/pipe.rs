//! Pipes through which data goes from one socket to another without being copied into this process (`splice`).

use std::cell::{Cell, RefCell};
use std::io;
use std::os::fd::OwnedFd;
use std::task::{Context, Poll, ready};

use rustix::net::SendFlags;
use rustix::pipe::{PipeFlags, SpliceFlags};
use tokio::io::Interest;
use tokio::net::TcpStream;

/// How much a pipe holds: the kernel's own limit for unprivileged users.
const CAPACITY: usize = 1 << 20;
/// How many empty pipes a worker keeps. Making one costs four system calls.
const MOST_KEPT: usize = 16;

/// A pipe between two sockets.
#[derive(Debug)]
pub(crate) struct Pipe {
    read: OwnedFd,
    write: OwnedFd,
    /// How much is in it.
    holds: usize,
    /// A byte lies behind that which must not go on: it was not asked for.
    excess: bool,
}

/// The empty pipes of one worker.
#[derive(Debug, Default)]
pub(crate) struct Pipes {
    kept: RefCell<Vec<Pipe>>,
    /// None are given out, for there is little memory left for what they would hold.
    sparing: Cell<bool>,
}

impl Pipes {
    /// An empty pipe; `None` when there are no file descriptors or too little memory for one.
    pub(crate) fn take(&self) -> Option<Pipe> {
        if self.sparing.get() {
            return None;
        }
        let kept = self.kept.borrow_mut().pop();
        kept.or_else(|| Pipe::new().ok())
    }

    /// Whether to do without pipes for now.
    pub(crate) fn be_sparing(&self, sparing: bool) {
        self.sparing.set(sparing);
    }

    /// Keeps a pipe for the next one who wants one. One that still holds something is closed.
    pub(crate) fn give_back(&self, pipe: Option<Pipe>) {
        let mut kept = self.kept.borrow_mut();
        if kept.len() < MOST_KEPT {
            kept.extend(pipe.filter(|pipe| pipe.is_empty() && !pipe.excess));
        }
    }

    /// Gives half of the unused ones back to the system.
    pub(crate) fn trim(&self) {
        let mut kept = self.kept.borrow_mut();
        let half = kept.len() / 2;
        kept.truncate(half);
    }
}

impl Pipe {
    fn new() -> io::Result<Self> {
        let (read, write) = rustix::pipe::pipe_with(PipeFlags::NONBLOCK | PipeFlags::CLOEXEC)?;
        // A smaller pipe does as well, only with more system calls.
        let _ = rustix::pipe::fcntl_setpipe_size(&write, CAPACITY);
        Ok(Self { read, write, holds: 0, excess: false })
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.holds == 0
    }

    /// How many bytes are in it.
    pub(crate) fn holds(&self) -> usize {
        self.holds
    }

    /// Moves up to `most` bytes from a socket into the empty pipe; 0 when the socket has ended.
    pub(crate) fn poll_fill(
        &mut self,
        from: &TcpStream,
        most: u64,
        context: &mut Context<'_>,
    ) -> Poll<io::Result<usize>> {
        let most = usize::try_from(most).unwrap_or(usize::MAX).min(CAPACITY);
        let count = ready!(poll_io(from, Interest::READABLE, context, || {
            Ok(rustix::pipe::splice(from, None, &self.write, None, most, FLAGS)?)
        }))?;
        self.holds += count;
        Poll::Ready(Ok(count))
    }

    /// Moves the last `left` bytes that a socket is to give, or the first of them, into the empty pipe; 0 when the socket
    /// has ended. Asks for one byte more: when that does not come, the socket is known to be empty, without a system call
    /// that says so; when it comes, the peer said more than was asked ([`Self::has_excess`]).
    pub(crate) fn poll_fill_last(
        &mut self,
        from: &TcpStream,
        left: u64,
        context: &mut Context<'_>,
    ) -> Poll<io::Result<usize>> {
        let most = usize::try_from(left.saturating_add(1)).unwrap_or(usize::MAX).min(CAPACITY);
        loop {
            ready!(from.poll_read_ready(context))?;
            let mut came = None;
            let moved = from.try_io(Interest::READABLE, || {
                let count = rustix::pipe::splice(from, None, &self.write, None, most, FLAGS)?;
                came = Some(count);
                // What would block is how the runtime learns that the socket was emptied.
                if count as u64 == left { Err(io::ErrorKind::WouldBlock.into()) } else { Ok(()) }
            });
            match (came, moved) {
                (Some(count), _) => {
                    self.excess = count as u64 > left;
                    self.holds = count - usize::from(self.excess);
                    return Poll::Ready(Ok(self.holds));
                }
                (None, Err(error)) if error.kind() != io::ErrorKind::WouldBlock => {
                    return Poll::Ready(Err(error));
                }
                (None, _) => {}
            }
        }
    }

    /// Whether the peer that it was filled from said more than it should have.
    pub(crate) fn has_excess(&self) -> bool {
        self.excess
    }

    /// Moves what the pipe holds to a socket, as far as that takes it.
    pub(crate) fn poll_drain(
        &mut self,
        to: &TcpStream,
        context: &mut Context<'_>,
    ) -> Poll<io::Result<usize>> {
        let count = ready!(poll_io(to, Interest::WRITABLE, context, || {
            Ok(rustix::pipe::splice(&self.read, None, to, None, self.holds, FLAGS)?)
        }))?;
        self.holds -= count;
        Poll::Ready(Ok(count))
    }
}

/// Sends bytes; when more follow at once, so that they travel in one segment with those.
pub(crate) fn poll_send(
    to: &TcpStream,
    bytes: &[u8],
    more_follows: bool,
    context: &mut Context<'_>,
) -> Poll<io::Result<usize>> {
    let flags = if more_follows { SendFlags::NOSIGNAL | SendFlags::MORE } else { SendFlags::NOSIGNAL };
    poll_io(to, Interest::WRITABLE, context, || Ok(rustix::net::send(to, bytes, flags)?))
}

const FLAGS: SpliceFlags = SpliceFlags::NONBLOCK.union(SpliceFlags::MOVE);

/// Tries something on a socket until it would not block.
fn poll_io(
    stream: &TcpStream,
    interest: Interest,
    context: &mut Context<'_>,
    mut act: impl FnMut() -> io::Result<usize>,
) -> Poll<io::Result<usize>> {
    loop {
        if interest.is_readable() {
            ready!(stream.poll_read_ready(context))?;
        } else {
            ready!(stream.poll_write_ready(context))?;
        }
        match stream.try_io(interest, &mut act) {
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
            done => return Poll::Ready(done),
        }
    }
}
