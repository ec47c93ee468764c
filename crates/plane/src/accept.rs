//! The front door: a client's connection is counted, refused or let in, and handed to its protocol.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;
use merismos_core::config::document::Protocol;
use merismos_core::limits::RefusalReason;
use merismos_core::routing::Frontend;
use merismos_core::runtime::FrontendRuntime;
use socket2::SockRef;
use tokio::net::TcpStream;

use crate::buffer::Buffer;
use crate::context::RegisteredConnection;
use crate::io::{Connection, ConnectionTimer, read, readable};
use crate::limits::{self, HeldWork};
use crate::{http, tcp, tls};
use merismos_connector::proxy_header::{self, ProxyHeader};

/// How long a trusted peer may take to say who the client is.
const HEADER_TIME: Duration = Duration::from_secs(5);

/// Counts a connection while it is there.
pub(crate) struct ConnectionGuard {
    cell: Arc<FrontendRuntime>,
    worker: usize,
    /// What limits of the client count it as.
    held: HeldWork,
}

impl Drop for ConnectionGuard {
    fn drop(&mut self) {
        self.cell.lane(self.worker).closed.increment();
    }
}

/// Whether an address lies in one of some networks.
pub(crate) fn is_in(address: IpAddr, networks: &[IpNet]) -> bool {
    let address = address.to_canonical();
    networks.iter().any(|network| network.contains(&address))
}

/// Who a client is.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ConnectionAddrs {
    /// Where its connection comes from: the peer, or what a trusted peer said.
    pub(crate) client: SocketAddr,
    /// Where it connected to.
    pub(crate) meant_for: SocketAddr,
    /// Whether it speaks TLS.
    pub(crate) is_secure: bool,
}

#[cfg(any(test, fuzzing))]
impl ConnectionAddrs {
    /// A client that speaks in plain text.
    pub(crate) fn plain(client: SocketAddr) -> Self {
        Self { client, meant_for: client, is_secure: false }
    }
}

/// A client that was let in, with all that its connection needs whatever it does.
pub(crate) struct ClientConnection<C> {
    pub(crate) at: RegisteredConnection,
    pub(crate) stream: C,
    pub(crate) who: ConnectionAddrs,
    pub(crate) counted: ConnectionGuard,
}

/// Turns a client away, or lets it in and has it served until its connection ends.
pub(crate) fn accept_connection(at: RegisteredConnection, stream: TcpStream, peer: SocketAddr) {
    at.client.peer.set(Some(peer.ip()));
    let snapshot = at.worker.snapshot();
    let Some(frontend) = snapshot.frontend(at.client.frontend.get()) else { return };
    let lane = frontend.cell.lane(at.worker.index);
    if frontend.cell.connections() >= frontend.connection_limit {
        // One that is refused takes no place, however long it lingers.
        lane.turned_away.increment();
        at.worker.note_refusal(frontend, RefusalReason::ConnectionLimit, peer.ip());
        let speaks_plain = frontend.protocol == Protocol::Http && frontend.handshakes.is_none();
        if speaks_plain && stream.set_nodelay(true).is_ok() {
            tokio::task::spawn_local(http::reject_over_limit(at, stream, frontend.name.clone()));
        } else {
            let _ = SockRef::from(&stream).set_linger(Some(Duration::ZERO));
        }
        return;
    }
    lane.opened.increment();
    let counted = ConnectionGuard { cell: Arc::clone(&frontend.cell), worker: at.worker.index, held: None };
    if stream.set_nodelay(true).is_err() {
        return;
    }
    let mut who = ConnectionAddrs { client: peer, meant_for: at.client.address, is_secure: false };
    if who.meant_for.ip().is_unspecified() {
        who.meant_for = stream.local_addr().unwrap_or(who.meant_for);
    }
    let visit = ClientConnection { at, stream, who, counted };
    if frontend.proxy_protocol && is_in(peer.ip(), &frontend.trusted) {
        tokio::task::spawn_local(read_proxy_header(visit, Arc::clone(frontend)));
    } else {
        begin(visit, frontend, None);
    }
}

/// Serves a client, once its handshake is done where it speaks TLS. `first` is what it has sent already.
fn begin(mut visit: ClientConnection<TcpStream>, frontend: &Arc<Frontend>, first: Option<Buffer>) {
    if let Some(access) = &frontend.access
        && !access.admits(visit.who.client.ip())
        && !may_name_clients(&visit, frontend)
    {
        frontend.cell.lane(visit.at.worker.index).denied.increment();
        visit.at.worker.note_refusal(frontend, RefusalReason::NotLetIn, visit.who.client.ip());
        let _ = SockRef::from(&visit.stream).set_linger(Some(Duration::ZERO));
        return;
    }
    let is_http = frontend.protocol == Protocol::Http;
    if frontend.limits.is_some() && !may_name_clients(&visit, frontend) {
        match limits::admit(&visit.at.worker, frontend, visit.who.client.ip(), !is_http) {
            Ok(held) => visit.counted.held = held,
            Err(retry_after) if is_http && frontend.handshakes.is_none() => {
                let ClientConnection { at, stream, .. } = visit;
                let frontend = Arc::clone(frontend);
                tokio::task::spawn_local(http::reject_limited(at, stream, frontend, retry_after));
                return;
            }
            Err(_) => {
                let _ = SockRef::from(&visit.stream).set_linger(Some(Duration::ZERO));
                return;
            }
        }
    }
    match frontend.handshakes {
        None => serve(visit, frontend, first),
        Some(limits) => tls::begin(visit, frontend, first, limits),
    }
}

/// Whether a peer is a trusted proxy whose requests each say who their client is.
fn may_name_clients(visit: &ClientConnection<TcpStream>, frontend: &Frontend) -> bool {
    frontend.protocol == Protocol::Http
        && !frontend.proxy_protocol
        && is_in(visit.who.client.ip(), &frontend.trusted)
}

/// Hands a client to its protocol. `first` is what it has sent already.
pub(crate) fn serve<C: Connection>(
    visit: ClientConnection<C>,
    frontend: &Arc<Frontend>,
    first: Option<Buffer>,
) {
    if frontend.protocol == Protocol::Http {
        tokio::task::spawn_local(http::serve(visit, first));
    } else {
        // A relayed connection keeps the frontend and the pool of its beginning: nothing about it is decided again.
        tokio::task::spawn_local(tcp::serve(visit, Arc::clone(frontend), first));
    }
}

/// Lets a trusted peer say who the client is, and serves that one.
async fn read_proxy_header(mut visit: ClientConnection<TcpStream>, frontend: Arc<Frontend>) {
    visit.at.client.alarm.bind_to_this_task().await;
    let Some((announced, first)) = parse_proxy_header(&mut visit).await else {
        frontend.cell.lane(visit.at.worker.index).refused.increment();
        visit.at.worker.note_refusal(&frontend, RefusalReason::Malformed, visit.who.client.ip());
        tracing::debug!(peer = %visit.who.client, frontend = %frontend.name, "a trusted peer sent no PROXY protocol header");
        return;
    };
    visit.who.client = announced.unwrap_or(visit.who.client);
    visit.at.client.peer.set(Some(visit.who.client.ip()));
    begin(visit, &frontend, first);
}

/// Reads the header with which a trusted peer says who the client is; `None` when it sends something else.
async fn parse_proxy_header(
    visit: &mut ClientConnection<TcpStream>,
) -> Option<(Option<SocketAddr>, Option<Buffer>)> {
    let ClientConnection { at: RegisteredConnection { worker, client, .. }, stream, .. } = visit;
    let watch = ConnectionTimer { alarm: &client.alarm, wheel: &worker.wheel };
    watch.set_timeout(HEADER_TIME);
    readable(stream, watch).await.ok()?;
    let mut buffer = worker.small.take();
    loop {
        read(stream, &mut buffer, watch).await.ok()?;
        match proxy_header::parse(&buffer) {
            ProxyHeader::Whole { length, client: announced } => {
                buffer.consume(length);
                client.alarm.cancel();
                return Some((announced, (!buffer.is_empty()).then_some(buffer)));
            }
            ProxyHeader::Partial => {}
            ProxyHeader::Wrong => return None,
        }
    }
}
