//! Clients that rest between two requests.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use merismos_core::config::document::Endpoint;
use merismos_plane::Queued;

use crate::http2;
use crate::rig::{Client, ConnectionEnd, PATIENCE, Rig, Server, until};

/// Longer than a client has to be quiet to be one that rests: nothing outside tells when it does.
const QUIET: Duration = Duration::from_millis(600);

fn resting(rig: &Rig, count: usize) -> Vec<Client> {
    let mut clients: Vec<Client> = (0..count).map(|_| rig.client()).collect();
    for client in &mut clients {
        assert_eq!(client.get("/").status, 200);
    }
    std::thread::sleep(QUIET);
    clients
}

fn ended_in_order(clients: &mut [Client]) -> bool {
    clients.iter_mut().all(|client| client.end() == ConnectionEnd::Closed)
}

#[test]
fn one_that_rested_is_served_as_before_also_with_a_request_that_comes_in_pieces() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    let mut clients = resting(&rig, 8);
    for round in 0..3 {
        for client in &mut clients {
            client.send("GET /again HTTP/1.1\r\nHo");
        }
        std::thread::sleep(QUIET);
        for client in &mut clients {
            client.send("st: a\r\n\r\nGET /third HTTP/1.1\r\nHost: a\r\n\r\n");
            assert!(client.answer().unwrap().text().contains("X-Forwarded-For: 127.0.0.1"), "round {round}");
            assert!(client.answer().unwrap().text().contains("GET /third"), "round {round}");
        }
    }
    let counts = rig.frontend_counts();
    assert_eq!((counts.connections, counts.requests), (8, 8 + 3 * 16));
    drop(clients);
    until("they have left", || rig.frontend_counts().connections == 0);
}

#[test]
fn one_that_rests_too_long_is_let_go_and_not_before() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "idle_timeout = \"1500ms\"");
    let mut client = rig.client();
    client.get("/");
    let start = Instant::now();
    assert_eq!(client.end(), ConnectionEnd::Closed);
    assert!(start.elapsed() >= Duration::from_millis(1_450), "{:?}", start.elapsed());
}

#[test]
fn those_that_rest_are_let_go_when_the_service_stops_or_nobody_listens_there_any_more() {
    let server = Server::named("gull");
    let mut rig = Rig::new(&[server.address], "", "");
    let mut clients = resting(&rig, 3);
    rig.publish_text("format = 3");
    assert!(ended_in_order(&mut clients), "the address is closed");
    rig.publish();
    let mut clients = resting(&rig, 3);
    let begin = Instant::now();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    assert_eq!(runtime.block_on(rig.plane.stop(PATIENCE, Queued::Served)), 0, "no client is left behind");
    assert!(begin.elapsed() < PATIENCE, "those who rest are not waited for");
    assert!(ended_in_order(&mut clients));
}

#[test]
fn a_request_that_is_on_its_way_when_the_service_stops_is_answered() {
    // Those that do not ask within a moment are closed: on a machine that stands still for as long the request comes too late, which is no
    // reason for it to do so again and again.
    let answered = (0..5).find_map(|_| {
        let server = Server::named("gull");
        let rig = Rig::new(&[server.address], "", "");
        let address = rig.address;
        let (mut asks, mut waits) = (rig.client(), rig.client());
        asks.get("/");
        waits.get("/");
        let stop = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(rig.plane.stop(PATIENCE, Queued::Served))
        });
        until("new connections are refused", || std::net::TcpStream::connect(address).is_err());
        let answer = asks.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n").answer();
        assert_eq!(waits.end(), ConnectionEnd::Closed, "one that does not ask is closed in a moment");
        let answer = answer.ok()?;
        assert_eq!(asks.end(), ConnectionEnd::Closed);
        assert_eq!(stop.join().unwrap(), 0, "no client is left behind");
        Some(answer)
    });
    let answer = answered.expect("an answer");
    assert!(
        answer.head.starts_with("HTTP/1.1 200") && answer.head.contains("Connection: close"),
        "{}",
        answer.head
    );
}

#[test]
fn a_frontend_that_was_removed_comes_back_at_its_address_at_once() {
    let server = Server::named("gull");
    let mut rig = Rig::new(&[server.address], "", "");
    let endpoint = Endpoint { udp: false, address: rig.address };
    for round in 0..100 {
        rig.publish_text("format = 3");
        // The workers may not have closed their sockets yet: those are no other program's.
        let bound = rig.plane.bind([endpoint], &BTreeSet::new());
        assert!(bound.is_ok(), "round {round}: {bound:?}");
        drop(bound);
        rig.publish();
    }
    assert_eq!(rig.client().get("/").status, 200);
}

/// More requests at once than tasks are kept for, again and again: each is answered, whichever task answered the one before it.
#[test]
fn many_streams_at_once_are_answered_again_and_again_also_after_a_rest() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "idle_connections = 300", "max_concurrent_streams = 300");
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        for round in 0..3 {
            let asked = (0..200).map(|number| {
                let requests = &requests;
                async move {
                    let path = format!("/{round}/{number}");
                    let answer = http2::ask(requests, http2::get(&path)).await.unwrap();
                    assert_eq!(answer.status, 200);
                    assert!(answer.text().contains(&format!("GET {path} ")), "{path}: {}", answer.text());
                }
            });
            futures_util::future::join_all(asked).await;
            tokio::time::sleep(QUIET).await;
        }
        assert_eq!(rig.frontend_counts().requests, 600);
    });
    until("it has left", || rig.frontend_counts().connections == 0);
}

#[test]
fn a_client_of_http_2_that_rests_is_let_go_when_the_service_stops() {
    let server = Server::named("gull");
    let rig = Rig::new(&[server.address], "", "");
    http2::run(async {
        // One has asked a moment ago, and one a while ago.
        let early = http2::connect(rig.address).await;
        http2::ask(&early, http2::get("/")).await.unwrap();
        tokio::time::sleep(QUIET).await;
        let late = http2::connect(rig.address).await;
        http2::ask(&late, http2::get("/")).await.unwrap();
        let begin = Instant::now();
        assert_eq!(rig.plane.stop(PATIENCE, Queued::Served).await, 0, "no client is left behind");
        assert!(begin.elapsed() < PATIENCE, "those who rest are not waited for");
        assert!(http2::ask(&early, http2::get("/")).await.is_err());
    });
}
