//! Addresses that are announced to routers.

use rstest::rstest;

use super::super::edit::Edit;
use super::super::references::users;
use super::*;

const EDGE: &str = "[announce.edge]\naddresses = [\"198.51.100.10\"]\nas_number = 64500\npeers = [\"192.0.2.254\"]\npeer_as = 64501\npools = [\"booking\"]\n";
const SECOND: &str = "[announce.second]\naddresses = [\"198.51.100.11\"]\nas_number = 64500\npeers = [\"192.0.2.254\"]\npeer_as = 64501\n";

fn with(more: &str) -> String {
    format!("{GOOD}\n{EDGE}{more}\n")
}

fn problems_of(text: &str) -> Vec<String> {
    let problems = load(text, DocumentFormat::Toml).err().unwrap_or_default();
    problems.into_iter().map(|problem| problem.path).collect()
}

#[test]
fn what_is_not_given_has_its_default() {
    let checked = load(&with(""), DocumentFormat::Toml).unwrap();
    let edge = &checked.document().announce[&"edge".parse().unwrap()];
    assert_eq!(
        (edge.hold_time.to_string(), edge.hops, edge.leave_time.to_string()),
        ("9s".to_owned(), 1, "2s".to_owned())
    );
    assert_eq!((edge.med, edge.restart_time, edge.password.clone()), (None, None, None));
    assert!(edge.is_for(&"anyone".parse().unwrap()), "all nodes announce them");
}

#[rstest]
#[case::everything("198.51.100.11", "0.0.0.0", "announce.second.addresses")]
#[case::a_network("198.51.100.11", "198.51.100.0/24", "announce.second.addresses")]
#[case::a_group("198.51.100.11", "224.0.0.18", "announce.second.addresses")]
#[case::in_two("198.51.100.11", "198.51.100.10", "announce.second.addresses")]
#[case::no_peer_of_its_family("198.51.100.11", "2001:db8:51::11", "announce.second.peers")]
#[case::a_peer_of_a_link("\"192.0.2.254\"]", "\"192.0.2.254\", \"fe80::1\"]", "announce.second.peers")]
#[case::a_peer_that_is_announced(
    "\"192.0.2.254\"]",
    "\"192.0.2.254\", \"198.51.100.11\"]",
    "announce.second.peers"
)]
#[case::other_settings_with_one_router("as_number = 64500", "as_number = 64999", "announce.second.peers")]
#[case::another_hold_time("as_number", "hold_time = \"3s\"\nas_number", "announce.second.peers")]
#[case::too_short_a_hold_time("as_number", "hold_time = \"2s\"\nas_number", "announce.second.hold_time")]
#[case::no_as("64501", "0", "announce.second.peer_as")]
#[case::no_such_pool("as_number", "pools = [\"mail\"]\nas_number", "announce.second.pools")]
#[case::no_community(
    "as_number",
    "communities = [\"64500:70000\"]\nas_number",
    "announce.second.communities"
)]
#[case::a_number_without_its_answer(
    "as_number",
    "loss_prepend = 3\nas_number",
    "announce.second.loss_prepend"
)]
#[case::marks_that_are_missing(
    "as_number",
    "when_pools_fail = \"community\"\nas_number",
    "announce.second.loss_communities"
)]
fn what_can_not_be_is_found(#[case] old: &str, #[case] new: &str, #[case] path: &str) {
    assert!(SECOND.contains(old));
    assert_eq!(problems_of(&with(SECOND)), Vec::<String>::new());
    assert_eq!(problems_of(&with(&SECOND.replacen(old, new, 1))), [path]);
}

#[test]
fn an_address_is_held_by_one_node_or_announced_by_several() {
    let moving = "[addresses.front]\naddresses = [\"198.51.100.10\"]\ninterface = \"eth0\"\nrouter_id = 10\nnodes = { north = 200 }\n";
    assert_eq!(problems_of(&with(moving)), ["announce.edge.addresses"]);
}

#[test]
fn a_longer_path_means_nothing_inside_of_an_as() {
    let inside = SECOND.replace("64501", "64500").replace("192.0.2.254", "192.0.2.253");
    assert_eq!(problems_of(&with(&inside)), Vec::<String>::new());
    let longer = inside.replace("as_number", "when_pools_fail = \"prepend\"\nas_number");
    assert_eq!(problems_of(&with(&longer)), ["announce.second.when_pools_fail"]);
}

#[test]
fn a_pool_that_is_needed_is_not_removed_and_keeps_its_place_under_another_name() {
    let checked = load(&with(""), DocumentFormat::Toml).unwrap();
    let object = "pools.booking".parse().unwrap();
    assert!(users(checked.document(), &object).contains(&"announce.edge".parse().unwrap()));
    let edit = Edit::Rename { object, to: "quay".parse().unwrap() };
    let renamed = super::super::edit::edit(checked.document(), &[edit]).unwrap();
    assert_eq!(renamed.announce[&"edge".parse().unwrap()].pools, ["quay".parse().unwrap()]);
}
