//! What has to work.

use std::collections::BTreeSet;
use std::io::{BufRead, Read, Write};
use std::time::Duration;

use merismos_core::config::document::Endpoint;
use merismos_core::duty::Duty;
use merismos_core::health::HealthState;

use crate::rig::{Client, ConnectionEnd, Rig, Server, until};
use merismos_plane::Queued;
use merismos_plane::memory::MemoryLimits;
use merismos_plane::observer::{ObserveFilter, ObservedWork};

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or_default().to_owned()
}

#[test]
fn many_requests_on_one_connection_are_dealt_out_in_turn_on_kept_connections() {
    let servers = [Server::named("gull"), Server::named("tern"), Server::named("auk")];
    let rig = Rig::new(&servers.each_ref().map(|server| server.address), "", "");
    let mut client = rig.client();
    let names: Vec<_> = (0..9).map(|_| first_line(&client.get("/").text())).collect();
    assert_eq!(names, ["gull", "tern", "auk"].repeat(3));
    assert_eq!(servers.map(|server| server.connections()), [1, 1, 1], "connections to servers are kept");
    assert_eq!(rig.counts(0).taken, 3);
    until("nothing is in flight", || rig.counts(0).in_flight == 0);
    assert_eq!(rig.frontend_counts().requests, 9);
}

#[test]
fn the_dealing_out_is_exact_over_all_workers_and_connections() {
    let servers = [Server::named("gull"), Server::named("tern")];
    let rig = Rig::new(&servers.each_ref().map(|server| server.address), "", "");
    let address = rig.address;
    let threads: Vec<_> = (0..8)
        .map(|_| {
            std::thread::spawn(move || {
                let mut client = Client::to(address);
                (0..25).for_each(|_| assert_eq!(client.get("/").status, 200));
            })
        })
        .collect();
    threads.into_iter().for_each(|thread| thread.join().unwrap());
    assert_eq!((rig.counts(0).taken, rig.counts(1).taken), (100, 100));
}

#[test]
fn the_server_learns_who_its_client_is() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    let text = rig.client().get("/path?q=1").text();
    for expected in [
        "GET /path?q=1 HTTP/1.1\r\n",
        "Host: harbour.skerry.example\r\n",
        "X-Forwarded-For: 127.0.0.1\r\n",
        "Forwarded: for=127.0.0.1;proto=http;host=\"harbour.skerry.example\"\r\n",
        "Via: 1.1 merismos\r\n",
    ] {
        assert!(text.contains(expected), "{expected:?} in {text}");
    }
}

#[test]
fn bodies_of_known_length_pass_both_ways_whatever_their_size() {
    let server = Server::start(|mut conn, _| {
        while let Some((_, body)) = conn.request() {
            conn.say(format!(
                "HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: {}\r\n\r\n",
                body.len()
            ));
            conn.say(body);
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for size in [0, 1, 1_000, 16_384, 65_536, 70_001, 5_000_000] {
        let body: Vec<u8> = (0..size).map(|i| (i % 251) as u8).collect();
        let mut writer = client.writer();
        let sent = body.clone();
        let thread = std::thread::spawn(move || {
            write!(writer, "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: {}\r\n\r\n", sent.len()).unwrap();
            writer.write_all(&sent).unwrap();
        });
        let answer = client.answer().unwrap();
        thread.join().unwrap();
        assert_eq!((answer.status, answer.body == body), (200, true), "{size} bytes");
    }
    assert_eq!(rig.frontend_counts().requests, 7);
}

#[test]
fn chunked_bodies_pass_both_ways_with_their_trailers() {
    let server = Server::start(|mut conn, _| {
        conn.request().unwrap();
        let mut body = Vec::new();
        let mut byte = [0];
        while !body.ends_with(b"X-Sum: 11\r\n\r\n") {
            conn.stream.read_exact(&mut byte).unwrap();
            body.push(byte[0]);
        }
        conn.say("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n");
        conn.say(body);
        conn.wait_for_end();
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhel");
    client.send("lo\r\n6;x=y\r\n world\r\n0\r\nX-Sum: 11\r\n\r\n");
    let head = client.head().unwrap();
    assert!(head.contains("Transfer-Encoding: chunked"), "{head}");
    // Extensions of chunks are one hop's alone (RFC 9112, 7.1.1).
    const ON: &[u8] = b"5\r\nhello\r\n6\r\n world\r\n0\r\nX-Sum: 11\r\n\r\n";
    let mut body = [0; ON.len()];
    client.bytes(&mut body);
    assert_eq!(&body[..], ON);
}

#[test]
fn an_http_10_client_gets_a_chunked_answer_as_plain_bytes() {
    let server = Server::saying(
        b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n6\r\n world\r\n0\r\n\r\n",
    );
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    let answer = client.send("GET / HTTP/1.0\r\n\r\n").answer().unwrap();
    assert!(!answer.head.contains("chunked"), "{}", answer.head);
    assert_eq!(answer.text(), "hello world");
}

#[test]
fn an_answer_without_length_ends_with_the_connection() {
    let server = Server::saying(b"HTTP/1.1 200 OK\r\n\r\nuntil the end");
    let rig = Rig::new(&[server.address], "", "");
    let answer = rig.client().get("/");
    assert!(answer.head.contains("Connection: close"), "{}", answer.head);
    assert_eq!(answer.text(), "until the end");
}

#[test]
fn head_has_no_body_and_keeps_the_connection() {
    let server = Server::start(|mut conn, _| {
        while conn.request().is_some() {
            conn.say("HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: 500\r\n\r\n");
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..3 {
        client.send("HEAD / HTTP/1.1\r\nHost: a\r\n\r\n");
        assert!(client.head().unwrap().contains("Content-Length: 500"));
    }
    assert_eq!(server.connections(), 1);
}

#[test]
fn a_client_that_waits_for_100_continue_gets_it_from_the_server() {
    let server = Server::start(|mut conn, _| {
        let head = conn.head().unwrap();
        assert!(head.contains("Expect: 100-continue"), "{head}");
        conn.say("HTTP/1.1 100 Continue\r\n\r\n");
        let mut body = [0; 5];
        conn.stream.read_exact(&mut body).unwrap();
        conn.answer(std::str::from_utf8(&body).unwrap());
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nExpect: 100-continue\r\n\r\n");
    assert!(client.head().unwrap().starts_with("HTTP/1.1 100 Continue"));
    let answer = client.send("hello").answer().unwrap();
    assert_eq!(answer.text(), "hello");
    assert!(!answer.head.contains("Connection"), "its body was taken, so it may ask again: {}", answer.head);
}

#[test]
fn a_client_whose_body_is_not_wanted_is_told_that_its_connection_ends() {
    let server = Server::start(|mut conn, _| {
        conn.head().unwrap();
        conn.say("HTTP/1.1 303 See Other\r\nLocation: /berths\r\nContent-Length: 0\r\n\r\n");
        conn.wait_for_end();
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nExpect: 100-continue\r\n\r\n");
    let answer = client.answer().unwrap();
    assert_eq!(answer.status, 303);
    assert!(answer.head.contains("Connection: close"), "{}", answer.head);
    assert_eq!(client.end(), ConnectionEnd::Closed);
}

#[test]
fn a_server_may_answer_before_the_body_has_come() {
    let server = Server::start(|mut conn, _| {
        conn.head().unwrap();
        conn.say("HTTP/1.1 413 Too Large\r\nContent-Length: 3\r\n\r\nbig");
        conn.wait_for_end();
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 1000000\r\n\r\nsome");
    let answer = client.answer().unwrap();
    assert_eq!((answer.status, answer.text().as_str()), (413, "big"));
    assert!(answer.head.contains("Connection: close"), "{}", answer.head);
    assert_eq!(
        client.end(),
        ConnectionEnd::Closed,
        "the rest of the body can't be distinguished from a next request"
    );
}

#[test]
fn a_server_may_begin_its_answer_while_the_body_comes() {
    let server = Server::start(|mut conn, _| {
        while conn.head().is_some() {
            conn.say("HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: 10\r\n\r\n");
            for _ in 0..2 {
                let mut half = [0; 5];
                conn.stream.read_exact(&mut half).unwrap();
                conn.say(half);
            }
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..2 {
        client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 10\r\n\r\nhello");
        let head = client.head().unwrap();
        assert!(!head.contains("Connection"), "{head}");
        let mut half = [0; 5];
        client.bytes(&mut half);
        client.send("world").bytes(&mut half);
        assert_eq!(&half, b"world", "and the connection goes on");
    }
    assert_eq!(server.connections(), 1);
}

#[test]
fn the_rest_of_a_request_that_was_answered_early_is_taken_when_its_connection_was_to_go_on() {
    let server = Server::start(|mut conn, _| {
        while conn.head().is_some() {
            conn.answer("early");
            let mut body = [0; 10];
            conn.stream.read_exact(&mut body).unwrap();
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..3 {
        client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 10\r\n\r\nhello");
        let answer = client.answer().unwrap();
        assert!(answer.text() == "early" && !answer.head.contains("Connection"), "{answer:?}");
        client.send("world");
    }
}

#[test]
fn what_a_server_says_before_its_answer_keeps_to_the_rules_too() {
    let server = Server::start(|mut conn, _| {
        while conn.request().is_some() {
            conn.say(
                "HTTP/1.0 103 Early Hints\r\nConnection: X-Berth\r\nX-Berth: 7\r\nLink: </berths>\r\n\r\n",
            );
            conn.say("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok");
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_eq!(client.head().unwrap(), "HTTP/1.1 103 Early Hints\nLink: </berths>\n");
    let answer = client.answer().unwrap();
    assert_eq!(answer.text(), "ok");
    assert_eq!(answer.head.matches("Date: ").count(), 1, "when it came: {}", answer.head);
}

#[test]
fn pipelined_requests_are_answered_in_order() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    let requests: String = (0..5).map(|i| format!("GET /{i} HTTP/1.1\r\nHost: a\r\n\r\n")).collect();
    client.send(requests);
    for i in 0..5 {
        assert!(client.answer().unwrap().text().contains(&format!("GET /{i} ")));
    }
}

#[test]
fn no_eligible_server_is_told_with_the_frontends_name() {
    let mut rig = Rig::new(&[Server::named("gull").address], "", "");
    rig.states.insert("s0".to_owned(), HealthState::Down);
    rig.publish();
    let mut client = rig.client();
    let answer = client.get("/");
    assert_eq!(answer.status, 503);
    assert_eq!(answer.text(), "503 Service Unavailable\nfrontend harbour: no server is available\n");
    assert_eq!(client.get("/").status, 503, "the connection is kept");
    assert_eq!(rig.frontend_counts().unavailable, 2);
    rig.states.clear();
    rig.publish();
    assert_eq!(client.get("/").status, 200, "a kept connection sees the change at once");
}

#[test]
fn a_withdrawn_server_loses_its_requests_at_once_and_they_are_answered_elsewhere() {
    let silent = Server::start(|mut conn, _| conn.wait_for_end());
    let mut rig = Rig::new(&[silent.address, Server::named("tern").address], "", "");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    until("the request is at the silent server", || rig.counts(0).in_flight == 1);
    rig.duties.insert("s0".to_owned(), Duty::Withdrawn);
    rig.publish();
    rig.plane.cut(rig.plane.snapshot().pools[0].servers[0].cell.id);
    assert_eq!(first_line(&client.answer().unwrap().text()), "tern");
    until("nothing is in flight", || rig.counts(0).in_flight == 0);
}

#[test]
fn a_draining_server_finishes_what_it_has() {
    let (release, wait) = std::sync::mpsc::channel::<()>();
    let wait = std::sync::Mutex::new(wait);
    let slow = Server::start(move |mut conn, _| {
        conn.request();
        wait.lock().unwrap().recv().unwrap();
        conn.answer("slow");
    });
    let mut rig = Rig::new(&[slow.address, Server::named("tern").address], "", "");
    let mut waiting = rig.client();
    waiting.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    until("the request is at the slow server", || rig.counts(0).in_flight == 1);
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    rig.publish();
    let mut others = rig.client();
    for _ in 0..4 {
        assert_eq!(first_line(&others.get("/").text()), "tern");
    }
    release.send(()).unwrap();
    assert_eq!(waiting.answer().unwrap().text(), "slow");
}

#[test]
fn stopping_lets_work_in_flight_finish() {
    let (release, wait) = std::sync::mpsc::channel::<()>();
    let wait = std::sync::Mutex::new(wait);
    let slow = Server::start(move |mut conn, _| {
        conn.request();
        wait.lock().unwrap().recv().unwrap();
        conn.answer("done");
    });
    let rig = Rig::new(&[slow.address], "", "");
    let address = rig.address;
    let (mut busy, mut resting) = (rig.client(), rig.client());
    busy.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    until("the request is at the server", || rig.counts(0).in_flight == 1);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let stop =
        std::thread::spawn(move || runtime.block_on(rig.plane.stop(crate::rig::PATIENCE, Queued::Served)));
    assert_eq!(resting.end(), ConnectionEnd::Closed, "a resting connection is closed");
    until("new connections are refused", || std::net::TcpStream::connect(address).is_err());
    release.send(()).unwrap();
    let answer = busy.answer().unwrap();
    assert_eq!(answer.text(), "done");
    assert!(answer.head.contains("Connection: close"), "{}", answer.head);
    assert_eq!(stop.join().unwrap(), 0, "nothing was broken off");
}

#[test]
fn a_taken_port_is_told_apart_from_an_address_of_another_machine() {
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let plane = merismos_plane::Plane::start(2, MemoryLimits::NONE).unwrap();
    let address = taken.local_addr().unwrap();
    let error = plane.bind([Endpoint { udp: false, address }], &BTreeSet::new()).unwrap_err();
    assert!(
        matches!(error, merismos_plane::BindError::Taken { address: taken, holder: Some(ref who) }
            if taken == address && who.contains(&std::process::id().to_string())),
        "{error}"
    );
    let error = plane
        .bind([Endpoint { udp: false, address: "192.0.2.1:80".parse().unwrap() }], &BTreeSet::new())
        .unwrap_err();
    assert!(matches!(error, merismos_plane::BindError::NotOurs { .. }), "{error}");
}

#[test]
fn a_watched_mark_is_told_and_the_server_never_sees_it() {
    let server = Server::named("gull");
    let rig = Rig::new(&[merismos_lab::free::free_address(), server.address], "", "");
    let mut sightings = rig.plane.watch(77, ObserveFilter::Marks { to: None }, 10);
    let mut client = rig.client();
    for number in 0..2 {
        client.send(format!("GET / HTTP/1.1\r\nHost: a\r\nMerismos-Mark: 77-{number}\r\n\r\n"));
        assert!(!client.answer().unwrap().text().to_lowercase().contains("mark"));
    }
    let first = sightings.receiver.blocking_recv().unwrap();
    assert_eq!((first.of, first.server.unwrap().to_string().as_str()), (ObservedWork::Request(0), "quay/s1"));
    assert_eq!(first.failed_at.len(), 1, "s0 refused it first");
    assert_eq!(sightings.receiver.blocking_recv().unwrap().of, ObservedWork::Request(1));
}

/// Three MiB that tell their places.
fn long_body() -> Vec<u8> {
    (0..3 << 20).map(|index: u32| (index.wrapping_mul(2_654_435_761) >> 24) as u8).collect()
}

#[test]
fn a_long_body_of_known_length_arrives_whole_and_both_connections_go_on() {
    let server = Server::start(|mut conn, _| {
        while conn.request().is_some() {
            let body = long_body();
            conn.say(
                format!(
                    "HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: {}\r\n\r\n",
                    body.len()
                )
                .leak(),
            );
            conn.stream.get_mut().write_all(&body).unwrap();
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..3 {
        let answer = client.get("/");
        assert!(answer.body == long_body(), "every byte is in its place");
    }
    assert_eq!((server.connections(), rig.counts(0).taken, rig.counts(0).failed), (1, 3, 0));
}

#[test]
fn a_long_body_that_breaks_off_is_told_and_one_that_the_client_leaves_harms_nobody() {
    let server = Server::start(|mut conn, _| {
        while let Some((head, _)) = conn.request() {
            let body = long_body();
            conn.say(
                format!(
                    "HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: {}\r\n\r\n",
                    body.len()
                )
                .leak(),
            );
            let part = if head.starts_with("GET /part ") { 1 << 20 } else { body.len() };
            if conn.stream.get_mut().write_all(&body[..part]).is_err() || part < body.len() {
                return;
            }
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("GET /part HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_eq!(client.answer().unwrap_err(), ConnectionEnd::Closed, "the body is not whole");
    until("it is counted", || rig.counts(0).failed == 1);
    let mut impatient = rig.client();
    impatient.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    let mut some = [0; 1000];
    impatient.bytes(&mut some);
    drop(impatient);
    until("it is over", || rig.counts(0).in_flight == 0);
    assert_eq!(rig.client().get("/").body.len(), 3 << 20);
    assert_eq!(rig.counts(0).failed, 1, "a client that goes away is no failure of the server");
}

/// A server that gives a body as long as the path says, with another field in the head when the path wants it.
fn generous() -> Server {
    Server::start(|mut conn, _| {
        while let Some((head, _)) = conn.request() {
            let length = head.split(['/', ' ']).nth(2).unwrap().parse().unwrap();
            let field = if head.contains("/close ") { "Keep-Alive: timeout=9\r\n" } else { "" };
            let answer = format!("HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\n{field}Content-Length: {length}\r\n\r\n").into_bytes();
            conn.say([&answer, &long_body()[..length]].concat());
        }
    })
}

#[test]
fn long_and_short_answers_take_turns_on_one_connection() {
    let server = generous();
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    let lengths =
        [70_000, 70_000, 5, 3_000, 2_000, 1_900, 32_768, 40_000, 200_000, 0, 500_000, 500_000, 16_384];
    for length in lengths {
        assert!(
            client.get(&format!("/{length}")).body == long_body()[..length],
            "{length} bytes in their places"
        );
        let rewritten = client.get(&format!("/{length}/close"));
        assert!(!rewritten.head.to_ascii_lowercase().contains("keep-alive"), "{}", rewritten.head);
        assert!(rewritten.body == long_body()[..length], "{length} bytes behind a head that was changed");
    }
    client.send("HEAD /200000 HTTP/1.1\r\nHost: a\r\n\r\n");
    assert!(client.head().unwrap().contains("200000"));
    assert_eq!(server.connections(), 1);
}

#[test]
fn what_a_server_says_beyond_its_long_answer_reaches_nobody() {
    let server = Server::start(|mut conn, _| {
        while conn.request().is_some() {
            let mut answer =
                b"HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: 300000\r\n\r\n"
                    .to_vec();
            answer.extend_from_slice(&long_body()[..300_000]);
            answer.extend_from_slice(b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nevil");
            conn.say(&answer);
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..6 {
        assert!(client.get("/").body == long_body()[..300_000]);
    }
    assert_eq!(rig.counts(0).failed, 0);
}

#[test]
fn a_long_answer_that_comes_slowly_is_passed_on_as_it_comes() {
    let (go_on, wait) = std::sync::mpsc::channel::<()>();
    let wait = std::sync::Mutex::new(wait);
    let server = Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            conn.say(
                "HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: 2000000\r\n\r\n",
            );
            // The next part is sent when the client has the one before.
            for part in long_body()[..2_000_000].chunks(50_000) {
                conn.say(part);
                wait.lock().unwrap().recv().unwrap();
            }
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..2 {
        client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
        client.head().unwrap();
        for part in long_body()[..2_000_000].chunks(50_000) {
            let mut got = vec![0; part.len()];
            client.bytes(&mut got);
            assert!(got == part);
            go_on.send(()).unwrap();
        }
    }
    assert_eq!(server.connections(), 1);
}

#[test]
fn long_bodies_from_clients_arrive_whole_and_what_follows_them_is_another_request() {
    let server = Server::start(|mut conn, _| {
        while let Some((head, body)) = conn.request() {
            let sum: u64 = body.iter().map(|byte| u64::from(*byte)).sum();
            let method = head.split(' ').next().unwrap();
            conn.answer(&format!("{method} {} {sum}", body.len()));
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    let body = long_body();
    let sum: u64 = body.iter().map(|byte| u64::from(*byte)).sum();
    let mut both =
        format!("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: {}\r\n\r\n", body.len()).into_bytes();
    both.extend_from_slice(&body);
    both.extend_from_slice(b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nhi");
    let mut writer = client.writer();
    let sending = std::thread::spawn(move || {
        for _ in 0..3 {
            writer.write_all(&both).unwrap();
        }
    });
    for _ in 0..3 {
        assert_eq!(client.answer().unwrap().text(), format!("POST {} {sum}", body.len()));
        assert_eq!(client.answer().unwrap().text(), "POST 2 209");
    }
    sending.join().unwrap();
}

#[test]
fn an_answer_before_the_end_of_a_long_body_ends_the_connection_after_it() {
    let server = Server::start(|mut conn, _| {
        let mut head = String::new();
        while !head.ends_with("\r\n\r\n") {
            conn.stream.read_line(&mut head).unwrap();
        }
        conn.say("HTTP/1.1 413 Content Too Large\r\nContent-Length: 3\r\n\r\nbig");
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 50000000\r\n\r\n");
    client.send(&long_body()[..200_000]);
    assert_eq!(client.answer().unwrap().status, 413);
    assert_eq!(client.end(), ConnectionEnd::Closed, "what is left of the body is no request");
}

#[test]
fn a_long_answer_that_comes_while_its_request_is_still_on_the_way_is_not_broken_off() {
    let (go_on, wait) = std::sync::mpsc::channel::<()>();
    let wait = std::sync::Mutex::new(wait);
    let server = Server::start(move |mut conn, _| {
        for _ in 0..2 {
            let mut head = String::new();
            while !head.ends_with("\r\n\r\n") {
                conn.stream.read_line(&mut head).unwrap();
            }
            conn.say(
                "HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: 400000\r\n\r\n",
            );
            conn.say(&long_body()[..100_000]);
            wait.lock().unwrap().recv().unwrap();
            conn.stream.read_exact(&mut vec![0; 200_000]).unwrap();
            conn.say(&long_body()[100_000..400_000]);
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..2 {
        client
            .send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 200000\r\n\r\n")
            .send(&long_body()[..50_000]);
        client.head().unwrap();
        let mut part = vec![0; 100_000];
        client.bytes(&mut part);
        // Longer than a portion is waited for: what waits for the rest of the request must not hear of that.
        std::thread::sleep(Duration::from_millis(200));
        client.send(&long_body()[50_000..200_000]);
        go_on.send(()).unwrap();
        let mut rest = vec![0; 300_000];
        client.bytes(&mut rest);
        assert!([part, rest].concat() == long_body()[..400_000]);
    }
}

#[test]
fn the_consoles_session_is_never_passed_to_servers() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send(
        "GET / HTTP/1.1\r\nHost: a\r\nCookie: lang=en; merismos_session=one-of-ours; visit=1\r\nCookie: merismos_session=another-of-ours\r\n\
         Cookie: seen=merismos_session\r\n\r\n",
    );
    let text = client.answer().unwrap().text();
    // No digits of a hexadecimal number: requests carry random ones.
    assert!(!text.contains("of-ours"), "{text}");
    assert!(text.contains("Cookie: lang=en; visit=1; seen=merismos_session\r\n"), "{text}");
}

/// Portions are gathered while much comes: what comes slowly after that goes on as it comes, however large the answer is.
#[test]
fn an_answer_that_begins_fast_and_goes_on_slowly_is_not_held_back() {
    const FAST: usize = 4 << 20;
    const SLOW: usize = 10_000;
    let (tell, told) = std::sync::mpsc::channel();
    let told = std::sync::Mutex::new(told);
    let server = Server::start(move |mut conn, _| {
        let told = told.lock().unwrap();
        conn.request();
        conn.say(format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", FAST + 20 * SLOW + (1 << 20)));
        conn.say(vec![b'x'; FAST]);
        // The next piece is there when the client has the one before it.
        for () in told.iter() {
            conn.say(vec![b'y'; SLOW]);
        }
    });
    let rig = Rig::new(&[server.address], "idle_timeout = \"1h\"", "idle_timeout = \"1h\"");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    client.head().expect("an answer");
    client.bytes(&mut vec![0; FAST]);
    for _ in 0..20 {
        tell.send(()).unwrap();
        client.bytes(&mut vec![0; SLOW]);
    }
}

#[test]
fn a_long_answer_that_comes_in_bursts_reaches_a_client_that_takes_it_slowly() {
    const PIECE: usize = 300 << 10;
    const PIECES: usize = 3;
    let server = Server::start(|mut conn, number| {
        let piece = vec![b'x'; PIECE];
        let mut turn = number as u64;
        while conn.request().is_some() {
            conn.say(format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", PIECE * PIECES));
            for _ in 0..PIECES {
                conn.say(&piece);
                // About as long as a portion may take to gather: it comes in the moment in which it is given up.
                turn += 1;
                std::thread::sleep(Duration::from_micros(38_000 + turn * 777 % 24_000));
            }
        }
    });
    let rig = Rig::new(&[server.address], "", "");
    let take = |_| {
        let mut client = Client::narrow(rig.address);
        std::thread::spawn(move || {
            let mut room = vec![0; 96 << 10];
            for _ in 0..10 {
                client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
                client.head().expect("an answer");
                let mut got = 0;
                while got < PIECE * PIECES {
                    match client.some(&mut room) {
                        0 => return false,
                        count => got += count,
                    }
                }
            }
            true
        })
    };
    let clients: Vec<_> = (0..80).map(take).collect();
    let whole = clients.into_iter().map(|client| client.join().unwrap()).filter(|whole| *whole).count();
    assert_eq!(whole, 80, "whole answers");
}
