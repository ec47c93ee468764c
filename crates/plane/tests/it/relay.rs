//! TCP frontends, tunnels, and who the client is said to be.

use std::io::{Read, Write};
use std::net::{Shutdown, SocketAddr, TcpStream};
use std::time::{Duration, Instant};

use merismos_core::duty::Duty;
use merismos_core::health::HealthState;
use merismos_lab::free::free_address;
use merismos_plane::observer::{ObserveFilter, ObservedWork};
use rstest::rstest;

use crate::rig::{Client, ConnectionEnd, PATIENCE, Rig, Server, read_end, until};

/// A server that sends back whatever comes, and says its name at the end of it.
fn echo(name: &'static str) -> Server {
    Server::start(move |mut conn, _| {
        let mut buffer = [0; 4096];
        while let Ok(count @ 1..) = conn.stream.read(&mut buffer) {
            if conn.stream.get_mut().write_all(&buffer[..count]).is_err() {
                return;
            }
        }
        let _ = conn.stream.get_mut().write_all(name.as_bytes());
    })
}

fn connect(address: SocketAddr) -> TcpStream {
    let stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    stream
}

/// Sends, ends its side, and gives everything that comes back.
fn say(address: SocketAddr, bytes: &[u8]) -> Vec<u8> {
    let mut stream = connect(address);
    stream.write_all(bytes).unwrap();
    stream.shutdown(Shutdown::Write).unwrap();
    let mut back = Vec::new();
    stream.read_to_end(&mut back).unwrap();
    back
}

#[test]
fn a_client_that_has_said_all_still_gets_its_answer_and_connections_are_dealt_out() {
    let servers = [echo("gull"), echo("tern")];
    let rig = Rig::speaking("tcp", &servers.each_ref().map(|server| server.address), "", "");
    let mut answers: Vec<_> =
        (0..4).map(|_| String::from_utf8(say(rig.address, b"hello ")).unwrap()).collect();
    answers.sort_unstable();
    assert_eq!(answers, ["hello gull", "hello gull", "hello tern", "hello tern"]);
    until("all is counted as ended", || rig.counts(0).in_flight + rig.counts(1).in_flight == 0);
    assert_eq!((rig.counts(0).taken, rig.counts(1).taken, rig.frontend_counts().requests), (2, 2, 4));
}

/// Much more than a buffer in both directions at once, so both go through pipes in the end.
#[test]
fn bulk_arrives_whole_in_both_directions() {
    let rig = Rig::speaking("tcp", &[echo("gull").address], "", "");
    let mut stream = connect(rig.address);
    let mut writer = stream.try_clone().unwrap();
    let sent: Vec<u8> =
        (0..24 << 20).map(|index: u32| (index.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let copy = sent.clone();
    let sending = std::thread::spawn(move || {
        writer.write_all(&copy).unwrap();
        writer.shutdown(Shutdown::Write).unwrap();
    });
    let mut back = Vec::new();
    stream.read_to_end(&mut back).unwrap();
    sending.join().unwrap();
    assert_eq!(back.len(), sent.len() + 4);
    assert!(back.starts_with(&sent), "what came back is what was sent");
}

#[test]
fn a_server_that_refuses_costs_the_client_nothing_and_nobody_gives_a_reset() {
    let good = echo("gull");
    let rig = Rig::speaking("tcp", &[free_address(), good.address], "", "");
    for _ in 0..4 {
        assert_eq!(say(rig.address, b""), b"gull");
    }
    assert_eq!((rig.counts(0).failed, rig.counts(0).retried, rig.counts(1).taken), (2, 2, 4));
    let mut none = Rig::speaking("tcp", &[good.address], "", "");
    none.states.insert("s0".to_owned(), HealthState::Down);
    none.publish();
    let mut stream = connect(none.address);
    assert_eq!(read_end(&mut stream), ConnectionEnd::Reset);
    until("it is counted", || none.frontend_counts().unavailable == 1);
}

#[test]
fn idle_and_old_connections_are_ended_and_withdrawing_breaks_them_off() {
    let server = echo("gull");
    let idle = Rig::speaking("tcp", &[server.address], "", "idle_timeout = \"200ms\"");
    let mut stream = connect(idle.address);
    stream.write_all(b"x").unwrap();
    stream.read_exact(&mut [0]).unwrap();
    assert_eq!(read_end(&mut stream), ConnectionEnd::Reset, "it rested for too long");
    let old = Rig::speaking("tcp", &[server.address], "", "max_connection_age = \"1s\"");
    let mut client = Client::to(old.address);
    let mut writer = client.writer();
    let began = Instant::now();
    let busy = std::thread::spawn(move || {
        while began.elapsed() < PATIENCE && writer.write_all(b"x").is_ok() {
            std::thread::yield_now()
        }
        // The end, should the service not have made one.
        let _ = writer.shutdown(Shutdown::Both);
    });
    // The reset is reported to the one of its two sides that meets it first.
    client.rest();
    let lasted = began.elapsed();
    assert!((Duration::from_millis(900)..PATIENCE).contains(&lasted), "{lasted:?}");
    busy.join().unwrap();
    let mut cut = Rig::speaking("tcp", &[server.address], "", "");
    let mut stream = connect(cut.address);
    stream.write_all(b"x").unwrap();
    stream.read_exact(&mut [0]).unwrap();
    cut.duties.insert("s0".to_owned(), Duty::Withdrawn);
    cut.publish();
    let id = cut.plane.snapshot().pools[0].servers[0].cell.id;
    cut.plane.cut(id);
    assert_eq!(read_end(&mut stream), ConnectionEnd::Reset);
}

/// A server that agrees to another protocol and then sends back whatever comes, in capitals.
fn agreeing() -> Server {
    Server::start(|mut conn, _| {
        let Some((head, _)) = conn.request() else { return };
        assert!(head.contains("Connection: Upgrade\r\nUpgrade: shout\r\n"), "{head}");
        conn.say("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: shout\r\n\r\nREADY ");
        let mut buffer = [0; 1024];
        while let Ok(count @ 1..) = conn.stream.read(&mut buffer) {
            buffer[..count].make_ascii_uppercase();
            conn.stream.get_mut().write_all(&buffer[..count]).unwrap();
        }
    })
}

const UPGRADE: &str =
    "GET /talk HTTP/1.1\r\nHost: a\r\nConnection: keep-alive, Upgrade\r\nUpgrade: shout\r\n\r\n";

#[test]
fn an_upgrade_that_the_server_agrees_to_becomes_a_tunnel_with_its_own_rest() {
    let rig = Rig::new(&[agreeing().address], "", "idle_timeout = \"100ms\"\ntunnel_timeout = \"1s\"");
    let mut client = rig.client();
    // What is sent before the server has agreed goes along.
    client.send(format!("{UPGRADE}ahoy"));
    let head = client.head().unwrap();
    assert!(head.starts_with("HTTP/1.1 101 ") && head.contains("Upgrade: shout"), "{head}");
    let mut bytes = [0; 10];
    client.bytes(&mut bytes);
    assert_eq!(&bytes, b"READY AHOY");
    assert_eq!(rig.counts(0).in_flight, 1, "a tunnel is work in flight");
    client.send("again");
    let mut bytes = [0; 5];
    client.bytes(&mut bytes);
    assert_eq!(&bytes, b"AGAIN");
    let since = Instant::now();
    assert_eq!(client.end(), ConnectionEnd::Closed, "it does not rest for ever");
    let rested = since.elapsed();
    assert!(rested >= Duration::from_millis(900), "but longer than requests may: {rested:?}");
    until("it is over", || rig.counts(0).in_flight == 0);
}

#[test]
fn an_upgrade_that_the_server_ignores_is_a_plain_request() {
    let rig = Rig::new(&[Server::named("gull").address], "", "");
    let mut client = rig.client();
    let answer = client.send(UPGRADE).answer().unwrap();
    assert_eq!(answer.status, 200);
    assert_eq!(client.get("/").status, 200, "the connection goes on");
}

#[rstest]
#[case::first("v1", "PROXY TCP4 127.0.0.1 127.0.0.1 ")]
#[case::second("v2", "\r\n\r\n\0\r\nQUIT\n!\x11\0\x0c\x7f\0\0\x01\x7f\0\0\x01")]
fn servers_are_told_who_the_client_is(#[case] version: &str, #[case] begins: &'static str) {
    let server = echo("gull");
    let rig = Rig::speaking("tcp", &[server.address], &format!("proxy_protocol = \"{version}\""), "");
    let got = say(rig.address, b"hello");
    assert!(got.starts_with(begins.as_bytes()), "{}", String::from_utf8_lossy(&got));
    assert!(got.ends_with(b"hellogull"), "{}", String::from_utf8_lossy(&got));
}

#[test]
fn http_servers_that_want_the_header_get_it_once_a_connection_and_share_none() {
    let server = Server::start(|mut conn, _| {
        let mut line = String::new();
        std::io::BufRead::read_line(&mut conn.stream, &mut line).unwrap();
        while conn.request().is_some() {
            conn.answer(&line);
        }
    });
    let rig = Rig::new(&[server.address], "proxy_protocol = \"v1\"", "");
    for _ in 0..2 {
        assert!(rig.client().get("/").text().starts_with("PROXY TCP4 127.0.0.1 127.0.0.1 "));
    }
    assert_eq!(server.connections(), 2);
}

#[test]
fn trusted_peers_say_who_the_client_is_and_others_can_not() {
    let server = Server::named("gull");
    let header = "PROXY TCP4 198.51.100.7 192.0.2.1 4711 80\r\n";
    let trusting = "trusted = [\"127.0.0.0/8\"]\nproxy_protocol = true";
    let rig = Rig::new(&[server.address], "", trusting);
    let get = "GET / HTTP/1.1\r\nHost: a\r\nX-Forwarded-For: 203.0.113.9\r\n\r\n";
    let answer = rig.client().send(format!("{header}{get}")).answer().unwrap();
    // The one who is introduced is no trusted peer, so its own fields count for nothing.
    assert!(answer.text().contains("X-Forwarded-For: 198.51.100.7\r\n"), "{}", answer.text());
    let end = rig.client().send(get).end();
    assert_eq!(end, ConnectionEnd::Closed, "a trusted peer has to introduce its client");
    until("it is counted", || rig.frontend_counts().refused == 1);
    let wary = Rig::new(&[server.address], "", "trusted = [\"192.0.2.0/24\"]\nproxy_protocol = true");
    let refused = wary.client().send(format!("{header}{get}")).answer().unwrap();
    assert_eq!(refused.status, 505, "a header of an untrusted client is a request line that makes no sense");
}

#[test]
fn what_trusted_peers_forward_is_added_to() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "trusted = [\"127.0.0.1\"]");
    let fields = "X-Forwarded-For: 198.51.100.7\r\nX-Forwarded-Proto: https\r\nX-Request-Id: r-1\r\n";
    let answer = rig.client().send(format!("GET / HTTP/1.1\r\nHost: a\r\n{fields}\r\n")).answer().unwrap();
    for wanted in
        ["X-Forwarded-For: 198.51.100.7, 127.0.0.1", "X-Forwarded-Proto: https", "X-Request-Id: r-1"]
    {
        assert!(answer.text().contains(&format!("{wanted}\r\n")), "{}", answer.text());
    }
}

#[test]
fn watched_connections_are_told_by_where_they_come_from() {
    let server = echo("gull");
    let rig = Rig::speaking("tcp", &[free_address(), server.address], "", "");
    let frontend = rig.plane.snapshot().frontends().next().unwrap().cell.id;
    let watch = |from: &str| {
        let what = ObserveFilter::Clients { frontend, from: vec![from.parse().unwrap()] };
        rig.plane.watch(1, what, 10)
    };
    let (mut here, mut elsewhere) = (watch("127.0.0.1/32"), watch("192.0.2.0/24"));
    let mut seen = Vec::new();
    let mut came = Vec::new();
    for _ in 0..2 {
        let mut stream = connect(rig.address);
        came.push(ObservedWork::Client(stream.local_addr().unwrap()));
        stream.write_all(b"hello").unwrap();
        stream.shutdown(Shutdown::Write).unwrap();
        stream.read_to_end(&mut Vec::new()).unwrap();
        let sighting = here.receiver.blocking_recv().unwrap();
        assert_eq!(sighting.server.unwrap().to_string(), "quay/s1");
        seen.push((sighting.of, sighting.failed_at.len()));
    }
    // One of the two was assigned to s0 first, which refused it.
    let failed: Vec<usize> = seen.iter().map(|(_, failed)| *failed).collect();
    assert_eq!((seen.iter().map(|(of, _)| *of).collect::<Vec<_>>(), failed), (came, vec![1, 0]));
    assert!(elsewhere.receiver.try_recv().is_err(), "no client came from there");
}
