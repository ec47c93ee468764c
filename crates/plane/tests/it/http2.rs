//! HTTP/2: clients and servers that speak it, in every combination with those that do not.

use std::future::Future;
use std::io::Write;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use bytes::Bytes;
use h2::client::SendRequest;
use h2::server::SendResponse;
use h2::{Reason, RecvStream};
use http::{HeaderMap, HeaderValue, Method, Request, Response};
use merismos_core::duty::Duty;
use rstest::rstest;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Notify;
use tokio::time::timeout;

use crate::http2_frames::{Frames, Rest};
use crate::rig::{PATIENCE, Rig, Server, until};

/// Runs a client's side of a test.
pub(crate) fn run(test: impl Future<Output = ()>) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { timeout(PATIENCE, test).await.expect("the test ended in time") });
}

/// Waits until something is so, without holding up the client's own work.
async fn by_and_by(mut is_so: impl FnMut() -> bool) {
    while !is_so() {
        tokio::task::yield_now().await;
    }
}

/// A client's connection.
pub(crate) async fn connect(address: SocketAddr) -> SendRequest<Bytes> {
    let stream = TcpStream::connect(address).await.unwrap();
    let (requests, connection) = h2::client::handshake(stream).await.unwrap();
    tokio::spawn(connection);
    requests
}

pub(crate) fn get(path: &str) -> Request<()> {
    Request::get(format!("http://harbour.skerry.example{path}")).body(()).unwrap()
}

/// A whole answer.
#[derive(Debug)]
pub(crate) struct Answer {
    pub(crate) status: u16,
    fields: HeaderMap,
    body: Vec<u8>,
    trailers: Option<HeaderMap>,
}

impl Answer {
    pub(crate) fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
}

async fn whole(response: Response<RecvStream>) -> Result<Answer, h2::Error> {
    let (head, mut stream) = response.into_parts();
    let mut body = Vec::new();
    while let Some(data) = stream.data().await {
        let data = data?;
        stream.flow_control().release_capacity(data.len())?;
        body.extend_from_slice(&data);
    }
    let trailers = stream.trailers().await?;
    Ok(Answer { status: head.status.as_u16(), fields: head.headers, body, trailers })
}

pub(crate) async fn ask(requests: &SendRequest<Bytes>, request: Request<()>) -> Result<Answer, h2::Error> {
    let mut requests = requests.clone().ready().await?;
    let (answer, _) = requests.send_request(request, true)?;
    whole(answer.await?).await
}

/// Asks with a body.
async fn send(
    requests: &SendRequest<Bytes>,
    request: Request<()>,
    body: &'static [u8],
) -> Result<Answer, h2::Error> {
    let mut requests = requests.clone().ready().await?;
    let (answer, mut stream) = requests.send_request(request, false)?;
    stream.send_data(Bytes::from_static(body), true)?;
    whole(answer.await?).await
}

type Handling = Pin<Box<dyn Future<Output = ()> + Send>>;

/// A server that speaks HTTP/2 alone.
struct StreamServer {
    address: SocketAddr,
    connections: Arc<AtomicUsize>,
    /// Connections that have ended.
    ended: Arc<AtomicUsize>,
}

impl StreamServer {
    fn start<F>(
        handle: impl Fn(Request<RecvStream>, SendResponse<Bytes>) -> F + Send + Sync + 'static,
    ) -> Self
    where
        F: Future<Output = ()> + Send + 'static,
    {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        listener.set_nonblocking(true).unwrap();
        let address = listener.local_addr().unwrap();
        let connections = Arc::new(AtomicUsize::new(0));
        let counter = Arc::clone(&connections);
        let ended = Arc::<AtomicUsize>::default();
        let count_ended = Arc::clone(&ended);
        let handle = Arc::new(move |request, respond| -> Handling { Box::pin(handle(request, respond)) });
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let listener = TcpListener::from_std(listener).unwrap();
                while let Ok((stream, _)) = listener.accept().await {
                    counter.fetch_add(1, Ordering::SeqCst);
                    let (handle, ended) = (Arc::clone(&handle), Arc::clone(&count_ended));
                    tokio::spawn(async move {
                        let mut connection = h2::server::handshake(stream).await.unwrap();
                        while let Some(Ok((request, respond))) = connection.accept().await {
                            tokio::spawn(handle(request, respond));
                        }
                        ended.fetch_add(1, Ordering::SeqCst);
                    });
                }
            });
        });
        Self { address, connections, ended }
    }

    /// A server that answers with its name, the head as it came and the body's length.
    fn named(name: &'static str) -> Self {
        Self::start(move |request, mut respond| async move {
            let (head, mut stream) = request.into_parts();
            let mut length = 0;
            while let Some(Ok(data)) = stream.data().await {
                let _ = stream.flow_control().release_capacity(data.len());
                length += data.len();
            }
            let text = format!("{name}\n{} {}\n{:?}\n{length}", head.method, head.uri, head.headers);
            let mut body = respond.send_response(Response::new(()), false).unwrap();
            body.send_data(text.into(), true).unwrap();
        })
    }

    /// A server that sends each piece of a body back as it comes, and then the trailers.
    fn echoing() -> Self {
        Self::start(|request, mut respond| async move {
            let mut stream = request.into_body();
            let mut body = respond.send_response(Response::new(()), false).unwrap();
            while let Some(Ok(data)) = stream.data().await {
                let _ = stream.flow_control().release_capacity(data.len());
                body.send_data(data, false).unwrap();
            }
            let trailers = stream.trailers().await.unwrap().unwrap_or_default();
            body.send_trailers(trailers).unwrap();
        })
    }

    fn connections(&self) -> usize {
        self.connections.load(Ordering::SeqCst)
    }
}

const TWO: &str = "http_version = \"2\"";

#[test]
fn the_requests_of_one_connection_are_dealt_out_one_by_one() {
    let servers = [Server::named("gull"), Server::named("tern")];
    let rig = Rig::new(&servers.each_ref().map(|server| server.address), "", "");
    run(async {
        let requests = connect(rig.address).await;
        let mut asked = Vec::new();
        for number in 0..40 {
            let requests = requests.clone();
            asked
                .push(tokio::spawn(async move { ask(&requests, get(&format!("/{number}"))).await.unwrap() }));
        }
        let mut gulls = 0;
        for answer in asked {
            let answer = answer.await.unwrap();
            assert_eq!(answer.status, 200);
            gulls += usize::from(answer.text().starts_with("gull\n"));
        }
        assert_eq!(gulls, 20);
    });
    assert_eq!((rig.counts(0).taken, rig.counts(1).taken), (20, 20));
    assert_eq!(rig.frontend_counts().requests, 40);
}

#[test]
fn where_connections_are_dealt_out_all_requests_of_one_go_to_one_server() {
    let servers = [Server::named("gull"), Server::named("tern")];
    let rig = Rig::new(&servers.each_ref().map(|server| server.address), "", "balance_per = \"connection\"");
    run(async {
        let requests = connect(rig.address).await;
        let asked: Vec<_> = (0..10)
            .map(|_| {
                let requests = requests.clone();
                tokio::spawn(async move { ask(&requests, get("/")).await.unwrap() })
            })
            .collect();
        for answer in asked {
            assert_eq!(answer.await.unwrap().status, 200);
        }
    });
    let (gull, tern) = (rig.counts(0).taken, rig.counts(1).taken);
    assert!((gull, tern) == (10, 0) || (gull, tern) == (0, 10), "{gull} and {tern}");
}

#[test]
fn a_head_reaches_a_server_of_http_1_as_it_is_meant() {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    run(async {
        let requests = connect(rig.address).await;
        let request = Request::get("http://harbour.skerry.example/ferry?to=north")
            .header("cookie", "a=1")
            .header("cookie", "b=2")
            .header("te", "trailers")
            .header("x-forwarded-for", "203.0.113.9")
            .header("accept", "text/plain")
            .body(())
            .unwrap();
        let text = ask(&requests, request).await.unwrap().text();
        assert!(
            text.starts_with("gull\nGET /ferry?to=north HTTP/1.1\r\nHost: harbour.skerry.example\r\n"),
            "{text}"
        );
        for field in
            ["accept: text/plain", "Cookie: a=1; b=2", "X-Forwarded-For: 127.0.0.1", "Via: 2.0 merismos"]
        {
            assert!(text.contains(&format!("{field}\r\n")), "{field} in {text}");
        }
        assert!(!text.to_lowercase().contains("\nte:") && !text.contains("203.0.113.9"), "{text}");
    });
}

#[rstest]
#[case::said(Some("11"), "content-length: 11")]
#[case::unsaid(None, "Transfer-Encoding: chunked")]
fn a_body_reaches_a_server_of_http_1(#[case] length: Option<&str>, #[case] framing: &str) {
    let server = Server::start(|mut conn, _| {
        use std::io::{BufRead, Read};
        let mut head = String::new();
        while !head.ends_with("\r\n\r\n") {
            conn.stream.read_line(&mut head).unwrap();
        }
        let mut body = String::new();
        if head.contains("chunked") {
            while !body.ends_with("0\r\n\r\n") {
                conn.stream.read_line(&mut body).unwrap();
            }
        } else {
            let mut bytes = [0; 11];
            conn.stream.read_exact(&mut bytes).unwrap();
            body = String::from_utf8_lossy(&bytes).into_owned();
        }
        conn.answer(&format!("{head}{body}"));
    });
    let rig = Rig::new(&[server.address], "", "");
    run(async {
        let requests = connect(rig.address).await;
        let mut request = Request::post("http://harbour.skerry.example/book").body(()).unwrap();
        if let Some(length) = length {
            request.headers_mut().insert("content-length", HeaderValue::from_str(length).unwrap());
        }
        let text = send(&requests, request, b"hello world").await.unwrap().text();
        assert!(text.contains(&format!("{framing}\r\n")), "{text}");
        let body =
            if length.is_some() { "\r\n\r\nhello world" } else { "\r\n\r\nb\r\nhello world\r\n0\r\n\r\n" };
        assert!(text.ends_with(body), "{text}");
    });
}

#[test]
fn chunks_and_trailers_of_a_server_of_http_1_become_data_and_trailers() {
    let server = Server::saying(
        b"HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\nHTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\
          Connection: close\r\nX-Berth: 7\r\n\r\n5\r\nhello\r\n6\r\n world\r\n0\r\nX-Sum: 11\r\nContent-Length: 3\r\n\r\n",
    );
    let rig = Rig::new(&[server.address], "", "");
    run(async {
        let requests = connect(rig.address).await;
        let answer = ask(&requests, get("/")).await.unwrap();
        assert_eq!((answer.status, answer.text().as_str()), (200, "hello world"));
        assert_eq!(answer.fields["x-berth"], "7");
        assert!(
            answer.fields.get("connection").is_none() && answer.fields.get("transfer-encoding").is_none()
        );
        let trailers = answer.trailers.unwrap();
        assert_eq!((trailers.len(), &trailers["x-sum"]), (1, &HeaderValue::from_static("11")));
    });
}

#[rstest]
#[case::to_head("HTTP/1.1 200 OK\r\nContent-Length: 500\r\n\r\n", Method::HEAD, 200, 0)]
#[case::no_content("HTTP/1.1 204 No Content\r\n\r\n", Method::GET, 204, 0)]
#[case::not_modified("HTTP/1.1 304 Not Modified\r\nContent-Length: 9\r\n\r\n", Method::GET, 304, 0)]
#[case::empty("HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", Method::GET, 200, 0)]
#[case::until_close("HTTP/1.0 200 OK\r\n\r\nuntil the end", Method::GET, 200, 13)]
fn every_kind_of_answer_ends(
    #[case] says: &'static str,
    #[case] method: Method,
    #[case] status: u16,
    #[case] length: usize,
) {
    let rig = Rig::new(&[Server::saying(says.as_bytes()).address], "", "");
    run(async {
        let requests = connect(rig.address).await;
        let request =
            Request::builder().method(method).uri("http://harbour.skerry.example/").body(()).unwrap();
        let answer = ask(&requests, request).await.unwrap();
        assert_eq!((answer.status, answer.body.len()), (status, length));
    });
}

#[rstest]
#[case::of_grpc("application/grpc", Some("14"))]
#[case::of_grpc_with_its_coding("application/grpc+proto", Some("14"))]
#[case::of_another_kind("application/grpc-web", None)]
fn a_response_that_breaks_off_ends_as_its_kind_tells_it(#[case] kind: &str, #[case] status: Option<&str>) {
    let says = format!(
        "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n"
    );
    let rig = Rig::new(&[Server::saying(says.leak().as_bytes()).address], "", "");
    run(async {
        let mut requests = connect(rig.address).await;
        let (answer, _) = requests.send_request(get("/talk"), true).unwrap();
        // A reset may overtake what came before it.
        let broken = match answer.await.map(http::Response::into_body) {
            Err(broken) => broken,
            Ok(mut body) => loop {
                match body.data().await {
                    Some(Ok(data)) => assert_eq!(data, "hello"),
                    Some(Err(broken)) => break broken,
                    None => {
                        let trailers = body.trailers().await.unwrap().unwrap();
                        assert_eq!(Some(trailers["grpc-status"].to_str().unwrap()), status);
                        return;
                    }
                }
            },
        };
        assert_eq!((broken.reason(), status), (Some(h2::Reason::INTERNAL_ERROR), None));
    });
}

#[test]
fn a_server_of_http_2_gets_the_requests_of_both_kinds_of_clients_over_few_connections() {
    let server = StreamServer::named("skua");
    let rig = Rig::new(&[server.address], TWO, "");
    let answer = rig.client().get("/one?a=b");
    assert_eq!(answer.status, 200);
    assert!(
        answer.text().starts_with("skua\nGET http://harbour.skerry.example/one?a=b\n"),
        "{}",
        answer.text()
    );
    assert!(answer.text().contains(r#""via": "1.1 merismos""#), "{}", answer.text());
    run(async {
        let requests = connect(rig.address).await;
        let asked: Vec<_> = (0..80)
            .map(|_| {
                let requests = requests.clone();
                tokio::spawn(async move { ask(&requests, get("/two")).await.unwrap() })
            })
            .collect();
        for answer in asked {
            let answer = answer.await.unwrap();
            assert!(answer.text().contains(r#""via": "2.0 merismos""#), "{}", answer.text());
            assert!(answer.text().contains(r#""te": "trailers""#), "{}", answer.text());
        }
    });
    assert!(server.connections() <= rig.plane.workers(), "{} connections", server.connections());
    assert_eq!(rig.counts(0).taken, 81);
}

#[rstest]
#[case::counted("POST /book HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nhello")]
#[case::chunked(
    "POST /book HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nhe\r\n3\r\nllo\r\n0\r\n\r\n"
)]
fn the_body_of_a_client_of_http_1_reaches_a_server_of_http_2(#[case] request: &str) {
    let rig = Rig::new(&[StreamServer::named("skua").address], TWO, "");
    let mut client = rig.client();
    // Whole at once, and then in two parts, the second of which comes when the first is on its way.
    let answer = client.send(request).answer().unwrap();
    assert!(answer.text().ends_with("\n5"), "{}", answer.text());
    let (head, body) = request.split_at(request.len() - 3);
    client.send(head);
    until("it is on its way", || rig.counts(0).in_flight == 1);
    assert!(client.send(body).answer().unwrap().text().ends_with("\n5"));
}

#[test]
fn both_directions_of_a_stream_flow_at_once_and_end_with_trailers() {
    let rig = Rig::new(&[StreamServer::echoing().address], TWO, "");
    run(async {
        let mut requests = connect(rig.address).await;
        let request = Request::post("http://harbour.skerry.example/talk")
            .header("content-type", "application/grpc")
            .body(())
            .unwrap();
        let (answer, mut asking) = requests.send_request(request, false).unwrap();
        asking.send_data(Bytes::from_static(b"first"), false).unwrap();
        let response = answer.await.unwrap();
        let mut answering = response.into_body();
        for piece in ["first", "second", "third"] {
            if piece != "first" {
                asking.send_data(Bytes::from(piece), false).unwrap();
            }
            let got = answering.data().await.unwrap().unwrap();
            assert_eq!(got, piece, "each comes back before the next is sent");
            answering.flow_control().release_capacity(got.len()).unwrap();
        }
        let mut trailers = HeaderMap::new();
        trailers.insert("grpc-status", HeaderValue::from_static("0"));
        asking.send_trailers(trailers).unwrap();
        assert!(answering.data().await.is_none());
        let trailers = answering.trailers().await.unwrap().unwrap();
        assert_eq!(trailers["grpc-status"], "0");
    });
    until("it is over", || rig.counts(0).in_flight == 0);
    assert_eq!((rig.counts(0).taken, rig.counts(0).failed), (1, 0));
}

#[test]
fn a_client_that_gives_up_frees_the_server_and_counts_against_nobody() {
    let freed = Arc::new(Notify::new());
    let cancelled = Arc::clone(&freed);
    let server = StreamServer::start(move |_, mut respond| {
        let cancelled = Arc::clone(&cancelled);
        async move {
            // It never answers: it waits until the stream is cancelled.
            let _ = std::future::poll_fn(|context| respond.poll_reset(context)).await;
            cancelled.notify_one();
        }
    });
    let rig = Rig::new(&[server.address], TWO, "");
    run(async {
        let mut requests = connect(rig.address).await;
        let (_answer, mut stream) = requests.send_request(get("/slow"), true).unwrap();
        by_and_by(|| rig.counts(0).in_flight == 1).await;
        stream.send_reset(Reason::CANCEL);
        freed.notified().await;
    });
    until("nothing is in flight", || rig.counts(0).in_flight == 0);
    assert_eq!(rig.counts(0).failed, 0);
}

#[test]
fn what_a_server_refused_untouched_goes_to_another_whatever_it_asks_for() {
    let refusing = StreamServer::start(|_, mut respond| async move {
        respond.send_reset(Reason::REFUSED_STREAM);
    });
    let rig = Rig::new(&[refusing.address, StreamServer::named("skua").address], TWO, "");
    run(async {
        let requests = connect(rig.address).await;
        for _ in 0..6 {
            let request = Request::post("http://harbour.skerry.example/book").body(()).unwrap();
            let answer = ask(&requests, request).await.unwrap();
            assert!(answer.text().starts_with("skua\nPOST"), "{answer:?}");
        }
    });
    assert_eq!(rig.counts(1).taken, 6);
    let counts = rig.counts(0);
    assert!(counts.retried > 0 && counts.failed == 0, "it declined, which is no failure: {counts:?}");
}

#[test]
fn a_connection_that_a_server_closes_between_requests_is_replaced() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    // Each connection carries one request and is then closed.
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        listener.set_nonblocking(true).unwrap();
        runtime.block_on(async {
            let listener = TcpListener::from_std(listener).unwrap();
            while let Ok((stream, _)) = listener.accept().await {
                let mut connection = h2::server::handshake(stream).await.unwrap();
                if let Some(Ok((_, mut respond))) = connection.accept().await {
                    respond.send_response(Response::new(()), true).unwrap();
                    connection.graceful_shutdown();
                    let _ = std::future::poll_fn(|context| connection.poll_closed(context)).await;
                }
            }
        });
    });
    let rig = Rig::new(&[address], TWO, "");
    let mut client = rig.client();
    for _ in 0..10 {
        let answer =
            client.send("POST /book HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nab").answer().unwrap();
        assert_eq!(answer.status, 200);
    }
    assert_eq!(rig.counts(0).failed, 0);
}

#[test]
fn an_answer_that_breaks_off_is_a_reset_and_the_other_streams_go_on() {
    let broken = Server::saying(b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nonly this");
    let rig = Rig::new(&[broken.address], "", "");
    run(async {
        let requests = connect(rig.address).await;
        for _ in 0..3 {
            let error = ask(&requests, get("/")).await.unwrap_err();
            assert_eq!(error.reason(), Some(Reason::INTERNAL_ERROR));
        }
    });
    assert_eq!(rig.frontend_counts().unanswered, 3);
}

#[test]
fn withdrawing_a_server_ends_its_streams_and_no_others() {
    let waiting = || {
        Server::start(|mut conn, _| {
            while conn.request().is_some() {
                conn.say("HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nab");
                conn.wait_for_end();
            }
        })
    };
    let mut rig = Rig::new(&[waiting().address, waiting().address], "", "");
    run(async {
        let requests = connect(rig.address).await;
        let mut first = Vec::new();
        for _ in 0..2 {
            let mut requests = requests.clone().ready().await.unwrap();
            let (answer, _) = requests.send_request(get("/"), true).unwrap();
            let mut body = answer.await.unwrap().into_body();
            assert_eq!(body.data().await.unwrap().unwrap(), "ab");
            first.push(body);
        }
        rig.duties.insert("s0".to_owned(), Duty::Withdrawn);
        rig.publish();
        rig.plane.cut(rig.plane.snapshot().pools[0].servers[0].cell.id);
        by_and_by(|| rig.counts(0).in_flight == 0).await;
        assert_eq!(rig.counts(1).in_flight, 1);
    });
}

#[test]
fn a_client_that_takes_nothing_holds_up_no_other_stream() {
    let long = Server::start(|mut conn, _| {
        while let Some((head, _)) = conn.request() {
            let length = if head.starts_with("GET /long") { 8 << 20 } else { 3 };
            conn.say(format!(
                "HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: {length}\r\n\r\n"
            ));
            conn.say(vec![b'x'; length]);
        }
    });
    let rig = Rig::new(&[long.address], "", "");
    run(async {
        // The window of the whole connection has room for more than the stalled stream may have.
        let mut builder = h2::client::Builder::new();
        builder.initial_connection_window_size(1 << 20);
        let stream = TcpStream::connect(rig.address).await.unwrap();
        let (requests, connection) = builder.handshake::<_, Bytes>(stream).await.unwrap();
        tokio::spawn(connection);
        let mut own = requests.clone().ready().await.unwrap();
        let (answer, _) = own.send_request(get("/long"), true).unwrap();
        let stalled = answer.await.unwrap();
        // Nothing of it is read.
        for _ in 0..5 {
            assert_eq!(ask(&requests, get("/short")).await.unwrap().body.len(), 3);
        }
        drop(stalled);
    });
}

#[test]
fn a_frontend_that_goes_lets_streams_end_and_takes_no_new_ones() {
    let (go_on, gate) = std::sync::mpsc::channel::<()>();
    let gate = std::sync::Mutex::new(gate);
    let server = Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            let _ = gate.lock().unwrap().recv();
            conn.answer("done");
        }
    });
    let mut rig = Rig::new(&[server.address], "", "");
    let mut frames = Frames::to(&rig).settings();
    let (stream, request) = frames.get();
    frames.stream.write_all(&request).unwrap();
    until("the request is at the server", || rig.counts(0).in_flight == 1);
    let moved = rig.text().replace(&rig.address.to_string(), &merismos_lab::free::free_address().to_string());
    let old = rig.address;
    rig.publish_text(&moved);
    until("the old address takes no client", || std::net::TcpStream::connect(old).is_err());
    go_on.send(()).unwrap();
    assert_eq!(frames.rest(), Rest { goaway: Some(0), whole: [stream].into() });
}

#[rstest]
#[case::other_host(Request::get("http://harbour.skerry.example/").header("host", "elsewhere.example"), 400)]
#[case::connect(Request::connect("harbour.skerry.example:80"), 501)]
#[case::large(Request::get("http://harbour.skerry.example/").header("x-large", "x".repeat(20 << 10)), 431)]
#[case::many(
    (0..120).fold(Request::get("http://harbour.skerry.example/"), |request, n| request.header(format!("x-{n}"), "1")), 431
)]
fn what_is_refused_over_http_2(#[case] request: http::request::Builder, #[case] status: u16) {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    run(async {
        let requests = connect(rig.address).await;
        let answer = ask(&requests, request.body(()).unwrap()).await.unwrap();
        assert_eq!(answer.status, status, "{}", answer.text());
        // The connection is as good as before.
        assert_eq!(ask(&requests, get("/")).await.unwrap().status, 200);
    });
    assert_eq!(rig.counts(0).taken, 1);
}

#[test]
fn what_follows_the_opening_and_is_no_frame_ends_the_connection() {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    let mut frames = Frames::to(&rig);
    frames.stream.write_all(&[0xff; 64]).unwrap();
    assert_eq!(frames.rest(), Rest::default());
    // What is no frame later on is named in a GOAWAY.
    let mut frames = Frames::to(&rig).settings();
    frames.stream.write_all(&[0xff; 64]).unwrap();
    assert_eq!(frames.goaway(), Some(6), "FRAME_SIZE_ERROR");
    assert_eq!(rig.client().get("/").status, 200);
}

#[test]
fn the_opening_of_http_2_after_a_request_of_http_1_is_nonsense() {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    let mut client = rig.client();
    assert_eq!(client.get("/").status, 200);
    assert_eq!(client.send("PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n").answer().unwrap().status, 505);
}

#[test]
fn a_client_that_rests_too_long_is_told_to_go() {
    let rig = Rig::new(&[Server::named("gull").address], "", "idle_timeout = \"200ms\"");
    let mut frames = Frames::to(&rig).settings();
    let (stream, request) = frames.get();
    frames.stream.write_all(&request).unwrap();
    let rest = frames.rest();
    assert_eq!(rest, Rest { goaway: Some(0), whole: [stream].into() }, "a goodbye without reproach");
    until("it is gone", || rig.frontend_counts().connections == 0);
}

#[test]
fn a_server_that_does_not_answer_over_http_2_is_late_and_its_connection_is_not_used_again() {
    let silent = StreamServer::start(|request, respond| async move {
        if request.uri().path() == "/silent" {
            std::future::pending::<()>().await;
        }
        let mut respond = respond;
        respond.send_response(Response::new(()), true).unwrap();
    });
    let rig = Rig::new(&[silent.address], "http_version = \"2\"\nfirst_byte_timeout = \"2s\"", "");
    let mut client = rig.client();
    assert_eq!(client.get("/").status, 200);
    assert_eq!(client.get("/silent").status, 504);
    assert_eq!(client.get("/").status, 200);
    assert_eq!(silent.connections(), 2);
}

#[rstest]
#[case::unused("idle_connection_timeout = \"100ms\"")]
#[case::old("idle_connection_age = \"1s\"\nidle_connection_timeout = \"1h\"")]
fn connections_that_requests_share_are_let_go(#[case] keys: &str) {
    let server = StreamServer::named("skua");
    let rig = Rig::new(&[server.address], &format!("{TWO}\n{keys}"), "");
    assert_eq!(rig.client().get("/").status, 200);
    until("the server sees its end", || server.ended.load(Ordering::SeqCst) == 1);
}
