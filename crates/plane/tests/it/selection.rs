//! Which server gets work, on real sockets: algorithms, keys, units, limits and the line before a full pool.

use std::collections::BTreeMap;
use std::sync::mpsc;
use std::time::Duration;

use merismos_core::duty::Duty;
use merismos_core::health::HealthState;
use rstest::rstest;

use crate::rig::{Client, PATIENCE, Rig, Server, until};

const NAMES: [&str; 3] = ["gull", "tern", "auk"];

fn three() -> [Server; 3] {
    NAMES.map(Server::named)
}

/// Which server answered.
fn who(text: &str) -> String {
    text.lines().next().unwrap_or_default().to_owned()
}

fn get(client: &mut Client, fields: &str) -> String {
    let answer = client.send(format!("GET /a?b=1 HTTP/1.1\r\nHost: a\r\n{fields}\r\n")).answer().unwrap();
    who(&answer.text())
}

#[rstest]
#[case::round_robin("round-robin")]
#[case::least_connections("least-connections")]
#[case::least_load("least-load")]
#[case::random_two("random-two")]
fn every_server_gets_its_share_of_an_idle_pool(#[case] algorithm: &str) {
    let servers = three();
    let rig = Rig::new(
        &servers.each_ref().map(|server| server.address),
        &format!("algorithm = \"{algorithm}\""),
        "",
    );
    let mut client = rig.client();
    let mut counts: BTreeMap<String, u32> = BTreeMap::new();
    for _ in 0..300 {
        *counts.entry(get(&mut client, "")).or_default() += 1;
    }
    let least = if algorithm == "least-load" { 1 } else { 70 };
    assert!(counts.len() == 3 && counts.values().all(|count| *count >= least), "{counts:?}");
}

#[test]
fn least_connections_keeps_away_from_a_server_that_does_not_answer() {
    let (release, wait) = mpsc::channel::<()>();
    let wait = std::sync::Mutex::new(wait);
    let slow = Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            let _ = wait.lock().unwrap().recv_timeout(PATIENCE);
            conn.answer("slow");
        }
    });
    let rig =
        Rig::new(&[slow.address, Server::named("gull").address], "algorithm = \"least-connections\"", "");
    let mut waiting = rig.client();
    let mut other = rig.client();
    let mut asked = 0;
    // One of the first two requests goes to the slow one, whichever is asked first.
    while rig.counts(0).in_flight == 0 {
        waiting.send("GET / HTTP/1.1\r\nHost: a\r\n\r\n");
        asked += 1;
        until("it is somewhere", || rig.counts(0).in_flight == 1 || rig.counts(1).taken >= asked);
    }
    for _ in 0..20 {
        assert_eq!(get(&mut other, ""), "gull");
    }
    drop(release);
}

#[test]
fn the_same_key_goes_to_the_same_server_until_that_one_leaves_and_again_when_it_is_back() {
    let servers = three();
    let keys = "algorithm = \"hash\"\nhash_keys = [\"cookie:visit\", \"header:x-account\"]\nhash_when_absent = \"refuse\"";
    let mut rig = Rig::new(&servers.each_ref().map(|server| server.address), keys, "");
    let mut client = rig.client();
    let refused = rig.client().send("GET / HTTP/1.1\r\nHost: a\r\n\r\n").answer().unwrap();
    assert_eq!(refused.status, 400, "without any key it is refused");
    let mut ask = |fields: &str| get(&mut client, fields);
    let visits: Vec<String> = (0..30).map(|visit| format!("Cookie: a=b; visit={visit}\r\n")).collect();
    let first: Vec<String> = visits.iter().map(|visit| ask(visit)).collect();
    assert_eq!(visits.iter().map(|visit| ask(visit)).collect::<Vec<_>>(), first);
    assert_eq!(
        NAMES.iter().filter(|name| first.iter().any(|other| other == *name)).count(),
        3,
        "all get some"
    );
    let account = ask("X-Account: 7\r\n");
    assert_eq!(ask("X-Account: 7\r\n"), account, "the second key counts when the first is missing");
    rig.states.insert("s1".to_owned(), HealthState::Down);
    rig.publish();
    let without: Vec<String> = visits.iter().map(|visit| ask(visit)).collect();
    for (before, after) in first.iter().zip(&without) {
        assert!(if before == "tern" { after != "tern" } else { after == before }, "{before} became {after}");
    }
    rig.states.clear();
    rig.publish();
    assert_eq!(visits.iter().map(|visit| ask(visit)).collect::<Vec<_>>(), first);
}

#[test]
fn where_connections_are_dealt_out_a_connection_stays_also_while_its_server_drains() {
    let servers = three();
    let mut rig =
        Rig::new(&servers.each_ref().map(|server| server.address), "", "balance_per = \"connection\"");
    let mut clients: Vec<Client> = (0..3).map(|_| rig.client()).collect();
    let mut homes: Vec<String> = clients.iter_mut().map(|client| get(client, "")).collect();
    for (client, home) in clients.iter_mut().zip(&homes) {
        for _ in 0..3 {
            assert_eq!(&get(client, ""), home);
        }
    }
    let of_gull = homes.iter().position(|home| home == "gull").expect("each got one");
    rig.duties.insert("s0".to_owned(), Duty::Draining);
    rig.publish();
    assert_eq!(get(&mut clients[of_gull], ""), "gull", "those it has may finish");
    assert_ne!(get(&mut rig.client(), ""), "gull", "but no new client comes");
    rig.duties.insert("s0".to_owned(), Duty::Withdrawn);
    rig.publish();
    assert_ne!(get(&mut clients[of_gull], ""), "gull");
    homes.sort_unstable();
    assert_eq!(homes, ["auk", "gull", "tern"]);
}

/// A server that answers when it is released.
fn on_demand() -> (Server, mpsc::Sender<()>) {
    let (release, wait) = mpsc::channel::<()>();
    let wait = std::sync::Mutex::new(wait);
    let server = Server::start(move |mut conn, _| {
        while let Some((head, _)) = conn.request() {
            if wait.lock().unwrap().recv_timeout(PATIENCE).is_err() {
                return;
            }
            conn.answer(head.split(' ').nth(1).unwrap_or_default());
        }
    });
    (server, release)
}

fn ask(rig: &Rig, path: &str) -> Client {
    let mut client = rig.client();
    client.send(format!("GET {path} HTTP/1.1\r\nHost: a\r\n\r\n"));
    client
}

fn waiting(rig: &Rig) -> u64 {
    rig.plane.snapshot().pools[0].cell.line.waiting()
}

#[test]
fn a_full_pool_has_a_line_first_in_first_out_and_those_who_go_away_leave_it() {
    let (server, release) = on_demand();
    let rig =
        Rig::new(&[server.address], "in_flight_limit = 1\nqueue_limit = 3\nqueue_timeout = \"10s\"", "");
    let mut first = ask(&rig, "/first");
    until("the first is there", || rig.counts(0).in_flight == 1);
    let mut line = Vec::new();
    for (index, path) in ["/second", "/gone", "/third"].into_iter().enumerate() {
        line.push(ask(&rig, path));
        until("it waits", || waiting(&rig) == index as u64 + 1);
    }
    let refused = ask(&rig, "/one-too-many").answer().unwrap();
    assert_eq!(refused.status, 503);
    assert!(refused.head.contains("Retry-After: 1"), "{}", refused.head);
    assert!(refused.text().contains("as much work as it may have"), "{}", refused.text());
    drop(line.remove(1));
    until("one has left", || waiting(&rig) == 2);
    let mut order = Vec::new();
    for client in std::iter::once(&mut first).chain(&mut line) {
        release.send(()).unwrap();
        order.push(client.answer().unwrap().text());
        assert!(rig.counts(0).in_flight <= 1);
    }
    assert_eq!(order, ["/first", "/second", "/third"]);
    assert_eq!(waiting(&rig), 0);
}

#[test]
fn whoever_waits_too_long_goes_to_the_next_tier_or_gets_503() {
    let (server, release) = on_demand();
    let limits = "in_flight_limit = 1\nqueue_limit = 3\nqueue_timeout = \"100ms\"";
    let rig = Rig::new(&[server.address], limits, "");
    let _busy = ask(&rig, "/busy");
    until("it is there", || rig.counts(0).in_flight == 1);
    assert_eq!(ask(&rig, "/late").answer().unwrap().status, 503);
    assert_eq!(rig.plane.snapshot().pools[0].cell.line.in_vain(), 1);
    let standby = Server::named("standby");
    let mut tiers = Rig::new(&[server.address], limits, "");
    let text =
        format!("{}[pools.quay.servers.s1]\naddress = \"{}\"\ntier = 1\n", tiers.text(), standby.address);
    tiers.publish_text(&text);
    let _busy = ask(&tiers, "/busy");
    until("it is there", || tiers.counts(0).in_flight == 1);
    assert_eq!(who(&ask(&tiers, "/late").answer().unwrap().text()), "standby");
    drop(release);
}

#[test]
fn a_rate_is_kept_and_a_full_server_is_passed_over() {
    let servers = three();
    let addresses = servers.each_ref().map(|server| server.address);
    let rig = Rig::new(&addresses[..1], "rate_limit = 10\nqueue_limit = 0", "");
    let mut client = rig.client();
    let statuses: Vec<u16> = (0..5).map(|_| client.get("/").status).collect();
    assert!(statuses.starts_with(&[200]) && statuses.contains(&503), "{statuses:?}");
    let mut patient = Rig::new(&addresses[..1], "rate_limit = 20\nqueue_timeout = \"10s\"", "");
    let mut client = patient.client();
    for _ in 0..6 {
        assert_eq!(client.get("/").status, 200, "those who wait are served at the rate");
    }
    let text = patient.text().replace("rate_limit = 20", "rate_limit = 1");
    let second =
        format!("{text}[pools.quay.servers.s1]\naddress = \"{}\"\nrate_limit = 10000\n", addresses[1]);
    patient.publish_text(&second);
    let served: Vec<String> = (0..10).map(|_| get(&mut client, "")).collect();
    assert!(served.iter().filter(|name| *name == "tern").count() >= 8, "{served:?}");
}

#[test]
fn no_more_connections_than_a_server_takes() {
    let (server, release) = on_demand();
    let limits = "connection_limit = 2\nattempts = 1\nfirst_byte_timeout = \"20s\"";
    let rig = Rig::new(&[server.address], limits, "");
    let mut clients = [ask(&rig, "/a"), ask(&rig, "/b")];
    until("both are there", || rig.counts(0).in_flight == 2 && server.connections() == 2);
    assert_eq!(ask(&rig, "/c").answer().unwrap().status, 503);
    for _ in &clients {
        release.send(()).unwrap();
    }
    for client in &mut clients {
        assert_eq!(client.answer().unwrap().status, 200);
    }
    assert_eq!(server.connections(), 2);
    let mut again = ask(&rig, "/d");
    release.send(()).unwrap();
    assert_eq!(again.answer().unwrap().status, 200, "and there is room again");
}

#[test]
fn a_client_that_waits_may_send_more_and_is_not_taken_for_gone() {
    let (server, release) = on_demand();
    let rig = Rig::new(&[server.address], "in_flight_limit = 1\nqueue_timeout = \"10s\"", "");
    let mut busy = ask(&rig, "/busy");
    until("it is there", || rig.counts(0).in_flight == 1);
    let mut eager = ask(&rig, "/one");
    until("it waits", || waiting(&rig) == 1);
    eager.send("GET /two HTTP/1.1\r\nHost: a\r\n\r\n");
    std::thread::sleep(Duration::from_millis(50));
    for _ in 0..3 {
        release.send(()).unwrap();
    }
    assert_eq!(busy.answer().unwrap().text(), "/busy");
    assert_eq!([(); 2].map(|()| eager.answer().unwrap().text()), ["/one", "/two"]);
}

/// The cookie that an answer sets, if any.
fn pin(head: &str) -> Option<String> {
    let field = head.lines().find_map(|line| line.strip_prefix("Set-Cookie: "))?;
    Some(field.split(';').next().unwrap().to_owned())
}

#[test]
fn a_pinned_client_stays_until_its_server_is_down_and_forged_pins_are_none() {
    let servers = three();
    let keys = "persistence = \"cookie\"\npin_cookie = \"visit\"\npin_lifetime = \"8h\"";
    let mut rig = Rig::new(&servers.each_ref().map(|server| server.address), keys, "");
    let ask = |rig: &Rig, cookie: &str| {
        let request = format!("GET / HTTP/1.1\r\nHost: a\r\nCookie: theme=dark; {cookie}\r\n\r\n");
        let answer = rig.client().send(request).answer().unwrap();
        (who(&answer.text()), pin(&answer.head), answer.head)
    };
    let (home, made, head) = ask(&rig, "x=y");
    let made = made.expect("a new client is tied to its server");
    assert!(head.contains("; Path=/; HttpOnly; SameSite=Lax; Max-Age=28800"), "{head}");
    assert!(!head.contains("127.0.0.1"), "it names no address");
    for _ in 0..6 {
        assert_eq!(ask(&rig, &made).0, home);
        assert_eq!(ask(&rig, &made).1, None, "who is tied is not tied again");
    }
    let forged = made.replace("visit=", "visit=A");
    assert!((0..3).map(|_| ask(&rig, &forged)).all(|(_, pin, _)| pin.is_some()), "a forged one is none");
    let server = format!("s{}", NAMES.iter().position(|name| *name == home).unwrap());
    rig.duties.insert(server.clone(), Duty::Draining);
    rig.publish();
    assert_eq!(ask(&rig, &made).0, home, "it stays while its server drains");
    rig.duties.clear();
    rig.states.insert(server, HealthState::Down);
    rig.publish();
    let (moved, again, _) = ask(&rig, &made);
    let again = again.expect("it is tied to another one");
    assert_ne!(moved, home);
    rig.states.clear();
    rig.publish();
    assert_eq!(ask(&rig, &again).0, moved, "and stays there");
}

#[test]
fn a_pin_of_one_pool_holds_in_another_of_its_group() {
    let (servers, others) = (three(), three());
    let keys = "persistence = \"cookie\"\npin_group = \"site\"\npin_path = \"/booking\"\npin_domain = \"skerry.example\"";
    let mut rig = Rig::new(&servers.each_ref().map(|server| server.address), keys, "");
    let answer = rig.client().get("/booking");
    let (home, made) = (who(&answer.text()), pin(&answer.head).expect("a new client is tied"));
    assert!(
        answer.head.contains("; Path=/booking; HttpOnly; SameSite=Lax; Domain=skerry.example"),
        "{}",
        answer.head
    );
    // The frontend gets another pool, whose servers have the same names.
    let mut text =
        rig.text().replace("pool = \"quay\"", "pool = \"mole\"") + &format!("[pools.mole]\n{keys}\n");
    for (index, server) in others.iter().enumerate() {
        text += &format!("[pools.mole.servers.s{index}]\naddress = \"{}\"\n", server.address);
    }
    rig.publish_text(&text);
    for _ in 0..4 {
        let request = format!("GET /booking HTTP/1.1\r\nHost: a\r\nCookie: {made}\r\n\r\n");
        let answer = rig.client().send(request).answer().unwrap();
        assert_eq!((who(&answer.text()), pin(&answer.head)), (home.clone(), None));
    }
}

#[test]
fn a_client_is_tied_to_its_server_too_when_the_kept_connection_was_stale() {
    // It answers once on a connection, and closes that when it is asked again.
    let server = Server::start(|mut conn, _| {
        if conn.request().is_some() {
            conn.answer("auk");
        }
        conn.request();
    });
    let rig = Rig::new(&[server.address], "persistence = \"cookie\"", "");
    let mut client = rig.client();
    for connections in 1..3 {
        assert!(pin(&client.get("/").head).is_some(), "answer {connections}");
        assert_eq!(server.connections(), connections);
    }
}

/// A rig whose frontend has three pools of one server each: quay (auk), mole (gull) and pier (tern).
fn with_pools(frontend: &str) -> (Rig, [Server; 3]) {
    let servers = ["auk", "gull", "tern"].map(Server::named);
    let mut rig = Rig::new(&[servers[0].address], "", "");
    let more = format!(
        "[pools.mole.servers.s0]\naddress = \"{}\"\n[pools.pier.servers.s0]\naddress = \"{}\"\n\
         [networks]\nhere = [\"127.0.0.0/8\"]\nnear = [\"127.0.0.1\"]\n",
        servers[1].address, servers[2].address
    );
    let text = rig.text().replace("pool = \"quay\"\n", &format!("pool = \"quay\"\n{frontend}\n")) + &more;
    rig.publish_text(&text);
    (rig, servers)
}

#[test]
fn the_next_pool_takes_over_and_the_last_resort_what_nobody_will() {
    let keys = "next_pools = [\"mole\"]\nlast_resort = \"pier\"";
    let servers = ["auk", "gull", "tern"].map(Server::named);
    let mut rig = Rig::new(&[servers[0].address], "", "");
    let text = |rig: &Rig, frontend: &str, mole: &str| {
        rig.text().replace("pool = \"quay\"\n", &format!("pool = \"quay\"\n{frontend}\n"))
            + &format!(
                "[pools.mole]\n{mole}\nservers.s7 = {{ address = \"{}\" }}\n\
                 [pools.pier]\nservers.s9 = {{ address = \"{}\" }}\n",
                servers[1].address, servers[2].address
            )
    };
    let whole = text(&rig, keys, "");
    rig.publish_text(&whole);
    let mut client = rig.client();
    assert_eq!(get(&mut client, ""), "auk");
    rig.states.insert("s0".to_owned(), HealthState::Down);
    rig.publish_text(&whole);
    assert_eq!(get(&mut client, ""), "gull");
    let unusable = text(&rig, keys, "min_eligible = 2");
    rig.publish_text(&unusable);
    assert_eq!(get(&mut client, ""), "tern", "one server is too few for that pool");
    rig.duties.insert("s9".to_owned(), Duty::Withdrawn);
    rig.publish_text(&unusable);
    assert_eq!(client.get("/").status, 503);
    assert_eq!(rig.frontend_counts().unavailable, 1);
}

#[test]
fn pools_are_chosen_by_weight_by_network_and_by_how_fast_they_answer() {
    let by_weight = "next_pools = [\"mole\", \"pier\"]\nchoose_pool = \"by-weight\"\npool_weights = { quay = 0, mole = 3 }";
    let (rig, _servers) = with_pools(by_weight);
    let mut client = rig.client();
    let mut counts: BTreeMap<String, u32> = BTreeMap::new();
    for _ in 0..400 {
        *counts.entry(get(&mut client, "")).or_default() += 1;
    }
    assert!(!counts.contains_key("auk") && (250..350).contains(&counts["gull"]), "{counts:?}");
    let by_network = "next_pools = [\"mole\", \"pier\"]\nchoose_pool = \"by-network\"\n\
                      pool_networks = { pier = [\"here\"], mole = [\"near\"] }";
    let (rig, _servers) = with_pools(by_network);
    assert_eq!(get(&mut rig.client(), ""), "gull", "the longest prefix counts");
    let (rig, _servers) = with_pools("next_pools = [\"mole\"]\nchoose_pool = \"by-latency\"");
    let snapshot = rig.plane.snapshot();
    let pool = |name: &str| snapshot.pools.iter().find(|pool| pool.name.as_str() == name).unwrap();
    pool("quay").cell.pace.note(rig.plane.now(), Duration::from_secs(9));
    pool("mole").cell.pace.note(rig.plane.now(), Duration::from_millis(9));
    assert_eq!(get(&mut rig.client(), ""), "gull");
}
