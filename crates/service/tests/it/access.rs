//! Who may do what, and what strangers get.

use std::os::unix::fs::PermissionsExt;

use reqwest::{Method, StatusCode};

use merismos_api::DutyRequest;
use merismos_client::Client;
use merismos_core::duty::Duty;

use crate::harness::{Database, PATIENCE, Service, http_client, sql, until};

fn http() -> reqwest::Client {
    crate::harness::http_client()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_but_the_log_in_page_is_open() {
    let service = Service::with(&["gull"]).await;
    for path in
        ["status", "events", "document", "stream", "trials", "openapi.json", "frontends/harbour/explain"]
    {
        for token in [None, Some("guess")] {
            let mut request = http().get(format!("{}/api/v1/{path}", service.url()));
            if let Some(token) = token {
                request = request.bearer_auth(token);
            }
            let response = request.send().await.unwrap();
            assert_eq!(response.status(), StatusCode::UNAUTHORIZED, "{path} with {token:?}");
            assert_eq!(response.headers()["content-type"], "application/problem+json");
            assert_eq!(response.headers()["www-authenticate"], "Bearer");
        }
    }
    let page = http().get(service.url()).send().await.unwrap();
    assert!(page.headers()["content-security-policy"].to_str().unwrap().contains("default-src 'none'"));
    let mode =
        std::fs::metadata(service.folder.path().join("state/first-token")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    assert!(!service.log().contains(&service.token()), "the token is never logged");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_consoles_cookie_works_and_not_from_other_pages() {
    let service = Service::with(&["gull"]).await;
    let session = format!("{}/api/v1/session", service.url());
    let wrong = http().post(&session).json(&serde_json::json!({ "token": "guess" })).send().await.unwrap();
    assert_eq!(wrong.status(), StatusCode::UNAUTHORIZED);
    let right =
        http().post(&session).json(&serde_json::json!({ "token": service.token() })).send().await.unwrap();
    assert_eq!(right.status(), StatusCode::NO_CONTENT);
    let set = right.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(set.contains("HttpOnly") && set.contains("SameSite=Strict"), "{set}");
    let cookie = set.split(';').next().unwrap();
    let call = |method: Method, origin: Option<&str>| {
        let duty = format!("{}/api/v1/servers/quay/gull/duty", service.url());
        let body = serde_json::json!({ "duty": "draining", "reason": "x", "anyway": true });
        let mut request = http().request(method, duty).header("cookie", cookie).json(&body);
        if let Some(origin) = origin {
            request = request.header("origin", origin);
        }
        async move { request.send().await.unwrap().status() }
    };
    assert_eq!(call(Method::POST, Some("http://evil.example")).await, StatusCode::UNAUTHORIZED);
    assert_eq!(call(Method::POST, Some(&service.url())).await, StatusCode::OK);
    let secret = cookie.split_once('=').unwrap().1;
    assert_ne!(secret, service.token(), "the cookie is a session's, not the token");
    let as_token =
        http().get(format!("{}/api/v1/status", service.url())).bearer_auth(secret).send().await.unwrap();
    assert_eq!(as_token.status(), StatusCode::UNAUTHORIZED, "and it is no token");
    let out = http().delete(&session).header("cookie", cookie).send().await.unwrap();
    assert_eq!(out.status(), StatusCode::NO_CONTENT);
    assert_eq!(call(Method::POST, None).await, StatusCode::UNAUTHORIZED, "it ends with the log-out");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn wrong_calls_are_answered_with_problem_documents() {
    let service = Service::with(&["gull"]).await;
    let cases = [
        (Method::GET, "nowhere", 404),
        (Method::DELETE, "status", 405),
        (Method::GET, "events?limit=0", 400),
        (Method::GET, "events?limit=many", 400),
        (Method::GET, "events?unknown=1", 400),
        (Method::GET, "frontends/Harbour/explain", 400),
        (Method::GET, "frontends/nowhere/explain", 404),
        (Method::GET, "trials/1", 404),
        (Method::GET, "trials/first", 400),
        (Method::POST, "apply", 415),
    ];
    for (method, path, status) in cases {
        let request = http().request(method.clone(), format!("{}/api/v1/{path}", service.url()));
        let response = request.bearer_auth(service.token()).send().await.unwrap();
        assert_eq!(response.status().as_u16(), status, "{method} {path}");
        assert_eq!(response.headers()["content-type"], "application/problem+json", "{method} {path}");
        let problem: merismos_api::ProblemDocument = response.json().await.unwrap();
        assert_eq!(problem.status, status);
        assert!(problem.detail.len() > 10, "{problem:?}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_openapi_document_is_whole() {
    let service = Service::with(&["gull"]).await;
    let url = format!("{}/api/v1/openapi.json", service.url());
    let text = http().get(url).bearer_auth(service.token()).send().await.unwrap().text().await.unwrap();
    let document: serde_json::Value = serde_json::from_str(&text).unwrap();
    assert!(document["openapi"].as_str().unwrap().starts_with("3.1"));
    for path in
        ["/api/v1/status", "/api/v1/apply", "/api/v1/trials/{id}", "/api/v1/session", "/api/v1/stream"]
    {
        assert!(document["paths"][path].is_object(), "{path}");
    }
    // The console's types are generated from this file.
    let file = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference/openapi.json");
    let pretty = serde_json::to_string_pretty(&document).unwrap() + "\n";
    if std::env::var_os("MERISMOS_WRITE_GOLDEN").is_some() {
        std::fs::write(&file, &pretty).unwrap();
    }
    assert!(
        std::fs::read_to_string(&file).unwrap() == pretty,
        "docs/reference/openapi.json is stale: MERISMOS_WRITE_GOLDEN=1 cargo test -p merismosd openapi"
    );

    let schemas = document["components"]["schemas"].as_object().unwrap();
    let missing: Vec<_> = text
        .split("\"#/components/schemas/")
        .skip(1)
        .map(|rest| rest.split('"').next().unwrap())
        .filter(|name| !schemas.contains_key(*name))
        .collect();
    assert!(missing.is_empty(), "{missing:?}");
    assert_eq!(document["info"]["title"], "Merismos");

    let mut ids = std::collections::BTreeSet::new();
    let paths = document["paths"].as_object().unwrap();
    for (call, operation) in paths.iter().flat_map(|(path, calls)| {
        calls
            .as_object()
            .unwrap()
            .iter()
            .map(move |(method, operation)| (format!("{method} {path}"), operation))
    }) {
        assert!(ids.insert(operation["operationId"].as_str().unwrap()), "{call} has an id of its own");
        assert!(operation["summary"].as_str().is_some_and(|says| !says.is_empty()), "{call}");
        let responses = operation["responses"].as_object().unwrap();
        let says_all = |response: &serde_json::Value| {
            response["description"].as_str().is_some_and(|says| !says.trim().is_empty())
        };
        assert!(responses.values().all(says_all), "{call}: {responses:?}");
        let takes_body = operation["requestBody"].is_object();
        let documented = ["400", "408", "413", "415", "422"].map(|status| responses.contains_key(status));
        assert!(
            responses.contains_key("500") && (!takes_body || documented == [true; 5]),
            "{call}: {responses:?}"
        );
        if takes_body {
            assert!(operation["requestBody"]["content"]["application/json"]["example"].is_object(), "{call}");
        }
        for parameter in operation["parameters"].as_array().into_iter().flatten() {
            let is_whole = says_all(parameter) && !parameter["example"].is_null();
            assert!(is_whole, "{call}: {parameter}");
        }
    }
    let name = &schemas["NewDraft"]["properties"]["name"];
    assert_eq!(name["pattern"], "^[a-z][a-z0-9-]{0,62}$");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_whole_number_may_be_written_with_a_point() {
    let service = Service::with(&["gull"]).await;
    let order = async |requests: &str| {
        let body = format!(r#"{{"frontend":"harbour","requests":{requests}}}"#);
        let post = http().post(format!("{}/api/v1/trials", service.url())).bearer_auth(service.token());
        let post = post.header("content-type", "application/json").body(body);
        post.send().await.unwrap().status().as_u16()
    };
    assert_eq!(order("3.0").await, 202);
    assert_eq!(order("3.5").await, 422);
    assert_eq!(order("3.0,").await, 400);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_empty_token_lets_nobody_in_whatever_the_files_and_the_database_hold() {
    let mut service = Service::bare(Database::shared(), &["gull"]).await;
    service.signal("-TERM");
    service.ended().await;
    // As a start on a full disk left it.
    std::fs::write(service.folder.path().join("state/first-token"), "").unwrap();
    service.start().await;
    assert_eq!(service.token().len(), 64, "a new one was made");
    let status = format!("{}/api/v1/status", service.url());
    for cookie in ["merismos_session=", "merismos_token=", "merismos_session= ; merismos_token="] {
        let response = http().get(&status).header("cookie", cookie).send().await.unwrap();
        assert_eq!(response.status(), StatusCode::UNAUTHORIZED, "{cookie}");
    }
    for token in ["", " "] {
        let response =
            http().get(&status).header("authorization", format!("Bearer {token}")).send().await.unwrap();
        assert_eq!(response.status(), StatusCode::UNAUTHORIZED);
    }
    assert!(service.status().await.troubles.iter().any(|trouble| trouble.contains("first-token")));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_token_that_is_taken_back_lets_nobody_in_at_once_nor_after_a_restart() {
    let mut service = Service::with(&["gull"]).await;
    let made = service.merismos(&["token", "create", "night-shift"]);
    assert!(made.status.success(), "{made:?}");
    let token = String::from_utf8(made.stdout).unwrap().trim().to_owned();
    let client = Client::new(&service.url(), &token).unwrap();
    let mut stream = client.stream().await.unwrap();
    stream.next().await.unwrap().unwrap();
    let again = service.merismos(&["token", "create", "night-shift"]);
    assert_eq!(again.status.code(), Some(3), "there is one of that name");
    let listed = String::from_utf8(service.merismos(&["token", "list"]).stdout).unwrap();
    assert!(listed.contains("admin") && listed.contains("night-shift"), "{listed}");

    assert!(service.merismos(&["token", "revoke", "night-shift"]).status.success());
    assert!(matches!(client.status().await, Err(error) if error.wants_token()));
    let ended = async { while let Some(Ok(_)) = stream.next().await {} };
    tokio::time::timeout(PATIENCE, ended).await.expect("its stream ends");
    service.crash_and_restart().await;
    assert!(matches!(client.status().await, Err(error) if error.wants_token()));
    let last = service.merismos(&["token", "revoke", "admin"]);
    assert_eq!(last.status.code(), Some(3), "the last one stays");
    assert!(service.status().await.node.wrong_tokens >= 1);
    let events = service.client().events(50).await.unwrap().events;
    assert!(events.iter().any(|event| event.message.contains("with a wrong token")), "{events:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_control_character_reaches_a_terminal_or_is_taken_from_one() {
    let service = Service::with(&["gull"]).await;
    let all: Vec<char> = merismos_core::text::not_plain().collect();
    // Typed: refused, each of them.
    let gull = "quay/gull".parse().unwrap();
    for character in &all {
        let reason = format!("new{character}disk");
        let order = DutyRequest { anyway: true, ..DutyRequest::new(Duty::Draining, reason.clone()) };
        assert!(service.client().duty(&gull, &order).await.is_err(), "{character:?} in a reason");
        let mut request = Service::request(&service.document());
        request.going.note = reason;
        assert!(service.client().apply(&request).await.is_err(), "{character:?} in a note");
    }
    let text: String = all.iter().collect();
    let note = serde_json::to_string(&text).unwrap();
    let Err(refused) = service.apply(&format!("{}note = {note}\n", service.document())).await else {
        panic!("it is refused")
    };
    assert!(refused.to_string().contains("refused"), "{refused}");
    // Recorded by an older release: escaped where it is shown.
    let Database::Shared(url) = &service.database else { panic!("the shared one") };
    let (base, name) = url.rsplit_once('/').unwrap();
    let bytes: String = text.bytes().map(|byte| format!("{byte:02x}")).collect();
    sql(
        base,
        &format!(
            "INSERT INTO {name}.event (id, at, kind, subject, says, detail) VALUES \
             (1, 1, 'health', CONVERT(X'{bytes}' USING utf8mb4), CONCAT('it says ', CONVERT(X'{bytes}' USING utf8mb4)), '{{}}')"
        ),
    );
    let shown = String::from_utf8(service.merismos(&["events"]).stdout).unwrap();
    let line = shown.lines().find(|line| line.contains("it says")).expect("the event is one line");
    assert!(line.chars().all(merismos_core::text::is_plain), "{line:?}");
    // A server that answers with them: its evidence is clean wherever it goes.
    service.stand_ins[0].set(merismos_lab::stand_in::Fault::WrongBody).await;
    for args in [&["status"][..], &["diagnose", "quay/gull"], &["check", "try", "well", "quay/gull"]] {
        let shown = String::from_utf8(service.merismos(args).stdout).unwrap();
        assert!(shown.lines().all(|line| line.chars().all(merismos_core::text::is_plain)), "{shown:?}");
    }
    let log = service.log();
    assert!(log.lines().all(|line| line.chars().all(merismos_core::text::is_plain)), "{log:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_watches_from_outside_learns_a_word_and_unknown_addresses_are_unknown() {
    let mut service = Service::bare(Database::shared(), &["gull"]).await;
    let http = crate::harness::http_client();
    let get = async |service: &Service, path: &str, accept: &str| {
        let answer =
            http.get(format!("{}{path}", service.url())).header("accept", accept).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    assert_eq!(get(&service, "/health/live", "*/*").await, (200, "live\n".to_owned()));
    assert_eq!(get(&service, "/health/ready", "*/*").await, (503, "not ready\n".to_owned()), "nothing runs");
    service.apply(&service.document()).await.unwrap();
    assert_eq!(get(&service, "/health/ready", "*/*").await, (200, "ready\n".to_owned()));
    for path in ["/healthz", "/metrics", "/pools/booking/servers", "/assets/none.js", "/changes/drafts"] {
        assert_eq!(get(&service, path, "*/*").await.0, 404, "{path}");
    }
    let (status, page) = get(&service, "/healthz", "text/html,*/*").await;
    assert!(status == 404 && page.contains("<html"), "{status}: {page}");
    assert!(get(&service, "/pools/booking", "*/*").await.1.contains("<html"));
    // It is on its way out: clients shall be sent elsewhere.
    let _open = std::net::TcpStream::connect(service.frontend).unwrap();
    let mut slow = std::net::TcpStream::connect(service.frontend).unwrap();
    std::io::Write::write_all(&mut slow, b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\nx")
        .unwrap();
    until("it is under way", async || service.status().await.pools[0].servers[0].in_flight == 1).await;
    service.signal("-TERM");
    until("it is not ready any more", async || get(&service, "/health/ready", "*/*").await.0 == 503).await;
    drop(slow);
    service.ended().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_call_that_is_sent_again_with_its_key_creates_nothing() {
    let service = Service::bare(Database::shared(), &[]).await;
    let call = async |name: &str, key: &str| {
        let request =
            http_client().post(format!("{}/api/v1/tokens", service.url())).bearer_auth(service.token());
        let body = serde_json::json!({ "name": name });
        let response = request.header("Idempotency-Key", key).json(&body).send().await.unwrap();
        (response.status().as_u16(), response.json::<serde_json::Value>().await.unwrap())
    };
    let (status, first) = call("night-shift", "a").await;
    assert_eq!((status, first["name"].as_str()), (200, Some("night-shift")));
    assert_eq!(call("night-shift", "a").await, (200, first), "the same token");
    let (status, problem) = call("day-shift", "a").await;
    assert_eq!((status, problem["type"].as_str()), (422, Some("/problems/idempotency-key")));
    assert_eq!(call("night-shift", "b").await.0, 409, "there is such a token");
    assert_eq!(call("day-shift", "b").await.0, 200, "a call that was refused may be made otherwise");
    let tokens = service.client().tokens().await.unwrap().tokens;
    assert_eq!(tokens.iter().filter(|token| token.name.ends_with("shift")).count(), 2);
    assert_eq!(call("x", " ").await.0, 422);
}
