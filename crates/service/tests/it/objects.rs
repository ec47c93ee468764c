//! Objects one by one: made, looked at, changed, renamed, copied, removed; and the guards on the way.

use merismos_api::{ApplyOptions, ChangeRequest, EventKind, ProblemDocument, Review};
use merismos_client::{ClientError, EventFilterQuery};
use merismos_core::config::edit::Edit;
use merismos_core::config::object::{ObjectKind, ObjectPath};
use merismos_core::duty::Duty;
use merismos_lab::free::free_address;
use serde_json::json;

use crate::harness::{Database, PATIENCE, Service, sql, until};

fn object(path: &str) -> ObjectPath {
    path.parse().unwrap()
}

fn keys(value: serde_json::Value) -> serde_json::Map<String, serde_json::Value> {
    value.as_object().unwrap().clone()
}

fn add(path: &str, value: serde_json::Value) -> Edit {
    Edit::Add { object: object(path), keys: keys(value) }
}

pub(crate) fn set(path: &str, value: serde_json::Value) -> Edit {
    Edit::Change { object: object(path), keys: keys(value) }
}

pub(crate) async fn change(service: &Service, edits: Vec<Edit>) -> Result<Review, ClientError> {
    service.client().change(&ChangeRequest { edits, going: ApplyOptions::default() }).await
}

async fn preview(service: &Service, edits: Vec<Edit>) -> Review {
    let going = ApplyOptions { preview: true, ..ApplyOptions::default() };
    service.client().change(&ChangeRequest { edits, going }).await.unwrap()
}

pub(crate) fn refused<T: std::fmt::Debug>(answer: Result<T, ClientError>) -> ProblemDocument {
    match answer {
        Err(ClientError::Refused(problem)) => *problem,
        other => panic!("it is refused: {other:?}"),
    }
}

fn warnings(review: &Review) -> Vec<&str> {
    review.warnings.iter().map(|warning| warning.warning.key.as_str()).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn from_nothing_to_a_working_frontend_and_back_object_by_object() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let client = service.client();
    assert!(
        change(&service, vec![add("pools.quay", json!({}))]).await.unwrap().made,
        "an empty pool hurts no client"
    );
    let lines: String = service.stand_ins.iter().map(|stand_in| format!("{}\n", stand_in.address)).collect();
    let several = Edit::AddServers { pool: "quay".parse().unwrap(), lines, weight: None, tier: None };
    assert_eq!(change(&service, vec![several]).await.unwrap().changes.len(), 2);
    let check = json!({ "kind": "http", "path": "/health", "interval": "200ms", "timeout": "190ms" });
    let edits = vec![add("checks.well", check), set("pools.quay", json!({ "check": "well" }))];
    let review = change(&service, edits).await.unwrap();
    let timing = review.impact.timings[0].after.unwrap();
    assert_eq!((timing.noticed.best_ms, timing.noticed.worst_ms), (400, 790));
    let frontend = json!({ "protocol": "http", "listen": service.frontend.to_string(), "pool": "quay" });
    assert!(change(&service, vec![add("frontends.harbour", frontend)]).await.unwrap().made);
    service.all_up().await;
    assert_eq!(service.get().await.unwrap().0, 200);

    // What is used is not removed, and the order that is offered works.
    let problem = refused(change(&service, vec![Edit::Remove { object: object("checks.well") }]).await);
    assert_eq!((problem.status, problem.kind.as_str()), (409, "/problems/in-use"));
    assert!(problem.detail.contains("In this order it can be done: frontend harbour, pool quay, check well"));
    for path in ["frontends.harbour", "pools.quay", "checks.well"] {
        assert!(change(&service, vec![Edit::Remove { object: object(path) }]).await.unwrap().made, "{path}");
    }
    assert_eq!(client.objects(&EventFilterQuery::default()).await.unwrap().total, 0);
    // And the way back.
    let back = client.revert(4, ApplyOptions::default()).await.unwrap();
    assert!(back.made && back.revision == 8);
    until("it serves again", async || service.get().await.is_ok_and(|(status, _)| status == 200)).await;
    let notes: Vec<_> = client
        .revisions(None, 10)
        .await
        .unwrap()
        .revisions
        .into_iter()
        .map(|revision| revision.note)
        .collect();
    assert_eq!(notes[0], "back to revision 4");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_guard_speaks_before_the_change_goes_live() {
    let service = Service::with(&["gull", "tern"]).await;
    let gull = service.stand_ins[0].address.to_string();
    // Bound and not listened on: no other process can have it, and it refuses.
    let unheard = tokio::net::TcpSocket::new_v4().unwrap();
    unheard.bind(([127, 0, 0, 1], 0).into()).unwrap();
    let dead = unheard.local_addr().unwrap().to_string();
    let server = |path: &str, address: &str| add(path, json!({ "address": address }));

    let twice = refused(change(&service, vec![server("pools.quay.servers.auk", &gull)]).await);
    assert_eq!(twice.status, 422);
    assert!(twice.problems[0].found.contains("is already the address of quay/auk"), "{twice:?}");

    let spare = vec![add("pools.spare", json!({})), server("pools.spare.servers.gull", &gull)];
    let review = preview(&service, spare.clone()).await;
    assert_eq!(
        warnings(&review),
        [
            "no-check:pools.spare",
            "unused-pool:pools.spare",
            "shared:pools.spare",
            "slow-timeout:checks.well.timeout"
        ]
    );

    // A frontend before a pool without servers, without a check, with weights of zero.
    let address = free_address();
    let front = |pool: &str| {
        add("frontends.second", json!({ "protocol": "http", "listen": address.to_string(), "pool": pool }))
    };
    let empty = refused(change(&service, vec![add("pools.spare", json!({})), front("spare")]).await);
    assert_eq!(empty.warnings[0].warning.key, "empty-pool:pools.spare");
    assert!(empty.detail.contains("every client of second gets 503"), "{}", empty.detail);
    // Also when the pool was empty before, and no warning was given.
    change(&service, vec![add("pools.spare", json!({}))]).await.unwrap();
    let empty = refused(change(&service, vec![front("spare")]).await);
    assert_eq!(empty.warnings[0].warning.key, "empty-pool:pools.spare");
    change(&service, vec![Edit::Remove { object: object("pools.spare") }]).await.unwrap();
    let unchecked = refused(change(&service, [spare.clone(), vec![front("spare")]].concat()).await);
    assert_eq!(unchecked.warnings[0].warning.key, "no-check:pools.spare");
    let weightless = vec![
        set("pools.quay.servers.gull", json!({ "weight": 0 })),
        set("pools.quay.servers.tern", json!({ "weight": 0 })),
    ];
    assert_eq!(refused(change(&service, weightless).await).warnings[0].warning.key, "no-weight:pools.quay");

    // Servers that do not answer: with a check they get nothing, without one they get their share.
    let silent = preview(&service, vec![server("pools.quay.servers.auk", &dead)]).await;
    assert!(
        silent
            .warnings
            .iter()
            .any(|warning| warning.warning.key == "no-answer:pools.quay.servers.auk" && !warning.needs_word())
    );
    let unheld =
        vec![add("pools.spare", json!({})), server("pools.spare.servers.auk", &dead), front("spare")];
    let unheld = preview(&service, unheld).await;
    assert!(
        unheld
            .warnings
            .iter()
            .any(|warning| warning.warning.key == "no-answer:pools.spare.servers.auk" && warning.needs_word())
    );
    let wrong = vec![
        add("checks.other", json!({ "kind": "http", "path": "/", "accept": ["418"] })),
        set("pools.quay", json!({ "check": "other" })),
    ];
    let wrong = preview(&service, wrong).await;
    assert!(warnings(&wrong).contains(&"check-fails:pools.quay.servers.gull"), "{:?}", warnings(&wrong));

    // Listening where it can't be: overlap, another machine's address, a taken port.
    let listen = |at: String| {
        vec![add("frontends.second", json!({ "protocol": "http", "listen": at, "pool": "quay" }))]
    };
    let overlap = refused(change(&service, listen(format!("0.0.0.0:{}", service.frontend.port()))).await);
    assert!(overlap.problems[0].found.contains("on which frontend harbour listens"), "{overlap:?}");
    let elsewhere = refused(change(&service, listen("192.0.2.1:8080".to_owned())).await);
    assert!(elsewhere.detail.contains("this machine has no address 192.0.2.1"), "{}", elsewhere.detail);
    let taken = std::net::TcpListener::bind(free_address()).unwrap();
    let taken = refused(change(&service, listen(taken.local_addr().unwrap().to_string())).await);
    assert!(taken.detail.contains("is taken by"), "{}", taken.detail);

    assert_eq!(service.status().await.revision.number, 3, "nothing else went live");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn objects_are_found_by_label_text_and_page() {
    let service = Service::bare(Database::shared(), &[]).await;
    let list: String = (0..30)
        .map(|host| {
            format!("host-{host},192.0.2.{host},rack {},{}\n", host % 3, if host < 5 { "north" } else { "" })
        })
        .collect();
    let import = Edit::ImportHosts {
        format: merismos_core::config::hosts::HostsFormat::Csv,
        text: format!("name,address,note,site\n{list}"),
    };
    change(&service, vec![import]).await.unwrap();
    let client = service.client();
    let count = async |wanted: EventFilterQuery| client.objects(&wanted).await.unwrap().total;
    let text = |words: &str| Some(words.to_owned());
    assert_eq!(
        count(EventFilterQuery { kind: Some(ObjectKind::Host), ..EventFilterQuery::default() }).await,
        30
    );
    assert_eq!(
        count(EventFilterQuery { labels: text("site=north"), ..EventFilterQuery::default() }).await,
        5
    );
    assert_eq!(
        count(EventFilterQuery {
            labels: text("site"),
            search: text("RACK 1"),
            ..EventFilterQuery::default()
        })
        .await,
        2
    );
    assert_eq!(
        count(EventFilterQuery { kind: Some(ObjectKind::Pool), ..EventFilterQuery::default() }).await,
        0
    );
    let page = client
        .objects(&EventFilterQuery { offset: Some(28), limit: Some(10), ..EventFilterQuery::default() })
        .await
        .unwrap();
    assert_eq!((page.total, page.objects.len()), (30, 2));
    let hosts = client
        .hosts(&EventFilterQuery { search: text("192.0.2.7"), ..EventFilterQuery::default() })
        .await
        .unwrap();
    assert_eq!(hosts.hosts[0].name.as_deref(), Some("host-7"));
    let unknown = refused(client.object(&object("hosts.none"), None).await);
    assert_eq!(unknown.status, 404);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn renames_under_load_hurt_nobody_and_lose_nothing() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let order = merismos_api::DutyRequest::new(merismos_core::duty::Duty::Withdrawn, "new disk");
    service.client().duty(&"quay/auk".parse().unwrap(), &order).await.unwrap();
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let (flag, frontend) = (std::sync::Arc::clone(&stop), service.frontend);
    let traffic = tokio::spawn(async move {
        // Kept connections and fresh ones.
        let kept = crate::harness::http_client();
        let mut count = 0;
        while !flag.load(std::sync::atomic::Ordering::Relaxed) {
            let fresh = reqwest::Client::builder().no_proxy().pool_max_idle_per_host(0).build().unwrap();
            for client in [&kept, &fresh] {
                let response = client.get(format!("http://{frontend}/")).send().await.expect("an answer");
                assert_eq!(response.status().as_u16(), 200);
                count += 1;
            }
        }
        count
    });
    let (mut pool, mut server, mut front) = ("quay".to_owned(), "gull".to_owned(), "harbour".to_owned());
    let mut withdrawn = "auk".to_owned();
    for round in 0..8 {
        let (next_server, next_withdrawn) = (format!("gull-{round}"), format!("auk-{round}"));
        let (next_pool, next_front) = (format!("quay-{round}"), format!("harbour-{round}"));
        let edits = vec![
            rename(&format!("pools.{pool}.servers.{server}"), &next_server),
            rename(&format!("pools.{pool}.servers.{withdrawn}"), &next_withdrawn),
            rename(&format!("pools.{pool}"), &next_pool),
            rename(&format!("frontends.{front}"), &next_front),
        ];
        let review = change(&service, edits).await.unwrap();
        assert!(
            review
                .changes
                .iter()
                .all(|change| change.change.renamed || change.description.starts_with("pool of frontend")),
            "{review:?}"
        );
        (pool, server, front, withdrawn) = (next_pool, next_server, next_front, next_withdrawn);
        let status = service.status().await;
        assert_eq!(status.pools[0].eligible, 2, "they are up at once, and the withdrawn one stays withdrawn");
    }
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    assert!(traffic.await.expect("every request is answered") > 16);
    let status = service.status().await;
    let stayed = status.pools[0].servers.iter().find(|server| server.server.ends_with(&withdrawn)).unwrap();
    assert_eq!(stayed.duty.as_ref().unwrap().reason, "new disk");
    assert!(
        status.pools[0].servers.iter().any(
            |candidate| candidate.observed.minute.per_second > 0.0 && candidate.server.ends_with(&server)
        )
    );
    let mut service = service;
    service.crash_and_restart().await;
    until("the duty is kept under the new name", async || {
        let status = service.status().await;
        status.pools[0].servers.iter().any(|server| {
            server.server.ends_with(&withdrawn)
                && server.reason_words.as_deref() == Some("withdrawn by an operator")
        })
    })
    .await;
}

fn rename(path: &str, to: &str) -> Edit {
    Edit::Rename { object: object(path), to: to.parse().unwrap() }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pinned_clients_stay_with_a_renamed_server_of_a_renamed_pool() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    assert!(
        change(&service, vec![set("pools.quay", json!({ "persistence": "cookie" }))]).await.unwrap().made
    );
    let first = reqwest::get(format!("http://{}/", service.frontend)).await.unwrap();
    let cookie = first.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let name = |text: &str| text.split_whitespace().next().unwrap_or_default().to_owned();
    let home = name(&first.text().await.unwrap());
    let ask = async |service: &Service| {
        let http = reqwest::Client::builder().no_proxy().timeout(PATIENCE).build().unwrap();
        let request = http.get(format!("http://{}/", service.frontend)).header("cookie", &cookie);
        let response = request.send().await.unwrap();
        assert!(!response.headers().contains_key("set-cookie"), "the pin that it has is good");
        name(&response.text().await.unwrap())
    };
    let edits = vec![rename(&format!("pools.quay.servers.{home}"), "puffin"), rename("pools.quay", "pier")];
    change(&service, edits).await.unwrap();
    for _ in 0..4 {
        assert_eq!(ask(&service).await, home);
    }
    let facts = [("cookie", cookie.clone())];
    let explanation = service.client().explain(&"harbour".parse().unwrap(), &facts).await.unwrap();
    assert_eq!(explanation.server.as_deref(), Some("pier/puffin"), "explain agrees");
    until("the copy has it", async || {
        let copy = service.folder.path().join("state/copy.json");
        std::fs::read_to_string(copy).is_ok_and(|text| text.contains("former_names\":{\"pier"))
    })
    .await;
    service.crash_and_restart().await;
    service.all_up().await;
    for _ in 0..4 {
        assert_eq!(ask(&service).await, home, "a restart remembers what it was called");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_tier_that_works_and_a_ramp_go_with_a_rename_and_end_with_their_pool() {
    let service = Service::with(&["gull", "tern"]).await;
    let order = async |server: &str, duty| {
        let order = merismos_api::DutyRequest::new(duty, "new disk");
        service.client().duty(&server.parse().unwrap(), &order).await.unwrap();
    };
    let edits = vec![
        set("pools.quay", json!({ "failback": "by hand", "ramp": "10m" })),
        set("pools.quay.servers.tern", json!({ "tier": 1 })),
    ];
    change(&service, edits).await.unwrap();
    order("quay/gull", Duty::Withdrawn).await;
    order("quay/gull", Duty::InService).await;
    let works = async || {
        service.status().await.pools.iter().map(|pool| (pool.name.clone(), pool.tier)).collect::<Vec<_>>()
    };
    assert_eq!(works().await, [("quay".to_owned(), Some(1))]);
    change(&service, vec![rename("pools.quay", "pier")]).await.unwrap();
    assert_eq!(works().await, [("pier".to_owned(), Some(1))], "a rename sends no work back");
    service.client().fail_back(&"pier".parse().unwrap()).await.unwrap();
    let ramp = async || service.status().await.pools[0].servers.iter().find_map(|server| server.ramp);
    assert!(ramp().await.is_some_and(|ramp| ramp < 0.5));
    let edits = vec![rename("pools.pier.servers.gull", "puffin"), rename("pools.pier", "mole")];
    change(&service, edits).await.unwrap();
    assert!(ramp().await.is_some_and(|ramp| ramp < 0.5), "the ramp goes on");
    let copy =
        Edit::Copy { object: object("pools.mole"), to: "quay".parse().unwrap(), keys: keys(json!({})) };
    change(&service, vec![copy]).await.unwrap();
    let tiers = works().await;
    assert!(
        tiers.contains(&("quay".to_owned(), Some(0))),
        "a new pool of an old name begins anew: {tiers:?}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_duty_ends_with_its_server_and_one_that_the_database_has_for_a_name_is_told() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    let order = merismos_api::DutyRequest::new(Duty::Draining, "old disk");
    service.client().duty(&"quay/auk".parse().unwrap(), &order).await.unwrap();
    let request = Edit::Remove { object: object("pools.quay.servers.auk") };
    change(&service, vec![request]).await.unwrap();
    let review = change(&service, vec![rename("pools.quay.servers.gull", "auk")]).await.unwrap();
    assert!(review.warnings.iter().all(|warning| !warning.warning.key.contains("duty-stands")), "{review:?}");
    let status = service.status().await;
    assert_eq!(status.pools[0].eligible, 2, "{:?}", status.pools[0].servers);
    let events = service.client().events(10).await.unwrap().events;
    let ended = events.iter().find(|event| event.subject == "quay/auk" && event.kind == EventKind::Duty);
    assert_eq!(
        ended.map(|event| event.message.as_str()),
        Some("no more draining: revision 2 removed the server")
    );
    let url = service.database.url();
    let (base, name) = url.rsplit_once('/').unwrap();
    let row = "('quay', 'skua', 'withdrawn', 'broken', 'ada', 5, 5)";
    sql(base, &format!("INSERT INTO {name}.duty (pool, server, duty, reason, who, at, number) VALUES {row}"));
    service.crash_and_restart().await;
    let skua = free_address();
    until("the database's order is known", async || {
        let keys = json!({ "address": skua.to_string() });
        let review = preview(&service, vec![add("pools.quay.servers.skua", keys)]).await;
        warnings(&review).contains(&"duty-stands:pools.quay.servers.skua")
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pool_of_known_servers_works_at_once() {
    let service = Service::with(&["gull"]).await;
    let copy =
        Edit::Copy { object: object("pools.quay"), to: "pier".parse().unwrap(), keys: keys(json!({})) };
    let edits = vec![copy, set("frontends.harbour", json!({ "pool": "pier" }))];
    assert!(change(&service, edits).await.unwrap().made);
    // The same question to the same address has the same answer: a first probe is not waited for.
    assert_eq!(service.get().await.unwrap().0, 200);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn parts_of_a_file_are_applied_and_the_rest_stays() {
    let service = Service::with(&["gull", "tern"]).await;
    let heavier = service
        .document()
        .replace("\n[pools.quay.servers.gull]\n", "\n[pools.quay.servers.gull]\nweight = 9\n")
        .replace("down_after = 2", "down_after = 7");
    let mut request = Service::request(&heavier);
    request.only = vec!["pools.quay".to_owned()];
    let review = service.client().apply(&request).await.unwrap();
    let words: Vec<_> = review.changes.iter().map(|change| change.description.as_str()).collect();
    assert_eq!(words, ["weight of server quay/gull: 1 (default) to 9"]);
    request.only = vec!["pools.nowhere".to_owned()];
    assert_eq!(refused(service.client().apply(&request).await).problems[0].path, "pools.nowhere");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_schema_is_served() {
    let service = Service::bare(Database::shared(), &[]).await;
    let client = crate::harness::http_client();
    let get = client.get(format!("{}/api/v1/document/schema", service.url())).bearer_auth(service.token());
    let schema: serde_json::Value = get.send().await.unwrap().json().await.unwrap();
    assert_eq!(schema["title"], "Merismos document");
}
