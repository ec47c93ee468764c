//! Drafts and revisions: gathered, reviewed, rebased, deployed, thrown away, gone back to.

use merismos_api::{ApplyOptions, DraftEdits, NewDraft};
use merismos_core::config::edit::Edit;
use merismos_core::name::Name;
use merismos_lab::free::free_address;
use serde_json::json;

use crate::harness::{Database, Instance, Service, until};
use crate::objects::{change, refused, set};

fn name(text: &str) -> Name {
    text.parse().unwrap()
}

fn edits(edits: Vec<Edit>) -> DraftEdits {
    DraftEdits { edits, ..DraftEdits::default() }
}

async fn begin(service: &Service, draft: &str) {
    let new = NewDraft { name: name(draft), note: "autumn".to_owned() };
    service.client().begin_draft(&new).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn several_changes_gather_are_reviewed_and_go_live_as_one() {
    let service = Service::with(&["gull", "tern"]).await;
    let client = service.client();
    begin(&service, "autumn").await;
    let heavier = set("pools.quay.servers.gull", json!({ "weight": 3 }));
    client.edit_draft(&name("autumn"), &edits(vec![heavier])).await.unwrap();
    // A draft may pass through states that could not run.
    let dangling = set("pools.quay", json!({ "check": "better" }));
    let review = client.edit_draft(&name("autumn"), &edits(vec![dangling])).await.unwrap();
    assert_eq!(review.mistakes[0].path, "pools.quay.check");
    assert!(review.review.is_none());
    assert_eq!(refused(client.deploy_draft(&name("autumn"), ApplyOptions::default()).await).status, 422);
    let better = Edit::Add {
        object: "checks.better".parse().unwrap(),
        keys: json!({ "kind": "tcp", "interval": "1s", "timeout": "2s" }).as_object().unwrap().clone(),
    };
    let review = client.edit_draft(&name("autumn"), &edits(vec![better])).await.unwrap();
    assert!(review.mistakes.is_empty());
    let would = review.review.unwrap();
    let moved: Vec<_> = would
        .impact
        .moves
        .iter()
        .map(|share_change| (share_change.server.to_string(), share_change.after))
        .collect();
    assert_eq!(moved, [("quay/gull".to_owned(), Some(0.75)), ("quay/tern".to_owned(), Some(0.25))]);
    assert_eq!(service.status().await.revision.number, 1, "nothing is live yet");
    assert_eq!(service.server("gull").await.weight, 1);

    // Its warning has to be accepted, by whom is kept.
    let open = refused(client.deploy_draft(&name("autumn"), ApplyOptions::default()).await);
    let key = "slow-timeout:checks.better.timeout";
    assert_eq!(open.warnings.iter().map(|warning| warning.warning.key.as_str()).collect::<Vec<_>>(), [key]);
    let accept = |key: &str| DraftEdits { accept: vec![key.to_owned()], ..DraftEdits::default() };
    let wrong = refused(client.edit_draft(&name("autumn"), &accept("no-such:object")).await);
    assert!(wrong.detail.contains("draft autumn has no warning no-such:object"), "{}", wrong.detail);
    let accept = accept(key);
    let review = client.edit_draft(&name("autumn"), &accept).await.unwrap();
    assert_eq!((review.accepted[0].key.as_str(), review.accepted[0].who.as_str()), (key, "admin"));
    let done = client.deploy_draft(&name("autumn"), ApplyOptions::default()).await.unwrap();
    assert!(done.made && done.revision == 2);
    assert_eq!(service.server("gull").await.weight, 3);
    assert!(client.drafts().await.unwrap().drafts.is_empty(), "a deployed draft is gone");
    let revision = client.revision(2).await.unwrap();
    assert_eq!((revision.revision.note.as_str(), revision.changes.len()), ("autumn", 3));
    assert_eq!(revision.revision.accepted[0].key, key);
    let between = client.compare(1, 2).await.unwrap();
    assert_eq!(between.changes, revision.changes);
    assert_eq!(refused(client.compare(1, 9).await).status, 404);

    let looked = client.revert(1, ApplyOptions { preview: true, ..ApplyOptions::default() }).await.unwrap();
    assert!(!looked.made && looked.changes.len() == 3);
    assert!(client.revert(1, ApplyOptions::default()).await.unwrap().made);
    assert_eq!(service.server("gull").await.weight, 1);
    let export = client.document(merismos_core::config::DocumentFormat::Toml).await.unwrap();
    assert_eq!(client.revision(1).await.unwrap().document, export, "the same content, the same bytes");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn of_two_writers_the_second_is_told_and_can_rebase_unless_both_touched_the_same() {
    let service = Service::with(&["gull", "tern"]).await;
    let client = service.client();
    for draft in ["mine", "same"] {
        begin(&service, draft).await;
    }
    let weight =
        |server: &str, weight: u16| set(&format!("pools.quay.servers.{server}"), json!({ "weight": weight }));
    client.edit_draft(&name("mine"), &edits(vec![weight("gull", 5)])).await.unwrap();
    client.edit_draft(&name("same"), &edits(vec![weight("tern", 5)])).await.unwrap();
    change(&service, vec![weight("tern", 7)]).await.unwrap();

    let stale = refused(client.deploy_draft(&name("mine"), ApplyOptions::default()).await);
    assert_eq!((stale.status, stale.kind.as_str()), (409, "/problems/stale"));
    assert_eq!(stale.between.unwrap().changes[0].description, "weight of server quay/tern: 1 (default) to 7");
    let review = client.draft(&name("mine")).await.unwrap();
    assert!(review.draft.stale && review.between.is_some() && review.changes.len() == 1);

    let rebased = client.rebase_draft(&name("mine")).await.unwrap();
    assert!(!rebased.draft.stale && rebased.draft.base == 2);
    assert!(client.deploy_draft(&name("mine"), ApplyOptions::default()).await.unwrap().made);
    assert_eq!((service.server("gull").await.weight, service.server("tern").await.weight), (5, 7));

    let overlap = refused(client.rebase_draft(&name("same")).await);
    assert_eq!(overlap.kind, "/problems/overlap");
    assert!(overlap.detail.contains("pools.quay.servers.tern.weight"), "{}", overlap.detail);
    client.discard_draft(&name("same")).await.unwrap();
    assert_eq!(refused(client.draft(&name("same")).await).status, 404);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn many_hands_in_one_draft_lose_no_edit() {
    let service = Service::with(&["gull"]).await;
    begin(&service, "busy").await;
    let hands = (0..6).map(|hand| {
        let client = service.client();
        tokio::spawn(async move {
            let host = Edit::Add {
                object: format!("hosts.host-{hand}").parse().unwrap(),
                keys: json!({ "address": format!("192.0.2.{hand}") }).as_object().unwrap().clone(),
            };
            client.edit_draft(&name("busy"), &edits(vec![host])).await.map(drop)
        })
    });
    for hand in hands.collect::<Vec<_>>() {
        hand.await.unwrap().unwrap();
    }
    assert_eq!(service.client().draft(&name("busy")).await.unwrap().changes.len(), 6);
    let exists =
        refused(service.client().begin_draft(&NewDraft { name: name("busy"), note: String::new() }).await);
    assert_eq!(exists.kind, "/problems/exists");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_draft_whose_frontend_can_not_listen_says_so_in_its_review() {
    let service = Service::with(&["gull"]).await;
    begin(&service, "second").await;
    let taken = std::net::TcpListener::bind(free_address()).unwrap();
    let front = Edit::Add {
        object: "frontends.second".parse().unwrap(),
        keys:
            json!({ "protocol": "http", "listen": taken.local_addr().unwrap().to_string(), "pool": "quay" })
                .as_object()
                .unwrap()
                .clone(),
    };
    let review = service.client().edit_draft(&name("second"), &edits(vec![front])).await.unwrap();
    assert_eq!(review.mistakes[0].path, "frontends.second.listen");
    assert!(review.mistakes[0].found.contains("is taken by"), "{:?}", review.mistakes);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_lost_between_review_and_deploy_leaves_all_as_it_was() {
    let mut service = Service::bare(Database::Own(Instance::new()), &["gull"]).await;
    service.apply(&service.document()).await.unwrap();
    service.all_up().await;
    let client = service.client();
    begin(&service, "autumn").await;
    let heavier = set("pools.quay.servers.gull", json!({ "weight": 3 }));
    assert!(client.edit_draft(&name("autumn"), &edits(vec![heavier])).await.unwrap().review.is_some());
    let Database::Own(instance) = &service.database else { panic!("an instance of its own") };
    instance.kill();
    let away = refused(client.deploy_draft(&name("autumn"), ApplyOptions::default()).await);
    assert_eq!(away.status, 503);
    assert!(away.detail.contains("traffic goes on as before"), "{}", away.detail);
    assert_eq!(service.get().await.unwrap().0, 200);
    assert_eq!((service.server("gull").await.weight, service.status().await.revision.number), (1, 1));
    instance.start();
    until("the draft can be deployed", async || {
        client.deploy_draft(&name("autumn"), ApplyOptions::default()).await.is_ok_and(|review| review.made)
    })
    .await;
    assert_eq!(service.server("gull").await.weight, 3);
    service.crash_and_restart().await;
    assert_eq!(service.status().await.revision.number, 2);
}
