//! TLS to servers: how those of a pool are spoken to, and the handshake with one.

use std::collections::BTreeMap;
use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::Poll;
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use merismos_connector::connect::{ConnectError, TlsFailure};
use merismos_connector::identity;
use merismos_connector::trust::{self, TrustError};
use merismos_core::config::document::CertificateTrust;
use merismos_core::name::Name;
use merismos_core::routing::Server;
use merismos_core::text::printable;
use rustls::ClientConfig;
use rustls::client::Resumption;
use rustls::pki_types::ServerName;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

use super::stream::TlsConnection;
use crate::deadline::WakeReason;
use crate::upstream::{ConnectFailure, ServerApproach};

/// How many servers' sessions are kept for one pool: beyond, all are forgotten, and begin anew.
const MOST_SERVERS: usize = 20_000;
/// How many names' sessions are kept for one server.
const NAMES: usize = 8;

/// What is spoken over a connection to a server (ALPN, RFC 7301).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum ServerProtocol {
    /// Whatever the client speaks.
    Any,
    Http1,
    Http2,
}

impl ServerProtocol {
    fn names(self) -> Vec<Vec<u8>> {
        match self {
            Self::Any => Vec::new(),
            Self::Http1 => vec![b"http/1.1".to_vec()],
            Self::Http2 => vec![b"h2".to_vec()],
        }
    }
}

/// How the servers of a pool are spoken to in TLS.
#[derive(Debug)]
pub struct ServerTls {
    trust: CertificateTrust,
    base: ClientConfig,
    /// Held for a look or a change.
    sessions: Mutex<ServerSessions>,
}

/// Sessions with servers.
#[derive(Debug, Default)]
struct ServerSessions {
    /// With which certificate of ours they began.
    generation: u64,
    /// One for each server, so that a session is taken up again where it began.
    servers: BTreeMap<(SocketAddr, ServerProtocol), Arc<ClientConfig>>,
}

impl ServerTls {
    /// Reads the files of the trust, and so it blocks.
    ///
    /// # Errors
    /// [`TrustError`], which says what would be right.
    pub fn new(trust: CertificateTrust) -> Result<Self, TrustError> {
        let base = trust::client_config(&trust)?;
        Ok(Self { trust, base, sessions: Mutex::default() })
    }

    /// By what it was made.
    #[must_use]
    pub fn trust(&self) -> &CertificateTrust {
        &self.trust
    }

    fn config(&self, server: SocketAddr, protocol: ServerProtocol) -> Arc<ClientConfig> {
        let generation = self.trust.certificate.as_ref().map_or(0, identity::generation);
        let mut sessions = self.sessions.lock().unwrap_or_else(PoisonError::into_inner);
        if sessions.servers.len() >= MOST_SERVERS || sessions.generation != generation {
            *sessions = ServerSessions { generation, servers: BTreeMap::new() };
        }
        let made = sessions.servers.entry((server, protocol)).or_insert_with(|| {
            let mut config = self.base.clone();
            config.alpn_protocols = protocol.names();
            config.resumption = Resumption::in_memory_sessions(NAMES);
            Arc::new(config)
        });
        Arc::clone(made)
    }

    /// The name that a server is asked for, and has to prove.
    fn name(&self, server: SocketAddr, host: Option<&str>) -> Result<ServerName<'static>, TlsFailure> {
        match host.or(self.trust.name.as_deref()) {
            Some(name) => ServerName::try_from(name.to_owned()).map_err(|_| TlsFailure::NoName),
            None => Ok(server.ip().into()),
        }
    }
}

/// How the servers of each pool are spoken to in TLS, by the pool's name. Servers of a pool that should be spoken to in TLS and is not in it
/// are not reached.
#[derive(Clone, Debug, Default)]
pub struct ServerTlsTable {
    pools: Arc<ArcSwap<BTreeMap<Name, Arc<ServerTls>>>>,
    /// The last handshake of each pool that failed, in words; held for a look or a change.
    failures: Arc<Mutex<BTreeMap<Name, (Instant, String)>>>,
}

impl ServerTlsTable {
    /// How the servers of all pools are spoken to from now on. Connections that are open keep what they began with.
    pub fn set(&self, pools: BTreeMap<Name, Arc<ServerTls>>) {
        self.failures().retain(|name, _| pools.contains_key(name));
        self.pools.store(Arc::new(pools));
    }

    /// How they are spoken to now.
    #[must_use]
    pub fn get(&self) -> BTreeMap<Name, Arc<ServerTls>> {
        (**self.pools.load()).clone()
    }

    fn failures(&self) -> MutexGuard<'_, BTreeMap<Name, (Instant, String)>> {
        self.failures.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Why the last handshake with a server of the pool failed, if that was within so long.
    #[must_use]
    pub fn last_failure(&self, pool: &Name, within: Duration) -> Option<String> {
        let failures = self.failures();
        failures.get(pool).filter(|(at, _)| at.elapsed() <= within).map(|(_, why)| why.clone())
    }

    fn note_failure(&self, server: &Server, why: &str) {
        self.failures().insert(
            server.name.pool.clone(),
            (Instant::now(), format!("{}: {}", server.name, printable(why))),
        );
    }

    /// Has a server's handshake done on a connection to it, within the time that connecting may take.
    pub(crate) async fn handshake(
        &self,
        server: &Server,
        stream: TcpStream,
        approach: ServerApproach<'_>,
    ) -> Result<TlsConnection, ConnectFailure> {
        let failed = |failure: TlsFailure| ConnectFailure::Failed(ConnectError::Tls(failure));
        let Some(tls) = self.pools.load().get(&server.name.pool).cloned() else {
            return Err(failed(TlsFailure::NotSetUp));
        };
        // Which of its addresses it was, the connection knows.
        let address = stream.peer_addr().unwrap_or(server.address);
        let name = tls.name(address, approach.host).map_err(failed)?;
        let connector = TlsConnector::from(tls.config(address, approach.protocol));
        let watch = approach.watch;
        watch.set_timeout(server.times.connect);
        let mut handshake = Box::pin(connector.connect(name.clone(), stream));
        let done = std::future::poll_fn(|context| {
            if let Poll::Ready(done) = handshake.as_mut().poll(context) {
                return Poll::Ready(Ok(done));
            }
            match watch.alarm.fired() {
                None => Poll::Pending,
                Some(WakeReason::Cut | WakeReason::Drained | WakeReason::Crowded) => {
                    Poll::Ready(Err(ConnectFailure::Cut))
                }
                Some(WakeReason::Deadline | WakeReason::Close) => {
                    self.note_failure(server, "the handshake did not end in time");
                    Poll::Ready(Err(failed(TlsFailure::Slow)))
                }
            }
        });
        let stream = match done.await? {
            Ok(stream) => stream,
            Err(error) => {
                let why = trust::in_words(&error, &name);
                tracing::debug!(server = %server.name, why, "a TLS handshake with a server failed");
                self.note_failure(server, &why);
                return Err(failed(meaning(&error)));
            }
        };
        let session = stream.get_ref().1;
        let certificate = session.peer_certificates().and_then(<[_]>::first);
        let pinned = certificate.map_or(Ok(()), |certificate| trust::is_pinned(&tls.trust, certificate));
        if let Err(why) = pinned {
            self.note_failure(server, &why);
            return Err(failed(TlsFailure::OtherPin));
        }
        if approach.protocol == ServerProtocol::Http2 && session.alpn_protocol() != Some(b"h2") {
            self.note_failure(server, "it does not agree to HTTP/2 (ALPN)");
            return Err(failed(TlsFailure::NoHttp2));
        }
        Ok(TlsConnection::new(stream.into()))
    }
}

/// What a failed handshake means for the request.
fn meaning(error: &io::Error) -> TlsFailure {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>()) {
        Some(rustls::Error::InvalidCertificate(_)) => TlsFailure::Certificate,
        Some(rustls::Error::InvalidMessage(_)) => TlsFailure::NoTls,
        Some(rustls::Error::AlertReceived(_)) => TlsFailure::Refused,
        _ => TlsFailure::Broken,
    }
}
