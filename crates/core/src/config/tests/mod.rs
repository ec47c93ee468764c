mod announcements;
mod changing;
mod formats;
mod generated;
mod keys;
mod properties;
mod rules;
mod service_addresses;
mod size;
mod tls;

use rstest::rstest;

use super::diff::diff;
use super::*;

const GOOD: &str = r#"format = 3

[checks.answers]
kind = "http"
path = "/health"

[pools.booking]
check = "answers"

[pools.booking.servers.gull]
address = "192.0.2.21:8080"
weight = 3

[pools.booking.servers.tern]
address = "192.0.2.22:8080"

[frontends.booking]
protocol = "http"
listen = "192.0.2.10:80"
pool = "booking"
"#;

fn problems(text: &str) -> Vec<(Option<usize>, String)> {
    let problems = load(text, DocumentFormat::Toml).expect_err("a document with mistakes");
    problems.into_iter().map(|problem| (problem.line, problem.path)).collect()
}

fn changed(from: &str, to: &str) -> String {
    assert!(GOOD.contains(from), "{from:?} is in the document");
    GOOD.replace(from, to)
}

#[test]
fn a_good_document_is_checked_without_warnings() {
    let checked = load(GOOD, DocumentFormat::Toml).unwrap();
    assert_eq!(checked.warnings(), []);
    assert_eq!(checked.document().pools.values().next().unwrap().servers.len(), 2);
}

#[test]
fn export_round_trips_and_is_stable() {
    let first = load(GOOD, DocumentFormat::Toml).unwrap();
    let toml = first.document().to_toml();
    let json = first.document().to_json();
    for (text, format) in [(&toml, DocumentFormat::Toml), (&json, DocumentFormat::Json)] {
        let again = load(text, format).unwrap();
        assert_eq!(again.document(), first.document());
        assert_eq!((again.document().to_toml(), again.document().to_json()), (toml.clone(), json.clone()));
    }
}

#[rstest]
#[case::weight_too_large("weight = 3", "weight = 1001", 12, "pools.booking.servers.gull.weight")]
#[case::weight_as_text("weight = 3", "weight = \"3\"", 12, "pools.booking.servers.gull.weight")]
#[case::unknown_key("weight = 3", "wieght = 3", 12, "pools.booking.servers.gull.wieght")]
#[case::no_port("192.0.2.21:8080", "192.0.2.21", 11, "pools.booking.servers.gull.address")]
#[case::missing_address("address = \"192.0.2.22:8080\"", "", 14, "pools.booking.servers.tern.address")]
#[case::address_twice(
    "192.0.2.22:8080\"",
    "192.0.2.22:8080\"\nother_addresses = [\"192.0.2.22:8080\"]",
    16,
    "pools.booking.servers.tern.other_addresses"
)]
#[case::other_address_of_another(
    "192.0.2.22:8080\"",
    "192.0.2.22:8080\"\nother_addresses = [\"192.0.2.21:8080\"]",
    16,
    "pools.booking.servers.tern.other_addresses"
)]
#[case::same_address("192.0.2.22:8080", "192.0.2.21:8080", 15, "pools.booking.servers.tern.address")]
#[case::unknown_pool("pool = \"booking\"", "pool = \"bookings\"", 20, "frontends.booking.pool")]
#[case::unknown_check("check = \"answers\"", "check = \"answer\"", 8, "pools.booking.check")]
#[case::unknown_kind("kind = \"http\"", "kind = \"https\"", 4, "checks.answers.kind")]
#[case::path_without_slash("path = \"/health\"", "path = \"health\"", 5, "checks.answers.path")]
#[case::bad_status("path = \"/health\"", "accept = [\"2xx\"]", 5, "checks.answers.accept")]
#[case::bare_number("path = \"/health\"", "interval = 2", 5, "checks.answers.interval")]
#[case::bad_name(
    "[pools.booking.servers.tern]",
    "[pools.booking.servers.Tern]",
    14,
    "pools.booking.servers.Tern"
)]
#[case::format_of_the_future("format = 3", "format = 4", 1, "format")]
#[case::no_format_at_all("format = 3", "format = 0", 1, "format")]
#[case::pool_is_no_table(
    "[pools.booking.servers.tern]",
    "[pools]\nx = 1\n[pools.booking.servers.tern]",
    15,
    "pools.x"
)]
fn one_mistake_is_told_at_its_place(
    #[case] from: &str,
    #[case] to: &str,
    #[case] line: usize,
    #[case] path: &str,
) {
    let problems = problems(&changed(from, to));
    assert!(problems.contains(&(Some(line), path.to_owned())), "{problems:?}");
}

#[test]
fn three_mistakes_are_told_at_once_in_the_order_of_their_lines() {
    let text = changed("weight = 3", "weight = -3")
        .replace("192.0.2.22:8080", "tern.example:8080")
        .replace("pool = \"booking\"", "pool = \"bookign\"");
    let lines: Vec<_> = problems(&text).into_iter().map(|(line, _)| line).collect();
    assert_eq!(lines, [Some(12), Some(15), Some(20)]);
}

#[test]
fn a_object_that_could_not_be_read_is_not_also_called_missing() {
    let text = changed("kind = \"http\"", "kind = \"carrier-pigeon\"");
    assert_eq!(problems(&text), [(Some(4), "checks.answers.kind".to_owned())]);
}

#[test]
fn a_misspelt_key_is_answered_with_the_right_one() {
    let found = load(&changed("weight = 3", "wieght = 3"), DocumentFormat::Toml).unwrap_err();
    assert_eq!(found[0].expected, "the key weight");
    assert!(found[0].to_string().starts_with("line 12: pools.booking.servers.gull.wieght: there is no key"));
}

#[test]
fn broken_syntax_is_told_with_its_line() {
    let toml = problems("format = 3\n[pools.booking\n");
    assert_eq!(toml.first().and_then(|(line, _)| *line), Some(2));
    let json = load("{\n  \"format\": 2,\n}", DocumentFormat::Json).unwrap_err();
    assert!(matches!(json[0].line, Some(2 | 3)), "{json:?}");
    let twice = load("{\"format\": 2,\n\"format\": 2}", DocumentFormat::Json).unwrap_err();
    assert_eq!((twice[0].line, twice[0].path.as_str()), (Some(2), "format"));
}

#[rstest]
#[case::same("192.0.2.10:80", true)]
#[case::every_address("0.0.0.0:80", true)]
#[case::every_address_of_both_kinds("[::]:80", true)]
#[case::other_port("192.0.2.10:81", false)]
#[case::other_address("192.0.2.11:80", false)]
fn frontends_must_not_overlap(#[case] listen: &str, #[case] overlaps: bool) {
    let second = format!(
        "{GOOD}\n[frontends.timetable]\nprotocol = \"http\"\nlisten = \"{listen}\"\npool = \"booking\"\n"
    );
    assert_eq!(load(&second, DocumentFormat::Toml).is_err(), overlaps);
}

#[rstest]
#[case::empty_pool("[pools.spare]\n", "empty-pool:pools.spare")]
#[case::no_weight(
    "[pools.spare.servers.auk]\naddress = \"192.0.2.30:80\"\nweight = 0\n",
    "no-weight:pools.spare"
)]
#[case::empty_behind_tcp(
    "[pools.spare]\n[frontends.side]\nprotocol = \"tcp\"\nlisten = \"192.0.2.11:80\"\npool = \"spare\"\n",
    "empty-pool:pools.spare"
)]
#[case::no_check("[pools.spare.servers.auk]\naddress = \"192.0.2.30:80\"\n", "no-check:pools.spare")]
#[case::unused("[pools.spare]\n", "unused-pool:pools.spare")]
#[case::one_sender(
    "[frontends.logs]\nprotocol = \"udp\"\nlisten = \"192.0.2.10:514\"\npool = \"logs\"\n[pools.logs]\n",
    "one-sender-one-server:frontends.logs.balance_per"
)]
#[case::empty_datagram(
    "[frontends.logs]\nprotocol = \"udp\"\nlisten = \"192.0.2.10:514\"\npool = \"logs\"\n[pools.logs]\ncheck = \"feed\"\n[checks.feed]\nkind = \"udp\"\n",
    "empty-datagram:checks.feed.send"
)]
#[case::shared("[pools.spare.servers.auk]\naddress = \"192.0.2.21:8080\"\n", "shared:pools.spare")]
#[case::circle(
    "[pools.booking.servers.auk]\naddress = \"192.0.2.10:80\"\n",
    "circle:pools.booking.servers.auk.address"
)]
#[case::long_circle(
    "[frontends.side]\nprotocol = \"http\"\nlisten = \"192.0.2.11:80\"\npool = \"spare\"\n\
     [pools.booking.servers.auk]\naddress = \"192.0.2.11:80\"\n\
     [pools.spare.servers.auk]\naddress = \"192.0.2.10:80\"\n",
    "circle:pools.booking.servers.auk.address"
)]
#[case::chain(
    "[pools.spare.servers.auk]\naddress = \"192.0.2.10:80\"\n",
    "chain:pools.spare.servers.auk.address"
)]
#[case::slow_timeout(
    "[checks.slow]\nkind = \"tcp\"\ninterval = \"1s\"\ntimeout = \"2s\"\n",
    "slow-timeout:checks.slow.timeout"
)]
#[case::a_greeting_that_nobody_waits_for(
    "[frontends.side]\nprotocol = \"tcp\"\nlisten = \"192.0.2.10:443\"\npool = \"booking\"\nclient_hello_timeout = \"1s\"\n",
    "no-effect:frontends.side.client_hello_timeout"
)]
#[case::keys_that_clients_never_have(
    "[pools.side]\nalgorithm = \"hash\"\nhash_keys = [\"path\", \"cookie:visit\"]\n\
     [frontends.side]\nprotocol = \"tcp\"\nlisten = \"192.0.2.10:443\"\npool = \"side\"\n",
    "never-there:pools.side.hash_keys"
)]
#[case::keys_that_clients_never_have_and_need(
    "[pools.side]\nalgorithm = \"hash\"\nhash_keys = [\"sni\"]\nhash_when_absent = \"refuse\"\n\
     [frontends.side]\nprotocol = \"http\"\nlisten = \"192.0.2.10:443\"\npool = \"side\"\n",
    "never-there:pools.side.hash_keys"
)]
#[case::a_group_of_pins_without_a_server_in_common(
    "[pools.side]\npersistence = \"cookie\"\npin_group = \"quay\"\nservers.auk = { address = \"192.0.2.10:80\" }\n\
     [pools.pier]\npersistence = \"cookie\"\npin_group = \"quay\"\nservers.puffin = { address = \"192.0.2.11:80\" }\n",
    "unshared-pins:pools.side.pin_group"
)]
#[case::a_value_of_a_page_that_is_misspelt(
    "[frontends.side]\nprotocol = \"http\"\nlisten = \"192.0.2.10:81\"\npool = \"booking\"\nerror_html = \"<h1>{statis}</h1>\"\n",
    "unknown-page-value:frontends.side.error_html"
)]
fn what_is_allowed_and_probably_a_mistake_is_warned_about(#[case] more: &str, #[case] key: &str) {
    let checked = load(&format!("{GOOD}\n{more}"), DocumentFormat::Toml).unwrap();
    assert!(checked.warnings().iter().any(|w| w.key == key && w.line.is_some()), "{:?}", checked.warnings());
}

#[test]
fn changes_are_named() {
    let old = load(GOOD, DocumentFormat::Toml).unwrap();
    let text = changed("weight = 3", "weight = 1")
        .replace("[pools.booking.servers.tern]", "[pools.booking.servers.auk]")
        .replace("192.0.2.22", "192.0.2.23");
    let new = load(&text, DocumentFormat::Toml).unwrap();
    let words: Vec<_> =
        diff(old.document(), new.document()).iter().map(diff::DocumentChange::words).collect();
    assert_eq!(
        words,
        [
            "add server booking/auk (address 192.0.2.23:8080, weight 1)",
            "weight of server booking/gull: 3 to 1 (default)",
            "remove server booking/tern",
        ]
    );
    assert_eq!(diff(old.document(), old.document()), []);
}

#[test]
fn impact_tells_how_the_shares_move() {
    struct AllUp;
    impl crate::eligibility::ServerStates for AllUp {
        fn duty(&self, _: &crate::name::PoolServer) -> crate::duty::Duty {
            crate::duty::Duty::InService
        }
        fn health(&self, server: &crate::name::PoolServer) -> crate::health::HealthState {
            if server.server.as_str() == "tern" {
                crate::health::HealthState::Down
            } else {
                crate::health::HealthState::Up
            }
        }
    }
    let old = load(GOOD, DocumentFormat::Toml).unwrap();
    let more = format!("{GOOD}\n[pools.booking.servers.auk]\naddress = \"192.0.2.30:80\"\nweight = 1\n");
    let new = load(&more, DocumentFormat::Toml).unwrap();
    let impact = impact::impact(old.document(), new.document(), &AllUp, &std::collections::BTreeSet::new());
    assert_eq!((impact.frontends[0].as_str(), impact.pools[0].as_str()), ("booking", "booking"));
    let moves: Vec<_> = impact
        .moves
        .into_iter()
        .map(|share_change| (share_change.server.to_string(), share_change.before, share_change.after))
        .collect();
    // tern is down before and after: nothing moves for it. auk is new and counts as up.
    assert_eq!(
        moves,
        [("booking/auk".to_owned(), None, Some(0.25)), ("booking/gull".to_owned(), Some(1.0), Some(0.75)),]
    );
}

#[test]
fn a_wrong_query_does_not_make_the_other_keys_of_its_check_unknown() {
    let text = "format = 3\n[checks.rows]\nkind = \"sql\"\nuser = \"probe\"\nquery = \"DROP TABLE x\"\nexpect = \"= 1\"\ncolumn = \"n\"\n\
                [checks.name]\nkind = \"dns\"\nname = \"no name\"\nexpect = \"192.0.2.1\"\n";
    let problems = load(text, DocumentFormat::Toml).unwrap_err();
    let paths: Vec<_> = problems.iter().map(|problem| problem.path.as_str()).collect();
    assert_eq!(paths, ["checks.rows.query", "checks.name.name"], "{problems:#?}");
}

#[test]
fn of_many_names_the_nearest_are_offered() {
    let mut text = "format = 3\n[frontends.web]\nprotocol = \"http\"\nlisten = \"192.0.2.1:80\"\npool = \"timetables\"\n".to_owned();
    for name in
        ["auk", "booking", "cargo", "diver", "eider", "fulmar", "gannet", "harbour", "islands", "timetable"]
    {
        text += &format!("[pools.{name}]\n");
    }
    let problems = load(&text, DocumentFormat::Toml).unwrap_err();
    assert!(problems[0].expected.starts_with("one of timetable, "), "{problems:#?}");
    assert_eq!(problems[0].expected.matches(", ").count(), 7);
}

/// What a message proposes for a key that is missing can be written into the document as it is.
#[rstest]
#[case::text(
    "[frontends.f]\nlisten = \"192.0.2.1:80\"\npool = \"booking\"\n",
    "frontends.f.protocol",
    "protocol = "
)]
#[case::list(
    "[notifications.n]\nmail_from = \"a@skerry.example\"\nmail_server = \"mail.skerry.example:25\"\n",
    "notifications.n.mail_to",
    "mail_to = [\"watch@skerry.example\"]"
)]
#[case::number(
    "[pools.q.lookups.l]\nname = \"q.skerry.example\"\nrecords = \"address\"\n",
    "pools.q.lookups.l.port",
    "port = 8080"
)]
fn what_is_proposed_for_a_missing_key_can_be_pasted(
    #[case] more: &str,
    #[case] path: &str,
    #[case] right: &str,
) {
    let text = format!("{GOOD}{more}");
    let problems = load(&text, DocumentFormat::Toml).expect_err("a key is missing");
    let missing = problems.iter().find(|problem| problem.path == path);
    let expected = &missing.unwrap_or_else(|| panic!("{problems:#?}")).expected;
    assert!(expected.starts_with(right), "{expected}");
}

#[rstest]
#[case::the_same_cookie("pin_cookie = \"visit\"", None)]
#[case::another_cookie("pin_cookie = \"berth\"", Some("pools.second.pin_cookie"))]
#[case::one_that_is_not_named("", Some("pools.second.pin_cookie"))]
fn pools_of_a_pin_group_have_the_same_cookie(#[case] key: &str, #[case] wrong: Option<&str>) {
    let tied = "persistence = \"cookie\"\npin_group = \"site\"\n";
    let text = format!(
        "format = 3\n[pools.first]\n{tied}pin_cookie = \"visit\"\nservers.a = {{ address = \"192.0.2.1:80\" }}\n\
         [pools.second]\n{tied}{key}\nservers.a = {{ address = \"192.0.2.2:80\" }}\n"
    );
    let problems = load(&text, DocumentFormat::Toml).err().unwrap_or_default();
    assert_eq!(problems.first().map(|problem| problem.path.as_str()), wrong, "{problems:#?}");
}
