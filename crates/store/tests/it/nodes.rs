//! Nodes that share the database: who is there, and what the others are notified of.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use merismos_core::duty::Duty;
use merismos_core::nodes::NodeReport;
use merismos_core::time::Wall;
use merismos_store::plans::{PlanKind, StoredPlan};
use merismos_store::{SharedSecret, Token};

use crate::database::Database;
use crate::kept::{order, revision};

fn report(revision: u64) -> NodeReport {
    let down = vec!["booking/gull".parse().unwrap()];
    let report = NodeReport {
        version: "0.1.0".to_owned(),
        started: Wall(5),
        at: Wall(6),
        revision,
        workers: 2,
        api: "127.0.0.1:7480".to_owned(),
        trouble: None,
        down: Vec::new(),
        down_in_all: 0,
        out: BTreeMap::new(),
        addresses: std::collections::BTreeMap::new(),
        announcements: std::collections::BTreeMap::new(),
    };
    report.with_down(down)
}

#[tokio::test]
async fn nodes_that_share_the_database_know_each_other() {
    let database = Database::new("nodes").await;
    let north = database.store.clone().of_node([1; 16]);
    let south = database.store.clone().of_node([2; 16]);
    north.sign_of_life("north", &report(1)).await.unwrap();
    south.sign_of_life("south", &report(2)).await.unwrap();
    north.sign_of_life("north", &report(3)).await.unwrap();
    let (nodes, holder) = north.nodes("lead").await.unwrap();
    let known: Vec<_> =
        nodes.iter().map(|node| (node.name.as_str(), node.report.clone(), node.is_alive())).collect();
    assert_eq!(known, [("north", Some(report(3)), true), ("south", Some(report(2)), true)], "each once");
    assert_eq!(holder, None);
    assert!(south.take_lease("lead", [2; 16], Duration::from_secs(60)).await.unwrap());
    assert_eq!(north.nodes("lead").await.unwrap().1, Some([2; 16]));

    // What one leaves behind is free at once.
    south.leave().await.unwrap();
    let (nodes, holder) = north.nodes("lead").await.unwrap();
    assert_eq!((nodes.len(), holder), (1, None));
    assert!(north.forget_node([1; 16]).await.unwrap());
    assert!(!north.forget_node([1; 16]).await.unwrap());
    database.done().await;
}

#[tokio::test]
async fn whatever_a_node_writes_that_others_follow_is_counted() {
    let database = Database::new("node_changes").await;
    let north = database.store.clone().of_node([1; 16]);
    let south = database.store.clone().of_node([2; 16]);
    north.sign_of_life("north", &report(1)).await.unwrap();
    south.sign_of_life("south", &report(1)).await.unwrap();
    let changes = async || {
        let nodes = south.nodes("lead").await.unwrap().0;
        (nodes[0].changes, nodes[1].changes)
    };
    let (begin, of_south) = changes().await;
    let mut last = begin;
    let mut grows = async |what: &str| {
        let (now, south) = changes().await;
        assert!(now > last, "{what}: {now} after {last}");
        assert_eq!(south, of_south, "{what}: it is not the other's");
        last = now;
    };
    north.add_revision(&revision(1).after(None), &BTreeMap::new()).await.unwrap();
    grows("a revision").await;
    north.put_duty(&"booking/gull".parse().unwrap(), &order(Duty::Withdrawn, 5)).await.unwrap();
    grows("a duty").await;
    let plan = StoredPlan { kind: PlanKind::Window, name: "autumn".to_owned(), number: 7, body: None };
    north.put_plan(&plan).await.unwrap();
    grows("a plan").await;
    let token =
        Token { hash: "a".repeat(64), name: "ada".to_owned(), at: Wall(5), used: None, revoked: None };
    north.put_token(&token).await.unwrap();
    grows("a token").await;
    let secret = |number: u64, sealed: &[u8]| SharedSecret { number, sealed: sealed.to_vec() };
    north.put_shared_secret("pin-key", &secret(5, b"five")).await.unwrap();
    grows("a secret").await;
    // The use of a token alone is no news, and a sign of life neither.
    north.put_token(&Token { used: Some(Wall(9)), ..token.clone() }).await.unwrap();
    north.sign_of_life("north", &report(2)).await.unwrap();
    assert_eq!(changes().await.0, last);
    north.put_token(&Token { revoked: Some(Wall(9)), ..token }).await.unwrap();
    assert!(changes().await.0 > last, "that it was revoked is");

    // Of two secrets the one with the larger number stays, and of two with the same number the first.
    north.put_shared_secret("pin-key", &secret(4, b"four")).await.unwrap();
    south.put_shared_secret("pin-key", &secret(5, b"also five")).await.unwrap();
    assert_eq!(south.shared_secret("pin-key").await.unwrap(), Some(secret(5, b"five")));
    south.put_shared_secret("pin-key", &secret(6, b"six")).await.unwrap();
    assert_eq!(north.shared_secret("pin-key").await.unwrap(), Some(secret(6, b"six")));
    assert_eq!(north.shared_secret("other").await.unwrap(), None);
    assert_eq!(north.latest_revision_number().await.unwrap(), 1);
    database.done().await;
}

#[tokio::test]
async fn each_node_has_a_slot_of_its_own_and_keeps_it() {
    let database = Database::new("node_slots").await;
    let mut joining = tokio::task::JoinSet::new();
    for number in 0..20_u8 {
        let store = database.store.clone().of_node([number; 16]);
        joining.spawn(async move { (number, store.join(&format!("n{number}"), &report(1)).await.unwrap()) });
    }
    let slots: BTreeMap<u8, u8> = joining.join_all().await.into_iter().collect();
    let distinct: BTreeSet<u8> = slots.values().copied().collect();
    assert_eq!(distinct, (0..20).collect(), "{slots:?}");
    let third = database.store.clone().of_node([3; 16]);
    assert_eq!(third.join("n3", &report(2)).await.unwrap(), slots[&3], "it was here before");
    third.leave().await.unwrap();
    let new = database.store.clone().of_node([77; 16]);
    assert_eq!(new.join("new", &report(1)).await.unwrap(), slots[&3], "what is free is given again");
    database.done().await;
}
