//! Addresses that move between nodes.

use rstest::rstest;

use super::super::edit::Edit;
use super::super::references::users;
use super::*;

const FRONT: &str = "[addresses.front]\naddresses = [\"192.0.2.10\", \"2001:db8::10\"]\ninterface = \"eth0\"\nrouter_id = 10\nnodes = { north = 200, south = 100 }\npools = [\"booking\"]\n";

fn with(more: &str) -> String {
    format!("{GOOD}\n{FRONT}{more}\n")
}

fn second(keys: &str) -> String {
    format!("[addresses.back]\n{keys}")
}

const BACK: &str =
    "addresses = [\"192.0.2.11\"]\ninterface = \"eth0\"\nrouter_id = 11\nnodes = { north = 2 }\n";

#[test]
fn what_is_not_given_has_its_default() {
    let checked = load(&with(""), DocumentFormat::Toml).unwrap();
    let front = &checked.document().addresses[&"front".parse().unwrap()];
    assert_eq!(front.preemption(), crate::vrrp::Preemption::AtOnce);
    assert_eq!((front.advertisement_interval.to_string(), front.pool_loss), ("100ms".to_owned(), 50));
    assert!(front.peers.is_empty());
}

#[rstest]
#[case::no_node("nodes = { north = 2 }", "nodes = {}", "addresses.back.nodes")]
#[case::loopback("192.0.2.11", "127.0.0.1", "addresses.back.addresses")]
#[case::everywhere("192.0.2.11", "0.0.0.0", "addresses.back.addresses")]
#[case::in_two("192.0.2.11", "2001:db8::10", "addresses.front.addresses")]
#[case::the_same_router("router_id = 11", "router_id = 10", "addresses.front.router_id")]
#[case::a_peer_that_moves("nodes", "peers = [\"192.0.2.11\"]\nnodes", "addresses.back.peers")]
#[case::no_such_pool("nodes", "pools = [\"mail\"]\nnodes", "addresses.back.pools")]
#[case::too_fast(
    "nodes",
    "advertisement_interval = \"20ms\"\nnodes",
    "addresses.back.advertisement_interval"
)]
#[case::no_interface("\"eth0\"", "\"eth 0\"", "addresses.back.interface")]
#[case::worth_nothing("north = 2", "south = 2, north = 1", "addresses.back.nodes.north")]
#[case::an_owner("north = 2", "south = 2, north = 251", "addresses.back.nodes.north")]
#[case::a_delay_of_nothing("nodes", "preemption_delay = \"5m\"\nnodes", "addresses.back.preemption_delay")]
fn what_can_not_be_is_found(#[case] old: &str, #[case] new: &str, #[case] path: &str) {
    assert!(BACK.contains(old));
    assert_eq!(problems_of(&with(&second(BACK))), Vec::<String>::new());
    assert_eq!(problems_of(&with(&second(&BACK.replace(old, new)))), [path]);
}

fn problems_of(text: &str) -> Vec<String> {
    load(text, DocumentFormat::Toml)
        .err()
        .unwrap_or_default()
        .into_iter()
        .map(|problem| problem.path)
        .collect()
}

#[test]
fn a_pool_that_is_needed_is_not_removed_and_keeps_its_place_under_another_name() {
    let checked = load(&with(""), DocumentFormat::Toml).unwrap();
    let object = "pools.booking".parse().unwrap();
    assert!(users(checked.document(), &object).contains(&"addresses.front".parse().unwrap()));
    let edit = Edit::Rename { object, to: "quay".parse().unwrap() };
    let renamed = super::super::edit::edit(checked.document(), &[edit]).unwrap();
    assert_eq!(renamed.addresses[&"front".parse().unwrap()].pools, ["quay".parse().unwrap()]);
}

/// A key that another one decides about is known to be wrong also where that one has its default.
#[rstest]
#[case::unknown(
    "[authorities.own]\ndirectory = \"https://ca.example/\"\nno_such_key = 1",
    "authorities.own.no_such_key"
)]
#[case::of_another_choice(
    "[authorities.own]\ndirectory = \"https://ca.example/\"\nzone = \"a.example\"",
    "authorities.own.zone"
)]
fn keys_are_known_where_the_one_that_decides_has_its_default(#[case] object: &str, #[case] path: &str) {
    let found = problems_of(&with(object));
    assert!(found.iter().any(|found| found == path), "{found:?}");
}
