//! The benchmark's datagrams: a client that asks, a server that sends everything back, and a bare relay between them that
//! receives many at a time and lets the kernel cut rows into datagrams. It counts nothing and forgets no flow.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::io::{self, IoSliceMut};
use std::net::{Ipv4Addr, SocketAddr, UdpSocket as StdSocket};
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use quinn_udp::{RecvMeta, Transmit, UdpSockRef, UdpSocketState};
use socket2::{Domain, Socket, Type};
use tokio::io::Interest;
use tokio::net::UdpSocket;

/// How many rows are received in one system call.
const BATCH: usize = 8;
/// The size of each buffer.
const BUFFER: usize = 64 << 10;
/// How long the client waits for what is missing.
const PATIENCE: Duration = Duration::from_millis(500);

struct DatagramPort {
    socket: UdpSocket,
    state: UdpSocketState,
}

/// Room for what is received.
struct ReceiveRoom {
    buffers: Vec<Vec<u8>>,
    metas: [RecvMeta; BATCH],
}

impl ReceiveRoom {
    fn new() -> Self {
        Self { buffers: vec![vec![0; BUFFER]; BATCH], metas: [RecvMeta::default(); BATCH] }
    }

    /// What was received: who sent it, the bytes, and how long each datagram in them is.
    fn rows(&self, count: usize) -> impl Iterator<Item = (SocketAddr, &[u8], usize)> {
        let rows = self.buffers.iter().zip(&self.metas).take(count);
        rows.map(|(buffer, meta)| (meta.addr, &buffer[..meta.len], meta.stride.max(1)))
    }
}

impl DatagramPort {
    fn new(socket: StdSocket) -> io::Result<Self> {
        socket.set_nonblocking(true)?;
        let state = UdpSocketState::new(UdpSockRef::from(&socket))?;
        Ok(Self { socket: UdpSocket::from_std(socket)?, state })
    }

    /// One of several sockets on an address.
    fn listening(address: SocketAddr) -> io::Result<Self> {
        let socket = Socket::new(Domain::for_address(address), Type::DGRAM, None)?;
        socket.set_reuse_port(true)?;
        socket.bind(&address.into())?;
        Self::new(socket.into())
    }

    fn towards(address: SocketAddr) -> io::Result<Self> {
        let socket = StdSocket::bind((Ipv4Addr::UNSPECIFIED, 0))?;
        socket.connect(address)?;
        Self::new(socket)
    }

    async fn receive(&self, room: &mut ReceiveRoom) -> io::Result<usize> {
        loop {
            self.socket.readable().await?;
            let received = self.socket.try_io(Interest::READABLE, || {
                let mut slices: Vec<_> =
                    room.buffers.iter_mut().map(|buffer| IoSliceMut::new(buffer)).collect();
                self.state.recv(UdpSockRef::from(&self.socket), &mut slices, &mut room.metas)
            });
            match received {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                other => return other,
            }
        }
    }

    /// Sends a row; what the socket has no room for is lost.
    fn send(&self, bytes: &[u8], stride: usize, to: SocketAddr) {
        for part in bytes.chunks(self.state.max_gso_segments() * stride) {
            let segment_size = (part.len() > stride).then_some(stride);
            let transmit =
                Transmit { destination: to, ecn: None, contents: part, segment_size, src_ip: None };
            let _ = self.state.try_send(UdpSockRef::from(&self.socket), &transmit);
        }
    }
}

fn local<F: Future<Output = io::Result<()>>>(work: impl FnOnce() -> F) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    tokio::task::LocalSet::new().block_on(&runtime, work())
}

fn each_thread(workers: usize, work: impl Fn() -> io::Result<()> + Clone + Send + 'static) -> io::Result<()> {
    let threads: Vec<_> = (0..workers.max(1)).map(|_| std::thread::spawn(work.clone())).collect();
    for thread in threads {
        if let Ok(ended) = thread.join() {
            ended?;
        }
    }
    Ok(())
}

/// Relays datagrams, on so many threads, until the process ends.
///
/// # Errors
/// When a socket can't be had.
pub fn relay(listen: SocketAddr, to: SocketAddr, workers: usize) -> io::Result<()> {
    each_thread(workers, move || {
        local(|| async {
            let front = Rc::new(DatagramPort::listening(listen)?);
            let mut flows: HashMap<SocketAddr, Rc<DatagramPort>> = HashMap::new();
            let mut room = ReceiveRoom::new();
            loop {
                let count = front.receive(&mut room).await?;
                for (client, bytes, stride) in room.rows(count) {
                    let flow = match flows.entry(client) {
                        Entry::Occupied(known) => known.into_mut(),
                        Entry::Vacant(new) => {
                            let back = Rc::new(DatagramPort::towards(to)?);
                            tokio::task::spawn_local(bring_back(Rc::clone(&back), Rc::clone(&front), client));
                            new.insert(back)
                        }
                    };
                    flow.send(bytes, stride, to);
                }
            }
        })
    })
}

async fn bring_back(server: Rc<DatagramPort>, front: Rc<DatagramPort>, client: SocketAddr) {
    let mut room = ReceiveRoom::new();
    while let Ok(count) = server.receive(&mut room).await {
        for (_, bytes, stride) in room.rows(count) {
            front.send(bytes, stride, client);
        }
    }
}

/// Sends every datagram back to where it came from, until the process ends.
///
/// # Errors
/// When the socket can't be had.
pub fn echo(listen: SocketAddr) -> io::Result<()> {
    each_thread(1, move || {
        local(|| async {
            let port = DatagramPort::listening(listen)?;
            let mut room = ReceiveRoom::new();
            loop {
                let count = port.receive(&mut room).await?;
                for (client, bytes, stride) in room.rows(count) {
                    port.send(bytes, stride, client);
                }
            }
        })
    })
}

/// What the client sends.
#[derive(Clone, Copy, Debug)]
pub struct DatagramLoad {
    /// How many ask at once.
    pub flows: usize,
    /// How many datagrams each sends before it waits for the answers.
    pub burst: usize,
    /// The size of each.
    pub size: usize,
    /// For how long datagrams are sent.
    pub time: Duration,
}

/// Asks, and says how many datagrams were sent and how many came back.
///
/// # Errors
/// When a socket can't be had.
pub fn ask(to: SocketAddr, asking: DatagramLoad) -> io::Result<String> {
    let counts = Arc::new((AtomicUsize::new(0), AtomicUsize::new(0)));
    let counted = Arc::clone(&counts);
    each_thread(1, move || {
        local(|| async {
            let end = Instant::now() + asking.time;
            let ports: io::Result<Vec<_>> = (0..asking.flows).map(|_| DatagramPort::towards(to)).collect();
            let flow = |port| tokio::task::spawn_local(flow(port, to, asking, end, Arc::clone(&counts)));
            let tasks: Vec<_> = ports?.into_iter().map(flow).collect();
            for task in tasks {
                let _ = task.await;
            }
            Ok(())
        })
    })?;
    let (sent, answered) = (counted.0.load(Ordering::Relaxed), counted.1.load(Ordering::Relaxed));
    Ok(format!("{{\"sent\": {sent}, \"answered\": {answered}}}"))
}

/// One of those who ask, until the time is over.
async fn flow(
    port: DatagramPort,
    to: SocketAddr,
    asking: DatagramLoad,
    end: Instant,
    counts: Arc<(AtomicUsize, AtomicUsize)>,
) {
    let (bytes, mut room) = (vec![b'x'; asking.size * asking.burst], ReceiveRoom::new());
    while Instant::now() < end {
        port.send(&bytes, asking.size, to);
        let mut missing = asking.burst;
        while missing > 0 {
            let Ok(Ok(count)) = tokio::time::timeout(PATIENCE, port.receive(&mut room)).await else { break };
            let came: usize = room.rows(count).map(|(_, row, stride)| row.len().div_ceil(stride)).sum();
            missing = missing.saturating_sub(came);
        }
        counts.0.fetch_add(asking.burst, Ordering::Relaxed);
        counts.1.fetch_add(asking.burst - missing, Ordering::Relaxed);
    }
}
