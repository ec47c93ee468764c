//! Rules of a frontend on real sockets: where requests go, what they get instead, and what is counted.

use rstest::rstest;

use crate::http2;
use crate::rig::{Client, ConnectionEnd, Rig, Server};

/// A frontend before pool `quay`, with a pool `pier` beside it and these rules, listed in this order.
fn rig(quay: &Server, pier: &Server, frontend: &str, rules: &[(&str, &str)]) -> Rig {
    let names: Vec<&str> = rules.iter().map(|(name, _)| *name).collect();
    let frontend = format!("rules = {names:?}\n{frontend}");
    let mut more =
        format!("[pools.pier]\ncheck = \"up\"\n[pools.pier.servers.p0]\naddress = \"{}\"\n", pier.address);
    for (name, keys) in rules {
        more += &format!("[rules.{name}]\n{keys}\n");
    }
    Rig::new(&[quay.address], &more, &frontend)
}

fn to_pier(when: &str) -> String {
    format!("when = '''{when}'''\naction = \"pool\"\npool = \"pier\"")
}

fn matches(rig: &Rig, place: usize) -> u64 {
    let snapshot = rig.plane.snapshot();
    snapshot.frontends().next().unwrap().rules.as_ref().unwrap().rules()[place].cell.matches()
}

#[rstest]
#[case::a_host(
    "host is booking.skerry.example",
    "GET / HTTP/1.1\r\nHost: Booking.skerry.example:80\r\n\r\n",
    true
)]
#[case::an_absolute_target(
    "host is booking.skerry.example",
    "GET http://booking.skerry.example/x HTTP/1.1\r\nHost: a\r\n\r\n",
    true
)]
#[case::another_host("host is *.skerry.example", "GET / HTTP/1.1\r\nHost: skerry.example\r\n\r\n", false)]
#[case::no_host_at_all("host absent", "GET / HTTP/1.0\r\n\r\n", true)]
#[case::a_path("path under /ferry", "GET //ferry/./lerwick?x HTTP/1.1\r\nHost: a\r\n\r\n", true)]
#[case::another_path("path under /ferry", "GET /ferryboat HTTP/1.1\r\nHost: a\r\n\r\n", false)]
#[case::a_method("method is PUT", "PUT / HTTP/1.1\r\nHost: a\r\n\r\n", true)]
#[case::the_second_of_two_fields(
    "header X-Tenant is blue",
    "GET / HTTP/1.1\r\nHost: a\r\nX-Tenant: red\r\nX-Tenant: blue\r\n\r\n",
    true
)]
#[case::a_line_of_the_body(
    "header X-Tenant present",
    "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 16\r\n\r\nX-Tenant: blue\r\n",
    false
)]
#[case::a_cookie(
    "cookie visit is a81f",
    "GET / HTTP/1.1\r\nHost: a\r\nCookie: x=1; visit=a81f\r\n\r\n",
    true
)]
#[case::a_query("query day is 3", "GET /?from=x&day=%33 HTTP/1.1\r\nHost: a\r\n\r\n", true)]
#[case::a_media_type(
    "content-type is text/plain",
    "POST / HTTP/1.1\r\nHost: a\r\nContent-Type: Text/Plain; charset=x\r\nContent-Length: 0\r\n\r\n",
    true
)]
#[case::a_network("client in 127.0.0.0/30", "GET / HTTP/1.1\r\nHost: a\r\n\r\n", true)]
#[case::a_version("version is 1.0", "GET / HTTP/1.0\r\nHost: a\r\n\r\n", true)]
#[case::another_version("version is 1.0", "GET / HTTP/1.1\r\nHost: a\r\n\r\n", false)]
#[case::no_certificate("certificate present", "GET / HTTP/1.1\r\nHost: a\r\n\r\n", false)]
#[case::a_field_that_clients_may_not_set(
    "header X-Real-IP present",
    "GET / HTTP/1.1\r\nHost: a\r\nX-Real-IP: 192.0.2.1\r\n\r\n",
    false
)]
fn requests_go_where_the_rule_says(#[case] when: &str, #[case] request: &str, #[case] is_met: bool) {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rig = rig(&quay, &pier, "", &[("beside", &to_pier(when))]);
    let mut client = rig.client();
    assert_eq!(client.send(request).answer().unwrap().status, 200);
    let pools = rig.plane.snapshot();
    let taken = |pool: usize| pools.pools[pool].servers[0].cell.counts().taken;
    // In the order of their names: pier, quay.
    assert_eq!((taken(0), taken(1)), if is_met { (1, 0) } else { (0, 1) });
    assert_eq!(matches(&rig, 0), u64::from(is_met));
}

#[test]
fn the_port_that_a_client_came_to_is_a_fact() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let mut rig = rig(&quay, &pier, "", &[("beside", &to_pier("port is 1"))]);
    assert!(rig.client().get("/").text().starts_with("gull"));
    let text = rig.text().replace("port is 1", &format!("port is {}", rig.address.port()));
    rig.publish_text(&text);
    assert!(rig.client().get("/").text().starts_with("tern"));
}

#[test]
fn the_first_rule_that_is_met_decides_and_each_is_counted() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rules = [
        ("a", "when = 'path is /a'\naction = \"respond\"\nbody = \"here\""),
        ("b", "when = 'path under /a'\naction = \"refuse\""),
        ("c", &to_pier("path under /")),
    ];
    let rig = rig(&quay, &pier, "", &rules);
    let mut client = rig.client();
    let first = client.get("/a");
    assert_eq!((first.status, first.text().as_str()), (200, "here"));
    let second = client.get("/a/b");
    assert_eq!(second.status, 403);
    assert!(second.text().contains("frontend harbour: a rule refuses this request"), "{}", second.text());
    assert!(client.get("/c").text().starts_with("tern"), "all of it over one connection");
    assert!(client.get("/c").text().starts_with("tern"));
    assert_eq!([0, 1, 2].map(|place| matches(&rig, place)), [1, 1, 2]);
    assert_eq!(rig.frontend_counts().requests, 4);
}

#[test]
fn redirects_lead_where_the_rule_says_and_to_no_other_host() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rules = [
        (
            "moved",
            "when = 'path under /old'\naction = \"redirect\"\nlocation = \"https://{host}/new{rest}{query}\"\nredirect_status = \"308\"",
        ),
        ("stays", "when = 'path under /here'\naction = \"redirect\"\nlocation = \"{path}/\""),
    ];
    let rig = rig(&quay, &pier, "", &rules);
    let mut client = rig.client();
    let answer = client.get("/old/x?y=1");
    assert_eq!(answer.status, 308);
    assert!(
        answer.head.contains("\nLocation: https://harbour.skerry.example/new/x?y=1\n"),
        "{}",
        answer.head
    );
    let answer = client.get("//here");
    assert_eq!(answer.status, 307);
    assert!(answer.head.contains("\nLocation: /here/\n"), "{}", answer.head);
    client.send("HEAD /old HTTP/1.1\r\nHost: a\r\n\r\n");
    assert!(
        client.head().unwrap().contains("Location: https://a/new"),
        "an answer to HEAD ends with its head"
    );
    assert!(client.get("/").text().starts_with("gull"));
}

#[test]
fn a_response_of_a_rule_is_whole() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rules = [
        (
            "page",
            "when = 'path is /page'\naction = \"respond\"\nstatus = 503\nbody = \"<p>Back soon.</p>\"\ncontent_type = \"text/html\"",
        ),
        ("nothing", "when = 'path is /nothing'\naction = \"respond\"\nstatus = 204"),
        ("usual", "when = 'path is /usual'\naction = \"respond\"\nstatus = 418"),
    ];
    let rig = rig(&quay, &pier, "", &rules);
    let mut client = rig.client();
    let page = client.get("/page");
    assert_eq!((page.status, page.text().as_str()), (503, "<p>Back soon.</p>"));
    assert!(page.head.contains("\nContent-Type: text/html\nContent-Length: 17\n"), "{}", page.head);
    client.send("GET /nothing HTTP/1.1\r\nHost: a\r\n\r\n");
    let head = client.head().unwrap();
    assert!(head.starts_with("HTTP/1.1 204 No Content\n") && !head.contains("Content-"), "{head}");
    assert_eq!(client.get("/usual").status, 418, "nothing of a body stands between");
    // A body that is on its way is not awaited, and the connection does not go on behind it.
    client.send("POST /page HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\n\r\n");
    assert_eq!(client.answer().unwrap().status, 503);
    assert_eq!(client.send("hello").end(), ConnectionEnd::Closed);
}

#[test]
fn a_connection_is_closed_without_a_word() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rig = rig(&quay, &pier, "", &[("shut", "when = 'path under /shut'\naction = \"close\"")]);
    let mut client = rig.client();
    assert_eq!(client.get("/").status, 200);
    client.send("GET /shut HTTP/1.1\r\nHost: a\r\n\r\n");
    assert_eq!(client.end(), ConnectionEnd::Reset);
    assert_eq!(matches(&rig, 0), 1);
}

#[rstest]
#[case::encoded_dots("/x/%2e%2e/admin")]
#[case::an_encoded_slash("/x%2F..%2Fadmin")]
#[case::a_backslash("/x\\..\\admin")]
#[case::a_semicolon("/admin;a=b")]
#[case::nul("/admin%00")]
#[case::encoded_twice("/%2561dmin")]
fn no_path_passes_a_rule_that_protects(#[case] path: &str) {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rules = [("admin", "when = 'path under /admin'\naction = \"refuse\"")];
    let strict = rig(&quay, &pier, "", &rules);
    let answer = strict.client().get(path);
    assert_eq!(answer.status, 400, "{}", answer.text());
    assert_eq!((strict.frontend_counts().refused, matches(&strict, 0)), (1, 0));
    let lenient = rig(&quay, &pier, "ambiguous_paths = \"allow\"", &rules);
    let expected = if path.contains("..") || path.contains("%2e") { 403 } else { 200 };
    assert_eq!(lenient.client().get(path).status, expected, "it is compared as it is read here");
}

#[rstest]
#[case("/admin")]
#[case("//admin")]
#[case("/x/../admin")]
#[case("/./admin/")]
#[case("/%61dmin/users")]
#[case("/../admin")]
fn other_spellings_of_a_protected_path_are_that_path(#[case] path: &str) {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rig = rig(&quay, &pier, "", &[("admin", "when = 'path under /admin'\naction = \"refuse\"")]);
    assert_eq!(rig.client().get(path).status, 403);
    assert_eq!(rig.counts_of_quay(), 0);
}

impl Rig {
    fn counts_of_quay(&self) -> u64 {
        self.plane.snapshot().pools[1].servers[0].cell.counts().taken
    }
}

#[test]
fn a_new_release_gets_its_part() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let canary = "when = 'always'\naction = \"pool\"\npool_weights = { quay = 3, pier = 1 }";
    let rig = rig(&quay, &pier, "", &[("canary", canary)]);
    let mut client = rig.client();
    let new = (0..400).filter(|_| client.get("/").text().starts_with("tern")).count();
    // Of 400 with a chance of 1 in 4: a deviation of 8.7, and six of them.
    assert!((48..=152).contains(&new), "{new}");
}

#[test]
fn rules_hold_over_http_2_too() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let rules = [
        (
            "moved",
            "when = 'path under /old and host is harbour.skerry.example'\naction = \"redirect\"\nlocation = \"/new\"",
        ),
        ("two", &to_pier("version is 2 and path is /two")),
        ("shut", "when = 'path is /shut'\naction = \"close\""),
    ];
    let rig = rig(&quay, &pier, "", &rules);
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let answer = http2::ask(&requests, http2::get("/old/x")).await.unwrap();
        assert_eq!(answer.status, 307);
        assert!(http2::ask(&requests, http2::get("/shut")).await.unwrap_err().is_reset());
        assert!(http2::ask(&requests, http2::get("/two")).await.unwrap().text().starts_with("tern"));
        assert!(http2::ask(&requests, http2::get("/")).await.unwrap().text().starts_with("gull"));
    });
    assert!(rig.client().get("/two").text().starts_with("gull"), "over HTTP/1.1 it is not met");
}

#[test]
fn a_change_of_rules_is_felt_by_the_next_request_of_a_connection() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let mut rig = rig(&quay, &pier, "", &[("beside", &to_pier("path is /x"))]);
    let mut client = Client::to(rig.address);
    assert!(client.get("/x").text().starts_with("tern"));
    let text = rig.text().replace("path is /x", "path is /y");
    rig.publish_text(&text);
    assert!(client.get("/x").text().starts_with("gull"));
    assert!(client.get("/y").text().starts_with("tern"));
    assert_eq!(matches(&rig, 0), 2, "its counts go on");
}

/// A server that answers with the head that it got, and some fields of its own.
fn mirror() -> Server {
    Server::start(|mut conn: crate::rig::Conn, _| {
        while let Some((head, _)) = conn.request() {
            let fields = "Server: secret/1.0\r\nX-Frame-Options: SAMEORIGIN\r\nX-Kept: yes";
            conn.say(format!("HTTP/1.1 200 OK\r\n{fields}\r\nContent-Length: {}\r\n\r\n{head}", head.len()));
        }
    })
}

const TENANT: &str = r#"when = 'path matches "^/t/(?P<tenant>[a-z]+)/"'
action = "continue"
set_request_fields = { X-Tenant = "{capture.tenant}", X-From = "{client}", X-Page = "{query.page}" }
remove_request_fields = ["X-Debug", "Cookie"]"#;
const APP: &str = r#"when = 'path under /t'
action = "pool"
pool = "pier"
rewrite_path = "/app{rest}"
rewrite_host = "inside.example"
set_response_fields = { X-Frame-Options = "DENY", X-Tenant = "{header.X-Ask}", X-Request-Id = "{request-id}" }
remove_response_fields = ["Server"]"#;

#[test]
fn requests_and_responses_are_changed_on_the_way() {
    let (quay, pier) = (Server::named("gull"), mirror());
    let rig = rig(&quay, &pier, "", &[("tenant", TENANT), ("app", APP)]);
    let mut client = rig.client();
    client.send(
        "POST /t/blue/x?page=2&y HTTP/1.1\r\nHost: a.example\r\nX-Debug: 1\r\nx-tenant: red\r\nCookie: a=b\r\nX-Ask: why\r\nContent-Length: 3\r\n\r\nabc",
    );
    let answer = client.answer().unwrap();
    let got = answer.text();
    assert!(got.starts_with("POST /app/blue/x?page=2&y HTTP/1.1\r\nHost: inside.example\r\n"), "{got}");
    for field in [
        "X-Tenant: blue\r\n",
        "X-From: 127.0.0.1\r\n",
        "X-Page: 2\r\n",
        "X-Ask: why\r\n",
        "Content-Length: 3\r\n",
    ] {
        assert!(got.contains(field), "{field} in {got}");
    }
    for field in ["X-Debug", "red", "Cookie"] {
        assert!(!got.contains(field), "{field} in {got}");
    }
    let fields: Vec<&str> = answer.head.lines().skip(1).collect();
    assert!(fields.contains(&"X-Frame-Options: DENY") && fields.contains(&"X-Kept: yes"), "{fields:?}");
    assert!(fields.contains(&"X-Tenant: why"), "{fields:?}");
    let id =
        |text: &str| text.lines().find_map(|line| line.strip_prefix("X-Request-Id: ").map(str::to_owned));
    assert!(id(&answer.head).is_some_and(|id| id.len() > 8), "{fields:?}");
    assert_eq!(id(&answer.head), id(&got), "the client can name the request that the server got");
    assert!(!answer.head.contains("secret") && !answer.head.contains("SAMEORIGIN"), "{fields:?}");
    assert_eq!([matches(&rig, 0), matches(&rig, 1)], [1, 1]);
    // A request that only the first rule meets goes on changed to the pools of the frontend.
    assert!(client.get("/other").text().starts_with("gull"));
}

#[test]
fn changes_hold_over_http_2_and_for_the_next_request_nothing_is_left_of_them() {
    let (quay, pier) = (Server::named("gull"), mirror());
    let rig =
        rig(&quay, &pier, "", &[("tenant", TENANT), ("app", APP), ("plain", &to_pier("path is /plain"))]);
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let got = http2::ask(&requests, http2::get("/t/blue/x")).await.unwrap().text();
        assert!(
            got.starts_with("GET /app/blue/x HTTP/1.1\r\n") && got.contains("X-Tenant: blue\r\n"),
            "{got}"
        );
        assert!(!got.contains("X-Page"), "a field without a value is left out: {got}");
        let got = http2::ask(&requests, http2::get("/plain")).await.unwrap().text();
        assert!(got.starts_with("GET /plain HTTP/1.1\r\n") && !got.contains("X-Tenant"), "{got}");
    });
    let mut client = rig.client();
    client.get("/t/blue/x");
    let plain = client.get("/plain");
    assert!(
        plain.head.contains("Server: secret/1.0") && !plain.text().contains("X-Tenant"),
        "{}",
        plain.head
    );
}

#[test]
fn a_request_keeps_its_rule_when_it_is_tried_again() {
    let (quay, gone, pier) = (Server::named("gull"), merismos_lab::free::free_address(), mirror());
    let more = format!(
        "[pools.pier]\ncheck = \"up\"\nalgorithm = \"in-order\"\n[pools.pier.servers.a]\naddress = \"{gone}\"\n[pools.pier.servers.b]\naddress = \"{}\"\n[rules.app]\n{APP}\n",
        pier.address
    );
    let rig = Rig::new(&[quay.address], &more, "rules = [\"app\"]");
    let answer = rig.client().get("/t/x");
    // By its new path it would meet no rule, and go to the other pool.
    assert!(answer.text().starts_with("GET /app/x HTTP/1.1"), "{}", answer.text());
}

#[test]
fn a_maintenance_page_is_given_to_all_but_some_and_taken_away_under_load() {
    let (quay, pier) = (Server::named("gull"), Server::named("tern"));
    let mut rig = rig(&quay, &pier, "", &[("beside", &to_pier("path is /x"))]);
    let plain = rig.text();
    let keys = "maintenance = \"new engine\"\nmaintenance_except = [\"office\"]\nmaintenance_page = \"<h1>Soon</h1>\"\nmaintenance_retry_after = \"1h\"\n";
    let closed = plain.replace("pool = \"quay\"\n", &format!("pool = \"quay\"\n{keys}"))
        + "[networks]\noffice = [\"127.0.0.3\"]\n";
    let mut client = rig.client();
    let mut office = Client::from("127.0.0.3", rig.address);
    assert_eq!(client.get("/").status, 200);
    for round in 0..5 {
        rig.publish_text(&closed);
        let page = client.get("/x");
        assert_eq!((page.status, page.text().as_str()), (503, "<h1>Soon</h1>"), "{round}");
        assert!(
            page.head.contains("\nRetry-After: 3600\n") && page.head.contains("\nContent-Type: text/html"),
            "{}",
            page.head
        );
        assert!(office.get("/x").text().starts_with("tern"), "rules hold for those who are let in");
        rig.publish_text(&plain);
        assert!(client.get("/x").text().starts_with("tern"), "the connection went on");
    }
    assert_eq!(rig.frontend_counts().unavailable, 5);
    // Without a page of its own it says a sentence, and without rules it works too.
    let words =
        closed.replace("maintenance_page = \"<h1>Soon</h1>\"\n", "").replace("rules = [\"beside\"]", "");
    rig.publish_text(&words);
    let answer = client.get("/");
    assert!(
        answer.status == 503
            && answer.text().contains("frontend harbour: the application is being worked on"),
        "{answer:?}"
    );
}
