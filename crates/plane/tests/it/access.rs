//! Who may come to a frontend, over each protocol.

use std::net::{SocketAddr, UdpSocket};
use std::time::Duration;

use rstest::rstest;

use crate::rig::{Client, ConnectionEnd, PATIENCE, Rig, Server, until};

const LISTS: &str =
    "[networks]\noffice = [\"127.0.0.0/8\"]\nguests = [\"127.0.0.4/30\"]\nclients = [\"192.0.2.0/24\"]\n";

fn rig(protocol: &'static str, servers: &[SocketAddr], frontend: &str) -> Rig {
    Rig::speaking(protocol, servers, LISTS, frontend)
}

#[rstest]
#[case::http("http")]
#[case::tcp("tcp")]
fn those_who_are_not_let_in_are_reset_before_they_are_read(#[case] protocol: &'static str) {
    let server = Server::named("gull");
    let mut rig = rig(protocol, &[server.address], "allow = [\"office\"]\ndeny = [\"guests\"]");
    assert_eq!(Client::from("127.0.0.2", rig.address).get("/").status, 200);
    assert_eq!(Client::from("127.0.0.5", rig.address).end(), ConnectionEnd::Reset);
    assert_eq!(rig.frontend_counts().denied, 1);
    until("the one that was let in has left, and the other took no place", || {
        rig.frontend_counts().connections == 0
    });
    // A connection that is open when its client is turned away: HTTP is asked each time, TCP stays.
    let mut open = Client::from("127.0.0.2", rig.address);
    assert_eq!(open.get("/").status, 200);
    let text = rig.text().replace("127.0.0.4/30", "127.0.0.0/29");
    rig.publish_text(&text);
    let answer = open.get("/");
    assert_eq!(answer.status, if protocol == "http" { 403 } else { 200 }, "{answer:?}");
}

#[test]
fn a_list_without_networks_lets_nobody_in() {
    let server = Server::named("gull");
    let rig = Rig::speaking("http", &[server.address], "[networks]\noffice = []\n", "allow = [\"office\"]");
    assert_eq!(rig.client().end(), ConnectionEnd::Reset);
}

#[test]
fn clients_that_a_trusted_proxy_names_are_asked_one_by_one() {
    let server = Server::named("gull");
    let rig = rig("http", &[server.address], "allow = [\"clients\"]\ntrusted = [\"127.0.0.1\"]");
    let mut proxy = rig.client();
    let mut of = |client: &str| {
        proxy.send(format!("GET / HTTP/1.1\r\nHost: a\r\nX-Forwarded-For: {client}\r\n\r\n"));
        proxy.answer().unwrap().status
    };
    assert_eq!([of("192.0.2.7"), of("198.51.100.7"), of("192.0.2.8")], [200, 403, 200]);
    assert_eq!(rig.frontend_counts().denied, 1);
    // Another peer can't name itself a client that is let in.
    assert_eq!(Client::from("127.0.0.9", rig.address).end(), ConnectionEnd::Reset);
}

#[test]
fn a_proxy_header_says_who_comes() {
    let server = Server::named("gull");
    let keys = "allow = [\"clients\"]\ntrusted = [\"127.0.0.1\"]\nproxy_protocol = true";
    let rig = rig("http", &[server.address], keys);
    let mut good = rig.client();
    good.send("PROXY TCP4 192.0.2.7 192.0.2.1 4711 80\r\n");
    assert_eq!(good.get("/").status, 200);
    let mut bad = rig.client();
    bad.send("PROXY TCP4 198.51.100.7 192.0.2.1 4711 80\r\n");
    assert_eq!(bad.end(), ConnectionEnd::Reset);
}

#[rstest]
#[case::flows("")]
#[case::each_by_itself("balance_per = \"datagram\"\n")]
fn datagrams_of_others_are_dropped_and_counted(#[case] by: &str) {
    let server = UdpSocket::bind("127.0.0.1:0").unwrap();
    server.set_read_timeout(Some(PATIENCE)).unwrap();
    let rig = rig("udp", &[server.local_addr().unwrap()], &format!("{by}deny = [\"guests\"]"));
    let send = |from: &str| {
        let socket = UdpSocket::bind((from, 0)).unwrap();
        socket.send_to(from.as_bytes(), rig.address).unwrap();
    };
    send("127.0.0.5");
    until("it is counted", || rig.frontend_counts().denied == 1);
    send("127.0.0.2");
    let mut room = [0; 64];
    let (length, _) = server.recv_from(&mut room).unwrap();
    assert_eq!(&room[..length], b"127.0.0.2", "the first that came is not the one that was dropped");
    server.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
    assert!(server.recv_from(&mut room).is_err());
}
