//! Servers that leave and return: drains with deadlines, guards, whole hosts, and what is scripted against them.

use std::io::Write;
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;
use std::time::{Duration, Instant};

use merismos_api::{DutiesRequest, DutyRequest, Event, EventKind};
use merismos_client::ClientError;
use merismos_core::duty::{CutWork, Duty};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::time::Wall;
use merismos_lab::stand_in::{Fault, StandIn};

use crate::harness::{Service, http_client, merismos, until};

fn drain(within: Option<&str>) -> DutyRequest {
    DutyRequest {
        within: within.map(|within| within.parse().unwrap()),
        ..DutyRequest::new(Duty::Draining, "new disk")
    }
}

fn problem<T: std::fmt::Debug>(answer: Result<T, ClientError>) -> merismos_api::ProblemDocument {
    match answer {
        Err(ClientError::Refused(problem)) => *problem,
        other => panic!("it is refused: {other:?}"),
    }
}

async fn duty_events(service: &Service, server: &str) -> Vec<Event> {
    let events = service.client().events(100).await.unwrap().events;
    events.into_iter().filter(|event| event.kind == EventKind::Duty && event.subject == server).collect()
}

/// A request that its server answers after a while, in a thread of its own.
fn slow_request(service: &Service) -> tokio::task::JoinHandle<Result<u16, reqwest::Error>> {
    let (client, url) = (http_client(), format!("http://{}/", service.frontend));
    tokio::spawn(async move { Ok(client.get(url).send().await?.status().as_u16()) })
}

/// What a client sends whose request can't be repeated.
const POST: &[u8] = b"POST / HTTP/1.1\r\nHost: harbour\r\nContent-Length: 0\r\n\r\n";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_drain_waits_for_what_is_open_and_says_when_it_is_safe_to_work() {
    let service = Service::with(&["gull", "tern"]).await;
    let document = service.document().replace("[pools.quay]", "[pools.quay]\nalgorithm = \"in-order\"");
    service.apply(&document).await.unwrap();
    // It is open for longer than the command line takes to begin.
    service.stand_ins[0].set(Fault::Slow { delay_ms: 3_000 }).await;
    let open = slow_request(&service);
    until("it is at gull", async || service.server("gull").await.in_flight > 0).await;
    let mut waiting = merismos()
        .args(["--url", &service.url(), "--token", &service.token()])
        .args(["drain", "quay/gull", "--reason", "new disk", "--within", "30s", "--wait"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    until("it drains", async || service.server("gull").await.reason == Some(IneligibleReason::Draining))
        .await;
    assert!(waiting.try_wait().unwrap().is_none(), "it waits");
    assert_eq!(open.await.unwrap().unwrap(), 200, "what was open has its response");
    let said = waiting.wait_with_output().unwrap();
    let text = String::from_utf8(said.stdout).unwrap();
    assert_eq!(said.status.code(), Some(0), "{text}");
    assert!(text.contains("1 request open; what is left at "), "{text}");
    assert!(text.ends_with("quay/gull can be worked on: nothing is open, and nothing was cut\n"), "{text}");
    until("that is an event", async || {
        duty_events(&service, "quay/gull").await[0].message.starts_with("drained ")
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_deadline_cuts_what_is_left_and_says_so() {
    let service = Service::with(&["gull", "tern"]).await;
    let keys = "[pools.quay]\nalgorithm = \"in-order\"\ndrain_timeout = \"1s\"";
    service.apply(&service.document().replace("[pools.quay]", keys)).await.unwrap();
    service.stand_ins[0].set(Fault::Hang).await;
    let mut client = TcpStream::connect(service.frontend).unwrap();
    client.write_all(POST).unwrap();
    until("it is at gull", async || service.server("gull").await.in_flight > 0).await;
    let said = service.merismos(&["drain", "quay/gull", "--reason", "new disk", "--wait"]);
    let text = String::from_utf8(said.stdout).unwrap();
    assert_eq!(said.status.code(), Some(1), "{text}");
    assert!(text.ends_with("quay/gull can be worked on; its deadline cut 1 request\n"), "{text}");
    let gull = service.server("gull").await;
    assert_eq!(gull.reason, Some(IneligibleReason::Drained));
    let draining = gull.draining.unwrap();
    assert!(draining.safe && draining.over, "{draining:?}");
    assert_eq!(draining.cut, CutWork { requests: 1, ..CutWork::default() });
    until("that is an event", async || {
        let last = duty_events(&service, "quay/gull").await.remove(0);
        last.message.ends_with(": 1 request was cut") && last.detail["cut"]["requests"] == 1
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_deadline_that_passes_while_the_service_is_down_holds_at_the_next_start() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let gull = "quay/gull".parse().unwrap();
    let given = service.client().duty(&gull, &drain(Some("1s"))).await.unwrap();
    let deadline = given.order.deadline.unwrap();
    service.signal("-KILL");
    service.ended().await;
    until("the deadline has passed", async || {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
        Wall(now.as_millis() as i64) > deadline
    })
    .await;
    service.start().await;
    until("it holds", async || service.server("gull").await.reason == Some(IneligibleReason::Drained)).await;
    let order = service.server("gull").await.duty.unwrap();
    assert_eq!((order.deadline, order.who.as_str()), (Some(deadline), "admin"), "the order is as it was");
    until("that is told", async || {
        duty_events(&service, "quay/gull")
            .await
            .iter()
            .any(|event| event.message.contains("nothing had to be cut"))
    })
    .await;
    let told = duty_events(&service, "quay/gull").await.len();
    service.crash_and_restart().await;
    until("it holds again", async || service.server("gull").await.reason == Some(IneligibleReason::Drained))
        .await;
    let since = Instant::now();
    until("two seconds have passed", async || since.elapsed() > Duration::from_secs(2)).await;
    assert_eq!(duty_events(&service, "quay/gull").await.len(), told, "it is told once");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn of_two_who_drain_the_halves_of_a_pool_one_is_refused() {
    let service = Service::with(&["gull", "tern", "auk", "skua"]).await;
    let half = |names: [&str; 2]| DutiesRequest {
        servers: names.map(|name| format!("quay/{name}")).to_vec(),
        host: None,
        label: None,
        order: drain(None),
    };
    let (client, other) = (service.client(), service.client());
    let (first, second) = (half(["gull", "tern"]), half(["auk", "skua"]));
    let both = tokio::join!(client.duties(&first, None), other.duties(&second, None));
    let refused: Vec<_> = [both.0, both.1].into_iter().filter_map(Result::err).collect();
    assert_eq!(refused.len(), 1, "{refused:?}");
    assert_eq!(service.status().await.pools[0].eligible, 2, "the refused one took out none");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_guard_shows_its_arithmetic_and_what_overrides_it_is_kept() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let text = service.document().replace("[pools.quay]", "[pools.quay]\nmin_eligible = 2");
    service.apply(&text).await.unwrap();
    let (gull, tern) = ("quay/gull".parse().unwrap(), "quay/tern".parse().unwrap());
    service.client().duty(&gull, &drain(None)).await.unwrap();
    let refused = problem(service.client().duty(&tern, &drain(None)).await);
    let arithmetic = "pool quay would have 1 of 2 eligible servers without tern; its min_eligible is 2";
    assert!(refused.detail.starts_with(arithmetic), "{}", refused.detail);
    let said = service.merismos(&["drain", "quay/tern", "--reason", "it burns", "--anyway"]);
    assert!(said.status.success());
    let note = String::from_utf8(said.stderr).unwrap();
    assert!(note.contains(&format!("Done although {arithmetic}.")), "{note}");
    let events = duty_events(&service, "quay/tern").await;
    let event = events.iter().find(|event| event.message.contains("the guard was overridden")).unwrap();
    assert!(event.message.contains("it burns"), "{}", event.message);
    assert_eq!(event.detail["overridden"][0], arithmetic);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_rest_that_is_too_slow_for_the_peak_is_guarded() {
    let service = Service::with(&["gull", "tern"]).await;
    let text = service.document().replace("[pools.quay]", "[pools.quay]\nin_flight_limit = 2");
    service.apply(&text).await.unwrap();
    for stand_in in &service.stand_ins {
        stand_in.set(Fault::Slow { delay_ms: 1_500 }).await;
    }
    let open: Vec<_> = (0..4).map(|_| slow_request(&service)).collect();
    // The peak is sampled each second.
    for request in open {
        assert_eq!(request.await.unwrap().unwrap(), 200);
    }
    for stand_in in &service.stand_ins {
        stand_in.set(Fault::None).await;
    }
    let refused = problem(service.client().duty(&"quay/gull".parse().unwrap(), &drain(None)).await);
    let arithmetic = "pool quay had up to 4 in flight at once within the last 1 h; without gull the rest (1 eligible) \
                      may take 2 by in_flight_limit";
    assert!(refused.detail.starts_with(arithmetic), "{}", refused.detail);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_server_of_a_host_or_with_a_label_leaves_in_one_order() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let (gull, tern) = (service.stand_ins[0].address, service.stand_ins[1].address);
    let more = format!(
        "\n[pools.pier.servers.puffin]\naddress = \"{gull}\"\nlabels = {{ rack = \"r7\" }}\n\
         [pools.pier.servers.skua]\naddress = \"{tern}\"\n[hosts.quayside]\naddress = \"127.0.0.1\"\n"
    );
    let text = service
        .document()
        .replace("[pools.quay.servers.gull]", "[pools.quay.servers.gull]\nlabels = { rack = \"r7\" }");
    service.apply(&format!("{text}{more}")).await.unwrap();
    service.all_up().await;
    let said = service.merismos(&["drain", "--label", "rack=r7", "--reason", "new switch", "--wait"]);
    let text = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(said.status.success(), "{text}{}", String::from_utf8_lossy(&said.stderr));
    assert!(
        text.contains("pier/puffin can be worked on") && text.contains("quay/gull can be worked on"),
        "{text}"
    );
    assert!(
        duty_events(&service, "pier/puffin")
            .await
            .iter()
            .any(|event| event.message.contains("one order for 2 servers"))
    );
    let all = service.merismos(&["withdraw", "--host", "quayside", "--reason", "power"]);
    assert_eq!(all.status.code(), Some(3));
    let why = String::from_utf8_lossy(&all.stderr).into_owned();
    assert!(
        why.contains("pool pier would have no eligible server") && why.contains("pool quay would have no"),
        "{why}"
    );
    assert_eq!(service.server("tern").await.duty, None, "all or none");
    let unknown = service.merismos(&["drain", "--host", "heron", "--reason", "x"]);
    assert_eq!(unknown.status.code(), Some(2));
    assert!(service.merismos(&["return", "--label", "rack=r7", "--wait"]).status.success());
    service.all_up().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_returns_gets_work_when_a_check_has_passed_since() {
    let service = Service::with(&["gull", "tern"]).await;
    let text = service.document().replace("interval = \"200ms\"", "interval = \"10m\"");
    service.apply(&text).await.unwrap();
    let gull = "quay/gull".parse().unwrap();
    let order = |duty| DutyRequest::new(duty, "new disk");
    service.client().duty(&gull, &order(Duty::Withdrawn)).await.unwrap();
    service.stand_ins[0].set(Fault::Error { status: 500 }).await;
    let back = service.client().duty(&gull, &order(Duty::InService)).await.unwrap();
    assert!(!back.reached);
    let since = service.server("gull").await;
    assert_eq!(
        since.reason,
        Some(IneligibleReason::AwaitsPass),
        "its health is of before: {:?}",
        since.health
    );
    service.stand_ins[0].set(Fault::None).await;
    // The next probe is ten minutes away, unless an order asks for one.
    service.client().duty(&gull, &order(Duty::Withdrawn)).await.unwrap();
    let request = DutiesRequest {
        servers: vec!["quay/gull".to_owned()],
        host: None,
        label: None,
        order: order(Duty::InService),
    };
    let back = service.client().duties(&request, Some(Duration::from_secs(20))).await.unwrap();
    assert!(back.servers[0].reached, "{back:?}");
    service.client().duty(&gull, &order(Duty::Withdrawn)).await.unwrap();
    service.stand_ins[0].set(Fault::Error { status: 500 }).await;
    let at_once = DutyRequest { at_once: true, ..order(Duty::InService) };
    let back = service.client().duty(&gull, &at_once).await.unwrap();
    assert!(back.reached, "at once is at once");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn orders_can_be_given_twice_and_waited_for() {
    let service = Service::with(&["gull", "tern"]).await;
    let post = |body: serde_json::Value, prefer: Option<&str>| {
        let url = format!("{}/api/v1/servers/quay/gull/duty", service.url());
        let mut call = http_client().post(url).bearer_auth(service.token()).json(&body);
        if let Some(prefer) = prefer {
            call = call.header("prefer", prefer);
        }
        async move {
            let response = call.send().await.unwrap();
            let applied =
                response.headers().get("preference-applied").map(|value| value.to_str().unwrap().to_owned());
            (response.status().as_u16(), applied, response.json::<serde_json::Value>().await.unwrap())
        }
    };
    let body = serde_json::json!({ "duty": "draining", "reason": "new disk", "within": "5m" });
    let (status, applied, first) = post(body.clone(), Some("respond-async, wait=10")).await;
    assert_eq!((status, applied.as_deref(), &first["changed"]), (200, Some("wait=10"), &true.into()));
    assert_eq!(first["reached"], true, "nothing is open: {first}");
    let (_, applied, again) = post(body, None).await;
    assert_eq!((applied, &again["changed"], &again["order"]), (None, &false.into(), &first["order"]));
    let events = duty_events(&service, "quay/gull").await;
    let given = events.iter().filter(|event| event.message.starts_with("draining by")).count();
    assert_eq!(given, 1, "{events:?}");
    let (_, _, other) =
        post(serde_json::json!({ "duty": "draining", "reason": "new disk", "within": "9m" }), None).await;
    assert_eq!(other["changed"], true, "another deadline is another order");
    for (body, part) in [
        (serde_json::json!({ "duty": "draining", "reason": " " }), "A reason is needed"),
        (serde_json::json!({ "duty": "draining", "reason": "x", "until_when": 1 }), "unknown field"),
    ] {
        let (status, _, refused) = post(body, None).await;
        assert!(
            matches!(status, 400 | 422) && refused["detail"].as_str().unwrap().contains(part),
            "{refused}"
        );
    }
    let gull = service.client().server(&"quay/gull".parse().unwrap()).await.unwrap();
    assert_eq!((gull.server.as_str(), gull.eligible), ("quay/gull", false));
    assert!(gull.draining.is_some_and(|draining| draining.safe));
    assert_eq!(problem(service.client().server(&"quay/heron".parse().unwrap()).await).status, 404);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_is_not_back_in_time_is_told_once() {
    let service = Service::with(&["gull", "tern"]).await;
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    let until_then = Wall(now.as_millis() as i64 + 1_500);
    let order = DutyRequest { until: Some(until_then), ..DutyRequest::new(Duty::Withdrawn, "new disk") };
    service.client().duty(&"quay/gull".parse().unwrap(), &order).await.unwrap();
    assert!(service.status().await.troubles.is_empty(), "there is time");
    until("the headline has it", async || {
        service.status().await.troubles.iter().any(|trouble| {
            trouble.starts_with("quay/gull is still withdrawn, ")
                && trouble.ends_with("after it was expected back (by admin: new disk)")
        })
    })
    .await;
    let told = || async {
        let events = duty_events(&service, "quay/gull").await;
        events.iter().filter(|event| event.detail["overdue"] == true).count()
    };
    assert_eq!(told().await, 1);
    let since = Instant::now();
    until("two more seconds have passed", async || since.elapsed() > Duration::from_secs(2)).await;
    assert_eq!(told().await, 1);
    service
        .client()
        .duty(&"quay/gull".parse().unwrap(), &DutyRequest::new(Duty::InService, "back"))
        .await
        .unwrap();
    until("it is over", async || service.status().await.troubles.is_empty()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn servers_can_join_out_of_service_and_stay_so_over_a_crash() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let auk = StandIn::start("auk", ([127, 0, 0, 1], 0).into()).unwrap();
    let address = auk.address.to_string();
    let create = ["server", "create", "quay/auk", "--address", address.as_str(), "--withdrawn"];
    let preview = service.merismos(&[&create[..], &["--preview"]].concat());
    assert!(preview.status.success());
    let text = String::from_utf8_lossy(&preview.stdout).into_owned();
    assert!(!text.contains("33.3 %"), "the shares of the others stay: {text}");
    assert!(service.merismos(&create).status.success());
    // Nothing was written to the state file in the meantime, perhaps: the database has both, or neither.
    service.crash_and_restart().await;
    let joined = service.server("auk").await;
    assert_eq!(joined.reason, Some(IneligibleReason::Withdrawn));
    assert_eq!(joined.duty.unwrap().reason, "it was added withdrawn");
    assert_eq!(service.server("gull").await.duty, None, "those that were there stay in service");
    let tried = service.merismos(&["check", "try", "well", "quay/auk"]);
    assert!(tried.status.success(), "{}", String::from_utf8_lossy(&tried.stdout));
    for _ in 0..6 {
        assert!(!service.get().await.unwrap().1.starts_with("auk"));
    }
    assert!(service.merismos(&["return", "quay/auk", "--wait"]).status.success());
    until("it has clients", async || service.get().await.unwrap().1.starts_with("auk")).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_pipeline_of_the_guide_replaces_every_server_and_fails_no_request() {
    let service = Service::with(&["gull", "tern"]).await;
    let page = include_str!("../../../../docs/deployments.md");
    let script = page.split("```sh\n").nth(1).and_then(|rest| rest.split("```").next()).unwrap();
    let log = service.folder.path().join("replaced");
    let replace = service.folder.path().join("replace");
    std::fs::write(&replace, format!("#!/bin/sh\necho \"$1\" >>{}\n", log.display())).unwrap();
    std::fs::set_permissions(&replace, std::fs::Permissions::from_mode(0o755)).unwrap();
    let over = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let clients: Vec<_> = (0..4)
        .map(|_| {
            let (over, client) = (std::sync::Arc::clone(&over), http_client());
            let url = format!("http://{}/", service.frontend);
            tokio::spawn(async move {
                let mut statuses = std::collections::BTreeMap::<u16, u64>::new();
                while !over.load(std::sync::atomic::Ordering::Relaxed) {
                    *statuses.entry(client.get(&url).send().await.unwrap().status().as_u16()).or_default() +=
                        1;
                }
                statuses
            })
        })
        .collect();
    let ended = tokio::process::Command::new("sh")
        .args(["-c", script])
        .env("MERISMOS_URL", service.url())
        .env("MERISMOS_TOKEN", service.token())
        .env("SERVERS", "quay/gull quay/tern")
        .env("REPLACE", &replace)
        .status()
        .await
        .unwrap();
    over.store(true, std::sync::atomic::Ordering::Relaxed);
    for client in clients {
        let statuses = client.await.unwrap();
        assert!(statuses.keys().eq(&[200]) && statuses[&200] > 0, "{statuses:?}");
    }
    assert!(ended.success());
    assert_eq!(std::fs::read_to_string(log).unwrap(), "quay/gull\nquay/tern\n");
    service.all_up().await;
}
