//! Clients that stay with their server by what they carry: pins that are kept here.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Duration;

use merismos_core::duty::Duty;
use merismos_core::health::HealthState;
use rstest::rstest;

use crate::rig::{Client, PATIENCE, Rig, Server};

fn three() -> [Server; 3] {
    ["gull", "tern", "auk"].map(Server::named)
}

fn rig(servers: &[Server], keys: &str) -> Rig {
    let addresses: Vec<SocketAddr> = servers.iter().map(|server| server.address).collect();
    Rig::new(&addresses, keys, "")
}

/// The server that answers a request with these fields, on a connection of its own.
fn home(rig: &Rig, target: &str, fields: &str) -> String {
    let request = format!("GET {target} HTTP/1.1\r\nHost: a\r\n{fields}\r\n");
    let answer = rig.client().send(request).answer().unwrap();
    assert_eq!(answer.status, 200, "{}", answer.head);
    answer.text().lines().next().unwrap_or_default().split(' ').next().unwrap_or_default().to_owned()
}

#[rstest]
#[case::header("header:X-Account", "/", "X-Account: 17\r\n", "/", "X-Account: 18\r\n")]
#[case::query("query:day", "/?day=3", "", "/?day=4", "")]
#[case::application_cookie("application-cookie:S", "/", "Cookie: S=1\r\n", "/", "Cookie: S=2\r\n")]
fn clients_stay_by_what_they_carry(
    #[case] kind: &str,
    #[case] target: &str,
    #[case] fields: &str,
    #[case] other_target: &str,
    #[case] other_fields: &str,
) {
    let servers = three();
    let rig = rig(&servers, &format!("persistence = \"{kind}\""));
    let first = home(&rig, target, fields);
    for _ in 0..7 {
        assert_eq!(home(&rig, target, fields), first);
    }
    // Another client, and those that carry nothing, get their turns.
    assert_ne!(home(&rig, other_target, other_fields), first);
    let others: BTreeSet<String> = (0..3).map(|_| home(&rig, "/", "")).collect();
    assert_eq!(others.len(), 3);
}

#[test]
fn clients_stay_by_their_address_and_a_cookie_goes_before_it() {
    let servers = three();
    let rig = rig(&servers, "persistence = [\"cookie\", \"client-address\"]");
    let ask = |from: &str, cookie: &str| {
        let mut client = Client::from(from, rig.address);
        let answer = client.send(format!("GET / HTTP/1.1\r\nHost: a\r\n{cookie}\r\n")).answer().unwrap();
        let set = answer.head.lines().find_map(|line| line.strip_prefix("Set-Cookie: ").map(str::to_owned));
        (answer.text()[..3].to_owned(), set.map(|set| set.split(';').next().unwrap().to_owned()))
    };
    let (first, cookie) = ask("127.0.0.5", "");
    let cookie = cookie.expect("a new client gets the cookie");
    for _ in 0..4 {
        // It refuses cookies, and is offered one each time.
        let (server, offered) = ask("127.0.0.5", "");
        assert_eq!((server, offered.is_some()), (first.clone(), true));
    }
    assert_ne!(ask("127.0.0.6", "").0, first);
    let elsewhere = ask("127.0.0.7", &format!("Cookie: {cookie}\r\n"));
    assert_eq!(elsewhere, (first, None), "the cookie holds wherever the client is");
}

#[test]
fn sessions_are_learned_from_the_response_that_begins_them() {
    let begins = |name: &'static str| {
        Server::start(move |mut conn, _| {
            while let Some((head, _)) = conn.request() {
                let begins = if head.starts_with("GET /begin ") {
                    format!("Set-Cookie: lang=en\r\nset-cookie: SESSION={name}-1; Path=/; HttpOnly\r\n")
                } else {
                    String::new()
                };
                let length = name.len();
                conn.say(format!("HTTP/1.1 200 OK\r\n{begins}Content-Length: {length}\r\n\r\n{name}"));
            }
        })
    };
    let servers = ["gull", "tern", "auk"].map(begins);
    let rig = rig(&servers, "persistence = \"application-cookie:SESSION\"");
    let of_first = home(&rig, "/begin", "");
    // The client is somewhere else by now; what counts is its session.
    let mut client = Client::from("127.0.0.9", rig.address);
    for _ in 0..6 {
        let cookie = format!("Cookie: lang=en; SESSION={of_first}-1\r\n");
        let answer = client.send(format!("GET / HTTP/1.1\r\nHost: a\r\n{cookie}\r\n")).answer().unwrap();
        assert_eq!(answer.text(), of_first);
    }
}

#[test]
fn a_client_whose_server_is_gone_moves_and_stays_there() {
    let servers = three();
    let mut rig = rig(&servers, "persistence = \"header:x-account\"\nalgorithm = \"in-order\"");
    let account = "X-Account: 17\r\n";
    assert_eq!(home(&rig, "/", account), "gull");
    rig.states.insert("s0".to_owned(), HealthState::Down);
    rig.publish();
    assert_eq!(home(&rig, "/", account), "tern");
    rig.states.clear();
    rig.publish();
    assert_eq!(home(&rig, "/", account), "tern", "who has moved stays");
    assert_eq!(home(&rig, "/", "X-Account: 18\r\n"), "gull", "new clients do not");
}

#[test]
fn a_client_that_may_not_move_is_refused_until_its_server_is_back() {
    let servers = three();
    let keys = "persistence = \"header:x-account\"\npin_when_gone = \"refuse\"\nalgorithm = \"in-order\"";
    let mut rig = rig(&servers, keys);
    let account = "X-Account: 17\r\n";
    assert_eq!(home(&rig, "/", account), "gull");
    rig.duties.insert("s0".to_owned(), Duty::Withdrawn);
    rig.publish();
    let request = format!("GET / HTTP/1.1\r\nHost: a\r\n{account}\r\n");
    let refused = rig.client().send(&request).answer().unwrap();
    assert_eq!(refused.status, 503);
    assert!(
        refused.text().contains("the server that holds this session is out of service"),
        "{}",
        refused.text()
    );
    assert_eq!(rig.frontend_counts().unavailable, 1);
    assert_eq!(home(&rig, "/", "X-Account: 18\r\n"), "tern", "others are served");
    rig.duties.clear();
    rig.publish();
    assert_eq!(home(&rig, "/", account), "gull");
}

#[test]
fn a_server_that_fails_a_request_does_not_give_its_client_away_when_that_may_not_move() {
    let once = Server::start(|mut conn, number| {
        if conn.request().is_some() && number == 0 {
            conn.answer("gull ");
        }
    });
    let servers = [once, Server::named("tern")];
    let keys = "persistence = \"header:x-account\"\npin_when_gone = \"refuse\"\nalgorithm = \"in-order\"";
    let rig = rig(&servers, keys);
    let account = "X-Account: 17\r\n";
    assert_eq!(home(&rig, "/", account), "gull");
    let request = format!("GET / HTTP/1.1\r\nHost: a\r\n{account}\r\n");
    let failed = rig.client().send(&request).answer().unwrap();
    assert_eq!(failed.status, 502, "{}", failed.head);
    assert_eq!(rig.counts(1).taken, 0);
}

/// A server for TCP that says its name.
fn saying_its_name(name: &'static str) -> Server {
    Server::start(move |mut conn, _| conn.say(name))
}

#[test]
fn tcp_clients_stay_by_their_address() {
    let servers = ["gull", "tern", "auks"].map(saying_its_name);
    let addresses = servers.each_ref().map(|server| server.address);
    let mut rig = Rig::speaking("tcp", &addresses, "persistence = \"client-address\"", "");
    let ask = |rig: &Rig, from: &str| {
        let mut name = [0; 4];
        Client::from(from, rig.address).bytes(&mut name);
        String::from_utf8(name.to_vec()).unwrap()
    };
    let first = ask(&rig, "127.0.0.5");
    for _ in 0..5 {
        assert_eq!(ask(&rig, "127.0.0.5"), first);
    }
    assert_ne!(ask(&rig, "127.0.0.6"), first);
    // A deploy keeps pins.
    rig.publish();
    assert_eq!(ask(&rig, "127.0.0.5"), first);
    let counts = (0..3).map(|server| rig.counts(server).new_clients).sum::<u64>();
    assert_eq!(counts, 2, "two clients were new");
}

#[test]
fn udp_clients_stay_by_their_address_whatever_their_port() {
    let stations = ["gull", "tern"].map(merismos_station);
    let addresses = stations.each_ref().map(|station| station.1);
    let rig =
        Rig::speaking("udp", &addresses, "persistence = \"client-address\"", "idle_timeout = \"500ms\"");
    let ask = || {
        let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
        socket.connect(rig.address).unwrap();
        let mut answer = [0; 16];
        // An answer is lost when its flow is over before it comes, on a machine that stands still for so long.
        let answered = (0..10).find_map(|_| {
            socket.send(b"x").unwrap();
            socket.recv(&mut answer).ok()
        });
        answer[..answered.expect("an answer")].to_vec()
    };
    let first = ask();
    for _ in 0..5 {
        assert_eq!(ask(), first);
    }
}

/// A server for datagrams that answers with its name.
fn merismos_station(name: &'static str) -> (std::thread::JoinHandle<()>, SocketAddr) {
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let address = socket.local_addr().unwrap();
    let task = std::thread::spawn(move || {
        let mut bytes = [0; 16];
        while let Ok((_, client)) = socket.recv_from(&mut bytes) {
            let _ = socket.send_to(name.as_bytes(), client);
        }
    });
    (task, address)
}

#[test]
fn forged_foreign_and_oversized_cookies_are_none() {
    let servers = three();
    let rig = rig(&servers, "persistence = \"cookie\"");
    let long = "x".repeat(4_000);
    let mut stream = TcpStream::connect(rig.address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    for value in ["", "forged", &long, "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "a=b=c", "\u{e9}"] {
        let request = format!(
            "GET / HTTP/1.1\r\nHost: a\r\nCookie: merismos-pin={value}; merismos-pin={value}\r\n\r\n"
        );
        stream.write_all(request.as_bytes()).unwrap();
        let mut head = [0; 12];
        stream.read_exact(&mut head).unwrap();
        assert_eq!(&head, b"HTTP/1.1 200", "{value}");
        let mut rest = vec![0; 64 << 10];
        let mut got = Vec::new();
        while !got.ends_with(b"\r\n\r\n") && !String::from_utf8_lossy(&got).contains("Cookie: merismos-pin=")
        {
            let count = stream.read(&mut rest).unwrap();
            got.extend_from_slice(&rest[..count]);
        }
        // What is left of this answer does not matter.
        stream = TcpStream::connect(rig.address).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        assert!(String::from_utf8_lossy(&got).contains("Set-Cookie: merismos-pin="), "a new pin is set");
    }
}
