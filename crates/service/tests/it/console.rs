//! The console in a real browser.

use std::path::PathBuf;
use std::time::Duration;

use merismos_lab::stand_in::{Fault, StandIn};

use serde_json::json;

use crate::browser::{Browser, is_expected};
use crate::harness::{Database, Service, until};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn from_the_log_in_to_a_drained_server_and_a_trial() {
    let index = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../console/dist/index.html");
    assert!(index.exists(), "the console is not built: run `make test`");
    let service = Service::with(&["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.goto(&service.url()).await;

    browser.fill("#token", "guess").await;
    browser.press("Log in").await;
    until("the wrong token is refused", async || browser.text("[role=alert]").await.contains("not a token"))
        .await;
    browser.type_over("#token", &service.token()).await;
    browser.press("Log in").await;
    until("all is well", async || browser.text("#verdict").await.contains("All is well.")).await;
    for part in ["harbour", "quay", "gull", "tern", "of 50.0 %"] {
        until(part, async || browser.text("[data-testid=flow]").await.contains(part)).await;
    }

    // A failing server shows by itself.
    service.stand_ins[1].set(Fault::Refuse).await;
    let health = "[data-server='quay/tern'] [data-testid=health]";
    until("tern is shown down", async || browser.text(health).await.contains("✕ down")).await;
    until("and why", async || browser.text("#verdict").await.contains("connection refused")).await;
    service.stand_ins[1].set(Fault::None).await;
    until("tern is shown up", async || browser.text(health).await.contains("● up")).await;

    // A duty needs a reason, and shows at once.
    browser.click("[aria-label='Duty of quay/gull']").await;
    browser.press("Drain").await;
    until("a reason is wanted", async || browser.text("dialog [role=alert]").await.contains("Say why")).await;
    browser.fill("#reason", "new disk").await;
    browser.press("Drain").await;
    until("it says when it is safe to work", async || {
        browser.text("[data-testid=drain-progress]").await.contains("it is safe to work")
    })
    .await;
    browser.click("dialog [aria-label=Close]").await;
    let duty = "[data-server='quay/gull'] [data-testid=duty]";
    until("gull is shown drained", async || browser.text(duty).await.contains("▽ drained")).await;
    until("the event is shown", async || {
        browser.text("[data-testid=facts]").await.contains("draining by admin: new disk")
    })
    .await;
    assert_eq!(service.server("gull").await.duty.unwrap().reason, "new disk");
    browser.click("[aria-label='Duty of quay/gull']").await;
    browser.fill("#reason", "disk is in").await;
    browser.press("Return").await;
    until("gull is back", async || browser.text(duty).await.contains("in service")).await;

    // A trial shows its verdict and its table.
    browser.click("[aria-label='Try harbour …']").await;
    browser.press("Send real requests").await;
    until("the verdict is shown", async || {
        browser.text("[data-testid=verdict]").await.contains("As expected")
    })
    .await;
    let table = browser.text("[data-testid=trial]").await;
    assert!(table.contains("quay/gull 300 50.0 % 50.0 % 0.0 0 0"), "{table}");
    browser.click("dialog [aria-label='Close']").await;

    // Another protocol has other words, and its clients may be many.
    let line = format!(
        "{}\n[frontends.line]\nprotocol = \"tcp\"\nlisten = \"{}\"\npool = \"quay\"\n",
        service.document(),
        merismos_lab::free::free_address()
    );
    service.apply(&line).await.unwrap();
    browser.click("[aria-label='Try line …']").await;
    browser.fill("dialog input[placeholder='as many']", "20").await;
    browser.fill("dialog input[placeholder='127.0.9.0/24']", "127.0.9.0/24").await;
    browser.press("Send real connections").await;
    until("the verdict is shown", async || {
        browser.text("[data-testid=verdict]").await.contains("every connection was answered")
    })
    .await;
    let request = service.client().trials().await.unwrap().trials.remove(0).request;
    assert_eq!((request.clients, request.from.as_deref()), (Some(20), Some("127.0.9.0/24")));
    let complaints = browser.complaints().await;
    assert!(complaints.is_empty(), "{complaints:#?}");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn from_an_empty_service_to_a_working_frontend_and_a_deployed_draft() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    until("there is nothing yet", async || browser.text("#app").await.contains("There is no frontend yet"))
        .await;

    browser.go("/pools").await;
    browser.press("New pool").await;
    browser.set("Name", "quay").await;
    browser.make_live("Apply", "add pool quay").await;
    until("an empty pool says what a client gets", async || {
        browser.text("main").await.contains("Clients of this pool get nothing: there is no server")
    })
    .await;

    // A frontend before an empty pool is not made before its warning is accepted.
    browser.go("/frontends").await;
    browser.press("New frontend").await;
    browser.set("Name", "harbour").await;
    browser.set("Listen", &service.frontend.to_string()).await;
    browser.set("Pool", "quay").await;
    until("the client's view is shown", async || {
        browser.text("[data-testid=consequences]").await.contains("frontend harbour: no server is available")
    })
    .await;
    assert!(browser.text("main").await.contains("One warning has to be accepted first."));
    assert!(service.get().await.is_err(), "nothing is live yet");

    browser.go("/checks").await;
    browser.press("New check").await;
    browser.set("Name", "well").await;
    browser.set("Check type", "http").await;
    browser.set("Path", "/health").await;
    browser.set("Interval", "300ms").await;
    browser.set("Timeout", "200ms").await;
    browser.make_live("Apply", "noticed after 600 ms at best, 850 ms on average, 1.1 s at worst").await;

    browser.go("/pools").await;
    browser.click("a[href='/pools/quay']").await;
    browser.press("Add servers").await;
    let lines: String = service.stand_ins.iter().map(|stand_in| format!("{}\n", stand_in.address)).collect();
    browser.fill("#lines", &lines).await;
    browser.make_live("Add them", "50.0 %").await;
    until("the servers are listed", async || browser.text("main").await.contains("Servers (2)")).await;
    browser.press("Settings").await;
    browser.set("Check", "well").await;
    browser.make_live("Apply", "check of pool quay: well").await;

    // What was typed before is still here.
    browser.go("/frontends").await;
    until("the form is open", async || browser.text("[data-testid=kept]").await.contains("is still here"))
        .await;
    browser.set("Name", "harbour").await;
    browser.set("Listen", &service.frontend.to_string()).await;
    browser.set("Pool", "quay").await;
    browser.make_live("Apply", "add frontend harbour").await;
    until("clients are answered", async || service.get().await.is_ok_and(|(status, _)| status == 200)).await;

    // Two changes gather in a draft; shares are typed as percent.
    browser.go("/changes").await;
    browser.fill("input[placeholder='autumn-timetable']", "autumn").await;
    browser.press("Create draft").await;
    until("the draft is chosen", async || browser.text("main").await.contains("It changes nothing yet"))
        .await;
    browser.go("/pools").await;
    browser.click("a[href='/pools/quay']").await;
    let share = "input[aria-label$='in percent']";
    browser.type_over(share, "80\t").await;
    browser.make_live("Put into draft autumn", "80.0 %").await;
    browser.press("Settings").await;
    browser.set("Note", "ferries").await;
    browser.make_live("Put into draft autumn", "note of pool quay: ferries").await;
    until("both are in it", async || {
        service.client().draft(&"autumn".parse().unwrap()).await.unwrap().changes.len() == 2
    })
    .await;
    assert!(
        service.status().await.pools[0].servers.iter().all(|server| server.weight == 1),
        "nothing is live yet"
    );
    browser.go("/changes").await;
    browser.click("a[href='/changes/drafts/autumn']").await;
    browser.make_live("Deploy it", "weight of server").await;
    until("it runs", async || {
        let mut weights: Vec<_> =
            service.status().await.pools[0].servers.iter().map(|server| server.weight).collect();
        weights.sort_unstable();
        weights == [1, 4]
    })
    .await;

    // And the way back: everyone who looks sees it.
    let newest = service.status().await.revision.number;
    browser.go("/changes").await;
    browser.click(&format!("a[href='/changes/revisions/{}']", newest - 1)).await;
    browser.press("Go back to it …").await;
    browser.make_live("Go back to it", "weight of server").await;
    let verdict = format!("revision {} by admin", newest + 1);
    until("the page tells it", async || browser.text("header").await.contains(&verdict)).await;
    assert!(service.status().await.pools[0].servers.iter().all(|server| server.weight == 1));
    let complaints = browser.complaints().await;
    assert!(complaints.is_empty(), "{complaints:#?}");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_check_is_tried_from_its_form_and_a_message_from_its_page() {
    let service = Service::with(&["gull", "tern"]).await;
    service.stand_ins[1].set(Fault::WrongBody).await;
    let bell = StandIn::for_posts("bell", merismos_lab::free::free_address()).unwrap();
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/checks").await;
    browser.click("a[href='/checks/well']").await;
    browser.set("Body contains", "well").await;
    browser.press("Try it").await;
    until("both were asked, as the form says", async || {
        let tries = browser.text("[data-testid=tries]").await;
        tries.contains("✓ quay/gull") && tries.contains("✗ quay/tern") && tries.contains("does not contain")
    })
    .await;
    let gull = service.client().object(&"checks.well".parse().unwrap(), None).await.unwrap();
    assert!(!gull.keys.to_string().contains("body_contains"), "nothing was saved: {}", gull.keys);

    browser.go("/notifications").await;
    browser.press("New notification").await;
    browser.set("Name", "watch").await;
    browser.set("Webhook", &format!("http://{}/hook", bell.address)).await;
    browser.make_live("Apply", "add notification watch").await;
    browser.press("Send a try").await;
    until("it is there", async || browser.text("[data-testid=sent]").await.contains("✓ delivered")).await;
    assert!(bell.inbox()[0].text.contains("a try by admin"));
    let complaints = browser.complaints().await;
    // A message that goes nowhere yet is refused when its preview is asked for in the middle of typing.
    let half_typed = |message: &serde_json::Value| {
        message["message"].as_str().is_some_and(|message| message.contains("422"))
    };
    assert!(
        complaints.iter().all(|complaint| is_expected(complaint) || half_typed(complaint)),
        "{complaints:#?}"
    );
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_frontend_gets_more_pools_networks_and_weights_from_its_form() {
    let service = Service::with(&["gull"]).await;
    let auk = StandIn::start("auk", merismos_lab::free::free_address()).unwrap();
    let standby = format!(
        "{}\n[pools.standby]\ncheck = \"well\"\nservers.auk = {{ address = \"{}\" }}\n",
        service.document(),
        auk.address
    );
    service.apply(&standby).await.unwrap();
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/rules").await;
    browser.click("a[href='/networks']").await;
    browser.press("New network").await;
    browser.set("Name", "islands").await;
    browser.set("Prefixes", "127.0.0.0/8 2001:db8::/32").await;
    browser.make_live("Apply", "add network islands").await;
    until("it is shown", async || browser.text("main").await.contains("Networks / islands")).await;

    browser.go("/frontends").await;
    browser.click("a[href='/frontends/harbour']").await;
    browser.press("▸ All other keys").await;
    browser.set("Next pools", "standby\n").await;
    browser.set("Choose pool", "by-network").await;
    browser.set("Pool networks", "standby=islands").await;
    browser.make_live("Apply", "pool_networks.standby of frontend harbour").await;
    let is_answered_by = async |name: &str| service.get().await.is_ok_and(|(_, text)| text.starts_with(name));
    until("the pool of the client's network answers", async || is_answered_by("auk").await).await;

    browser.set("Choose pool", "by-weight").await;
    browser.set("Pool weights", "quay=1 standby=0").await;
    browser.make_live("Apply", "pool_weights.standby of frontend harbour").await;
    until("the heavier pool answers", async || is_answered_by("gull").await).await;
    let harbour = service.client().object(&"frontends.harbour".parse().unwrap(), None).await.unwrap();
    assert_eq!(harbour.keys["pool_weights"], json!({ "quay": 1, "standby": 0 }));
    assert!(harbour.keys.get("pool_networks").is_none(), "{}", harbour.keys);
    browser.set("Pool weights", "quay=1").await;
    browser.make_live("Apply", "pool_weights.standby of frontend harbour").await;
    until("what is not named any more is gone", async || {
        let harbour = service.client().object(&"frontends.harbour".parse().unwrap(), None).await.unwrap();
        harbour.keys["pool_weights"] == json!({ "quay": 1 })
    })
    .await;

    // A pool that two frontends share is drawn once, with a way from each.
    let keys = "next_pools = [\"standby\"]\nchoose_pool = \"by-weight\"\npool_weights = { quay = 3 }";
    let shared = standby.replace("pool = \"quay\"\n", &format!("pool = \"quay\"\n{keys}\n"))
        + &format!(
            "[frontends.mole]\nprotocol = \"http\"\nlisten = \"{}\"\npool = \"standby\"\n",
            merismos_lab::free::free_address()
        );
    service.apply(&shared).await.unwrap();
    browser.go("/").await;
    let flow = async || browser.text("[data-testid=flow]").await;
    until("both ways of the frontend tell their parts", async || {
        let flow = flow().await;
        flow.contains("75 %") && flow.contains("25 %")
    })
    .await;
    let drawn = "xpath=//*[@data-testid='flow']//*[local-name()='text' and starts-with(normalize-space(), 'standby') and not(contains(., '/'))]";
    assert_eq!(browser.count(drawn).await, 1);
    let mut ways = browser.attributes("[data-way]", "data-way").await;
    ways.sort();
    assert_eq!(ways, ["harbour/quay", "harbour/standby", "mole/standby"]);
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn twenty_tabs_share_one_stream_and_all_work() {
    let service = Service::with(&["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    for _ in 0..20 {
        browser.new_tab().await;
        browser.goto(&format!("{}/pools/quay", service.url())).await;
        browser.wait_for("#verdict").await;
    }
    assert!(service.status().await.node.api_streams <= 3, "{}", service.status().await.node.api_streams);
    // The last one is alive: it shows what changes.
    let order = merismos_api::DutyRequest::new(merismos_core::duty::Duty::Draining, "new disk");
    service.client().duty(&"quay/gull".parse().unwrap(), &order).await.unwrap();
    until("the last tab shows it", async || browser.text("main").await.contains("▽ drained")).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn tokens_are_made_and_taken_back_on_their_page() {
    let service = Service::with(&["gull"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/access").await;
    browser.fill("input[aria-label='Name of the new token']", "night-shift").await;
    browser.press("New token").await;
    until("it is shown", async || browser.text("[data-testid=token]").await.trim().len() == 64).await;
    let token = browser.text("[data-testid=token]").await.trim().to_owned();
    let client = merismos_client::Client::new(&service.url(), &token).unwrap();
    client.status().await.expect("it counts");
    browser.click("button[aria-label='Revoke night-shift']").await;
    browser.press("Revoke night-shift now").await;
    until("it counts no more", async || client.status().await.is_err()).await;
    browser.end().await;
}

/// How many calls of the API the page makes in a length of time. The browser remembers few hundred, so they are forgotten first.
async fn calls_within(browser: &Browser, length: Duration) -> u64 {
    let script = "performance.clearResourceTimings()";
    browser.run(script, Vec::new()).await;
    tokio::time::sleep(length).await;
    let script = "return performance.getEntriesByType('resource').filter((entry) => entry.name.includes('/api/')).length";
    browser.run(script, Vec::new()).await.as_u64().unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_at_rest_asks_for_nothing() {
    let service = Service::bare(Database::shared(), &["gull"]).await;
    // So many servers that their pool's own page has a stream of its own.
    let mut text = service.document().replace("interval = \"200ms\"", "interval = \"1h\"");
    for server in 0..600 {
        text += &format!(
            "[pools.quay.servers.s{server}]\naddress = \"127.0.{}.{}:9\"\nweight = 0\n",
            10 + server / 250,
            server % 250 + 1
        );
    }
    text += "[notifications.bell]\nwebhook = \"http://127.0.0.1:9/\"\nchanges = [\"filled\"]\n";
    service.apply(&text).await.unwrap();
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    let pages = [
        "/",
        "/frontends",
        "/frontends/harbour",
        "/pools",
        "/pools/quay",
        "/checks",
        "/hosts",
        "/maintenance",
        "/notifications",
        "/notifications/bell",
        "/changes",
        "/events",
        "/access",
        "/no-such-page",
    ];
    for page in pages {
        browser.goto(&format!("{}{page}", service.url())).await;
        browser.wait_for("#verdict").await;
        // Something may happen on a busy machine, and then a page asks: but not again and again.
        let mut is_quiet = false;
        for _ in 0..4 {
            is_quiet = calls_within(&browser, Duration::from_millis(2_500)).await == 0;
            if is_quiet {
                break;
            }
        }
        assert!(is_quiet, "{page} asks again and again");
    }
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_that_hangs_is_a_connection_that_is_lost() {
    let service = Service::with(&["gull"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    until("all is well", async || browser.text("#verdict").await.contains("All is well")).await;
    service.signal("-STOP");
    until("it is said", async || {
        browser.text("#verdict").await.contains("connection to the service is lost")
    })
    .await;
    assert!(browser.count(".lost").await > 0, "what is old is grey");
    service.signal("-CONT");
    until("it is back", async || browser.text("#verdict").await.contains("All is well")).await;
    assert_eq!(browser.count(".lost").await, 0);
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn events_have_a_page_whose_address_says_what_is_asked_for() {
    let service = Service::with(&["gull", "tern"]).await;
    assert!(service.merismos(&["drain", "quay/gull", "--reason", "new disk"]).status.success());
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/events").await;
    until("all are there", async || {
        let text = browser.text("[data-testid=events]").await;
        text.contains("new disk") && text.contains("up after")
    })
    .await;
    browser.choose("main select", "duty").await;
    until("only duties are", async || {
        let text = browser.text("[data-testid=events]").await;
        text.contains("new disk") && !text.contains("up after")
    })
    .await;
    let address = browser.url().await;
    assert_eq!(address.query(), Some("kind=duty"));
    browser.goto(address.as_str()).await;
    until("it is the same when it is opened again", async || {
        let text = browser.text("[data-testid=events]").await;
        text.contains("new disk") && !text.contains("up after")
    })
    .await;
    browser.goto(&format!("{}/no/such/page", service.url())).await;
    until("an unknown page is none", async || {
        browser.text("[aria-label='No such page']").await.contains("There is nothing at /no/such/page")
    })
    .await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nodes_are_shown_on_their_page_and_forgotten_when_they_are_gone() {
    let north = Service::with(&["gull"]).await;
    let mut south = north.beside("south", &[]).await;
    let browser = Browser::start().await;
    browser.log_in(&north).await;
    browser.go("/").await;
    until("the top names this node and counts the others", async || {
        browser.text("header").await.contains("node north, 1 of 2")
    })
    .await;
    browser.click("a[href='/nodes']").await;
    until("both are there", async || {
        let page = browser.text("main").await;
        page.matches("alive").count() == 2 && page.contains("(this one)") && page.contains("● leads")
    })
    .await;
    // An event of the other node comes by itself.
    let made = south.client().create_token(&"kittiwake".parse().unwrap()).await.unwrap();
    browser.go("/events").await;
    until("it is there, with its node", async || {
        let page = browser.text("main").await;
        page.contains("token kittiwake") && page.contains("south")
    })
    .await;
    until("the token holds here too", async || {
        merismos_client::Client::new(&north.url(), &made.token).unwrap().status().await.is_ok()
    })
    .await;
    south.signal("-KILL");
    south.ended().await;
    browser.click("a[href='/nodes']").await;
    until("it is gone", async || browser.text("main").await.contains("gone for")).await;
    browser.press("Forget it …").await;
    browser.press("Forget it").await;
    until("it is forgotten", async || {
        let page = browser.text("main").await;
        page.contains("This node is alone") && !page.contains("gone for")
    })
    .await;
    browser.end().await;
}
