//! What rules decide about a request besides its pool and its fields: how long it may take, whether pins count, what it is called, and that a client
//! keeps its release.

use rstest::rstest;

use crate::http2;
use crate::rig::{Answer, Client, Conn, Rig, Server};

/// A frontend before pool `quay`, with a pool `pier` beside it and one rule.
fn rig(quay: &[&Server], pier: &Server, keys: &str, pool: &str) -> Rig {
    let addresses: Vec<_> = quay.iter().map(|server| server.address).collect();
    let more = format!(
        "{pool}\n[pools.pier]\ncheck = \"up\"\n[pools.pier.servers.p0]\naddress = \"{}\"\n[rules.one]\n{keys}\n",
        pier.address
    );
    Rig::new(&addresses, &more, "rules = [\"one\"]")
}

fn cookie_of(answer: &Answer) -> Option<&str> {
    answer.head.lines().find_map(|line| line.strip_prefix("Set-Cookie: "))
}

/// The server that answered.
fn server(answer: &Answer) -> String {
    answer.text().lines().next().unwrap_or_default().to_owned()
}

fn with_cookie(client: &mut Client, cookie: &str) -> Answer {
    client.send(format!("GET / HTTP/1.1\r\nHost: a\r\nCookie: other=1; {cookie}\r\n\r\n")).answer().unwrap()
}

const RELEASE: &str =
    "when = 'always'\naction = \"pool\"\npool_weights = { quay = 3, pier = 1 }\nchoice_cookie = \"release\"";

#[test]
fn a_cookie_keeps_a_client_with_its_release_and_a_larger_part_moves_clients_one_way() {
    let (gull, tern) = (Server::named("gull"), Server::named("tern"));
    let mut rig = rig(&[&gull], &tern, RELEASE, "");
    let mut client = rig.client();
    let first = client.get("/");
    let cookie = cookie_of(&first).unwrap().to_owned();
    let (pair, attributes) = cookie.split_once(';').unwrap();
    assert_eq!((pair.len(), attributes), ("release=00000000".len(), " Path=/; HttpOnly; SameSite=Lax"));
    for _ in 0..20 {
        let again = with_cookie(&mut client, pair);
        assert_eq!(
            (server(&again), cookie_of(&again)),
            (server(&first), None),
            "it is kept, and not given again"
        );
    }
    let numbers: Vec<String> =
        (0_u32..200).map(|n| format!("release={:08x}", n.wrapping_mul(0x9e37_79b9))).collect();
    let mut is_new = |rig: &Rig| -> Vec<bool> {
        client = rig.client();
        numbers.iter().map(|pair| with_cookie(&mut client, pair).text().starts_with("tern")).collect()
    };
    let before = is_new(&rig);
    // Of 200 with a chance of 1 in 4: a deviation of 6.1, and six of them.
    let part = before.iter().filter(|new| **new).count();
    assert!((13..=87).contains(&part), "{part}");
    rig.publish_text(&rig.text().replace("quay = 3", "quay = 1"));
    let after = is_new(&rig);
    assert!(before.iter().zip(&after).all(|(before, after)| !before || *after), "none moved back");
    assert!(after.iter().filter(|new| **new).count() > part, "{part}");
    rig.publish_text(&rig.text().replace("quay = 3", "quay = 0"));
    assert!(is_new(&rig).into_iter().all(|new| new), "the whole of it");
}

#[rstest]
#[case::of_another_length("release=1234567")]
#[case::no_number("release=+1234567")]
#[case::of_another_name("releases=01234567")]
fn a_cookie_that_makes_no_sense_is_replaced(#[case] pair: &str) {
    let (gull, tern) = (Server::named("gull"), Server::named("tern"));
    let rig = rig(&[&gull], &tern, RELEASE, "");
    let answer = with_cookie(&mut rig.client(), pair);
    assert!(cookie_of(&answer).is_some_and(|cookie| cookie.starts_with("release=")), "{}", answer.head);
}

#[test]
fn a_release_is_kept_over_http_2_too() {
    let (gull, tern) = (Server::named("gull"), Server::named("tern"));
    let rig = rig(&[&gull], &tern, RELEASE, "");
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let mut seen = Vec::new();
        for number in [1_u32, 2, 3, 4, 5, 6, 7, 8].map(|n| n.wrapping_mul(0x9e37_79b9)) {
            let mut request = http2::get("/");
            request.headers_mut().insert("cookie", format!("release={number:08x}").parse().unwrap());
            let answer = http2::ask(&requests, request).await.unwrap();
            let name = answer.text().lines().next().unwrap().to_owned();
            seen.push((name, format!("release={number:08x}")));
        }
        let mut client = rig.client();
        for (name, pair) in seen {
            assert_eq!(server(&with_cookie(&mut client, &pair)), name, "{pair}: over HTTP/1.1");
        }
    });
}

#[test]
fn a_rule_has_its_own_time_until_a_response_begins() {
    let silent = Server::start(|mut conn: Conn, _| conn.wait_for_end());
    let keys = "when = 'path under /quick'\naction = \"continue\"\nfirst_byte_timeout = \"50ms\"";
    let more = format!("first_byte_timeout = \"30s\"\n[rules.one]\n{keys}\n");
    let rig = Rig::new(&[silent.address], &more, "rules = [\"one\"]");
    let began = std::time::Instant::now();
    assert_eq!(rig.client().get("/quick/x").status, 504);
    assert!(began.elapsed() < std::time::Duration::from_secs(20), "not that of the pool");
}

#[test]
fn a_rule_has_its_own_time_for_a_whole_response() {
    let slow = Server::start(|mut conn: Conn, _| {
        while conn.request().is_some() {
            conn.say("HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\nhalf ");
            conn.wait_for_end();
        }
    });
    let keys = "when = 'path under /short'\naction = \"continue\"\nresponse_timeout = \"100ms\"";
    let more = format!("[rules.one]\n{keys}\n");
    let rig = Rig::new(&[slow.address], &more, "rules = [\"one\"]");
    let mut client = rig.client();
    client.send("GET /short HTTP/1.1\r\nHost: a\r\n\r\n");
    // A connection that is still open after a while fails the test.
    let (bytes, _) = client.rest();
    assert!(bytes.ends_with(b"half "), "{}", String::from_utf8_lossy(&bytes));
}

#[test]
fn pins_do_not_count_where_a_rule_says_so() {
    let (gull, auk, tern) = (Server::named("gull"), Server::named("auk"), Server::named("tern"));
    let keys = "when = 'path under /static'\naction = \"continue\"\npersistence = \"none\"";
    let rig = rig(&[&gull, &auk], &tern, keys, "persistence = \"cookie\"");
    let mut client = rig.client();
    let files: Vec<Answer> = (0..4).map(|_| client.get("/static/a")).collect();
    assert!(files.iter().all(|file| cookie_of(file).is_none()), "no pin is made");
    let page = client.get("/");
    let pin = cookie_of(&page).unwrap().split(';').next().unwrap().to_owned();
    let mut with_pin = |path: &str| {
        client.send(format!("GET {path} HTTP/1.1\r\nHost: a\r\nCookie: {pin}\r\n\r\n"));
        server(&client.answer().unwrap())
    };
    let mut files: Vec<String> = (0..4).map(|_| with_pin("/static/a")).collect();
    assert!((0..4).all(|_| with_pin("/") == server(&page)), "other requests keep their server");
    files.sort_unstable();
    files.dedup();
    assert_eq!(files.len(), 2, "any server may have them: {files:?}");
}

#[test]
fn a_limit_counts_by_what_a_rule_calls_a_request() {
    let gull = Server::named("gull");
    let keys = "when = 'path matches \"^/t/(?P<tenant>[a-z]+)\"'\naction = \"continue\"\nrequest_label = \"{capture.tenant}\"\nlimits = [\"each\"]";
    let more = format!("[rules.one]\n{keys}\n[limits.each]\nper = \"label\"\nrate = 1\nwithin = \"1h\"\n");
    let rig = Rig::new(&[gull.address], &more, "rules = [\"one\"]");
    let mut client = rig.client();
    let statuses =
        ["/t/blue", "/t/red/x", "/t/blue/y", "/t/red", "/", "/"].map(|path| client.get(path).status);
    assert_eq!(statuses, [200, 200, 429, 429, 200, 200], "each label once, from any client");
    let mut other = Client::from("127.0.0.9", rig.address);
    assert_eq!(other.get("/t/blue").status, 429, "of another address");
}

#[test]
fn a_redirect_leads_where_a_group_of_the_path_says() {
    let (gull, tern) = (Server::named("gull"), Server::named("tern"));
    let keys = "when = 'path matches \"^/v(?P<number>[0-9]+)/(?P<page>.*)\"'\naction = \"redirect\"\nlocation = \"/api/{capture.number}/{capture.page}{query}\"";
    let rig = rig(&[&gull], &tern, keys, "");
    let answer = rig.client().get("/v7/a%20b/%0d%0aSet-Cookie:x?q=1");
    assert_eq!(answer.status, 400, "a path that servers read in several ways is refused first");
    let answer = rig.client().get("/v7/a%20b@c?q=1");
    assert!(answer.head.contains("\nLocation: /api/7/a%20b%40c?q=1\n"), "{}", answer.head);
}

#[test]
fn responses_of_rules_have_fields_of_their_own() {
    let gull = Server::named("gull");
    let rules = r#"[rules.all]
when = 'always'
action = "continue"
set_response_fields = { X-Asked = "{path}" }
[rules.preflight]
when = 'method is OPTIONS'
action = "respond"
status = 204
set_response_fields = { Access-Control-Allow-Origin = "https://www.skerry.example", Cache-Control = "max-age=60" }
add_response_fields = { Vary = "Origin" }
[rules.moved]
when = 'path is /old'
action = "redirect"
location = "/new"
add_response_fields = { Link = "</style.css>; rel=preload" }
[rules.shut]
when = 'path is /shut'
action = "refuse"
"#;
    let rig = Rig::new(&[gull.address], rules, "rules = [\"all\", \"preflight\", \"moved\", \"shut\"]");
    let mut client = rig.client();
    let mut ask = |request: &str| {
        client.send(format!("{request} HTTP/1.1\r\nHost: a\r\n\r\n"));
        client.answer().unwrap()
    };
    let preflight = ask("OPTIONS /fares");
    assert_eq!(preflight.status, 204);
    for field in
        ["X-Asked: /fares", "Access-Control-Allow-Origin: https://www.skerry.example", "Vary: Origin"]
    {
        assert!(preflight.head.contains(&format!("\n{field}\n")), "{field}: {}", preflight.head);
    }
    assert_eq!(
        preflight.head.matches("Cache-Control").count(),
        1,
        "in place of the usual one: {}",
        preflight.head
    );
    let moved = ask("GET /old");
    assert!(
        moved.status == 307 && moved.head.contains("\nLink: </style.css>; rel=preload\n"),
        "{}",
        moved.head
    );
    let shut = ask("GET /shut");
    assert!(shut.status == 403 && shut.head.contains("\nX-Asked: /shut\n"), "{}", shut.head);
    let page = ask("GET /");
    assert!(page.status == 200 && page.head.contains("\nX-Asked: /\n"), "{}", page.head);
}

#[rstest]
#[case::a_tenant("/t/blue/x", "blue.inside.example")]
#[case::no_host_by_what_a_client_says("/t/a%20b/x", "a.example")]
#[case::not_met("/u/blue", "a.example")]
fn servers_get_the_host_that_a_group_of_the_path_makes(#[case] path: &str, #[case] host: &str) {
    let gull = Server::named("gull");
    let keys = "when = 'path matches \"^/t/(?P<tenant>[^/]+)/\"'\naction = \"continue\"\nrewrite_host = \"{capture.tenant}.inside.example\"\nadd_request_fields = { X-Way = \"harbour\" }";
    let rig = Rig::new(&[gull.address], &format!("[rules.one]\n{keys}\n"), "rules = [\"one\"]");
    let mut client = rig.client();
    client.send(format!("GET {path} HTTP/1.1\r\nHost: a.example\r\nX-Way: road\r\n\r\n"));
    let echoed = client.answer().unwrap().text();
    assert!(echoed.contains(&format!("\r\nHost: {host}\r\n")), "{echoed}");
    let is_met = path.starts_with("/t/");
    assert_eq!(
        echoed.matches("X-Way: ").count(),
        if is_met { 2 } else { 1 },
        "beside the client's: {echoed}"
    );
}
