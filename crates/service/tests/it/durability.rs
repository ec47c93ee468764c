//! What is kept: with a part of it broken the service goes on with the other, and nothing that was acknowledged is undone.

use merismos_api::{DutyRequest, EventKind};
use merismos_core::duty::Duty;

use crate::harness::{Database, Instance, Service, until};

async fn order(service: &Service, duty: Duty) -> bool {
    let request = DutyRequest { anyway: true, ..DutyRequest::new(duty, "a test") };
    service.client().duty(&"quay/gull".parse().unwrap(), &request).await.unwrap().recorded
}

async fn has_trouble(service: &Service, part: &str) -> bool {
    service.status().await.troubles.iter().any(|trouble| trouble.contains(part))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn broken_files_are_kept_aside_and_the_database_is_enough() {
    let mut service = Service::with(&["gull", "tern"]).await;
    order(&service, Duty::Withdrawn).await;
    for broken in ["", "{", "{}"] {
        service.signal("-KILL");
        service.ended().await;
        for file in ["copy.json", "pin-secret", "node-id"] {
            std::fs::write(service.folder.path().join("state").join(file), broken).unwrap();
        }
        service.start().await;
        assert_eq!(service.status().await.revision.number, 1);
        assert_eq!(service.server("gull").await.duty.unwrap().duty, Duty::Withdrawn);
        assert!(has_trouble(&service, "pin-secret was broken").await);
        assert!(has_trouble(&service, "copy.json").await);
        let names = std::fs::read_dir(service.folder.path().join("state")).unwrap();
        let aside =
            names.filter(|name| name.as_ref().unwrap().file_name().to_string_lossy().contains(".broken-"));
        assert!(aside.count() >= 3, "each is kept");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_that_answers_and_refuses_does_not_keep_the_service_from_starting() {
    let mut service = Service::bare(Database::Own(Instance::new()), &["gull"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    for (breaks, mends) in [
        (
            "SET PASSWORD FOR 'merismos'@'127.0.0.1' = PASSWORD('other')",
            "SET PASSWORD FOR 'merismos'@'127.0.0.1' = PASSWORD('merismos')",
        ),
        (
            "REVOKE ALL ON `merismos%`.* FROM 'merismos'@'127.0.0.1'",
            "GRANT ALL ON `merismos%`.* TO 'merismos'@'127.0.0.1'",
        ),
        (
            "RENAME TABLE merismos.revision TO merismos.gone",
            "RENAME TABLE merismos.gone TO merismos.revision",
        ),
    ] {
        service.database.instance().as_root(breaks);
        service.crash_and_restart().await;
        assert_eq!(service.get().await.unwrap().0, 200, "{breaks}");
        assert!(has_trouble(&service, "the database").await, "{breaks}");
        service.database.instance().as_root(mends);
        until("it is used again", async || !has_trouble(&service, "the database").await).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_state_file_that_can_not_be_written_is_told_and_tried_again() {
    let service = Service::with(&["gull", "tern"]).await;
    let file = service.folder.path().join("state/copy.json");
    until("the state file is there", async || file.exists()).await;
    // A folder in its place fails every write, as a full disk does, for root too.
    std::fs::remove_file(&file).unwrap();
    std::fs::create_dir(&file).unwrap();
    let review = service.apply(&(service.document() + "weight = 5\n")).await.unwrap();
    assert_eq!((review.made, review.saved), (true, Some(false)), "the database has it, the file has not");
    let request = DutyRequest::new(Duty::Draining, "a test");
    let answer = service.client().duty(&"quay/gull".parse().unwrap(), &request).await.unwrap();
    assert_eq!((answer.recorded, answer.saved), (true, false));
    assert!(has_trouble(&service, "the state file is behind").await);
    std::fs::remove_dir(&file).unwrap();
    until("it is written again", async || {
        std::fs::read_to_string(&file).is_ok_and(|text| text.contains("draining"))
    })
    .await;
    until("and nothing is wrong", async || !has_trouble(&service, "the state file").await).await;
    let events = service.client().events(50).await.unwrap().events;
    let reports = events
        .iter()
        .filter(|event| event.kind == EventKind::Node && event.message.contains("the state file is"));
    assert_eq!(reports.count(), 2, "once when it failed and once when it was mended");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn of_orders_at_the_same_moment_the_one_that_holds_is_the_one_that_is_kept() {
    let mut service = Service::with(&["gull", "tern"]).await;
    for _ in 0..6 {
        let orders = (0..8).map(|number| {
            let service = &service;
            let duty = [Duty::Draining, Duty::Withdrawn, Duty::InService][number % 3];
            async move { order(service, duty).await }
        });
        assert!(futures_util::future::join_all(orders).await.into_iter().all(|recorded| recorded));
        let holds = service.server("gull").await.duty.unwrap();
        service.signal("-KILL");
        service.ended().await;
        // Only the database is left to go by.
        std::fs::remove_file(service.folder.path().join("state/copy.json")).unwrap();
        service.start().await;
        assert_eq!(service.server("gull").await.duty.unwrap(), holds);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_order_counts_although_the_clock_was_ahead_when_the_one_before_it_was_given() {
    let mut service = Service::bare(Database::Own(Instance::new()), &["gull", "tern"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    order(&service, Duty::Withdrawn).await;
    service.signal("-KILL");
    service.ended().await;
    // As if the clock had been an hour ahead.
    service
        .database
        .instance()
        .as_root("UPDATE merismos.duty SET at = at + 3600000, number = number + (3600000 << 10)");
    std::fs::remove_file(service.folder.path().join("state/copy.json")).unwrap();
    service.start().await;
    order(&service, Duty::InService).await;
    service.crash_and_restart().await;
    assert_eq!(service.server("gull").await.duty.unwrap().duty, Duty::InService);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_that_was_set_back_or_holds_another_revision_is_told() {
    let mut service = Service::bare(Database::Own(Instance::new()), &["gull"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    for weight in 2..=4 {
        service.apply(&format!("{}weight = {weight}\n", service.document())).await.unwrap();
    }
    service.signal("-KILL");
    service.ended().await;
    service.database.instance().as_root("DELETE FROM merismos.revision WHERE number > 1");
    service.start().await;
    assert_eq!(service.status().await.revision.number, 4, "what ran goes on running");
    until("the lost ones are reported", async || has_trouble(&service, "the database was set back").await)
        .await;
    service.signal("-KILL");
    service.ended().await;
    service.database.instance().as_root(
        "UPDATE merismos.revision SET digest = REPEAT('a', 64), author = 'another node' WHERE number = 4",
    );
    service.start().await;
    until("both are named", async || {
        has_trouble(&service, "holds another one of that number, 4 (aaaaaaaa) by another node").await
    })
    .await;
    service.apply(&format!("{}weight = 7\n", service.document())).await.unwrap();
    service.crash_and_restart().await;
    until("it is settled", async || !has_trouble(&service, "another one of that number").await).await;
}
