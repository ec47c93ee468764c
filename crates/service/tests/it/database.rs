//! The database killed, hanging and coming back, while traffic goes on.

use merismos_api::{DutyRequest, EventKind};
use merismos_client::ClientError;
use merismos_core::duty::Duty;

use crate::harness::{Database, Instance, Service, until};

fn duty(duty: Duty) -> DutyRequest {
    DutyRequest::new(duty, "a test")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn traffic_outlives_the_database_and_records_follow() {
    let mut service = Service::bare(Database::Own(Instance::new()), &["gull", "tern"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    let client = service.client();

    service.database.instance().kill();
    assert_eq!(service.get().await.unwrap().0, 200, "traffic goes on");
    until("it is a headline before anybody changes anything", async || {
        service
            .status()
            .await
            .troubles
            .iter()
            .any(|trouble| trouble.starts_with("the database does not answer"))
    })
    .await;
    let answer = client.duty(&"quay/gull".parse().unwrap(), &duty(Duty::Withdrawn)).await.unwrap();
    assert!(!answer.recorded, "an order is followed without the database");
    until("records are said to be behind", async || !service.status().await.records.kept).await;
    assert!(service.status().await.troubles.iter().any(|trouble| trouble.contains("records are behind")));
    let heavier = service.document() + "weight = 5\n";
    let Err(ClientError::Refused(problem)) = service.apply(&heavier).await else { panic!("it is refused") };
    assert_eq!(problem.status, 503);
    assert_eq!(service.status().await.revision.number, 1);

    service.crash_and_restart().await;
    assert_eq!(
        service.status().await.revision.number,
        1,
        "a restart without the database serves the last revision"
    );
    let (status, text) = service.get().await.unwrap();
    assert_eq!((status, text.starts_with("tern")), (200, true), "and follows the order: {text}");

    service.database.instance().start();
    until("records are kept again", async || {
        let records = service.status().await.records;
        records.kept && records.waiting == 0
    })
    .await;
    let events = service.client().events(100).await.unwrap();
    assert!(events.complete);
    let starts = events
        .events
        .iter()
        .filter(|event| event.kind == EventKind::Node && event.message.contains("started"))
        .count();
    assert_eq!(starts, 2, "the start without the database was recorded afterwards");
    let gull = service.server("gull").await.duty.expect("the order is still there");
    assert_eq!(gull.duty, Duty::Withdrawn);
    assert!(service.apply(&heavier).await.unwrap().made, "all is well again");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_killed_during_apply_leaves_the_whole_revision_or_nothing() {
    let service = Service::bare(Database::Own(Instance::new()), &["gull"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    for round in 0..6 {
        let before = service.status().await.revision.number;
        let text = format!("{}weight = {}\n", service.document(), round + 2);
        let applying = {
            let (client, text) = (service.client(), text.clone());
            tokio::spawn(async move { client.apply(&Service::request(&text)).await })
        };
        // A little later each round, so that the kill falls before, into and after the commit.
        tokio::time::sleep(std::time::Duration::from_millis(round * 2)).await;
        service.database.instance().kill();
        let applied = applying.await.unwrap();
        service.database.instance().start();
        until("records are kept again", async || service.status().await.records.kept).await;
        let number = service.status().await.revision.number;
        assert!(number == before || number == before + 1, "revision {number} after {before}");
        if let Ok(answer) = &applied {
            assert_eq!(service.status().await.revision.number, answer.revision, "what was confirmed runs");
        }
        assert_eq!(service.get().await.unwrap().0, 200);
        // Whatever became of it, the same document applied again is the running one afterwards.
        until("the document can be applied", async || {
            let applied = service.apply(&text).await;
            if let Err(error) = &applied {
                eprintln!("round {round}: {error}");
            }
            applied.is_ok()
        })
        .await;
        let export = service.client().document(merismos_core::config::DocumentFormat::Toml).await.unwrap();
        assert!(export.contains(&format!("weight = {}", round + 2)), "{export}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_that_hangs_delays_no_probe_and_no_request() {
    let service = Service::bare(Database::Own(Instance::new()), &["gull", "tern"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    service.database.instance().signal("-STOP");
    let applying = {
        let (client, text) = (service.client(), service.document() + "weight = 9\n");
        tokio::spawn(async move { client.apply(&Service::request(&text)).await })
    };
    service.stand_ins[0].set(merismos_lab::stand_in::Fault::Refuse).await;
    until("the failure is noticed while the database hangs", async || !service.server("gull").await.eligible)
        .await;
    for _ in 0..4 {
        assert_eq!(service.get().await.unwrap().0, 200);
    }
    assert!(applying.await.unwrap().is_err(), "the deployment gives up after a while");
    service.database.instance().signal("-CONT");
    until("records are kept again", async || service.status().await.records.kept).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_revision_of_the_previous_release_runs_after_the_update() {
    let mut service = Service::bare(Database::shared(), &["gull"]).await;
    service.signal("-TERM");
    service.ended().await;
    // As the previous release wrote it: format 1, with the timeout under its old name.
    let document = format!(
        r#"{{"format": 1, "checks": {{"well": {{"kind": "tcp"}}}}, "pools": {{"quay": {{"check": "well", "answer_timeout": "7s",
            "servers": {{"gull": {{"address": "{}"}}}}}}}}, "frontends": {{"harbour": {{"protocol": "http", "listen": "{}", "pool": "quay"}}}}}}"#,
        service.stand_ins[0].address, service.frontend
    );
    let Database::Shared(url) = &service.database else { panic!("a database on the shared instance") };
    let (base, name) = url.rsplit_once('/').unwrap();
    crate::harness::sql(
        base,
        &format!(
            "INSERT INTO {name}.revision (number, document, author, note, at) VALUES (1, '{document}', 'Ada', 'old', 1)"
        ),
    );
    service.start().await;
    service.all_up().await;
    assert_eq!((service.get().await.unwrap().0, service.status().await.revision.number), (200, 1));
    let export = service.client().document(merismos_core::config::DocumentFormat::Toml).await.unwrap();
    assert!(export.contains("format = 3") && export.contains("first_byte_timeout = \"7s\""), "{export}");
    assert!(!service.apply(&export).await.unwrap().made, "lifting changes nothing");
    assert_eq!(service.client().compare(1, 1).await.unwrap().changes, []);
}
