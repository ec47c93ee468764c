//! A bare thread-per-core byte relay: what a process in the middle costs at the least. It parses nothing, counts
//! nothing and has no timeouts; the benchmark holds Merismos against it.

use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use socket2::{Domain, Socket, Type};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::tcp::{ReadHalf, WriteHalf};
use tokio::net::{TcpListener, TcpStream};

/// The size of the buffer for each direction.
const BUFFER: usize = 64 << 10;

/// Relays every connection on `listen` to `to`, on so many threads, until the process ends.
///
/// # Errors
/// When a thread or its socket can't be had.
pub fn run(listen: SocketAddr, to: SocketAddr, workers: usize) -> io::Result<()> {
    let mut threads = Vec::new();
    for _ in 0..workers.max(1) {
        let socket = Socket::new(Domain::for_address(listen), Type::STREAM, None)?;
        socket.set_reuse_address(true)?;
        socket.set_reuse_port(true)?;
        socket.set_nonblocking(true)?;
        socket.bind(&listen.into())?;
        socket.listen(1_024)?;
        threads.push(std::thread::spawn(move || work(socket.into(), to)));
    }
    for thread in threads {
        if let Ok(ended) = thread.join() {
            ended?;
        }
    }
    Ok(())
}

fn work(listener: std::net::TcpListener, to: SocketAddr) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    tokio::task::LocalSet::new().block_on(&runtime, async {
        let listener = TcpListener::from_std(listener)?;
        loop {
            let (client, _) = listener.accept().await?;
            tokio::task::spawn_local(async move {
                // How a connection ends is no concern of a bare relay.
                let _ = relay(client, to).await;
            });
        }
    })
}

async fn relay(mut client: TcpStream, to: SocketAddr) -> io::Result<()> {
    let mut server = TcpStream::connect(to).await?;
    client.set_nodelay(true)?;
    server.set_nodelay(true)?;
    let (from_client, to_client) = client.split();
    let (from_server, to_server) = server.split();
    let mut there = Way::new(from_client, to_server);
    let mut back = Way::new(from_server, to_client);
    std::future::poll_fn(|context| {
        if there.poll(context)?.is_ready() || back.poll(context)?.is_ready() {
            return Poll::Ready(Ok(()));
        }
        Poll::Pending
    })
    .await
}

/// One direction.
struct Way<'a> {
    from: ReadHalf<'a>,
    to: WriteHalf<'a>,
    buffer: Box<[u8]>,
    start: usize,
    end: usize,
}

impl<'a> Way<'a> {
    fn new(from: ReadHalf<'a>, to: WriteHalf<'a>) -> Self {
        Self { from, to, buffer: vec![0; BUFFER].into_boxed_slice(), start: 0, end: 0 }
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
