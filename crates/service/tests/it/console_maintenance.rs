//! Maintenance in a real browser: windows are planned, rolls are begun and worked through.

use merismos_api::WindowQuery;
use merismos_core::duty::Duty;
use merismos_core::roll::RollState;

use crate::browser::Browser;
use crate::harness::{Service, until};

async fn windows(service: &Service) -> Vec<merismos_api::WindowView> {
    service.client().windows(&WindowQuery::default()).await.unwrap().windows
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn windows_are_planned_and_removed_in_the_console() {
    let service = Service::with(&["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/maintenance").await;
    browser.press("New window").await;
    browser.set("Name", "disks").await;
    browser.set("Servers", "quay/gull, quay/tern").await;
    browser.type_over("#window-start", "2036-12-02T22:00").await;
    browser.set("Time zone", "Europe/Oslo").await;
    browser.choose("#window-repeat", "FREQ=WEEKLY").await;
    browser.set("Reason", "new disks").await;
    browser.press("Plan it").await;
    until("the guard speaks", async || {
        browser
            .text("[role=alert]")
            .await
            .contains("pool quay would have no eligible server without gull, tern")
    })
    .await;
    assert!(windows(&service).await.is_empty());
    browser.set("Servers", "quay/gull").await;
    browser.press("Plan it").await;
    until("it is planned", async || windows(&service).await.len() == 1).await;
    let plan = windows(&service).await.remove(0).plan;
    assert_eq!(
        (plan.schedule.zone.as_str(), plan.schedule.repeat.as_deref()),
        ("Europe/Oslo", Some("FREQ=WEEKLY"))
    );
    until("it is listed", async || browser.text("[data-window=disks]").await.contains("new disks by admin"))
        .await;
    browser.click("[data-window=disks] button").await;
    browser.press("Remove disks now").await;
    until("it is removed", async || windows(&service).await.is_empty()).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn maintenance_of_a_frontend_begins_and_ends_in_the_console() {
    let service = Service::with(&["gull"]).await;
    service
        .apply(&format!("{}\n[networks]\noffice = [\"192.0.2.0/24\"]\n", service.document()))
        .await
        .unwrap();
    until("it serves", async || service.get().await.is_ok_and(|(status, _)| status == 200)).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/frontends").await;
    browser.click("a[href='/frontends/harbour']").await;
    browser.press("Maintenance …").await;
    until("a reason is missing", async || {
        browser.text("dialog").await.contains("Still to be filled in: Reason.")
    })
    .await;
    browser.type_over("#maintenance-reason", "new booking engine").await;
    browser.type_over("#maintenance-networks", "office\n").await;
    browser.type_over("#maintenance-after", "1h").await;
    browser.type_over("#maintenance-page", "<h1>Back at noon.</h1>").await;
    browser.make_live("Begin maintenance", "office").await;
    until("clients get the page", async || service.get().await.is_ok_and(|(status, _)| status == 503)).await;
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let answer = http.get(format!("http://{}/", service.frontend)).send().await.unwrap();
    assert_eq!(answer.headers()["retry-after"], "3600");
    assert_eq!(answer.text().await.unwrap(), "<h1>Back at noon.</h1>");
    until("every page shows it", async || {
        browser.text("body").await.contains("in maintenance: new booking engine")
    })
    .await;
    browser.press("End maintenance …").await;
    browser.make_live("End maintenance", "maintenance").await;
    until("clients get the application", async || service.get().await.is_ok_and(|(status, _)| status == 200))
        .await;
    until("it can begin again", async || browser.text("main").await.contains("Maintenance …")).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_roll_is_worked_through_in_the_console() {
    let service = Service::with(&["gull", "tern"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/maintenance").await;
    browser.press("New roll").await;
    browser.set("Pool", "quay").await;
    browser.set("Watch after return", "").await;
    browser.set("Reason", "updates").await;
    browser.press("Show the plan").await;
    until("the plan is shown", async || {
        browser.text("[data-testid=roll-plan]").await.contains("2 servers, 1 at once: quay/gull, quay/tern.")
    })
    .await;
    assert!(service.client().rolls().await.unwrap().rolls.is_empty(), "nothing has begun");
    browser.press("Begin the roll").await;
    browser.wait_for("[data-out='quay/gull']").await;
    browser.press("Work on quay/gull is done").await;
    browser.press("Work on quay/tern is done").await;
    until("it is finished", async || service.client().roll(1).await.unwrap().state == RollState::Finished)
        .await;
    until("that is shown", async || browser.text("[data-roll='1']").await.contains("finished · 2 of 2 done"))
        .await;
    for server in ["gull", "tern"] {
        assert_eq!(service.server(server).await.duty.unwrap().duty, Duty::InService);
    }
    until("all are in service", async || browser.text("main").await.contains("Every server is in service."))
        .await;
    assert!(browser.complaints().await.is_empty());
    browser.end().await;
}
