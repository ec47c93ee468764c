//! Servers that follow a script, for tests: each connection runs it on a thread of its own.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// How long anything in a test may take before the test has failed.
pub const PATIENCE: Duration = Duration::from_secs(20);

/// What a socket of this machine has to do.
const WORKS: &str = "a socket on loopback works";

/// Waits until something is so.
///
/// # Panics
/// When it is not within [`PATIENCE`].
pub fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let end = Instant::now() + PATIENCE;
    while !is_so() {
        assert!(Instant::now() < end, "still not so: {what}");
        std::thread::yield_now();
    }
}

/// A server whose queue is full: the kernel drops all attempts to connect.
#[derive(Debug)]
pub struct SilentServer {
    /// Where it does not answer.
    pub address: SocketAddr,
    _sockets: Vec<socket2::Socket>,
}

impl SilentServer {
    /// Fills the queue of a new socket.
    ///
    /// # Panics
    /// When the system gives no sockets.
    #[must_use]
    pub fn start() -> Self {
        let socket =
            || socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).expect(WORKS);
        let full = socket();
        full.bind(&SocketAddr::from(([127, 0, 0, 1], 0)).into()).expect(WORKS);
        full.listen(0).expect(WORKS);
        let address = full.local_addr().expect(WORKS).as_socket().expect(WORKS);
        let fillers = (0..4).map(|_| {
            let filler = socket();
            filler.set_nonblocking(true).expect(WORKS);
            let _ = filler.connect(&address.into());
            filler
        });
        Self { address, _sockets: fillers.chain([full]).collect() }
    }
}

/// A scripted server: each connection runs the script, with its number.
#[derive(Debug)]
pub struct ScriptedServer {
    /// Address and port where it listens, on loopback.
    pub address: SocketAddr,
    connections: Arc<AtomicUsize>,
}

impl ScriptedServer {
    /// Starts one on a free port; it runs until the test ends.
    ///
    /// # Panics
    /// When the system gives no sockets.
    pub fn start(script: impl Fn(ScriptedConnection, usize) + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect(WORKS);
        let address = listener.local_addr().expect(WORKS);
        let connections = Arc::new(AtomicUsize::new(0));
        let (counter, script) = (Arc::clone(&connections), Arc::new(script));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let number = counter.fetch_add(1, Ordering::SeqCst);
                let script = Arc::clone(&script);
                stream.set_read_timeout(Some(PATIENCE)).expect(WORKS);
                std::thread::spawn(move || {
                    script(ScriptedConnection { stream: BufReader::new(stream) }, number)
                });
            }
        });
        Self { address, connections }
    }

    /// A server that answers every request with its name and what it got.
    #[must_use]
    pub fn named(name: &'static str) -> Self {
        Self::start(move |mut conn, _| {
            while let Some((head, body)) = conn.request() {
                conn.answer(&format!("{name}\n{head}\n{}", body.len()));
            }
        })
    }

    /// A server that answers every request with these bytes and closes.
    #[must_use]
    pub fn saying(bytes: &'static [u8]) -> Self {
        Self::start(move |mut conn, _| {
            if conn.request().is_some() {
                conn.say(bytes);
            }
        })
    }

    /// How many connections came so far.
    #[must_use]
    pub fn connections(&self) -> usize {
        self.connections.load(Ordering::SeqCst)
    }
}

/// One connection of a scripted server.
#[derive(Debug)]
pub struct ScriptedConnection {
    /// The accepted connection, with what was read ahead.
    pub stream: BufReader<TcpStream>,
}

impl ScriptedConnection {
    /// The next request's head; `None` at the end of the connection.
    pub fn head(&mut self) -> Option<String> {
        let mut head = String::new();
        while !head.ends_with("\r\n\r\n") {
            if self.stream.read_line(&mut head).ok()? == 0 {
                return None;
            }
        }
        Some(head)
    }

    /// The next request's head and body, of a length that it says; `None` at the end of the connection.
    pub fn request(&mut self) -> Option<(String, Vec<u8>)> {
        let head = self.head()?;
        let lower = head.to_ascii_lowercase();
        let length = lower.lines().find_map(|line| line.strip_prefix("content-length: "));
        let mut body = vec![0; length.map_or(0, |length| length.parse().expect(WORKS))];
        self.stream.read_exact(&mut body).ok()?;
        Some((head, body))
    }

    /// Sends bytes, whether or not anyone takes them.
    pub fn say(&mut self, bytes: impl AsRef<[u8]>) {
        let _ = self.stream.get_mut().write_all(bytes.as_ref());
    }

    /// Answers a request with this body.
    pub fn answer(&mut self, body: &str) {
        self.say(format!(
            "HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        ));
    }

    /// Waits until the other side has closed.
    pub fn wait_for_end(&mut self) {
        let _ = std::io::copy(&mut self.stream, &mut std::io::sink());
    }
}
