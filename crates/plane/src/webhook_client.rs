//! One request of HTTP to somewhere outside, such as a webhook: no traffic of clients.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use http_body_util::Full;
use hyper::header::{CONNECTION, HOST};
use hyper::{Request, Uri};
use hyper_util::rt::TokioIo;
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio_rustls::TlsConnector;

use crate::connect;
use crate::probe::verified;

/// Why nothing came of a request.
#[derive(Debug, thiserror::Error)]
pub enum PostError {
    /// The URL leads nowhere.
    #[error("{0} is no URL of http or https")]
    Url(String),
    /// Its name has no address.
    #[error("{0} has no address")]
    NoAddress(String),
    /// Nobody listens, or a filter drops it.
    #[error("connecting to {0} failed: {1}")]
    Connect(std::net::SocketAddr, connect::ConnectError),
    /// The certificate is not as it should be, or it speaks no TLS.
    #[error("TLS with {0} failed: {1}")]
    Tls(String, String),
    /// What came back makes no sense.
    #[error("connected, but the answer makes no sense: {0}")]
    Answer(#[from] hyper::Error),
    /// The time is over.
    #[error("no answer within {}", merismos_core::units::humane(*.0))]
    Late(Duration),
}

/// Posts a body and gives the status of the answer. Redirections are an answer.
///
/// # Errors
/// When there is no answer within the limit.
pub async fn post(
    url: &str,
    fields: &[(String, String)],
    body: Vec<u8>,
    limit: Duration,
) -> Result<u16, PostError> {
    tokio::time::timeout(limit, once(url, fields, body, limit)).await.unwrap_or(Err(PostError::Late(limit)))
}

async fn once(
    url: &str,
    fields: &[(String, String)],
    body: Vec<u8>,
    limit: Duration,
) -> Result<u16, PostError> {
    let wrong = || PostError::Url(url.to_owned());
    let uri: Uri = url.parse().map_err(|_| wrong())?;
    let authority = uri.authority().ok_or_else(wrong)?;
    let is_tls = uri.scheme_str() == Some("https");
    let host = authority.host().trim_start_matches('[').trim_end_matches(']').to_owned();
    let port = authority.port_u16().unwrap_or(if is_tls { 443 } else { 80 });
    let mut addresses = tokio::net::lookup_host((host.as_str(), port))
        .await
        .map_err(|_| PostError::NoAddress(host.clone()))?;
    let address = addresses.next().ok_or_else(|| PostError::NoAddress(host.clone()))?;
    let path = uri.path_and_query().map_or("/", |path| path.as_str());
    let mut request = Request::post(path).header(HOST, authority.as_str()).header(CONNECTION, "close");
    for (name, value) in fields {
        request = request.header(name, value);
    }
    let request = request.body(Full::new(Bytes::from(body))).map_err(|_| wrong())?;
    let stream =
        connect::connect(&[address], limit).await.map_err(|error| PostError::Connect(address, error))?;
    if !is_tls {
        return Ok(exchange(stream, request).await?);
    }
    let failed = |error: String| PostError::Tls(authority.to_string(), error);
    let config = verified().map_err(failed)?;
    let name = ServerName::try_from(host.clone()).map_err(|error| failed(error.to_string()))?;
    let stream = TlsConnector::from(Arc::new(config)).connect(name, stream).await;
    Ok(exchange(stream.map_err(|error| failed(error.to_string()))?, request).await?)
}

async fn exchange(
    stream: impl AsyncRead + AsyncWrite + Unpin,
    request: Request<Full<Bytes>>,
) -> hyper::Result<u16> {
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
    let answered = sender.send_request(request);
    tokio::pin!(connection, answered);
    tokio::select! {
        biased;
        answer = &mut answered => Ok(answer?.status().as_u16()),
        // What it has to say of the connection's end, it says by itself.
        _ = &mut connection => Ok(answered.await?.status().as_u16()),
    }
}
