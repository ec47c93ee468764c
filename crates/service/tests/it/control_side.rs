//! What the control side bounds: connections, streams, bodies, waiting, and the memory of each.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use reqwest::StatusCode;

use crate::harness::{Database, PATIENCE, Service, until};

const MOST_OF_AN_IDLE_CONNECTION: u64 = 48 << 10;
const MOST_OF_A_STREAM: u64 = 64 << 10;

/// The bytes of the service's own that are in memory.
fn resident(service: &Service) -> u64 {
    let text = std::fs::read_to_string(format!("/proc/{}/statm", service.pid())).unwrap();
    let pages: Vec<u64> = text.split_whitespace().map(|word| word.parse().unwrap()).collect();
    (pages[1] - pages[2]) * 4_096
}

fn connect(service: &Service) -> TcpStream {
    let stream = TcpStream::connect(service.api).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    stream
}

/// Sends a request whose connection stays, and reads until the answer has `part`.
fn ask(stream: &mut TcpStream, head: &str, part: &str) {
    stream.write_all(head.as_bytes()).unwrap();
    let (mut seen, mut bytes) = (String::new(), [0; 16 << 10]);
    while !seen.contains(part) {
        let count = stream.read(&mut bytes).unwrap();
        assert!(count > 0, "the connection ended: {seen}");
        seen.push_str(&String::from_utf8_lossy(&bytes[..count]));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn idle_connections_and_streams_are_cheap_and_their_memory_comes_back() {
    let limits = ["--api-connections", "700", "--api-connections-per-address", "700"];
    let service = Service::bare_with(Database::shared(), &["gull"], &limits).await;
    let head = "GET /api/v1/status HTTP/1.1\r\nHost: a\r\n\r\n";
    // The first few pay for what all share.
    let mut first: Vec<TcpStream> = (0..20).map(|_| connect(&service)).collect();
    first.iter_mut().for_each(|stream| ask(stream, head, "401"));
    let before = resident(&service);
    let mut idle: Vec<TcpStream> = (0..400).map(|_| connect(&service)).collect();
    idle.iter_mut().for_each(|stream| ask(stream, head, "401"));
    let each = resident(&service).saturating_sub(before) / 400;
    assert!(each < MOST_OF_AN_IDLE_CONNECTION, "{each} bytes for each idle connection");
    drop((first, idle));
    until("they have left", async || service.status().await.node.api_connections < 10).await;

    let head = format!(
        "GET /api/v1/stream HTTP/1.1\r\nHost: a\r\nAuthorization: Bearer {}\r\n\r\n",
        service.token()
    );
    let before = resident(&service);
    let mut streams: Vec<TcpStream> = (0..400).map(|_| connect(&service)).collect();
    streams.iter_mut().for_each(|stream| ask(stream, &head, "event: status"));
    // None of them reads on, and statuses are made each second: another one reads three more.
    let mut reading = connect(&service);
    ask(&mut reading, &head, "event: status");
    (0..3).for_each(|_| ask(&mut reading, "", "event: status"));
    drop(reading);
    until("only the others are left", async || service.status().await.node.api_streams == 400).await;
    let node = service.status().await.node;
    assert_eq!(node.api_streams, 400);
    let each = resident(&service).saturating_sub(before) / 400;
    assert!(each < MOST_OF_A_STREAM, "{each} bytes for each stream");
    drop(streams);
    until("the streams have ended", async || service.status().await.node.api_streams == 0).await;
    let begin = Instant::now();
    until("their memory is back", async || resident(&service) < before + (16 << 20)).await;
    assert!(begin.elapsed() < Duration::from_secs(30));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_that_are_not_let_in_are_closed_and_counted_and_this_machine_always_comes_in() {
    let limits = ["--api-allow", "192.0.2.0/24,127.0.0.8/32"];
    let service = Service::bare_with(Database::shared(), &["gull"], &limits).await;
    let answers = |from: u8| {
        let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
        socket.bind(&std::net::SocketAddr::from(([127, 0, 0, from], 0)).into()).unwrap();
        socket.connect(&service.api.into()).unwrap();
        let mut stream = TcpStream::from(socket);
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        let _ = stream.write_all(b"GET / HTTP/1.1\r\nHost: a\r\n\r\n");
        stream.read(&mut [0; 9]).is_ok_and(|count| count == 9)
    };
    assert_eq!([answers(9), answers(8), answers(1)], [false, true, true]);
    assert_eq!(service.status().await.node.api_denied, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn connections_and_streams_beyond_their_limits_are_turned_away_and_counted() {
    let limits = ["--api-connections-per-address", "8", "--api-streams", "2"];
    let service = Service::bare_with(Database::shared(), &["gull"], &limits).await;
    // From another address than the test's other calls, which have connections of their own.
    let connect = |service: &Service| {
        let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
        socket.bind(&std::net::SocketAddr::from(([127, 0, 0, 9], 0)).into()).unwrap();
        socket.connect(&service.api.into()).unwrap();
        let stream = TcpStream::from(socket);
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        stream
    };
    let mut kept: Vec<TcpStream> = (0..8).map(|_| connect(&service)).collect();
    let head = "GET / HTTP/1.1\r\nHost: a\r\n\r\n";
    kept.iter_mut().for_each(|stream| ask(stream, head, "</html>"));
    let mut refused = connect(&service);
    let _ = refused.write_all(head.as_bytes());
    let ended = refused.read(&mut [0; 100]);
    assert!(
        matches!(ended, Ok(0))
            || ended.is_err_and(|error| error.kind() == std::io::ErrorKind::ConnectionReset)
    );
    kept.truncate(2);
    until("there is room again", async || {
        let mut again = connect(&service);
        again.write_all(head.as_bytes()).is_ok() && again.read(&mut [0; 9]).is_ok_and(|count| count == 9)
    })
    .await;
    assert!(service.status().await.node.api_turned_away >= 1);

    let url = format!("{}/api/v1/stream", service.url());
    let stream = async || {
        let client = crate::harness::http_client();
        client.get(&url).bearer_auth(service.token()).send().await.unwrap()
    };
    let (first, second) = (stream().await, stream().await);
    assert_eq!((first.status(), second.status()), (StatusCode::OK, StatusCode::OK));
    let third = stream().await;
    assert_eq!(third.status(), StatusCode::TOO_MANY_REQUESTS);
    assert!(third.text().await.unwrap().contains("api_streams"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn bodies_are_bounded_by_what_the_call_needs() {
    let service = Service::bare(Database::shared(), &["gull"]).await;
    let client = crate::harness::http_client();
    for (path, size, status) in
        [("session", 2_000, 413), ("trials", 100_000, 413), ("apply", 100_000, 422), ("apply", 17 << 20, 413)]
    {
        let body = serde_json::json!({ "token": "x".repeat(size), "text": "x" });
        let request = client.post(format!("{}/api/v1/{path}", service.url())).bearer_auth(service.token());
        // A body that is too large may be refused before all of it was sent.
        match request.json(&body).send().await {
            Ok(response) => assert_eq!(response.status().as_u16(), status, "{path} with {size} bytes"),
            Err(error) => assert!(status == 413 && error.is_request(), "{path}: {error:?}"),
        }
    }
    let mut long_head = connect(&service);
    long_head.write_all(format!("GET /{} HTTP/1.1\r\n", "x".repeat(100 << 10)).as_bytes()).unwrap();
    let mut answer = Vec::new();
    let _ = long_head.read_to_end(&mut answer);
    assert!(answer.is_empty() || answer.starts_with(b"HTTP/1.1 4"), "{}", String::from_utf8_lossy(&answer));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn too_few_descriptors_mark_no_server_down_and_leave_the_api_open() {
    let mut service = Service::bare(Database::shared(), &["gull", "tern", "auk"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    service.signal("-KILL");
    service.ended().await;
    service.limit_descriptors(256);
    service.start().await;
    service.all_up().await;
    // More than the limit, and each holds what it has.
    let mut clients: Vec<TcpStream> = Vec::new();
    for _ in 0..250 {
        let mut client = TcpStream::connect(service.frontend).unwrap();
        client.write_all(b"GET / HTTP/1.1\r\nHost: a\r\n\r\n").unwrap();
        clients.push(client);
    }
    until("the status reports the shortage", async || {
        service.status().await.troubles.iter().any(|trouble| trouble.contains("short of file descriptors"))
    })
    .await;
    // Some rounds of probes that began after that.
    let since = merismos_core::time::Wall(
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_millis() as i64,
    );
    for name in ["gull", "tern", "auk"] {
        let server = format!("quay/{name}").parse().unwrap();
        until("it was probed again and again", async || {
            let probes = service.client().probes(&server).await.unwrap();
            probes.marks.iter().filter(|mark| mark.at.0 > since.0).count() >= 5
        })
        .await;
    }
    let status = service.status().await;
    for server in &status.pools[0].servers {
        assert!(server.eligible && server.observed.minute.failed == 0, "{server:?}");
    }
    assert_eq!(status.frontends[0].unavailable, 0);
    drop(clients);
    until("those that waited are served", async || {
        service.get().await.is_ok_and(|response| response.0 == 200)
    })
    .await;
    assert!(service.log().lines().count() < 60, "{}", service.log());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_holds_too_much_memory_is_ended_and_named() {
    let flags = ["--client-memory-per-address", "1MiB"];
    let service = Service::bare_with(Database::shared(), &["gull"], &flags).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    let head = format!("GET / HTTP/1.1\r\nHost: a\r\nX-Fill: {}", "x".repeat(12 << 10));
    let slow: Vec<TcpStream> = (0..80)
        .map(|_| {
            let mut client = TcpStream::connect(service.frontend).unwrap();
            client.write_all(head.as_bytes()).unwrap();
            client
        })
        .collect();
    until("the status says so", async || {
        let status = service.status().await;
        let says = "clients held more memory than they may (127.0.0.1 most)";
        status.frontends[0].cut_for_memory > 0
            && status.troubles.iter().any(|trouble| trouble.starts_with(says))
    })
    .await;
    let status = service.status().await;
    assert!(status.node.client_memory_limit >= 1 << 20, "{:?}", status.node);
    assert!((1..2 << 20).contains(&status.node.client_memory), "{:?}", status.node);
    let events = service.client().events(100).await.unwrap().events;
    assert!(events.iter().any(|event| event.message.starts_with("clients held more memory")), "{events:#?}");
    assert_eq!(service.get().await.unwrap().0, 200);
    drop(slow);
    until("nothing is held any more", async || service.status().await.node.client_memory < 64 << 10).await;
}
