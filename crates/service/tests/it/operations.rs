//! Health, duty, status, explain, events, trials, and the end of the service.

use merismos_api::{DutyRequest, EventKind, StreamMessage, Trial, TrialRequest, TrialState};
use merismos_client::ClientError;
use merismos_core::duty::Duty;
use merismos_core::health::HealthState;
use merismos_core::proof::TrialVerdict;
use merismos_lab::stand_in::Fault;

use crate::harness::{PATIENCE, Service, until};

fn request(duty: Duty, anyway: bool) -> DutyRequest {
    DutyRequest { anyway, ..DutyRequest::new(duty, "new disk") }
}

async fn trial(service: &Service, requests: u32, per_second: Option<u32>) -> Trial {
    let request = TrialRequest { concurrency: 4, per_second, ..TrialRequest::of("harbour", requests) };
    service.client().begin_trial(&request).await.unwrap()
}

async fn result(service: &Service, id: u64) -> Trial {
    until("the trial is over", async || service.client().trial(id).await.unwrap().state == TrialState::Done)
        .await;
    service.client().trial(id).await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failing_server_is_noticed_explained_and_taken_back() {
    let service = Service::with(&["gull", "tern"]).await;
    for (fault, says) in [
        (Fault::Refuse, "connection refused"),
        (Fault::Hang, "no answer within 5.0 s"),
        (Fault::Error { status: 500 }, "status 500; expected 200-299"),
    ] {
        service.stand_ins[0].set(fault).await;
        until("gull is down", async || service.server("gull").await.health.state == HealthState::Down).await;
        let gull = service.server("gull").await;
        assert_eq!((gull.eligible, gull.expected, service.server("tern").await.expected), (false, 0.0, 1.0));
        let got = gull.health.last_probe.clone().unwrap().observed;
        assert!(got.contains(says), "{got}");
        let explained = service.client().explain(&"harbour".parse().unwrap(), &[]).await.unwrap();
        assert_eq!(explained.server.as_deref(), Some("quay/tern"));
        assert!(explained.others[0].why.contains(says), "{explained:?}");
        assert!(service.get().await.unwrap().1.starts_with("tern"));
        service.stand_ins[0].set(Fault::None).await;
        service.all_up().await;
        let events = service.client().events(50).await.unwrap().events;
        let down = events
            .iter()
            .find(|event| event.kind == EventKind::Health && event.detail["to"] == "down")
            .unwrap();
        assert!(down.message.contains(says) && down.detail["evidence"]["took_us"].is_u64(), "{down:?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_duty_holds_until_it_is_changed_also_over_a_crash() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let gull = "quay/gull".parse().unwrap();
    let answer = service.client().duty(&gull, &request(Duty::Withdrawn, false)).await.unwrap();
    assert!(answer.recorded);
    service.crash_and_restart().await;
    let server = service.server("gull").await;
    let order = server.duty.unwrap();
    assert_eq!(
        (order.duty, order.reason.as_str(), order.who.as_str()),
        (Duty::Withdrawn, "new disk", "admin")
    );
    assert_eq!(server.reason_words.as_deref(), Some("withdrawn by an operator"));
    assert_eq!(server.health.state, HealthState::Up, "health is not touched by duty, and survives too");

    let tern = "quay/tern".parse().unwrap();
    let Err(ClientError::Refused(problem)) =
        service.client().duty(&tern, &request(Duty::Draining, false)).await
    else {
        panic!("the last one is guarded")
    };
    assert_eq!((problem.status, problem.kind.as_str()), (409, "/problems/guarded"));
    service.client().duty(&tern, &request(Duty::Draining, true)).await.unwrap();
    assert_eq!(service.get().await.unwrap().0, 503);
    for server in [&gull, &tern] {
        service.client().duty(server, &request(Duty::InService, false)).await.unwrap();
    }
    service.all_up().await;
    assert_eq!(service.get().await.unwrap().0, 200);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_restart_serves_at_once_what_was_up_and_keeps_off_what_was_down() {
    let mut service = Service::with(&["gull", "tern"]).await;
    service.stand_ins[0].set(Fault::Error { status: 500 }).await;
    until("gull is down", async || service.server("gull").await.health.state == HealthState::Down).await;
    let copy = service.folder.path().join("state/copy.json");
    until("the copy has it", async || {
        std::fs::read_to_string(&copy).is_ok_and(|text| text.contains("\"down\""))
    })
    .await;
    service.crash_and_restart().await;
    let server = service.server("gull").await;
    assert!(!server.eligible, "gull is still down: {:?}", server.health);
    for _ in 0..4 {
        assert!(service.get().await.unwrap().1.starts_with("tern"));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_trial_of_even_traffic_is_as_expected_and_is_kept() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    let begun = trial(&service, 300, None).await;
    let done = result(&service, begun.id).await;
    let tally = done.tally.unwrap();
    assert_eq!(tally.verdict, TrialVerdict::AsExpected, "{:?}", tally.because);
    assert_eq!(tally.rows.iter().map(|row| row.requests).collect::<Vec<_>>(), [100, 100, 100]);
    assert!(tally.rows.iter().all(|row| row.median_us.is_some() && row.failed == 0));
    assert!(tally.test.unwrap().p_value > 0.99);
    until("the trial is recorded", async || service.status().await.records.waiting == 0).await;
    service.crash_and_restart().await;
    let kept = service.client().trials().await.unwrap().trials;
    assert_eq!(kept[0].id, begun.id);
    assert_eq!(kept[0].tally.as_ref().unwrap().requests, 300);
    let observed = service.server("gull").await.observed.minute;
    assert_eq!(observed.share, None, "counts begin anew with the process");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_dies_half_way_shows_as_what_happened() {
    let service = Service::with(&["gull", "tern"]).await;
    let begun = trial(&service, 600, Some(200)).await;
    until("a part has been sent", async || service.client().trial(begun.id).await.unwrap().ended >= 200)
        .await;
    service.stand_ins[0].set(Fault::Refuse).await;
    let done = result(&service, begun.id).await;
    let tally = done.tally.unwrap();
    assert_eq!((tally.requests, tally.failed), (600, 0), "every request was answered by the other server");
    assert_eq!(tally.verdict, TrialVerdict::NotAsExpected);
    let gull = &tally.rows[0];
    assert!(gull.retried > 0 && gull.observed < gull.expected && gull.expected < 0.5, "{gull:?}");
    assert!(
        tally.because.iter().any(|because| because.contains("failed at quay/gull")),
        "{:?}",
        tally.because
    );
    let down = done
        .happened
        .iter()
        .find(|happening| happening.message.starts_with("down"))
        .expect("the change is reported");
    assert!(down.subject == "quay/gull" && down.after_ms > 900, "{down:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_trial_of_failing_servers_says_so() {
    let service = Service::with(&["gull", "tern"]).await;
    for stand_in in &service.stand_ins {
        stand_in.set(Fault::Refuse).await;
    }
    until("no server is eligible", async || service.status().await.pools[0].eligible == 0).await;
    let begun = trial(&service, 50, None).await;
    let tally = result(&service, begun.id).await.tally.unwrap();
    assert_eq!((tally.failed, tally.without_server, tally.verdict), (50, 50, TrialVerdict::NotAsExpected));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_status_shows_observed_beside_expected_shares() {
    let service = Service::with(&["gull", "tern"]).await;
    result(&service, trial(&service, 100, None).await.id).await;
    let gull = service.server("gull").await;
    assert_eq!((gull.expected, gull.observed.ten_seconds.share), (0.5, Some(0.5)));
    assert!(gull.observed.minute.per_second > 0.0);
    let status = service.status().await;
    assert!(status.troubles.is_empty() && status.records.kept, "{:?}", status.troubles);
    assert!(status.frontends[0].listening && status.frontends[0].per_second > 0.0);
    // No probe notices the failure before the trial does.
    service.apply(&service.document().replace("interval = \"200ms\"", "interval = \"1h\"")).await.unwrap();
    service.stand_ins[1].set(Fault::Error { status: 503 }).await;
    let begun = trial(&service, 20, None).await;
    result(&service, begun.id).await;
    assert!(service.server("tern").await.observed.minute.errors > 0, "answers of 500 and above are counted");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_stream_tells_the_status_and_what_happens() {
    let service = Service::with(&["gull", "tern"]).await;
    let mut stream = service.client().stream().await.unwrap();
    let first = tokio::time::timeout(PATIENCE, stream.next()).await.unwrap().unwrap().unwrap();
    assert!(matches!(first, StreamMessage::Status(_)), "the status comes first");
    service.client().duty(&"quay/gull".parse().unwrap(), &request(Duty::Draining, false)).await.unwrap();
    let (mut reported, mut shown) = (false, false);
    while !(reported && shown) {
        match tokio::time::timeout(PATIENCE, stream.next())
            .await
            .expect("a message in time")
            .unwrap()
            .unwrap()
        {
            StreamMessage::Event(event) => {
                reported |= event.kind == EventKind::Duty && event.message.contains("new disk")
            }
            StreamMessage::Status(status) => shown |= status.pools[0].eligible == 1,
            StreamMessage::Trial(_) => {}
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_service_ends_when_work_in_flight_has_finished() {
    let mut service = Service::with(&["gull"]).await;
    service.stand_ins[0].set(Fault::Slow { delay_ms: 1_000 }).await;
    let frontend = service.frontend;
    let slow = tokio::spawn(async move {
        let client = crate::harness::http_client();
        client.get(format!("http://{frontend}/")).send().await.unwrap().status().as_u16()
    });
    until("the request is in flight", async || service.server("gull").await.in_flight == 1).await;
    service.signal("-TERM");
    until("no new connection is taken", async || tokio::net::TcpStream::connect(frontend).await.is_err())
        .await;
    assert_eq!(slow.await.unwrap(), 200, "the request finished");
    assert!(service.ended().await.success());
    assert!(service.log().contains("all work in flight has finished"), "{}", service.log());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn withdrawing_tells_how_much_it_broke_off() {
    let service = Service::with(&["gull", "tern"]).await;
    service.stand_ins[0].set(Fault::Hang).await;
    let frontend = service.frontend;
    let ask = |_| {
        tokio::spawn(async move {
            let client = crate::harness::http_client();
            client.get(format!("http://{frontend}/")).send().await.unwrap().status().as_u16()
        })
    };
    let asked: Vec<_> = (0..6).map(ask).collect();
    until("half of it hangs", async || service.server("gull").await.in_flight == 3).await;
    let gull = "quay/gull".parse().unwrap();
    let answer = service.client().duty(&gull, &request(Duty::Withdrawn, true)).await.unwrap();
    assert_eq!(answer.in_flight, 3);
    for request in asked {
        assert_eq!(request.await.unwrap(), 200, "what can be asked again is answered elsewhere");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_services_never_share_a_state_folder() {
    let service = Service::with(&["gull"]).await;
    let second = std::process::Command::new(env!("CARGO_BIN_EXE_merismosd"))
        .args(["--api-listen", "127.0.0.1:1", "--database", "mysql://a:b@127.0.0.1:1/c", "--state-folder"])
        .arg(service.folder.path().join("state"))
        .output()
        .unwrap();
    assert!(!second.status.success());
    let says = String::from_utf8_lossy(&second.stderr);
    assert!(says.contains("another merismosd uses the state folder"), "{says}");
}

#[test]
fn a_start_that_fails_says_why_and_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    let start = std::process::Command::new(env!("CARGO_BIN_EXE_merismosd"))
        .args(["--api-listen", "127.0.0.1:0", "--database", "mysql://a:b@127.0.0.1:port/c", "--state-folder"])
        .arg(folder.path())
        .output()
        .unwrap();
    assert!(!start.status.success());
    let says = String::from_utf8_lossy(&start.stderr);
    assert!(says.contains("database") && !says.contains("panicked"), "{says}");
}
