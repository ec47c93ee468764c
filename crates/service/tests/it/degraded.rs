//! Traffic flows, and not as it is meant to: clients get errors, or another pool or tier does the work. A reader of the
//! status, at the events or at their messages learns of it.

use merismos_api::{Event, EventFilter, EventKind};
use merismos_lab::free::free_address;
use merismos_lab::stand_in::{Fault, StandIn};

use crate::harness::{Database, Service, until};

/// A message of all that happens to traffic, for a post box of its own.
fn message(bell: &StandIn) -> String {
    format!(
        "\n[notifications.bell]\nwebhook = \"http://{}/\"\nbatch_window = \"100ms\"\nmin_interval = \"1s\"\n\
         changes = [\"failing\", \"answering\", \"moved\", \"moved-back\"]\n",
        bell.address
    )
}

async fn events(service: &Service, kind: EventKind) -> Vec<Event> {
    let mut events = service.client().events(200).await.unwrap().events;
    events.retain(|event| event.kind == kind);
    events.reverse();
    events
}

async fn headline(service: &Service, part: &str) -> bool {
    service.status().await.troubles.iter().any(|trouble| trouble.contains(part))
}

fn has_message(bell: &StandIn, part: &str) -> bool {
    bell.inbox().iter().any(|message| message.text.contains(part))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn clients_who_get_errors_are_a_headline_an_event_and_a_message() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let bell = StandIn::for_posts("bell", free_address()).unwrap();
    // A check that the errors do not concern.
    let check = "kind = \"http\"\npath = \"/health\"\n";
    let text = service.document().replace(check, "kind = \"tcp\"\n") + &message(&bell);
    service.apply(&text).await.unwrap();
    service.all_up().await;
    for _ in 0..20 {
        assert_eq!(service.get().await.unwrap().0, 200);
    }
    service.stand_ins[0].set(Fault::Error { status: 500 }).await;
    for _ in 0..8 {
        let _ = service.get().await.unwrap();
    }
    assert!(!headline(&service, "of the last minute failed").await, "four of 28 are too few");
    for _ in 0..12 {
        let _ = service.get().await.unwrap();
    }
    let says = "frontend harbour: 10 of 40 requests of the last minute failed: 10 answered 5xx by servers";
    until("the status says so", async || headline(&service, says).await).await;
    assert_eq!(service.status().await.frontends[0].errors, 10);
    // The service looks once a second: how many had failed by then depends on when that was.
    until("a notification was sent", async || has_message(&bell, "answered 5xx by servers")).await;
    let reported = events(&service, EventKind::Traffic).await;
    assert_eq!((reported.len(), reported[0].subject.as_str()), (1, "frontend harbour"));
    assert!(reported[0].message.ends_with(" answered 5xx by servers"), "{}", reported[0].message);

    // Withdrawn servers are no errors of theirs, and a client's failure all the same.
    service.stand_ins[0].set(Fault::None).await;
    for _ in 0..200 {
        assert_eq!(service.get().await.unwrap().0, 200);
    }
    until("it is over", async || has_message(&bell, "its clients are answered well again")).await;
    assert!(!headline(&service, "of the last minute failed").await);
    let reported = events(&service, EventKind::Traffic).await;
    assert_eq!(reported.last().unwrap().message, "its clients are answered well again");
    let off = text.replace("pool = \"quay\"\n", "pool = \"quay\"\nfailing_share = 0\n");
    service.apply(&off).await.unwrap();
    service.stand_ins[0].set(Fault::Error { status: 500 }).await;
    for _ in 0..60 {
        let _ = service.get().await.unwrap();
    }
    until("they are counted", async || service.status().await.frontends[0].errors >= 40).await;
    assert!(!headline(&service, "of the last minute failed").await, "it is switched off");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn work_that_goes_to_another_pool_or_the_last_resort_is_told_and_so_is_its_way_back() {
    let service = Service::bare(Database::shared(), &["gull", "tern", "auk"]).await;
    let bell = StandIn::for_posts("bell", free_address()).unwrap();
    let own = |pool: &str, name: &str| {
        let stand_in = service.stand_ins.iter().find(|stand_in| stand_in.name == name).unwrap();
        format!("\n[pools.{pool}]\ncheck = \"well\"\nservers.{name}.address = \"{}\"\n", stand_in.address)
    };
    let text = service.document();
    let text = text[..text.find("\n[pools.quay.servers.tern]").unwrap()]
        .replace("pool = \"quay\"\n", "pool = \"quay\"\nnext_pools = [\"pier\"]\nlast_resort = \"slip\"\n")
        + &own("pier", "tern")
        + &own("slip", "auk")
        + &message(&bell);
    service.apply(&text).await.unwrap();
    service.all_up().await;
    assert_eq!(service.status().await.troubles, Vec::<String>::new());

    service.stand_ins[0].set(Fault::Refuse).await;
    let says =
        "its work goes to pool pier, for those before it are not usable (quay: 0 of 1 servers eligible)";
    until("the next pool", async || headline(&service, &format!("frontend harbour: {says}")).await).await;
    service.stand_ins[1].set(Fault::Refuse).await;
    let resort = "all its work goes to the last resort, pool slip, for no other is usable (quay: 0 of 1 servers \
                  eligible; pier: 0 of 1 servers eligible)";
    until("the last resort", async || headline(&service, resort).await).await;
    service.stand_ins[0].set(Fault::None).await;
    until("the event says that work is back", async || {
        has_message(&bell, "its work goes where it is meant to again")
    })
    .await;
    assert!(has_message(&bell, says) && has_message(&bell, resort));
    let says: Vec<String> =
        events(&service, EventKind::Traffic).await.into_iter().map(|event| event.message).collect();
    assert_eq!(says.len(), 3, "{says:#?}");
    assert!(!headline(&service, "its work goes").await);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_tier_that_stands_in_for_the_first_is_told() {
    let service = Service::bare(Database::shared(), &["gull", "tern"]).await;
    let bell = StandIn::for_posts("bell", free_address()).unwrap();
    let tern = "[pools.quay.servers.tern]\n";
    let text = service.document().replace(tern, &format!("{tern}tier = 1\n")) + &message(&bell);
    service.apply(&text).await.unwrap();
    until("gull is up", async || service.status().await.pools[0].eligible == 1).await;
    service.stand_ins[0].set(Fault::Refuse).await;
    until("the status says so", async || headline(&service, "pool quay: tier 1 works, and not tier 0").await)
        .await;
    service.stand_ins[0].set(Fault::None).await;
    until("work is back", async || has_message(&bell, "tier 0 works now, after tier 1")).await;
    assert!(has_message(&bell, "tier 1 works now, after tier 0"));
    let says: Vec<String> =
        events(&service, EventKind::Tier).await.into_iter().map(|event| event.message).collect();
    assert_eq!(says, ["tier 1 works now, after tier 0", "tier 0 works now, after tier 1"]);
    assert!(!headline(&service, "tier 1 works").await);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_whose_pinned_clients_still_come_is_not_called_drained() {
    let service = Service::bare(Database::shared(), &["gull"]).await;
    let text = service.document().replace("[pools.quay]\n", "[pools.quay]\npersistence = \"cookie\"\n");
    service.apply(&text).await.unwrap();
    service.all_up().await;
    let client = crate::harness::http_client();
    let url = format!("http://{}/", service.frontend);
    let first = client.get(&url).send().await.unwrap();
    let cookie = first.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let drain = ["drain", "quay/gull", "--reason", "new disk", "--anyway"];
    assert!(service.merismos(&drain).status.success());
    let status = || String::from_utf8(service.merismos(&["status"]).stdout).unwrap();
    let says = "nothing is open, no work begun for ";
    until("it is watched", async || status().contains(says)).await;
    assert!(status().contains("clients that are tied to it may still come"), "{}", status());
    assert!(!status().contains("  drained"), "{}", status());
    let quiet = async || service.server("gull").await.draining.unwrap().quiet_since.unwrap();
    let before = quiet().await;
    assert_eq!(client.get(&url).header("cookie", cookie).send().await.unwrap().status(), 200);
    until("it came to it, and that shows", async || quiet().await > before).await;
    // Where nothing ties clients, a server that has nothing in flight is done.
    service.apply(&service.document()).await.unwrap();
    until("it is drained", async || status().contains("  drained")).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn events_are_found_by_kind_object_author_and_time() {
    let service = Service::with(&["gull", "tern"]).await;
    for (verb, server) in [("drain", "quay/gull"), ("return", "quay/gull"), ("withdraw", "quay/tern")] {
        assert!(service.merismos(&[verb, server, "--reason", "100%_sure"]).status.success());
    }
    let client = service.client();
    let written = async || client.events(1_000).await.unwrap().events;
    until("the database has them", async || {
        let all = written().await;
        all.len() >= 6 && all.iter().filter(|event| event.kind == EventKind::Duty).count() == 3
    })
    .await;
    let all = written().await;
    let middle = all[all.len() / 2].clone();
    let text = |text: &str| Some(text.to_owned());
    let filters = [
        EventFilter { kinds: vec![EventKind::Duty, EventKind::Revision], ..EventFilter::default() },
        EventFilter { object: text("quay"), ..EventFilter::default() },
        EventFilter { object: text("quay/gull"), ..EventFilter::default() },
        EventFilter { object: text("node"), ..EventFilter::default() },
        EventFilter { object: text("1"), ..EventFilter::default() },
        EventFilter { object: text("quay%"), ..EventFilter::default() },
        EventFilter { by: text("admin"), ..EventFilter::default() },
        EventFilter { by: text("fir"), ..EventFilter::default() },
        EventFilter { since: Some(middle.at), ..EventFilter::default() },
        EventFilter { until: Some(middle.at), ..EventFilter::default() },
        EventFilter { before: Some(middle.id), kinds: vec![EventKind::Health], ..EventFilter::default() },
    ];
    let mut found_some = 0;
    for filter in filters {
        let found: Vec<u64> =
            client.events_like(&filter, 1_000).await.unwrap().events.iter().map(|event| event.id).collect();
        let expected: Vec<u64> =
            all.iter().filter(|event| filter.wants(event)).map(|event| event.id).collect();
        assert_eq!(found, expected, "{filter:?}");
        found_some += usize::from(!found.is_empty());
    }
    assert!(found_some >= 8, "{found_some}");
    let odd = EventFilter { by: text("first.*"), ..EventFilter::default() };
    assert!(client.events_like(&odd, 10).await.is_err(), "that is no name");
    let shown = service.merismos(&[
        "events",
        "--kind",
        "duty",
        "--object",
        "quay/gull",
        "--by",
        "admin",
        "--since",
        "5m",
    ]);
    let shown = String::from_utf8(shown.stdout).unwrap();
    assert_eq!(shown.lines().count(), 2, "{shown}");
    let wrong = service.merismos(&["events", "--kind", "duties"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8(wrong.stderr).unwrap().contains("wanted one of health, duty"));
}
