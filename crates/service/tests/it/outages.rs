//! Drains, windows and rolls that are under way while the database is away, the service is killed, or the clock of the day is set.

use merismos_api::{
    DutiesRequest, DutyRequest, EventKind, RollRequest, WindowQuery, WindowState, WorkReport,
};
use merismos_core::duty::{DrainPins, Duty};
use merismos_core::roll::{RollPlan, RollState, RollStep, WorkOutcome};
use merismos_store::plans::PlanKind;
use merismos_store::state_snapshot;

use crate::harness::{Database, Instance, Service, http_client, until};
use crate::windows::plan;

fn roll(servers: &[&str]) -> RollRequest {
    let plan = RollPlan {
        pool: None,
        servers: servers.iter().map(|server| (*server).to_owned()).collect(),
        host: None,
        label: None,
        at_once: 1,
        within: Some("5s".parse().unwrap()),
        pins: DrainPins::default(),
        soak: None,
        return_within: None,
        reason: "updates".to_owned(),
        anyway: false,
    };
    RollRequest { plan, preview: false }
}

fn drain(servers: &[&str], within: &str) -> DutiesRequest {
    let order = DutyRequest {
        within: Some(within.parse().unwrap()),
        ..DutyRequest::new(Duty::Draining, "new disks")
    };
    let servers = servers.iter().map(|server| (*server).to_owned()).collect();
    DutiesRequest { servers, host: None, label: None, order }
}

async fn duty(service: &Service, server: &str) -> Duty {
    service.server(server).await.duty.map(|order| order.duty).unwrap_or_default()
}

/// Whether each of these servers drains and can be worked on.
async fn are_drained(service: &Service, servers: &[&str]) -> bool {
    let drains = service.client().drains().await.unwrap().servers;
    servers.iter().all(|server| drains.iter().any(|drain| drain.server == *server && drain.draining.safe))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn acts_under_way_outlive_the_database_and_two_crashes() {
    let mut service =
        Service::bare(Database::Own(Instance::new()), &["auk", "gull", "puffin", "skua", "tern"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    let client = service.client();
    // A window that is open, and a roll whose first server is ready for its work.
    client.put_window(&"night".parse().unwrap(), &plan(&["quay/gull"], -35)).await.unwrap();
    let under_way = client.begin_roll(&roll(&["quay/auk"]), None).await.unwrap();
    let step = async |service: &Service| service.client().roll(1).await.unwrap().servers[0].step;
    until("gull drains", async || duty(&service, "gull").await == Duty::Draining).await;
    until("auk can be worked on", async || step(&service).await == RollStep::Ready).await;

    let Database::Own(instance) = &service.database else { unreachable!("the test made its own") };
    instance.kill();
    let away = ["quay/skua", "quay/tern"];
    let answer = client.duties(&drain(&away, "5m"), None).await.unwrap();
    assert!(answer.servers.iter().all(|one| one.changed && !one.recorded), "{answer:?}");
    until("both can be worked on", async || are_drained(&service, &away).await).await;
    let orders = async |service: &Service| {
        let drains = service.client().drains().await.unwrap().servers;
        drains.into_iter().map(|drain| (drain.server, drain.order)).collect::<Vec<_>>()
    };
    let before = orders(&service).await;
    assert_eq!(before.len(), 4, "{before:?}");
    service.crash_and_restart().await;
    assert_eq!(orders(&service).await, before, "every order is as it was");
    assert_eq!(service.get().await.unwrap().1.split_whitespace().next(), Some("puffin"));

    // The work is done, and the window ends, without the database.
    let done = |outcome| WorkReport { server: "quay/auk".parse().unwrap(), outcome, note: None };
    for outcome in [WorkOutcome::Begun, WorkOutcome::Done] {
        service.client().report_work(under_way.id, &done(outcome)).await.unwrap();
    }
    until("the roll is finished", async || {
        service.client().roll(1).await.unwrap().state == RollState::Finished
    })
    .await;
    until("gull returns", async || duty(&service, "gull").await == Duty::InService).await;
    let kept = service.folder.path().join("state/waiting-events");
    until("its events are on the disk", async || {
        std::fs::read_to_string(&kept).is_ok_and(|text| text.contains("has ended: quay/gull return"))
    })
    .await;
    // An event is told once more when the state that goes with it was not on the disk yet.
    let copy = service.folder.path().join("state/copy.json");
    until("so are the duty and the roll", async || {
        let copy = state_snapshot::read(&copy).unwrap().unwrap();
        let roll = copy.plans.iter().find(|plan| plan.kind == PlanKind::Roll).unwrap();
        let is_finished = roll.body.as_ref().is_some_and(|roll| roll["state"] == "finished");
        is_finished && copy.duties["quay/gull"].duty == Duty::InService
    })
    .await;
    service.crash_and_restart().await;
    assert_eq!(service.client().roll(1).await.unwrap().state, RollState::Finished);
    assert_eq!(duty(&service, "gull").await, Duty::InService);
    assert_eq!(orders(&service).await.len(), 2, "skua and tern are out");

    let Database::Own(instance) = &service.database else { unreachable!("the test made its own") };
    instance.start();
    until("records are kept again", async || {
        let records = service.status().await.records;
        records.kept && records.waiting == 0
    })
    .await;
    let events = service.client().events(500).await.unwrap().events;
    let told = |kind: EventKind, subject: &str, part: &str| {
        let of = events.iter().filter(|event| event.kind == kind && event.subject == subject);
        of.filter(|event| event.message.contains(part)).count()
    };
    for (kind, subject, part) in [
        (EventKind::Duty, "quay/skua", "it can be worked on"),
        (EventKind::Duty, "quay/tern", "it can be worked on"),
        (EventKind::Window, "window night", "has ended: quay/gull return"),
        (EventKind::Roll, "roll 1", "finished: 1 done"),
    ] {
        assert_eq!(told(kind, subject, part), 1, "{subject}: {events:#?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_clock_that_is_set_cuts_nobody_and_ends_windows_by_the_new_time() {
    let mut service = Service::with(&["auk", "gull", "tern"]).await;
    let keys = "[pools.quay]\nalgorithm = \"in-order\"\npersistence = \"cookie\"";
    service.apply(&service.document().replace("[pools.quay]", keys)).await.unwrap();
    service.signal("-KILL");
    service.ended().await;
    service.bring_own_clock();
    service.start().await;
    service.all_up().await;
    // A download from auk that lasts, and a client that is tied to it.
    let url = format!("http://{}", service.frontend);
    let first = http_client().get(&url).send().await.unwrap();
    let cookie = first.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let home = async || {
        let request = http_client().get(&url).header("cookie", &cookie);
        request.send().await.unwrap().text().await.unwrap()
    };
    assert!(first.text().await.unwrap().starts_with("auk"));
    let mut download = http_client().get(format!("{url}/bytes/50000000")).send().await.unwrap();
    assert!(download.chunk().await.unwrap().is_some());
    service.client().duties(&drain(&["quay/auk"], "10m"), None).await.unwrap();
    service.client().put_window(&"night".parse().unwrap(), &plan(&["quay/gull"], -1)).await.unwrap();
    until("gull drains", async || duty(&service, "gull").await == Duty::Draining).await;
    let state = async || {
        let windows = service.client().windows(&WindowQuery::default()).await.unwrap().windows;
        windows[0].state
    };
    let draining = async || {
        let drains = service.client().drains().await.unwrap().servers;
        drains.into_iter().find(|drain| drain.server == "quay/auk").unwrap().draining
    };

    service.set_clock("-1h");
    until("it is an hour ago", async || state().await == WindowState::Ahead).await;
    assert_eq!(duty(&service, "gull").await, Duty::Draining, "what has begun goes on");
    assert!(!draining().await.over);

    service.set_clock("+2h");
    until("the window ends by the new time", async || duty(&service, "gull").await == Duty::InService).await;
    let auk = draining().await;
    assert!(!auk.over && !auk.safe, "ten minutes have not passed: {auk:?}");
    assert!(home().await.starts_with("auk"), "its client still comes");
    let mut got = 0;
    while let Some(chunk) = download.chunk().await.unwrap() {
        got += chunk.len();
    }
    assert!(got > 49_000_000, "the download is whole: {got}");
    until("nothing is open", async || draining().await.open.all() == 0).await;
    assert!(!draining().await.safe, "the client can come for another ten minutes");
}
