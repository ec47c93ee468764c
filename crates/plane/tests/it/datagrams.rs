//! UDP frontends.

use std::net::{SocketAddr, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use merismos_core::duty::Duty;
use merismos_lab::free::free_address;
use merismos_plane::observer::{ObserveFilter, ObservedWork};
use rstest::rstest;

use crate::rig::{PATIENCE, Rig, until};

/// A server that answers each datagram with its name and the datagram, and counts them.
struct Station {
    address: SocketAddr,
    heard: Arc<AtomicUsize>,
}

impl Station {
    fn named(name: &'static str) -> Self {
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        let (address, heard) = (socket.local_addr().unwrap(), Arc::new(AtomicUsize::new(0)));
        let counter = Arc::clone(&heard);
        std::thread::spawn(move || {
            let mut buffer = [0; 65_536];
            while let Ok((length, from)) = socket.recv_from(&mut buffer) {
                counter.fetch_add(1, Ordering::SeqCst);
                let answer = [name.as_bytes(), b":", &buffer[..length]].concat();
                let _ = socket.send_to(&answer[..answer.len().min(60_000)], from);
            }
        });
        Self { address, heard }
    }

    fn heard(&self) -> usize {
        self.heard.load(Ordering::SeqCst)
    }
}

fn client(to: SocketAddr) -> UdpSocket {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.connect(to).unwrap();
    socket.set_read_timeout(Some(PATIENCE)).unwrap();
    socket
}

fn answer(socket: &UdpSocket) -> String {
    let mut buffer = [0; 65_536];
    let length = socket.recv(&mut buffer).unwrap();
    String::from_utf8_lossy(&buffer[..length]).into_owned()
}

fn say(socket: &UdpSocket, text: &str) -> String {
    socket.send(text.as_bytes()).unwrap();
    answer(socket)
}

#[test]
fn a_flow_stays_with_its_server_and_flows_are_dealt_out() {
    let stations = ["gull", "tern"].map(Station::named);
    let rig = Rig::speaking("udp", &stations.each_ref().map(|station| station.address), "", "");
    let clients: Vec<_> = (0..6).map(|_| client(rig.address)).collect();
    let homes: Vec<String> = clients.iter().map(|client| say(client, "one")).collect();
    for (client, home) in clients.iter().zip(&homes) {
        assert_eq!(say(client, "two"), home.replace("one", "two"));
        assert_eq!(say(client, ""), home.replace("one", ""), "an empty datagram is one too");
    }
    assert_eq!(homes.iter().filter(|home| *home == "gull:one").count(), 3);
    assert_eq!((rig.frontend_counts().connections, rig.frontend_counts().requests), (6, 6));
    assert_eq!((rig.counts(0).in_flight, rig.counts(1).in_flight), (3, 3));
}

#[test]
fn many_datagrams_at_once_arrive_whole_and_apart() {
    let station = Station::named("gull");
    let rig = Rig::speaking("udp", &[station.address], "", "");
    let client = client(rig.address);
    let mut back = Vec::new();
    for round in 0..20 {
        let texts: Vec<String> =
            (0..32).map(|n| format!("{round}-{n:02}-{}", "x".repeat(n % 3 * 40))).collect();
        for text in &texts {
            client.send(text.as_bytes()).unwrap();
        }
        for _ in &texts {
            back.push(answer(&client));
        }
        let from = back.len() - texts.len();
        let mut got = back[from..].to_vec();
        got.sort_unstable();
        let mut wanted: Vec<String> = texts.iter().map(|text| format!("gull:{text}")).collect();
        wanted.sort_unstable();
        assert_eq!(got, wanted);
    }
    let large = "y".repeat(40_000);
    assert_eq!(say(&client, &large).len(), 40_005);
}

#[test]
fn a_flow_ends_after_its_rest_and_when_its_server_is_withdrawn() {
    let stations = ["gull", "tern"].map(Station::named);
    let addresses = stations.each_ref().map(|station| station.address);
    let rig = Rig::speaking("udp", &addresses, "", "idle_timeout = \"1s\"");
    say(&client(rig.address), "x");
    until("it is over", || rig.frontend_counts().connections == 0 && rig.counts(0).in_flight == 0);
    let mut rig = Rig::speaking("udp", &addresses, "", "");
    let client = client(rig.address);
    let home = say(&client, "x");
    let (server, other) = if home == "gull:x" { ("s0", "tern:x") } else { ("s1", "gull:x") };
    rig.duties.insert(server.to_owned(), Duty::Draining);
    rig.publish();
    assert_eq!(say(&client, "x"), home, "those it has may finish");
    rig.duties.insert(server.to_owned(), Duty::Withdrawn);
    rig.publish();
    let place = usize::from(server == "s1");
    let id = rig.plane.snapshot().pools[0].servers[place].cell.id;
    rig.plane.cut(id);
    until("the flow is over", || rig.frontend_counts().connections == 0);
    assert_eq!(say(&client, "x"), other);
}

#[test]
fn where_nobody_listens_the_next_datagram_goes_elsewhere_and_the_failure_is_counted() {
    let closed = free_address();
    let station = Station::named("gull");
    let rig = Rig::speaking("udp", &[closed, station.address], "algorithm = \"in-order\"", "");
    let client = client(rig.address);
    client.send(b"lost").unwrap();
    until("ICMP has said so", || rig.counts(0).failed >= 1);
    assert_eq!(say(&client, "again"), "gull:again");
}

#[test]
fn each_datagram_is_dealt_out_by_itself_where_it_is_said_so() {
    let stations = ["gull", "tern"].map(Station::named);
    let rig = Rig::speaking(
        "udp",
        &stations.each_ref().map(|station| station.address),
        "",
        "balance_per = \"datagram\"",
    );
    let client = client(rig.address);
    for round in 0..10 {
        for _ in 0..10 {
            client.send(b"position").unwrap();
        }
        until("all are there", || stations.iter().map(Station::heard).sum::<usize>() == (round + 1) * 10);
    }
    assert_eq!((stations[0].heard(), stations[1].heard()), (50, 50));
    until("all is counted", || rig.counts(0).taken == 50 && rig.counts(1).taken == 50);
    assert_eq!(rig.frontend_counts().connections, 0, "no flows");
}

#[test]
fn no_more_flows_than_the_frontend_takes() {
    let station = Station::named("gull");
    let rig = Rig::speaking("udp", &[station.address], "", "connection_limit = 1");
    let first = client(rig.address);
    assert_eq!(say(&first, "x"), "gull:x");
    client(rig.address).send(b"one too many").unwrap();
    until("it is counted", || rig.frontend_counts().turned_away == 1);
    assert_eq!(say(&first, "y"), "gull:y");
}

#[rstest]
#[case::flows("")]
#[case::datagrams("balance_per = \"datagram\"")]
fn datagrams_come_from_the_source_addresses(#[case] frontend: &str) {
    let station = UdpSocket::bind("127.0.0.1:0").unwrap();
    station.set_read_timeout(Some(PATIENCE)).unwrap();
    let sources = "source_addresses = [\"127.0.0.41\", \"127.0.0.42\", \"2001:db8::5\"]";
    let rig = Rig::speaking("udp", &[station.local_addr().unwrap()], sources, frontend);
    let mut seen = std::collections::BTreeSet::new();
    // Each flow, or each worker's socket, has one of them by chance: some tries are enough for both.
    for _ in 0..40 {
        client(rig.address).send(b"x").unwrap();
        seen.insert(station.recv_from(&mut [0; 10]).unwrap().1.ip().to_string());
    }
    let both = ["127.0.0.41", "127.0.0.42"].map(str::to_owned);
    assert!(seen.iter().all(|name| both.contains(name)), "{seen:?}");
    assert!(!frontend.is_empty() || seen.len() == 2, "{seen:?}");
}

#[test]
fn watched_datagrams_are_told_with_where_they_went_also_in_a_flow_that_was_there() {
    let stations = ["gull", "tern"].map(Station::named);
    let rig = Rig::speaking("udp", &stations.each_ref().map(|station| station.address), "", "");
    let client = client(rig.address);
    let home = say(&client, "before");
    let frontend = rig.plane.snapshot().frontends().next().unwrap().cell.id;
    let what = ObserveFilter::Clients { frontend, from: vec!["127.0.0.1/32".parse().unwrap()] };
    let mut sightings = rig.plane.watch(1, what, 10);
    for _ in 0..2 {
        assert_eq!(say(&client, "watched"), home.replace("before", "watched"));
        let sighting = sightings.receiver.blocking_recv().unwrap();
        assert_eq!(sighting.of, ObservedWork::Client(client.local_addr().unwrap()));
        let server = if home.starts_with("gull") { "quay/s0" } else { "quay/s1" };
        assert_eq!(sighting.server.unwrap().to_string(), server);
    }
    drop(sightings);
    assert_eq!(say(&client, "after"), home.replace("before", "after"));
}

#[test]
fn a_flow_whose_server_is_down_or_withdrawn_moves_and_one_that_drains_keeps_its_own() {
    let stations = ["gull", "tern"].map(Station::named);
    let mut rig = Rig::speaking("udp", &stations.each_ref().map(|station| station.address), "", "");
    let clients: Vec<_> = (0..6).map(|_| client(rig.address)).collect();
    let homes: Vec<String> = clients.iter().map(|client| say(client, "x")).collect();
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    rig.publish();
    for (client, home) in clients.iter().zip(&homes) {
        assert_eq!(say(client, "x"), *home, "while it drains");
    }
    rig.duties.remove("s0");
    rig.states.insert("s0".to_owned(), merismos_core::health::HealthState::Down);
    rig.publish();
    for client in &clients {
        assert_eq!(say(client, "x"), "tern:x", "the very next datagram");
    }
    until("no flow is left at the one that is down", || rig.counts(0).in_flight == 0);
}

#[rstest]
#[case::flows("flow")]
#[case::datagrams("datagram")]
fn little_is_lost_where_nobody_listens_whatever_the_check_says(#[case] unit: &str) {
    let station = Station::named("tern");
    let rig =
        Rig::speaking("udp", &[free_address(), station.address], "", &format!("balance_per = \"{unit}\""));
    let clients: Vec<_> = (0..20).map(|_| client(rig.address)).collect();
    for round in 0..10 {
        for client in &clients {
            client.send(format!("{round}").as_bytes()).unwrap();
            // ICMP comes back at once on loopback; what is sent behind it knows.
            std::thread::sleep(std::time::Duration::from_millis(1));
        }
    }
    // Of 200 each worker loses one, and once more when it tries again after some seconds; flows lose one each at most.
    let most_lost = if unit == "flow" { 24 } else { 8 };
    until("nearly all arrive", || station.heard() >= 200 - most_lost);
}
