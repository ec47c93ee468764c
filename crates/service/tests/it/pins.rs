//! Pins that the service keeps: explained, listed, counted and removed, over deploys and renames.

use merismos_api::{DutyRequest, PinQuery};
use merismos_core::config::edit::Edit;
use merismos_core::duty::Duty;
use merismos_core::name::PoolServer;

use crate::harness::{Service, http_client, until};

/// The server that a request of an account goes to.
async fn home(service: &Service, account: &str) -> String {
    let request = http_client().get(format!("http://{}/", service.frontend)).header("x-account", account);
    let text = request.send().await.unwrap().text().await.unwrap();
    text.split_whitespace().next().unwrap_or_default().to_owned()
}

async fn by_account(service: &Service, keys: &str) {
    let keys = format!("[pools.quay]\npersistence = [\"header:X-Account\", \"cookie\"]\n{keys}");
    service.apply(&service.document().replace("[pools.quay]", &keys)).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pin_is_explained_with_its_end_and_holds_over_deploys_and_renames() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    by_account(&service, "pin_idle = \"10m\"").await;
    let first = home(&service, "17").await;
    let explain = async |account: &str| {
        let header = format!("X-Account: {account}");
        service.client().explain(&"harbour".parse().unwrap(), &[("header", header)]).await.unwrap()
    };
    let explained = explain("17").await;
    assert_eq!(explained.server.as_deref(), Some(format!("quay/{first}").as_str()));
    let pin = explained.pin.unwrap();
    assert_eq!((pin.kind.as_str(), pin.client.as_deref()), ("header:x-account", Some("127.0.0.1")));
    let left = pin.until.unwrap().since(pin.used.unwrap()).as_secs();
    assert_eq!(left, 600);
    assert!(
        explained.why.starts_with("its header:x-account ties it to this server, for "),
        "{}",
        explained.why
    );
    assert_eq!(explain("18").await.pin, None);
    // A deploy, and a rename of the server and of its pool.
    let rename =
        |object: &str, to: &str| Edit::Rename { object: object.parse().unwrap(), to: to.parse().unwrap() };
    let edits = vec![rename(&format!("pools.quay.servers.{first}"), "puffin"), rename("pools.quay", "pier")];
    let request = merismos_api::ChangeRequest { edits, going: merismos_api::ApplyOptions::default() };
    service.client().change(&request).await.unwrap();
    assert_eq!(explain("17").await.server.as_deref(), Some("pier/puffin"));
    for _ in 0..4 {
        assert_eq!(home(&service, "17").await, first, "its own name for itself stays");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pins_that_are_to_be_kept_hold_over_a_restart_and_a_crash() {
    let mut service = Service::with(&["gull", "tern", "auk"]).await;
    by_account(&service, "pin_keep = true").await;
    let mut homes = Vec::new();
    for account in 0..9 {
        homes.push(home(&service, &account.to_string()).await);
    }
    let same = async |service: &Service| {
        for (account, before) in homes.iter().enumerate() {
            assert_eq!(&home(service, &account.to_string()).await, before, "account {account}");
        }
    };
    service.signal("-TERM");
    assert!(service.ended().await.success());
    service.start().await;
    service.all_up().await;
    same(&service).await;
    let kept = service.client().pins(&"quay".parse().unwrap(), &PinQuery::default()).await.unwrap();
    assert_eq!(kept.kept, 9);
    // After a crash those are there that were written before it, and none that was removed.
    let removed = PinQuery { server: Some("gull".to_owned()), ..PinQuery::default() };
    let gone = service.client().remove_pins(&"quay".parse().unwrap(), &removed).await.unwrap().removed;
    let file = service.folder.path().join("state/pins/pool-quay.pins");
    until("they are written", async || {
        std::fs::metadata(&file).is_ok_and(|file| file.len() == 16 + 41 * (9 - gone))
    })
    .await;
    service.crash_and_restart().await;
    let kept = service.client().pins(&"quay".parse().unwrap(), &PinQuery::default()).await.unwrap();
    assert_eq!((kept.kept, gone), (9 - gone, 3));
    // A pool that keeps none any more leaves no file.
    by_account(&service, "").await;
    until("the file is gone", async || !file.exists()).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_new_key_loses_no_client_and_the_one_after_it_those_that_did_not_come() {
    let service = Service::with(&["gull", "tern", "auk"]).await;
    let text = service.document().replace("[pools.quay]", "[pools.quay]\npersistence = \"cookie\"");
    service.apply(&text).await.unwrap();
    let visit = async |cookie: Option<&str>| {
        let mut request = http_client().get(format!("http://{}/", service.frontend));
        if let Some(cookie) = cookie {
            request = request.header("cookie", cookie);
        }
        let response = request.send().await.unwrap();
        let set = response
            .headers()
            .get("set-cookie")
            .map(|set| set.to_str().unwrap().split(';').next().unwrap().to_owned());
        (response.text().await.unwrap(), set)
    };
    let (home, cookie) = visit(None).await;
    let first = cookie.unwrap();
    assert_eq!(visit(Some(&first)).await, (home.clone(), None));
    let before = service.client().pin_key().await.unwrap();
    assert_eq!(before.before, None);
    let shown = service.merismos(&["pin", "key", "--new"]);
    let says = String::from_utf8(shown.stdout).unwrap();
    assert!(says.contains("hold until the next one is drawn"), "{says}");
    let (still, renewed) = visit(Some(&first)).await;
    assert_eq!(still, home);
    let second = renewed.expect("a cookie of the new key");
    assert_ne!(second, first);
    assert_eq!(visit(Some(&second)).await, (home.clone(), None));
    service.client().renew_pin_key().await.unwrap();
    assert_eq!(visit(Some(&second)).await.0, home);
    let (_, anew) = visit(Some(&first)).await;
    assert!(anew.is_some(), "it did not come between two keys: it is a new client");
    let refused =
        service.client().pins(&"quay".parse().unwrap(), &PinQuery::default()).await.unwrap().refused_cookies;
    assert_eq!(refused, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pins_are_listed_counted_and_removed() {
    let service = Service::with(&["gull", "tern"]).await;
    by_account(&service, "").await;
    for account in 0..10 {
        home(&service, &account.to_string()).await;
    }
    let pool = "quay".parse().unwrap();
    let pins = service.client().pins(&pool, &PinQuery::default()).await.unwrap();
    assert_eq!((pins.matching, pins.kept, pins.limit, pins.evicted), (10, 10, 100_000, 0));
    let status = service.status().await;
    let counts: Vec<_> = status.pools[0].servers.iter().map(|server| server.pins).collect();
    assert_eq!(counts, [Some(5), Some(5)]);
    for server in &status.pools[0].servers {
        assert_eq!(server.observed.minute.new_share, Some(0.5), "{}", server.server);
    }
    // One client that comes often pulls the shares out of shape; those of new clients stay.
    let often = home(&service, "3").await;
    for _ in 0..20 {
        home(&service, "3").await;
    }
    let server = service.server(&often).await;
    assert!(server.observed.minute.share.unwrap() > 0.8, "{:?}", server.observed);
    assert_eq!(server.observed.minute.new_share, Some(0.5));
    let said = service.merismos(&["pin", "list", "quay", "--server", "quay/gull"]);
    let text = String::from_utf8(said.stdout).unwrap();
    assert!(text.contains("header:x-account") && text.contains("5 of 5 shown; 10 pins are kept"), "{text}");
    assert!(!text.contains("quay/tern"), "{text}");
    let of_frontend = service.merismos(&["pin", "list", "harbour", "--server", "quay/gull"]);
    let text = String::from_utf8(of_frontend.stdout).unwrap();
    assert!(text.contains("5 of 5 shown; 10 pins are kept"), "a frontend stands for its pools: {text}");
    let unknown = service.merismos(&["pin", "list", "nowhere"]);
    assert_eq!(unknown.status.code(), Some(2));
    assert!(String::from_utf8(unknown.stderr).unwrap().contains("no pool and no frontend nowhere"));
    let wrong = service.merismos(&["pin", "remove", "quay"]);
    assert_eq!(wrong.status.code(), Some(2), "all are removed only when that is said");
    let removed = service.merismos(&["pin", "remove", "quay", "--server", "quay/gull"]);
    assert!(String::from_utf8(removed.stdout).unwrap().starts_with("5 pins were removed."));
    assert_eq!(service.server("gull").await.pins, Some(0));
    let other = PinQuery { client: Some("192.0.2.0/24".parse().unwrap()), ..PinQuery::default() };
    assert_eq!(service.client().remove_pins(&pool, &other).await.unwrap().removed, 0);
    let events = service.client().events(20).await.unwrap().events;
    let told = events.iter().any(|event| event.message == "5 pins of server gull removed by admin");
    assert!(told, "{events:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pins_end_with_their_kind_and_stay_when_another_comes_before_it() {
    let service = Service::with(&["gull", "tern"]).await;
    by_account(&service, "").await;
    let first = home(&service, "17").await;
    let pool = "quay".parse().unwrap();
    let kinds = async || {
        let pins = service.client().pins(&pool, &PinQuery::default()).await.unwrap().pins;
        pins.into_iter().map(|pin| pin.kind).collect::<Vec<_>>()
    };
    let tied_by = async |kinds: &str| {
        let keys = format!("[pools.quay]\npersistence = {kinds}\n");
        service.apply(&service.document().replace("[pools.quay]", &keys)).await.unwrap();
    };
    tied_by("[\"query:day\", \"header:X-Account\"]").await;
    assert_eq!(kinds().await, ["header:x-account"]);
    assert_eq!(home(&service, "17").await, first);
    tied_by("[\"query:day\", \"client-address\"]").await;
    assert_eq!(kinds().await, [""; 0]);
    assert_eq!(service.server(&first).await.pins, Some(0));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_table_that_is_full_is_told_and_the_oldest_pins_go() {
    let service = Service::with(&["gull", "tern"]).await;
    by_account(&service, "pin_limit = 100").await;
    let headline = async || {
        let troubles = service.status().await.troubles;
        troubles.into_iter().find(|trouble| trouble.starts_with("pool quay: there is room for 100 pins"))
    };
    for account in 0..100 {
        home(&service, &account.to_string()).await;
    }
    until("a second of it has passed", async || service.server("gull").await.observed.minute.share.is_some())
        .await;
    assert_eq!(headline().await, None, "there is room for so many");
    for account in 100..103 {
        home(&service, &account.to_string()).await;
    }
    // What has gone is counted once a second: the first count may have come between two of them.
    until("it is a headline, with all that have gone", async || {
        let counted = "Raise `pin_limit`, or lower `pin_idle`; 3 have gone so far";
        headline().await.is_some_and(|said| said.ends_with(counted))
    })
    .await;
    let events = service.client().events(20).await.unwrap().events;
    let told = events.iter().filter(|event| event.message.starts_with("there is room for 100 pins"));
    assert_eq!(told.count(), 1, "{events:?}");
    let pins = service.client().pins(&"quay".parse().unwrap(), &PinQuery::default()).await.unwrap();
    assert_eq!((pins.kept, pins.evicted), (100, 3));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_drain_ends_when_the_last_pin_is_gone() {
    let service = Service::with(&["gull", "tern"]).await;
    let keys = "[pools.quay]\npersistence = \"header:x-account\"\npin_idle = \"2s\"";
    service.apply(&service.document().replace("[pools.quay]", keys)).await.unwrap();
    let first = home(&service, "17").await;
    let server: PoolServer = format!("quay/{first}").parse().unwrap();
    let drain = DutyRequest::new(Duty::Draining, "new disk");
    let given = service.client().duty(&server, &drain).await.unwrap();
    let draining = given.draining.unwrap();
    assert_eq!((given.reached, draining.pins_left, draining.clients_tied), (false, Some(1), true));
    assert_eq!(home(&service, "17").await, first, "until then it goes on");
    until("its pin has ended, and it is safe to work", async || {
        service
            .server(&first)
            .await
            .draining
            .is_some_and(|draining| draining.safe && draining.pins_left == Some(0))
    })
    .await;
    assert_ne!(home(&service, "17").await, first);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_client_that_may_not_move_is_explained() {
    let service = Service::with(&["gull", "tern"]).await;
    by_account(&service, "pin_when_gone = \"refuse\"").await;
    let first = home(&service, "17").await;
    let server: PoolServer = format!("quay/{first}").parse().unwrap();
    service.client().duty(&server, &DutyRequest::new(Duty::Withdrawn, "new disk")).await.unwrap();
    let said = service.merismos(&["explain", "harbour", "--header", "X-Account: 17"]);
    let text = String::from_utf8(said.stdout).unwrap();
    assert_eq!(said.status.code(), Some(1), "{text}");
    let why = format!(
        "the client's pin (header:x-account) names quay/{first}: withdrawn by an operator; pin_when_gone is refuse"
    );
    assert!(text.contains(&why), "{text}");
    assert_eq!(
        http_client()
            .get(format!("http://{}/", service.frontend))
            .header("x-account", "17")
            .send()
            .await
            .unwrap()
            .status(),
        503
    );
}
