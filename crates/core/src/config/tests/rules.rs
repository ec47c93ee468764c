//! Rules and examples: what they name, what is said of them before they go live, and renames.

use rstest::rstest;

use super::super::document::Document;
use super::super::edit::{Edit, edit};
use super::super::{Checked, DocumentFormat, Problem, WarningKind, load};

const GROUND: &str = r#"format = 3
[networks]
office = ["192.0.2.0/24"]
[checks.up]
kind = "tcp"
[pools.booking]
check = "up"
servers.gull.address = "192.0.2.21:80"
[pools.next]
check = "up"
servers.tern.address = "192.0.2.22:80"
[frontends.web]
protocol = "http"
listen = "192.0.2.10:80"
pool = "booking"
"#;

/// The ground with these rules, listed in this order, and more text.
fn with_rules(rules: &[(&str, &str)], more: &str) -> Result<Checked, Vec<Problem>> {
    let names: Vec<&str> = rules.iter().map(|(name, _)| *name).collect();
    let mut text = format!("{GROUND}rules = {names:?}\n");
    for (name, keys) in rules {
        text += &format!("[rules.{name}]\n{keys}\n");
    }
    load(&(text + more), DocumentFormat::Toml)
}

fn warned(checked: &Checked) -> Vec<(WarningKind, String)> {
    checked.warnings().iter().map(|warning| (warning.kind, warning.path.clone())).collect()
}

#[rstest]
#[case::a_condition(
    "when = 'hsot is a'\naction = \"pool\"\npool = \"next\"",
    "rules.a.when",
    "\"hsot\" at character 1",
    "host, path"
)]
#[case::no_pool("when = 'always'\naction = \"pool\"", "rules.a.pool", "leads to no pool", "pool_weights")]
#[case::two_kinds_of_pools(
    "when = 'always'\naction = \"pool\"\npool = \"next\"\npool_weights = { booking = 1 }",
    "rules.a.pool",
    "pool and pool_weights",
    "one"
)]
#[case::an_unknown_pool("when = 'always'\naction = \"pool\"\npool = \"nxt\"", "rules.a.pool", "nxt", "next")]
#[case::weights_of_nothing(
    "when = 'always'\naction = \"pool\"\npool_weights = { next = 0 }",
    "rules.a.pool_weights",
    "weight 0",
    "1 or more"
)]
#[case::an_unknown_network("when = 'client in ofice'\naction = \"close\"", "rules.a.when", "ofice", "office")]
#[case::no_location(
    "when = 'always'\naction = \"redirect\"",
    "rules.a.location",
    "leads nowhere",
    "location"
)]
#[case::no_redirect(
    "when = 'always'
action = \"redirect\"
location = \"/x\"
redirect_status = \"200\"",
    "rules.a.redirect_status",
    "200",
    "308"
)]
#[case::a_body_of_no_content(
    "when = 'always'
action = \"respond\"
status = 204
body = \"x\"",
    "rules.a.body",
    "no body",
    "another"
)]
#[case::a_refusal_that_is_none(
    "when = 'always'\naction = \"refuse\"\nstatus = 200",
    "rules.a.status",
    "refuses nothing",
    "400"
)]
#[case::a_change_of_nothing(
    "when = 'always'\naction = \"continue\"",
    "rules.a.action",
    "changes nothing",
    "rewrite_path"
)]
#[case::a_path_that_is_a_url(
    "when = 'always'\naction = \"continue\"\nrewrite_path = \"https://a.example/\"",
    "rules.a.rewrite_path",
    "whole URL",
    "a path"
)]
#[case::a_length_that_is_set(
    "when = 'always'\naction = \"continue\"\nset_request_fields = { Content-Length = \"7\" }",
    "rules.a.set_request_fields.Content-Length",
    "delimits",
    "another"
)]
#[case::a_host_that_is_removed(
    "when = 'always'\naction = \"continue\"\nremove_request_fields = [\"Host\"]",
    "rules.a.remove_request_fields",
    "directs",
    "rewrite_host"
)]
#[case::a_value_that_there_is_not(
    "when = 'always'\naction = \"continue\"\nset_request_fields = { X-A = \"{clent}\" }",
    "rules.a.set_request_fields.X-A",
    "{clent}",
    "{client}"
)]
#[case::a_group_that_there_is_not(
    "when = 'always'\naction = \"continue\"\nset_request_fields = { X-A = \"{capture.n}\" }",
    "rules.a.set_request_fields.X-A",
    "no path matches",
    "capture"
)]
#[case::a_group_of_a_location_that_there_is_not(
    "when = 'path matches \"^/(?P<m>.)\"'\naction = \"redirect\"\nlocation = \"/{capture.n}\"",
    "rules.a.location",
    "no path matches",
    "capture"
)]
#[case::a_label_that_there_is_not(
    "when = 'always'\naction = \"continue\"\nrequest_label = \"{cilent}\"",
    "rules.a.request_label",
    "{cilent}",
    "{client}"
)]
#[case::a_choice_of_one(
    "when = 'always'\naction = \"pool\"\npool = \"next\"\nchoice_cookie = \"release\"",
    "rules.a.choice_cookie",
    "leads to one",
    "pool_weights"
)]
#[case::a_key_of_another_action(
    "when = 'always'\naction = \"close\"\nstatus = 403",
    "rules.a.status",
    "no key",
    ""
)]
fn mistakes_in_rules_have_a_place(
    #[case] keys: &str,
    #[case] path: &str,
    #[case] found: &str,
    #[case] expected: &str,
) {
    let problems = with_rules(&[("a", keys)], "").unwrap_err();
    assert_eq!(problems.len(), 1, "{problems:#?}");
    let problem = &problems[0];
    assert_eq!((problem.path.as_str(), problem.line.is_some()), (path, true), "{problem:?}");
    assert!(problem.found.contains(found) && problem.expected.contains(expected), "{problem:?}");
}

#[rstest]
#[case::a_host("when = 'client in office and host is a.example'\naction = \"close\"", "looks at host")]
#[case::a_path("when = 'not path is /'\naction = \"close\"", "looks at path")]
#[case::a_status("when = 'always'\naction = \"refuse\"", "status 403")]
#[case::a_change("when = 'always'\naction = \"pool\"\npool = \"next\"\nrewrite_path = \"/x\"", "path /x")]
fn rules_of_connections_do_with_what_is_known_of_them(#[case] keys: &str, #[case] found: &str) {
    let tcp = GROUND.replace("\"http\"", "\"tcp\"");
    let known = "[rules.b]\nwhen = 'server-name is *.a.example and port is 80 and local-address in 192.0.2.10'\naction = \"close\"\n";
    let text = |keys: &str| format!("{tcp}rules = [\"b\", \"a\"]\n{known}[rules.a]\n{keys}\n");
    load(&text("when = 'client in office'\naction = \"pool\"\npool = \"next\""), DocumentFormat::Toml)
        .unwrap();
    let problems = load(&text(keys), DocumentFormat::Toml).unwrap_err();
    assert_eq!((problems.len(), problems[0].path.as_str()), (1, "frontends.web.rules"), "{problems:#?}");
    assert!(problems[0].found.contains(found), "{problems:#?}");
}

#[rstest]
#[case::two("a", "b", "", &["a", "b"])]
#[case::over_one_that_goes_on("a", "b", "on", &["a", "b"])]
#[case::three("a", "b", "c", &["a", "b", "c"])]
#[case::into_one_that_only_leads_there("in", "a", "b", &["a", "b"])]
fn redirects_that_lead_back_over_others_are_a_circle(
    #[case] one: &str,
    #[case] two: &str,
    #[case] three: &str,
    #[case] circle: &[&str],
) {
    let redirect = |from: &str, to: &str| {
        format!("when = 'path is /{from}'\naction = \"redirect\"\nlocation = \"/{to}{{query}}\"")
    };
    let on = "when = 'always'\naction = \"continue\"\nset_request_fields = { X-A = \"b\" }".to_owned();
    let names: Vec<&str> = [one, two, three].into_iter().filter(|name| !name.is_empty()).collect();
    let to = |name: &str| {
        if circle.last() == Some(&name) {
            circle[0]
        } else {
            names[names.iter().position(|it| *it == name).unwrap() + 1]
        }
    };
    let mut rules: Vec<(&str, String)> = Vec::new();
    if names.contains(&"on") {
        rules.push(("on", on));
    }
    rules.extend(names.iter().filter(|name| **name != "on").map(|name| (*name, redirect(name, to(name)))));
    let listed: Vec<(&str, &str)> = rules.iter().map(|(name, keys)| (*name, keys.as_str())).collect();
    let warned = warned(&with_rules(&listed, "").unwrap());
    let found: Vec<&str> = warned
        .iter()
        .filter(|(kind, _)| *kind == WarningKind::RedirectCircle)
        .map(|(_, path)| path.strip_prefix("rules.").unwrap().strip_suffix(".location").unwrap())
        .collect();
    assert_eq!(found, circle);
}

#[test]
fn a_label_is_not_known_before_any_rule_is_asked() {
    let text = format!("{GROUND}limits = [\"each\"]\n[limits.each]\nper = \"label\"\nrate = 1\n");
    let problems = load(&text, DocumentFormat::Toml).unwrap_err();
    assert_eq!((problems.len(), problems[0].path.as_str()), (1, "frontends.web.limits"), "{problems:#?}");
    assert!(problems[0].expected.contains("at the rule that gives the label"), "{problems:#?}");
}

#[test]
fn what_is_named_has_to_be_there() {
    let text = format!(
        "{GROUND}rules = [\"nothing\"]\n[examples.e]\nfrontend = \"wbe\"\nexpect_rule = \"none\"\nexpect_pool = \"nxt\"\n"
    );
    let problems = load(&text, DocumentFormat::Toml).unwrap_err();
    let paths: Vec<&str> = problems.iter().map(|problem| problem.path.as_str()).collect();
    assert_eq!(
        paths,
        ["frontends.web.rules", "examples.e.frontend", "examples.e.expect_rule", "examples.e.expect_pool"]
    );
}

const ADMIN: (&str, &str) =
    ("admin", "when = 'path under /admin and client not in office'\naction = \"refuse\"");
const OLD: (&str, &str) = (
    "old",
    "when = 'path under /old'\naction = \"redirect\"\nlocation = \"https://{host}/new{rest}{query}\"",
);
const NEXT: (&str, &str) = ("beta", "when = 'header X-Beta is yes'\naction = \"pool\"\npool = \"next\"");

const APP: (&str, &str) = (
    "app",
    "when = 'path under /app'\naction = \"continue\"\nrewrite_path = \"{rest}\"\nset_request_fields = { X-From = \"{client}\" }",
);

#[rstest]
#[case::refused(
    "path = \"/admin/users\"\nclient = \"198.51.100.7\"\nexpect_rule = \"admin\"\nexpect_status = 403",
    None
)]
#[case::let_in("path = \"/admin/users\"\nclient = \"192.0.2.7\"\nexpect_pool = \"booking\"", None)]
#[case::redirected(
    "host = \"a.example:8080\"\npath = \"/old/x?y=1\"\nexpect_location = \"https://a.example/new/x?y=1\"\nexpect_status = 307",
    None
)]
#[case::by_a_header("headers = { X-Beta = \"yes\" }\nexpect_pool = \"next\"\nexpect_rule = \"beta\"", None)]
#[case::changed_on_the_way(
    "path = \"/app/x?y\"\nexpect_path = \"/x?y\"\nexpect_fields = { X-From = \"0.0.0.0\" }\nexpect_pool = \"booking\"",
    None
)]
#[case::another_path(
    "path = \"/app/x\"\nexpect_path = \"/app/x\"",
    Some("goes to pool booking as /x with X-From: 0.0.0.0")
)]
#[case::an_ambiguous_path("path = \"/x/%2e%2e/admin\"\nexpect_status = 400", None)]
#[case::another_pool(
    "headers = { X-Beta = \"yes\" }\nexpect_pool = \"booking\"",
    Some("meets rule beta and goes to pool next")
)]
#[case::another_rule("path = \"/admin\"\nexpect_rule = \"old\"", Some("meets rule admin and gets 403"))]
#[case::no_rule("expect_rule = \"old\"", Some("meets no rule and goes to pool booking"))]
#[case::another_location(
    "path = \"/old\"\nhost = \"a.example\"\nexpect_location = \"https://a.example/\"",
    Some("redirected to https://a.example/new (307)")
)]
fn examples_hold_or_the_change_is_refused(#[case] example: &str, #[case] becomes: Option<&str>) {
    let more = format!("[examples.e]\nfrontend = \"web\"\n{example}\n");
    match (with_rules(&[APP, ADMIN, OLD, NEXT], &more), becomes) {
        (Ok(_), None) => {}
        (Err(problems), Some(becomes)) => {
            assert_eq!((problems.len(), problems[0].path.as_str()), (1, "examples.e"), "{problems:#?}");
            assert!(problems[0].found.contains(becomes), "{problems:#?}");
        }
        (result, _) => panic!("{result:#?}"),
    }
}

#[test]
fn an_example_expects_something() {
    let problems = with_rules(&[ADMIN], "[examples.e]\nfrontend = \"web\"\n").unwrap_err();
    assert!(problems[0].found.contains("expects nothing"), "{problems:#?}");
}

#[test]
fn rules_that_never_decide_are_warned_about() {
    let checked = with_rules(
        &[
            ("all-of-a", "when = 'host is a.example'\naction = \"close\""),
            ("part-of-a", "when = 'host is a.example and path under /x'\naction = \"close\""),
            ("never", "when = 'method is GET and method is POST'\naction = \"close\""),
            ("round", "when = 'path under /r'\naction = \"redirect\"\nlocation = \"/r/x\""),
            ("away", "when = 'path under /s'\naction = \"redirect\"\nlocation = \"/t\""),
        ],
        "[rules.spare]\nwhen = 'always'\naction = \"close\"\n",
    )
    .unwrap();
    let all = warned(&checked);
    let expected = [
        (WarningKind::RuleNeverMet, "rules.never"),
        (WarningKind::UnusedRule, "rules.spare"),
        (WarningKind::ShadowedRule, "frontends.web.rules.part-of-a"),
        (WarningKind::RedirectCircle, "rules.round.location"),
    ];
    for (kind, path) in expected {
        assert!(all.contains(&(kind, path.to_owned())), "{kind} in {all:#?}");
    }
    let of_rules = all.iter().filter(|(kind, _)| expected.iter().any(|(expected, _)| expected == kind));
    assert_eq!(of_rules.count(), expected.len(), "{all:#?}");
    let quiet = with_rules(&[ADMIN, OLD, NEXT], "").unwrap();
    assert!(!warned(&quiet).iter().any(|(_, path)| path.contains("rules")), "{:#?}", quiet.warnings());
}

#[rstest]
#[case::paths_within_each_other("path under /a and client in office", "path under /a/b", true)]
#[case::the_narrower_one_first("path under /a/b", "path under /a", false)]
#[case::other_paths("path under /a and method is GET", "path under /b", false)]
#[case::other_hosts(
    "host is a.example and path under /a and method is GET",
    "host is b.example and path under /a",
    false
)]
#[case::the_same_host(
    "host is a.example and path under /a and method is GET",
    "host is a.example and path is /a/b",
    true
)]
#[case::without_a_path("path under /a and method is GET", "client in office", false)]
fn rules_of_which_a_request_may_meet_both_are_pointed_out(
    #[case] first: &str,
    #[case] second: &str,
    #[case] is_told: bool,
) {
    let to = |when: &str, does: &str| format!("when = '{when}'\n{does}");
    let pool = "action = \"pool\"\npool = \"next\"";
    let (one, other) = (to(first, pool), to(second, "action = \"close\""));
    let checked = with_rules(&[("one", &one), ("other", &other)], "").unwrap();
    let is_found =
        warned(&checked).contains(&(WarningKind::OverlappingRules, "frontends.web.rules.other".to_owned()));
    assert_eq!(is_found, is_told, "{:#?}", checked.warnings());
    // Where both do the same, which comes first does not matter.
    let checked = with_rules(&[("one", &one), ("other", &to(second, pool))], "").unwrap();
    assert!(!warned(&checked).iter().any(|(kind, _)| *kind == WarningKind::OverlappingRules));
}

#[test]
fn ten_thousand_rules_are_checked_in_a_bounded_number_of_steps() {
    let mut text = String::from(GROUND);
    let names: Vec<String> = (0..10_000).map(|number| format!("r{number}")).collect();
    text += &format!("rules = {names:?}\n");
    for (number, name) in names.iter().enumerate() {
        let host = number / 10;
        text += &format!(
            "[rules.{name}]\nwhen = 'host is h{host}.example and path under /p{number}'\naction = \"pool\"\npool = \"next\"\n"
        );
    }
    let checked = load(&text, DocumentFormat::Toml).unwrap();
    assert!(!checked.warnings().iter().any(|warning| warning.kind == WarningKind::ShadowedRule));
}

fn renamed(document: &Document, path: &str, to: &str) -> Document {
    let rename = Edit::Rename { object: path.parse().unwrap(), to: to.parse().unwrap() };
    edit(document, &[rename]).unwrap()
}

#[test]
fn renames_follow_into_rules_and_examples() {
    let more = "[examples.e]\nfrontend = \"web\"\nexpect_rule = \"beta\"\nexpect_pool = \"next\"\nheaders = { X-Beta = \"yes\" }\n\
                [rules.part]\nwhen = 'always'\naction = \"pool\"\npool_weights = { booking = 95, next = 5 }\n";
    let document = with_rules(&[ADMIN, NEXT], more).unwrap().document().clone();
    let document = renamed(&document, "networks.office", "quay-office");
    let document = renamed(&document, "pools.next", "canary");
    let document = renamed(&document, "rules.beta", "testers");
    let document = renamed(&document, "frontends.web", "site");
    let text = document.to_toml();
    for expected in [
        "client in quay-office",
        "pool = \"canary\"",
        "canary = 5",
        "rules = [\"admin\", \"testers\"]",
        "expect_rule = \"testers\"",
        "expect_pool = \"canary\"",
        "frontend = \"site\"",
    ] {
        assert!(text.contains(expected), "{expected} in\n{text}");
    }
    load(&text, DocumentFormat::Toml).unwrap();
}

#[test]
fn lists_of_networks_may_be_long_where_they_are_not_looked_through_one_by_one() {
    let list = |count: u32| -> String {
        let network = |number: u32| format!("\"{}\"", std::net::Ipv4Addr::from(0x0a00_0000 + number));
        (0..count).map(network).collect::<Vec<_>>().join(", ")
    };
    let with = |count: u32, keys: &str| {
        let text = GROUND.replace("office = [", &format!("blocked = [{}]\noffice = [", list(count)));
        load(&format!("{text}{keys}\n"), DocumentFormat::Toml)
    };
    assert!(with(100_000, "deny = [\"blocked\"]").is_ok());
    let choice = "next_pools = [\"next\"]\nchoose_pool = \"by-network\"\npool_networks.next = [\"blocked\"]";
    assert!(with(1_000, choice).is_ok());
    let problems = with(1_001, choice).unwrap_err();
    assert_eq!(
        (problems.len(), problems[0].path.as_str()),
        (1, "frontends.web.pool_networks.next"),
        "{problems:#?}"
    );
    assert!(with(100_001, "").unwrap_err()[0].found.contains("100001 items"));
}
