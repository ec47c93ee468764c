//! Handshakes with clients: read as far as their names, refused or answered, and handed on.

use std::future::Future;
use std::io;
use std::rc::Rc;
use std::sync::Arc;
use std::task::Poll;
use std::time::{Duration, Instant};

use merismos_core::config::document::{HandshakeLimits, Protocol};
use merismos_core::limits::RefusalReason;
use merismos_core::routing::{FirstBytes, Frontend};
use merismos_core::text::printable;
use rustls::server::{Accepted, Acceptor};
use rustls::{AlertDescription, CertificateError, HandshakeKind, ServerConfig};
use socket2::SockRef;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio_rustls::StartHandshake;

use super::HANDSHAKE;
use super::handshake_counts::{CountedHandshake, HandshakeCounts};
use super::stream::TlsConnection;
use crate::accept::{ClientConnection, ConnectionAddrs, serve};
use crate::buffer::{Buffer, BufferPool};
use crate::client_hello::peek_client_hello;
use crate::deadline::WakeReason;
use crate::http;
use crate::io::{ConnectionTimer, IoError, read, readable};
use crate::tcp;

/// The alert `unrecognized_name` (RFC 6066, 3; RFC 8446, 6.2) in a record of its own.
const UNRECOGNIZED_NAME: [u8; 7] = [21, 3, 3, 0, 2, 2, 112];
/// The alert `internal_error`, for a frontend whose certificates could not be read.
const INTERNAL_ERROR: [u8; 7] = [21, 3, 3, 0, 2, 2, 80];

/// Why there is no ClientHello.
enum NoHello {
    /// The client said something else: perhaps a request in plain text.
    Plain,
    /// It left, or is let go, without a word.
    Silent,
    /// It took too long.
    Slow,
    /// What it said makes no sense.
    Wrong(String),
}

/// Begins a client's handshake and serves it afterwards, unless there are too many already. `first` is what it has sent already.
pub(crate) fn begin(
    visit: ClientConnection<TcpStream>,
    frontend: &Arc<Frontend>,
    first: Option<Buffer>,
    limits: HandshakeLimits,
) {
    match HandshakeCounts::begin(&visit.at.worker.handshakes, frontend.cell.id, visit.who.client.ip(), limits)
    {
        Ok(counted) => {
            let handshake = accept(visit, Arc::clone(frontend), first, limits.timeout, counted);
            tokio::task::spawn_local(handshake);
        }
        Err(why) => {
            frontend.cell.lane(visit.at.worker.index).bad_handshakes.increment();
            visit.at.worker.note_refusal(frontend, RefusalReason::Handshake, visit.who.client.ip());
            visit.at.worker.tls.note_failure(&frontend.name, why);
            // At once: what waits for a client that is cut off is memory, too.
            let _ = SockRef::from(&visit.stream).set_linger(Some(Duration::ZERO));
        }
    }
}

/// Has a client's handshake done within `limit`, and serves it.
async fn accept(
    mut visit: ClientConnection<TcpStream>,
    frontend: Arc<Frontend>,
    first: Option<Buffer>,
    limit: Duration,
    counted_handshake: CountedHandshake,
) {
    visit.at.client.alarm.bind_to_this_task().await;
    let watch = ConnectionTimer { alarm: &visit.at.client.alarm, wheel: &visit.at.worker.wheel };
    watch.set_timeout(limit);
    let lane = || frontend.cell.lane(visit.at.worker.index);
    let failed = |why: String| {
        lane().bad_handshakes.increment();
        visit.at.worker.note_refusal(&frontend, RefusalReason::Handshake, visit.who.client.ip());
        visit.at.worker.tls.note_failure(&frontend.name, why);
    };
    let mut first = first;
    if frontend.passthrough.is_some() {
        let wanted = FirstBytes { within: limit, wants_name: true, patterns: Box::default() };
        let begun = Instant::now();
        let heard =
            Box::pin(peek_client_hello(&visit.at.worker, &mut visit.stream, first, &wanted, watch)).await;
        let Some(hello) = heard else { return };
        if let Some(way) = hello.name.as_deref().and_then(|name| frontend.passed_on(name)) {
            drop(counted_handshake);
            return Box::pin(tcp::serve_asked(visit, Arc::clone(way), hello)).await;
        }
        first = hello.first;
        watch.set_timeout(limit.saturating_sub(begun.elapsed()));
    }
    let hello = match read_hello(&visit.at.worker.small, &mut visit.stream, first, watch).await {
        Ok(hello) => hello,
        Err(NoHello::Plain) => {
            lane().wrong_protocol.increment();
            visit.at.worker.note_refusal(&frontend, RefusalReason::Handshake, visit.who.client.ip());
            let ClientConnection { at, stream, counted, .. } = visit;
            at.client.alarm.cancel();
            if frontend.protocol == Protocol::Http {
                http::reject_plain(at, stream, frontend.name.clone()).await;
            }
            drop(counted);
            return;
        }
        Err(NoHello::Silent) => return,
        Err(NoHello::Slow) => return failed(slow(limit)),
        Err(NoHello::Wrong(why)) => return failed(why),
    };
    if visit.at.worker.challenges.has_any()
        && let Some(config) = visit.at.worker.challenges.of_handshake(&hello.client_hello())
    {
        lane().challenges.increment();
        return Box::pin(show_authority(visit, hello, config)).await;
    }
    let name = hello.client_hello().server_name().map(str::to_owned);
    let tls = match visit.at.worker.tls.of(&frontend.name) {
        Some(tls) if tls.knows(name.as_deref()) => tls,
        unknown => {
            let (alert, why) = match (unknown, name) {
                (None, _) => (INTERNAL_ERROR, "none of its certificates could be had".to_owned()),
                (Some(_), Some(name)) => (
                    UNRECOGNIZED_NAME,
                    format!("a client asked for {}, of which there is no certificate", printable(&name)),
                ),
                (Some(_), None) => (UNRECOGNIZED_NAME, "a client asked for no name".to_owned()),
            };
            failed(why);
            // A client that does not want to hear it needs no answer.
            let _ = visit.stream.write_all(&alert).await;
            return;
        }
    };
    let ClientConnection { at, stream, who, counted } = visit;
    let watch = ConnectionTimer { alarm: &at.client.alarm, wheel: &at.worker.wheel };
    let clients = tls.clients;
    let mut handshake = Box::pin(StartHandshake::from_parts(hello, stream).into_stream(tls.config));
    let done = std::future::poll_fn(|context| {
        if watch.check().is_err() {
            return Poll::Ready(Err(slow(limit)));
        }
        handshake.as_mut().poll(context).map_err(|error| in_words(&error))
    });
    let done = done.await.and_then(|stream| {
        let session = stream.get_ref().1;
        let resumed = session.handshake_kind() == Some(HandshakeKind::Resumed);
        // The terms may have changed during the handshake.
        let now = at.worker.tls.of(&frontend.name).and_then(|tls| tls.clients);
        if let Some(now) = now.filter(|now| resumed || clients.as_ref().is_none_or(|then| !then.is(now))) {
            let how = if resumed { ", in a session that it took up again" } else { "" };
            let judged = now.judge_again(session.peer_certificates());
            judged.map_err(|error| format!("{}{how}", tls_in_words(&error)))?;
        }
        Ok(stream)
    });
    let lane = frontend.cell.lane(at.worker.index);
    let stream = match done {
        Ok(stream) => stream,
        Err(why) => {
            lane.bad_handshakes.increment();
            at.worker.note_refusal(&frontend, RefusalReason::Handshake, who.client.ip());
            tracing::debug!(client = %who.client, frontend = %frontend.name, %why, "a TLS handshake failed");
            at.worker.tls.note_failure(&frontend.name, why);
            return;
        }
    };
    match stream.get_ref().1.handshake_kind() {
        Some(HandshakeKind::Resumed) => lane.resumed.increment(),
        Some(HandshakeKind::Full | HandshakeKind::FullWithHelloRetryRequest) | None => {
            lane.handshakes.increment()
        }
    }
    if clients.is_some() {
        let chain = stream.get_ref().1.peer_certificates().unwrap_or_default();
        // It has none yet.
        let _ = at.client.identity.set(chain.iter().map(|shown| shown.clone().into_owned()).collect());
    }
    at.client.alarm.cancel();
    drop(counted_handshake);
    let who = ConnectionAddrs { is_secure: true, ..who };
    serve(ClientConnection { at, stream: TlsConnection::new(stream.into()), who, counted }, &frontend, None);
}

/// Shows an authority that the name is ours: by a handshake, after which nothing is said (RFC 8737, 3).
async fn show_authority(visit: ClientConnection<TcpStream>, hello: Accepted, config: Arc<ServerConfig>) {
    let ClientConnection { at, stream, counted: _counted, .. } = visit;
    let watch = ConnectionTimer { alarm: &at.client.alarm, wheel: &at.worker.wheel };
    let mut handshake = Box::pin(StartHandshake::from_parts(hello, stream).into_stream(config));
    let done = std::future::poll_fn(|context| match watch.check() {
        Ok(()) => handshake.as_mut().poll(context).map(Result::ok),
        Err(_) => Poll::Ready(None),
    });
    if let Some(mut stream) = done.await {
        // The authority has seen what it wanted; whether it hears the end is its own affair.
        let mut end = Box::pin(stream.shutdown());
        std::future::poll_fn(|context| match watch.check() {
            Ok(()) => end.as_mut().poll(context).map(drop),
            Err(_) => Poll::Ready(()),
        })
        .await;
    }
    at.client.alarm.cancel();
}

fn slow(limit: Duration) -> String {
    format!("a client took longer than {limit:?}")
}

/// What a failed handshake means.
fn in_words(error: &io::Error) -> String {
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match inner {
        Some(error) => tls_in_words(error),
        None if error.kind() == io::ErrorKind::UnexpectedEof => "a client left in the middle".to_owned(),
        None => error.kind().to_string(),
    }
}

fn tls_in_words(error: &rustls::Error) -> String {
    match error {
        rustls::Error::NoCertificatesPresented => "a client shows no certificate, and has to".to_owned(),
        rustls::Error::InvalidCertificate(wrong) => match wrong {
            CertificateError::Revoked => "a client's certificate was revoked".to_owned(),
            CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
                "a client's certificate has ended".to_owned()
            }
            // Another authority may call itself the same.
            CertificateError::UnknownIssuer | CertificateError::BadSignature => {
                "a client's certificate is not by one of the authorities that are trusted for clients"
                    .to_owned()
            }
            CertificateError::UnknownRevocationStatus => {
                "no list of revoked certificates is by the authority of a client's certificate".to_owned()
            }
            other => format!("a client's certificate does not pass ({other:?})"),
        },
        rustls::Error::AlertReceived(AlertDescription::UnknownCA) => {
            "a client does not trust the authority of the certificate (alert unknown_ca)".to_owned()
        }
        rustls::Error::AlertReceived(
            alert @ (AlertDescription::BadCertificate
            | AlertDescription::CertificateUnknown
            | AlertDescription::CertificateExpired
            | AlertDescription::CertificateRevoked),
        ) => format!("a client refuses the certificate (alert {alert:?})"),
        rustls::Error::PeerIncompatible(why) => {
            format!("a client and the frontend have no version, cipher or key exchange in common ({why:?})")
        }
        other => other.to_string(),
    }
}

/// Reads until the client's ClientHello is whole.
async fn read_hello(
    shelf: &Rc<BufferPool>,
    stream: &mut TcpStream,
    first: Option<Buffer>,
    watch: ConnectionTimer<'_>,
) -> Result<Accepted, NoHello> {
    let mut acceptor = Acceptor::default();
    let mut buffer = match first {
        Some(first) => first,
        None => match readable(stream, watch).await {
            Ok(()) => shelf.take(),
            Err(IoError::Rang(WakeReason::Deadline)) => return Err(NoHello::Slow),
            Err(_) => return Err(NoHello::Silent),
        },
    };
    let mut is_first = true;
    loop {
        if buffer.is_empty() {
            match read(stream, &mut buffer, watch).await {
                Ok(_) => {}
                // Who connects to see whether the port is open says nothing.
                Err(_) if is_first => return Err(NoHello::Silent),
                Err(IoError::Rang(WakeReason::Deadline)) => return Err(NoHello::Slow),
                Err(_) => return Err(NoHello::Wrong("a client left in the middle".to_owned())),
            }
        }
        if std::mem::take(&mut is_first) && buffer[0] != HANDSHAKE {
            return Err(NoHello::Plain);
        }
        let mut piece = &*buffer;
        let taken = acceptor.read_tls(&mut piece);
        let length = buffer.len() - piece.len();
        buffer.consume(length);
        if let Err(error) = taken {
            return Err(NoHello::Wrong(error.to_string()));
        }
        match acceptor.accept() {
            Ok(None) => {}
            // What has come behind it is in the acceptor already, for nothing of a client's follows its greeting.
            Ok(Some(hello)) => return Ok(hello),
            Err((error, mut alert)) => {
                let mut text = Vec::new();
                let _ = alert.write_all(&mut text);
                let _ = stream.write_all(&text).await;
                return Err(NoHello::Wrong(error.to_string()));
            }
        }
    }
}
