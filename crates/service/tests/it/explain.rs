//! Algorithms, tiers, ramps, several pools and explanations, as an engineer meets them.

use merismos_api::{DutyRequest, EventKind, ExplainResponse, TrialRequest, TrialState};
use merismos_client::ClientError;
use merismos_core::config::DocumentFormat;
use merismos_core::duty::Duty;
use merismos_core::name::PoolServer;
use merismos_core::proof::TrialVerdict;
use merismos_lab::free::free_address;
use merismos_lab::stand_in::Fault;
use serde_json::Value;

use crate::harness::{Database, PATIENCE, Service, until};

async fn order(service: &Service, server: &str, duty: Duty) {
    let server: PoolServer = format!("quay/{server}").parse().unwrap();
    let request = DutyRequest { anyway: true, ..DutyRequest::new(duty, "a test") };
    service.client().duty(&server, &request).await.unwrap();
}

/// The document with more keys for the pool.
fn with_pool(service: &Service, keys: &str) -> String {
    service.document().replace("[pools.quay]\n", &format!("[pools.quay]\n{keys}\n"))
}

async fn trial(service: &Service, requests: u32) -> merismos_api::Trial {
    try_it(service, TrialRequest { concurrency: 4, ..TrialRequest::of("harbour", requests) }).await
}

async fn try_it(service: &Service, request: TrialRequest) -> merismos_api::Trial {
    let id = service.client().begin_trial(&request).await.unwrap().id;
    until("the trial is over", async || service.client().trial(id).await.unwrap().state == TrialState::Done)
        .await;
    service.client().trial(id).await.unwrap()
}

async fn explain(service: &Service, facts: &[(&str, &str)]) -> ExplainResponse {
    let facts: Vec<(&str, String)> = facts.iter().map(|(name, value)| (*name, (*value).to_owned())).collect();
    service.client().explain(&"harbour".parse().unwrap(), &facts).await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_explain_says_of_a_client_is_what_its_requests_meet() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let keys = "algorithm = \"hash\"\nhash_keys = [\"cookie:visit\", \"client-address\"]";
    service.apply(&with_pool(&service, keys)).await.unwrap();
    let http = reqwest::Client::builder().no_proxy().timeout(PATIENCE).build().unwrap();
    for visit in 0..20 {
        let cookie = format!("visit={visit}");
        let explanation = explain(&service, &[("cookie", &cookie), ("path", "/")]).await;
        assert_eq!(explanation.key.as_deref(), Some(format!("cookie:visit is \"{visit}\"").as_str()));
        let request = http.get(format!("http://{}/", service.frontend)).header("cookie", cookie);
        let got = request.send().await.unwrap().text().await.unwrap();
        let server = explanation.server.unwrap();
        assert!(got.starts_with(server.trim_start_matches("quay/")), "{server} was explained, {got} came");
    }
    // The command line says the same, and a file of one client's keys is all it needs.
    let args = ["explain", "harbour", "--client", "192.0.2.7", "--json"];
    let printed: Value = serde_json::from_slice(&service.merismos(&args).stdout).unwrap();
    assert_eq!(printed["key"], "client-address is in 192.0.2.7/32");
    let again = explain(&service, &[("client", "192.0.2.7")]).await;
    // Keys decide, and no share is to be expected of them; of turns there is.
    assert!(!again.why.contains("expected share"), "{again:?}");
    assert_eq!(printed["server"].as_str(), again.server.as_deref());
    assert!(again.others.iter().all(|other| other.why.contains("the key is another server's")), "{again:?}");
    let wrong = service.merismos(&["explain", "harbour", "--header", "no colon"]);
    assert_eq!(wrong.status.code(), Some(2), "{wrong:?}");
    // A trial of clients that are all one holds each request against the server of their key.
    let tally = trial(&service, 60).await.tally.unwrap();
    assert_eq!((tally.verdict, tally.tied, tally.strayed), (TrialVerdict::AsExpected, 60, 0));
    // Where a server's bound has a part in it, it does not pretend to know.
    let bounded = format!("{keys}\nbounded_load = 200");
    service.apply(&with_pool(&service, &bounded)).await.unwrap();
    let tally = trial(&service, 60).await.tally.unwrap();
    assert_eq!((tally.verdict, tally.tied), (TrialVerdict::AsExpected, 0));
    assert!(tally.because[0].contains("the clients' keys"), "{:?}", tally.because);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn work_goes_back_to_a_lower_tier_when_somebody_says_so_also_after_a_restart() {
    let mut service = Service::with(&["gull", "tern"]).await;
    let text = with_pool(&service, "failback = \"by hand\"")
        .replace("[pools.quay.servers.tern]\n", "[pools.quay.servers.tern]\ntier = 1\n");
    service.apply(&text).await.unwrap();
    let works = async |service: &Service| service.status().await.pools[0].tier;
    assert_eq!(works(&service).await, Some(0));
    order(&service, "gull", Duty::Withdrawn).await;
    assert!(service.get().await.unwrap().1.starts_with("tern"));
    order(&service, "gull", Duty::InService).await;
    let pool = &service.status().await.pools[0];
    assert_eq!((pool.tier, pool.held), (Some(1), true));
    assert!(service.get().await.unwrap().1.starts_with("tern"), "standby goes on working");
    let output = service.merismos(&["explain", "harbour"]);
    let printed = String::from_utf8(output.stdout).unwrap();
    assert!(printed.contains("quay/gull: standing by for the tier that works"), "{printed}");
    let status = String::from_utf8(service.merismos(&["status"]).stdout).unwrap();
    assert!(status.contains("1 of 2 eligible, 1 stands by"), "{status}");
    let copy = service.folder.path().join("state/copy.json");
    until("the copy has it", async || {
        std::fs::read_to_string(&copy).is_ok_and(|text| text.contains("lower_able_since\":\""))
    })
    .await;
    service.crash_and_restart().await;
    assert_eq!(works(&service).await, Some(1), "a restart is no word of anybody");
    let back = service.merismos(&["failback", "quay"]);
    assert_eq!(String::from_utf8(back.stdout).unwrap(), "tier 0 of pool quay works now\n");
    assert!(service.get().await.unwrap().1.starts_with("gull"));
    let nothing = service.merismos(&["failback", "quay"]);
    assert_eq!(nothing.status.code(), Some(3));
    assert!(String::from_utf8(nothing.stderr).unwrap().contains("nothing to send back"));
    let events = service.client().events(50).await.unwrap().events;
    let tiers: Vec<&str> = events
        .iter()
        .rev()
        .filter(|event| event.kind == EventKind::Tier)
        .map(|event| event.message.as_str())
        .collect();
    assert_eq!(
        tiers,
        [
            "tier 1 works now, after tier 0",
            "a lower tier can work again; tier 1 goes on working (failback: by hand)",
            "tier 0 works now, after tier 1: sent back by admin"
        ]
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_returns_begins_with_a_small_share_and_ends_with_its_own() {
    let service = Service::with(&["gull", "tern"]).await;
    service.apply(&with_pool(&service, "ramp = \"2s\"")).await.unwrap();
    assert_eq!(service.server("gull").await.ramp, None, "who was there has no ramp");
    order(&service, "gull", Duty::Draining).await;
    order(&service, "gull", Duty::InService).await;
    let begin = service.server("gull").await;
    assert!(begin.ramp.is_some_and(|ramp| ramp < 0.9) && begin.expected < 0.45, "{begin:?}");
    let mut last = begin.expected;
    until("the ramp is over", async || {
        let now = service.server("gull").await;
        assert!(now.expected >= last - 1e-9, "its share only grows");
        last = now.expected;
        now.ramp.is_none()
    })
    .await;
    until("it has its own share", async || (service.server("gull").await.expected - 0.5).abs() < 1e-9).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn several_pools_share_explain_and_trial_know_them() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let auk = service.stand_ins[2].address;
    let keys = "next_pools = [\"mole\"]\nchoose_pool = \"by-weight\"\npool_weights = { quay = 3 }";
    let text = service.document().replace("pool = \"quay\"\n", &format!("pool = \"quay\"\n{keys}\n"))
        + &format!("[pools.mole.servers.auk-too]\naddress = \"{auk}\"\n");
    let accepted = Service::request(&text);
    let mut accepted = accepted;
    accepted.going.accept.push("no-check:pools.mole".to_owned());
    service.client().apply(&accepted).await.unwrap();
    let pools = &service.status().await.frontends[0].pools;
    let shares: Vec<_> = pools.iter().map(|pool| (pool.pool.as_str(), pool.usable, pool.expected)).collect();
    assert_eq!(shares, [("quay", true, Some(0.75)), ("mole", true, Some(0.25))]);
    let explanation = explain(&service, &[]).await;
    assert_eq!(explanation.why_pool.unwrap(), "drawn by weight (quay 75.0 %, mole 25.0 %)");
    let tally = trial(&service, 1_200).await.tally.unwrap();
    assert_eq!(tally.verdict, TrialVerdict::AsExpected, "{:?}", tally.because);
    let mole = tally.rows.iter().find(|row| row.server.pool.as_str() == "mole").unwrap();
    assert!((mole.expected - 0.25).abs() < 1e-9 && mole.requests > 200, "{mole:?}");
    // A pool that is used twice, or that is not there, is a mistake and not a surprise.
    let twice = text.replace("next_pools = [\"mole\"]", "next_pools = [\"quay\", \"moles\"]");
    let Err(ClientError::Refused(problem)) = service.apply(&twice).await else { panic!("it is refused") };
    let paths: Vec<&str> = problem.problems.iter().map(|problem| problem.path.as_str()).collect();
    assert_eq!(paths, ["frontends.harbour.next_pools", "frontends.harbour.next_pools"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pinned_client_stays_over_a_restart_of_the_service() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    service.apply(&with_pool(&service, "persistence = \"cookie\"")).await.unwrap();
    let first = reqwest::get(format!("http://{}/", service.frontend)).await.unwrap();
    let cookie = first.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    assert!(cookie.starts_with("merismos-pin="));
    let home = first.text().await.unwrap();
    let ask = async |service: &Service| {
        let http = reqwest::Client::builder().no_proxy().timeout(PATIENCE).build().unwrap();
        let request = http.get(format!("http://{}/", service.frontend)).header("cookie", &cookie);
        request.send().await.unwrap().text().await.unwrap()
    };
    let name = |text: &str| text.split_whitespace().next().unwrap_or_default().to_owned();
    for _ in 0..4 {
        assert_eq!(name(&ask(&service).await), name(&home));
    }
    let explanation = explain(&service, &[("cookie", &cookie)]).await;
    assert_eq!(explanation.server, Some(format!("quay/{}", name(&home))));
    assert_eq!(explanation.why, "the client's cookie merismos-pin ties it to this server");
    service.crash_and_restart().await;
    service.all_up().await;
    assert_eq!(name(&ask(&service).await), name(&home), "the secret is kept");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn decisions_about_real_traffic_say_what_was_known() {
    let service = Service::with(&["gull", "tern"]).await;
    let other = free_address();
    let text = with_pool(&service, "algorithm = \"least-connections\"")
        + &format!("[frontends.other]\nprotocol = \"http\"\nlisten = \"{other}\"\npool = \"quay\"\n");
    service.apply(&text).await.unwrap();
    let harbour = "harbour".parse().unwrap();
    let mut stream = service.client().decisions(Some(&harbour)).await.unwrap();
    let mut unrelated = service.client().decisions(Some(&"other".parse().unwrap())).await.unwrap();
    // Watching begins when the service has the call, and the answer to it has begun.
    let mut decision = None;
    while decision.is_none() {
        service.get().await.unwrap();
        decision = tokio::time::timeout(std::time::Duration::from_millis(200), stream.next()).await.ok();
    }
    let decision = decision.unwrap().unwrap().unwrap();
    assert_eq!(
        (decision.frontend.as_str(), decision.pool.as_str(), decision.others.len()),
        ("harbour", "quay", 1)
    );
    assert!(decision.client.starts_with("127.0.0.1:"), "{decision:?}");
    assert!(
        decision.why.starts_with("it has the least work in flight for its weight: 0 in flight"),
        "{decision:?}"
    );
    assert!(decision.others[0].why.contains("(0 in flight)"), "{decision:?}");
    let silent = tokio::time::timeout(std::time::Duration::from_millis(100), unrelated.next()).await;
    assert!(silent.is_err(), "another frontend's watcher hears nothing");
    // The command line prints the same while requests come.
    let asking = async {
        loop {
            service.get().await.unwrap();
        }
    };
    let printing = async {
        let (url, token) = (service.url(), service.token());
        let print = move || {
            let args = ["decisions", "--frontend", "harbour", "--count", "3"];
            crate::harness::merismos().args(["--url", &url, "--token", &token]).args(args).output().unwrap()
        };
        tokio::task::spawn_blocking(print).await.unwrap()
    };
    let output = tokio::select! {
        output = printing => output,
        () = asking => unreachable!("it asks for ever"),
    };
    let text = String::from_utf8(output.stdout).unwrap();
    assert_eq!(text.lines().filter(|line| line.contains("→ quay/")).count(), 3, "{text}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_connection_that_is_with_a_server_stays_with_it_where_connections_are_dealt_out() {
    let service = Service::with(&["gull", "tern"]).await;
    let before = [("connection", "quay/tern")];
    let explanation = explain(&service, &before).await;
    assert!(
        explanation.why.starts_with("each request is distributed by itself; it is eligible"),
        "{explanation:?}"
    );
    let text = service
        .document()
        .replace("[frontends.harbour]\n", "[frontends.harbour]\nbalance_per = \"connection\"\n");
    service.apply(&text).await.unwrap();
    for _ in 0..4 {
        let explanation = explain(&service, &before).await;
        assert_eq!(explanation.server.as_deref(), Some("quay/tern"));
    }
    order(&service, "tern", Duty::Withdrawn).await;
    let printed = service.merismos(&["explain", "harbour", "--connection", "quay/tern"]);
    let printed = String::from_utf8_lossy(&printed.stdout).into_owned();
    assert!(
        printed.contains("quay/gull") && printed.contains("its connection can't go on with quay/tern"),
        "{printed}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn weights_and_networks_of_pools_by_flags() {
    let service = Service::with(&["gull"]).await;
    let text =
        service.document() + "\n[networks]\ninland = [\"192.0.2.0/24\"]\n[pools.second]\ncheck = \"well\"\n";
    service.apply(&text).await.unwrap();
    let change = |more: &[&str]| {
        let accept = "empty-pool:pools.second";
        let args = ["frontend", "change", "harbour", "--next-pools", "second", "--accept-warning", accept];
        let made = service.merismos(&[&args[..], more].concat());
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    };
    let keys = async || {
        let document = service.client().document(DocumentFormat::Json).await.unwrap();
        serde_json::from_str::<Value>(&document).unwrap()["frontends"]["harbour"].clone()
    };
    change(&["--choose-pool", "by-weight", "--pool-weights", "quay=3", "--pool-weights", "second=0"]);
    assert_eq!(keys().await["pool_weights"], serde_json::json!({ "quay": 3, "second": 0 }));
    change(&["--choose-pool", "by-network", "--pool-networks", "second=inland", "--reset", "pool_weights"]);
    let keys = keys().await;
    assert_eq!(keys["pool_networks"], serde_json::json!({ "second": ["inland"] }));
    assert!(keys.get("pool_weights").is_none());
    let wrong = service.merismos(&["frontend", "change", "harbour", "--pool-weights", "quay"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("NAME=VALUE"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn of_a_full_pool_it_is_explained_who_waits_and_what_happens_then() {
    let service = Service::bare(Database::shared(), &["gull"]).await;
    let text = service.document().replace(
        "[pools.quay]\n",
        "[pools.quay]\nin_flight_limit = 1\nqueue_timeout = \"5s\"\npassive_check = { failures = 1000 }\n",
    );
    service.apply(&text).await.unwrap();
    service.all_up().await;
    // It passes its check, and its answers take long.
    service.stand_ins[0].set(Fault::Slow { delay_ms: 600 }).await;
    let url = format!("http://{}/", service.frontend);
    let busy = tokio::spawn(async move {
        loop {
            let _ = reqwest::get(&url).await;
        }
    });
    until("the pool is full", async || {
        let now = explain(&service, &[]).await;
        now.server.is_none()
            && now.why.starts_with("every eligible server of pool quay is full: it waits for 5")
    })
    .await;
    busy.abort();
}
