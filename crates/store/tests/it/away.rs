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
    let outbox = Outbox::new(3);
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
    let ids: Vec<_> = store.events(None, 10).await.unwrap().into_iter().map(|event| event.id).collect();
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
