//! Windows: servers that leave in time, return when it is over, and what is said of both.

use merismos_api::{DutyRequest, Event, EventKind, WindowQuery, WindowState};
use merismos_client::ClientError;
use merismos_core::duty::{DrainPins, Duty};
use merismos_core::health::HealthState;
use merismos_core::time::Wall;
use merismos_core::window::{Schedule, WindowPlan};
use merismos_lab::stand_in::Fault;

use crate::harness::{Database, Instance, Service, until};

fn now() -> Wall {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    Wall(i64::try_from(now.as_millis()).unwrap())
}

/// A time in UTC so many seconds from now, without a fraction.
fn in_seconds(seconds: i64) -> String {
    let text = Wall((now().0 / 1_000 + seconds) * 1_000).to_string();
    text[..19].to_owned()
}

/// A window of a minute that opens in so many seconds, and drains for two.
pub(crate) fn plan(servers: &[&str], opens_in: i64) -> WindowPlan {
    WindowPlan {
        servers: servers.iter().map(|server| (*server).to_owned()).collect(),
        host: None,
        label: None,
        schedule: Schedule {
            start: in_seconds(opens_in).parse().unwrap(),
            zone: "UTC".to_owned(),
            length: "1m".parse().unwrap(),
            repeat: None,
        },
        within: Some("2s".parse().unwrap()),
        pins: DrainPins::default(),
        reason: "new disk".to_owned(),
        anyway: false,
    }
}

async fn events(service: &Service, subject: &str) -> Vec<Event> {
    let events = service.client().events(200).await.unwrap().events;
    events.into_iter().filter(|event| event.subject == subject).collect()
}

async fn state(service: &Service, name: &str) -> WindowState {
    let windows = service.client().windows(&WindowQuery::default()).await.unwrap().windows;
    windows.iter().find(|window| window.name == name).unwrap().state
}

async fn duty(service: &Service, server: &str) -> Duty {
    service.server(server).await.duty.map(|order| order.duty).unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_window_drains_its_servers_in_time_and_returns_them() {
    let service = Service::with(&["gull", "tern"]).await;
    let night = "night".parse().unwrap();
    // It opened most of a minute ago, as after an outage of the service: what is left of it counts.
    let put = service.client().put_window(&night, &plan(&["quay/gull"], -54)).await.unwrap();
    assert!(put.changed && put.recorded && put.overridden.is_empty(), "{put:?}");
    until("it drains", async || duty(&service, "gull").await == Duty::Draining).await;
    let order = service.server("gull").await.duty.unwrap();
    let open = put.window.times[0];
    assert_eq!(
        (order.who.as_str(), order.window.as_ref(), order.until),
        ("window night", Some(&night), Some(open.end))
    );
    assert_eq!(state(&service, "night").await, WindowState::Open);
    assert_eq!(duty(&service, "tern").await, Duty::InService);
    until("it returns", async || duty(&service, "gull").await == Duty::InService).await;
    assert!(now() >= open.end, "not before its end");
    until("that is told", async || {
        events(&service, "window night").await[0].message == "has ended: quay/gull return"
    })
    .await;
    assert_eq!(state(&service, "night").await, WindowState::Over);
    // The same plan again changes nothing; a time that has passed is refused when it is planned anew.
    let again = service.client().put_window(&night, &plan(&["quay/gull"], -500)).await;
    let Err(ClientError::Refused(problem)) = again else { panic!("{again:?}") };
    assert_eq!(problem.detail, "the window has no time that lies ahead");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_window_that_is_open_can_be_prolonged() {
    let service = Service::with(&["gull", "tern"]).await;
    let night = "night".parse().unwrap();
    let short = plan(&["quay/gull"], -50);
    service.client().put_window(&night, &short).await.unwrap();
    until("it drains", async || duty(&service, "gull").await == Duty::Draining).await;
    let mut long = short.clone();
    long.schedule.length = "5m".parse().unwrap();
    let put = service.client().put_window(&night, &long).await.unwrap();
    let end = put.window.times[0].end;
    until("its order says so", async || service.server("gull").await.duty.unwrap().until == Some(end)).await;
    assert_eq!(duty(&service, "gull").await, Duty::Draining);
    assert_eq!(service.server("gull").await.duty.unwrap().window, Some(night));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_drain_begins_before_the_window_and_ends_with_its_start() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let night = "night".parse().unwrap();
    let put = service.client().put_window(&night, &plan(&["quay/gull"], 4)).await.unwrap();
    let (drains_at, open) = (put.window.drains_at.unwrap(), put.window.times[0]);
    assert_eq!(open.start.since(drains_at).as_secs(), 2);
    until("it drains", async || duty(&service, "gull").await == Duty::Draining).await;
    let order = service.server("gull").await.duty.unwrap();
    assert!(order.at >= drains_at && order.at < open.start, "{order:?}");
    assert_eq!(order.deadline, Some(open.start));
    // An operator who brings it back within the window is not overruled.
    let quay = "quay/gull".parse().unwrap();
    service.client().duty(&quay, &DutyRequest::new(Duty::InService, "done early")).await.unwrap();
    until("it is open", async || state(&service, "night").await == WindowState::Open).await;
    let told = events(&service, "window night").await.len();
    service.crash_and_restart().await;
    until("it is known again", async || state(&service, "night").await == WindowState::Open).await;
    let ticks = now();
    until("three seconds have passed", async || now().since(ticks).as_secs() >= 3).await;
    assert_eq!(duty(&service, "gull").await, Duty::InService);
    assert_eq!(events(&service, "window night").await.len(), told, "it is begun once");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_window_ends_also_after_a_crash_and_what_is_down_then_stays_out() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    let night = "night".parse().unwrap();
    let servers = ["quay/gull", "quay/tern"];
    service.client().put_window(&night, &plan(&servers, -52)).await.unwrap();
    until("both drain", async || {
        duty(&service, "gull").await == Duty::Draining && duty(&service, "tern").await == Duty::Draining
    })
    .await;
    service.stand_ins[1].set(Fault::Refuse).await;
    until("tern is down", async || service.server("tern").await.health.state == HealthState::Down).await;
    service.signal("-KILL");
    service.ended().await;
    service.start().await;
    until("gull returns", async || duty(&service, "gull").await == Duty::InService).await;
    until("tern is overdue", async || {
        let status = service.status().await;
        status.troubles.iter().any(|trouble| trouble.starts_with("quay/tern is still draining"))
    })
    .await;
    let order = service.server("tern").await.duty.unwrap();
    assert_eq!((order.duty, order.window), (Duty::Draining, None));
    let told = events(&service, "quay/tern").await;
    let left = told.iter().find(|event| event.message.starts_with("stays draining: window night has ended"));
    assert!(left.is_some_and(|event| event.message.contains("`merismos return quay/tern`")), "{told:?}");
    // It does not come back by itself, whatever its health says later.
    service.stand_ins[1].set(Fault::None).await;
    until("tern is up", async || service.server("tern").await.health.state == HealthState::Up).await;
    assert_eq!(duty(&service, "tern").await, Duty::Draining);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clashes_with_the_guard_are_told_when_they_are_made() {
    let service = Service::with(&["gull", "tern"]).await;
    let name = |text: &str| text.parse().unwrap();
    let tomorrow = |servers: &[&str], hours: i64| plan(servers, 86_400 + hours * 3_600);
    service.client().put_window(&name("first"), &tomorrow(&["quay/gull"], 0)).await.unwrap();
    // Alone each is fine, at the same time they are not.
    service.client().put_window(&name("later"), &tomorrow(&["quay/tern"], 2)).await.unwrap();
    let clash = service.client().put_window(&name("second"), &tomorrow(&["quay/tern"], 0)).await;
    let Err(ClientError::Refused(problem)) = clash else { panic!("{clash:?}") };
    assert!(
        problem.detail.contains(", together with first: pool quay would have no eligible server"),
        "{}",
        problem.detail
    );
    let both = tomorrow(&["quay/gull", "quay/tern"], 9);
    let alone = service.client().put_window(&name("both"), &both).await;
    assert!(matches!(alone, Err(ClientError::Refused(_))), "{alone:?}");
    let anyway = WindowPlan { anyway: true, ..both };
    let put = service.client().put_window(&name("both"), &anyway).await.unwrap();
    assert_eq!(put.overridden.len(), 1);
    let again = service.client().put_window(&name("both"), &anyway).await.unwrap();
    assert!(!again.changed);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_window_that_the_guard_keeps_shut_is_a_headline_until_it_fits() {
    let service = Service::with(&["gull", "tern"]).await;
    service.client().put_window(&"night".parse().unwrap(), &plan(&["quay/gull"], 3)).await.unwrap();
    let tern = "quay/tern".parse().unwrap();
    service.client().duty(&tern, &DutyRequest::new(Duty::Draining, "by hand")).await.unwrap();
    let is_told = async || {
        let status = service.status().await;
        status.troubles.iter().any(|trouble| {
            trouble.starts_with("window night")
                && trouble.contains("would have no eligible server without gull")
        })
    };
    until("that is a headline", is_told).await;
    assert_eq!(duty(&service, "gull").await, Duty::InService);
    service.client().duty(&tern, &DutyRequest::new(Duty::InService, "back")).await.unwrap();
    until("it fits", async || duty(&service, "gull").await == Duty::Draining).await;
    assert!(!is_told().await);
    let told = events(&service, "window night").await;
    let kept = told.iter().filter(|event| event.message.contains("its servers stay in service")).count();
    assert_eq!(kept, 1, "it is told once: {told:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn windows_are_planned_listed_and_removed_on_the_command_line() {
    let mut service = Service::bare(Database::Own(Instance::new()), &["gull", "tern"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    let plan = [
        "window",
        "add",
        "disks",
        "quay/gull",
        "--start",
        "2036-12-02 22:00",
        "--zone",
        "Europe/Oslo",
        "--length",
        "2h",
        "--repeat",
        "FREQ=WEEKLY;BYDAY=TU;COUNT=2",
        "--reason",
        "new disks",
    ];
    let said = service.merismos(&plan);
    let text = String::from_utf8(said.stdout).unwrap();
    assert_eq!(said.status.code(), Some(0), "{text}");
    assert!(text.starts_with("Window disks is planned, for quay/gull.\n"), "{text}");
    let missing = service.merismos(&[
        "window",
        "add",
        "x",
        "quay/puffin",
        "--start",
        "2036-12-02 22:00",
        "--length",
        "2h",
        "--reason",
        "y",
    ]);
    assert_eq!(missing.status.code(), Some(2));
    assert!(String::from_utf8(missing.stderr).unwrap().contains("there is no server quay/puffin"));
    // It is there after a crash, also without the database.
    service.database.instance().kill();
    service.crash_and_restart().await;
    let said = service.merismos(&["window", "list", "--days", "400"]);
    let text = String::from_utf8(said.stdout).unwrap();
    assert!(text.contains("disks") && text.contains("2036-12-02 22:00:00 Europe/Oslo"), "{text}");
    assert!(text.ends_with("None of them opens within 400 days.\n"), "{text}");
    assert_eq!(service.merismos(&["window", "remove", "disks"]).status.code(), Some(0));
    let removed = service.client().events(50).await.unwrap().events.remove(0);
    assert!(removed.kind == EventKind::Window && removed.message == "removed by admin", "{removed:?}");
    // The database still has it, and does not bring it back.
    service.crash_and_restart().await;
    service.database.instance().start();
    until("the database is used", async || service.status().await.records.kept).await;
    service.crash_and_restart().await;
    let windows = service.client().windows(&WindowQuery::default()).await.unwrap();
    assert!(windows.windows.is_empty(), "{windows:?}");
}
