//! What clients must not get away with.

use rstest::rstest;

use crate::rig::{ConnectionEnd, Rig, Server, until};

/// A request that is good in itself, sent behind one that is refused.
const SECOND: &str = "GET /second HTTP/1.1\r\nHost: a\r\n\r\n";

#[rstest]
#[case::two_lengths("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\nhello", 400)]
#[case::length_and_chunked(
    "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
    400
)]
#[case::bare_line_feed("GET / HTTP/1.1\nHost: a\n\n", 400)]
#[case::no_host("GET / HTTP/1.1\r\n\r\n", 400)]
#[case::other_coding("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: gzip\r\n\r\n", 501)]
#[case::port_of_letters("GET / HTTP/1.1\r\nHost: a:http\r\n\r\n", 400)]
#[case::no_further("OPTIONS * HTTP/1.1\r\nHost: a\r\nMax-Forwards: 0\r\n\r\n", 200)]
#[case::no_trace("TRACE / HTTP/1.1\r\nHost: a\r\nMax-Forwards: 0\r\n\r\n", 501)]
#[case::broken_chunk("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\nhello", 400)]
fn what_is_refused_never_reaches_a_server(#[case] request: &str, #[case] status: u16) {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    let answer = client.send(request).send(SECOND).answer().unwrap();
    assert_eq!(answer.status, status, "{}", answer.text());
    assert!(answer.text().contains("frontend harbour: "), "{}", answer.text());
    assert_eq!(client.end(), ConnectionEnd::Closed, "after a refusal nothing more is read as a request");
    assert_eq!(server.connections(), 0);
    assert_eq!(rig.frontend_counts().refused, 1);
}

#[test]
fn who_speaks_tls_where_there_is_none_gets_an_alert() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    // A handshake's record begins; `handshake_failure` (RFC 8446, 6.2) is what clients of TLS understand.
    let (answer, end) = rig.client().send("\u{16}\u{3}\u{1}").rest();
    assert_eq!((answer.as_slice(), end), (&[21, 3, 3, 0, 2, 2, 40][..], ConnectionEnd::Closed));
    assert_eq!(server.connections(), 0);
    let counts = rig.frontend_counts();
    assert_eq!((counts.wrong_protocol, counts.requests), (1, 0));
}

#[test]
fn an_over_long_head_is_refused_at_the_frontends_limit() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "header_size_limit = \"2KiB\"");
    let head = |length: usize| format!("GET / HTTP/1.1\r\nHost: a\r\nX-Long: {}\r\n\r\n", "x".repeat(length));
    assert_eq!(rig.client().send(head(1_900)).answer().unwrap().status, 200);
    assert_eq!(rig.client().send(head(2_100)).answer().unwrap().status, 431);
    let target = format!("GET /{} HTTP/1.1\r\nHost: a\r\n\r\n", "x".repeat(2_100));
    assert_eq!(rig.client().send(target).answer().unwrap().status, 414);
    assert_eq!(rig.client().send("x".repeat(10_000)).answer().unwrap().status, 414, "without any end");
}

#[test]
fn a_head_beyond_the_small_buffer_passes_when_the_frontend_takes_it() {
    let rig = Rig::new(&[Server::named("gull").address], "", "header_size_limit = \"64KiB\"");
    let head = format!("GET / HTTP/1.1\r\nHost: a\r\nX-Long: {}\r\n\r\n", "x".repeat(40_000));
    assert_eq!(rig.client().send(head).answer().unwrap().status, 200);
}

#[test]
fn too_many_fields_are_refused() {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    let fields: String = (0..200).map(|i| format!("X-{i}: y\r\n")).collect();
    let answer = rig.client().send(format!("GET / HTTP/1.1\r\nHost: a\r\n{fields}\r\n")).answer().unwrap();
    assert_eq!(answer.status, 431);
}

#[test]
fn a_client_that_sends_its_head_byte_by_byte_runs_out_of_time() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "header_timeout = \"300ms\"");
    let mut client = rig.client();
    let mut writer = client.writer();
    let sender = std::thread::spawn(move || {
        // Bytes go on coming for as long as anybody takes them.
        for byte in b"GET / HTTP/1.1\r\nX-Long: ".iter().chain(std::iter::repeat_n(&b'x', 400)) {
            if std::io::Write::write_all(&mut writer, &[*byte]).is_err() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
    });
    let answer = client.answer().unwrap();
    assert_eq!(answer.status, 408);
    sender.join().unwrap();
    assert_eq!(server.connections(), 0);
}

#[test]
fn a_client_that_stops_in_its_body_runs_out_of_time() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "idle_timeout = \"200ms\"");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 10\r\n\r\nhalf");
    assert_eq!(client.answer().unwrap().status, 408);
    assert_eq!(client.end(), ConnectionEnd::Closed);
    until("the server's request was given up", || rig.counts(0).in_flight == 0);
}

#[test]
fn a_resting_client_is_closed_without_a_word() {
    let rig = Rig::new(&[Server::named("gull").address], "", "idle_timeout = \"200ms\"");
    let mut client = rig.client();
    assert_eq!(client.get("/").status, 200);
    assert_eq!(client.end(), ConnectionEnd::Closed);
    until("the connection is not counted any more", || rig.frontend_counts().connections == 0);
}

#[test]
fn a_smuggled_second_request_is_body_and_nothing_else() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    let hidden = "GET /hidden HTTP/1.1\r\nHost: a\r\n\r\n";
    client
        .send(format!("POST /open HTTP/1.1\r\nHost: a\r\nContent-Length: {}\r\n\r\n{hidden}", hidden.len()));
    assert!(client.answer().unwrap().text().ends_with(&hidden.len().to_string()));
    assert_eq!(rig.frontend_counts().requests, 1);
}
