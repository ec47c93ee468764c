//! Every kind of check against servers that answer well, badly, late, half or not at all.

use std::net::{SocketAddr, UdpSocket};
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use std::time::Instant;

use merismos_core::config::document::ChecksNeeded;
use merismos_core::health::{Evidence, FailureCause, HealthState, ProbeStep};
use merismos_probe::{AT_ONCE, ProbeEnvironment, ProbeOpening, ProbeTarget, Prober};
use rstest::rstest;
use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::sync::mpsc;

use crate::probing::{check, probe};
use merismos_lab::free::free_address;

use merismos_lab::scripted::{PATIENCE, ScriptedServer as Server};

fn keys(mut keys: Value, more: Value) -> Value {
    keys.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    keys
}

fn assert_described(evidence: &Evidence, step: ProbeStep, got: &str) {
    assert_eq!(evidence.step, step, "{evidence}");
    assert!(evidence.observed.contains(got), "{got:?} in {evidence}");
    assert_eq!(
        evidence.steps.last().map(|taken| (taken.step, taken.observed.as_str())),
        Some((step, evidence.observed.as_str()))
    );
}

#[rstest]
#[case::contains(json!({ "expect": "ready" }), ProbeStep::Done, "answered \"220 ready\\r\\n\"")]
#[case::pattern(json!({ "expect_pattern": "^[0-9]{3} ready" }), ProbeStep::Done, "answered")]
#[case::other(json!({ "expect": "done" }), ProbeStep::Body, "what is expected did not come")]
#[tokio::test]
async fn an_open_port_may_have_to_say_something(
    #[case] more: Value,
    #[case] step: ProbeStep,
    #[case] got: &str,
) {
    let greeting = Server::start(|mut conn, _| conn.say("220 ready\r\n"));
    let check = check(keys(json!({ "kind": "tcp" }), more));
    assert_described(&probe(greeting.address, &check, None).await, step, got);
}

#[tokio::test]
async fn what_is_sent_is_answered_or_not() {
    let asked = Server::start(|mut conn, _| {
        let mut line = String::new();
        std::io::BufRead::read_line(&mut conn.stream, &mut line).unwrap();
        if line == "PING\r\n" {
            conn.say("+PO");
            conn.say("NG\r\n");
        } else {
            conn.wait_for_end();
        }
    });
    let ping = |send: &str| json!({ "kind": "tcp", "send": send, "expect": "+PONG", "timeout": "300ms" });
    assert_described(&probe(asked.address, &check(ping("PING\r\n")), None).await, ProbeStep::Done, "+PONG");
    let silent = probe(asked.address, &check(ping("HELLO\r\n")), None).await;
    assert_described(&silent, ProbeStep::Answer, "connected, but no answer within 300 ms");
    assert_eq!(silent.cause, Some(FailureCause::Silent));
    let closing = Server::start(|_, _| {});
    assert_described(
        &probe(closing.address, &check(ping("PING\r\n")), None).await,
        ProbeStep::Answer,
        "connected, but",
    );
}

fn saying(body: &str) -> Server {
    let answer = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{body}", body.len());
    Server::start(move |mut conn, _| {
        if let Some((head, _)) = conn.request() {
            // What was asked for stands in a field of the answer.
            let first = head.lines().next().unwrap().to_owned();
            let host = head.lines().find(|line| line.starts_with("host: ")).unwrap_or_default().to_owned();
            conn.say(answer.replacen("OK\r\n", &format!("OK\r\nX-Asked: {first}, {host}\r\n"), 1));
        }
    })
}

#[rstest]
#[case::contains(json!({ "body_contains": "ready" }), ProbeStep::Done, "the body is as expected")]
#[case::does_not_contain(json!({ "body_contains": "asleep" }), ProbeStep::Body, "status 200, but the body does not contain \"asleep\"")]
#[case::lacks(json!({ "body_not_contains": "ready" }), ProbeStep::Body, "the body contains \"ready\"")]
#[case::matches(json!({ "body_matches": "\"lag\": [0-9]$" }), ProbeStep::Body, "does not match")]
#[case::json(json!({ "json_pointer": "/state", "json_expect": "= ready" }), ProbeStep::Done, "as expected")]
#[case::json_number(json!({ "json_pointer": "/lag", "json_expect": "< 5" }), ProbeStep::Body, "the value at /lag is 7; expected < 5")]
#[case::json_none(json!({ "json_pointer": "/none" }), ProbeStep::Body, "there is no value at /none")]
#[tokio::test]
async fn the_body_of_an_answer_is_judged(#[case] more: Value, #[case] step: ProbeStep, #[case] got: &str) {
    let server = saying(r#"{"state": "ready", "lag": 7}"#);
    let check = check(keys(json!({ "kind": "http", "path": "/health" }), more));
    let evidence = probe(server.address, &check, None).await;
    assert_described(&evidence, step, got);
    let steps: Vec<ProbeStep> = evidence.steps.iter().map(|taken| taken.step).collect();
    assert_eq!(steps, [ProbeStep::Connect, ProbeStep::Answer, ProbeStep::Body, step]);
}

#[tokio::test]
async fn a_body_that_never_ends_or_is_too_long_fails() {
    let endless = Server::start(|mut conn, _| {
        conn.request();
        conn.say("HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf");
        conn.wait_for_end();
    });
    let wants = |limit: &str| json!({ "kind": "http", "body_contains": "x", "body_limit": limit, "timeout": "300ms" });
    let half = probe(endless.address, &check(wants("1KiB")), None).await;
    assert_described(&half, ProbeStep::Body, "status 200, but the body did not end within 300 ms");
    let long = saying(&"x".repeat(5_000));
    let long = probe(long.address, &check(wants("1KiB")), None).await;
    assert_described(&long, ProbeStep::Body, "longer than 1024 bytes");
}

#[tokio::test]
async fn redirections_are_an_answer_unless_they_are_followed() {
    let server = Server::start(|mut conn, _| {
        while let Some((head, _)) = conn.request() {
            let to = match head.split(' ').nth(1) {
                Some("/a") => "/b",
                Some("/b") => "/c",
                Some("/away") => "http://elsewhere.example/",
                Some("/round") => "/round",
                _ => {
                    conn.answer("here");
                    continue;
                }
            };
            conn.say(format!("HTTP/1.1 302 Found\r\nLocation: {to}\r\nContent-Length: 0\r\n\r\n"));
        }
    });
    let path =
        |path: &str, redirects: u8| check(json!({ "kind": "http", "path": path, "redirects": redirects }));
    assert_described(
        &probe(server.address, &path("/a", 0), None).await,
        ProbeStep::Status,
        "status 302; expected 200-299",
    );
    assert_described(&probe(server.address, &path("/a", 2), None).await, ProbeStep::Done, "status 200");
    assert_described(
        &probe(server.address, &path("/a", 1), None).await,
        ProbeStep::Status,
        "more than 1 redirections",
    );
    assert_described(
        &probe(server.address, &path("/away", 5), None).await,
        ProbeStep::Status,
        "redirected elsewhere",
    );
    assert_described(
        &probe(server.address, &path("/round", 5), None).await,
        ProbeStep::Status,
        "more than 5 redirections",
    );
}

#[tokio::test]
async fn a_check_may_ask_elsewhere_and_in_its_own_way() {
    let server = Server::start(|mut conn, _| {
        let peer = conn.stream.get_ref().peer_addr().unwrap().ip();
        let (head, _) = conn.request().unwrap();
        conn.answer(&format!("{peer}\n{head}"));
    });
    let more = json!({
        "kind": "http", "method": "OPTIONS", "host": "booking.skerry.example", "headers": { "X-Probe": "yes" },
        "port": server.address.port(), "source_address": "127.0.0.31",
        "body_matches": "(?s)^127.0.0.31\nOPTIONS / HTTP/1.1\r\nhost: booking.skerry.example\r\n.*x-probe: yes\r\n",
    });
    let elsewhere: SocketAddr = ([127, 0, 0, 1], 9).into();
    let evidence = probe(elsewhere, &check(more), None).await;
    assert_described(&evidence, ProbeStep::Done, "as expected");
    assert!(evidence.tried.contains(&server.address.to_string()), "{evidence}");
}

/// A TLS server whose certificate is for this name and ends in so many days; gives its address, the certificate's
/// authority as PEM and its SHA-256.
async fn tls_server(name: &str, days: i64) -> (SocketAddr, String, String) {
    let mut params = rcgen::CertificateParams::new(vec![name.to_owned()]).unwrap();
    // Half a day more, so that a test that takes long still counts the same days.
    params.not_after = time::OffsetDateTime::now_utc() + time::Duration::hours(days * 24 + 12);
    let key = rcgen::KeyPair::generate().unwrap();
    let certificate = params.self_signed(&key).unwrap();
    let der = CertificateDer::from(certificate.der().to_vec());
    let pin: String = Sha256::digest(&der).iter().map(|byte| format!("{byte:02x}")).collect();
    let private = PrivatePkcs8KeyDer::from(key.serialize_der());
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config =
        rustls::ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let config = config.with_no_client_auth().with_single_cert(vec![der], private.into()).unwrap();
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                let Ok(mut stream) = acceptor.accept(stream).await else { return };
                let mut head = [0; 1_024];
                if stream.read(&mut head).await.is_ok_and(|count| count > 0) {
                    let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nwell").await;
                    let _ = stream.shutdown().await;
                }
            });
        }
    });
    (address, certificate.pem(), pin)
}

#[rstest]
#[case::well("gull.skerry.example", 90, ProbeStep::Done, "ends in 90 days")]
#[case::soon("gull.skerry.example", 5, ProbeStep::Done, "ends in 5 days (soon)")]
#[case::ended("gull.skerry.example", -2, ProbeStep::Tls, "the certificate has ended")]
#[case::other_name(
    "tern.skerry.example",
    90,
    ProbeStep::Tls,
    "the certificate is not for gull.skerry.example"
)]
#[tokio::test]
async fn certificates_are_judged(
    #[case] name: &str,
    #[case] days: i64,
    #[case] step: ProbeStep,
    #[case] got: &str,
) {
    let (address, authority, _) = tls_server(name, days).await;
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("authority.pem");
    std::fs::write(&file, authority).unwrap();
    let tls = json!({ "kind": "tls", "tls_name": "gull.skerry.example", "tls_authorities": file });
    assert_described(&probe(address, &check(tls), None).await, step, got);
    let http = json!({
        "kind": "http", "host": "gull.skerry.example", "tls": "verified", "tls_authorities": file, "body_contains": "well",
    });
    let http = probe(address, &check(http), None).await;
    assert_eq!(http.passed(), step == ProbeStep::Done, "{http}");
    assert!(http.tried.contains("https://"), "{http}");
}

#[tokio::test]
async fn a_stranger_s_certificate_passes_unverified_or_pinned_alone() {
    let (address, _, pin) = tls_server("gull.skerry.example", 30).await;
    let tls = |more: Value| check(keys(json!({ "kind": "tls", "tls_name": "gull.skerry.example" }), more));
    let other = "0".repeat(64);
    let stranger = probe(address, &tls(json!({ "tls_authorities": "/nowhere.pem" })), None).await;
    assert_described(&stranger, ProbeStep::Tls, "the authorities in /nowhere.pem can't be read");
    assert!(probe(address, &tls(json!({ "tls": "unverified" })), None).await.passed());
    assert!(probe(address, &tls(json!({ "tls": "unverified", "tls_pin": pin })), None).await.passed());
    let wrong = probe(address, &tls(json!({ "tls": "unverified", "tls_pin": other })), None).await;
    assert_described(&wrong, ProbeStep::Tls, "another one than the pinned one");
    let plain = saying("no TLS here");
    let plain = probe(plain.address, &tls(json!({ "tls": "unverified", "timeout": "500ms" })), None).await;
    assert_eq!(plain.step, ProbeStep::Tls, "{plain}");
}

#[tokio::test]
async fn datagrams_are_answered_refused_or_lost() {
    let echo = UdpSocket::bind("127.0.0.1:0").unwrap();
    let address = echo.local_addr().unwrap();
    std::thread::spawn(move || {
        let mut bytes = [0; 100];
        while let Ok((count, from)) = echo.recv_from(&mut bytes) {
            if &bytes[..count] != b"quiet" {
                echo.send_to(&bytes[..count], from).unwrap();
            }
        }
    });
    let udp =
        |send: &str| check(json!({ "kind": "udp", "send": send, "expect": "here", "timeout": "300ms" }));
    assert_described(
        &probe(address, &udp("here I am"), None).await,
        ProbeStep::Done,
        "answered \"here I am\"",
    );
    assert_described(
        &probe(address, &udp("away"), None).await,
        ProbeStep::Body,
        "what is expected did not come",
    );
    assert_described(
        &probe(address, &udp("quiet"), None).await,
        ProbeStep::Answer,
        "sent, but no answer within 300 ms",
    );
    let closed = free_address();
    let refused = probe(closed, &udp("here"), None).await;
    assert_described(&refused, ProbeStep::Connect, "refused");
    let open = check(json!({ "kind": "udp", "send": "quiet" }));
    assert_described(&probe(address, &open, None).await, ProbeStep::Done, "sent, and not refused");
    assert_described(&probe(closed, &open, None).await, ProbeStep::Connect, "nothing listens on that port");
}

/// A program in a folder of its own.
fn program(text: &str) -> (tempfile::TempDir, ProbeEnvironment) {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("lag");
    std::fs::write(&file, format!("#!/bin/sh\n{text}\n")).unwrap();
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o755)).unwrap();
    let surroundings =
        ProbeEnvironment { command_folder: Some(folder.path().to_owned()), ..ProbeEnvironment::default() };
    (folder, surroundings)
}

#[rstest]
#[case::well(
    "echo \"$1 of $MERISMOS_ADDRESS:$MERISMOS_PORT\"; echo more",
    ProbeStep::Done,
    "exit code 0: lag of 192.0.2.9:80"
)]
#[case::ill("echo behind; exit 3", ProbeStep::Status, "exit status: 3: behind")]
#[case::no_end("sleep 60 & wait", ProbeStep::Answer, "the program did not end within 1.0 s")]
#[tokio::test]
async fn programs_are_run_and_ended(#[case] text: &str, #[case] step: ProbeStep, #[case] got: &str) {
    let (_folder, surroundings) = program(text);
    let check = check(json!({ "kind": "command", "program": "lag", "arguments": ["lag"], "timeout": "1s" }));
    let began = Instant::now();
    let evidence = merismos_probe::probe(
        &[([192, 0, 2, 9], 80).into()],
        &check,
        &ProbeOpening::default(),
        &surroundings,
    )
    .await;
    assert_described(&evidence, step, got);
    assert!(began.elapsed() < PATIENCE, "what the program started is ended with it");
}

#[tokio::test]
async fn no_program_is_run_where_none_may_be() {
    let check = check(json!({ "kind": "command", "program": "lag" }));
    assert_described(
        &probe(free_address(), &check, None).await,
        ProbeStep::Connect,
        "this service runs no programs",
    );
    let (_folder, surroundings) = program("exit 0");
    let other = crate::probing::check(json!({ "kind": "command", "program": "none" }));
    let evidence =
        merismos_probe::probe(&[free_address()], &other, &ProbeOpening::default(), &surroundings).await;
    assert_described(&evidence, ProbeStep::Connect, "the program can't be run");
}

#[tokio::test]
async fn a_server_that_speaks_no_grpc_or_no_sql_says_so() {
    let http = saying("I am a web server");
    let grpc = probe(http.address, &check(json!({ "kind": "grpc", "timeout": "1s" })), None).await;
    assert_eq!(grpc.step, ProbeStep::Answer, "{grpc}");
    let sql = json!({ "kind": "sql", "user": "merismos", "query": "SELECT 1", "timeout": "1s" });
    let sql = probe(http.address, &check(sql), None).await;
    assert_eq!(sql.step, ProbeStep::Answer, "{sql}");
    let closed = probe(free_address(), &check(json!({ "kind": "grpc" })), None).await;
    assert_eq!((closed.step, closed.cause), (ProbeStep::Connect, Some(FailureCause::Refused)));
}

#[rstest]
#[case::all(ChecksNeeded::All, HealthState::Down)]
#[case::any(ChecksNeeded::Any, HealthState::Up)]
#[tokio::test]
async fn several_checks_decide_together(#[case] needed: ChecksNeeded, #[case] state: HealthState) {
    let server = saying("ready");
    let passes = check(json!({ "kind": "http", "body_contains": "ready" }));
    let fails = check(json!({ "kind": "http", "body_contains": "asleep" }));
    let (reports, mut received) = mpsc::channel(16);
    let mut prober = Prober::new(reports, ProbeEnvironment::default(), AT_ONCE).unwrap();
    let target = ProbeTarget {
        server: "quay/s0".parse().unwrap(),
        address: server.address,
        checks: [passes.into(), fails.into()].into(),
        opening: Arc::default(),
        other_addresses: Vec::new(),
        needed,
    };
    prober.set(vec![target], |_| HealthState::Unproven.into());
    let report = tokio::time::timeout(PATIENCE, received.recv()).await.unwrap().unwrap();
    assert_eq!(report.state, state);
    assert_eq!(
        report.evidence.observed.contains("asleep"),
        state == HealthState::Down,
        "{}",
        report.evidence
    );
}
