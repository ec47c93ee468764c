//! Limits of clients on real sockets: what passes, what is refused, and what is counted.

use std::net::{SocketAddr, UdpSocket};
use std::time::{Duration, Instant};

use merismos_core::limits::LimitTotals;
use rstest::rstest;

use crate::http2;
use crate::rig::{Client, ConnectionEnd, PATIENCE, Rig, Server, until};

fn rig(protocol: &'static str, servers: &[SocketAddr], limit: &str, more: &str) -> Rig {
    let pool = format!("[limits.visitor]\n{limit}\n");
    Rig::speaking(protocol, servers, &pool, &format!("limits = [\"visitor\"]\n{more}"))
}

fn totals(rig: &Rig) -> LimitTotals {
    let snapshot = rig.plane.snapshot();
    let frontend = snapshot.frontends().next().unwrap();
    frontend.limits.as_ref().unwrap()[0].counts.totals()
}

#[test]
fn a_client_that_asks_too_fast_gets_429_and_a_time_to_come_again() {
    let server = Server::named("gull");
    let rig = rig("http", &[server.address], "rate = 3\nwithin = \"1h\"", "");
    let mut client = Client::from("127.0.0.2", rig.address);
    let statuses: Vec<u16> = (0..5).map(|_| client.get("/").status).collect();
    assert_eq!(statuses, [200, 200, 200, 429, 429], "over one connection, which stays open");
    let refused = client.get("/");
    let after = refused.head.lines().find_map(|line| line.strip_prefix("Retry-After: ")).unwrap();
    let after: u64 = after.parse().unwrap();
    assert!((1_100..=1_200).contains(&after), "one request each 20 minutes: {after}");
    assert_eq!(Client::from("127.0.0.2", rig.address).get("/").status, 429, "another connection of it");
    assert_eq!(Client::from("127.0.0.3", rig.address).get("/").status, 200, "another client");
    let totals = totals(&rig);
    assert_eq!((totals.passed, totals.refused, rig.frontend_counts().limited), (4, 4, 4));
    assert_eq!(totals.offenders[0].network.to_string(), "127.0.0.2/32");
    assert_eq!(rig.counts(0).taken, 4, "servers get nothing of what is refused");
}

#[test]
fn streams_are_requests() {
    let server = Server::named("gull");
    let rig = rig("http", &[server.address], "rate = 2\nwithin = \"1h\"", "");
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let mut statuses = Vec::new();
        for _ in 0..3 {
            statuses.push(http2::ask(&requests, http2::get("/")).await.unwrap().status);
        }
        assert_eq!(statuses, [200, 200, 429]);
    });
}

#[test]
fn clients_are_told_apart_by_what_they_send() {
    let server = Server::named("gull");
    let rig = rig("http", &[server.address], "per = \"header:X-Key\"\nrate = 1\nwithin = \"1h\"", "");
    let mut client = rig.client();
    let mut with = |fields: &str| {
        client.send(format!("GET / HTTP/1.1\r\nHost: a\r\n{fields}\r\n"));
        client.answer().unwrap().status
    };
    assert_eq!([with("X-Key: a\r\n"), with("X-Key: b\r\n"), with("X-Key: a\r\n")], [200, 200, 429]);
    assert_eq!([with(""), with("X-Key:\r\n")], [200, 429], "those without it count by their address");
}

#[test]
fn clients_that_a_trusted_proxy_names_count_by_themselves() {
    let server = Server::named("gull");
    let rig = rig(
        "http",
        &[server.address],
        "rate = 1\nconnections = 1\nwithin = \"1h\"",
        "trusted = [\"127.0.0.1\"]",
    );
    let (mut one, mut other) = (rig.client(), rig.client());
    let of = |proxy: &mut Client, client: &str| {
        proxy.send(format!("GET / HTTP/1.1\r\nHost: a\r\nX-Forwarded-For: {client}\r\n\r\n"));
        proxy.answer().unwrap().status
    };
    assert_eq!(
        [of(&mut one, "192.0.2.7"), of(&mut other, "192.0.2.8"), of(&mut other, "192.0.2.7")],
        [200, 200, 429]
    );
    // Others can't name themselves another client.
    let mut forged = Client::from("127.0.0.9", rig.address);
    assert_eq!([of(&mut forged, "192.0.2.20"), of(&mut forged, "192.0.2.21")], [200, 429]);
}

#[test]
fn a_request_in_flight_counts_until_it_ends() {
    let (answer_now, asked) = std::sync::mpsc::channel::<()>();
    let asked = std::sync::Mutex::new(asked);
    let server = Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            if asked.lock().unwrap().recv().is_ok() {
                conn.answer("gull");
            }
        }
    });
    let rig = rig("http", &[server.address], "in_flight = 1", "");
    let mut first = rig.client();
    first.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    until("it is there", || rig.counts(0).in_flight == 1);
    let refused = rig.client().get("/");
    assert_eq!((refused.status, refused.head.contains("Retry-After: 1\n")), (429, true));
    answer_now.send(()).unwrap();
    assert_eq!(first.answer().unwrap().status, 200);
    until("its place is free", || rig.counts(0).in_flight == 0);
    answer_now.send(()).unwrap();
    assert_eq!(rig.client().get("/").status, 200);
    assert_eq!(totals(&rig).refused, 1);
    // One that is reset by its client over HTTP/2 is over as well.
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let asking = http2::ask(&requests, http2::get("/"));
        let _ = tokio::time::timeout(Duration::from_millis(200), asking).await;
    });
    until("it is over", || rig.counts(0).in_flight == 0);
    answer_now.send(()).unwrap();
    answer_now.send(()).unwrap();
    assert_eq!(rig.client().get("/").status, 200);
}

#[rstest]
#[case::http("http")]
#[case::tcp("tcp")]
fn connections_of_a_client_are_counted(#[case] protocol: &'static str) {
    let server = Server::named("gull");
    let rig = rig(protocol, &[server.address], "connections = 2", "");
    let mut open: Vec<Client> = (0..2).map(|_| Client::from("127.0.0.2", rig.address)).collect();
    for client in &mut open {
        assert_eq!(client.get("/").status, 200);
    }
    let mut third = Client::from("127.0.0.2", rig.address);
    if protocol == "http" {
        let answer = third.answer().unwrap();
        assert_eq!((answer.status, answer.head.contains("Connection: close")), (429, true));
    } else {
        assert_eq!(third.end(), ConnectionEnd::Reset);
    }
    assert_eq!(Client::from("127.0.0.3", rig.address).get("/").status, 200, "another client");
    open.pop();
    until("a place is free", || rig.frontend_counts().connections <= 1);
    assert_eq!(Client::from("127.0.0.2", rig.address).get("/").status, 200);
    assert_eq!((rig.frontend_counts().limited, totals(&rig).refused), (1, 1));
}

#[test]
fn a_rate_of_connections_of_tcp() {
    let server = Server::named("gull");
    let rig = rig("tcp", &[server.address], "rate = 2\nwithin = \"1h\"", "");
    for _ in 0..2 {
        assert_eq!(rig.client().get("/").status, 200);
    }
    assert_eq!(rig.client().end(), ConnectionEnd::Reset);
}

#[rstest]
#[case::flows("", "connections = 1")]
#[case::each_by_itself("balance_per = \"datagram\"", "rate = 1\nwithin = \"1h\"")]
fn datagrams_beyond_a_limit_are_dropped(#[case] by: &str, #[case] limit: &str) {
    let server = UdpSocket::bind("127.0.0.1:0").unwrap();
    server.set_read_timeout(Some(PATIENCE)).unwrap();
    let rig = rig("udp", &[server.local_addr().unwrap()], limit, by);
    let send = |from: &str, text: &str| {
        let socket = UdpSocket::bind((from, 0)).unwrap();
        socket.send_to(text.as_bytes(), rig.address).unwrap();
    };
    let mut room = [0; 64];
    let mut next = || {
        let (length, _) = server.recv_from(&mut room).unwrap();
        String::from_utf8_lossy(&room[..length]).into_owned()
    };
    send("127.0.0.2", "first");
    assert_eq!(next(), "first");
    send("127.0.0.2", "second");
    until("it is counted", || rig.frontend_counts().limited == 1);
    send("127.0.0.3", "third");
    assert_eq!(next(), "third");
}

#[test]
fn one_that_delays_lets_requests_pass_at_its_pace() {
    let server = Server::named("gull");
    let limit = "rate = 10\nburst = 1\naction = \"delay\"\nmax_delay = \"10s\"";
    let rig = rig("http", &[server.address], limit, "");
    let mut client = rig.client();
    let begun = Instant::now();
    assert!((0..4).all(|_| client.get("/").status == 200));
    assert!(
        begun.elapsed() >= Duration::from_millis(300),
        "three of them had to wait a tenth of a second each"
    );
    // One that came late by itself needed no delay.
    let totals = totals(&rig);
    assert!((1..=3).contains(&totals.delayed) && totals.refused == 0, "{totals:?}");
}

#[test]
fn a_client_that_leaves_while_it_is_delayed_is_let_go() {
    let server = Server::named("gull");
    let limit = "rate = 1\nwithin = \"1m\"\nin_flight = 5\nburst = 1\naction = \"delay\"\nmax_delay = \"1m\"";
    let rig = rig("http", &[server.address], limit, "");
    assert_eq!(rig.client().get("/").status, 200);
    let mut late = rig.client();
    late.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    until("it waits", || totals(&rig).delayed == 1);
    drop(late);
    until("it is gone", || rig.frontend_counts().connections == 0);
    assert_eq!(rig.counts(0).taken, 1, "its request went nowhere");
}

#[test]
fn one_that_observes_lets_all_pass_and_counts() {
    let server = Server::named("gull");
    let rig = rig("http", &[server.address], "rate = 1\nwithin = \"1h\"\naction = \"observe\"", "");
    let mut client = rig.client();
    assert!((0..3).all(|_| client.get("/").status == 200));
    assert_eq!((totals(&rig).passed, totals(&rig).observed, rig.frontend_counts().limited), (1, 2, 0));
}

#[test]
fn limits_of_a_rule_are_for_those_who_meet_it() {
    let server = Server::named("gull");
    let more = "[limits.login]\nrate = 1\nwithin = \"1h\"\n[rules.login]\nwhen = 'path is /login and method is POST'\n\
                action = \"continue\"\nlimits = [\"login\"]\n";
    let rig = Rig::new(&[server.address], more, "rules = [\"login\"]");
    let mut client = rig.client();
    let mut ask = |method: &str, path: &str| {
        client.send(format!("{method} {path} HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n"));
        client.answer().unwrap().status
    };
    assert_eq!([ask("POST", "/login"), ask("POST", "/x/../login"), ask("GET", "/login")], [200, 429, 200]);
    assert_eq!([ask("POST", "/other"), ask("POST", "/other")], [200, 200]);
}

#[test]
fn a_changed_limit_holds_for_the_next_request_and_forgets_nothing() {
    let server = Server::named("gull");
    let mut rig = rig("http", &[server.address], "rate = 2\nwithin = \"1h\"", "");
    let mut client = rig.client();
    assert_eq!([client.get("/").status, client.get("/").status], [200, 200]);
    let text = rig.text().replace("rate = 2", "rate = 4");
    rig.publish_text(&text);
    // All of it was used, and the next comes in a quarter of an hour, not in half of one.
    let refused = client.get("/");
    let after = refused.head.lines().find_map(|line| line.strip_prefix("Retry-After: ")).unwrap();
    assert!((890..=900).contains(&after.parse::<u64>().unwrap()), "{after}");
    assert_eq!((refused.status, totals(&rig).passed, totals(&rig).refused), (429, 2, 1));
}

#[rstest]
#[case::a_length("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 1025\r\n\r\n")]
#[case::chunks_at_once(&chunked(4, 300))]
fn a_body_that_is_too_large_is_refused(#[case] request: &str) {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "body_size_limit = \"1KiB\"");
    let mut client = rig.client();
    client.send(request);
    let answer = client.answer().unwrap();
    assert_eq!((answer.status, answer.text().contains("1024 bytes")), (413, true), "{}", answer.text());
    assert_eq!(rig.frontend_counts().refused, 1);
    let mut small = rig.client();
    small.send(format!("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 1024\r\n\r\n{}", "x".repeat(1024)));
    assert_eq!(small.answer().unwrap().status, 200);
    assert_eq!(rig.counts(0).taken, 1, "its server gets nothing of the one that is too large");
}

fn chunked(chunks: usize, size: usize) -> String {
    let chunk = format!("{size:x}\r\n{}\r\n", "x".repeat(size));
    format!(
        "POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n{}0\r\n\r\n",
        chunk.repeat(chunks)
    )
}

#[test]
fn a_body_that_grows_too_large_is_broken_off() {
    let server = Server::start(|mut conn, _| while conn.request().is_some() {});
    let rig = Rig::new(&[server.address], "", "body_size_limit = \"100KiB\"");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n");
    until("its server has it", || rig.counts(0).in_flight == 1);
    for _ in 0..11 {
        client.send(format!("2800\r\n{}\r\n", "x".repeat(0x2800)));
    }
    assert_eq!(client.answer().unwrap().status, 413);
    until("its server is let go", || rig.counts(0).in_flight == 0);
}

#[test]
fn a_connection_ends_after_as_many_requests_as_it_may_have() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "requests_per_connection = 3");
    let mut client = rig.client();
    let closes: Vec<bool> = (0..3).map(|_| client.get("/").head.contains("Connection: close")).collect();
    assert_eq!((closes, client.end()), (vec![false, false, true], ConnectionEnd::Closed));
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        for _ in 0..3 {
            assert_eq!(http2::ask(&requests, http2::get("/")).await.unwrap().status, 200);
        }
        let again = async { http2::ask(&requests, http2::get("/")).await };
        assert!(again.await.is_err(), "it got GOAWAY");
    });
}

/// A server that takes bodies and answers with one of so many bytes.
fn of_length(length: usize, has_length: bool) -> Server {
    Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            if has_length {
                conn.say(format!("HTTP/1.1 200 OK\r\nContent-Length: {length}\r\n\r\n"));
                conn.say(vec![b'x'; length]);
            } else {
                conn.say(format!("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n{length:x}\r\n"));
                conn.say(vec![b'x'; length]);
                conn.say("\r\n0\r\n\r\n");
            }
        }
    })
}

/// At 1 MiB a second 448 KiB need this much time at least: a tenth of a second's worth and a last step of 64 KiB come ahead of it.
const BODY: usize = 448 << 10;
const NEEDS: Duration = Duration::from_millis(270);

#[rstest]
#[case::of_a_known_length(true)]
#[case::in_chunks(false)]
fn responses_come_at_the_pace_of_their_client(#[case] has_length: bool) {
    let server = of_length(BODY, has_length);
    let rig = rig("http", &[server.address], "bandwidth = \"1MiB\"", "");
    let began = Instant::now();
    let answer = Client::from("127.0.0.2", rig.address).get("/");
    assert_eq!((answer.status, answer.body.len()), (200, BODY));
    assert!(began.elapsed() >= NEEDS, "{:?}", began.elapsed());
    let counts = totals(&rig);
    assert_eq!((counts.delayed, counts.offenders[0].network.to_string().as_str()), (1, "127.0.0.2/32"));
    // What its other connections get counts with it.
    let began = Instant::now();
    assert_eq!(Client::from("127.0.0.2", rig.address).get("/").body.len(), BODY);
    assert!(began.elapsed() >= NEEDS, "{:?}", began.elapsed());
}

#[test]
fn bodies_of_requests_and_of_streams_come_at_the_pace_of_their_client() {
    let server = of_length(3, true);
    let rig = rig("http", &[server.address], "bandwidth = \"1MiB\"", "");
    let mut client = Client::from("127.0.0.2", rig.address);
    let began = Instant::now();
    client.send(format!("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: {BODY}\r\n\r\n"));
    client.send(vec![b'y'; BODY]);
    assert_eq!(client.answer().unwrap().status, 200);
    assert!(began.elapsed() >= NEEDS, "{:?}", began.elapsed());
    let server = of_length(BODY, true);
    let rig = self::rig("http", &[server.address], "bandwidth = \"1MiB\"", "");
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let began = Instant::now();
        assert_eq!(http2::ask(&requests, http2::get("/")).await.unwrap().text().len(), BODY);
        assert!(began.elapsed() >= NEEDS, "{:?}", began.elapsed());
    });
}

#[test]
fn a_bandwidth_that_is_observed_slows_nothing_down() {
    let server = of_length(BODY, true);
    let rig = rig("http", &[server.address], "bandwidth = \"1KiB\"\naction = \"observe\"", "");
    // At that pace it would take seven minutes.
    assert_eq!(Client::from("127.0.0.2", rig.address).get("/").body.len(), BODY);
    assert_eq!((totals(&rig).observed, totals(&rig).delayed), (1, 0));
}

#[test]
fn a_client_that_leaves_while_its_body_waits_is_not_waited_for() {
    let server = of_length(BODY, true);
    let rig = rig("http", &[server.address], "bandwidth = \"1KiB\"", "");
    let mut client = Client::from("127.0.0.2", rig.address);
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    until("its body waits", || totals(&rig).delayed == 1);
    drop(client);
    until("it is gone", || rig.frontend_counts().connections == 0);
}
