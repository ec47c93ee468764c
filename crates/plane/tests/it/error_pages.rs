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
