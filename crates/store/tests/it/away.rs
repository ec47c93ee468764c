//! What happens while the database is away, killed or hanging.

use std::time::Duration;

use merismos_core::duty::Duty;
use merismos_store::outbox::Outbox;
use merismos_store::{Store, StoredTrial};
use tokio::sync::mpsc;

use crate::database::Instance;
use crate::kept::{event, order};

async fn next(changes: &mut mpsc::UnboundedReceiver<bool>) -> bool {
    tokio::time::timeout(Duration::from_secs(60), changes.recv()).await.expect("a change in time").unwrap()
}

#[tokio::test]
async fn records_wait_for_a_killed_database_and_follow_when_it_is_back() {
    let instance = Instance::new("killed");
    let store = Store::new(&instance.url()).unwrap();
    store.migrate().await.unwrap();
    let outbox = Outbox::new(3, None);
    let (sender, mut changes) = mpsc::unbounded_channel();
    let running = outbox.clone().run(store.clone(), move |error| {
        let _ = sender.send(error.is_none());
    });
    let running = tokio::spawn(running);

    instance.kill();
    (1..=5).for_each(|id| outbox.add_event(event(id)));
    let gull: merismos_core::name::PoolServer = "booking/gull".parse().unwrap();
    outbox.add_duty(gull.clone(), order(Duty::Draining, 10));
    outbox.add_duty(gull.clone(), order(Duty::Withdrawn, 20));
    outbox.add_trial(StoredTrial { id: 1, trial: serde_json::json!({}) });
    assert!(!next(&mut changes).await, "the database is away");
    let backlog = outbox.backlog();
    assert_eq!((backlog.waiting, backlog.dropped), (3 + 1 + 1, 2), "the two oldest events had no room");
    assert!(backlog.why.is_some());
    assert!(store.latest_revision().await.unwrap_err().is_away());

    instance.start();
    assert!(next(&mut changes).await, "the database is back");
    while outbox.backlog().waiting > 0 {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    let ids: Vec<_> = store
        .events(&merismos_store::EventQuery::default(), 10)
        .await
        .unwrap()
        .into_iter()
        .map(|event| event.id)
        .collect();
    assert_eq!(ids, [5, 4, 3]);
    assert_eq!(store.duties().await.unwrap(), [(gull, order(Duty::Withdrawn, 20))]);
    assert_eq!(store.trials(9).await.unwrap().len(), 1);
    running.abort();
}

#[tokio::test]
async fn a_database_that_hangs_costs_a_call_its_deadline_and_no_more() {
    let instance = Instance::new("hanging");
    let store = Store::new(&instance.url()).unwrap();
    instance.freeze();
    let began = tokio::time::Instant::now();
    let error = store.latest_revision().await.unwrap_err();
    assert!(error.is_away(), "{error}");
    let error = store.migrate().await.unwrap_err();
    assert!(error.is_away(), "{error}");
    assert!(began.elapsed() < Duration::from_secs(20), "it took {:?}", began.elapsed());
}

#[tokio::test]
async fn a_record_that_is_refused_is_set_aside_and_the_others_follow() {
    let instance = Instance::new("refused");
    let store = Store::new(&instance.url()).unwrap();
    store.migrate().await.unwrap();
    let outbox = Outbox::new(100, None);
    (1..=4).for_each(|id| outbox.add_event(event(id)));
    // Longer than any reason may be.
    let gull: merismos_core::name::PoolServer = "booking/gull".parse().unwrap();
    let mut long = order(Duty::Draining, 10);
    long.reason = "x".repeat(2_000);
    outbox.add_duty(gull, long);
    outbox.add_event(merismos_store::StoredEvent { kind: "x".repeat(40), ..event(5) });
    outbox.add_event(merismos_store::StoredEvent { subject: "y".repeat(2_000), ..event(6) });
    outbox.flush(&store).await.unwrap();
    let backlog = outbox.backlog();
    assert_eq!((backlog.waiting, backlog.dropped), (0, 0));
    let ids: Vec<_> = store
        .events(&merismos_store::EventQuery::default(), 10)
        .await
        .unwrap()
        .into_iter()
        .map(|event| event.id)
        .collect();
    assert_eq!(ids, [6, 4, 3, 2, 1], "a long subject is shortened, an impossible kind is refused");
    assert_eq!(backlog.refused, 2, "the event and the order");
    assert!(backlog.refused_why.unwrap().contains("an event of booking/gull"));
}

#[tokio::test]
async fn a_database_that_lets_nobody_in_is_away_and_says_what_to_do() {
    let instance = Instance::new("unusable");
    let url = instance.url();
    let wrong_password = url.replace("merismos:merismos@", "merismos:other@");
    let no_such_database = url.replace("/merismos", "/merismos_none").replace("merismos_none:", "merismos:");
    for (url, help) in [(wrong_password, "password"), (no_such_database, "create the database")] {
        let error = Store::new(&url).unwrap().migrate().await.unwrap_err();
        assert!(error.is_away(), "{url}: {error:?}");
        assert!(error.to_string().contains(help), "{error}");
    }
}

#[tokio::test]
async fn many_calls_to_a_database_that_hangs_wait_for_one_and_not_for_each_other() {
    let instance = Instance::new("many");
    let store = Store::new(&instance.url()).unwrap();
    store.migrate().await.unwrap();
    instance.freeze();
    let began = tokio::time::Instant::now();
    for _ in 0..20 {
        assert!(store.latest_revision().await.unwrap_err().is_away());
    }
    assert!(began.elapsed() < Duration::from_secs(10), "it took {:?}", began.elapsed());
}
