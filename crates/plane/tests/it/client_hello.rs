//! TCP clients that say in TLS which server they want, before they are distributed.

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::{Shutdown, SocketAddr, TcpStream};
use std::sync::Arc;

use rstest::rstest;
use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection, StreamOwned};

use crate::rig::{ConnectionEnd, PATIENCE, Rig, Server, read_end, until};

const BY_SNI: &str = "algorithm = \"hash\"\nhash_keys = [\"sni\"]";
/// Longer than any of these tests may last.
const PATIENT: &str = "client_hello_timeout = \"5m\"";

/// A certificate authority's only certificate, for any harbour, and the clients that believe it.
fn harbours() -> (Arc<ServerConfig>, Arc<ClientConfig>) {
    let key = rcgen::KeyPair::generate().unwrap();
    let params = rcgen::CertificateParams::new(vec!["*.skerry.example".to_owned()]).unwrap();
    let certificate = CertificateDer::from(params.self_signed(&key).unwrap().der().to_vec());
    let mut roots = RootCertStore::empty();
    roots.add(certificate.clone()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let private = PrivatePkcs8KeyDer::from(key.serialize_der()).into();
    let server = ServerConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![certificate], private)
        .unwrap();
    let client = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    (Arc::new(server), Arc::new(client))
}

/// A server that ends TLS and says its own name and the one that it was asked for.
fn harbour(name: &'static str, config: &Arc<ServerConfig>) -> Server {
    let config = Arc::clone(config);
    Server::start(move |conn, _| {
        let session = ServerConnection::new(Arc::clone(&config)).unwrap();
        let mut tls = StreamOwned::new(session, conn.stream.into_inner());
        let mut request = [0; 5];
        if tls.read_exact(&mut request).is_ok() {
            let asked = tls.conn.server_name().unwrap_or_default().to_owned();
            write!(tls, "{name} {asked}").unwrap();
        }
        tls.conn.send_close_notify();
        let _ = tls.flush();
    })
}

fn connect(address: SocketAddr) -> TcpStream {
    let stream = TcpStream::connect(address).unwrap();
    stream.set_nodelay(true).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    stream
}

/// The server that a client gets who asks for a name, by its own word.
fn visit(address: SocketAddr, config: &Arc<ClientConfig>, name: &str) -> String {
    let session =
        ClientConnection::new(Arc::clone(config), ServerName::try_from(name.to_owned()).unwrap()).unwrap();
    let mut tls = StreamOwned::new(session, connect(address));
    tls.write_all(b"hello").unwrap();
    let mut said = String::new();
    tls.read_to_string(&mut said).unwrap();
    let (server, asked) = said.split_once(' ').unwrap();
    assert_eq!(asked, name.to_ascii_lowercase(), "the greeting went on as it came");
    server.to_owned()
}

/// What a client that asks for a name sends first.
fn greeting(name: &str) -> Vec<u8> {
    let (_, config) = harbours();
    let mut session = ClientConnection::new(config, ServerName::try_from(name.to_owned()).unwrap()).unwrap();
    let mut bytes = Vec::new();
    session.write_tls(&mut bytes).unwrap();
    bytes
}

/// A server that says its name when the client has ended, and what came of it.
fn repeating(name: &'static str) -> Server {
    Server::start(move |mut conn, _| {
        let mut all = Vec::new();
        conn.stream.read_to_end(&mut all).unwrap();
        conn.stream.get_mut().write_all(&[name.as_bytes(), b" ", &all].concat()).unwrap();
    })
}

/// A client that says something in two pieces; gives the server's name, and checks that it got all of it.
fn say(address: SocketAddr, pieces: [&str; 2]) -> String {
    let mut stream = connect(address);
    stream.write_all(pieces[0].as_bytes()).unwrap();
    // Whether they arrive together or not makes no difference.
    std::thread::yield_now();
    stream.write_all(pieces[1].as_bytes()).unwrap();
    stream.shutdown(Shutdown::Write).unwrap();
    let said = String::from_utf8(rest(stream)).unwrap();
    let (name, heard) = said.split_once(' ').unwrap();
    assert_eq!(heard, pieces.concat());
    name.to_owned()
}

#[test]
fn clients_stay_by_what_is_found_in_their_first_bytes() {
    let servers = ["gull", "tern", "skua"].map(repeating);
    let addresses = servers.each_ref().map(|server| server.address);
    let keys = "persistence = \"first-bytes:LOGIN ([a-z]+)\\\\s\"";
    let rig = Rig::speaking("tcp", &addresses, keys, PATIENT);
    let anna = say(rig.address, ["LOGIN an", "na\r\nHELLO 1"]);
    let others: Vec<String> =
        ["bo", "cy"].into_iter().map(|who| say(rig.address, ["", &format!("LOGIN {who} today")])).collect();
    for turn in 0..4 {
        assert_eq!(say(rig.address, ["LOGIN ", &format!("anna {turn}")]), anna);
    }
    assert_ne!(others[0], others[1], "each has a server of its own");
    // Who says nothing of the kind is distributed, and who ends before it does, too.
    say(rig.address, ["QUIT", ""]);
    assert_eq!(say(rig.address, ["x".repeat(20_000).as_str(), ""]).len(), 4, "so much is not waited for");
    let counts = (0..3).map(|server| rig.counts(server).new_clients).sum::<u64>();
    assert_eq!(counts, 5, "three that log in, and two that do not");
}

#[test]
fn clients_of_tls_stay_by_the_name_that_they_ask_for() {
    let (served, believed) = harbours();
    let servers = [harbour("gull", &served), harbour("tern", &served), harbour("skua", &served)];
    let addresses = servers.each_ref().map(|server| server.address);
    let rig = Rig::speaking("tcp", &addresses, "persistence = \"sni\"", PATIENT);
    let of = |name: &str| visit(rig.address, &believed, name);
    let homes =
        ["pier1.skerry.example", "pier2.skerry.example", "pier3.skerry.example"].map(|name| (name, of(name)));
    for (name, home) in &homes {
        assert_eq!((of(name), of(name)), (home.clone(), home.clone()), "{name}");
    }
    let distinct: std::collections::BTreeSet<_> = homes.iter().map(|(_, home)| home).collect();
    assert_eq!(distinct.len(), 3, "new names are distributed");
}

fn rest(mut stream: TcpStream) -> Vec<u8> {
    let mut all = Vec::new();
    stream.read_to_end(&mut all).unwrap();
    all
}

#[test]
fn who_asks_for_a_name_always_gets_the_same_server() {
    let (served, believed) = harbours();
    let servers = [harbour("gull", &served), harbour("tern", &served), harbour("skua", &served)];
    let rig = Rig::speaking("tcp", &servers.each_ref().map(|server| server.address), BY_SNI, PATIENT);
    let names: Vec<String> = (0..12).map(|number| format!("pier{number}.skerry.example")).collect();
    let first: BTreeMap<&str, String> =
        names.iter().map(|name| (name.as_str(), visit(rig.address, &believed, name))).collect();
    for name in &names {
        assert_eq!(visit(rig.address, &believed, &name.to_ascii_uppercase()), first[name.as_str()], "{name}");
    }
    let used: std::collections::BTreeSet<&String> = first.values().collect();
    assert!(used.len() > 1, "different names are assigned to different servers: {first:?}");
}

#[test]
fn a_greeting_in_pieces_is_waited_for_and_goes_on_whole() {
    let servers = [repeating("gull"), repeating("tern")];
    let rig = Rig::speaking("tcp", &servers.each_ref().map(|server| server.address), BY_SNI, PATIENT);
    let sent = greeting("booking.skerry.example");
    let mut got = Vec::new();
    for pieces in [sent.len(), 1, 7] {
        let mut stream = connect(rig.address);
        let (last, before) = sent.split_last().unwrap();
        before.chunks(pieces).for_each(|piece| stream.write_all(piece).unwrap());
        until("it has come", || rig.frontend_counts().connections == 1);
        let asked = servers.iter().map(Server::connections).sum::<usize>();
        assert_eq!(asked, got.len(), "no server is asked before the name is known");
        stream.write_all(&[&[*last], b"and more".as_slice()].concat()).unwrap();
        stream.shutdown(Shutdown::Write).unwrap();
        got.push(rest(stream));
        until("it has left", || rig.frontend_counts().connections == 0);
    }
    assert!(
        got[0].ends_with(&[&sent, b"and more".as_slice()].concat()),
        "{}",
        String::from_utf8_lossy(&got[0])
    );
    assert!(got.iter().all(|answer| *answer == got[0]), "one name, one server, however it came");
}

#[rstest]
#[case::another_protocol(b"HELO skerry.example\r\n".as_slice(), PATIENT)]
#[case::nearly_a_greeting(b"\x16\x03\x01\x00\x05\x02\x00\x00\x01\x00".as_slice(), PATIENT)]
#[case::a_greeting_that_never_ends(&[22, 3, 1, 64, 0, 1, 0, 255, 0], "client_hello_timeout = \"100ms\"")]
#[case::nothing_at_all(b"".as_slice(), "client_hello_timeout = \"100ms\"")]
fn who_says_no_name_is_dealt_out_in_turns(#[case] sent: &[u8], #[case] patience: &str) {
    let servers = [repeating("gull"), repeating("tern")];
    let rig = Rig::speaking("tcp", &servers.each_ref().map(|server| server.address), BY_SNI, patience);
    let mut got: Vec<Vec<u8>> = (0..4)
        .map(|count| {
            let mut stream = connect(rig.address);
            stream.write_all(sent).unwrap();
            // Its side stays open until a server has it: an end would be an answer too.
            until("a server was asked", || {
                servers.iter().map(Server::connections).sum::<usize>() == count + 1
            });
            stream.shutdown(Shutdown::Write).unwrap();
            rest(stream)
        })
        .collect();
    got.sort_unstable();
    let wanted = |name: &str| [name.as_bytes(), b" ", sent].concat();
    assert_eq!(got, [wanted("gull"), wanted("gull"), wanted("tern"), wanted("tern")]);
}

#[test]
fn who_says_no_name_can_be_refused_and_one_that_leaves_is_forgotten() {
    let server = repeating("gull");
    let refusing = format!("{BY_SNI}\nhash_when_absent = \"refuse\"");
    let rig = Rig::speaking("tcp", &[server.address], &refusing, PATIENT);
    let mut stream = connect(rig.address);
    stream.write_all(b"HELO skerry.example\r\n").unwrap();
    assert_eq!(read_end(&mut stream), ConnectionEnd::Reset);
    until("it is counted", || rig.frontend_counts().refused == 1);
    let mut leaving = connect(rig.address);
    leaving.write_all(&[22, 3]).unwrap();
    until("it has come", || rig.frontend_counts().connections == 1);
    drop(leaving);
    until("it has left", || rig.frontend_counts().connections == 0);
    assert_eq!(server.connections(), 0);
}

#[test]
fn names_are_passed_on_to_their_pools_as_they_come() {
    let (server, client) = harbours();
    let servers = ["gull", "tern", "skua"].map(|name| harbour(name, &server));
    let mut rig = Rig::speaking("tcp", &[servers[0].address], "", PATIENT);
    let pools = format!(
        "{}\n[frontends.harbour.passthrough]\ntickets = [\"Tickets.skerry.example\"]\n\
         vessels = [\"*.skerry.example\", \"pier.skerry.example\"]\n\
         [pools.tickets.servers.s1]\naddress = \"{}\"\n[pools.vessels.servers.s2]\naddress = \"{}\"\n",
        rig.text(),
        servers[1].address,
        servers[2].address
    );
    rig.publish_text(&pools);
    for (name, server) in [
        ("tickets.skerry.example", "tern"),
        ("TICKETS.skerry.example", "tern"),
        ("pier.skerry.example", "skua"),
        ("any.skerry.example", "skua"),
    ] {
        assert_eq!(visit(rig.address, &client, name), server, "{name}");
    }
    // Another name, and a client that names none, are the frontend's own pool's.
    let asked = ServerName::try_from("elsewhere.example").unwrap();
    let session = ClientConnection::new(Arc::clone(&client), asked).unwrap();
    let mut elsewhere = StreamOwned::new(session, connect(rig.address));
    assert!(elsewhere.write_all(b"hello").is_err(), "its certificate is for others");
    until("it came to the frontend's own pool", || rig.counts(0).taken == 1);
    // A pool that has no server left is not stood in for by another: the clients of its names would get the wrong certificate.
    let mut only = connect(rig.address);
    rig.publish_text(&pools.replace("[pools.tickets.servers.s1]", "[pools.tickets.servers.s1]\nweight = 0"));
    only.write_all(&greeting("tickets.skerry.example")).unwrap();
    assert_eq!(read_end(&mut only), ConnectionEnd::Reset);
    assert_eq!(rig.frontend_counts().unavailable, 1);
    assert_eq!(visit(rig.address, &client, "pier.skerry.example"), "skua");
}

/// A `tcp` frontend before pool `quay`, with a pool `pier` beside it and these rules, in this order.
fn ruled(quay: &Server, pier: &Server, rules: &[(&str, &str)]) -> Rig {
    let names: Vec<&str> = rules.iter().map(|(name, _)| *name).collect();
    let mut more =
        format!("[pools.pier]\ncheck = \"up\"\n[pools.pier.servers.p0]\naddress = \"{}\"\n", pier.address);
    for (name, keys) in rules {
        more += &format!("[rules.{name}]\n{keys}\n");
    }
    Rig::speaking("tcp", &[quay.address], &more, &format!("rules = {names:?}\n{PATIENT}"))
}

#[test]
fn rules_send_connections_by_the_name_that_they_ask_for() {
    let (server, client) = harbours();
    let (gull, tern) = (harbour("gull", &server), harbour("tern", &server));
    let rules = [
        ("shut", "when = 'server-name is shut.skerry.example'\naction = \"close\""),
        (
            "beside",
            "when = 'server-name is *.skerry.example and not server-name is quay.skerry.example'\naction = \"pool\"\npool = \"pier\"",
        ),
    ];
    let rig = ruled(&gull, &tern, &rules);
    assert_eq!(visit(rig.address, &client, "quay.skerry.example"), "gull");
    assert_eq!(visit(rig.address, &client, "pier.skerry.example"), "tern");
    let mut stream = connect(rig.address);
    stream.write_all(&greeting("shut.skerry.example")).unwrap();
    assert_eq!(read_end(&mut stream), ConnectionEnd::Reset);
    let snapshot = rig.plane.snapshot();
    let frontend = snapshot.frontends().next().unwrap();
    let matches: Vec<u64> =
        frontend.rules.as_ref().unwrap().rules().iter().map(|rule| rule.cell.matches()).collect();
    assert_eq!((matches, rig.frontend_counts().requests), (vec![1, 1], 3));
}

#[test]
fn rules_that_ask_for_no_name_wait_for_nothing_and_a_connection_keeps_its_rule_over_attempts() {
    let gull = Server::named("gull");
    // Connections to where nothing listens fail, and the next server of the same pool gets them.
    let nothing = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let tern = Server::start(|mut conn, _| {
        conn.say("tern");
        conn.wait_for_end();
    });
    let rules = [
        ("never", "when = 'client in 192.0.2.0/24 or port is 1'\naction = \"close\""),
        ("beside", "when = 'local-address in 127.0.0.1'\naction = \"pool\"\npool = \"pier\""),
    ];
    let mut rig = ruled(&gull, &tern, &rules);
    let text = rig.text().replace(
        "[pools.pier.servers.p0]",
        &format!("[pools.pier.servers.o0]\naddress = \"{nothing}\"\n[pools.pier.servers.p0]"),
    );
    rig.publish_text(&text);
    for _ in 0..6 {
        // The server speaks first: a wait for a name would last for minutes.
        let mut said = [0; 4];
        connect(rig.address).read_exact(&mut said).unwrap();
        assert_eq!(&said, b"tern");
    }
}
