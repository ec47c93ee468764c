//! What servers do when they fail, and what clients see of it.

use merismos_lab::free::free_address;
use rstest::rstest;

use crate::rig::{ConnectionEnd, Rig, Server, Silent, until};

#[test]
fn a_refused_connection_goes_to_another_server_and_is_counted() {
    let rig = Rig::new(&[free_address(), Server::named("tern").address], "", "");
    let mut client = rig.client();
    for _ in 0..6 {
        assert!(client.get("/").text().starts_with("tern"));
    }
    let (dead, alive) = (rig.counts(0), rig.counts(1));
    assert_eq!((dead.taken, alive.taken), (0, 6));
    assert!(dead.failed > 0 && dead.failed == dead.retried, "{dead:?}");
    assert_eq!((alive.failed, alive.retried), (0, 0));
}

#[test]
fn a_request_with_a_body_is_retried_too_when_no_connection_was_made() {
    let rig = Rig::new(&[free_address(), Server::named("tern").address], "", "");
    let mut client = rig.client();
    for _ in 0..4 {
        client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nhello");
        assert!(client.answer().unwrap().text().ends_with("\n5"));
    }
}

#[test]
fn a_silent_address_is_given_up_after_the_connect_timeout() {
    let silent = Silent::start();
    let rig = Rig::new(&[silent.address, Server::named("tern").address], "connect_timeout = \"100ms\"", "");
    let mut client = rig.client();
    for _ in 0..2 {
        assert!(client.get("/").text().starts_with("tern"));
    }
    assert_eq!(rig.counts(0).retried, 1);
}

#[test]
fn when_every_server_refuses_the_client_is_told() {
    let rig = Rig::new(&[free_address(), free_address()], "", "");
    let mut client = rig.client();
    let answer = client.get("/");
    assert_eq!((answer.status, answer.text().contains("no server could be reached")), (502, true));
    assert_eq!(rig.frontend_counts().unanswered, 1);
    assert_eq!(client.get("/").status, 502, "the connection is kept");
}

#[test]
fn attempts_are_bounded() {
    let rig = Rig::new(&[free_address(), free_address(), free_address()], "attempts = 2", "");
    assert_eq!(rig.client().get("/").status, 502);
    assert_eq!((0..3).map(|server| rig.counts(server).failed).sum::<u64>(), 2);
}

#[rstest]
#[case::garbage(b"garbage\r\n\r\n")]
#[case::half_a_head(b"HTTP/1.1 200 OK\r\nContent-Le")]
#[case::two_lengths(b"HTTP/1.1 200 OK\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\nxx")]
#[case::broken_chunks(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nhalfXX")]
#[case::broken_chunks_of_one_with_a_date(
    b"HTTP/1.1 200 OK\r\nDate: now\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nhalfXX"
)]
#[case::unasked_upgrade(b"HTTP/1.1 101 Switching Protocols\r\n\r\n")]
fn an_answer_that_makes_no_sense_is_a_502(#[case] bytes: &'static [u8]) {
    let server = Server::saying(bytes);
    let rig = Rig::new(&[server.address], "", "");
    let answer = rig.client().get("/");
    assert_eq!((answer.status, rig.counts(0).failed, rig.counts(0).taken), (502, 1, 1));
}

#[rstest]
#[case::counted(b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf")]
#[case::chunked(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n64\r\nhalf")]
fn an_answer_that_breaks_off_ends_the_connection_and_is_never_passed_for_whole(#[case] bytes: &'static [u8]) {
    let server = Server::saying(bytes);
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_eq!(client.answer().unwrap_err(), ConnectionEnd::Closed, "no whole answer");
    until("the failure is counted", || rig.counts(0).failed == 1 && rig.frontend_counts().unanswered == 1);
}

#[test]
fn an_answer_that_only_the_end_delimits_is_reset_when_it_breaks_off() {
    let server = Server::start(|mut conn, _| {
        conn.request();
        conn.say("HTTP/1.1 200 OK\r\n\r\nhalf");
        // It says no more and does not close: the pool's idle timeout breaks the answer off.
        conn.wait_for_end();
    });
    let rig = Rig::new(&[server.address], "idle_timeout = \"300ms\"", "");
    let mut client = rig.client();
    client.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
    assert!(client.head().unwrap().contains("Connection: close"));
    assert_eq!(client.rest(), (b"half".to_vec(), ConnectionEnd::Reset));
}

#[test]
fn a_server_that_never_answers_is_a_504_and_is_not_asked_twice() {
    let server = Server::start(|mut conn, _| conn.wait_for_end());
    let rig = Rig::new(&[server.address], "first_byte_timeout = \"200ms\"", "");
    let answer = rig.client().get("/");
    assert_eq!(answer.status, 504);
    assert_eq!(server.connections(), 1);
}

#[test]
fn a_kept_connection_that_went_stale_costs_the_client_nothing() {
    // Each connection answers one request and is then closed without a word.
    let server = Server::start(|mut conn, number| {
        conn.request();
        conn.answer(&number.to_string());
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..10 {
        assert_eq!(client.get("/").status, 200);
    }
    assert_eq!(rig.counts(0).retried, 0);
}

#[test]
fn a_closed_connection_moves_an_idempotent_request_and_fails_another() {
    let closing = Server::start(|mut conn, _| drop(conn.request()));
    let rig = Rig::new(&[closing.address, Server::named("tern").address], "", "");
    let mut client = rig.client();
    for _ in 0..2 {
        assert!(client.get("/").text().starts_with("tern"), "a GET is asked again elsewhere");
    }
    let mut statuses: Vec<_> = (0..2)
        .map(|_| {
            client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nhi");
            client.answer().unwrap().status
        })
        .collect();
    statuses.sort_unstable();
    assert_eq!(statuses, [200, 502], "a POST may have been acted on and is not sent twice");
}

#[test]
fn a_server_that_closes_while_idle_is_noticed() {
    let server = Server::start(|mut conn, _| {
        conn.request();
        conn.say("HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok");
    });
    let rig = Rig::new(&[server.address], "", "");
    let mut client = rig.client();
    for _ in 0..3 {
        let answer = client.get("/");
        assert_eq!(answer.text(), "ok");
        assert!(!answer.head.contains("close"), "the server's close concerns only its own connection");
    }
    assert_eq!(server.connections(), 3);
}
