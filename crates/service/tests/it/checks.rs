//! Checks that ask the real thing, tried and diagnosed through the real interface.

use std::process::Command;

use merismos_api::{Event, Finding, TryRequest, TryResponse};
use merismos_core::health::{HealthState, ProbeStep};
use merismos_core::time::Wall;
use merismos_lab::free::free_address;
use merismos_lab::stand_in::Fault;
use rstest::rstest;
use serde_json::{Map, Value, json};

use crate::dns::NameServer;
use crate::harness::{Database, Instance, Service, until};

fn keys(keys: Value) -> Option<Map<String, Value>> {
    keys.as_object().cloned()
}

async fn try_check(
    service: &Service,
    check: &str,
    given: Option<Map<String, Value>>,
    servers: &[&str],
) -> TryResponse {
    let servers = servers.iter().map(|name| (*name).to_owned()).collect();
    let request = TryRequest { servers, keys: given };
    service.client().try_check(&check.parse().unwrap(), &request).await.unwrap()
}

/// A service with one pool of one server at this address, judged by this check.
async fn with_check(address: std::net::SocketAddr, check: &str, flags: &[&str]) -> Service {
    let service = Service::bare_with(Database::shared(), &[], flags).await;
    let document = format!(
        "format = 3\n[checks.it]\ninterval = \"100ms\"\ntimeout = \"2s\"\ndown_after = 1\nup_after = 1\n{check}\n\
         [pools.quay]\ncheck = \"it\"\n[pools.quay.servers.real]\naddress = \"{address}\"\n"
    );
    let mut request = Service::request(&document);
    request.going.accept.push("slow-timeout:checks.it.timeout".to_owned());
    service.client().apply(&request).await.unwrap();
    service
}

async fn is(service: &Service, state: HealthState) {
    until("its health follows", async || service.status().await.pools[0].servers[0].health.state == state)
        .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_that_is_read_only_is_told_from_one_that_is_not() {
    let database = Instance::new();
    let folder = tempfile::tempdir().unwrap();
    let secret = folder.path().join("probe");
    std::fs::write(&secret, "merismos\n").unwrap();
    let check = format!(
        "kind = \"sql\"\nuser = \"merismos\"\npassword = \"file:{}\"\nquery = \"SELECT @@read_only\"\nexpect = \"= 0\"",
        secret.display()
    );
    let service = with_check(database.address(), &check, &[]).await;
    is(&service, HealthState::Up).await;
    database.as_root("SET GLOBAL read_only = 1");
    is(&service, HealthState::Down).await;
    let probe = service.status().await.pools[0].servers[0].health.last_probe.clone().unwrap();
    assert_eq!((probe.step, probe.observed.as_str()), (ProbeStep::Body, "@@read_only is 1; expected = 0"));
    database.as_root("SET GLOBAL read_only = 0");
    is(&service, HealthState::Up).await;
    // A login that is wrong, a column that is not there, and a statement that would write.
    let base = |more: Value| {
        let mut all =
            json!({ "kind": "sql", "user": "merismos", "password": format!("file:{}", secret.display()) });
        all.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        keys(all)
    };
    for (more, step, got) in [
        (
            json!({ "query": "SELECT 1", "user": "stranger" }),
            ProbeStep::Answer,
            "could not log in: Access denied",
        ),
        (
            json!({ "query": "SELECT 1 AS one", "column": "two" }),
            ProbeStep::Body,
            "no column two; it has one",
        ),
        (json!({ "query": "SELECT 1 WHERE FALSE" }), ProbeStep::Status, "the query gave no row"),
        (
            json!({ "query": "SHOW STATUS LIKE 'Uptime'", "column": "Value", "expect": ">= 0" }),
            ProbeStep::Done,
            "Value is",
        ),
        (json!({ "query": "SELECT 1 INTO @x FROM nowhere" }), ProbeStep::Status, "the query failed"),
    ] {
        let answer = try_check(&service, "new", base(more), &["quay/real"]).await;
        let evidence = &answer.tries[0].evidence;
        assert!(evidence.step == step && evidence.observed.contains(got), "{got}: {evidence}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_member_of_a_cluster_that_is_not_in_step_is_told_from_one_that_is() {
    let database = Instance::with_flags(format!(
        "--wsrep-on=ON --wsrep-provider=/usr/lib/galera/libgalera_smm.so --wsrep-cluster-address=gcomm:// \
         --wsrep-node-address=127.0.0.1 --wsrep-provider-options=gmcast.listen_addr=tcp://{} --binlog-format=ROW \
         --innodb-autoinc-lock-mode=2",
        free_address()
    ));
    let folder = tempfile::tempdir().unwrap();
    let secret = folder.path().join("probe");
    std::fs::write(&secret, "merismos\n").unwrap();
    let check = format!(
        "kind = \"sql\"\nuser = \"merismos\"\npassword = \"file:{}\"\nquery = \"SHOW STATUS LIKE 'wsrep_local_state'\"\n\
         column = \"Value\"\nexpect = \"= 4\"",
        secret.display()
    );
    let service = with_check(database.address(), &check, &[]).await;
    is(&service, HealthState::Up).await;
    database.as_root("SET GLOBAL wsrep_desync = ON");
    is(&service, HealthState::Down).await;
    let probe = service.status().await.pools[0].servers[0].health.last_probe.clone().unwrap();
    assert_eq!(probe.observed, "Value is 2; expected = 4");
    database.as_root("SET GLOBAL wsrep_desync = OFF");
    is(&service, HealthState::Up).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_is_asked_over_tls() {
    let folder = tempfile::tempdir().unwrap();
    let made = |name: &str, pem: String| {
        let path = folder.path().join(name);
        std::fs::write(&path, pem).unwrap();
        path.display().to_string()
    };
    let own = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned()]).unwrap();
    let other = rcgen::generate_simple_self_signed(vec!["192.0.2.9".to_owned()]).unwrap();
    let (cert, key) = (made("cert.pem", own.cert.pem()), made("key.pem", own.signing_key.serialize_pem()));
    let strange = made("other.pem", other.cert.pem());
    let database =
        Instance::with_flags(format!("--ssl-cert={cert} --ssl-key={key} --require-secure-transport=ON"));
    let secret = made("probe", "merismos".to_owned());
    let base =
        format!("kind = \"sql\"\nuser = \"merismos\"\npassword = \"file:{secret}\"\nquery = \"SELECT 1\"");
    let service = with_check(database.address(), &format!("{base}\ntls_authorities = \"{cert}\""), &[]).await;
    is(&service, HealthState::Up).await;
    for (more, step, got) in [
        (json!({}), ProbeStep::Answer, "could not log in"),
        (json!({ "tls": "unverified" }), ProbeStep::Done, "1 is 1"),
        (json!({ "tls": "verified" }), ProbeStep::Answer, "could not log in"),
        (json!({ "tls": "verified", "tls_authorities": strange }), ProbeStep::Answer, "could not log in"),
        (json!({ "tls": "verified", "tls_authorities": cert }), ProbeStep::Done, "1 is 1"),
    ] {
        let secret = format!("file:{secret}");
        let mut all = json!({ "kind": "sql", "user": "merismos", "password": secret, "query": "SELECT 1" });
        all.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let answer = try_check(&service, "new", keys(all), &["quay/real"]).await;
        let evidence = &answer.tries[0].evidence;
        assert!(evidence.step == step && evidence.observed.contains(got), "{more}: {evidence}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_name_server_is_asked_for_names() {
    let names = NameServer::start("gull IN A 192.0.2.21\nalias IN CNAME gull\n");
    let check = "kind = \"dns\"\nname = \"gull.skerry.example\"\nexpect = \"192.0.2.21\"";
    let service = with_check(names.address, check, &[]).await;
    is(&service, HealthState::Up).await;
    for (name, record, expect, step, got) in [
        (
            "gull.skerry.example",
            "A",
            "192.0.2.22",
            ProbeStep::Body,
            "answered 192.0.2.21; expected 192.0.2.22",
        ),
        (
            "alias.skerry.example",
            "CNAME",
            "gull.skerry.example",
            ProbeStep::Done,
            "answered gull.skerry.example.",
        ),
        ("gull.skerry.example", "AAAA", "2001:db8::1", ProbeStep::Status, "there is no AAAA of this name"),
        ("absent.skerry.example", "A", "192.0.2.21", ProbeStep::Status, "there is no A of this name"),
    ] {
        let given = keys(json!({ "kind": "dns", "name": name, "record": record, "expect": expect }));
        let answer = try_check(&service, "new", given, &["quay/real"]).await;
        let evidence = &answer.tries[0].evidence;
        assert!(evidence.step == step && evidence.observed.contains(got), "{got}: {evidence}");
    }
    drop(names);
    is(&service, HealthState::Down).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_echo_is_asked_for_where_the_service_may() {
    let service = with_check(free_address(), "kind = \"icmp\"", &[]).await;
    // Only a user who may open raw sockets can ask.
    let may = Command::new("id").arg("-u").output().unwrap().stdout == b"0\n";
    is(&service, if may { HealthState::Up } else { HealthState::Down }).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn programs_run_only_where_the_settings_say_so() {
    let folder = tempfile::tempdir().unwrap();
    let program = folder.path().join("lag");
    std::fs::write(&program, "#!/bin/sh\necho lag of $MERISMOS_PORT\n").unwrap();
    assert!(Command::new("chmod").arg("+x").arg(&program).status().unwrap().success());
    let address = free_address();
    let check = "kind = \"command\"\nprogram = \"lag\"";
    let path = folder.path().to_str().unwrap();
    let service = with_check(address, check, &["--command-folder", path]).await;
    is(&service, HealthState::Up).await;
    let tried = service.merismos(&["check", "try", "it", "quay/real"]);
    let said = String::from_utf8_lossy(&tried.stdout).into_owned();
    assert!(said.contains(&format!("exit code 0: lag of {}", address.port())), "{said}");
    let without = with_check(address, check, &[]).await;
    is(&without, HealthState::Down).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_check_is_tried_side_by_side_before_it_can_hurt() {
    let service = Service::with(&["gull", "tern"]).await;
    until("all are up", async || service.status().await.pools[0].eligible == 2).await;
    service.stand_ins[1].set(Fault::WrongBody).await;
    let args = [
        "check",
        "try",
        "new",
        "quay/gull",
        "quay/tern",
        "--kind",
        "http",
        "--path",
        "/health",
        "--body-contains",
        "well",
    ];
    let tried = service.merismos(&args);
    let said = String::from_utf8_lossy(&tried.stdout).into_owned();
    assert_eq!(tried.status.code(), Some(1), "{said}");
    assert!(said.contains("check new, http: GET /health wants 200-299, body contains \"well\""), "{said}");
    assert!(said.contains("✓ quay/gull at") && said.contains("✗ quay/tern at"), "{said}");
    assert!(said.contains("but the body does not contain \"well\""), "{said}");
    assert!(said.contains("a try counts for nothing"), "{said}");
    // A check that there is, with another key.
    let name = service.status().await.pools[0].check.as_ref().unwrap().name.clone();
    let other =
        service.merismos(&["check", "try", &name, "quay/gull", "--path", "/nowhere-at-all", "--json"]);
    let answer: TryResponse = serde_json::from_slice(&other.stdout).unwrap();
    assert!(answer.asks.contains("GET /nowhere-at-all"), "{answer:?}");
    assert_eq!(service.status().await.pools[0].eligible, 2, "nothing about their health has changed");
    for (args, says) in [
        (vec!["check", "try", "none", "quay/gull"], "There is no check none"),
        (vec!["check", "try", "new", "quay/unknown", "--kind", "tcp"], "There is no server quay/unknown"),
        (vec!["check", "try", "new", "quay/gull", "--kind", "smoke"], "possible values: tcp, http"),
    ] {
        let wrong = service.merismos(&args);
        let said = String::from_utf8_lossy(&wrong.stderr).into_owned();
        assert!(wrong.status.code() == Some(2) && said.contains(says), "{said}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_diagnosis_ends_where_it_breaks_and_says_why() {
    let service = Service::with(&["gull", "tern"]).await;
    until("all are up", async || service.status().await.pools[0].eligible == 2).await;
    let id = "quay/tern".parse().unwrap();
    let finding = async || service.client().diagnose(&id).await.unwrap().finding;
    assert_eq!(finding().await, Finding::Works);
    for (fault, expected) in [
        (Fault::Refuse, Finding::ConnectionRefused),
        (Fault::Error { status: 503 }, Finding::UnexpectedStatus),
        (Fault::WrongBody, Finding::Works),
        (Fault::Hang, Finding::NoResponse),
    ] {
        service.stand_ins[1].set(fault).await;
        assert_eq!(finding().await, expected, "{fault:?}");
        let printed = service.merismos(&["diagnose", "quay/tern"]);
        assert_eq!(printed.status.code(), Some(i32::from(expected != Finding::Works)), "{fault:?}");
        let printed = String::from_utf8_lossy(&printed.stdout).into_owned();
        assert!(printed.contains("beside quay/gull"), "{printed}");
    }
    service.stand_ins[1].set(Fault::Error { status: 503 }).await;
    let diagnosis = service.client().diagnose(&id).await.unwrap();
    assert!(!diagnosis.causes.is_empty() && !diagnosis.next.is_empty(), "{diagnosis:?}");
    let missing = service.client().diagnose(&"quay/unknown".parse().unwrap()).await;
    assert!(missing.unwrap_err().to_string().contains("There is no server quay/unknown"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_last_probes_are_marks_on_a_line_of_time() {
    let service = Service::with(&["gull", "tern"]).await;
    let id = "quay/tern".parse().unwrap();
    until("it was probed", async || service.client().probes(&id).await.unwrap().marks.len() >= 2).await;
    // Between two probes, and not in the middle of one.
    until("the next probe is waited for", async || {
        service.client().probes(&id).await.unwrap().message.contains("next probe in")
    })
    .await;
    let probes = service.client().probes(&id).await.unwrap();
    assert!(probes.marks.iter().all(|mark| mark.passed), "{probes:?}");
    assert_eq!(probes.changes_today, 1, "it was proven up");
    assert!(probes.message.starts_with("down after"), "{}", probes.message);
    service.stand_ins[1].set(Fault::Error { status: 500 }).await;
    until("it is down", async || service.client().probes(&id).await.unwrap().state == HealthState::Down)
        .await;
    let probes = service.client().probes(&id).await.unwrap();
    let down = probes.marks.iter().find(|mark| mark.to == Some(HealthState::Down)).unwrap();
    assert_eq!((down.passed, down.step), (false, ProbeStep::Status));
    assert!(probes.message.contains("failed, needs"), "{}", probes.message);
    assert_eq!(probes.changes_today, 3, "suspect, and down");
    let printed = service.merismos(&["server", "probes", "quay/tern"]);
    assert!(printed.status.success(), "{printed:?}");
    let printed = String::from_utf8_lossy(&printed.stdout).into_owned();
    assert!(printed.contains('▼') && printed.contains("status 500; expected 200-299"), "{printed}");
    let unknown = service.merismos(&["server", "probes", "quay/unknown"]);
    assert_eq!(unknown.status.code(), Some(2));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn when_all_servers_fail_alike_it_is_said_and_a_pool_may_send_to_all_of_them() {
    let service = Service::with(&["gull", "tern"]).await;
    let all_fail = async |fault: Fault| {
        for stand_in in &service.stand_ins {
            stand_in.set(fault).await;
        }
        let eligible = if fault == Fault::None { 2 } else { 0 };
        until("their health follows", async || {
            let pool = &service.status().await.pools[0];
            let state = if eligible == 2 { HealthState::Up } else { HealthState::Down };
            pool.servers.iter().all(|server| server.health.state == state)
        })
        .await;
    };
    all_fail(Fault::Error { status: 404 }).await;
    let says = "all 2 servers fail in the same moment and in the same way (status 404; expected 200-299): it may be the check";
    until("it is said", async || {
        let events = service.client().events(100).await.unwrap().events;
        events.iter().any(|event| event.subject == "pool quay" && event.message.starts_with(says))
    })
    .await;
    assert_eq!(service.get().await.unwrap().0, 503);
    let text = service.document().replace("[pools.quay]\n", "[pools.quay]\nwhen_none = \"all\"\n");
    service.apply(&text).await.unwrap();
    assert_eq!(service.get().await.unwrap().0, 404, "they answer as they do");
    let status = service.status().await;
    assert!(status.pools[0].sends_to_all);
    let printed = service.merismos(&["status"]);
    let printed = String::from_utf8_lossy(&printed.stdout).into_owned();
    assert!(printed.contains("no server passes: work goes to all of them"), "{printed}");
    all_fail(Fault::None).await;
    assert!(!service.status().await.pools[0].sends_to_all);
    assert_eq!(service.get().await.unwrap().0, 200);
}

#[rstest]
#[case::both_work("")]
#[case::one_stands_by("tier = 1\n")]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_fails_real_work_is_noticed_before_its_check_does(#[case] tier: &str) {
    let service = Service::with(&["gull", "tern"]).await;
    // A check that comes once an hour: only traffic tells.
    let text = service.document().replace("interval = \"200ms\"", "interval = \"1h\"");
    let keys = "[pools.quay]\npassive_check = { failures = 3, count_5xx = true, action = \"down\" }\n";
    let tern = "[pools.quay.servers.tern]\n";
    let text = text.replace("[pools.quay]\n", keys).replace(tern, &format!("{tern}{tier}"));
    service.apply(&text).await.unwrap();
    for stand_in in &service.stand_ins {
        stand_in.set(Fault::Error { status: 500 }).await;
    }
    for _ in 0..12 {
        assert_eq!(service.get().await.unwrap().0, 500);
    }
    until("one of them is down, by its traffic", async || {
        let events = service.client().events(100).await.unwrap().events;
        events
            .iter()
            .any(|event| event.message.contains("requests failed or answered 500 and above within 10s"))
    })
    .await;
    // The other one is the last: it stays, whatever it does.
    for _ in 0..12 {
        assert_eq!(service.get().await.unwrap().0, 500);
    }
    until("it was looked at again", async || {
        let pool = service.status().await.pools[0].clone();
        pool.servers.iter().any(|server| server.observed.ten_seconds.errors >= 12)
    })
    .await;
    assert_eq!(service.status().await.pools[0].eligible, 1, "the last one is spared");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn traffic_that_fails_does_not_wait_for_the_probe_that_is_under_way() {
    let service = Service::with(&["gull", "tern"]).await;
    // A probe that hangs would be over long after the patience of this test.
    let keys =
        "[pools.quay]\npassive_check = { failures = 3, action = \"down\" }\nfirst_byte_timeout = \"50ms\"\n";
    let text =
        service.document().replace("timeout = \"5s\"", "timeout = \"60s\"").replace("[pools.quay]\n", keys);
    service.apply(&text).await.unwrap();
    service.stand_ins[0].set(Fault::Hang).await;
    until("gull is down, by its traffic", async || {
        let _ = service.get().await;
        service.server("gull").await.reason_words.as_deref().is_some_and(|words| words.starts_with("down"))
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_may_ask_for_a_smaller_share_or_to_be_drained() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let expected = async |service: &Service| {
        let pool = service.status().await.pools[0].clone();
        pool.servers.iter().map(|server| (server.expected * 100.0).round() as u32).collect::<Vec<_>>()
    };
    service.stand_ins[0].set(Fault::AskForShare { percent: 25 }).await;
    let before =
        service.status().await.pools[0].servers[0].health.last_probe.as_ref().map(|last_probe| last_probe.at);
    until("gull was probed since", async || {
        let now = service.status().await.pools[0].servers[0]
            .health
            .last_probe
            .as_ref()
            .map(|last_probe| last_probe.at);
        now > before
    })
    .await;
    assert_eq!(expected(&service).await, [50, 50], "it is not applied yet");
    let text = service.document().replace("[checks.well]\n", "[checks.well]\nserver_feedback = true\n");
    service.apply(&text).await.unwrap();
    until("gull gets a smaller share", async || expected(&service).await == [20, 80]).await;

    service.stand_ins[0].set(Fault::AskToDrain).await;
    until("gull is drained", async || expected(&service).await == [0, 100]).await;
    let gull = service.status().await.pools[0].servers[0].clone();
    assert_eq!(gull.reason_words.as_deref(), Some("it asks to be drained"));
    assert_eq!((gull.health.state, gull.duty), (HealthState::Up, None), "neither probes nor people say so");
    in_the_copy(&service, "\"drain\"").await;
    service.crash_and_restart().await;
    assert_eq!(expected(&service).await, [0, 100], "a restart goes on with what was asked for");

    service.stand_ins[1].set(Fault::AskToDrain).await;
    until("both ask for it", async || expected(&service).await == [50, 50]).await;
    assert_eq!(service.get().await.unwrap().0, 200);
    for stand_in in &service.stand_ins {
        stand_in.set(Fault::None).await;
    }
    until("no probe comes any more", async || {
        let events = service.client().events(100).await.unwrap().events;
        events.iter().filter(|event| event.message == "asks for nothing any more").count() == 2
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_keeps_changing_is_called_flapping_and_held_down() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let keys = "[checks.well]\nhold_down = \"1h\"\nhold_down_most = \"1h\"\n";
    let text = service.document().replace("[checks.well]\n", keys).replace("200ms", "100ms");
    service.apply(&text).await.unwrap();
    let gull = async |service: &Service| service.status().await.pools[0].servers[0].clone();
    for time in 1..=3 {
        until("gull is up", async || gull(&service).await.health.state == HealthState::Up).await;
        service.stand_ins[0].set(Fault::Error { status: 503 }).await;
        until("gull is down", async || gull(&service).await.health.state == HealthState::Down).await;
        assert_eq!(gull(&service).await.health.flapping, time == 3);
        service.stand_ins[0].set(Fault::None).await;
    }
    until("gull passes", async || gull(&service).await.health.state == HealthState::Recovering).await;
    let events = service.client().events(100).await.unwrap().events;
    let says = |words: &str| events.iter().filter(|event| event.message.contains(words)).count();
    assert_eq!((says("it is flapping, and held down for"), says("it is flapping")), (1, 1), "{events:#?}");
    let held = gull(&service).await.health.held_until.expect("it is held");
    let says = service.client().probes(&"quay/gull".parse().unwrap()).await.unwrap().message;
    assert!(says.contains("held down for 59 min") && says.contains("flapping"), "{says}");
    in_the_copy(&service, "\"held_until\":\"").await;

    service.crash_and_restart().await;
    let last = gull(&service).await.health.last_probe.map(|last_probe| last_probe.at);
    until("gull was probed twice and more", async || {
        let now = gull(&service).await.health.last_probe.map(|last_probe| last_probe.at);
        now > last.map(|last| Wall(last.0 + 500))
    })
    .await;
    let gull = gull(&service).await;
    assert_eq!((gull.eligible, gull.health.state), (false, HealthState::Recovering), "it is still held");
    let now = gull.health.held_until.expect("it is still held");
    assert!((now.0 - held.0).abs() < 5_000, "until the same time: {held:?}, {now:?}");
}

/// What the reference says of detection times is what the running prober does. Nothing can be noticed sooner than at
/// best; later than at worst only because this machine was busy, which is not so each time.
#[rstest]
#[case::refused(Fault::Refuse)]
#[case::silent(Fault::Hang)]
#[case::slow(Fault::Slow { delay_ms: 400 })]
#[case::a_wrong_answer(Fault::Error { status: 500 })]
#[case::half_an_answer(Fault::Half)]
#[case::sent_elsewhere(Fault::Redirect)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn failures_are_noticed_within_the_times_that_are_promised(#[case] fault: Fault) {
    let service = Service::with(&["gull", "tern"]).await;
    let text =
        service.document().replace("timeout = \"5s\"", "timeout = \"150ms\"\nbody_contains = \"well\"");
    service.apply(&text.replace("down_after = 2", "down_after = 3")).await.unwrap();
    let timing = service.status().await.pools[0].check.as_ref().unwrap().timing;
    assert_eq!((timing.noticed.best_ms, timing.noticed.worst_ms), (400, 750));
    let mut at_worst = Vec::new();
    for time in 0..5_usize {
        service.all_up().await;
        let began = wall();
        service.stand_ins[0].set(fault).await;
        let fails = wall();
        let mut downs = Vec::new();
        until("gull is down", async || {
            let events = service.client().events(100).await.unwrap().events;
            let is_down = |event: &&Event| event.subject == "quay/gull" && event.message.starts_with("down");
            downs = events.iter().filter(is_down).map(|event| event.at).collect();
            downs.len() > time
        })
        .await;
        let noticed = *downs.iter().max().unwrap();
        service.stand_ins[0].set(Fault::None).await;
        let best = noticed.0 - began.0;
        // Times are whole milliseconds, and the probe that fails first may have begun just before the fault.
        assert!(best + 2 >= 400 - 150, "{best} ms is sooner than can be");
        at_worst.push(noticed.0 - fails.0);
    }
    assert!(at_worst.iter().any(|millis| *millis <= 750), "never in time: {at_worst:?} ms");
}

/// A crash forgets what was learned in its last moment: waits until the copy to start from says something.
async fn in_the_copy(service: &Service, says: &str) {
    until("it is in the copy", async || {
        let copy = std::fs::read_to_string(service.folder.path().join("state/copy.json"));
        copy.is_ok_and(|copy| copy.replace(char::is_whitespace, "").contains(says))
    })
    .await;
}

fn wall() -> Wall {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    Wall(i64::try_from(since.as_millis()).unwrap())
}

#[rstest]
#[case::another_question("path = \"/health\"", "path = \"/elsewhere\"")]
#[case::the_first_question("check = \"well\"\n", "")]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn another_question_takes_nobody_out_who_works(#[case] from: &str, #[case] to: &str) {
    let service = Service::with(&["gull", "tern"]).await;
    let (one, other) = (service.document(), service.document().replace(from, to));
    for stand_in in &service.stand_ins {
        // Until the first probe of the new check is answered, the state stays as it was.
        stand_in.set(Fault::Slow { delay_ms: 300 }).await;
    }
    for text in [&other, &one, &other, &one] {
        let mut request = Service::request(text);
        request.going.accept.push("no-check:pools.quay".to_owned());
        service.client().apply(&request).await.unwrap();
        assert_eq!(service.status().await.pools[0].eligible, 2);
        assert_eq!(service.get().await.unwrap().0, 200);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_port_where_nobody_listens_for_datagrams_speaks_against_its_server() {
    let service = Service::with(&["gull", "tern"]).await;
    // Both have a page for the check; datagrams are taken by tern alone.
    let tern = std::net::UdpSocket::bind(service.stand_ins[1].address).unwrap();
    std::thread::spawn(move || {
        let mut room = [0; 64];
        while let Ok((count, from)) = tern.recv_from(&mut room) {
            let _ = tern.send_to(&room[..count], from);
        }
    });
    service.apply(&service.document().replace("\"http\"\nlisten", "\"udp\"\nlisten")).await.unwrap();
    service.all_up().await;
    let is_answered = || {
        let client = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
        client.set_read_timeout(Some(std::time::Duration::from_millis(300))).unwrap();
        client.send_to(b"where are you?", service.frontend).unwrap();
        client.recv(&mut [0; 64]).is_ok()
    };
    let answered = (0..100).filter(|_| is_answered()).count();
    assert!(answered >= 90, "{answered} of 100");
    until("gull is suspect for it", async || {
        is_answered();
        let events = service.client().events(100).await.unwrap().events;
        events.iter().any(|event| event.subject == "quay/gull" && event.message.contains("suspect"))
    })
    .await;
    assert!(service.server("gull").await.observed.minute.failed >= 3);
    assert_eq!(service.server("tern").await.observed.minute.failed, 0);
}
