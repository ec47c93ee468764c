//! What is counted of a server's bytes and of its times, however they travel.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use rstest::rstest;

use crate::rig::{PATIENCE, Rig, Server, until};

/// A server that answers each request so, and counts the bytes that it is sent and that it sends.
fn counting(answer: Vec<u8>, body: usize) -> (Server, Arc<AtomicU64>) {
    let got = Arc::new(AtomicU64::new(0));
    let counter = Arc::clone(&got);
    let server = Server::start(move |mut conn, _| {
        let mut head = Vec::new();
        while !head.ends_with(b"\r\n\r\n") {
            let mut byte = [0];
            if conn.stream.read_exact(&mut byte).is_err() {
                return;
            }
            head.push(byte[0]);
        }
        let mut rest = vec![0; body];
        conn.stream.read_exact(&mut rest).unwrap();
        counter.fetch_add((head.len() + body) as u64, Ordering::SeqCst);
        conn.stream.get_mut().write_all(&answer).unwrap();
        let _ = conn.stream.read(&mut [0]);
    });
    (server, got)
}

fn length(body: usize) -> Vec<u8> {
    let mut answer = format!("HTTP/1.1 200 OK\r\nDate: now\r\nContent-Length: {body}\r\n\r\n").into_bytes();
    answer.resize(answer.len() + body, b'x');
    answer
}

fn chunked(chunks: usize) -> Vec<u8> {
    let mut answer = b"HTTP/1.1 200 OK\r\nDate: now\r\nTransfer-Encoding: chunked\r\n\r\n".to_vec();
    for _ in 0..chunks {
        answer.extend_from_slice(b"3e8\r\n");
        answer.resize(answer.len() + 1000, b'x');
        answer.extend_from_slice(b"\r\n");
    }
    answer.extend_from_slice(b"0\r\n\r\n");
    answer
}

#[rstest]
#[case::short(length(13), 0)]
#[case::none(length(0), 0)]
#[case::in_pieces(length(20_000), 0)]
#[case::by_splice(length(3_000_000), 0)]
#[case::in_chunks(chunked(200), 0)]
#[case::a_body_with_the_head(length(13), 10)]
#[case::a_body_behind_it(length(13), 20_000)]
#[case::a_long_body(length(13), 3_000_000)]
fn bytes_of_requests_and_answers_are_counted(#[case] answer: Vec<u8>, #[case] body: usize) {
    let (server, got) = counting(answer.clone(), body);
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send(format!("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: {body}\r\n\r\n"));
    client.send(vec![b'y'; body]);
    let seen = client.answer().unwrap();
    assert_eq!(seen.status, 200);
    until("the answer is counted", || rig.counts(0).bytes_from == answer.len() as u64);
    assert_eq!(rig.counts(0).bytes_to, got.load(Ordering::SeqCst), "what the server got");
}

#[test]
fn bytes_over_connections_are_counted_in_both_directions() {
    let server = Server::start(|mut conn, _| {
        let mut all = Vec::new();
        conn.stream.read_to_end(&mut all).unwrap();
        conn.stream.get_mut().write_all(&vec![b'z'; 700_000]).unwrap();
    });
    let rig = Rig::speaking("tcp", &[server.address], "", "");
    let mut stream = TcpStream::connect(rig.address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    stream.write_all(&vec![b'y'; 900_000]).unwrap();
    stream.shutdown(Shutdown::Write).unwrap();
    let mut back = Vec::new();
    stream.read_to_end(&mut back).unwrap();
    // The last part is counted a moment after the client has it.
    until("all are counted", || {
        let counts = rig.counts(0);
        (counts.bytes_to, counts.bytes_from) == (900_000, 700_000)
    });
}

#[rstest]
#[case::in_a_flow("", 5 + 9)]
#[case::each_by_itself("balance_per = \"datagram\"", 0)]
fn bytes_of_datagrams_are_counted(#[case] frontend: &str, #[case] back: u64) {
    let station = UdpSocket::bind("127.0.0.1:0").unwrap();
    station.set_read_timeout(Some(PATIENCE)).unwrap();
    let rig = Rig::speaking("udp", &[station.local_addr().unwrap()], "", frontend);
    let client = UdpSocket::bind("127.0.0.1:0").unwrap();
    client.connect(rig.address).unwrap();
    client.set_read_timeout(Some(PATIENCE)).unwrap();
    for (says, answers) in [("ahoy", "hello"), ("where", "59.21 N 4")] {
        client.send(says.as_bytes()).unwrap();
        let mut room = [0; 64];
        let (count, from) = station.recv_from(&mut room).unwrap();
        assert_eq!(&room[..count], says.as_bytes());
        if back > 0 {
            station.send_to(answers.as_bytes(), from).unwrap();
            assert_eq!(client.recv(&mut room).unwrap(), answers.len());
        }
    }
    until("both are counted", || rig.counts(0).bytes_to == 4 + 5 && rig.counts(0).bytes_from == back);
}

#[test]
fn some_response_times_are_measured_also_where_no_algorithm_needs_them() {
    let server = Server::start(|mut conn, _| {
        while conn.request().is_some() {
            std::thread::sleep(Duration::from_millis(30));
            conn.answer("late");
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    rig.client().get("/");
    let latencies = || {
        let snapshot = rig.plane.snapshot();
        snapshot.pools[0].servers[0].cell.latencies.last_minute(rig.plane.now())
    };
    until("the first one is measured", || !latencies().is_empty());
    assert!(latencies()[0] >= 30_000, "{:?} µs", latencies());
}
