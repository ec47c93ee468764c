//! Handshakes with clients: read as far as their names, refused or answered, and handed on.

use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use merismos_core::config::document::Protocol;
use merismos_core::routing::Frontend;
use rustls::server::{Accepted, Acceptor};
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio_rustls::StartHandshake;

use super::frontend::FrontendTls;
use super::stream::TlsConnection;
use crate::accept::{ClientConnection, serve};
use crate::buffer::Buffer;
use crate::http;
use crate::io::{ConnectionTimer, read, readable};

/// The alert `unrecognized_name` (RFC 6066, 3; RFC 8446, 6.2) in a record of its own.
const UNRECOGNIZED_NAME: [u8; 7] = [21, 3, 3, 0, 2, 2, 112];
/// The alert `internal_error`, for a frontend whose certificates could not be read.
const INTERNAL_ERROR: [u8; 7] = [21, 3, 3, 0, 2, 2, 80];
/// The first byte of a record that holds a handshake (RFC 8446, 5.1).
const HANDSHAKE: u8 = 22;

/// What a client began with.
enum Greeting {
    /// A whole ClientHello.
    Hello(Accepted),
    /// Something else: perhaps a request in plain text.
    Plain,
    /// Nothing that goes on.
    Over,
}

/// Has a client's handshake done within `limit`, and serves it. `first` is what it has sent already.
pub(crate) async fn accept(
    mut visit: ClientConnection<TcpStream>,
    frontend: Arc<Frontend>,
    first: Option<Buffer>,
    limit: Duration,
) {
    visit.at.client.alarm.bind_to_this_task().await;
    let watch = ConnectionTimer { alarm: &visit.at.client.alarm, wheel: &visit.at.worker.wheel };
    watch.set_timeout(limit);
    let lane = || frontend.cell.lane(visit.at.worker.index);
    let hello = match read_hello(&visit.at.worker.small, &mut visit.stream, first, watch).await {
        Greeting::Hello(hello) => hello,
        Greeting::Plain if frontend.protocol == Protocol::Http => {
            lane().refused.increment();
            let ClientConnection { at, stream, _counted: counted, .. } = visit;
            at.client.alarm.cancel();
            http::reject_plain(at, stream, frontend.name.clone()).await;
            drop(counted);
            return;
        }
        Greeting::Plain | Greeting::Over => {
            lane().refused.increment();
            return;
        }
    };
    let spoken = visit.at.worker.tls.of(&frontend.name);
    let is_known = |tls: &FrontendTls| tls.knows(hello.client_hello().server_name());
    let alert = match &spoken {
        None => Some(INTERNAL_ERROR),
        Some(tls) if !is_known(tls) => Some(UNRECOGNIZED_NAME),
        Some(_) => None,
    };
    if let Some(alert) = alert {
        lane().refused.increment();
        // A client that does not want to hear it needs no answer.
        let _ = visit.stream.write_all(&alert).await;
        return;
    }
    let Some(FrontendTls { config, .. }) = spoken else { return };
    let ClientConnection { at, stream, who, _counted } = visit;
    let watch = ConnectionTimer { alarm: &at.client.alarm, wheel: &at.worker.wheel };
    let mut handshake = Box::pin(StartHandshake::from_parts(hello, stream).into_stream(config));
    let done = std::future::poll_fn(|context| {
        if watch.check().is_err() {
            return std::task::Poll::Ready(None);
        }
        handshake.as_mut().poll(context).map(Result::ok)
    });
    let Some(stream) = done.await else {
        frontend.cell.lane(at.worker.index).refused.increment();
        tracing::debug!(client = %who.client, frontend = %frontend.name, "a TLS handshake failed");
        return;
    };
    at.client.alarm.cancel();
    let who = crate::accept::ConnectionAddrs { is_secure: true, ..who };
    serve(ClientConnection { at, stream: TlsConnection::new(stream), who, _counted }, &frontend, None);
}

/// Reads until the client's ClientHello is whole.
async fn read_hello(
    shelf: &std::rc::Rc<crate::buffer::BufferPool>,
    stream: &mut TcpStream,
    first: Option<Buffer>,
    watch: ConnectionTimer<'_>,
) -> Greeting {
    let mut acceptor = Acceptor::default();
    let mut buffer = match first {
        Some(first) => first,
        None => match readable(stream, watch).await {
            Ok(()) => shelf.take(),
            Err(_) => return Greeting::Over,
        },
    };
    let mut is_first = true;
    loop {
        if buffer.is_empty() && read(stream, &mut buffer, watch).await.is_err() {
            return Greeting::Over;
        }
        if std::mem::take(&mut is_first) && buffer[0] != HANDSHAKE {
            return Greeting::Plain;
        }
        let mut piece = &*buffer;
        let taken = acceptor.read_tls(&mut piece);
        let length = buffer.len() - piece.len();
        buffer.consume(length);
        if taken.is_err() {
            return Greeting::Over;
        }
        match acceptor.accept() {
            Ok(None) => {}
            // What has come behind it is in the acceptor already, for nothing of a client's follows its greeting.
            Ok(Some(hello)) => return Greeting::Hello(hello),
            Err((_, mut alert)) => {
                let mut text = Vec::new();
                let _ = alert.write_all(&mut text);
                let _ = stream.write_all(&text).await;
                return Greeting::Over;
            }
        }
    }
}
