//! Sides that stop in the middle: each is given up after the time that its frontend, pool or protocol sets. All other times are an hour,
//! so that nothing else can end what these tests wait for.

use std::net::UdpSocket;

use rstest::rstest;

use crate::http2_frames::{Frames, Rest};
use crate::rig::{Client, ConnectionEnd, Rig, Server, until};

/// Times and rates of a pool and of a frontend that end nothing.
const NONE_OF_A_POOL: &str = "idle_timeout = \"1h\"\nfirst_byte_timeout = \"1h\"";
const NONE_OF_A_FRONTEND: &str = "idle_timeout = \"1h\"\nmin_rate_grace = \"1h\"";
/// The time that ends it.
const SHORT: &str = "\"300ms\"";

fn pool(key: &str) -> String {
    let others = NONE_OF_A_POOL.lines().filter(|line| !line.starts_with(key));
    others.map(|line| format!("{line}\n")).collect::<String>() + &format!("{key} = {SHORT}\n")
}

fn frontend(key: &str) -> String {
    let others = NONE_OF_A_FRONTEND.lines().filter(|line| !line.starts_with(key));
    others.map(|line| format!("{line}\n")).collect::<String>() + &format!("{key} = {SHORT}\n")
}

/// More than the system keeps for both sides of a connection.
const MUCH: usize = 64 << 20;

/// A server that begins a response with this head and sends so much of it, then rests.
fn resting_after(head: &'static str, body: usize) -> Server {
    Server::start(move |mut conn, _| {
        conn.request();
        conn.say(head);
        conn.say(vec![b'x'; body]);
        conn.wait_for_end();
    })
}

/// A server that takes the head of a request and nothing after it.
fn deaf() -> Server {
    Server::start(|mut conn, _| {
        conn.head();
        std::thread::park();
    })
}

#[test]
fn a_refused_client_that_keeps_its_side_open_is_let_go() {
    let rig = Rig::new(&[Server::named("gull").address], "", NONE_OF_A_FRONTEND);
    let mut client = rig.client();
    assert_eq!(client.send("GET / HTTP/1.1\r\n\r\n").answer().unwrap().status, 400);
    until("its connection is given up", || rig.frontend_counts().connections == 0);
    drop(client);
}

#[test]
fn a_client_of_http_2_that_rested_for_a_while_is_sent_away_when_its_time_is_over() {
    // Longer than the pause after which the tasks of its requests are let go.
    let rig = Rig::new(&[Server::named("gull").address], "", "idle_timeout = \"600ms\"");
    let mut frames = Frames::to(&rig).settings();
    let (stream, request) = frames.get();
    std::io::Write::write_all(&mut frames.stream, &request).unwrap();
    assert_eq!(frames.rest(), Rest { goaway: Some(0), whole: [stream].into() });
    until("it is gone", || rig.frontend_counts().connections == 0);
}

#[test]
fn a_server_that_took_a_body_in_parts_has_the_time_for_its_first_byte_from_then_on() {
    let silent = Server::start(|mut conn, _| conn.wait_for_end());
    let rig = Rig::new(&[silent.address], &pool("first_byte_timeout"), NONE_OF_A_FRONTEND);
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 4\r\n\r\nab");
    until("the server has the beginning", || rig.counts(0).bytes_to > 0);
    assert_eq!(client.send("cd").answer().unwrap().status, 504);
}

#[rstest]
#[case::of_known_length("HTTP/1.1 200 OK\r\nContent-Length: 9000000\r\n\r\n", 1 << 20)]
#[case::in_chunks("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n100000\r\n", 1 << 10)]
fn a_server_that_stops_in_a_response_is_given_up(#[case] head: &'static str, #[case] body: usize) {
    let server = resting_after(head, body);
    let rig = Rig::new(&[server.address], &pool("idle_timeout"), NONE_OF_A_FRONTEND);
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    let (came, _) = client.rest();
    assert!(came.len() >= body, "{} bytes came", came.len());
    until("it is counted", || rig.counts(0).failed == 1);
}

#[rstest]
#[case::of_known_length("HTTP/1.1 200 OK\r\nContent-Length: 67108864\r\n\r\n")]
#[case::in_chunks("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4000000\r\n")]
fn a_client_that_takes_nothing_more_of_a_response_is_given_up(#[case] head: &'static str) {
    let server = resting_after(head, MUCH);
    let rig = Rig::new(&[server.address], NONE_OF_A_POOL, &frontend("idle_timeout"));
    let mut client = Client::narrow(rig.address);
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    until("its response has begun", || rig.counts(0).taken == 1);
    until("its connection is given up", || rig.frontend_counts().connections == 0);
    drop(client);
}

#[rstest]
#[case::of_known_length(&format!("Content-Length: {MUCH}"))]
#[case::in_chunks(&format!("Transfer-Encoding: chunked\r\n\r\n{MUCH:x}"))]
fn a_server_that_takes_nothing_more_of_a_request_is_given_up(#[case] framing: &str) {
    let rig = Rig::new(&[deaf().address], &pool("idle_timeout"), NONE_OF_A_FRONTEND);
    let mut client = rig.client();
    let mut writer = client.writer();
    let head = format!("POST / HTTP/1.1\r\nHost: a\r\n{framing}\r\n");
    let end = if framing.starts_with("Content") { "\r\n" } else { "" };
    client.send(head + end);
    let sending =
        std::thread::spawn(move || std::io::Write::write_all(&mut writer, &vec![b'x'; MUCH]).is_err());
    // The server may have a response under way, which is waited for; it has none.
    until("it is counted", || rig.counts(0).failed == 1);
    let _ = client.rest();
    assert!(sending.join().unwrap(), "the client can not send all of it");
}

#[test]
fn a_flow_without_answers_ends_when_its_client_rests() {
    let silent = UdpSocket::bind("127.0.0.1:0").unwrap();
    let keys = "idle_timeout = \"300ms\"";
    let rig = Rig::speaking("udp", &[silent.local_addr().unwrap()], "", keys);
    let client = UdpSocket::bind("127.0.0.1:0").unwrap();
    client.send_to(b"position", rig.address).unwrap();
    until("the flow is there", || rig.frontend_counts().connections == 1);
    until("it has ended", || rig.frontend_counts().connections == 0);
}

#[test]
fn a_trusted_peer_that_does_not_say_who_its_client_is_is_let_go() {
    let trusting = "trusted = [\"127.0.0.0/8\"]\nproxy_protocol = true\nidle_timeout = \"1h\"";
    let rig = Rig::new(&[Server::named("gull").address], "", trusting);
    assert_eq!(rig.client().end(), ConnectionEnd::Closed);
    until("it is counted", || rig.frontend_counts().refused == 1);
}
