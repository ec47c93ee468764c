//! Clients that speak HTTP/1.1.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use bytes::Bytes;
use cookie::Cookie;
use http_body_util::{BodyExt, Empty};
use hyper::client::conn::http1::SendRequest;
use hyper::header::{COOKIE, HOST, HeaderName, HeaderValue, SET_COOKIE, USER_AGENT};
use hyper::{HeaderMap, Request};
use hyper_util::rt::TokioIo;

use crate::ClientOutcome;
use crate::tls::{self, LoadTls};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// A client that keeps its connection, and its cookies where the trial keeps them.
pub(crate) struct HttpClient {
    address: SocketAddr,
    source: Option<IpAddr>,
    tls: Option<LoadTls>,
    host: Option<String>,
    connection: Option<HttpConnection>,
    cookies: Option<BTreeMap<String, String>>,
    /// The names of those that the last request carried.
    carried: Arc<[String]>,
    /// The last request was the first on its connection.
    pub(crate) is_first: bool,
}

struct HttpConnection {
    sender: SendRequest<Empty<Bytes>>,
    driver: tokio::task::JoinHandle<()>,
}

impl Drop for HttpConnection {
    fn drop(&mut self) {
        self.driver.abort();
    }
}

impl HttpClient {
    pub(crate) fn new(
        address: SocketAddr,
        source: Option<IpAddr>,
        tls: Option<LoadTls>,
        keeps_cookies: bool,
    ) -> Self {
        let cookies = keeps_cookies.then(BTreeMap::new);
        Self {
            address,
            source,
            tls,
            host: None,
            connection: None,
            cookies,
            carried: Arc::default(),
            is_first: true,
        }
    }

    /// The same, asking for a host.
    pub(crate) fn asking_for(self, host: Option<String>) -> Self {
        Self { host, ..self }
    }

    /// What it asks for: the host that was given, a name where it speaks TLS, and the address else.
    fn host(&self) -> String {
        let port = self.address.port();
        let name = self.host.as_ref().or(self.tls.as_ref().map(|tls| &tls.name));
        name.map_or_else(|| self.address.to_string(), |name| format!("{name}:{port}"))
    }

    /// Closes its connection; the next request goes over another one.
    pub(crate) fn hang_up(&mut self) {
        self.connection = None;
    }

    /// The names of the cookies that its last request carried, in order.
    pub(crate) fn carried(&self) -> Arc<[String]> {
        Arc::clone(&self.carried)
    }

    /// Becomes another client, without connection and cookies.
    pub(crate) fn begin_anew(&mut self) {
        self.hang_up();
        self.cookies.iter_mut().for_each(BTreeMap::clear);
    }

    pub(crate) async fn ask(&mut self, path: &str, mark: Option<(&'static str, String)>) -> ClientOutcome {
        match self.try_ask(path, mark).await {
            Ok(status) => ClientOutcome::Answer(status),
            Err(_) => {
                self.hang_up();
                ClientOutcome::Broken
            }
        }
    }

    async fn try_ask(&mut self, path: &str, mark: Option<(&'static str, String)>) -> Result<u16, Failure> {
        self.is_first = !self.connection.as_ref().is_some_and(|connection| connection.sender.is_ready());
        if self.is_first {
            self.connection = None;
        }
        let mut request = Request::get(path)
            .header(HOST, self.host())
            .header(USER_AGENT, "merismos-trial")
            .body(Empty::<Bytes>::new())?;
        if let Some((name, value)) = mark {
            request.headers_mut().insert(HeaderName::from_static(name), HeaderValue::from_str(&value)?);
        }
        let names = self.cookies.iter().flat_map(BTreeMap::keys);
        if !self.carried.iter().eq(names.clone()) {
            self.carried = names.cloned().collect();
        }
        if let Some(cookies) = self.cookies.as_ref().filter(|cookies| !cookies.is_empty()) {
            let pairs: Vec<String> = cookies.iter().map(|(name, value)| format!("{name}={value}")).collect();
            request.headers_mut().insert(COOKIE, HeaderValue::from_str(&pairs.join("; "))?);
        }
        let connection = match &mut self.connection {
            Some(connection) => connection,
            None => self.connection.insert(open(self.address, self.source, self.tls.as_ref()).await?),
        };
        let answer = connection.sender.send_request(request).await?;
        let status = answer.status().as_u16();
        if let Some(cookies) = &mut self.cookies {
            keep(answer.headers(), cookies);
        }
        let mut body = answer.into_body();
        while let Some(frame) = body.frame().await {
            frame?;
        }
        // Wait until the connection can carry another request, or is known to be at its end.
        let _ = connection.sender.ready().await;
        Ok(status)
    }
}

/// Keeps what an answer sets (RFC 6265, 5.3), as far as one server's clients need it: a name, a value, and its end.
fn keep(fields: &HeaderMap, cookies: &mut BTreeMap<String, String>) {
    let texts = fields.get_all(SET_COOKIE).iter().filter_map(|value| value.to_str().ok());
    for cookie in texts.filter_map(|text| Cookie::parse(text).ok()) {
        if cookie.max_age().is_some_and(|age| !age.is_positive()) {
            cookies.remove(cookie.name());
        } else {
            cookies.insert(cookie.name().to_owned(), cookie.value().to_owned());
        }
    }
}

async fn open(
    address: SocketAddr,
    source: Option<IpAddr>,
    tls: Option<&LoadTls>,
) -> Result<HttpConnection, Failure> {
    let (stream, _) = tls::open(address, source, tls).await?;
    let (sender, driver) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
    let driver = tokio::spawn(async move {
        // How a connection ends is reported by the request that it carried.
        let _ = driver.await;
    });
    Ok(HttpConnection { sender, driver })
}
