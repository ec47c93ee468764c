//! Probes against real listeners.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use merismos_core::config::document::{CheckSpec, ChecksNeeded, ProxyVersion};
use merismos_core::health::{Evidence, FailureCause, HealthState, ProbeStep};
use merismos_lab::free::free_address;
use merismos_probe::{AT_ONCE, ProbeEnvironment, ProbeOpening, ProbeTarget, Prober};
use rstest::rstest;
use serde_json::json;
use tokio::sync::mpsc;

use merismos_lab::scripted::{PATIENCE, ScriptedServer as Server, SilentServer};

/// A check as the document has it, with times that suit a test.
pub(crate) fn check(keys: serde_json::Value) -> CheckSpec {
    let mut whole = json!({ "interval": "100ms", "timeout": "5s", "down_after": 2, "up_after": 2 });
    whole.as_object_mut().unwrap().extend(keys.as_object().unwrap().clone());
    let document = json!({ "format": 3, "checks": { "it": whole } });
    let document =
        merismos_core::config::read_value(document).unwrap_or_else(|problems| panic!("{problems:#?}"));
    document.checks.into_values().next().unwrap()
}

fn http() -> CheckSpec {
    check(json!({ "kind": "http", "path": "/health" }))
}

/// Runs a check once, where no program may be run.
pub(crate) async fn probe(address: SocketAddr, check: &CheckSpec, proxy: Option<ProxyVersion>) -> Evidence {
    let opening = ProbeOpening { proxy_protocol: proxy, tls: None };
    merismos_probe::probe(&[address], check, &opening, &ProbeEnvironment::default()).await
}

#[rstest]
#[case::passes(b"HTTP/1.1 204 No Content\r\n\r\n", ProbeStep::Done, "status 204")]
#[case::wrong_status(
    b"HTTP/1.1 500 Oh\r\nContent-Length: 0\r\n\r\n",
    ProbeStep::Status,
    "status 500; expected 200-299"
)]
#[case::garbage(b"SSH-2.0-x\r\n\r\n", ProbeStep::Answer, "the answer makes no sense")]
#[case::closes(b"", ProbeStep::Answer, "the answer makes no sense")]
#[tokio::test]
async fn what_comes_back_is_told_in_words(
    #[case] bytes: &'static [u8],
    #[case] step: ProbeStep,
    #[case] got: &str,
) {
    let evidence = probe(Server::saying(bytes).address, &http(), None).await;
    assert_eq!(evidence.step, step, "{evidence}");
    assert!(evidence.observed.contains(got), "{evidence}");
    assert!(evidence.tried.contains("/health"), "{evidence}");
}

#[tokio::test]
async fn refusal_is_told_from_silence() {
    let refused = probe(free_address(), &http(), None).await;
    assert_eq!(refused.step, ProbeStep::Connect);
    assert!(refused.observed.contains("connection refused"), "{refused}");
    assert_eq!(refused.cause, Some(FailureCause::Refused));
    let silent = Server::start(|mut conn, _| conn.wait_for_end());
    let impatient = check(json!({ "kind": "http", "path": "/health", "timeout": "300ms" }));
    let late = probe(silent.address, &impatient, None).await;
    assert_eq!(late.step, ProbeStep::Answer);
    assert!(late.observed.contains("no answer within 300 ms"), "{late}");
    assert_eq!(late.cause, Some(FailureCause::Silent));
    assert!(late.took_us >= 300_000);
    let open = probe(silent.address, &check(json!({ "kind": "tcp" })), None).await;
    assert!(open.passed(), "an open port is all that a tcp check asks for: {open}");
}

#[tokio::test]
async fn the_prober_follows_a_server_down_and_up() {
    let (reports, mut received) = mpsc::channel(16);
    let mut prober = Prober::new(reports, ProbeEnvironment::default(), AT_ONCE).unwrap();
    let address = free_address();
    let target = ProbeTarget {
        server: "quay/s0".parse().unwrap(),
        address,
        checks: [check(json!({ "kind": "tcp" })).into()].into(),
        needed: ChecksNeeded::All,
        opening: Arc::default(),
        other_addresses: Vec::new(),
    };
    prober.set(vec![target.clone()], |_| HealthState::Up.into());
    let mut next = async || {
        let report =
            tokio::time::timeout(PATIENCE, received.recv()).await.expect("a report in time").unwrap();
        (report.state, report.failures_to_down, report.passes_to_up)
    };
    assert_eq!(next().await, (HealthState::Suspect, Some(1), Some(1)));
    assert_eq!(next().await, (HealthState::Down, None, Some(2)));
    let _listener = std::net::TcpListener::bind(address).unwrap();
    while next().await.0 != HealthState::Recovering {}
    assert_eq!(next().await, (HealthState::Up, Some(2), None));
    prober.set(vec![target], |_| panic!("the same target goes on as it was"));
    assert_eq!(next().await.0, HealthState::Up);
    prober.set(Vec::new(), |_| HealthState::Unproven.into());
    tokio::time::sleep(Duration::from_millis(1)).await;
    while received.try_recv().is_ok() {}
    let more = tokio::time::timeout(Duration::from_millis(300), received.recv()).await;
    assert!(more.is_err(), "nothing is probed any more");
}

/// A server that is asked again and again; gives how many connections it took, and how many were asked for.
async fn probed_many_times(keep_alive: bool, answers_on_each: usize) -> (usize, usize) {
    let (taken, asked) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let (taken_there, asked_there) = (Arc::clone(&taken), Arc::clone(&asked));
    let server = Server::start(move |mut conn, _| {
        taken_there.fetch_add(1, Ordering::SeqCst);
        for _ in 0..answers_on_each {
            if conn.request().is_none() {
                return;
            }
            asked_there.fetch_add(1, Ordering::SeqCst);
            conn.answer("well");
        }
    });
    let (reports, mut received) = mpsc::channel(16);
    let mut prober = Prober::new(reports, ProbeEnvironment::default(), AT_ONCE).unwrap();
    let target = ProbeTarget {
        server: "quay/s0".parse().unwrap(),
        address: server.address,
        checks: [check(json!({ "kind": "http", "keep_alive": keep_alive })).into()].into(),
        needed: ChecksNeeded::All,
        opening: Arc::default(),
        other_addresses: Vec::new(),
    };
    prober.set(vec![target], |_| HealthState::Up.into());
    for _ in 0..6 {
        let report = tokio::time::timeout(PATIENCE, received.recv()).await.unwrap().unwrap();
        assert!(report.evidence.passed(), "{}", report.evidence);
    }
    assert!(prober.started().0 >= 6);
    (taken.load(Ordering::SeqCst), asked.load(Ordering::SeqCst))
}

#[tokio::test]
async fn a_check_may_keep_its_connection() {
    let (connections, asked) = probed_many_times(true, usize::MAX).await;
    assert!(connections == 1 && asked >= 6, "{connections} connections for {asked} probes");
    let (connections, asked) = probed_many_times(true, 2).await;
    assert!(
        (3..=4).contains(&connections) && asked >= 6,
        "a server that closes them fails no probe: {connections}"
    );
    let (connections, asked) = probed_many_times(false, usize::MAX).await;
    assert_eq!(connections, asked, "each has its own without");
}

#[tokio::test]
async fn a_server_that_wants_a_header_first_gets_one_from_probes_too() {
    let server = Server::start(|mut conn, _| {
        let mut line = String::new();
        std::io::BufRead::read_line(&mut conn.stream, &mut line).unwrap();
        if line == "PROXY UNKNOWN\r\n" && conn.request().is_some() {
            conn.answer("well");
        }
    });
    assert!(probe(server.address, &http(), Some(ProxyVersion::V1)).await.passed());
    assert!(!probe(server.address, &http(), None).await.passed());
}

#[tokio::test]
async fn probes_reach_a_server_by_whichever_of_its_addresses_answers() {
    let (silent, server) = (SilentServer::start(), Server::named("gull"));
    let environment = ProbeEnvironment::default();
    for kind in ["tcp", "http"] {
        let check = check(serde_json::json!({ "kind": kind }));
        let addresses = [silent.address, server.address];
        let evidence =
            merismos_probe::probe(&addresses, &check, &ProbeOpening::default(), &environment).await;
        assert!(evidence.passed(), "{evidence}");
        let connected =
            evidence.steps.iter().any(|step| step.observed == format!("connected to {}", server.address));
        assert!(connected, "{:?}", evidence.steps);
    }
}
