//! What clients make the plane hold is bounded: those that hold most are ended first, and the others do not notice.

use std::io::{Read, Write};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};

use merismos_plane::memory::MemoryLimits;
use rstest::rstest;

use crate::http2_frames::{Frames, next_frame};
use crate::rig::{Client, Conn, ConnectionEnd, Rig, Server, until};

const MIB: u64 = 1 << 20;
/// More than the system keeps for a client that takes nothing.
static LARGE: LazyLock<Vec<u8>> = LazyLock::new(|| vec![b'x'; 24 << 20]);
const ASK: &str = "GET / HTTP/1.1\r\nHost: harbour.skerry.example\r\n\r\n";
/// The same with a short answer, of which nothing has to be held.
const ASK_LITTLE: &str = "GET /little HTTP/1.1\r\nHost: harbour.skerry.example\r\n\r\n";

/// A server whose answers are large, in the chunked coding or of a length that is said.
fn large(chunked: bool) -> Server {
    Server::start(move |mut conn: Conn, _| {
        while let Some((head, _)) = conn.request() {
            if head.starts_with("GET /little") {
                conn.say("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok");
            } else if chunked {
                conn.say("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n");
                conn.say(format!("{:x}\r\n", LARGE.len()));
                conn.say(&*LARGE);
                conn.say("\r\n0\r\n\r\n");
            } else {
                conn.say(format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", LARGE.len()));
                conn.say(&*LARGE);
            }
        }
    })
}

/// Clients of an address that ask and take nothing.
fn takers_of_nothing(rig: &Rig, address: &str, count: usize) -> Vec<Client> {
    let ask = |_| {
        let mut client = Client::from(address, rig.address);
        client.send(ASK);
        client
    };
    (0..count).map(ask).collect()
}

/// How many bytes a client still gets until its connection ends, or until it has had an answer.
fn rest_of(client: &mut Client) -> usize {
    let (mut got, mut room) = (0, vec![0; 256 << 10]);
    let mut stream = client.writer();
    while got < LARGE.len() {
        match stream.read(&mut room) {
            Ok(0) => break,
            Ok(count) => got += count,
            Err(error) => {
                ConnectionEnd::of(&error);
                break;
            }
        }
    }
    got
}

/// Whether a client was ended. One that was chosen may get the rest of its answer all the same, when that was on its way already: then
/// it is its connection that ends.
fn was_ended(client: &mut Client) -> bool {
    if rest_of(client) < LARGE.len() {
        return true;
    }
    let asked = client.writer().write_all(ASK_LITTLE.as_bytes());
    let mut last = Vec::new();
    let mut room = [0; 4096];
    while asked.is_ok() && !last.ends_with(b"\r\n\r\nok") {
        match client.writer().read(&mut room) {
            Ok(0) => return true,
            Ok(count) => last.extend_from_slice(&room[..count]),
            Err(error) => {
                ConnectionEnd::of(&error);
                return true;
            }
        }
    }
    asked.is_err()
}

#[rstest]
#[case::http_in_buffers("http", true)]
#[case::http_in_pipes("http", false)]
#[case::tcp("tcp", false)]
fn an_address_that_takes_nothing_is_cut_at_its_bound(#[case] protocol: &'static str, #[case] chunked: bool) {
    let server = large(chunked);
    let limits = MemoryLimits { in_all: u64::MAX, per_address: 2 * MIB };
    let rig = Rig::bounded(protocol, &[server.address], "", "", limits);
    let mut greedy = takers_of_nothing(&rig, "127.0.0.2", 60);
    until("some were cut", || rig.frontend_counts().cut_for_memory > 0);
    until("it holds no more than it may", || rig.plane.memory().held() <= 2 * MIB);
    // Another client is served meanwhile.
    let mut other = Client::from("127.0.0.3", rig.address);
    assert!(rest_of(other.send(ASK)) >= LARGE.len());
    let ended = greedy.iter_mut().map(was_ended).filter(|ended| *ended).count() as u64;
    let (counts, server) = (rig.frontend_counts(), rig.counts(0));
    assert_eq!(ended, counts.cut_for_memory, "each is counted, no other ended: {counts:?}, {server:?}");
    assert_eq!(rig.plane.memory().cut(), ended);
    assert_eq!(rig.counts(0).failed, 0, "the server did nothing wrong");
    until("nothing is held for clients that got all", || rig.plane.memory().held() < MIB);
}

#[test]
fn when_all_hold_too_much_the_worst_go_first() {
    let server = large(true);
    let limits = MemoryLimits { in_all: 2 * MIB, per_address: u64::MAX };
    let rig = Rig::bounded("http", &[server.address], "", "", limits);
    let mut modest: Vec<_> =
        (10..15).flat_map(|last| takers_of_nothing(&rig, &format!("127.0.0.{last}"), 1)).collect();
    until("each has its answer on the way", || rig.counts(0).taken == 5);
    let mut worst = takers_of_nothing(&rig, "127.0.0.2", 60);
    until("some were cut", || rig.plane.memory().cut() > 0);
    until("no more is held than may be", || rig.plane.memory().held() <= 2 * MIB);
    assert!(worst.iter_mut().map(rest_of).filter(|got| *got < LARGE.len()).count() >= 20);
    assert!(modest.iter_mut().all(|client| rest_of(client) >= LARGE.len()), "the others got all");
}

#[test]
fn heads_that_never_end_are_held_within_the_bound_too() {
    let limits = MemoryLimits { in_all: u64::MAX, per_address: MIB };
    let server = Server::named("gull");
    let rig = Rig::bounded("http", &[server.address], "", "header_size_limit = \"64KiB\"", limits);
    let head = format!("GET / HTTP/1.1\r\nHost: a\r\nX-Fill: {}", "x".repeat(40 << 10));
    let mut slow: Vec<_> = (0..40)
        .map(|_| {
            let mut client = rig.client();
            client.send(&head);
            client
        })
        .collect();
    until("some were cut", || rig.plane.memory().cut() > 0);
    until("no more is held than may be", || rig.plane.memory().held() <= MIB);
    let cut = rig.plane.memory().cut();
    assert!((20..40).contains(&cut), "{cut}");
    // Who was left may go on.
    let answers = slow.iter_mut().filter_map(|client| client.send("\r\n\r\n").answer().ok()).count() as u64;
    assert_eq!(answers, 40 - cut);
}

#[test]
fn connections_at_rest_count_by_their_number() {
    let limits = MemoryLimits { in_all: u64::MAX, per_address: 400 << 10 };
    let rig = Rig::bounded("http", &[Server::named("gull").address], "", "", limits);
    let mut clients: Vec<_> = (0..150).map(|_| rig.client()).collect();
    until("some were let go", || rig.plane.memory().cut() > 0 && rig.frontend_counts().connections <= 100);
    let mut other = Client::from("127.0.0.3", rig.address);
    assert_eq!(other.get("/").status, 200);
    let left = clients.iter_mut().filter_map(|client| client.send(ASK).answer().ok()).count();
    assert!((80..=100).contains(&left), "{left}");
}

#[rstest]
#[case::shut_windows(0)]
#[case::windows_without_end_and_nothing_read(i32::MAX as u32)]
fn requests_that_share_connections_are_held_within_the_bound(#[case] window: u32) {
    let server = large(false);
    let limits = MemoryLimits { in_all: u64::MAX, per_address: MIB };
    let rig = Rig::bounded("http", &[server.address], "", "", limits);
    let mut connections: Vec<_> = (0..4).map(|_| Frames::to(&rig).windows(window)).collect();
    for connection in &mut connections {
        let requests: Vec<u8> = (0..25).flat_map(|_| connection.get().1).collect();
        connection.stream.write_all(&requests).unwrap();
    }
    until("some were cut", || rig.frontend_counts().cut_for_memory > 0);
    until("no more is held than may be", || rig.plane.memory().held() <= MIB);
    assert_eq!(rig.counts(0).failed, 0, "the server did nothing wrong");
    let mut other = Client::from("127.0.0.3", rig.address);
    assert!(rest_of(other.send(ASK)) >= LARGE.len());
}

/// A server of HTTP/2 that sends one informational answer after the other; gives how many bytes of them it got rid of.
fn endlessly_informing() -> (Server, Arc<AtomicUsize>) {
    let sent = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&sent);
    let server = Server::start(move |mut conn: Conn, _| {
        conn.stream.read_exact(&mut [0; 24]).unwrap();
        conn.say(Frames::frame(4, 0, 0, b""));
        let stream = loop {
            match next_frame(&mut conn.stream) {
                Some((1, stream)) => break stream,
                Some(_) => {}
                None => return,
            }
        };
        let ended = Arc::new(AtomicBool::new(false));
        let (is_ended, mut writer) = (Arc::clone(&ended), conn.stream.get_ref().try_clone().unwrap());
        std::thread::spawn(move || {
            while let Some((kind, _)) = next_frame(&mut conn.stream) {
                if kind == 3 {
                    break;
                }
            }
            ended.store(true, Ordering::SeqCst);
        });
        // The status 103, and eight fields (RFC 7541, 6.2.2).
        let field = [b"\x00\x06x-fill\x78".as_slice(), &[b'x'; 120]].concat();
        let head = Frames::frame(1, 4, stream, &[b"\x08\x03103".as_slice(), &field.repeat(8)].concat());
        while !is_ended.load(Ordering::SeqCst) && count.load(Ordering::SeqCst) < LARGE.len() * 3 {
            if writer.write_all(&head).is_err() {
                break;
            }
            count.fetch_add(head.len(), Ordering::SeqCst);
        }
    });
    (server, sent)
}

#[test]
fn informational_answers_without_end_are_not_kept_for_one_that_takes_none() {
    let (server, sent) = endlessly_informing();
    let rig = Rig::new(&[server.address], "http_version = \"2\"", "");
    let mut client = rig.client();
    client.send(ASK);
    until("they are on their way", || sent.load(Ordering::SeqCst) > 0);
    until("the request has ended", || rig.counts(0).in_flight == 0);
    let sent = sent.load(Ordering::SeqCst);
    assert!(sent < LARGE.len() * 2, "{sent} bytes");
    assert_eq!(rig.counts(0).failed, 0, "its client did not take them");
}
