//! Limits as an engineer meets them: watched first, then refusing, explained, counted and shown, against real clients in a hurry.

use std::io::Write;
use std::net::TcpStream;

use merismos_api::{EventKind, LimitView};

use crate::browser::Browser;
use crate::harness::{Service, until};
use crate::tls::{run, said};

fn with_limit(service: &Service, limit: &str) -> String {
    service.document().replacen("pool = \"quay\"\n", "pool = \"quay\"\nlimits = [\"visitor\"]\n", 1)
        + &format!("\n[limits.visitor]\n{limit}\n")
}

async fn limit(service: &Service) -> LimitView {
    service.client().limits().await.unwrap().limits.remove(0)
}

fn stdout(service: &Service, args: &[&str]) -> String {
    String::from_utf8(service.merismos(args).stdout).unwrap()
}

/// How many answers with a status of 200 to 299 and of 400 to 499 a load of `h2load` got.
fn answers(service: &Service, more: &[&str]) -> (u64, u64) {
    let url = format!("http://{}/", service.frontend);
    let load = said(&run("h2load", &[&["-n", "300", "-c", "3"], more, &[&url]].concat(), ""));
    let line =
        load.lines().find(|line| line.starts_with("status codes:")).unwrap_or_else(|| panic!("{load}"));
    let count = |of: &str| {
        let part = line.split([':', ',']).find(|part| part.trim().ends_with(of)).unwrap();
        part.split_whitespace().next().unwrap().parse().unwrap()
    };
    (count("2xx"), count("4xx"))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_limit_is_watched_and_then_bites() {
    let service = Service::with(&["gull"]).await;
    service.apply(&with_limit(&service, "rate = 60\nwithin = \"1h\"\naction = \"observe\"")).await.unwrap();
    until("the frontend serves", async || service.status().await.pools[0].eligible == 1).await;
    assert_eq!(answers(&service, &[]), (300, 0), "it only observes");
    let seen = limit(&service).await;
    assert_eq!((seen.passed + seen.observed, seen.refused), (300, 0), "{seen:?}");
    assert!((239..=240).contains(&seen.observed), "{seen:?}");
    assert_eq!(seen.held_off[0].network, "127.0.0.1/32");
    let shown = stdout(&service, &["limit", "counts"]);
    assert!(shown.contains("127.0.0.1/32") && shown.contains("60 within 1h"), "{shown}");
    until("an event says so", async || {
        let events = service.client().events(20).await.unwrap().events;
        events.iter().any(|event| {
            event.kind == EventKind::Traffic
                && event.subject == "limit visitor"
                && event.message.contains("it would hold off (it observes)")
        })
    })
    .await;

    let changed = service.merismos(&["limit", "change", "visitor", "--action", "refuse"]);
    assert!(changed.status.success(), "{changed:?}");
    for more in [&["--h1"][..], &["-m", "50"]] {
        assert_eq!(answers(&service, more), (0, 300), "what was used while it observed counts");
    }
    let explained = stdout(&service, &["explain", "harbour", "--client", "127.0.0.1"]);
    assert!(
        explained.contains("✗ limit visitor") && explained.contains("the client gets 429"),
        "{explained}"
    );
    let explained = stdout(&service, &["explain", "harbour", "--client", "192.0.2.7"]);
    assert!(explained.contains("✓ limit visitor") && explained.contains("quay/gull"), "{explained}");
    let trial = service.merismos(&["trial", "harbour", "--requests", "20"]);
    let said = String::from_utf8_lossy(&trial.stdout);
    assert_eq!(trial.status.code(), Some(1), "{said}");
    assert!(said.contains("20 requests were refused by a limit of clients (429)"), "{said}");
    let status = service.status().await;
    let frontend = status.frontends.iter().find(|frontend| frontend.name == "harbour").unwrap();
    assert_eq!((frontend.limited, status.pools[0].servers[0].totals.taken), (620, 300));
    assert!(stdout(&service, &["status"]).contains("LIMITED"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_in_a_hurry_leave_room_for_others() {
    let service = Service::with(&["gull"]).await;
    service
        .apply(&with_limit(&service, "rate = 20\nburst = 20\nin_flight = 4\nconnections = 30"))
        .await
        .unwrap();
    until("the frontend serves", async || service.status().await.pools[0].eligible == 1).await;
    // Slow clients of one address that hold connections: as many as one may have.
    let slow: Vec<TcpStream> = (0..40)
        .map(|_| {
            let mut stream = TcpStream::connect(service.frontend).unwrap();
            stream.write_all(b"GET / HTTP/1.1\r\nHost: a\r\n").unwrap();
            stream
        })
        .collect();
    let refused = async || limit(&service).await.refused;
    until("ten of them are refused", async || refused().await == 10).await;
    let is_refused = |stream: &TcpStream| {
        let mut text = [0; 12];
        stream.set_nonblocking(true).unwrap();
        stream.peek(&mut text).is_ok_and(|_| text == *b"HTTP/1.1 429")
    };
    until("they were given the reason", async || {
        slow.iter().filter(|stream| is_refused(stream)).count() == 10
    })
    .await;
    drop(slow);

    // Two seconds of one who asks as fast as it can, while another asks now and then.
    let url = format!("http://{}/", service.frontend);
    let (load, others) =
        tokio::join!(async { said(&run("wrk", &["-t", "1", "-c", "3", "-d", "2s", &url], "")) }, async {
            let http = reqwest::Client::builder()
                .no_proxy()
                .local_address("127.0.0.2".parse().ok())
                .build()
                .unwrap();
            let mut statuses = Vec::new();
            for _ in 0..10 {
                statuses.push(http.get(&url).send().await.unwrap().status().as_u16());
            }
            statuses
        });
    assert_eq!(others, [200; 10], "another client is not held off");
    let seen = limit(&service).await;
    let count = |line: &str| -> u64 {
        let found = load.lines().find(|it| it.contains(line)).unwrap_or_else(|| panic!("{load}"));
        found.split_whitespace().find_map(|word| word.parse().ok()).unwrap()
    };
    let (all, bad) = (count("requests in"), count("Non-2xx"));
    assert!(bad > 0 && all - bad <= 20 + 20 * 10, "twenty at once and twenty a second: {load}");
    assert!(seen.refused >= bad, "{seen:?} {load}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn limits_are_made_and_seen_in_the_console() {
    let service = Service::with(&["gull"]).await;
    let browser = Browser::start().await;
    browser.log_in(&service).await;
    browser.go("/rules").await;
    browser.click("a[href='/limits']").await;
    browser.press("New limit").await;
    browser.set("Name", "visitor").await;
    browser.set("Rate", "2").await;
    browser.set("Within", "1h").await;
    browser.make_live("Apply", "add limit visitor").await;
    until("it is shown", async || browser.text("main").await.contains("Limits / visitor")).await;
    until("it held off nobody", async || browser.text("main").await.contains("No client asked for more"))
        .await;
    let changed = service.merismos(&["frontend", "change", "harbour", "--limits", "visitor"]);
    assert!(changed.status.success(), "{changed:?}");
    until("the frontend serves", async || service.status().await.pools[0].eligible == 1).await;
    answers(&service, &["--h1"]);
    until("whom it held off is shown", async || {
        let text = browser.text("[data-testid=limit-counts]").await;
        text.contains("127.0.0.1/32") && text.contains("298")
    })
    .await;
    browser.go("/frontends").await;
    browser.click("a[href='/frontends/harbour']").await;
    browser.fill("section[aria-labelledby=explain-title] input[placeholder='/']", "/").await;
    browser.click("section[aria-labelledby=explain-title] button[type=submit]").await;
    until("the limit is explained", async || {
        browser.text("[data-testid=explained]").await.contains("limit visitor")
    })
    .await;
    let complaints = browser.complaints().await;
    assert!(complaints.is_empty(), "{complaints:#?}");
    browser.end().await;
}
