//! The console's forms in a real browser: what is typed is not lost, and mistakes stand where they were made.

use merismos_core::config::edit::Edit;
use serde_json::json;

use crate::browser::Browser;
use crate::harness::{Database, Service, until};

async fn change(service: &Service, object: &str, keys: serde_json::Value) {
    let keys = keys.as_object().unwrap().clone();
    make(service, Edit::Change { object: object.parse().unwrap(), keys }).await;
}

async fn make(service: &Service, edit: Edit) {
    let going = merismos_api::ApplyOptions { accept: Vec::new(), ..Default::default() };
    service.client().change(&merismos_api::ChangeRequest { edits: vec![edit], going }).await.unwrap();
}

async fn weights(service: &Service) -> Vec<u16> {
    service.status().await.pools[0].servers.iter().map(|server| server.weight).collect()
}

const GULL: &str = "input[aria-label='Weight of quay/gull']";
const TERN: &str = "input[aria-label='Weight of quay/tern']";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_typed_stays_when_a_page_is_left_loaded_anew_or_its_object_removed() {
    let service = Service::with(&["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;

    // Weights, over another page and a reload, which asks first.
    browser.go("/pools").await;
    browser.click("a[href='/pools/quay']").await;
    browser.type_over(GULL, "7").await;
    browser.go("/checks").await;
    until("the top says so", async || {
        browser.text("[data-testid=unsaved]").await.contains("weights of quay")
    })
    .await;
    browser.reload_against_a_question().await;
    browser.click("[data-testid=unsaved] a").await;
    until("it is still here", async || browser.text("[data-testid=kept]").await.contains("are still here"))
        .await;
    assert_eq!(browser.value(GULL).await, "7");
    assert_eq!(weights(&service).await, [1, 1], "nothing is live yet");
    browser.make_live("Apply", "weight of server quay/gull: 1 (default) to 7").await;
    until("it is made", async || weights(&service).await == [7, 1]).await;
    until("nothing is left", async || browser.text("[data-testid=unsaved]").await.is_empty()).await;

    // Two people who type the same field: the second learns of it, and nothing is overwritten in silence.
    browser.type_over(TERN, "5").await;
    change(&service, "pools.quay.servers.tern", json!({ "weight": 3 })).await;
    until("the other page shows it", async || {
        browser.text("[data-testid=clash]").await.contains("Another change set it to 3 meanwhile, from 1")
    })
    .await;
    assert_eq!(browser.value(TERN).await, "5");
    browser.press("Forget them").await;
    until("what is so is shown", async || browser.value(TERN).await == "3").await;

    // A form of a check, which a colleague removes.
    let add = |path: &str| Edit::Add {
        object: path.parse().unwrap(),
        keys: json!({ "kind": "http", "path": "/a" }).as_object().unwrap().clone(),
    };
    make(&service, add("checks.deep")).await;
    browser.go("/checks").await;
    browser.click("a[href='/checks/deep']").await;
    browser.set("Path", "/b").await;
    change(&service, "checks.deep", json!({ "path": "/c" })).await;
    until("the field says so", async || {
        browser.text("[data-testid=clash]").await.contains("set it to /c meanwhile, from /a")
    })
    .await;
    make(&service, Edit::Remove { object: "checks.deep".parse().unwrap() }).await;
    until("it is said to be gone", async || browser.text("main").await.contains("it can be made anew")).await;
    browser.make_live("Create again", "add check deep (kind http, path /b").await;
    until("it is there again", async || {
        service
            .client()
            .object(&"checks.deep".parse().unwrap(), None)
            .await
            .is_ok_and(|object| object.keys["path"] == "/b")
    })
    .await;

    // A draft is not thrown away at one press.
    browser.go("/changes").await;
    browser.fill("input[placeholder='autumn-timetable']", "autumn").await;
    browser.press("Create draft").await;
    browser.press("Throw it away …").await;
    browser.press("Keep it").await;
    assert!(service.client().draft(&"autumn".parse().unwrap()).await.is_ok());
    browser.press("Throw it away …").await;
    browser.press("Throw it away").await;
    until("it is gone", async || service.client().draft(&"autumn".parse().unwrap()).await.is_err()).await;
    // The page asked for what was not there any more.
    let mut complaints = browser.complaints().await;
    complaints.retain(|complaint| {
        !complaint["message"].as_str().is_some_and(|message| message.contains("/objects/checks.deep"))
    });
    assert!(complaints.is_empty(), "{complaints:#?}");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn mistakes_stand_at_their_field_and_nothing_goes_live_beside_them() {
    let service = Service::with(&["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/pools").await;
    browser.click("a[href='/pools/quay']").await;
    for wrong in ["abc", "-1", "2.5", "", "1001"] {
        browser.type_over(GULL, wrong).await;
        browser.type_over(TERN, "4").await;
        let found = if wrong.is_empty() { "found nothing".to_owned() } else { format!("found {wrong}") };
        until(&found, async || {
            browser
                .text("main")
                .await
                .contains(&format!("✕ {found}. Right would be: a whole number from 0 to 1000"))
        })
        .await;
        assert_eq!(browser.attribute(GULL, "aria-invalid").await.as_deref(), Some("true"), "{wrong}");
        assert_eq!(browser.attribute(TERN, "aria-invalid").await, None);
        until("the button waits", async || {
            browser.text("main").await.contains("One mistake stands at its field.")
        })
        .await;
        let free = "xpath=//button[normalize-space()='Apply' and not(@disabled)]";
        assert_eq!(browser.count(free).await, 0, "{wrong}");
    }
    browser.type_over(GULL, "2").await;
    browser.make_live("Apply", "weight of server quay/tern: 1 (default) to 4").await;
    until("both are made", async || weights(&service).await == [2, 4]).await;

    let share = "input[aria-label='Share of quay/gull in percent']";
    // What is being typed stays when another operator changes a weight meanwhile.
    browser.type_over(share, "14").await;
    change(&service, "pools.quay.servers.tern", json!({ "weight": 6 })).await;
    until("the other weight is shown", async || browser.value(TERN).await == "6").await;
    assert_eq!(browser.value(share).await, "14");
    browser.type_over(share, "140 %\t").await;
    until("a share beyond all", async || {
        browser.text("main").await.contains("found 140 %. Right would be: 0 to 100")
    })
    .await;
    browser.type_over(share, "50\t").await;
    until("a share that can be", async || !browser.text("main").await.contains("found 140")).await;
    browser.press("Forget them").await;

    // What the service finds wrong stands at its field too, and a folded part opens.
    browser.press("Settings").await;
    browser.press("▸ All other keys").await;
    browser.set("Attempts", "99").await;
    let attempts = "#field-attempts";
    until("the field is marked", async || {
        browser.attribute(attempts, "aria-invalid").await.as_deref() == Some("true")
    })
    .await;
    assert!(
        browser.text("#wrong-attempts").await.contains("found"),
        "{}",
        browser.text("#wrong-attempts").await
    );

    // A name that can't be is said at the name.
    browser.go("/checks").await;
    browser.press("New check").await;
    browser.set("Name", "Bad Name").await;
    until("the name is marked", async || browser.text("#wrong-own-name").await.contains("found Bad Name"))
        .await;
    assert!(!browser.text("main").await.contains("Failed to deserialize"));
    browser.set("Name", "raw").await;
    browser.set("Check type", "tcp").await;
    browser.set("Send", "\\d").await;
    until("an escape that there is not", async || browser.text("#wrong-send").await.contains("escapes are"))
        .await;
    browser.set("Send", "\\x00PING\\r\\n").await;
    browser.make_live("Apply", "send 7 bytes: 00 50 49 4e 47 0d 0a").await;
    until("it is made", async || {
        service
            .client()
            .object(&"checks.raw".parse().unwrap(), None)
            .await
            .is_ok_and(|object| object.keys["send"] == "\0PING\r\n")
    })
    .await;
    until("it is shown as it was typed", async || browser.value("#field-send").await == "\\u0000PING\\r\\n")
        .await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_session_that_ended_asks_for_the_token_over_the_page_and_the_form_stays() {
    let service = Service::with(&["gull"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/checks").await;
    browser.click("a[href='/checks/well']").await;
    browser.set("Path", "/deeper").await;
    until("it was asked about", async || {
        browser.text("[data-testid=consequences]").await.contains("/health to /deeper")
    })
    .await;
    assert!(browser.cookies().await.contains(&"merismos_session".to_owned()));
    browser.clear_cookies().await;
    browser.fill("#field-path", "st").await;
    until("the log-in lies over the page", async || {
        browser.text("dialog").await.contains("Your session has ended")
    })
    .await;
    assert!(!browser.text("#app").await.contains("Authorization"));
    assert_eq!(browser.value("#field-path").await, "/deeperst");
    browser.fill("#token", &service.token()).await;
    browser.press("Log in").await;
    until("the page is free again", async || browser.text("dialog").await.is_empty()).await;
    assert_eq!(browser.value("#field-path").await, "/deeperst");
    until("and asks again", async || {
        browser.text("[data-testid=consequences]").await.contains("/health to /deeperst")
    })
    .await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn several_servers_get_one_duty_and_rows_say_by_whom_and_why() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.goto(&format!("{}/pools/quay?state=eligible", service.url())).await;
    browser.click("[aria-label='Pick quay/gull']").await;
    browser.click("[aria-label='Pick quay/tern']").await;
    browser.press("Duty of 2 …").await;
    browser.fill("#reason", "new disks").await;
    browser.press("Drain").await;
    until("both are out", async || {
        let status = service.status().await;
        status.pools[0]
            .servers
            .iter()
            .filter(|server| server.duty.as_ref().is_some_and(|duty| duty.reason == "new disks"))
            .count()
            == 2
    })
    .await;
    until("the progress of both is shown", async || browser.count("dialog [data-drain]").await == 2).await;
    browser.click("dialog [aria-label=Close]").await;
    until("only those that are eligible are listed", async || browser.count("[data-server]").await == 1)
        .await;
    browser.goto(&format!("{}/pools/quay?state=out", service.url())).await;
    until("who, why and since", async || {
        let says = browser.text("[data-server='quay/gull'] [data-testid=duty-why]").await;
        says.starts_with("by admin, ") && says.ends_with("ago: new disks")
    })
    .await;
    assert_eq!(browser.count("[data-server]").await, 2);
    // A tab stands in the address as well, and a page has its title.
    browser.press("Settings").await;
    until("the tab is in the address", async || {
        browser.url().await.query().is_some_and(|query| query.contains("tab=settings"))
    })
    .await;
    assert_eq!(browser.title().await, "quay · Pools · Merismos");
    browser.goto(&format!("{}/pools?state=empty", service.url())).await;
    until("no pool is empty", async || browser.text("main").await.contains("No pool matches.")).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn long_words_and_narrow_windows_make_no_page_wider_than_its_window() {
    let service = Service::bare(Database::shared(), &["gull"]).await;
    let long = format!("a{}", "b".repeat(62));
    let word = "x".repeat(480);
    let address = service.stand_ins[0].address;
    let text = format!(
        "format = 3\n[checks.{long}]\nkind = \"tcp\"\nnote = \"{word}\"\n[networks]\n{long} = [\"192.0.2.0/24\"]\n\
         [hosts.{long}]\naddress = \"192.0.2.7\"\nnote = \"{word}\"\n[ranges.{long}]\naddresses = \"127.0.3.0/24\"\nnote = \"{word}\"\n\
         [pools.{long}]\ncheck = \"{long}\"\nnote = \"{word}\"\nservers.{long} = {{ address = \"{address}\", note = \"{word}\" }}\n\
         [frontends.{long}]\nprotocol = \"http\"\nlisten = \"{}\"\npool = \"{long}\"\nnote = \"{word}\"\n\
         [notifications.{long}]\nwebhook = \"http://127.0.0.1:9/{word}\"\nnote = \"{word}\"\n",
        service.frontend
    );
    service.apply(&text).await.unwrap();
    // An event names the pool, the server and the check.
    service.stand_ins[0].set(merismos_lab::stand_in::Fault::Refuse).await;
    until("the server is down", async || {
        service.status().await.pools[0].servers[0].health.state == merismos_core::health::HealthState::Down
    })
    .await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    for width in [1280, 390] {
        browser.narrow_to(width).await;
        for page in [
            "/",
            "/frontends",
            "/pools",
            "/checks",
            "/hosts",
            "/maintenance",
            "/ranges",
            "/networks",
            "/notifications",
            "/changes",
            "/changes/revisions/1",
            "/events",
            "/access",
        ]
        .iter()
        .map(|word| (*word).to_owned())
        .chain(
            ["frontends", "pools", "checks", "hosts", "ranges", "networks", "notifications"]
                .map(|kind| format!("/{kind}/{long}")),
        ) {
            browser.goto(&format!("{}{page}", service.url())).await;
            until(&page, async || {
                let text = browser.text("main, section[aria-label=Servers]").await;
                !text.is_empty() && !text.contains("Asking …")
            })
            .await;
            let wide = browser.overhang().await;
            assert_eq!(wide, "", "{page} at {width}");
        }
        browser.goto(&format!("{}/", service.url())).await;
        until("the drawing is there", async || browser.count("[data-testid=flow] text").await > 0).await;
        assert_eq!(browser.overlaps("[data-testid=flow] text").await, "", "the drawing at {width}");
        browser.click(&format!("[aria-label='Try {long} …']")).await;
        until("the dialog is open", async || browser.text("dialog").await.contains("real requests")).await;
        assert_eq!(browser.overhang().await, "", "the dialog of trials at {width}");
    }
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_is_made_on_one_page_and_removed_in_one_step() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.click("a[href='/new-service']").await;
    browser.set("Name", "catalogue").await;
    browser.set("Listen", "no address").await;
    until("what is missing is named", async || {
        browser.text("main").await.contains("Still to be filled in: Servers.")
    })
    .await;
    let lines = |path: &str| {
        format!("oak={}\nelm={}{path}", service.stand_ins[0].address, service.stand_ins[1].address)
    };
    browser.fill("#service-servers", &lines("")).await;
    until("the address is marked", async || {
        browser.attribute("#service-listen", "aria-invalid").await.as_deref() == Some("true")
    })
    .await;
    browser.set("Listen", &service.frontend.to_string()).await;
    // The check is tried before anything is saved.
    let path = "xpath=//label[starts-with(normalize-space(), 'Path')]/input";
    browser.type_over(path, "/nowhere").await;
    service.stand_ins[1].set(merismos_lab::stand_in::Fault::Refuse).await;
    until("the change is seen", async || {
        browser.text("[data-testid=consequences]").await.contains("path /nowhere")
    })
    .await;
    browser.press("Try it on the servers").await;
    until("it is said which server does not pass", async || {
        browser.text("[data-testid=tried]").await.contains("catalogue/elm")
    })
    .await;
    service.stand_ins[1].set(merismos_lab::stand_in::Fault::None).await;
    browser.type_over(path, "/health").await;
    until("the change is seen", async || {
        browser.text("[data-testid=consequences]").await.contains("path /health")
    })
    .await;
    browser.press("Try it on the servers").await;
    until("all pass", async || {
        browser.text("[data-testid=tried]").await.contains("Every server that is named passes")
    })
    .await;
    browser.make_live("Apply", "add frontend catalogue").await;
    until("it works", async || service.get().await.is_ok_and(|(status, _)| status == 200)).await;
    assert_eq!(service.status().await.revision.number, 1, "one revision");

    browser.go("/frontends").await;
    browser.click("a[href='/frontends/catalogue']").await;
    browser.press("Remove with its pools …").await;
    browser.make_live("Remove them", "remove check catalogue").await;
    until("nothing is left", async || {
        let status = service.status().await;
        status.revision.number == 2 && status.pools.is_empty() && status.frontends.is_empty()
    })
    .await;
    browser.end().await;
}
