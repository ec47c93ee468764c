//! What each kind of check asks, and how its answer is judged.

use std::net::SocketAddr;
use std::time::Duration;

use bytes::Bytes;
use http_body_util::Empty;
use hyper::Request;
use hyper::header::{CONNECTION, HOST, USER_AGENT};
use hyper_util::rt::TokioIo;
use merismos_core::config::document::{CheckKind, ProxyVersion, StatusRange};
use merismos_core::health::Step;
use merismos_core::units::humane;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout_at};

use crate::connect::connect;
use crate::proxy;

/// What was tried, how far it came, and what came back.
type Asked = (String, Step, String);

pub(super) async fn ask(
    (address, proxy_protocol): (SocketAddr, Option<ProxyVersion>),
    kind: &CheckKind,
    limit: Duration,
) -> Asked {
    let end = Instant::now() + limit;
    let tried = match kind {
        CheckKind::Tcp => format!("connect to {address}"),
        CheckKind::Http { path, .. } => format!("GET http://{address}{path}"),
    };
    let mut stream = match connect(address, limit).await {
        Ok(stream) => stream,
        Err(error) => return (tried, Step::Connect, error.to_string()),
    };
    if let Some(version) = proxy_protocol {
        // Whoever closes at once is heard when it is asked.
        let _ = stream.write_all(&proxy::own_header(version)).await;
    }
    match kind {
        CheckKind::Tcp => (tried, Step::Done, "connected".to_owned()),
        CheckKind::Http { path, accept } => {
            let (step, got) = match timeout_at(end, status(stream, address, path)).await {
                Ok(Ok(status)) => judge(status, accept),
                Ok(Err(error)) => {
                    (Step::Answer, format!("connected, but the answer makes no sense: {error}"))
                }
                Err(_) => (Step::Answer, format!("connected, but no answer within {}", humane(limit))),
            };
            (tried, step, got)
        }
    }
}

fn judge(status: u16, accept: &[StatusRange]) -> (Step, String) {
    if accept.iter().any(|range| range.holds(status)) {
        return (Step::Done, format!("status {status}"));
    }
    let wanted: Vec<_> = accept.iter().map(ToString::to_string).collect();
    (Step::Status, format!("status {status}; wanted {}", wanted.join(" or ")))
}

async fn status(stream: TcpStream, address: SocketAddr, path: &str) -> hyper::Result<u16> {
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
    let request = Request::get(path)
        .header(HOST, address.to_string())
        .header(USER_AGENT, "merismos-check")
        .header(CONNECTION, "close")
        .body(Empty::<Bytes>::new())
        .expect("a checked path makes a request");
    // The connection is driven here, and ends with this future: nothing is left behind when time is up.
    let answer = sender.send_request(request);
    tokio::pin!(connection, answer);
    tokio::select! {
        biased;
        answer = &mut answer => answer.map(|answer| answer.status().as_u16()),
        ended = &mut connection => {
            ended?;
            answer.await.map(|answer| answer.status().as_u16())
        }
    }
}
