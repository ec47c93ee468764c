//! The end of a drain: who may go on until the deadline, and how what is left is closed then.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::mpsc;
use std::time::Instant;

use merismos_core::duty::{CutWork, Duty, OpenWork};
use rstest::rstest;

use crate::rig::{Client, ConnectionEnd, Rig, Server, is_silent, read_to_end, until};

/// What a close frame with status 1001 begins with, unmasked and masked (RFC 6455, 5.2).
const CLOSE: [u8; 4] = [0x88, 2, 0x03, 0xe9];
const MASKED_CLOSE: [u8; 2] = [0x88, 0x82];

/// A server that sends something and then tells what it gets until its connection ends, and how that was.
fn telling(words: &'static [u8]) -> (Server, mpsc::Receiver<(Vec<u8>, ConnectionEnd)>) {
    let (tell, told) = mpsc::channel();
    let server = Server::start(move |mut conn, _| {
        conn.say(words);
        let _ = tell.send(read_to_end(&mut conn.stream));
    });
    (server, told)
}

#[test]
fn tcp_connections_end_with_a_fin_on_both_sides() {
    let (server, told) = telling(b"READY");
    let mut rig = Rig::speaking("tcp", &[server.address], "", "");
    let mut client = rig.client();
    client.send("hello");
    client.bytes(&mut [0; 5]);
    until("it is open", || rig.counts(0).open == OpenWork { connections: 1, ..OpenWork::default() });
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    rig.publish();
    client.send(" again");
    assert!(is_silent(&client.writer()), "until the deadline it goes on");
    rig.end_drain(0);
    assert_eq!(client.end(), ConnectionEnd::Closed);
    drop(client);
    assert_eq!(told.recv().unwrap(), (b"hello again".to_vec(), ConnectionEnd::Closed));
    until("nothing is open", || rig.counts(0).open.all() == 0 && rig.counts(0).in_flight == 0);
    assert_eq!(rig.counts(0).cut, CutWork { connections: 1, ..CutWork::default() });
    assert_eq!(rig.counts(0).failed, 0, "what operators do is no failure");
}

#[test]
fn tcp_peers_that_do_not_end_their_side_are_reset() {
    let (server, told) = telling(b"READY");
    let mut rig = Rig::speaking("tcp", &[server.address], "", "");
    let mut stream = TcpStream::connect(rig.address).unwrap();
    stream.set_read_timeout(Some(crate::rig::PATIENCE)).unwrap();
    stream.read_exact(&mut [0; 5]).unwrap();
    let since = Instant::now();
    rig.end_drain(0);
    assert_eq!(stream.read(&mut [0]).unwrap(), 0, "the end comes first");
    until("it is over", || rig.counts(0).open.all() == 0);
    assert!(since.elapsed().as_millis() >= 1_900, "it had its time: {:?}", since.elapsed());
    until("the reset has come", || stream.write_all(b"x").is_err());
    assert_eq!(told.recv().unwrap().1, ConnectionEnd::Closed);
}

/// A masked frame of one byte.
const OURS: [u8; 7] = [0x81, 0x81, 1, 2, 3, 4, b'x' ^ 1];
const UPGRADE: &str = "GET /talk HTTP/1.1\r\nHost: a\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n";
const AGREED: &str = "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: WebSocket\r\n\r\n";

#[rstest]
#[case::between_frames(b"\x81\x02hi", &CLOSE)]
#[case::within_a_frame(b"\x81\x05hi", &[])]
fn websockets_get_a_close_frame_where_one_may_stand(#[case] frame: &'static [u8], #[case] farewell: &[u8]) {
    let (tell, told) = mpsc::channel();
    let server = Server::start(move |mut conn, _| {
        if conn.request().is_some() {
            conn.say([AGREED.as_bytes(), frame].concat());
            let mut first = vec![0; OURS.len()];
            conn.stream.read_exact(&mut first).unwrap();
            let _ = tell.send((first, ConnectionEnd::Closed));
            let _ = tell.send(read_to_end(&mut conn.stream));
        }
    });
    let mut rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send(UPGRADE).head().unwrap();
    client.send(OURS);
    let mut came = vec![0; frame.len()];
    client.bytes(&mut came);
    assert_eq!(came, frame);
    assert_eq!(rig.counts(0).open, OpenWork { tunnels: 1, ..OpenWork::default() });
    assert_eq!(told.recv().unwrap().0, OURS);
    rig.end_drain(0);
    assert_eq!(client.rest(), (farewell.to_vec(), ConnectionEnd::Closed));
    drop(client);
    let (last, end) = told.recv().unwrap();
    assert_eq!(end, ConnectionEnd::Closed);
    assert!(last.starts_with(&MASKED_CLOSE) && last.len() == 8, "{last:?}");
    let status = [last[6] ^ last[2], last[7] ^ last[3]];
    assert_eq!(u16::from_be_bytes(status), 1001);
    until("nothing is open", || rig.counts(0).open.all() == 0);
    assert_eq!(rig.counts(0).cut, CutWork { tunnels: 1, ..CutWork::default() });
}

#[rstest]
#[case::repeatable("GET / HTTP/1.1\r\nHost: a\r\n\r\n", 200, 0)]
#[case::not_repeatable("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n", 502, 1)]
fn requests_that_are_still_open_go_elsewhere_or_are_cut(
    #[case] request: &'static str,
    #[case] status: u16,
    #[case] cut: u64,
) {
    let silent = Server::start(|mut conn, _| {
        while conn.request().is_some() {
            conn.wait_for_end();
        }
    });
    let tern = Server::named("tern");
    let mut rig = Rig::new(&[silent.address, tern.address], "algorithm = \"in-order\"", "");
    let address = rig.address;
    let waiting = std::thread::spawn(move || Client::to(address).send(request).answer().unwrap());
    until("it is at the server", || rig.counts(0).open.requests == 1);
    rig.end_drain(0);
    let answer = waiting.join().unwrap();
    assert_eq!(answer.status, status, "{}", answer.head);
    until("it is counted", || rig.counts(0).in_flight == 0);
    assert_eq!(rig.counts(0).cut, CutWork { requests: cut, ..CutWork::default() });
}

#[test]
fn connections_that_were_assigned_to_the_server_are_let_go() {
    let servers = ["gull", "tern"].map(Server::named);
    let keys = "balance_per = \"connection\"";
    let addresses = servers.each_ref().map(|server| server.address);
    let mut rig = Rig::new(&addresses, "algorithm = \"in-order\"", keys);
    let mut resting = rig.client();
    assert!(resting.get("/").text().starts_with("gull"));
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    rig.publish();
    assert!(resting.get("/").text().starts_with("gull"), "until the deadline it goes on");
    rig.end_drain(0);
    assert_eq!(resting.end(), ConnectionEnd::Closed);
    assert!(rig.client().get("/").text().starts_with("tern"));
    assert_eq!(rig.counts(0).cut.all(), 0, "nothing was lost");
}

#[rstest]
#[case::honoured(false, "gull")]
#[case::moved(true, "tern")]
fn pinned_clients_go_on_with_a_draining_server_unless_they_are_moved(
    #[case] are_moved: bool,
    #[case] expected: &str,
) {
    let servers = ["gull", "tern"].map(Server::named);
    let addresses = servers.each_ref().map(|server| server.address);
    let mut rig = Rig::new(&addresses, "algorithm = \"in-order\"\npersistence = \"cookie\"", "");
    let first = rig.client().get("/");
    assert!(first.text().starts_with("gull"));
    let set = first.head.lines().find_map(|line| line.strip_prefix("Set-Cookie: ")).unwrap();
    let cookie = set.split(';').next().unwrap().to_owned();
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    if are_moved {
        rig.pins_moved.insert("s0".to_owned());
    }
    rig.publish();
    let request = format!("GET / HTTP/1.1\r\nHost: a\r\nCookie: {cookie}\r\n\r\n");
    let answer = rig.client().send(request).answer().unwrap();
    assert!(answer.text().starts_with(expected), "{}", answer.text());
    assert_eq!(answer.head.contains("Set-Cookie"), are_moved, "who moves is tied to its new server");
}
