//! Restarts: what they cost clients, and what answers meanwhile.

use std::time::{Duration, Instant};

use merismos_api::DutyRequest;
use merismos_client::ClientError;
use merismos_core::duty::Duty;
use merismos_core::time::Wall;
use merismos_lab::stand_in::Fault;

use crate::harness::{Service, until};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn while_it_stops_the_api_answers_and_changes_nothing() {
    let mut service = Service::with(&["gull", "tern"]).await;
    service.stand_ins[0].set(Fault::Slow { delay_ms: 3_000 }).await;
    service.stand_ins[1].set(Fault::Slow { delay_ms: 3_000 }).await;
    let frontend = service.frontend;
    let slow = tokio::spawn(async move {
        let client = crate::harness::http_client();
        client.get(format!("http://{frontend}/")).send().await.unwrap().status().as_u16()
    });
    until("it is in flight", async || {
        service.status().await.pools[0].servers.iter().any(|server| server.in_flight == 1)
    })
    .await;
    service.signal("-TERM");
    until("no new connection is taken", async || tokio::net::TcpStream::connect(frontend).await.is_err())
        .await;
    let begin = Instant::now();
    let status = service.client().status().await.expect("it answers while it stops");
    assert!(begin.elapsed() < Duration::from_secs(2), "at once");
    assert_eq!(status.revision.number, 1);
    let order = DutyRequest::new(Duty::Draining, "a test");
    let refused = service.client().duty(&"quay/gull".parse().unwrap(), &order).await;
    let Err(ClientError::Refused(problem)) = refused else { panic!("{refused:?}") };
    assert_eq!((problem.status, problem.kind.as_str()), (503, "/problems/stopping"));
    assert_eq!(slow.await.unwrap(), 200);
    assert!(service.ended().await.success());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_nobody_watched_is_not_said_to_have_lasted() {
    let mut service = Service::with(&["gull"]).await;
    service.signal("-TERM");
    assert!(service.ended().await.success());
    // As if it had ended a while ago.
    let file = service.folder.path().join("state/copy.json");
    let mut copy: serde_json::Value = serde_json::from_slice(&std::fs::read(&file).unwrap()).unwrap();
    assert!(copy["written"].is_string(), "{copy}");
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_millis() as i64;
    let earlier = |minutes: i64| serde_json::json!(Wall(now - minutes * 60_000));
    copy["written"] = earlier(36);
    for health in copy["health"].as_object_mut().unwrap().values_mut() {
        health["since"] = earlier(101);
    }
    std::fs::write(&file, copy.to_string()).unwrap();
    service.start().await;
    until("it is confirmed", async || service.server("gull").await.health.last_probe.is_some()).await;
    let gull = service.server("gull").await;
    assert!(gull.eligible && gull.health.watched_until.is_some(), "{gull:?}");
    let says = String::from_utf8(service.merismos(&["status"]).stdout).unwrap();
    assert!(says.contains("was up when it was last seen, 36 min before this start; confirmed"), "{says}");
    assert!(!says.contains("up 101 min"), "{says}");
    // A restart at once is no gap.
    service.crash_and_restart().await;
    assert!(!String::from_utf8(service.merismos(&["status"]).stdout).unwrap().contains("before this start"));
}
