//! The front door: a client's connection is counted, turned away or let in, and handed to its protocol.

use std::net::{IpAddr, SocketAddr};
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;
use merismos_core::cells::FrontendCell;
use merismos_core::config::document::Protocol;
use socket2::SockRef;
use tokio::net::TcpStream;

use crate::buffer::Buffer;
use crate::io::{Watch, read, readable};
use crate::proxy::{self, Header};
use crate::worker::Registered;
use crate::{http, tcp};

/// How long a trusted peer may take to say who the client is.
const HEADER_TIME: Duration = Duration::from_secs(5);

/// Counts a connection while it is there.
struct Counted<'a> {
    cell: &'a FrontendCell,
    worker: usize,
}

impl Drop for Counted<'_> {
    fn drop(&mut self) {
        self.cell.lane(self.worker).closed.up();
    }
}

/// Whether an address lies in one of some networks.
pub(crate) fn is_in(address: IpAddr, networks: &[IpNet]) -> bool {
    let address = address.to_canonical();
    networks.iter().any(|network| network.contains(&address))
}

/// Who a client is.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Who {
    /// Where its connection comes from: the peer, or what a trusted peer said.
    pub(crate) client: SocketAddr,
    /// Where it connected to.
    pub(crate) meant_for: SocketAddr,
}

/// Serves one client until its connection ends.
pub(crate) fn serve(
    registered: Registered,
    mut stream: TcpStream,
    peer: SocketAddr,
) -> impl Future<Output = ()> {
    let (worker, client) = (Rc::clone(&registered.worker), Rc::clone(&registered.client));
    // Not an async function, which would keep room for what it was given twice, for each client that rests.
    async move {
        let Some(frontend) = worker.snapshot().frontend(client.frontend.get()).cloned() else { return };
        let cell = Arc::clone(&frontend.cell);
        let is_full = cell.connections() >= frontend.connection_limit;
        // One that is turned away takes no place, however long it lingers.
        let lane = cell.lane(worker.index);
        if is_full { &lane.turned_away } else { &lane.opened }.up();
        let _counted = (!is_full).then(|| Counted { cell: &cell, worker: worker.index });
        if stream.set_nodelay(true).is_err() {
            return;
        }
        std::future::poll_fn(|context| {
            client.alarm.wake_with(context.waker());
            std::task::Poll::Ready(())
        })
        .await;
        let is_http = frontend.protocol == Protocol::Http;
        if is_full {
            if is_http {
                http::turn_away(worker, client, stream, &frontend.name).await;
            } else {
                let _ = SockRef::from(&stream).set_linger(Some(Duration::ZERO));
            }
            return;
        }
        let mut who = Who { client: peer, meant_for: client.address };
        let mut first = None;
        if frontend.proxy_protocol && is_in(peer.ip(), &frontend.trusted) {
            let watch = Watch { alarm: &client.alarm, wheel: &worker.wheel };
            let Some((told, rest)) = introduction(&mut stream, &registered, watch).await else {
                lane.refused.up();
                tracing::debug!(%peer, frontend = %frontend.name, "a trusted peer sent no PROXY protocol header");
                return;
            };
            who.client = told.unwrap_or(peer);
            first = rest;
        }
        if who.meant_for.ip().is_unspecified() {
            who.meant_for = stream.local_addr().unwrap_or(who.meant_for);
        }
        if is_http {
            // No snapshot is held while a client rests, or each idle client would keep an old one alive.
            drop(frontend);
            http::serve(worker, client, stream, who, first).await;
        } else {
            // A relayed connection keeps the frontend and the pool of its beginning: nothing about it is decided again.
            tcp::serve((&worker, &client), &frontend, stream, who, first).await;
        }
    }
}

/// Reads the header with which a trusted peer says who the client is; `None` when it sends something else.
async fn introduction(
    stream: &mut TcpStream,
    registered: &Registered,
    watch: Watch<'_>,
) -> Option<(Option<SocketAddr>, Option<Buffer>)> {
    watch.within(HEADER_TIME);
    readable(stream, watch).await.ok()?;
    let mut buffer = registered.worker.small.take();
    loop {
        read(stream, &mut buffer, watch).await.ok()?;
        match proxy::parse(&buffer) {
            Header::Whole { length, client } => {
                buffer.consume(length);
                registered.client.alarm.silence();
                return Some((client, (!buffer.is_empty()).then_some(buffer)));
            }
            Header::Partial => {}
            Header::Wrong => return None,
        }
    }
}
