//! A bare thread-per-core byte relay: what a process in the middle costs at the least. It parses nothing, counts
//! nothing and has no timeouts; the benchmark holds Merismos against it. It copies through a buffer, or moves pages
//! through a pipe (`splice`).

use std::io;
use std::net::SocketAddr;
use std::os::fd::OwnedFd;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use rustix::pipe::{PipeFlags, SpliceFlags};
use socket2::{Domain, Socket, Type};
use tokio::io::{AsyncRead, AsyncWrite, Interest, ReadBuf};
use tokio::net::tcp::{ReadHalf, WriteHalf};
use tokio::net::{TcpListener, TcpStream};

/// How much a pipe holds.
const PIPE: usize = 1 << 20;

/// How bytes get from one connection to the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CopyMethod {
    /// Copied through a buffer for each direction.
    Copying {
        /// The size of each, in bytes.
        buffer: usize,
    },
    /// Moved through a pipe.
    Splicing,
}

/// Relays every connection on `listen` to `to`, on so many threads, until the process ends.
///
/// # Errors
/// When a thread or its socket can't be had.
pub fn run(listen: SocketAddr, to: SocketAddr, workers: usize, how: CopyMethod) -> io::Result<()> {
    let mut threads = Vec::new();
    for _ in 0..workers.max(1) {
        let listener = listener(listen)?;
        threads.push(std::thread::spawn(move || work(listener, to, how)));
    }
    for thread in threads {
        if let Ok(ended) = thread.join() {
            ended?;
        }
    }
    Ok(())
}

/// One of several sockets that listen on an address.
pub(crate) fn listener(listen: SocketAddr) -> io::Result<std::net::TcpListener> {
    let socket = Socket::new(Domain::for_address(listen), Type::STREAM, None)?;
    socket.set_reuse_address(true)?;
    socket.set_reuse_port(true)?;
    socket.set_nonblocking(true)?;
    socket.bind(&listen.into())?;
    socket.listen(1_024)?;
    Ok(socket.into())
}

fn work(listener: std::net::TcpListener, to: SocketAddr, how: CopyMethod) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    tokio::task::LocalSet::new().block_on(&runtime, async {
        let listener = TcpListener::from_std(listener)?;
        loop {
            let (client, _) = listener.accept().await?;
            tokio::task::spawn_local(async move {
                // How a connection ends is no concern of a bare relay.
                let _ = match how {
                    CopyMethod::Copying { buffer } => relay(client, to, buffer).await,
                    CopyMethod::Splicing => splice(client, to).await,
                };
            });
        }
    })
}

async fn relay(mut client: TcpStream, to: SocketAddr, buffer: usize) -> io::Result<()> {
    let mut server = TcpStream::connect(to).await?;
    client.set_nodelay(true)?;
    server.set_nodelay(true)?;
    let (from_client, to_client) = client.split();
    let (from_server, to_server) = server.split();
    let mut there = BufferCopy::new(from_client, to_server, buffer);
    let mut back = BufferCopy::new(from_server, to_client, buffer);
    std::future::poll_fn(|context| {
        if there.poll(context)?.is_ready() || back.poll(context)?.is_ready() {
            return Poll::Ready(Ok(()));
        }
        Poll::Pending
    })
    .await
}

async fn splice(client: TcpStream, to: SocketAddr) -> io::Result<()> {
    let server = TcpStream::connect(to).await?;
    client.set_nodelay(true)?;
    server.set_nodelay(true)?;
    let (mut there, mut back) = (SplicePipe::new()?, SplicePipe::new()?);
    std::future::poll_fn(|context| {
        if there.poll(&client, &server, context)?.is_ready()
            || back.poll(&server, &client, context)?.is_ready()
        {
            return Poll::Ready(Ok(()));
        }
        Poll::Pending
    })
    .await
}

/// One direction by `splice`.
struct SplicePipe {
    read: OwnedFd,
    write: OwnedFd,
    holds: usize,
}

impl SplicePipe {
    fn new() -> io::Result<Self> {
        let (read, write) = rustix::pipe::pipe_with(PipeFlags::NONBLOCK)?;
        let _ = rustix::pipe::fcntl_setpipe_size(&write, PIPE);
        Ok(Self { read, write, holds: 0 })
    }

    /// Ready at the end of the direction.
    fn poll(&mut self, from: &TcpStream, to: &TcpStream, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let flags = SpliceFlags::NONBLOCK | SpliceFlags::MOVE;
        loop {
            let moved = if self.holds == 0 {
                ready!(from.poll_read_ready(context))?;
                from.try_io(Interest::READABLE, || {
                    Ok(rustix::pipe::splice(from, None, &self.write, None, PIPE, flags)?)
                })
            } else {
                ready!(to.poll_write_ready(context))?;
                to.try_io(Interest::WRITABLE, || {
                    Ok(rustix::pipe::splice(&self.read, None, to, None, self.holds, flags)?)
                })
            };
            match moved {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                Err(error) => return Poll::Ready(Err(error)),
                Ok(0) => return Poll::Ready(Ok(())),
                Ok(count) if self.holds == 0 => self.holds = count,
                Ok(count) => self.holds -= count,
            }
        }
    }
}

/// One direction through a buffer.
struct BufferCopy<'a> {
    from: ReadHalf<'a>,
    to: WriteHalf<'a>,
    buffer: Box<[u8]>,
    start: usize,
    end: usize,
}

impl<'a> BufferCopy<'a> {
    fn new(from: ReadHalf<'a>, to: WriteHalf<'a>, buffer: usize) -> Self {
        Self { from, to, buffer: vec![0; buffer].into_boxed_slice(), start: 0, end: 0 }
    }

    /// Ready at the end of the direction.
    fn poll(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        loop {
            while self.start < self.end {
                let bytes = &self.buffer[self.start..self.end];
                self.start += ready!(Pin::new(&mut self.to).poll_write(context, bytes))?;
            }
            let mut room = ReadBuf::new(&mut self.buffer);
            ready!(Pin::new(&mut self.from).poll_read(context, &mut room))?;
            (self.start, self.end) = (0, room.filled().len());
            if self.end == 0 {
                return Poll::Ready(Ok(()));
            }
        }
    }
}
