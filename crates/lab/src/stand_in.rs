//! Small servers that answer with their name, and fail on command: HTTP, and lines over TCP. Those for datagrams are in
//! [`crate::station`].

use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::header::{CONTENT_LENGTH, HeaderValue, LOCATION};
use hyper::service::service_fn;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinSet;

use crate::authority::{AuthorityOptions, CertificateAuthority};
pub use crate::inbox::ReceivedMail;
use crate::inbox::{Inbox, take_mail, take_post};
use crate::udp_echo;

/// The largest body that `/bytes/N` gives.
const MOST_BYTES: usize = 64 << 20;

/// How a stand-in fails.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Fault {
    /// It does not: it answers as it should.
    #[default]
    None,
    /// Nothing listens any more, and what is connected is closed.
    Refuse,
    /// It takes connections and requests, and never answers.
    Hang,
    /// It answers so much later.
    Slow {
        /// How much later, in milliseconds.
        delay_ms: u64,
    },
    /// It answers everything with this status.
    Error {
        /// The HTTP status that it answers with.
        status: u16,
    },
    /// It answers with the right status and another server's body.
    WrongBody,
    /// Its answers break off in the middle.
    Half,
    /// It redirects to another address.
    Redirect,
    /// It answers as it should and with 503 in turns.
    Flap {
        /// How long each turn is, in milliseconds.
        period_ms: u64,
    },
    /// It answers as it should, and asks to be drained.
    AskToDrain,
    /// It answers as it should, and asks for a part of its share.
    AskForShare {
        /// The part, in percent.
        percent: u8,
    },
}

/// A running stand-in. It ends when it is dropped.
#[derive(Debug)]
pub struct StandIn {
    /// Name of the stand-in, as in its answers.
    pub name: String,
    /// Address and port where it listens.
    pub address: SocketAddr,
    fault: watch::Sender<Fault>,
    listening: watch::Receiver<bool>,
    inbox: Inbox,
    task: tokio::task::JoinHandle<()>,
}

impl StandIn {
    /// Starts a stand-in. Port 0 lets the system choose one.
    ///
    /// # Errors
    /// When the address can't be listened on.
    pub fn start(name: &str, address: SocketAddr) -> io::Result<Self> {
        Self::speaking(StandInProtocol::Http, name, address)
    }

    /// Starts a stand-in that answers each line with its name and the line.
    ///
    /// # Errors
    /// When the address can't be listened on.
    pub fn for_lines(name: &str, address: SocketAddr) -> io::Result<Self> {
        Self::speaking(StandInProtocol::Lines, name, address)
    }

    /// Starts a stand-in that answers each datagram with its name and the datagram.
    ///
    /// # Errors
    /// When the address can't be listened on.
    pub fn for_datagrams(name: &str, address: SocketAddr) -> io::Result<Self> {
        let socket = udp_echo::listen(address)?;
        let address = socket.local_addr()?;
        let (fault, faults) = watch::channel(Fault::None);
        let (tell, listening) = watch::channel(true);
        let task = tokio::spawn(udp_echo::serve(Arc::from(name), address, socket, faults, tell));
        let inbox = Inbox::default();
        Ok(Self { name: name.to_owned(), address, fault, listening, inbox, task })
    }

    /// Starts a stand-in for a mail server, which keeps the mail that it takes.
    ///
    /// # Errors
    /// When the address can't be listened on.
    pub fn for_mail(name: &str, address: SocketAddr) -> io::Result<Self> {
        Self::speaking(StandInProtocol::Mail, name, address)
    }

    /// Starts a stand-in for a webhook, which keeps what is posted to it.
    ///
    /// # Errors
    /// When the address can't be listened on.
    pub fn for_posts(name: &str, address: SocketAddr) -> io::Result<Self> {
        Self::speaking(StandInProtocol::Hook, name, address)
    }

    /// Starts a stand-in for an authority that issues certificates.
    ///
    /// # Errors
    /// When the address can't be listened on, or its own certificates can't be made or kept.
    pub fn for_certificates(name: &str, options: &AuthorityOptions) -> io::Result<Self> {
        let authority = Arc::new(CertificateAuthority::new(name, options)?);
        Self::speaking(StandInProtocol::Authority(authority), name, options.listen)
    }

    /// The messages that it took, the oldest first; the last 100 at most.
    #[must_use]
    pub fn inbox(&self) -> Vec<ReceivedMail> {
        self.inbox.messages()
    }

    fn speaking(speaks: StandInProtocol, name: &str, address: SocketAddr) -> io::Result<Self> {
        let (listener, inbox) = (listen(address)?, Inbox::default());
        let address = listener.local_addr()?;
        let (fault, faults) = watch::channel(Fault::None);
        let (tell, listening) = watch::channel(true);
        let task =
            tokio::spawn(serve(speaks, Arc::from(name), inbox.clone(), address, listener, faults, tell));
        Ok(Self { name: name.to_owned(), address, fault, listening, inbox, task })
    }

    /// How it fails now.
    #[must_use]
    pub fn fault(&self) -> Fault {
        *self.fault.borrow()
    }

    /// Makes it fail, or recover. Returns when its listener is as the fault wants it.
    pub async fn set(&self, fault: Fault) {
        self.fault.send_replace(fault);
        let wanted = fault != Fault::Refuse;
        let _ = self.listening.clone().wait_for(|listening| *listening == wanted).await;
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.task.abort();
    }
}

fn listen(address: SocketAddr) -> io::Result<TcpListener> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    socket.listen(1_024)
}

/// What a stand-in speaks over TCP.
#[derive(Clone, Debug)]
enum StandInProtocol {
    Http,
    Lines,
    Mail,
    Hook,
    Authority(Arc<CertificateAuthority>),
}

async fn serve(
    speaks: StandInProtocol,
    name: Arc<str>,
    inbox: Inbox,
    address: SocketAddr,
    listener: TcpListener,
    mut faults: watch::Receiver<Fault>,
    tell: watch::Sender<bool>,
) {
    let mut listener = Some(listener);
    let mut connections = JoinSet::new();
    loop {
        let refuses = *faults.borrow_and_update() == Fault::Refuse;
        match (&listener, refuses) {
            (Some(_), true) => {
                listener = None;
                connections.shutdown().await;
            }
            (None, false) => listener = listen(address).ok(),
            (Some(_), false) | (None, true) => {}
        }
        tell.send_replace(listener.is_some());
        let Some(open) = &listener else {
            if refuses {
                if faults.changed().await.is_err() {
                    return;
                }
            } else {
                // The port is taken by another process for the moment.
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            continue;
        };
        tokio::select! {
            accepted = open.accept() => if let Ok((stream, _)) = accepted {
                let (name, faults) = (Arc::clone(&name), faults.clone());
                match &speaks {
                    StandInProtocol::Http => connections.spawn(talk(stream, name, faults)),
                    StandInProtocol::Lines => connections.spawn(talk_in_lines(stream, name, faults)),
                    StandInProtocol::Mail => connections.spawn(take_mail(stream, name, inbox.clone(), faults)),
                    StandInProtocol::Hook => connections.spawn(take_posts(stream, inbox.clone(), faults)),
                    StandInProtocol::Authority(authority) => {
                        connections.spawn(Arc::clone(authority).serve(stream, faults))
                    }
                };
            },
            changed = faults.changed() => if changed.is_err() {
                return;
            },
            Some(_) = connections.join_next() => {}
        }
    }
}

async fn talk(stream: TcpStream, name: Arc<str>, faults: watch::Receiver<Fault>) {
    if stream.set_nodelay(true).is_err() {
        return;
    }
    let service = service_fn(move |request| {
        let (name, faults) = (Arc::clone(&name), faults.clone());
        async move { Ok::<_, Infallible>(answer(request, &name, faults).await) }
    });
    // How the connection ends is the client's affair.
    let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
}

/// Takes what is posted to it.
async fn take_posts(stream: TcpStream, inbox: Inbox, faults: watch::Receiver<Fault>) {
    let service = service_fn(move |request| {
        let (inbox, faults) = (inbox.clone(), faults.clone());
        async move { Ok::<_, Infallible>(take_post(request, &inbox, faults).await) }
    });
    // How the connection ends is the client's affair.
    let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
}

/// Answers each line. It has no other words, so every fault but silence and slowness is none.
async fn talk_in_lines(stream: TcpStream, name: Arc<str>, mut faults: watch::Receiver<Fault>) {
    let (read, mut write) = stream.into_split();
    let mut lines = BufReader::new(read).lines();
    while let Ok(Some(line)) = lines.next_line().await {
        pause(&mut faults).await;
        if write.write_all(format!("{name}: {line}\n").as_bytes()).await.is_err() {
            return;
        }
    }
}

/// Holds an answer back for as long as the fault wants.
pub(crate) async fn pause(faults: &mut watch::Receiver<Fault>) {
    let fault = *faults.borrow_and_update();
    match fault {
        Fault::None
        | Fault::Refuse
        | Fault::Error { .. }
        | Fault::WrongBody
        | Fault::Half
        | Fault::Redirect
        | Fault::Flap { .. }
        | Fault::AskToDrain
        | Fault::AskForShare { .. } => {}
        Fault::Hang => {
            // Until it is ordered to recover; clients that waited that long are answered then.
            let _ = faults.wait_for(|fault| *fault != Fault::Hang).await;
        }
        Fault::Slow { delay_ms } => tokio::time::sleep(Duration::from_millis(delay_ms)).await,
    }
}

async fn answer(
    request: Request<Incoming>,
    name: &str,
    mut faults: watch::Receiver<Fault>,
) -> Response<Full<Bytes>> {
    let path = request.uri().path().to_owned();
    let method = request.method().to_string();
    // The body is taken before the answer, as a real server would.
    let sent = request.into_body().collect().await.map_or(0, |body| body.to_bytes().len());
    let fault = *faults.borrow_and_update();
    pause(&mut faults).await;
    let mut more = None;
    match fault {
        Fault::None | Fault::Refuse | Fault::Hang | Fault::Slow { .. } => {}
        Fault::Half => {
            // More is promised than comes.
            let mut response = reply(name, StatusCode::OK, "Half a page".into());
            response.headers_mut().insert(CONTENT_LENGTH, HeaderValue::from_static("22"));
            return response;
        }
        Fault::Redirect => {
            let mut response = reply(name, StatusCode::FOUND, Bytes::new());
            response.headers_mut().insert(LOCATION, HeaderValue::from_static("http://192.0.2.99/moved"));
            return response;
        }
        Fault::Flap { period_ms } if turn(period_ms) => {
            return reply(name, StatusCode::SERVICE_UNAVAILABLE, format!("{name} flaps\n").into());
        }
        Fault::Flap { .. } => {}
        Fault::AskToDrain => more = Some("drain".to_owned()),
        Fault::AskForShare { percent } => more = Some(format!("share={percent}")),
        Fault::Error { status } => {
            let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
            return reply(name, status, format!("{name} fails with {status}\n").into());
        }
        Fault::WrongBody => {
            return reply(name, StatusCode::OK, "Another server's page\n".into());
        }
    }
    let body = match path.strip_prefix("/bytes/").and_then(|size| size.parse::<usize>().ok()) {
        Some(size) => vec![b'.'; size.min(MOST_BYTES)].into(),
        None if path == "/health" => "well\n".into(),
        None => format!("{name} answers {method} {path} ({sent} bytes came with it)\n").into(),
    };
    let mut response = reply(name, StatusCode::OK, body);
    if let Some(wish) = more.and_then(|wish| wish.parse().ok()) {
        response.headers_mut().insert("merismos-feedback", wish);
    }
    response
}

/// Whether it is the turn of failing.
fn turn(period_ms: u64) -> bool {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_millis();
    now / u128::from(period_ms.max(1)) % 2 == 1
}

fn reply(name: &str, status: StatusCode, body: Bytes) -> Response<Full<Bytes>> {
    let response =
        Response::builder().status(status).header("content-type", "text/plain").header("stand-in", name);
    response.body(Full::new(body)).unwrap_or_default()
}
