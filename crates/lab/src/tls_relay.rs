//! What the cost of TLS is held against: a bare relay with rustls on one side or both, a bare acceptor, and clients that do handshakes. It
//! parses nothing, counts nothing and has no timeouts.

use std::fs::OpenOptions;
use std::io::{self, Write};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use merismos_load::LoadTls;
use rustls::ServerConfig;
use rustls::pki_types::PrivatePkcs8KeyDer;
use rustls::server::NoServerSessionStorage;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, copy_bidirectional_with_sizes};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;

use crate::relay::listener;

/// The buffer of each direction.
const BUFFER: usize = 64 << 10;

/// Which sides speak TLS, and where bytes go.
#[derive(Clone, Debug)]
pub struct TlsEnds {
    /// Where bytes go; without it clients are only accepted.
    pub to: Option<SocketAddr>,
    /// Whether clients speak plain text.
    pub plain_clients: bool,
    /// Whether the server speaks TLS.
    pub to_tls: bool,
}

/// Relays every connection on `listen`, on so many threads, until the process ends.
///
/// # Errors
/// When a thread or its socket can't be had.
pub fn run(listen: SocketAddr, workers: usize, ends: &TlsEnds) -> io::Result<()> {
    let config = Arc::new(own_certificate()?);
    let mut threads = Vec::new();
    for _ in 0..workers.max(1) {
        let (socket, ends, config) = (listener(listen)?, ends.clone(), Arc::clone(&config));
        threads.push(std::thread::spawn(move || work(socket, ends, config)));
    }
    for thread in threads {
        if let Ok(ended) = thread.join() {
            ended?;
        }
    }
    Ok(())
}

/// A certificate of its own making, and sessions that are taken up again by tickets.
fn own_certificate() -> io::Result<ServerConfig> {
    let made =
        rcgen::generate_simple_self_signed(["quay.skerry.example".to_owned()]).map_err(io::Error::other)?;
    let key = PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()).into();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?
        .with_no_client_auth()
        .with_single_cert(vec![made.cert.der().clone()], key)
        .map_err(io::Error::other)?;
    config.ticketer = rustls::crypto::ring::Ticketer::new().map_err(io::Error::other)?;
    config.session_storage = Arc::new(NoServerSessionStorage {});
    Ok(config)
}

fn work(listener: std::net::TcpListener, ends: TlsEnds, config: Arc<ServerConfig>) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let (acceptor, connector) = (TlsAcceptor::from(config), LoadTls::new("quay.skerry.example")?);
    tokio::task::LocalSet::new().block_on(&runtime, async {
        let listener = TcpListener::from_std(listener)?;
        loop {
            let (client, _) = listener.accept().await?;
            let (acceptor, connector, ends) = (acceptor.clone(), connector.clone(), ends.clone());
            tokio::task::spawn_local(async move {
                client.set_nodelay(true)?;
                // How a connection ends is no concern of a bare relay.
                if ends.plain_clients {
                    serve(client, &ends, &connector).await
                } else {
                    serve(acceptor.accept(client).await?, &ends, &connector).await
                }
            });
        }
    })
}

async fn serve(
    mut client: impl AsyncRead + AsyncWrite + Unpin,
    ends: &TlsEnds,
    connector: &LoadTls,
) -> io::Result<()> {
    let Some(to) = ends.to else {
        while client.read(&mut [0; 64]).await? > 0 {}
        return client.shutdown().await;
    };
    let mut server = TcpStream::connect(to).await?;
    server.set_nodelay(true)?;
    if ends.to_tls {
        let mut server = connector.connect(&connector.name, server).await?;
        copy_bidirectional_with_sizes(&mut client, &mut server, BUFFER, BUFFER).await?;
    } else {
        copy_bidirectional_with_sizes(&mut client, &mut server, BUFFER, BUFFER).await?;
    }
    Ok(())
}

/// Writes so many certificates with their keys into a folder: `c0.pem` and `c0.key` for `c0.skerry.example`, and so on.
///
/// # Errors
/// When a file can't be written.
pub fn write_certificates(folder: &Path, count: usize) -> io::Result<()> {
    std::fs::create_dir_all(folder)?;
    for number in 0..count {
        let made = rcgen::generate_simple_self_signed([format!("c{number}.skerry.example")]);
        let made = made.map_err(io::Error::other)?;
        std::fs::write(folder.join(format!("c{number}.pem")), made.cert.pem())?;
        let key = folder.join(format!("c{number}.key"));
        let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(key)?;
        file.write_all(made.signing_key.serialize_pem().as_bytes())?;
    }
    Ok(())
}

/// How handshakes are done.
#[derive(Clone, Copy, Debug)]
pub struct HandshakeLoad {
    /// For how long.
    pub time: Duration,
    /// How many at once.
    pub at_once: usize,
    /// Whether each takes up the session before it.
    pub resume: bool,
    /// How many names are asked for in turn: `c0.skerry.example` and so on; with 0 it is one.
    pub names: u64,
}

/// Does handshakes with `to` for a while: how many, in words.
///
/// # Errors
/// The first that fails.
pub async fn shake(to: SocketAddr, load: HandshakeLoad) -> io::Result<String> {
    let (done, end) = (Arc::new(AtomicU64::new(0)), Instant::now() + load.time);
    let mut clients = tokio::task::JoinSet::new();
    for _ in 0..load.at_once {
        let done = Arc::clone(&done);
        clients.spawn(async move {
            let tls = LoadTls::new("quay.skerry.example")?;
            let tls = if load.resume { tls } else { tls.without_sessions() };
            while Instant::now() < end {
                let number = done.fetch_add(1, Ordering::Relaxed);
                let name = if load.names == 0 {
                    tls.name.clone()
                } else {
                    format!("c{}.skerry.example", number % load.names)
                };
                let stream = TcpStream::connect(to).await?;
                stream.set_nodelay(true)?;
                let mut stream = tls.connect(&name, stream).await?;
                stream.shutdown().await?;
                // What the server sends until its end are tickets.
                while stream.read(&mut [0; 64]).await? > 0 {}
            }
            io::Result::Ok(())
        });
    }
    while let Some(client) = clients.join_next().await {
        client.map_err(io::Error::other)??;
    }
    Ok(format!("{} handshakes\n", done.load(Ordering::Relaxed)))
}

/// Has so many clients ask once each and stay: says when all are there, and ends when its input does.
///
/// # Errors
/// The first that is not answered.
pub async fn hold(to: SocketAddr, clients: usize) -> io::Result<()> {
    let tls = LoadTls::new("quay.skerry.example")?;
    let mut held = Vec::new();
    for _ in 0..clients {
        let mut stream = tls.connect(&tls.name, TcpStream::connect(to).await?).await?;
        stream.write_all(b"GET /bytes/13 HTTP/1.1\r\nHost: quay.skerry.example\r\n\r\n").await?;
        stream.flush().await?;
        if stream.read(&mut [0; 1_024]).await? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        held.push(stream);
    }
    tokio::io::stdout().write_all(b"held\n").await?;
    tokio::io::stdout().flush().await?;
    tokio::io::stdin().read_to_end(&mut Vec::new()).await?;
    drop(held);
    Ok(())
}
