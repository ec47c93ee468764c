//! How servers are reached: from which address, over which kept connections, and ahead of need.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use merismos_core::health::HealthState;
use merismos_lab::free::free_address;
use rstest::rstest;

use crate::rig::{Rig, Server, Silent, until};

/// A server that notes where its connections come from.
fn noting() -> (Server, Arc<Mutex<Vec<IpAddr>>>) {
    let seen = Arc::new(Mutex::new(Vec::new()));
    let notes = Arc::clone(&seen);
    let server = Server::start(move |mut conn, _| {
        notes.lock().unwrap().push(conn.stream.get_ref().peer_addr().unwrap().ip());
        while conn.request().is_some() {
            conn.answer("here");
        }
    });
    (server, seen)
}

#[test]
fn connections_come_from_the_source_addresses_in_turn() {
    let (server, seen) = noting();
    let rig = Rig::new(
        &[server.address],
        "source_addresses = [\"127.0.0.21\", \"127.0.0.22\", \"2001:db8::5\"]\nidle_connections = 0",
        "",
    );
    let mut client = rig.client();
    let addresses = || seen.lock().unwrap().iter().map(ToString::to_string).collect::<BTreeSet<_>>();
    until("both were used", || {
        assert_eq!(client.get("/").status, 200);
        addresses().len() == 2
    });
    assert_eq!(addresses(), ["127.0.0.21", "127.0.0.22"].map(str::to_owned).into());
}

#[test]
fn an_address_that_this_machine_does_not_have_reaches_nobody() {
    let (server, _) = noting();
    let rig = Rig::new(&[server.address], "source_addresses = [\"192.0.2.77\"]", "");
    assert_eq!(rig.client().get("/").status, 502);
    assert_eq!((server.connections(), rig.counts(0).failed), (0, 0), "which is not the server's doing");
}

#[rstest]
#[case::none_are_kept("idle_connections = 0", 5)]
#[case::they_are_kept("", 1)]
fn connections_are_kept_as_many_as_the_pool_says(#[case] pool: &str, #[case] connections: usize) {
    let (server, _) = noting();
    let rig = Rig::new(&[server.address], pool, "");
    let mut client = rig.client();
    for _ in 0..5 {
        assert_eq!(client.get("/").status, 200);
    }
    assert_eq!(server.connections(), connections);
}

#[rstest]
#[case::unused("idle_connection_timeout = \"100ms\"")]
#[case::old("idle_connection_age = \"1s\"\nidle_connection_timeout = \"1h\"")]
fn connections_are_let_go(#[case] pool: &str) {
    let ended = Arc::new(std::sync::atomic::AtomicUsize::new(0));
    let count = Arc::clone(&ended);
    let server = Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            conn.answer("here");
        }
        count.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
    });
    let rig = Rig::new(&[server.address], pool, "");
    assert_eq!(rig.client().get("/").status, 200);
    until("the server sees its end", || ended.load(std::sync::atomic::Ordering::SeqCst) == 1);
}

#[test]
fn a_server_that_comes_back_is_connected_to_before_anybody_asks() {
    let (server, seen) = noting();
    let mut rig = Rig::new(&[server.address], "preconnect = 2\nidle_connection_timeout = \"1h\"", "");
    let made = 2 * rig.plane.workers();
    until("each worker has its connections", || seen.lock().unwrap().len() == made);
    assert_eq!(rig.client().get("/").status, 200);
    assert_eq!(server.connections(), made, "one of them carried the request");
    rig.publish();
    assert_eq!(rig.client().get("/").status, 200);
    assert_eq!(server.connections(), made, "another revision is no reason to connect again");
    until("they are made again when it has recovered", || {
        rig.states.insert("s0".to_owned(), HealthState::Down);
        rig.publish();
        rig.states.clear();
        rig.publish();
        seen.lock().unwrap().len() >= 2 * made
    });
}

fn raced(rig: &mut Rig, first: SocketAddr, others: &[SocketAddr]) {
    let others: Vec<String> = others.iter().map(|address| format!("\"{address}\"")).collect();
    let text = format!(
        "format = 3\n[frontends.harbour]\nprotocol = \"http\"\nlisten = \"{}\"\npool = \"quay\"\n[pools.quay]\n\
         connect_timeout = \"2s\"\nidle_connections = 0\n[pools.quay.servers.s0]\naddress = \"{first}\"\n\
         other_addresses = [{}]\n",
        rig.address,
        others.join(", ")
    );
    rig.publish_text(&text);
}

#[test]
fn the_first_address_of_a_server_that_answers_is_used_and_tried_first_from_then_on() {
    let (silent, (server, _)) = (Silent::start(), noting());
    let mut rig = Rig::new(&[], "", "");
    raced(&mut rig, silent.address, &[free_address(), server.address]);
    let mut client = rig.client();
    let mut times = Vec::new();
    for _ in 0..4 {
        let start = Instant::now();
        assert_eq!(client.get("/").status, 200);
        times.push(start.elapsed());
    }
    let wait = Duration::from_millis(250);
    assert!(times[0] >= wait, "the first address has its time: {times:?}");
    assert!(times[1..].iter().any(|time| *time < wait), "the one that answered goes first: {times:?}");
    let counts = rig.counts(0);
    assert_eq!((server.connections(), counts.taken, counts.failed, counts.retried), (4, 4, 0, 0));
}

#[test]
fn a_server_none_of_whose_addresses_answers_fails_within_its_time() {
    let (silent, other) = (Silent::start(), Silent::start());
    let mut rig = Rig::new(&[], "", "");
    raced(&mut rig, silent.address, &[other.address]);
    let start = Instant::now();
    assert_eq!(rig.client().get("/").status, 502);
    assert!(start.elapsed() >= Duration::from_millis(1_950), "{:?}", start.elapsed());
    raced(&mut rig, free_address(), &[free_address(), free_address()]);
    assert_eq!(rig.client().get("/").status, 502);
}
