//! What clients get where the frontend itself can't give them what they asked for.

use rstest::rstest;

use crate::http2;
use crate::rig::Rig;

const PAGES: &str = "error_html = '<h1>{status} {reason}</h1>'\nerror_json = '{\"title\": \"{reason}\", \"status\": {status}}'\n\
                     error_text = 'sorry: {why} ({frontend})'\n";

#[rstest]
#[case::a_browser("Accept: text/html,*/*;q=0.8\r\n", "text/html", "<h1>503 Service Unavailable</h1>")]
#[case::a_program(
    "Accept: application/json\r\n",
    "application/problem+json",
    "{\"title\": \"Service Unavailable\", \"status\": 503}"
)]
#[case::others("", "text/plain", "sorry: no server is available (harbour)")]
fn an_error_comes_in_the_format_that_its_client_accepts(
    #[case] fields: &str,
    #[case] kind: &str,
    #[case] body: &str,
) {
    let rig = Rig::new(&[], "", PAGES);
    let mut client = rig.client();
    for _ in 0..2 {
        client.send(format!("GET / HTTP/1.1\r\nHost: a\r\n{fields}\r\n"));
        let answer = client.answer().unwrap();
        assert_eq!((answer.status, answer.text().as_str()), (503, body), "over one connection");
        assert!(
            answer.head.contains(&format!("Content-Type: {kind}")) && answer.head.contains("Retry-After: 1"),
            "{}",
            answer.head
        );
    }
}

#[test]
fn a_page_that_is_not_there_is_a_sentence_and_others_are_left_alone() {
    let rig = Rig::new(
        &[],
        "[limits.none]\nrate = 1\nwithin = \"1h\"\n",
        "limits = [\"none\"]\nerror_html = '<p>{why}'",
    );
    let mut client = rig.client();
    assert!(client.get("/").text().contains("503 Service Unavailable\nfrontend harbour"));
    client.send("GET / HTTP/1.1\r\nHost: a\r\nAccept: text/html\r\n\r\n");
    let limited = client.answer().unwrap();
    assert_eq!(
        (limited.status, limited.text().starts_with("<p>this client asks")),
        (429, true),
        "{}",
        limited.text()
    );
    client.send("HEAD / HTTP/1.1\r\nHost: a\r\nAccept: text/html\r\n\r\n");
    let head = client.head().unwrap();
    assert!(head.starts_with("HTTP/1.1 429") && head.contains("Content-Type: text/html"), "{head}");
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        assert_eq!(http2::ask(&requests, http2::get("/")).await.unwrap().status, 429);
    });
}

/// Refuses paths that can be read in several ways, and bodies of more than 1 KiB.
fn strict() -> Rig {
    let rule = "[rules.never]\nwhen = 'path is /never'\naction = 'refuse'\n";
    Rig::new(&[], rule, &format!("rules = ['never']\nbody_size_limit = '1KiB'\n{PAGES}"))
}

#[rstest]
#[case::of_an_ambiguous_path(
    "GET /a/%2e%2e/b HTTP/1.1\r\nHost: a\r\nAccept: application/json\r\n\r\n",
    400,
    "{\"title\": \"Bad Request\", \"status\": 400}"
)]
#[case::of_a_large_body(
    "POST / HTTP/1.1\r\nHost: a\r\nAccept: text/html\r\nContent-Length: 5000\r\n\r\n",
    413,
    "<h1>413 Payload Too Large</h1>"
)]
#[case::of_a_head_that_makes_no_sense(
    "GET / HTTP/1.1\r\nAccept: text/html\r\nHost: a\r\nHost: b\r\n\r\n",
    400,
    "sorry: "
)]
fn a_refusal_comes_in_that_format_where_the_head_made_sense(
    #[case] request: &str,
    #[case] status: u16,
    #[case] body: &str,
) {
    let rig = strict();
    let mut client = rig.client();
    client.send(request);
    let answer = client.answer().unwrap();
    assert_eq!(answer.status, status);
    assert!(answer.text().starts_with(body), "{}", answer.text());
}

#[test]
fn a_refusal_of_http_2_comes_in_that_format() {
    let rig = strict();
    http2::run(async {
        let requests = http2::connect(rig.address).await;
        let mut request = http2::get("/a/%2e%2e/b");
        request.headers_mut().insert("accept", "application/json".parse().unwrap());
        let answer = http2::ask(&requests, request).await.unwrap();
        assert_eq!(
            (answer.status, answer.text()),
            (400, "{\"title\": \"Bad Request\", \"status\": 400}".to_owned())
        );
    });
}
