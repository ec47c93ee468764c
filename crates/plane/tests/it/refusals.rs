//! What is refused is counted by its reason and by the network of its client.

use merismos_lab::free::free_address;
use rstest::rstest;

use crate::rig::{Client, Rig, Server, until};

/// What a rig's frontend refused: reasons and counts, each with the network that it refused most.
fn refused(rig: &Rig) -> Vec<(String, u64, String)> {
    let snapshot = rig.plane.snapshot();
    let found = snapshot.frontends().next().unwrap().cell.refusals();
    let most = |networks: &[merismos_core::limits::Offender]| networks[0].network.to_string();
    found.into_iter().map(|(reason, count, networks)| (reason.to_string(), count, most(&networks))).collect()
}

const NEAR: &str = "[networks]\nnear = [\"127.0.0.0/28\"]\n";
const GET: &str = "GET / HTTP/1.1\r\nHost: a\r\n\r\n";

#[rstest]
#[case::by_its_network("http", NEAR, "deny = [\"near\"]", GET, "not_let_in")]
#[case::a_connection_by_its_network("tcp", NEAR, "deny = [\"near\"]", "", "not_let_in")]
#[case::by_a_limit_of_connections(
    "tcp",
    "[limits.few]\nconnections = 1\n",
    "limits = [\"few\"]",
    "",
    "limit"
)]
#[case::a_version_that_there_is_not("http", "", "", "GET / HTTP/9.1\r\nHost: a\r\n\r\n", "malformed")]
#[case::a_path_that_is_read_in_two_ways(
    "http",
    "[rules.one]\nwhen = 'path is /x'\naction = \"close\"\n",
    "rules = [\"one\"]",
    "GET /%2e%2e/ HTTP/1.1\r\nHost: a\r\n\r\n",
    "malformed"
)]
#[case::a_body(
    "http",
    "",
    "body_size_limit = \"1B\"",
    "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 9\r\n\r\n",
    "too_large"
)]
#[case::a_slow_head("http", "", "header_timeout = \"100ms\"", "GET / HT", "too_slow")]
#[case::tls_where_none_is_spoken("http", "", "", "\x16\x03\x01\x00\x05\x01\x00\x00\x01\x00", "handshake")]
#[case::by_a_rule(
    "http",
    "[rules.one]\nwhen = 'always'\naction = \"refuse\"\n",
    "rules = [\"one\"]",
    GET,
    "rule"
)]
#[case::by_a_rule_without_a_word(
    "http",
    "[rules.one]\nwhen = 'always'\naction = \"close\"\n",
    "rules = [\"one\"]",
    GET,
    "rule"
)]
#[case::a_connection_by_a_rule(
    "tcp",
    "[rules.one]\nwhen = 'always'\naction = \"close\"\n",
    "rules = [\"one\"]",
    "",
    "rule"
)]
#[case::one_too_many("http", "", "connection_limit = 1", GET, "connection_limit")]
fn what_is_refused_is_counted_by_reason_and_client(
    #[case] protocol: &'static str,
    #[case] pool: &str,
    #[case] frontend: &str,
    #[case] says: &str,
    #[case] reason: &str,
) {
    let server = Server::start(|mut conn, _| conn.wait_for_end());
    let rig = Rig::speaking(protocol, &[server.address], pool, frontend);
    assert!(refused(&rig).is_empty());
    let fills = reason == "connection_limit" || reason == "limit";
    let first = fills.then(|| {
        let mut first = Client::from("127.0.0.5", rig.address);
        first.send("G");
        until("the first is connected", || rig.frontend_counts().connections == 1);
        first
    });
    let client = Client::from("127.0.0.5", rig.address);
    // It may be gone by then.
    let _ = std::io::Write::write_all(&mut client.writer(), says.as_bytes());
    until("it is refused", || !refused(&rig).is_empty());
    assert_eq!(refused(&rig), [(reason.to_owned(), 1, "127.0.0.5/32".to_owned())]);
    drop((client, first));
}

#[test]
fn what_servers_do_is_no_refusal() {
    let rig = Rig::new(&[free_address()], "", "");
    assert_eq!(rig.client().get("/").status, 502);
    assert!(refused(&rig).is_empty());
}

#[rstest]
#[case::of_a_known_length(true)]
#[case::in_chunks(false)]
fn a_client_that_does_not_read_is_counted(#[case] has_length: bool) {
    const LENGTH: usize = 64 << 20;
    let server = Server::start(move |mut conn, _| {
        while conn.request().is_some() {
            let framing = if has_length {
                format!("Content-Length: {LENGTH}")
            } else {
                "Transfer-Encoding: chunked".to_owned()
            };
            conn.say(format!("HTTP/1.1 200 OK\r\n{framing}\r\n\r\n"));
            if !has_length {
                conn.say(format!("{LENGTH:x}\r\n"));
            }
            conn.say(vec![b'x'; LENGTH]);
        }
    });
    let rig = Rig::new(&[server.address], "", "idle_timeout = \"300ms\"");
    let mut client = Client::narrow(rig.address);
    client.send(GET);
    until("it is refused", || !refused(&rig).is_empty());
    assert_eq!(refused(&rig), [("too_slow".to_owned(), 1, "127.0.0.1/32".to_owned())]);
}
