//! Properties of rules over many made-up requests and conditions.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::{Condition, RequestVersion, RuleFacts, RuleSet, implies, is_never_met, request_path};

/// Conditions over few enough values that they meet each other often.
fn condition() -> impl Strategy<Value = String> {
    let host = prop::sample::select(vec![
        "a.skerry.example",
        "b.skerry.example",
        "*.skerry.example",
        "quay.example",
    ]);
    let path = prop::sample::select(vec!["/", "/a", "/a/b", "/b", "/a/b/c"]);
    let method = prop::sample::select(vec!["GET", "POST"]);
    let test = prop_oneof![
        host.prop_map(|host| format!("host is {host}")),
        path.clone().prop_map(|path| format!("path is {path}")),
        path.clone().prop_map(|path| format!("path under {path}")),
        path.prop_map(|path| format!("path contains {path}")),
        method.prop_map(|method| format!("method is {method}")),
        Just("header X-Tenant is blue".to_owned()),
        Just("always".to_owned()),
    ];
    test.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 2..4)
                .prop_map(|parts| format!("({})", parts.join(") and ("))),
            prop::collection::vec(inner.clone(), 2..4)
                .prop_map(|parts| format!("({})", parts.join(") or ("))),
            inner.prop_map(|part| format!("not ({part})")),
        ]
    })
}

#[derive(Clone, Debug)]
struct Imagined {
    host: Option<&'static str>,
    target: &'static str,
    method: &'static str,
    tenant: Option<&'static str>,
}

fn request() -> impl Strategy<Value = Imagined> {
    let hosts = vec![
        None,
        Some("a.skerry.example"),
        Some("B.Skerry.example:80"),
        Some("quay.example"),
        Some("x.example"),
    ];
    let targets = vec!["/", "/a", "/a/b?x", "/a/../b", "//a//b", "/%61/b/c", "/b/"];
    (
        prop::sample::select(hosts),
        prop::sample::select(targets),
        prop::sample::select(vec!["GET", "POST", "HEAD"]),
        prop::sample::select(vec![None, Some("blue"), Some("red")]),
    )
        .prop_map(|(host, target, method, tenant)| Imagined { host, target, method, tenant })
}

fn with_facts<T>(request: &Imagined, look: impl FnOnce(&RuleFacts<'_>) -> T) -> T {
    let any_field = |name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool| {
        name == "x-tenant" && request.tenant.is_some_and(|tenant| is_wanted(tenant.as_bytes()))
    };
    look(&RuleFacts {
        client: [192, 0, 2, 7].into(),
        method: request.method,
        target: request.target,
        path: None,
        host: request.host.map(str::as_bytes),
        server_name: None,
        has_certificate: false,
        certificate_subject: &String::new,
        version: RequestVersion::One,
        local: "192.0.2.10:80".parse().unwrap(),
        any_field: &any_field,
    })
}

fn read(texts: &[String]) -> Vec<Condition> {
    texts.iter().map(|text| text.parse().unwrap()).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

    /// The index by hosts never changes which rule comes first.
    #[test]
    fn rules_are_found_as_if_each_were_asked_in_turn(
        texts in prop::collection::vec(condition(), 1..8),
        requests in prop::collection::vec(request(), 1..6),
    ) {
        let set = RuleSet::new(&read(&texts), &BTreeMap::new());
        for request in &requests {
            let (found, in_turn) = with_facts(request, |facts| (set.first(facts), set.first_in_turn(facts)));
            prop_assert_eq!(found, in_turn, "{:?}", request);
        }
    }

    /// What is printed means what was read.
    #[test]
    fn printed_conditions_are_the_same(text in condition(), request in request()) {
        let read: Condition = text.parse().unwrap();
        let printed: Condition = read.tree().to_string().parse().unwrap();
        let of = |condition: &Condition| {
            let set = RuleSet::new([condition], &BTreeMap::new());
            with_facts(&request, |facts| set.first(facts))
        };
        prop_assert_eq!(of(&read), of(&printed));
    }

    /// A rule that is said never to be reached is not.
    #[test]
    fn what_is_said_of_conditions_holds_for_every_request(
        one in condition(),
        other in condition(),
        requests in prop::collection::vec(request(), 1..20),
    ) {
        let conditions = read(&[one, other]);
        let holds = |place: usize, request: &Imagined| {
            let set = RuleSet::new([&conditions[place]], &BTreeMap::new());
            with_facts(request, |facts| set.first(facts).is_some())
        };
        let (is_implied, is_never) =
            (implies(conditions[0].tree(), conditions[1].tree()), is_never_met(conditions[0].tree()));
        for request in &requests {
            prop_assert!(!is_implied || !holds(0, request) || holds(1, request), "{:?}", request);
            prop_assert!(!is_never || !holds(0, request), "{:?}", request);
        }
    }

    /// Reading a path again changes nothing, and it holds nothing that is read otherwise.
    #[test]
    fn a_path_that_was_read_is_read_as_it_stands(target in "/([a-c./\\\\%25ef;]|%2[eEfF]|%5[cC]){0,12}") {
        let read = request_path::read(&target);
        // Bytes that are no letters can't be written as a target again.
        if read.ambiguity.is_none() && let Ok(text) = String::from_utf8(read.bytes.to_vec()) {
            prop_assert!(!text.contains("//") && !text.split('/').any(|part| part == "." || part == ".."), "{}", text);
            let again = request_path::read(&text);
            prop_assert_eq!(&*again.bytes, text.as_bytes());
        }
    }
}
