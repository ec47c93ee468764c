//! A plane with one frontend, scripted servers behind it, and clients that speak bytes.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;

use merismos_core::config::document::FrontendSpec;
use merismos_core::config::{DocumentFormat, load};
use merismos_core::duty::Duty;
use merismos_core::eligibility::ServerStates;
use merismos_core::health::HealthState;
use merismos_core::name::PoolServer;
use merismos_core::pins::PinKey;
use merismos_core::routing::{Snapshot, compile};
use merismos_core::runtime::{FrontendCounts, RuntimeRegistry, ServerCounts};
use merismos_lab::free::free_address;
use merismos_plane::Plane;
use merismos_plane::memory::MemoryLimits;

pub(crate) use merismos_lab::scripted::{
    PATIENCE, ScriptedConnection as Conn, ScriptedServer as Server, SilentServer as Silent, until,
};

pub(crate) struct Rig {
    pub(crate) plane: Plane,
    cells: RuntimeRegistry,
    version: u64,
    pub(crate) address: SocketAddr,
    pool: String,
    frontend: String,
    protocol: &'static str,
    servers: Vec<SocketAddr>,
    pub(crate) duties: BTreeMap<String, Duty>,
    pub(crate) states: BTreeMap<String, HealthState>,
    /// Servers whose drain's deadline has passed.
    pub(crate) drained: BTreeSet<String>,
    /// Servers whose drain moves pinned clients.
    pub(crate) pins_moved: BTreeSet<String>,
}

impl ServerStates for Rig {
    fn duty(&self, server: &PoolServer) -> Duty {
        self.duties.get(server.server.as_str()).copied().unwrap_or_default()
    }

    fn drain_is_over(&self, server: &PoolServer) -> bool {
        self.drained.contains(server.server.as_str())
    }

    fn pins_move(&self, server: &PoolServer) -> bool {
        self.pins_moved.contains(server.server.as_str())
    }

    fn health(&self, server: &PoolServer) -> HealthState {
        self.states.get(server.server.as_str()).copied().unwrap_or(HealthState::Up)
    }
}

impl Rig {
    /// A frontend before these servers, named s0, s1 and so on; `pool` and `frontend` are more keys for each.
    pub(crate) fn new(servers: &[SocketAddr], pool: &str, frontend: &str) -> Self {
        Self::speaking("http", servers, pool, frontend)
    }

    /// As [`Self::new`], with another protocol.
    pub(crate) fn speaking(
        protocol: &'static str,
        servers: &[SocketAddr],
        pool: &str,
        frontend: &str,
    ) -> Self {
        Self::bounded(protocol, servers, pool, frontend, MemoryLimits::NONE)
    }

    /// As [`Self::speaking`]; clients may make it hold so much memory.
    pub(crate) fn bounded(
        protocol: &'static str,
        servers: &[SocketAddr],
        pool: &str,
        frontend: &str,
        memory: MemoryLimits,
    ) -> Self {
        let plane = Plane::start(2, memory).unwrap();
        let mut rig = Self {
            cells: signing(RuntimeRegistry::new(plane.workers())),
            plane,
            version: 0,
            address: free_address(),
            pool: pool.to_owned(),
            frontend: frontend.to_owned(),
            protocol,
            servers: servers.to_vec(),
            duties: BTreeMap::new(),
            states: BTreeMap::new(),
            drained: BTreeSet::new(),
            pins_moved: BTreeSet::new(),
        };
        rig.publish();
        rig
    }

    /// Compiles the rig as it is now and publishes it.
    pub(crate) fn publish(&mut self) {
        let text = self.text();
        self.publish_text(&text);
    }

    /// The rig's document.
    pub(crate) fn text(&self) -> String {
        use std::fmt::Write as _;

        // A machine that stands still for a second has not lost a server.
        let patience = if self.pool.contains("connect_timeout") { "" } else { "connect_timeout = \"20s\"\n" };
        let mut text = format!(
            "format = 3\n[checks.up]\nkind = \"tcp\"\n[frontends.harbour]\nprotocol = \"{}\"\nlisten = \"{}\"\n\
             pool = \"quay\"\n{}\n[pools.quay]\ncheck = \"up\"\n{patience}{}\n",
            self.protocol, self.address, self.frontend, self.pool
        );
        for (index, address) in self.servers.iter().enumerate() {
            write!(text, "[pools.quay.servers.s{index}]\naddress = \"{address}\"\n").unwrap();
        }
        text
    }

    /// Compiles another document and publishes it. What was renamed since the last one is the caller's to say.
    pub(crate) fn publish_text(&mut self, text: &str) {
        let checked =
            load(text, DocumentFormat::Toml).unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
        self.version += 1;
        let mut cells = std::mem::replace(&mut self.cells, RuntimeRegistry::new(0));
        let (version, now) = (self.version, self.plane.now());
        let snapshot: Snapshot = compile(&checked, self, &mut cells, 1, version, now);
        self.cells = cells;
        let listen = checked.document().frontends.values().map(FrontendSpec::endpoint);
        let bound = self.plane.bind(listen, &BTreeSet::new()).unwrap();
        self.plane.publish(Arc::new(snapshot), bound);
    }

    /// The deadline of a server's drain passes.
    pub(crate) fn end_drain(&mut self, server: usize) {
        self.duties.insert(format!("s{server}"), Duty::Draining);
        self.drained.insert(format!("s{server}"));
        self.publish();
        self.plane.end_drain(self.plane.snapshot().pools[0].servers[server].cell.id);
    }

    pub(crate) fn counts(&self, server: usize) -> ServerCounts {
        let snapshot = self.plane.snapshot();
        snapshot.pools[0].servers[server].cell.counts()
    }

    pub(crate) fn frontend_counts(&self) -> FrontendCounts {
        self.plane.snapshot().frontends().next().unwrap().cell.counts()
    }

    pub(crate) fn client(&self) -> Client {
        Client::to(self.address)
    }
}

/// How a connection ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ConnectionEnd {
    /// In order, with a FIN.
    Closed,
    /// With a RST.
    Reset,
}

impl ConnectionEnd {
    /// What this error says of the connection. A connection that is still open after [`PATIENCE`] has not ended, and
    /// fails the test.
    #[track_caller]
    pub(crate) fn of(error: &std::io::Error) -> Self {
        use std::io::ErrorKind;

        match error.kind() {
            ErrorKind::UnexpectedEof => Self::Closed,
            ErrorKind::ConnectionReset | ErrorKind::BrokenPipe => Self::Reset,
            ErrorKind::WouldBlock | ErrorKind::TimedOut => panic!("still open after {PATIENCE:?}"),
            _ => panic!("neither closed nor reset: {error}"),
        }
    }
}

/// Reads until the connection ends: what came, and how it ended.
#[track_caller]
pub(crate) fn read_to_end(stream: &mut impl Read) -> (Vec<u8>, ConnectionEnd) {
    let mut bytes = Vec::new();
    match stream.read_to_end(&mut bytes) {
        Ok(_) => (bytes, ConnectionEnd::Closed),
        Err(error) => (bytes, ConnectionEnd::of(&error)),
    }
}

/// Waits for the end of a connection over which nothing more comes.
#[track_caller]
pub(crate) fn read_end(stream: &mut impl Read) -> ConnectionEnd {
    match stream.read(&mut [0]) {
        Ok(0) => ConnectionEnd::Closed,
        Ok(_) => panic!("more came instead of the end"),
        Err(error) => ConnectionEnd::of(&error),
    }
}

/// Whether nothing has come over the connection so far, not even its end.
pub(crate) fn is_silent(stream: &TcpStream) -> bool {
    stream.set_nonblocking(true).unwrap();
    let silent = stream.peek(&mut [0]).is_err_and(|error| error.kind() == std::io::ErrorKind::WouldBlock);
    stream.set_nonblocking(false).unwrap();
    silent
}

/// A client that speaks bytes.
pub(crate) struct Client {
    stream: BufReader<TcpStream>,
}

#[derive(Debug)]
pub(crate) struct Answer {
    pub(crate) status: u16,
    pub(crate) head: String,
    pub(crate) body: Vec<u8>,
}

impl Answer {
    pub(crate) fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
}

impl Client {
    pub(crate) fn to(address: SocketAddr) -> Self {
        Self::over(TcpStream::connect(address).unwrap())
    }

    /// One for which the system keeps little that it has not taken.
    pub(crate) fn narrow(to: SocketAddr) -> Self {
        let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
        socket.set_recv_buffer_size(16 << 10).unwrap();
        socket.connect(&to.into()).unwrap();
        Self::over(socket.into())
    }

    /// One that comes from this address.
    pub(crate) fn from(address: &str, to: SocketAddr) -> Self {
        let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
        let address: std::net::IpAddr = address.parse().unwrap();
        socket.bind(&SocketAddr::new(address, 0).into()).unwrap();
        socket.connect(&to.into()).unwrap();
        Self::over(socket.into())
    }

    fn over(stream: TcpStream) -> Self {
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        stream.set_write_timeout(Some(PATIENCE)).unwrap();
        Self { stream: BufReader::new(stream) }
    }

    pub(crate) fn send(&mut self, bytes: impl AsRef<[u8]>) -> &mut Self {
        // A server that has answered may have closed: what counts is its answer.
        let _ = self.stream.get_mut().write_all(bytes.as_ref());
        self
    }

    pub(crate) fn writer(&self) -> TcpStream {
        self.stream.get_ref().try_clone().unwrap()
    }

    /// A line of the head, without its end; or how the connection ended before it.
    #[track_caller]
    fn line(&mut self) -> Result<String, ConnectionEnd> {
        let mut line = String::new();
        let read = self.stream.read_line(&mut line);
        read.map_err(|error| ConnectionEnd::of(&error))?;
        if line.is_empty() { Err(ConnectionEnd::Closed) } else { Ok(line.trim_end().to_owned()) }
    }

    /// The next head, status line first; or how the connection ended instead of it.
    #[track_caller]
    pub(crate) fn head(&mut self) -> Result<String, ConnectionEnd> {
        let mut head = self.line()?;
        loop {
            let line = self.line().expect("a whole head");
            head.push('\n');
            if line.is_empty() {
                return Ok(head);
            }
            head.push_str(&line);
        }
    }

    /// The next answer; or how the connection ended before it was whole. No answer within [`PATIENCE`] fails the
    /// test.
    #[track_caller]
    pub(crate) fn answer(&mut self) -> Result<Answer, ConnectionEnd> {
        let head = self.head()?;
        let status = head.split(' ').nth(1).unwrap().parse().unwrap();
        let field = |name: &str| {
            let found = head
                .lines()
                .find_map(|line| line.split_once(':').filter(|pair| pair.0.eq_ignore_ascii_case(name)));
            found.map(|(_, value)| value.trim().to_owned())
        };
        let mut body = Vec::new();
        if let Some(length) = field("content-length") {
            body.resize(length.parse().unwrap(), 0);
            self.exactly(&mut body)?;
        } else if field("transfer-encoding").is_some() {
            loop {
                let size = usize::from_str_radix(&self.line()?, 16).unwrap();
                let start = body.len();
                body.resize(start + size, 0);
                self.exactly(&mut body[start..])?;
                self.line()?;
                if size == 0 {
                    break;
                }
            }
        } else if field("connection").as_deref() == Some("close") {
            match read_to_end(&mut self.stream) {
                (rest, ConnectionEnd::Closed) => body = rest,
                (_, end) => return Err(end),
            }
        }
        Ok(Answer { status, head, body })
    }

    #[track_caller]
    fn exactly(&mut self, bytes: &mut [u8]) -> Result<(), ConnectionEnd> {
        self.stream.read_exact(bytes).map_err(|error| ConnectionEnd::of(&error))
    }

    pub(crate) fn get(&mut self, path: &str) -> Answer {
        self.send(format!("GET {path} HTTP/1.1\r\nHost: harbour.skerry.example\r\n\r\n"));
        self.answer().expect("an answer")
    }

    /// The next bytes as they come.
    pub(crate) fn bytes(&mut self, bytes: &mut [u8]) {
        self.stream.read_exact(bytes).unwrap();
    }

    /// The next bytes, as many as are there; 0 when the connection has ended.
    #[track_caller]
    pub(crate) fn some(&mut self, bytes: &mut [u8]) -> usize {
        self.stream.read(bytes).unwrap_or_else(|error| {
            ConnectionEnd::of(&error);
            0
        })
    }

    /// Everything until the connection ends, and how it ends.
    #[track_caller]
    pub(crate) fn rest(&mut self) -> (Vec<u8>, ConnectionEnd) {
        read_to_end(&mut self.stream)
    }

    /// How the connection ends. Waits for it; a connection that stays open, or over which more comes, fails the test.
    #[track_caller]
    pub(crate) fn end(&mut self) -> ConnectionEnd {
        read_end(&mut self.stream)
    }
}

/// Cells whose pins are signed.
fn signing(mut cells: RuntimeRegistry) -> RuntimeRegistry {
    cells.sign_pins(PinKey::new(&[7; 32]));
    cells
}
