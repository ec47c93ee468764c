//! Attempts: each goes by the newest snapshot, and they go on over tiers and pools until a server takes the work.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use merismos_core::duty::Duty;
use merismos_core::health::HealthState;
use merismos_lab::free::free_address;
use rstest::rstest;

use crate::rig::{Client, Conn, ConnectionEnd, Rig, Server, is_silent, until};

/// A document with more pools beside `quay`; `{listen}` is the frontend's address.
fn document(rig: &Rig, protocol: &str, frontend: &str, pools: &str) -> String {
    format!(
        "format = 3\n[checks.up]\nkind = \"tcp\"\n[frontends.harbour]\nprotocol = \"{protocol}\"\n\
         listen = \"{}\"\npool = \"quay\"\n{frontend}\n{pools}",
        rig.address
    )
}

fn server(pool: &str, name: &str, address: SocketAddr, more: &str) -> String {
    format!("[pools.{pool}.servers.{name}]\naddress = \"{address}\"\n{more}\n")
}

/// A server that takes requests and answers them when it is released.
fn holding() -> (Server, Arc<AtomicBool>) {
    let free = Arc::new(AtomicBool::new(false));
    let released = Arc::clone(&free);
    let server = Server::start(move |mut conn: Conn, _| {
        while conn.request().is_some() {
            while !released.load(Ordering::SeqCst) {
                std::thread::sleep(Duration::from_millis(2));
            }
            conn.answer("held");
        }
    });
    (server, free)
}

/// A server that takes connections and requests and never answers.
fn silent() -> Server {
    Server::start(|mut conn, _| while conn.request().is_some() {})
}

/// A server for TCP that says its name to each line.
fn line_server(name: &'static str) -> Server {
    Server::start(move |mut conn, _| {
        conn.say(format!("{name}\n"));
        conn.wait_for_end();
    })
}

#[rstest]
#[case::a_standby("", "tier = 1", "quay")]
#[case::the_next_pool("next_pools = [\"spare\"]", "", "spare")]
#[case::the_last_resort("last_resort = \"spare\"", "", "spare")]
fn work_that_the_only_server_refuses_goes_on_at_once(
    #[case] frontend: &str,
    #[case] server_keys: &str,
    #[case] pool: &str,
) {
    let (gone, skua) = (free_address(), Server::named("skua"));
    let mut rig = Rig::new(&[gone], "", "");
    let pools = format!(
        "[pools.quay]\ncheck = \"up\"\n[pools.spare]\ncheck = \"up\"\n{}{}",
        server("quay", "gull", gone, ""),
        server(pool, "skua", skua.address, server_keys)
    );
    rig.publish_text(&document(&rig, "http", frontend, &pools));
    let mut client = rig.client();
    for round in 0..10 {
        let answer = client.get("/");
        assert!(answer.status == 200 && answer.text().starts_with("skua"), "round {round}: {answer:?}");
    }

    let line = line_server("skua");
    let pools = format!(
        "[pools.quay]\ncheck = \"up\"\n[pools.spare]\ncheck = \"up\"\n{}{}",
        server("quay", "gull", gone, ""),
        server(pool, "skua", line.address, server_keys)
    );
    rig.publish_text(&document(&rig, "tcp", frontend, &pools));
    for round in 0..10 {
        let mut client = rig.client();
        let mut bytes = [0; 5];
        client.bytes(&mut bytes);
        assert_eq!(&bytes, b"skua\n", "round {round}");
    }
}

#[test]
fn attempts_are_bounded_over_all_tiers_and_pools() {
    let gone: Vec<SocketAddr> = (0..3).map(|_| free_address()).collect();
    let skua = Server::named("skua");
    let mut rig = Rig::new(&gone[..1], "", "");
    let pools = format!(
        "[pools.quay]\nattempts = 3\n[pools.spare]\nattempts = 3\n{}{}{}{}",
        server("quay", "a", gone[0], ""),
        server("quay", "b", gone[1], "tier = 1"),
        server("quay", "c", gone[2], "tier = 2"),
        server("spare", "skua", skua.address, ""),
    );
    rig.publish_text(&document(&rig, "http", "next_pools = [\"spare\"]", &pools));
    assert_eq!(rig.client().get("/").status, 502);
    assert_eq!(skua.connections(), 0);
}

#[test]
fn a_server_with_all_the_connections_it_may_have_is_full_and_not_failing() {
    let (held, free) = holding();
    let rig = Rig::new(&[held.address], "connection_limit = 1\nqueue_timeout = \"20s\"", "");
    let clients: Vec<_> = (0..6)
        .map(|_| {
            let address = rig.address;
            std::thread::spawn(move || Client::to(address).get("/").status)
        })
        .collect();
    until("five wait", || rig.plane.snapshot().pools[0].cell.line.waiting() == 5);
    let server = &rig.plane.snapshot().pools[0].servers[0];
    assert!(server.cell.room.full(server.limits, rig.plane.now()).is_some(), "it shows as full");
    free.store(true, Ordering::SeqCst);
    assert!(clients.into_iter().all(|client| client.join().unwrap() == 200));
    let counts = rig.counts(0);
    assert_eq!((counts.taken, counts.failed), (6, 0));
}

#[test]
fn connections_that_rest_make_room_for_a_worker_that_needs_one() {
    let gull = Server::named("gull");
    // Two may rest; whichever worker needs more than it has gets them.
    let rig = Rig::new(&[gull.address], "connection_limit = 4\nqueue_timeout = \"10s\"", "");
    for _ in 0..30 {
        let clients: Vec<_> = (0..8)
            .map(|_| {
                let address = rig.address;
                std::thread::spawn(move || Client::to(address).get("/").status)
            })
            .collect();
        assert!(clients.into_iter().all(|client| client.join().unwrap() == 200));
    }
    assert_eq!(rig.counts(0).failed, 0);
}

#[test]
fn what_waits_goes_by_the_snapshot_of_its_turn() {
    let ((held, free), tern) = (holding(), Server::named("tern"));
    let mut rig = Rig::new(&[held.address, tern.address], "in_flight_limit = 1\nqueue_timeout = \"20s\"", "");
    rig.duties.insert("s1".to_owned(), Duty::Draining);
    rig.publish();
    let ask = |count: usize| {
        let address = rig.address;
        (0..count).map(|_| std::thread::spawn(move || Client::to(address).get("/"))).collect::<Vec<_>>()
    };
    let first = ask(1);
    until("one is at the server", || rig.counts(0).in_flight == 1);
    let waiting = ask(12);
    until("the others wait", || rig.plane.snapshot().pools[0].cell.line.waiting() == 12);
    // The one that they wait for is drained, and another one returns.
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    rig.duties.remove("s1");
    rig.publish();
    let begin = Instant::now();
    for client in waiting {
        let answer = client.join().unwrap();
        assert!(answer.text().starts_with("tern"), "{answer:?}");
    }
    assert!(begin.elapsed() < Duration::from_secs(10), "they did not wait for their time to pass");
    free.store(true, Ordering::SeqCst);
    assert!(first.into_iter().all(|client| client.join().unwrap().text() == "held"));
    assert_eq!(rig.counts(0).taken, 1, "nothing more went to the one that drains");
}

#[test]
fn what_waits_in_vain_is_told_so_when_nobody_is_left() {
    let (held, free) = holding();
    let mut rig = Rig::new(&[held.address], "in_flight_limit = 1\nqueue_timeout = \"20s\"", "");
    let address = rig.address;
    let first = std::thread::spawn(move || Client::to(address).get("/").status);
    until("one is at the server", || rig.counts(0).in_flight == 1);
    let second = std::thread::spawn(move || Client::to(address).get("/").status);
    until("one waits", || rig.plane.snapshot().pools[0].cell.line.waiting() == 1);
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    rig.publish();
    assert_eq!(second.join().unwrap(), 503);
    free.store(true, Ordering::SeqCst);
    assert_eq!(first.join().unwrap(), 200);
}

#[test]
fn a_request_broken_off_by_a_withdraw_goes_to_one_that_returned_meanwhile() {
    let ((held, _free), tern) = (holding(), Server::named("tern"));
    let mut rig = Rig::new(&[held.address, tern.address], "", "");
    rig.duties.insert("s1".to_owned(), Duty::Withdrawn);
    rig.publish();
    let address = rig.address;
    let waiting = std::thread::spawn(move || Client::to(address).get("/"));
    until("it is at the server", || rig.counts(0).in_flight == 1);
    rig.duties.insert("s0".to_owned(), Duty::Withdrawn);
    rig.duties.remove("s1");
    rig.publish();
    rig.plane.cut(rig.plane.snapshot().pools[0].servers[0].cell.id);
    assert!(waiting.join().unwrap().text().starts_with("tern"));
    assert_eq!(rig.counts(0).failed, 0, "what operators do is no failure");
}

#[test]
fn a_client_stays_with_its_server_over_all_pools() {
    let servers: Vec<Server> = ["a", "b", "c", "d"].map(Server::named).into();
    let mut rig = Rig::new(&[servers[0].address], "", "");
    let pin = "persistence = \"cookie\"\n";
    let pools = format!(
        "[pools.quay]\n{pin}[pools.spare]\n{pin}{}{}{}{}",
        server("quay", "a", servers[0].address, ""),
        server("quay", "b", servers[1].address, ""),
        server("spare", "c", servers[2].address, ""),
        server("spare", "d", servers[3].address, ""),
    );
    let choice = "next_pools = [\"spare\"]\nchoose_pool = \"by-weight\"";
    rig.publish_text(&document(&rig, "http", choice, &pools));
    for _ in 0..8 {
        let first = rig.client().get("/");
        let name = first.text().lines().next().unwrap().to_owned();
        let set = first.head.lines().find_map(|line| line.strip_prefix("Set-Cookie: ")).unwrap().to_owned();
        let cookie = set.split(';').next().unwrap();
        for _ in 0..10 {
            let mut client = rig.client();
            // A second field is read too.
            client.send(format!("GET / HTTP/1.1\r\nHost: a\r\nCookie: lang=en\r\nCookie: {cookie}\r\n\r\n"));
            let answer = client.answer().unwrap();
            assert!(answer.text().starts_with(&name), "{name}: {}", answer.text());
            assert!(!answer.head.contains("Set-Cookie"), "nothing is overwritten: {}", answer.head);
        }
    }
}

#[test]
fn a_connection_that_is_dealt_out_keeps_its_pool_and_server() {
    let servers: Vec<Server> = ["a", "b"].map(Server::named).into();
    let mut rig = Rig::new(&[servers[0].address], "", "");
    let pools = format!(
        "[pools.quay]\n[pools.spare]\n{}{}",
        server("quay", "a", servers[0].address, ""),
        server("spare", "b", servers[1].address, ""),
    );
    let choice = "balance_per = \"connection\"\nnext_pools = [\"spare\"]\nchoose_pool = \"by-weight\"";
    rig.publish_text(&document(&rig, "http", choice, &pools));
    let mut seen = std::collections::BTreeSet::new();
    for _ in 0..12 {
        let mut client = rig.client();
        let names: Vec<String> =
            (0..8).map(|_| client.get("/").text().lines().next().unwrap().to_owned()).collect();
        assert!(names.iter().all(|name| *name == names[0]), "{names:?}");
        seen.extend(names);
    }
    assert_eq!(seen.len(), 2, "both pools get connections");
}

#[test]
fn a_request_without_a_first_byte_goes_to_another_server_after_a_while() {
    let (silent, tern) = (silent(), Server::named("tern"));
    let keys = |first_byte: &str| {
        format!("algorithm = \"in-order\"\nretry_after = \"200ms\"\nfirst_byte_timeout = \"{first_byte}\"")
    };
    let rig = Rig::new(&[silent.address, tern.address], &keys("1h"), "");
    assert!(rig.client().get("/").text().starts_with("tern"));
    assert_eq!((rig.counts(0).failed, rig.counts(0).retried), (1, 1));
    let rig = Rig::new(&[silent.address, tern.address], &keys("500ms"), "");
    let mut client = rig.client();
    client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nab");
    assert_eq!(client.answer().unwrap().status, 504, "what may have been acted on is not sent again");
}

#[test]
fn retries_of_what_is_slow_are_bounded_by_a_budget() {
    let (one, other) = (silent(), silent());
    let keys = "retry_after = \"20ms\"\nretry_budget = 10\nfirst_byte_timeout = \"300ms\"\nattempts = 2";
    let rig = Rig::new(&[one.address, other.address], keys, "");
    let clients: Vec<_> = (0..60)
        .map(|_| {
            let address = rig.address;
            std::thread::spawn(move || Client::to(address).get("/").status)
        })
        .collect();
    assert!(clients.into_iter().all(|client| client.join().unwrap() == 504));
    // The next ones find little credit: a tenth of the requests beside what was saved up.
    for _ in 0..20 {
        assert_eq!(rig.client().get("/").status, 504);
    }
    let before = rig.counts(0).retried + rig.counts(1).retried;
    for _ in 0..10 {
        assert_eq!(rig.client().get("/").status, 504);
    }
    let more = rig.counts(0).retried + rig.counts(1).retried - before;
    assert!(more <= 2, "{more} of 10");
}

#[test]
fn what_waits_for_a_server_that_goes_down_goes_to_another_when_it_may() {
    let (tell, told) = std::sync::mpsc::channel();
    let quiet = Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            let _ = tell.send(());
        }
    });
    let tern = Server::named("tern");
    let mut rig = Rig::new(&[quiet.address, tern.address], "algorithm = \"in-order\"", "");
    let address = rig.address;
    let get = std::thread::spawn(move || Client::to(address).get("/"));
    let post = std::thread::spawn(move || {
        let mut client = Client::to(address);
        client.send("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\nab");
        client.answer()
    });
    for _ in 0..2 {
        told.recv().expect("both are at the server");
    }
    rig.states.insert("s0".to_owned(), HealthState::Down);
    rig.publish();
    rig.plane.leave_down(rig.plane.snapshot().pools[0].servers[0].cell.id);
    assert!(get.join().unwrap().text().starts_with("tern"));
    assert_eq!(rig.counts(0).in_flight, 1, "the other one may have been acted on, and waits on");
    rig.plane.cut(rig.plane.snapshot().pools[0].servers[0].cell.id);
    assert_eq!(post.join().unwrap().unwrap().status, 502);
}

#[rstest]
#[case::broken("", true)]
#[case::kept("on_down = \"keep\"", false)]
fn tcp_connections_to_a_server_that_goes_down(#[case] keys: &str, #[case] broken: bool) {
    let (gull, tern) = (line_server("gull"), line_server("tern"));
    let mut rig = Rig::speaking("tcp", &[gull.address, tern.address], keys, "");
    let mut clients: Vec<Client> = (0..4).map(|_| rig.client()).collect();
    let mut at_gull = Vec::new();
    for client in &mut clients {
        let mut bytes = [0; 5];
        client.bytes(&mut bytes);
        at_gull.push(&bytes == b"gull\n");
    }
    assert_eq!(at_gull.iter().filter(|at_gull| **at_gull).count(), 2);
    rig.states.insert("s0".to_owned(), HealthState::Down);
    rig.publish();
    rig.plane.leave_down(rig.plane.snapshot().pools[0].servers[0].cell.id);
    // Workers obey commands in order: when tern's connections are cut, gull's were seen to before.
    rig.plane.cut(rig.plane.snapshot().pools[0].servers[1].cell.id);
    let (gulls, terns): (Vec<_>, Vec<_>) =
        clients.iter_mut().zip(&at_gull).partition(|(_, at_gull)| **at_gull);
    for (client, _) in terns {
        assert_eq!(client.end(), ConnectionEnd::Reset);
    }
    for (client, _) in gulls {
        if broken {
            assert_eq!(client.end(), ConnectionEnd::Reset);
        } else {
            assert!(is_silent(&client.writer()), "nothing came, and no end");
        }
    }
    let left = if broken { 0 } else { 2 };
    until("the others have left", || rig.frontend_counts().connections == left);
}

#[test]
fn a_suspect_server_gets_a_part_of_its_share() {
    let servers: Vec<Server> = ["a", "b"].map(Server::named).into();
    let mut rig = Rig::new(&[servers[0].address, servers[1].address], "suspect_share = 25", "");
    rig.states.insert("s0".to_owned(), HealthState::Suspect);
    rig.publish();
    let mut client = rig.client();
    for _ in 0..100 {
        client.get("/");
    }
    assert_eq!((rig.counts(0).taken, rig.counts(1).taken), (20, 80));
}

#[rstest]
#[case::a_request("http")]
#[case::a_connection("tcp")]
fn only_a_part_of_the_work_is_offered_to_another_server_where_so_much_may(#[case] protocol: &'static str) {
    let gull = if protocol == "http" { Server::named("gull") } else { line_server("gull") };
    let nothing = free_address();
    let all = |rig: &Rig| -> usize {
        (0..100)
            .filter(|_| {
                let mut client = rig.client();
                if protocol == "http" {
                    client.get("/").status == 200
                } else {
                    std::io::Read::read(&mut client.writer(), &mut [0]).is_ok_and(|read| read > 0)
                }
            })
            .count()
    };
    let rig = Rig::speaking(protocol, &[gull.address, nothing], "retry_share = 1", "");
    let served = all(&rig);
    // Every second one meets the server that is not there; ten retries are saved up at the beginning, and a hundred requests earn one.
    assert!((60..=62).contains(&served), "{served}");
    let snapshot = rig.plane.snapshot();
    assert_eq!(snapshot.pools[0].cell.attempts.withheld(), 100 - served as u64, "each is counted");
    let rig = Rig::speaking(protocol, &[gull.address, free_address()], "", "");
    assert_eq!(all(&rig), 100, "without the key all are");
}
