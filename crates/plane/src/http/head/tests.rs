use merismos_core::config::document::HttpKeys;
use merismos_core::routing::DroppedFields;
use rstest::rstest;

use super::super::forwarded::{ClientFields, ClientProtocol};
use super::host::is_host;
use super::response::InvalidResponse;
use super::*;
use crate::accept::ConnectionAddrs;

fn client() -> ClientFields {
    ClientFields::new(&ConnectionAddrs::plain("192.0.2.77:5000".parse().unwrap()), ClientProtocol::One)
}

/// What frontends drop where nothing is said.
fn dropped() -> &'static DroppedFields {
    static DROPPED: std::sync::LazyLock<DroppedFields> =
        std::sync::LazyLock::new(|| HttpKeys::USUAL_DROPPED_FIELDS.into_iter().collect());
    &DROPPED
}

fn origin(client: &ClientFields) -> RequestOrigin<'_> {
    RequestOrigin { client, trusted: &[], dropped: dropped(), id: [1, 2] }
}

fn pass(text: &str) -> (Request, String) {
    let mut out = Vec::new();
    let parsed = request(text.as_bytes(), origin(&client()), MOST_FIELDS, &mut out)
        .unwrap_or_else(|refusal| panic!("{refusal:?}: {text}"));
    (parsed, String::from_utf8(out).unwrap())
}

#[test]
fn a_plain_request_gets_the_clients_fields_and_nothing_else() {
    let (parsed, out) = pass("GET /a?b=1 HTTP/1.1\r\nHost: booking.skerry.example\r\nAccept: */*\r\n\r\n");
    assert_eq!(parsed.framing, Framing::None);
    assert!(parsed.keep_alive && parsed.is_idempotent && !parsed.is_head);
    assert_eq!(
        out,
        "GET /a?b=1 HTTP/1.1\r\nHost: booking.skerry.example\r\nAccept: */*\r\n\
         X-Forwarded-For: 192.0.2.77\r\nX-Forwarded-Proto: http\r\n\
         Forwarded: for=192.0.2.77;proto=http;host=\"booking.skerry.example\"\r\n\
         X-Forwarded-Host: booking.skerry.example\r\nX-Request-Id: 00000000000000010000000000000002\r\nVia: 1.1 merismos\r\n\r\n"
    );
}

#[rstest]
#[case::keep_alive("Keep-Alive: timeout=5", "Keep-Alive")]
#[case::te("TE: trailers", "TE:")]
#[case::forged_forwarded("Forwarded: for=203.0.113.9", "203.0.113.9")]
#[case::forged_for("x-forwarded-for: 203.0.113.9", "203.0.113.9")]
#[case::forged_proto("X-Forwarded-Proto: https", "https")]
#[case::forged_host("X-Forwarded-Host: evil.example", "evil.example")]
#[case::proxy_connection("Proxy-Connection: keep-alive", "Proxy-Connection")]
#[case::named_by_connection("Connection: x-secret\r\nX-Secret: 1", "X-Secret")]
#[case::upgrade_to_h2c(
    "Connection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: AA",
    "HTTP2-Settings"
)]
#[case::mark("Merismos-Mark: 1-2", "mark")]
#[case::disguised_for("X_Forwarded-For: 203.0.113.9", "203.0.113.9")]
#[case::disguised_proto("x_forwarded_proto: https", "https")]
#[case::disguised_host("X-Forwarded_Host: evil.example", "evil.example")]
#[case::disguised_id("X_Request_Id: 7", "Id: 7")]
fn fields_that_end_here(#[case] field: &str, #[case] absent: &str) {
    let (_, out) = pass(&format!("GET / HTTP/1.1\r\nHost: a\r\n{field}\r\nX-Stays: yes\r\n\r\n"));
    assert!(!out.to_ascii_lowercase().contains(&absent.to_ascii_lowercase()), "{out}");
    assert!(out.contains("Host: a\r\n") && out.contains("X-Stays: yes\r\n"), "{out}");
}

#[test]
fn connection_can_not_take_off_what_delimits_or_directs() {
    let (parsed, out) =
        pass("POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 5\r\nConnection: Host, Content-Length\r\n\r\n");
    assert_eq!(parsed.framing, Framing::Length(5));
    assert!(out.contains("Host: a\r\n") && out.contains("Content-Length: 5\r\n"), "{out}");
}

#[rstest]
#[case::two_lengths("Content-Length: 5\r\nContent-Length: 6")]
#[case::the_same_twice("Content-Length: 5\r\nContent-Length: 5")]
#[case::list_of_lengths("Content-Length: 5, 5")]
#[case::signed_length("Content-Length: +5")]
#[case::huge_length("Content-Length: 99999999999999999999")]
#[case::empty_length("Content-Length:")]
#[case::length_and_chunked("Content-Length: 5\r\nTransfer-Encoding: chunked")]
#[case::chunked_and_length("Transfer-Encoding: chunked\r\nContent-Length: 5")]
#[case::chunked_twice("Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked")]
#[case::other_coding("Transfer-Encoding: gzip, chunked")]
#[case::hidden_coding("Transfer-Encoding: xchunked")]
#[case::space_before_colon("Transfer-Encoding : chunked")]
#[case::folded("X-A: 1\r\n 2")]
#[case::two_hosts("Host: b")]
#[case::control_character("X-A: a\x01b")]
fn what_could_be_read_in_two_ways_is_refused(#[case] fields: &str) {
    let text = format!("POST / HTTP/1.1\r\nHost: a\r\n{fields}\r\n\r\n");
    assert!(request(text.as_bytes(), origin(&client()), MOST_FIELDS, &mut Vec::new()).is_err(), "{text}");
}

#[rstest]
#[case::no_host("GET / HTTP/1.1\r\n\r\n", 400)]
#[case::bad_host("GET / HTTP/1.1\r\nHost: a b\r\n\r\n", 400)]
#[case::connect("CONNECT a:443 HTTP/1.1\r\nHost: a\r\n\r\n", 501)]
#[case::http_2("GET / HTTP/2.0\r\nHost: a\r\n\r\n", 505)]
#[case::relative_target("GET a HTTP/1.1\r\nHost: a\r\n\r\n", 400)]
#[case::fragment("GET /a#b HTTP/1.1\r\nHost: a\r\n\r\n", 400)]
#[case::chunked_in_http_10("POST / HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n", 400)]
fn other_refusals(#[case] text: &str, #[case] status: u16) {
    let refusal = request(text.as_bytes(), origin(&client()), MOST_FIELDS, &mut Vec::new()).unwrap_err();
    assert_eq!(refusal.status(), status);
}

#[rstest]
#[case::two_spaces("GET  / HTTP/1.1\r\nHost: a\r\n\r\n", "one space between them")]
#[case::no_version("GET /\r\n\r\n", "and a version")]
#[case::method("G(T / HTTP/1.1\r\nHost: a\r\n\r\n", "the request line")]
#[case::white_space_before_the_colon("GET / HTTP/1.1\r\nHost : a\r\n\r\n", "white space around it")]
#[case::no_name("GET / HTTP/1.1\r\n: a\r\n\r\n", "a field's name is empty")]
#[case::folded("GET / HTTP/1.1\r\nHost: a\r\nX: a\r\n b\r\n\r\n", "a value is folded")]
#[case::control("GET / HTTP/1.1\r\nHost: a\x01\r\n\r\n", "control character")]
#[case::bare_return("GET / HTTP/1.1\r\nHost: a\rb\r\n\r\n", "control character")]
fn a_refusal_names_the_rule(#[case] text: &str, #[case] rule: &str) {
    let refusal = request(text.as_bytes(), origin(&client()), MOST_FIELDS, &mut Vec::new()).unwrap_err();
    assert!(refusal.to_string().contains(rule), "{refusal}");
}

#[test]
fn an_absolute_target_overrides_the_host_field() {
    let (_, out) = pass("GET http://b.example/x HTTP/1.1\r\nHost: a.example\r\nX-A: 1\r\n\r\n");
    assert!(out.starts_with("GET /x HTTP/1.1\r\nX-A: 1\r\nHost: b.example\r\n"), "{out}");
    assert!(!out.contains("a.example"), "{out}");
    let (_, out) = pass("GET HTTP://b.example HTTP/1.1\r\nHost: a.example\r\n\r\n");
    assert!(out.starts_with("GET / HTTP/1.1\r\nHost: b.example\r\n"), "{out}");
}

#[rstest]
#[case::other_name("X_Forwarded_Fox: 1")]
#[case::other_length("X_Forwarded_: 1")]
#[case::expectation("Expect: 100-continue")]
fn fields_that_go_on(#[case] field: &str) {
    assert!(pass(&format!("GET / HTTP/1.1\r\nHost: a\r\n{field}\r\n\r\n")).1.contains(field));
}

#[test]
fn a_client_of_http_10_expects_nothing() {
    let text = |version: &str| {
        format!("PUT / {version}\r\nHost: a\r\nExpect: 100-continue\r\nContent-Length: 5\r\n\r\n")
    };
    assert!(!pass(&text("HTTP/1.0")).1.contains("Expect"));
    assert!(pass(&text("HTTP/1.1")).0.expects);
}

#[rstest]
#[case::long_target(format!("GET /{} HTTP/1.1\r\n", "x".repeat(100)), 414)]
#[case::long_field(format!("GET / HTTP/1.1\r\nX: {}", "x".repeat(100)), 431)]
fn what_is_too_large_is_named(#[case] head: String, #[case] status: u16) {
    assert_eq!(too_large(head.as_bytes(), 64).status(), status);
}

#[test]
fn http_10_closes_unless_it_says_otherwise() {
    assert!(!pass("GET / HTTP/1.0\r\n\r\n").0.keep_alive);
    let (parsed, out) = pass("GET / HTTP/1.0\r\nConnection: keep-alive\r\n\r\n");
    assert!(parsed.keep_alive && parsed.is_http_10);
    assert!(out.starts_with("GET / HTTP/1.1\r\nHost: \r\n"), "{out}");
}

#[rstest]
#[case::whole("GET / HTTP/1.1\r\nHost: a\r\n\r\nbody", Ok(Some(27)))]
#[case::not_yet("GET / HTTP/1.1\r\nHost: a\r\n", Ok(None))]
#[case::bare("GET / HTTP/1.1\nHost: a\n\n", Err(BareLineFeed))]
#[case::bare_in_a_field("GET / HTTP/1.1\r\nHost: a\nX: b\r\n\r\n", Err(BareLineFeed))]
fn the_end_of_a_head(#[case] text: &str, #[case] end: Result<Option<usize>, BareLineFeed>) {
    assert_eq!(HeadScan::default().end(text.as_bytes()), end);
}

#[test]
fn the_end_is_found_however_the_bytes_come() {
    let text = b"GET / HTTP/1.1\r\nHost: a\r\n\r\nmore";
    let mut scan = HeadScan::default();
    let ends: Vec<_> = (1..=text.len()).map(|len| scan.end(&text[..len]).unwrap()).collect();
    let end = text.len() - 4;
    assert!(ends[..end - 1].iter().all(Option::is_none));
    assert_eq!(ends[end - 1], Some(end));
}

#[test]
fn parsing_tells_where_a_head_ends() {
    let head = "GET / HTTP/1.1\r\nHost: a\r\nX: y\r\n\r\n";
    for behind in ["", "\r\n\r\n", "GET /more HTTP/1.1\r\nHost: b\r\n\r\n"] {
        let mut out = Vec::new();
        let data = format!("{head}{behind}");
        let request = request(data.as_bytes(), origin(&client()), MOST_FIELDS, &mut out).unwrap();
        assert_eq!(request.length, head.len());
        assert!(String::from_utf8(out).unwrap().starts_with("GET / HTTP/1.1\r\nHost: a\r\nX: y\r\nX-For"));
    }
    let head = b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\n";
    let data = [head.as_slice(), b"\r\n\r\nX"].concat();
    assert_eq!(response(&data, false).unwrap().unwrap().length, head.len());
    for length in 0..head.len() {
        assert_eq!(response(&head[..length], false), Ok(None), "{length} bytes are not all");
    }
}

#[rstest]
#[case::request("GET / HTTP/1.1\r\nHost: a\r\nX: y\r\n\r\n")]
#[case::response("HTTP/1.1 200 OK\r\nX: y\r\nContent-Length: 5\r\n\r\n")]
fn parsing_refuses_every_bare_line_feed(#[case] head: &str) {
    let parse = |head: &str| match head.starts_with("GET") {
        true => request(head.as_bytes(), origin(&client()), MOST_FIELDS, &mut Vec::new()).is_ok(),
        false => matches!(response(head.as_bytes(), false), Ok(Some(_))),
    };
    assert!(parse(head));
    for (at, _) in head.match_indices("\r\n") {
        let bare = format!("{}{}", &head[..at], &head[at + 1..]);
        assert!(!parse(&bare), "{bare:?}");
    }
    for before in ["\n", "\r\n", "\r\n\n"] {
        assert!(!parse(&format!("{before}{head}")), "{before:?} before");
    }
}

#[rstest]
#[case::length("HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\n", Framing::Length(5), true, true)]
#[case::same_length_twice(
    "HTTP/1.1 200 OK\r\nContent-Length: 5\r\nContent-Length: 5\r\n\r\n",
    Framing::Length(5),
    true,
    false
)]
#[case::chunked("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", Framing::Chunked, true, true)]
#[case::no_content("HTTP/1.1 204 No Content\r\n\r\n", Framing::None, true, true)]
#[case::not_modified("HTTP/1.1 304 Not Modified\r\nContent-Length: 5\r\n\r\n", Framing::None, true, true)]
#[case::until_close("HTTP/1.1 200 OK\r\n\r\n", Framing::UntilClose, false, true)]
#[case::says_close(
    "HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: close\r\n\r\n",
    Framing::Length(5),
    false,
    false
)]
#[case::http_10("HTTP/1.0 200 OK\r\nContent-Length: 5\r\n\r\n", Framing::Length(5), false, false)]
#[case::no_reason("HTTP/1.1 200\r\nContent-Length: 5\r\n\r\n", Framing::Length(5), true, true)]
fn responses(#[case] text: &str, #[case] framing: Framing, #[case] keep_alive: bool, #[case] as_is: bool) {
    let text = text.replacen("\r\n", "\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\n", 1);
    let parsed = response(text.as_bytes(), false).unwrap().unwrap();
    assert_eq!((parsed.framing, parsed.keep_alive, parsed.passes_as_is), (framing, keep_alive, as_is));
}

#[rstest]
#[case::garbage("garbage\r\n\r\n")]
#[case::contradiction("HTTP/1.1 200 OK\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n")]
#[case::two_lengths("HTTP/1.1 200 OK\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\n")]
#[case::status_out_of_range("HTTP/1.1 999 Odd\r\n\r\n")]
#[case::chunked_in_http_10("HTTP/1.0 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n")]
fn nonsense(#[case] text: &str) {
    assert_eq!(response(text.as_bytes(), false), Err(InvalidResponse));
}

#[test]
fn a_response_to_head_has_no_body_whatever_it_says() {
    assert_eq!(
        response(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\n", true).unwrap().unwrap().framing,
        Framing::None
    );
}

#[test]
fn a_rewritten_response_head() {
    let mut out = Vec::new();
    let head = b"HTTP/1.0 200 OK\r\nConnection: keep-alive\r\nKeep-Alive: 5\r\nTransfer-Encoding: chunked\r\nX: y\r\n\r\n";
    let more = ExtraFields { connection: Some("close"), field: Some(b"A: b\r\n"), ..ExtraFields::default() };
    write_response(head, true, more, &mut out);
    assert_eq!(
        String::from_utf8(out).unwrap(),
        "HTTP/1.1 200 OK\r\nX: y\r\nA: b\r\nConnection: close\r\n\r\n"
    );
}

/// A head in every length and position of its line ends, in one piece and in two.
#[test]
fn the_end_of_a_head_is_found_wherever_it_stands() {
    for padding in 0..40 {
        let head = format!("GET /{} HTTP/1.1\r\nA: \u{b}\u{1}\r\n\r\n", "x".repeat(padding));
        let bytes = [head.as_bytes(), b"POST / HTTP/1.1\r\n"].concat();
        for cut in 0..bytes.len() {
            let mut scan = HeadScan::default();
            let first = scan.end(&bytes[..cut]).unwrap();
            let found = if first.is_some() { first } else { scan.end(&bytes).unwrap() };
            assert_eq!(found, Some(head.len()), "padding {padding}, cut at {cut}");
        }
        let bare = format!("GET /{} HTTP/1.1\nA: b\r\n\r\n", "x".repeat(padding));
        assert_eq!(HeadScan::default().end(bare.as_bytes()), Err(BareLineFeed), "padding {padding}");
    }
}

#[rstest]
#[case::name("booking.skerry.example", true)]
#[case::nothing("", true)]
#[case::port("booking.skerry.example:8080", true)]
#[case::empty_port("a:", true)]
#[case::signs("a,b!$&'()*+;=_~", true)]
#[case::address("192.0.2.7:80", true)]
#[case::literal("[2001:db8::7]", true)]
#[case::literal_and_port("[2001:db8::7]:443", true)]
#[case::future("[v7.skerry:1]:443", true)]
#[case::encoded("b%6Foking:80", true)]
#[case::letters_for_a_port("a:http", false)]
#[case::two_ports("a:80:80", false)]
#[case::port_alone(":80", false)]
#[case::bare_ipv6("2001:db8::7", false)]
#[case::no_address("[skerry]", false)]
#[case::open_literal("[2001:db8::7", false)]
#[case::more_than_a_literal("[2001:db8::7]a", false)]
#[case::name_before_a_literal("a[2001:db8::7]", false)]
#[case::half_encoded("a%6", false)]
#[case::not_encoded("a%zz", false)]
#[case::encoded_and_letters_for_a_port("a%6F:http", false)]
#[case::user("u@a", false)]
#[case::path("a/b", false)]
#[case::space("a b", false)]
fn hosts(#[case] text: &str, #[case] is_one: bool) {
    assert_eq!(is_host(text.as_bytes()), is_one);
}

#[rstest]
#[case::query_without_a_path("GET http://b.example?day=3 HTTP/1.1", "GET /?day=3 HTTP/1.1")]
#[case::nothing_behind_the_authority("GET http://b.example HTTP/1.1", "GET / HTTP/1.1")]
#[case::options_of_the_whole_server("OPTIONS http://b.example HTTP/1.1", "OPTIONS * HTTP/1.1")]
#[case::options_of_its_root("OPTIONS http://b.example/ HTTP/1.1", "OPTIONS / HTTP/1.1")]
fn absolute_targets(#[case] line: &str, #[case] written: &str) {
    let (_, head) = pass(&format!("{line}\r\nHost: a\r\n\r\n"));
    assert!(head.starts_with(&format!("{written}\r\n")), "{head}");
    assert!(head.contains("Host: b.example\r\n") && !head.contains("Host: a\r\n"), "{head}");
}

#[test]
fn questions_about_the_way_go_on_as_often_as_they_may() {
    for (method, status) in [("OPTIONS", 200), ("TRACE", 501)] {
        let (_, head) = pass(&format!("{method} / HTTP/1.1\r\nHost: a\r\nMax-Forwards: 3\r\n\r\n"));
        assert!(head.contains("\r\nMax-Forwards: 2\r\n") && !head.contains(": 3"), "{head}");
        let fields = client();
        let text = format!("{method} / HTTP/1.1\r\nHost: a\r\nMax-Forwards: 0\r\n\r\n");
        let refused = request(text.as_bytes(), origin(&fields), 100, &mut Vec::new()).unwrap_err();
        assert_eq!(refused.status(), status, "it is answered here");
    }
    let (_, head) = pass("GET / HTTP/1.1\r\nHost: a\r\nMax-Forwards: 0\r\n\r\n");
    assert!(head.contains("Max-Forwards: 0\r\n"), "it means nothing with other methods: {head}");
}

#[test]
fn what_a_server_says_of_its_connection_ends_here_and_lengths_go_on_once() {
    let head = b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\nConnection: X-Berth\r\nX-Berth: 7\r\nX-Sum: 1\r\n\
                 content-length: 5\r\n\r\n";
    assert!(!response(head, false).unwrap().unwrap().passes_as_is);
    let mut out = Vec::new();
    write_response(head, false, ExtraFields::default(), &mut out);
    assert_eq!(String::from_utf8(out).unwrap(), "HTTP/1.1 200 OK\r\nContent-Length: 5\r\nX-Sum: 1\r\n\r\n");
}

#[rstest]
#[case::no_content("204 No Content", "Content-Length: 5\r\n")]
#[case::no_content_in_chunks("204 No Content", "Transfer-Encoding: chunked\r\n")]
fn what_has_no_body_says_nothing_of_its_length(#[case] status: &str, #[case] field: &str) {
    let head = format!("HTTP/1.1 {status}\r\n{field}X-Sum: 1\r\nDate: today\r\n\r\n");
    let read = response(head.as_bytes(), false).unwrap().unwrap();
    assert_eq!((read.framing, read.passes_as_is, read.keep_alive), (Framing::None, false, true));
    let mut out = Vec::new();
    write_response(head.as_bytes(), false, ExtraFields::default(), &mut out);
    assert_eq!(
        String::from_utf8(out).unwrap(),
        format!("HTTP/1.1 {status}\r\nX-Sum: 1\r\nDate: today\r\n\r\n")
    );
}

#[test]
fn an_answer_that_does_not_say_when_it_was_made_gets_the_time_at_which_it_came() {
    let head = b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\n";
    let read = response(head, false).unwrap().unwrap();
    assert_eq!((read.is_dated, read.passes_as_is), (false, false));
    let mut out = Vec::new();
    let came = std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_795_685_400);
    write_response(head, false, ExtraFields { date: Some(came), ..ExtraFields::default() }, &mut out);
    assert_eq!(
        String::from_utf8(out).unwrap(),
        "HTTP/1.1 200 OK\r\nContent-Length: 5\r\nDate: Thu, 26 Nov 2026 09:30:00 GMT\r\n\r\n"
    );
    let early = response(b"HTTP/1.1 103 Early Hints\r\nLink: </berths>\r\n\r\n", false).unwrap().unwrap();
    assert!(early.is_dated && early.passes_as_is, "what comes before an answer needs none");
}

#[test]
fn white_space_behind_a_servers_names_does_not_go_on() {
    let head = b"HTTP/1.1 200 OK\r\nContent-Length : 5\r\nX-Sum\t: 1\r\n\r\n";
    let read = response(head, false).unwrap().unwrap();
    assert_eq!((read.framing, read.passes_as_is), (Framing::Length(5), false));
    assert_eq!(response(&head[..40], false), Ok(None), "half of it");
    let mut out = Vec::new();
    write_response(head, false, ExtraFields::default(), &mut out);
    assert_eq!(String::from_utf8(out).unwrap(), "HTTP/1.1 200 OK\r\nContent-Length: 5\r\nX-Sum: 1\r\n\r\n");
}
