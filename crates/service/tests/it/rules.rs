//! Rules as an engineer meets them: made, tried, counted, reordered, and held to their examples.

use merismos_api::{TrialRequest, TrialState};
use merismos_client::ClientError;
use merismos_core::proof::TrialVerdict;
use merismos_lab::stand_in::StandIn;

use crate::browser::Browser;
use crate::harness::{PATIENCE, Service, until};
use crate::tls::{Authority, curl, document, run, said};

/// The service's document with a pool beside, of one server.
fn with_pier(service: &Service, auk: &StandIn, rules: &[&str], more: &str) -> String {
    let listed = format!("pool = \"quay\"\nrules = {rules:?}\n");
    service.document().replacen("pool = \"quay\"\n", &listed, 1)
        + &format!(
            "\n[pools.pier]\ncheck = \"well\"\nservers.auk = {{ address = \"{}\" }}\n{more}",
            auk.address
        )
}

const RULES: &str = r#"
[networks]
office = ["192.0.2.0/24"]
[rules.admin]
when = "path under /admin and client not in office"
action = "refuse"
[rules.old]
when = "path under /old"
action = "redirect"
location = "http://{host}/new{rest}{query}"
[rules.beside]
when = "host is pier.skerry.example or path under /new"
action = "pool"
pool = "pier"
[examples.outside]
frontend = "harbour"
path = "/admin/fares"
expect_status = 403
"#;

async fn ask(service: &Service, path: &str, host: &str) -> (u16, String) {
    let http = reqwest::Client::builder().no_proxy().timeout(PATIENCE).build().unwrap();
    let request = http.get(format!("http://{}{path}", service.frontend)).header("host", host);
    let answer = request.send().await.unwrap();
    (answer.status().as_u16(), answer.text().await.unwrap())
}

fn stdout(service: &Service, args: &[&str]) -> String {
    String::from_utf8(service.merismos(args).stdout).unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_said_of_rules_is_what_requests_meet() {
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &["admin", "old", "beside"], RULES)).await.unwrap();
    until("both pools serve", async || {
        ask(&service, "/", "pier.skerry.example").await.1.starts_with("auk")
            && ask(&service, "/", "a").await.1.starts_with("gull")
    })
    .await;
    assert_eq!(ask(&service, "/admin/x", "a").await.0, 403);
    for (args, expected) in [
        (&["rule", "try", "harbour", "--path", "/admin/x"][..], "rule admin: status 403"),
        (&["rule", "try", "harbour", "--path", "/admin/x", "--client", "192.0.2.9"], "not client in office"),
        (
            &["rule", "try", "harbour", "--path", "/old/x?y=1", "--host", "a.example"],
            "http://a.example/new/x?y=1 (status 307)",
        ),
        (&["explain", "harbour", "--host", "pier.skerry.example"], "pier/auk"),
        (&["explain", "harbour", "--path", "/x/%2e%2e/admin"], "status 400"),
        (&["explain", "harbour"], "no rule decides"),
        (&["rule", "list"], "frontend harbour"),
        (&["status"], "pier"),
    ] {
        let shown = stdout(&service, args);
        assert!(shown.contains(expected), "{args:?}: {shown}");
    }
    let counts = service.client().rule_counts(&"harbour".parse().unwrap()).await.unwrap();
    let admin = &counts.rules[0];
    assert_eq!((admin.name.as_str(), admin.matches, admin.last.is_some()), ("admin", 1, true));
    assert!(counts.rules[2].matches >= 1 && counts.requests >= 3, "{counts:?}");
    let shown = stdout(&service, &["rule", "counts", "harbour"]);
    assert!(shown.contains("path under /admin and client not in office"), "{shown}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_preview_says_where_requests_of_the_last_hour_would_go() {
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &[], "")).await.unwrap();
    let rules = "[rules.book]\nwhen = \"path under /book\"\naction = \"pool\"\npool = \"pier\"\n";
    let mut preview = Service::request(&with_pier(&service, &auk, &["book"], rules));
    (preview.going.preview, preview.going.quick) = (true, true);
    // Some of the requests are sampled, not all.
    until("requests that would go elsewhere are counted", async || {
        ask(&service, "/book/7?day=3", "www.skerry.example").await;
        ask(&service, "/fares", "www.skerry.example").await;
        let review = service.client().apply(&preview).await.unwrap();
        let Some(replay) = review.impact.requests else { return false };
        assert_eq!(replay.undecided, 0);
        if replay.elsewhere == 0 || replay.elsewhere == replay.requests {
            return false;
        }
        let [change] = replay.moves.as_slice() else { panic!("{replay:?}") };
        assert_eq!((change.method.as_str(), change.path.as_str()), ("GET", "/book/7"));
        assert_eq!(change.host.as_deref(), Some("www.skerry.example"));
        assert_eq!(change.before, "meets no rule and goes to pool quay");
        assert_eq!(change.after, "meets rule book and goes to pool pier");
        assert_eq!(change.requests, replay.elsewhere);
        true
    })
    .await;
    let file = service.folder.path().join("preview.toml");
    std::fs::write(&file, with_pier(&service, &auk, &["book"], rules)).unwrap();
    let shown = stdout(&service, &["apply", file.to_str().unwrap(), "--preview"]);
    assert!(shown.contains("sampled in the last hour"), "{shown}");
    assert!(shown.contains("GET www.skerry.example/book/7"), "{shown}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn trials_go_the_way_of_their_rule() {
    let service = Service::with(&["gull", "tern"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &["admin", "old", "beside"], RULES)).await.unwrap();
    until("the pool beside serves", async || {
        ask(&service, "/", "pier.skerry.example").await.1.starts_with("auk")
    })
    .await;
    let client = service.client();
    let request =
        TrialRequest { host: Some("pier.skerry.example".to_owned()), ..TrialRequest::of("harbour", 60) };
    let id = client.begin_trial(&request).await.unwrap().id;
    until("it is over", async || client.trial(id).await.unwrap().state == TrialState::Done).await;
    let tally = client.trial(id).await.unwrap().tally.unwrap();
    assert_eq!(tally.verdict, TrialVerdict::AsExpected, "{tally:?}");
    let servers: Vec<String> = tally.rows.iter().map(|row| row.server.to_string()).collect();
    assert_eq!(servers, ["pier/auk"]);
    // What gets no server can't be counted.
    let refused =
        client.begin_trial(&TrialRequest { path: "/old".to_owned(), ..TrialRequest::of("harbour", 5) }).await;
    let Err(ClientError::Refused(problem)) = refused else { panic!("{refused:?}") };
    assert!(problem.detail.contains("rule old of frontend harbour decides"), "{problem:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_change_that_breaks_an_example_is_refused() {
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &["admin", "old", "beside"], RULES)).await.unwrap();
    let open = service.merismos(&["rule", "change", "admin", "--when", "path under /office"]);
    assert!(!open.status.success());
    let said = String::from_utf8_lossy(&open.stderr).into_owned();
    assert!(said.contains("examples.outside") && said.contains("goes to pool quay"), "{said}");
    assert!(said.contains("status 403, as the example says"), "{said}");
    assert_eq!(ask(&service, "/admin/x", "a").await.0, 403, "what runs is as it was");
    let typo = service.merismos(&["rule", "create", "typo", "--when", "path undr /x", "--pool", "pier"]);
    let said = String::from_utf8_lossy(&typo.stderr).into_owned();
    assert!(said.contains("\"undr\" at character 6 of the condition"), "{said}");
    // What is named can't go.
    let said = service.merismos(&["rule", "remove", "admin"]);
    assert!(!said.status.success());
    assert!(String::from_utf8_lossy(&said.stderr).contains("frontend harbour"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_frontend_goes_into_maintenance_by_one_command_and_out_by_another() {
    let mut service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &["admin", "old", "beside"], RULES)).await.unwrap();
    until("it serves", async || ask(&service, "/", "a").await.0 == 200).await;
    let args = [
        "maintenance",
        "on",
        "harbour",
        "--reason",
        "new engine",
        "--except-network",
        "office",
        "--retry-after",
        "10m",
    ];
    let on = service.merismos(&args);
    assert!(on.status.success(), "{on:?}");
    until("clients get the page", async || ask(&service, "/", "a").await.0 == 503).await;
    let trouble = service.status().await.troubles.join("; ");
    assert!(trouble.contains("in maintenance: new engine"), "{trouble}");
    assert!(stdout(&service, &["events"]).contains("maintenance of frontend harbour"));
    let explained = stdout(&service, &["rule", "try", "harbour"]);
    assert!(explained.contains("status 503") && explained.contains("new engine"), "{explained}");
    assert!(stdout(&service, &["rule", "try", "harbour", "--client", "192.0.2.9"]).contains("quay/gull"));
    let refused = service.client().begin_trial(&TrialRequest::of("harbour", 5)).await;
    let Err(ClientError::Refused(problem)) = refused else { panic!("{refused:?}") };
    assert!(problem.detail.contains("in maintenance"), "{problem:?}");
    // It holds over a crash, and is ended by hand alone.
    service.crash_and_restart().await;
    until("it is still so", async || ask(&service, "/", "a").await.0 == 503).await;
    assert!(service.merismos(&["maintenance", "off", "harbour"]).status.success());
    until("it serves again", async || ask(&service, "/", "a").await.0 == 200).await;
    assert!(!service.status().await.troubles.join("; ").contains("maintenance"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rules_are_made_and_reordered_in_the_console() {
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &["admin", "old", "beside"], RULES)).await.unwrap();
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/rules").await;
    browser.press("New rule").await;
    browser.set("Name", "robots").await;
    browser.set("When", "path is /robots.txt").await;
    browser.set("Action", "respond").await;
    browser.set("Body", "none").await;
    browser.make_live("Apply", "add rule robots").await;
    until("it is shown", async || browser.text("main").await.contains("Rules / robots")).await;

    browser.go("/frontends").await;
    browser.click("a[href='/frontends/harbour']").await;
    until("the rules are there", async || browser.text("[data-testid=rule-order]").await.contains("beside"))
        .await;
    browser.click("button[aria-label='Move beside up']").await;
    browser.click("button[aria-label='Move beside up']").await;
    browser.make_live("Apply the order", "rules of frontend harbour").await;
    let rules = async || {
        let view = service.client().object(&"frontends.harbour".parse().unwrap(), None).await.unwrap();
        view.keys["rules"].clone()
    };
    until("the order is applied", async || rules().await == serde_json::json!(["beside", "admin", "old"]))
        .await;

    // An order with which an example does not hold is shown before it can be applied.
    browser.click("button[aria-label='Take admin out']").await;
    until("the example turns", async || {
        browser.text("[data-testid=rule-examples]").await.contains("meets no rule and goes to pool quay")
    })
    .await;
    browser.press("Leave it as it was").await;
    until("it holds again", async || browser.text("[data-testid=rule-examples]").await.contains("holds"))
        .await;
    browser.fill("section[aria-labelledby=explain-title] input[placeholder='/']", "/admin/x").await;
    browser.click("section[aria-labelledby=explain-title] button[type=submit]").await;
    until("the rule is explained", async || {
        let said = browser.text("[data-testid=explained]").await;
        said.contains("rule admin") && said.contains("status 403")
    })
    .await;
    let complaints = browser.complaints().await;
    assert!(complaints.iter().all(|complaint| complaint.to_string().contains("422")), "{complaints:#?}");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn facts_of_tls_decide_for_real_clients() {
    let (own, clients) = (Authority::new(), Authority::new());
    own.issue("site", &["booking.skerry.example", "pier.skerry.example"]);
    clients.issue("thora", &["thora.skerry.example"]);
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    let keys = format!(
        "certificates = [\"site\"]\nclient_certificates = \"optional\"\nclient_authorities = \"{}\"\nrules = [\"staff\", \"by-name\", \"two\"]",
        clients.root()
    );
    let rules = r#"
[rules.staff]
when = "certificate present"
action = "respond"
body = "staff"
[rules.by-name]
when = "server-name is pier.skerry.example"
action = "pool"
pool = "pier"
[rules.two]
when = "version is 2"
action = "respond"
body = "two"
"#;
    let text = document(&service, &keys)
        + &format!(
            "\n[pools.pier]\ncheck = \"well\"\nservers.auk = {{ address = \"{}\" }}\n{rules}",
            auk.address
        )
        + &own.tables(&["site"]);
    service.apply(&text).await.unwrap();
    let ask = |name: &str, more: &[&str]| said(&curl(&own, service.frontend, name, more));
    until("both pools serve", async || {
        ask("pier.skerry.example", &["--http1.1"]).starts_with("auk")
            && ask("booking.skerry.example", &["--http1.1"]).starts_with("gull")
    })
    .await;
    assert_eq!(ask("booking.skerry.example", &["--http2"]), "two");
    let [certificate, key] = clients.files("thora").map(|file| file.display().to_string());
    assert_eq!(ask("booking.skerry.example", &["--cert", &certificate, "--key", &key]), "staff");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn redirects_of_rules_are_followed_by_curl_and_by_a_browser() {
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    let port = service.frontend.port();
    let rules = RULES.replace("http://{host}/new", &format!("http://{{host}}:{port}/new"));
    service.apply(&with_pier(&service, &auk, &["admin", "old", "beside"], &rules)).await.unwrap();
    until("the pool beside serves", async || ask(&service, "/new", "a").await.1.starts_with("auk")).await;
    let url = format!("http://{}/old/x?y=1", service.frontend);
    let followed = run("curl", &["-sS", "-L", "--max-time", "20", &url], "");
    let followed = String::from_utf8(followed.stdout).unwrap();
    assert!(followed.starts_with("auk") && followed.contains("GET /new/x "), "{followed}");
    let browser = Browser::start().await;
    browser.goto(&url).await;
    until("the other application is shown", async || browser.text("body").await.starts_with("auk")).await;
    assert_eq!(browser.url().await.path(), "/new/x");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_new_release_gets_its_part_in_steps_under_load() {
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    let release =
        "[rules.release]\nwhen = \"always\"\naction = \"pool\"\npool_weights = { quay = 99, pier = 1 }\n";
    service.apply(&with_pier(&service, &auk, &["release"], release)).await.unwrap();
    until("both pools are up", async || service.status().await.pools.iter().all(|pool| pool.eligible == 1))
        .await;
    let client = service.client();
    // Visitors who come all the while, each step.
    let load = TrialRequest { per_second: Some(200), ..TrialRequest::of("harbour", 4_000) };
    let load = client.begin_trial(&load).await.unwrap().id;
    for (old, new) in [(99, 1), (50, 50), (0, 100)] {
        let weights = format!("quay={old},pier={new}");
        let changed = service.merismos(&["rule", "change", "release", "--pool-weights", &weights]);
        assert!(changed.status.success() || (old, new) == (99, 1), "{changed:?}");
        let id = client.begin_trial(&TrialRequest::of("harbour", 1_000)).await.unwrap().id;
        until("the step is tried", async || client.trial(id).await.unwrap().state == TrialState::Done).await;
        let tally = client.trial(id).await.unwrap().tally.unwrap();
        assert_eq!((tally.verdict, tally.failed), (TrialVerdict::AsExpected, 0), "{old}:{new} {tally:?}");
        let auk = tally.rows.iter().find(|row| row.server.to_string() == "pier/auk").unwrap();
        assert!((auk.expected - f64::from(new) / 100.0).abs() < 1e-9, "{tally:?}");
    }
    until("the visitors have gone", async || client.trial(load).await.unwrap().state == TrialState::Done)
        .await;
    assert_eq!(client.trial(load).await.unwrap().tally.unwrap().failed, 0, "no visitor felt a step");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_rule_that_no_request_met_for_long_is_pointed_out_over_restarts() {
    let mut service = Service::with(&["gull"]).await;
    service.bring_own_clock();
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &["admin", "beside"], RULES)).await.unwrap();
    // What is listed at the start is noted at once.
    service.crash_and_restart().await;
    service.all_up().await;
    let harbour: merismos_core::name::Name = "harbour".parse().unwrap();
    let unmet = async |service: &Service| -> Vec<Option<u64>> {
        let counts = service.client().rule_counts(&harbour).await.unwrap();
        counts.rules.iter().map(|rule| rule.unmet_days).collect()
    };
    let store = merismos_store::Store::new(&service.database.url()).unwrap();
    until("the listing is in the database", async || store.rule_uses().await.unwrap().len() == 2).await;
    assert_eq!(unmet(&service).await, [None, None]);
    service.set_clock("+40d");
    until("the clock is another", async || unmet(&service).await == [Some(40), Some(40)]).await;
    ask(&service, "/new", "a").await;
    assert_eq!(unmet(&service).await, [Some(40), None], "one was met");
    let shown = stdout(&service, &["rule", "counts", "harbour"]);
    assert!(shown.contains("never; none for 40 days"), "{shown}");
    service.crash_and_restart().await;
    until("what was listed before is known", async || unmet(&service).await[0] == Some(40)).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whom_a_frontend_refused_and_why_is_shown() {
    let service = Service::with(&["gull"]).await;
    let none = stdout(&service, &["frontend", "refusals", "harbour"]);
    assert!(none.contains("has refused no client"), "{none}");
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    service.apply(&with_pier(&service, &auk, &["admin"], RULES)).await.unwrap();
    until("the rule holds", async || ask(&service, "/admin/x", "a").await.0 == 403).await;
    assert_eq!(ask(&service, "/x;y", "a").await.0, 400);
    let refusals = service.client().refusals(&"harbour".parse().unwrap()).await.unwrap();
    let found: Vec<_> =
        refusals.reasons.iter().map(|it| (it.reason.as_str(), it.networks[0].network.as_str())).collect();
    assert!(
        found.contains(&("rule", "127.0.0.1/32")) && found.contains(&("malformed", "127.0.0.1/32")),
        "{found:?}"
    );
    let printed = stdout(&service, &["frontend", "refusals", "harbour"]);
    assert!(printed.contains("A rule refuses it, or closes its connection (rule):"), "{printed}");
    let unknown = service.merismos(&["frontend", "refusals", "harbor"]);
    assert!(!unknown.status.success(), "{unknown:?}");
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.goto(&format!("{}/frontends/harbour", service.url())).await;
    browser.wait_for("[data-testid=refusals]").await;
    let shown = browser.text("[data-testid=refusals]").await;
    assert!(shown.contains("A rule refuses it") && shown.contains("127.0.0.1/32"), "{shown}");
    browser.end().await;
}
