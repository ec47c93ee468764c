//! `http`: a request, and its answer's status and body.

use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use http_body_util::{BodyExt, Empty, Limited};
use hyper::body::Incoming;
use hyper::client::conn::http1::SendRequest;
use hyper::header::{CONNECTION, HOST, LOCATION, USER_AGENT};
use hyper::{Request, Response, Uri};
use hyper_util::rt::{TokioExecutor, TokioIo};
use merismos_connector::trust;
use merismos_core::config::document::{HttpProbe, HttpVersion};
use merismos_core::health::{ProbeStep, ServerFeedback, feedback};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::task::JoinHandle;

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace, excerpt};
use crate::tls;

struct ProbeResponse {
    status: u16,
    /// What the server asks for, as it says it.
    feedback: Option<String>,
    location: Option<String>,
    body: Vec<u8>,
}

/// A connection that waits for the next probe of the same server (HTTP/1.1).
#[derive(Clone, Debug, Default)]
pub(super) struct KeptConnection(Arc<Mutex<Option<OpenConnection>>>);

/// A connection, and what drives it.
type OpenConnection = (SendRequest<Empty<Bytes>>, Driver);

/// What drives a kept connection; it ends with it.
#[derive(Debug)]
struct Driver(JoinHandle<()>);

impl Drop for Driver {
    fn drop(&mut self) {
        self.0.abort();
    }
}

impl KeptConnection {
    fn take(&self) -> Option<OpenConnection> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner).take();
        kept.filter(|(sender, _)| !sender.is_closed())
    }

    fn keep(&self, open: OpenConnection) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(open);
    }
}

pub(super) async fn ask(asking: &ProbeRun<'_>, asked: &HttpProbe, trace: &mut Trace) -> ProbeOutcome {
    let mut path = asked.path.clone();
    for _ in 0..=asked.redirects {
        let answer = once(asking, asked, &path, trace).await?;
        trace.status = Some(answer.status);
        if let Some(says) = answer.feedback.as_ref().filter(|_| asked.server_feedback) {
            match ServerFeedback::read(says) {
                Ok(feedback) => trace.feedback = feedback,
                Err(wrong) => trace.done(ProbeStep::Answer, wrong.to_string()),
            }
        }
        match redirected(asking, asked, &answer) {
            Some(next) => path = next?,
            None => return judge(asked, &answer),
        }
    }
    Err(ProbeFailure::at(
        ProbeStep::Status,
        format!("more than {} redirections, the last to {path}", asked.redirects),
    ))
}

/// The target of a redirect on the same server, when that is followed.
fn redirected(
    asking: &ProbeRun<'_>,
    asked: &HttpProbe,
    answer: &ProbeResponse,
) -> Option<Result<String, ProbeFailure>> {
    let location =
        answer.location.as_ref().filter(|_| asked.redirects > 0 && (300..=399).contains(&answer.status))?;
    let elsewhere = || {
        ProbeFailure::at(
            ProbeStep::Status,
            format!("status {}, redirected elsewhere: {location}", answer.status),
        )
    };
    let Ok(uri) = location.parse::<Uri>() else { return Some(Err(elsewhere())) };
    let own = [asked.host.clone(), Some(asking.address.to_string())];
    let same = uri
        .authority()
        .is_none_or(|to| own.iter().flatten().any(|own| own.eq_ignore_ascii_case(to.as_str())));
    let target = uri.path_and_query().map_or("/", |target| target.as_str());
    Some(if same && target.starts_with('/') { Ok(target.to_owned()) } else { Err(elsewhere()) })
}

fn judge(asked: &HttpProbe, answer: &ProbeResponse) -> ProbeOutcome {
    let status = answer.status;
    if !asked.accept.iter().any(|range| range.holds(status)) {
        let wanted: Vec<_> = asked.accept.iter().map(ToString::to_string).collect();
        return Err(ProbeFailure::at(
            ProbeStep::Status,
            format!("status {status}; expected {}", wanted.join(" or ")),
        ));
    }
    if !asked.body.is_something() {
        return Ok(format!("status {status}"));
    }
    match asked.body.judge(&answer.body) {
        Ok(()) => Ok(format!("status {status}, the body is as expected")),
        Err(wrong) => Err(ProbeFailure::at(
            ProbeStep::Body,
            format!("status {status}, but {wrong}; it is {}", excerpt(&answer.body)),
        )),
    }
}

async fn once(
    asking: &ProbeRun<'_>,
    asked: &HttpProbe,
    path: &str,
    trace: &mut Trace,
) -> Result<ProbeResponse, ProbeFailure> {
    if let Some((sender, driver)) = asking.kept.take() {
        // The server may have closed it just now, which says nothing of it: then it is asked on a new one.
        if let Some(answer) = on_kept(asking, asked, path, (sender, driver), trace).await {
            return answer;
        }
    }
    let protocols: &[&[u8]] = match asked.http_version {
        HttpVersion::One => &[b"http/1.1"],
        HttpVersion::Two => &[b"h2"],
    };
    let stream = tls::connect(asking, asked.tls.as_ref(), asked.host.as_deref(), protocols, trace).await?;
    exchange(asking, asked, path, stream, trace).await
}

async fn exchange(
    asking: &ProbeRun<'_>,
    asked: &HttpProbe,
    path: &str,
    stream: impl AsyncRead + AsyncWrite + Send + Unpin + 'static,
    trace: &mut Trace,
) -> Result<ProbeResponse, ProbeFailure> {
    trace.begin(ProbeStep::Answer, "connected, but no answer");
    let nonsense = |error: hyper::Error| {
        ProbeFailure::at(
            ProbeStep::Answer,
            match trust::refusal(&error) {
                Some(why) => format!("connected, but {why}"),
                None => format!("connected, but the answer makes no sense: {}", innermost(&error)),
            },
        )
    };
    let request = request(asking, asked, path);
    let stream = TokioIo::new(stream);
    // The connection is driven here, and ends with this future: nothing is left behind when time is up.
    match asked.http_version {
        HttpVersion::One if asked.keep_alive => {
            let (sender, connection) =
                hyper::client::conn::http1::handshake(stream).await.map_err(nonsense)?;
            let driver = Driver(tokio::spawn(async move { drop(connection.await) }));
            let answer = on_one(asking, asked, request, (sender, driver), trace).await;
            answer.unwrap_or_else(|error| Err(nonsense(error)))
        }
        HttpVersion::One => {
            let (mut sender, connection) =
                hyper::client::conn::http1::handshake(stream).await.map_err(nonsense)?;
            beside(connection, async {
                read(asked, sender.send_request(request).await.map_err(nonsense)?, trace).await
            })
            .await
        }
        HttpVersion::Two => {
            let executor = TokioExecutor::new();
            let (mut sender, connection) =
                hyper::client::conn::http2::handshake(executor, stream).await.map_err(nonsense)?;
            beside(connection, async {
                read(asked, sender.send_request(request).await.map_err(nonsense)?, trace).await
            })
            .await
        }
    }
}

/// Asks on a connection that was kept; `None` when it did not last until the answer began.
async fn on_kept(
    asking: &ProbeRun<'_>,
    asked: &HttpProbe,
    path: &str,
    connection: OpenConnection,
    trace: &mut Trace,
) -> Option<Result<ProbeResponse, ProbeFailure>> {
    trace.done(ProbeStep::Connect, "connected since an earlier probe");
    trace.begin(ProbeStep::Answer, "connected since an earlier probe, but no answer");
    on_one(asking, asked, request(asking, asked, path), connection, trace).await.ok()
}

/// Asks on a connection, and keeps it when the answer leaves it so.
async fn on_one(
    asking: &ProbeRun<'_>,
    asked: &HttpProbe,
    request: Request<Empty<Bytes>>,
    (mut sender, driver): OpenConnection,
    trace: &mut Trace,
) -> hyper::Result<Result<ProbeResponse, ProbeFailure>> {
    let response = sender.send_request(request).await?;
    let answer = read(asked, response, trace).await;
    if answer.is_ok() && sender.ready().await.is_ok() {
        asking.kept.keep((sender, driver));
    }
    Ok(answer)
}

/// Drives a connection while something is done on it.
async fn beside<T>(
    connection: impl Future<Output = hyper::Result<()>>,
    work: impl Future<Output = Result<T, ProbeFailure>>,
) -> Result<T, ProbeFailure> {
    tokio::pin!(connection, work);
    tokio::select! {
        biased;
        done = &mut work => done,
        // What it has to say of the connection's end, it says by itself.
        _ = &mut connection => work.await,
    }
}

fn request(asking: &ProbeRun<'_>, asked: &HttpProbe, path: &str) -> Request<Empty<Bytes>> {
    let host = asked.host.clone().unwrap_or_else(|| asking.address.to_string());
    let scheme = if asking.is_tls(asked.tls.as_ref()) { "https" } else { "http" };
    let mut request = Request::builder().method(asked.method.as_str());
    request = match asked.http_version {
        HttpVersion::One if asked.keep_alive => request.uri(path).header(HOST, &host),
        HttpVersion::One => request.uri(path).header(HOST, &host).header(CONNECTION, "close"),
        HttpVersion::Two => request.uri(format!("{scheme}://{host}{path}")),
    };
    if !asked.headers.keys().any(|name| name.eq_ignore_ascii_case(USER_AGENT.as_str())) {
        request = request.header(USER_AGENT, "merismos-check");
    }
    for (name, value) in &asked.headers {
        request = request.header(name, value);
    }
    request.body(Empty::new()).expect("what was checked makes a request")
}

async fn read(
    asked: &HttpProbe,
    response: Response<Incoming>,
    trace: &mut Trace,
) -> Result<ProbeResponse, ProbeFailure> {
    let status = response.status().as_u16();
    let location = response.headers().get(LOCATION).and_then(|value| value.to_str().ok()).map(str::to_owned);
    let feedback =
        response.headers().get(feedback::FIELD).and_then(|value| value.to_str().ok()).map(str::to_owned);
    trace.done(ProbeStep::Answer, format!("status {status}"));
    let mut body = Vec::new();
    // A connection is only kept when all of the answer was read.
    if asked.body.is_something() || asked.keep_alive {
        trace.begin(ProbeStep::Body, format!("status {status}, but the body did not end"));
        let most = asked.body.most();
        let collected = Limited::new(response.into_body(), most).collect().await;
        let collected = collected.map_err(|error| {
            ProbeFailure::at(
                ProbeStep::Body,
                format!("status {status}, but the body is broken or longer than {most} bytes: {error}"),
            )
        })?;
        body = collected.to_bytes().to_vec();
        trace.done(ProbeStep::Body, format!("{} bytes", body.len()));
    }
    Ok(ProbeResponse { status, feedback, location, body })
}

/// The error below all others, which says what happened.
fn innermost(error: &dyn std::error::Error) -> String {
    match error.source() {
        Some(source) => innermost(source),
        None => error.to_string(),
    }
}
