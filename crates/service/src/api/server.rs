//! The connections of the API: how many there may be, and how long each may take over what.
//!
//! One connection costs what its client has sent and not more: the routes and the OpenAPI document are shared by all.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::pin::pin;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Router;
use axum::extract::ConnectInfo;
use axum::http::Request;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::{Service, service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use ipnet::IpNet;
use merismos_plane::memory::counted_as;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio_io_timeout::TimeoutStream;

/// How long a client may take to send the head of a request, and how long a connection may rest between two.
const HEAD_TIMEOUT: Duration = Duration::from_secs(20);
/// How long a client may take none of what is sent to it. An event stream is never silent for so long.
const WRITE_TIMEOUT: Duration = Duration::from_secs(30);
/// The most that is buffered of one connection in each direction; it bounds the head of a request too.
const BUFFER_LIMIT: usize = 64 << 10;
/// How long accepting rests when the system has no descriptor to give.
const ACCEPT_REST: Duration = Duration::from_millis(200);

/// How many connections and event streams there may be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ApiLimits {
    /// The most connections that may be open at once.
    pub(crate) connections: usize,
    /// Connections of one client address at once; the addresses of an IPv6 /64 count as one.
    pub(crate) connections_per_address: usize,
    /// Event streams at once.
    pub(crate) streams: usize,
    /// The networks whose clients are let in; all are where there is none.
    pub(crate) allow: Vec<IpNet>,
}

impl Default for ApiLimits {
    fn default() -> Self {
        Self { connections: 1_024, connections_per_address: 256, streams: 512, allow: Vec::new() }
    }
}

/// The connections and event streams that there are, and those that were refused.
#[derive(Debug)]
pub(crate) struct ApiUsage {
    limits: ApiLimits,
    /// Held for a look-up and a count only.
    by_address: Mutex<HashMap<IpAddr, usize>>,
    connections: AtomicU64,
    streams: AtomicU64,
    turned_away: AtomicU64,
    denied: AtomicU64,
}

impl ApiUsage {
    pub(crate) fn new(limits: ApiLimits) -> Arc<Self> {
        Arc::new(Self {
            limits,
            by_address: Mutex::default(),
            connections: AtomicU64::new(0),
            streams: AtomicU64::new(0),
            turned_away: AtomicU64::new(0),
            denied: AtomicU64::new(0),
        })
    }

    /// How many connections are open at this moment.
    pub(crate) fn connections(&self) -> u64 {
        self.connections.load(Relaxed)
    }

    /// Event streams open now.
    pub(crate) fn streams(&self) -> u64 {
        self.streams.load(Relaxed)
    }

    /// Connections and streams that were refused since the start because there were too many.
    pub(crate) fn turned_away(&self) -> u64 {
        self.turned_away.load(Relaxed)
    }

    /// Connections that were refused since the start because their clients are not let in.
    pub(crate) fn denied(&self) -> u64 {
        self.denied.load(Relaxed)
    }

    /// Whether a client is let in. Those on this machine are, whatever the list says, so that a wrong list can be mended from here.
    fn admits(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        let allow = &self.limits.allow;
        let is_own = address == IpAddr::V4(Ipv4Addr::LOCALHOST) || address == IpAddr::V6(Ipv6Addr::LOCALHOST);
        let is_in = allow.is_empty() || is_own || allow.iter().any(|network| network.contains(&address));
        if !is_in {
            self.denied.fetch_add(1, Relaxed);
        }
        is_in
    }

    /// Counts a connection in; `None` when there are too many.
    fn connect(self: &Arc<Self>, address: IpAddr) -> Option<ConnectionCount> {
        let address = counted_as(address);
        let mut by_address = self.by_address.lock().unwrap_or_else(PoisonError::into_inner);
        let has_room = self.connections() < self.limits.connections as u64
            && by_address.get(&address).copied().unwrap_or_default() < self.limits.connections_per_address;
        if !has_room {
            self.turned_away.fetch_add(1, Relaxed);
            return None;
        }
        *by_address.entry(address).or_default() += 1;
        self.connections.fetch_add(1, Relaxed);
        drop(by_address);
        Some(ConnectionCount { usage: Arc::clone(self), address })
    }

    /// Counts an event stream in; `None` when there are too many.
    pub(super) fn open_stream(self: &Arc<Self>) -> Option<StreamCount> {
        let limit = self.limits.streams as u64;
        let more = |streams: u64| (streams < limit).then_some(streams + 1);
        if self.streams.fetch_update(Relaxed, Relaxed, more).is_err() {
            self.turned_away.fetch_add(1, Relaxed);
            return None;
        }
        Some(StreamCount(Arc::clone(self)))
    }
}

/// A connection that counts until it is dropped.
struct ConnectionCount {
    usage: Arc<ApiUsage>,
    address: IpAddr,
}

impl Drop for ConnectionCount {
    fn drop(&mut self) {
        self.usage.connections.fetch_sub(1, Relaxed);
        let mut by_address = self.usage.by_address.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = by_address.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                by_address.remove(&self.address);
            }
        }
    }
}

/// An event stream that counts until it is dropped.
#[derive(Debug)]
pub(super) struct StreamCount(Arc<ApiUsage>);

impl Drop for StreamCount {
    fn drop(&mut self) {
        self.0.streams.fetch_sub(1, Relaxed);
    }
}

/// Serves the API until `ends` says so, and then the calls that are under way.
pub(crate) async fn serve(
    listener: TcpListener,
    router: Router,
    usage: Arc<ApiUsage>,
    mut ends: watch::Receiver<bool>,
) {
    let mut connections = tokio::task::JoinSet::new();
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            Some(_) = connections.join_next(), if !connections.is_empty() => continue,
            _ = ends.wait_for(|end| *end) => break,
        };
        match accepted {
            Ok((stream, peer)) => {
                // Who is one too many is let go at once, so that waiting costs nothing.
                if usage.admits(peer.ip())
                    && let Some(count) = usage.connect(peer.ip())
                {
                    connections.spawn(serve_connection(stream, peer, router.clone(), ends.clone(), count));
                }
            }
            Err(error) if is_of_one_client(&error) => {}
            Err(error) => {
                tracing::debug!(%error, "the API can't accept");
                tokio::time::sleep(ACCEPT_REST).await;
            }
        }
    }
    drop(listener);
    while connections.join_next().await.is_some() {}
}

/// Whether only the client that was to be accepted is concerned.
fn is_of_one_client(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::ConnectionAborted | io::ErrorKind::ConnectionReset)
}

async fn serve_connection(
    stream: TcpStream,
    peer: SocketAddr,
    router: Router,
    mut ends: watch::Receiver<bool>,
    count: ConnectionCount,
) {
    let _ = stream.set_nodelay(true);
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(WRITE_TIMEOUT));
    // Cloning the routes costs a count: they are behind one pointer.
    let service = service_fn(move |mut request: Request<Incoming>| {
        request.extensions_mut().insert(ConnectInfo(peer));
        TowerToHyperService::new(router.clone()).call(request)
    });
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(HEAD_TIMEOUT).max_buf_size(BUFFER_LIMIT);
    let mut connection = pin!(builder.serve_connection(TokioIo::new(Box::pin(stream)), service));
    let ends = async { drop(ends.wait_for(|end| *end).await) };
    let ended = tokio::select! {
        ended = connection.as_mut() => ended,
        () = ends => {
            connection.as_mut().graceful_shutdown();
            connection.await
        }
    };
    if let Err(error) = ended {
        tracing::debug!(%error, %peer, "a connection of the API ended");
    }
    drop(count);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn connections_are_counted_in_all_and_by_address() {
        let usage = ApiUsage::new(ApiLimits {
            connections: 3,
            connections_per_address: 2,
            streams: 1,
            ..ApiLimits::default()
        });
        let (one, other) = (IpAddr::from([192, 0, 2, 1]), IpAddr::from([192, 0, 2, 2]));
        let first = usage.connect(one).expect("there is room");
        let _second = usage.connect(one).expect("there is room");
        assert!(usage.connect(one).is_none(), "two of one address");
        let _third = usage.connect(other).expect("another address");
        assert!(usage.connect(other).is_none(), "three in all");
        drop(first);
        assert!(usage.connect(other).is_some());
        assert_eq!((usage.connections(), usage.turned_away()), (2, 2));
        let stream = usage.open_stream().expect("there is room");
        assert!(usage.open_stream().is_none());
        drop(stream);
        assert!(usage.open_stream().is_some());
    }
}
