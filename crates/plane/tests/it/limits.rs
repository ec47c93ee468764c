//! Limits and times of frontends, pools and servers, and listeners that change hands.

use std::time::Duration;

use merismos_lab::free::free_address;
use rstest::rstest;

use crate::rig::{Client, ConnectionEnd, Rig, Server, Silent, until};

#[test]
fn one_client_too_many_is_answered_503_and_counted_and_there_is_room_again_afterwards() {
    let rig = Rig::new(&[Server::named("gull").address], "", "connection_limit = 2");
    let mut clients = [rig.client(), rig.client()];
    for client in &mut clients {
        assert_eq!(client.get("/").status, 200);
    }
    let mut third = rig.client();
    let answer = third.answer().expect("it is refused before it asks");
    assert_eq!(answer.status, 503);
    assert!(answer.text().contains("frontend harbour: as many clients as are allowed are connected"));
    assert_eq!(third.end(), ConnectionEnd::Closed);
    assert_eq!((rig.frontend_counts().turned_away, rig.frontend_counts().connections), (1, 2));
    assert_eq!(clients[0].get("/").status, 200, "those who are there notice nothing");
    drop(clients);
    until("there is room", || rig.frontend_counts().connections == 0);
    assert_eq!(rig.client().get("/").status, 200);
}

#[test]
fn a_head_with_more_fields_than_the_frontend_takes_is_refused() {
    let rig = Rig::new(&[Server::named("gull").address], "", "header_count_limit = 3");
    assert_eq!(
        rig.client().send("GET / HTTP/1.1\r\nHost: a\r\nA: 1\r\nB: 2\r\n\r\n").answer().unwrap().status,
        200
    );
    let answer =
        rig.client().send("GET / HTTP/1.1\r\nHost: a\r\nA: 1\r\nB: 2\r\nC: 3\r\n\r\n").answer().unwrap();
    assert_eq!(answer.status, 431);
    assert!(answer.text().contains("more than 3 fields"), "{}", answer.text());
}

/// Answers with one byte every 20 ms, for 20 s.
fn dripping() -> Server {
    Server::start(|mut conn, _| {
        conn.request();
        conn.say("HTTP/1.1 200 OK\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\nContent-Length: 1000\r\n\r\n");
        for _ in 0..1_000 {
            use std::io::Write;
            if conn.stream.get_mut().write_all(b"x").is_err() {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    })
}

#[test]
fn an_answer_that_never_rests_and_never_ends_is_broken_off() {
    let rig = Rig::new(&[dripping().address], "response_timeout = \"300ms\"\nidle_timeout = \"5s\"", "");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_eq!(client.answer().unwrap_err(), ConnectionEnd::Closed, "the body is never whole");
    until("it is counted", || rig.counts(0).failed == 1);
}

#[test]
fn the_limit_of_one_answer_is_not_that_of_the_next() {
    let rig = Rig::new(&[Server::named("gull").address], "response_timeout = \"150ms\"", "");
    let mut client = rig.client();
    let end = std::time::Instant::now() + Duration::from_millis(600);
    while std::time::Instant::now() < end {
        assert_eq!(client.get("/").status, 200);
    }
}

/// The status of the answer, or `None` when it breaks off.
fn status(mut client: Client) -> Option<u16> {
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    client.answer().ok().map(|answer| answer.status)
}

/// A server whose own key is much shorter than its pool's is given up by its own.
#[rstest]
#[case::first_byte("first_byte_timeout", "1h", Server::start(|mut conn, _| conn.wait_for_end()).address, Some(504))]
#[case::whole_answer("response_timeout", "1h", dripping().address, None)]
#[case::idle("idle_timeout", "1h", half_an_answer().address, None)]
fn a_server_may_have_times_of_its_own(
    #[case] key: &str,
    #[case] usual: &str,
    #[case] server: std::net::SocketAddr,
    #[case] expected: Option<u16>,
) {
    let mut rig = Rig::new(&[server], &format!("{key} = \"{usual}\""), "");
    let own = rig.text() + &format!("{key} = \"150ms\"\n");
    rig.publish_text(&own);
    assert_eq!(status(rig.client()), expected);
}

#[test]
fn a_server_may_have_a_connect_timeout_of_its_own() {
    let silent = Silent::start();
    let mut rig = Rig::new(&[silent.address], "connect_timeout = \"1m\"", "");
    let own = rig.text() + "connect_timeout = \"150ms\"\n";
    rig.publish_text(&own);
    assert_eq!(status(rig.client()), Some(502));
}

/// Begins an answer, and says no more.
fn half_an_answer() -> Server {
    Server::start(|mut conn, _| {
        conn.request();
        conn.say("HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf");
        conn.wait_for_end();
    })
}

#[test]
fn an_address_that_passes_to_another_frontend_refuses_nobody() {
    let mut rig = Rig::new(&[Server::named("gull").address], "", "");
    let other = free_address();
    let (here, there) = (rig.address, other);
    let first = rig.text();
    let with_second = |harbour, pier| {
        first.replace(&here.to_string(), &std::net::SocketAddr::to_string(&harbour))
            + &format!("[frontends.pier]\nprotocol = \"http\"\nlisten = \"{pier}\"\npool = \"quay\"\n")
    };
    rig.publish_text(&with_second(here, there));
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let flag = std::sync::Arc::clone(&stop);
    let clients = std::thread::spawn(move || {
        let mut count = 0;
        while !flag.load(std::sync::atomic::Ordering::Relaxed) {
            for address in [here, there] {
                // A new connection each time: it is the listeners that are tried.
                assert_eq!(Client::to(address).get("/").status, 200);
                count += 1;
            }
        }
        count
    });
    for swap in 0..50 {
        let (harbour, pier) = if swap % 2 == 0 { (there, here) } else { (here, there) };
        rig.publish_text(&with_second(harbour, pier));
    }
    until("clients came", || rig.frontend_counts().requests > 11);
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    assert!(clients.join().expect("every request is answered") > 10);
}

#[test]
fn a_removed_listener_finishes_what_is_in_flight() {
    let (begun, wait) = std::sync::mpsc::channel();
    let (go, gate) = std::sync::mpsc::channel::<()>();
    let gate = std::sync::Mutex::new(gate);
    let begun = std::sync::Mutex::new(begun);
    let slow = Server::start(move |mut conn, _| {
        if conn.request().is_some() {
            begun.lock().unwrap().send(()).unwrap();
            let _ = gate.lock().unwrap().recv();
            conn.answer("at last");
        }
    });
    let mut rig = Rig::new(&[slow.address], "", "");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    wait.recv().unwrap();
    let text = rig.text();
    let start = text.find("[frontends.harbour]").unwrap();
    let end = text.find("[pools.quay]").unwrap();
    rig.publish_text(&format!("{}{}", &text[..start], &text[end..]));
    until("the address is closed", || std::net::TcpStream::connect(rig.address).is_err());
    go.send(()).unwrap();
    assert_eq!(client.answer().expect("the answer comes").text(), "at last");
    assert_eq!(client.end(), ConnectionEnd::Closed, "and then the connection ends");
}

/// Closing a listening socket resets what still waits in its queue.
#[test]
fn connections_that_wait_to_be_accepted_are_served_when_their_frontend_moves_to_another_address() {
    let mut rig = Rig::new(&[Server::named("gull").address], "", "");
    let (text, old) = (rig.text(), rig.address);
    for round in 0..20 {
        let clients: Vec<Client> = (0..30).map(|_| Client::to(old)).collect();
        rig.publish_text(&text.replace(&old.to_string(), &free_address().to_string()));
        for mut client in clients {
            client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
            assert_eq!(client.answer().map(|answer| answer.status), Ok(200), "round {round}");
        }
        rig.publish_text(&text);
    }
}
