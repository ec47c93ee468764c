//! What holds for any documents and any changes of them.

use proptest::prelude::*;
use proptest::sample::select;
use proptest::test_runner::RngSeed;
use serde_json::{Map, Value, json};

use super::super::document::Document;
use super::super::edit::{Edit, edit};
use super::super::merge::merge;
use super::super::object::ObjectPath;
use super::super::renames::Renames;
use super::*;
use crate::name::Name;

/// The same cases in each run, so that a failure can be seen again.
fn config() -> ProptestConfig {
    ProptestConfig {
        cases: 128,
        rng_seed: RngSeed::Fixed(16),
        failure_persistence: None,
        ..ProptestConfig::default()
    }
}

const POOLS: [&str; 4] = ["booking", "timetable", "tickets", "telemetry"];
const SERVERS: [&str; 6] = ["auk", "gull", "kittiwake", "puffin", "skua", "tern"];
const CHECKS: [&str; 3] = ["well", "open", "page"];
const FRONTENDS: [&str; 3] = ["public", "inland", "harbour"];

/// A key that is there or not.
fn maybe(
    key: &'static str,
    value: impl Strategy<Value = Value>,
) -> impl Strategy<Value = Option<(String, Value)>> {
    proptest::option::of(value).prop_map(move |value| value.map(|value| (key.to_owned(), value)))
}

fn object(entries: impl IntoIterator<Item = Option<(String, Value)>>) -> Value {
    Value::Object(entries.into_iter().flatten().collect())
}

/// A server at an address that no other server of its pool has.
fn server(index: usize) -> impl Strategy<Value = Value> {
    let keys = (
        maybe("weight", (0..=1_000_u16).prop_map(Value::from)),
        maybe("tier", (0..=7_u8).prop_map(Value::from)),
        maybe("note", select(vec!["in the cellar", "new"]).prop_map(Value::from)),
        maybe("in_flight_limit", (1..100_u32).prop_map(Value::from)),
        1..=3_u16,
    );
    keys.prop_map(move |(weight, tier, note, limit, port)| {
        let address = json!(format!("192.0.2.{}:{}", 20 + index, 8_000 + port));
        object([Some(("address".to_owned(), address)), weight, tier, note, limit])
    })
}

fn servers() -> impl Strategy<Value = Value> {
    let each: Vec<_> = (0..SERVERS.len()).map(|index| proptest::option::of(server(index))).collect();
    each.prop_map(|servers| {
        let named = SERVERS.into_iter().zip(servers);
        object(named.map(|(name, server)| server.map(|server| (name.to_owned(), server))))
    })
}

fn pool() -> impl Strategy<Value = Value> {
    let keys = (
        servers(),
        maybe("check", select(CHECKS.to_vec()).prop_map(Value::from)),
        maybe("algorithm", select(vec!["least-connections", "in-order", "random-two"]).prop_map(Value::from)),
        maybe("first_byte_timeout", (1..60_u32).prop_map(|seconds| json!(format!("{seconds}s")))),
        maybe("attempts", (1..=5_u8).prop_map(Value::from)),
        maybe(
            "labels",
            select(vec![json!({ "site": "north" }), json!({ "site": "south", "owner": "quay" })]),
        ),
    );
    keys.prop_map(|(servers, check, algorithm, timeout, attempts, labels)| {
        object([Some(("servers".to_owned(), servers)), check, algorithm, timeout, attempts, labels])
    })
}

fn check() -> impl Strategy<Value = Value> {
    let interval = (2..=9_u8).prop_map(|seconds| json!(format!("{seconds}s")));
    let keys = (
        select(vec!["tcp", "http"]),
        maybe("interval", interval),
        maybe("down_after", (1..=9_u8).prop_map(Value::from)),
    );
    keys.prop_map(|(kind, interval, down_after)| {
        object([Some(("kind".to_owned(), json!(kind))), interval, down_after])
    })
}

fn frontend(index: usize) -> impl Strategy<Value = Value> {
    let keys =
        (select(POOLS.to_vec()), maybe("connection_limit", (1..1_000_u32).prop_map(Value::from)), 1..=3_u16);
    keys.prop_map(move |(pool, limit, port)| {
        let fixed = [
            ("protocol", json!("http")),
            ("pool", json!(pool)),
            ("listen", json!(format!("127.0.0.{}:{}", 10 + index, 80 + port))),
        ];
        object(fixed.map(|(key, value)| Some((key.to_owned(), value))).into_iter().chain([limit]))
    })
}

/// A document in which every reference leads somewhere.
fn document() -> impl Strategy<Value = Document> {
    let pools: Vec<_> = POOLS.iter().map(|_| pool()).collect();
    let checks: Vec<_> = CHECKS.iter().map(|_| check()).collect();
    let frontends: Vec<_> = (0..FRONTENDS.len()).map(|index| proptest::option::of(frontend(index))).collect();
    let named = |names: &[&str], values: Vec<Value>| -> Map<String, Value> {
        names.iter().map(|name| (*name).to_owned()).zip(values).collect()
    };
    (pools, checks, frontends).prop_map(move |(pools, checks, frontends)| {
        let frontends = FRONTENDS.into_iter().zip(frontends);
        let value = json!({
            "format": 3,
            "pools": named(&POOLS, pools),
            "checks": named(&CHECKS, checks),
            "frontends": object(frontends.map(|(name, value)| value.map(|value| (name.to_owned(), value)))),
        });
        read_value(value.clone()).unwrap_or_else(|problems| panic!("{problems:#?} {value:#}"))
    })
}

/// Two documents of which the second has some parts of a third.
fn pair() -> impl Strategy<Value = (Document, Document)> {
    (document(), document(), any::<[bool; 6]>()).prop_map(|(old, other, take)| {
        let mut new = old.clone();
        for ((name, pool), take) in other.pools.into_iter().zip(take) {
            if take {
                new.pools.insert(name, pool);
            }
        }
        if take[4] {
            new.frontends = other.frontends;
        }
        if take[5] {
            new.checks = other.checks;
        }
        (old, new)
    })
}

fn any_pool() -> impl Strategy<Value = ObjectPath> {
    select(POOLS.to_vec()).prop_map(|name| format!("pools.{name}").parse().expect("a path"))
}

proptest! {
    #![proptest_config(config())]

    #[test]
    fn a_document_comes_back_from_both_forms_as_it_was(document in document()) {
        for (text, format) in [(document.to_toml(), DocumentFormat::Toml), (document.to_json(), DocumentFormat::Json)] {
            let again = read_text(&text, format).unwrap();
            prop_assert_eq!(&again, &document);
        }
    }

    #[test]
    fn a_difference_is_empty_when_the_documents_are_equal_and_only_then((old, new) in pair()) {
        prop_assert!(diff(&old, &old).is_empty());
        prop_assert_eq!(diff(&old, &new).is_empty(), old == new);
    }

    #[test]
    fn a_merge_with_what_nobody_changed_gives_the_change((base, mine) in pair()) {
        prop_assert_eq!(merge(&base, &mine, &base), Ok(mine.clone()));
        prop_assert_eq!(merge(&base, &base, &mine), Ok(mine.clone()));
        prop_assert_eq!(merge(&base, &mine, &mine), Ok(mine.clone()));
    }

    /// In either order the same comes out: both changes joined, or both refused.
    #[test]
    fn a_merge_is_the_same_from_both_sides((base, mine) in pair(), other in document(), which in any_pool()) {
        let mut theirs = base.clone();
        let ObjectPath::Pool(name) = which else { unreachable!("a pool") };
        theirs.pools.insert(name.clone(), other.pools[&name].clone());
        let (one, two) = (merge(&base, &mine, &theirs), merge(&base, &theirs, &mine));
        prop_assert_eq!(one.is_ok(), two.is_ok());
        if let (Ok(one), Ok(two)) = (one, two) {
            prop_assert_eq!(&one, &two);
            // Each change is there: merged again, neither side adds anything.
            prop_assert_eq!(merge(&base, &one, &mine), Ok(one.clone()));
            prop_assert_eq!(merge(&base, &one, &theirs), Ok(one.clone()));
        }
    }

    #[test]
    fn what_is_added_and_removed_again_leaves_nothing(document in document(), server in server(99)) {
        let object: ObjectPath = "pools.booking.servers.razorbill".parse().unwrap();
        let keys = server.as_object().unwrap().clone();
        let added = edit(&document, &[Edit::Add { object: object.clone(), keys }]).unwrap();
        prop_assert_eq!(diff(&document, &added).len(), 1);
        prop_assert_eq!(edit(&added, &[Edit::Remove { object }]), Ok(document.clone()));
    }

    #[test]
    fn a_rename_is_found_and_its_reverse_undoes_it(document in document(), which in any_pool()) {
        let to: Name = "quay".parse().unwrap();
        let ObjectPath::Pool(from) = &which else { unreachable!("a pool") };
        let renamed = edit(&document, &[Edit::Rename { object: which.clone(), to: to.clone() }]).unwrap();
        let back = edit(&renamed, &[Edit::Rename { object: ObjectPath::Pool(to.clone()), to: from.clone() }]);
        prop_assert_eq!(back, Ok(document.clone()));
        let found = Renames::between(&document, &renamed);
        // An empty pool has nothing that it could be known by.
        let is_known = !document.pools[from].servers.is_empty();
        prop_assert_eq!(found.pools.get(from), is_known.then_some(&to));
        prop_assert_eq!(found.servers.len(), document.pools[from].servers.len());
        let reverse = Renames::between(&renamed, &document);
        prop_assert!(found.pools.iter().all(|(from, to)| reverse.pools.get(to) == Some(from)));
        prop_assert!(found.servers.iter().all(|(from, to)| reverse.servers.get(to) == Some(from)));
        prop_assert_eq!(found.servers.len(), reverse.servers.len());
    }

    #[test]
    fn a_copy_differs_from_its_original_in_its_name_alone(document in document(), which in any_pool()) {
        let to: Name = "quay".parse().unwrap();
        let ObjectPath::Pool(from) = &which else { unreachable!("a pool") };
        let copied = edit(&document, &[Edit::Copy { object: which.clone(), to: to.clone(), keys: Map::new() }]).unwrap();
        prop_assert_eq!(&copied.pools[&to], &document.pools[from]);
        let without = edit(&copied, &[Edit::Remove { object: ObjectPath::Pool(to) }]);
        prop_assert_eq!(without, Ok(document.clone()));
    }

    #[test]
    fn a_changed_key_holds_its_value_and_null_its_default(document in document(), which in any_pool(), attempts in 1..=5_u8) {
        let change = |value: Value| {
            let keys = Map::from_iter([("attempts".to_owned(), value)]);
            edit(&document, &[Edit::Change { object: which.clone(), keys }]).unwrap()
        };
        let ObjectPath::Pool(name) = &which else { unreachable!("a pool") };
        let changed = change(attempts.into());
        prop_assert_eq!(changed.pools[name].attempts, attempts);
        let back = change(Value::Null);
        let usual = read_value(json!({ "format": 3, "pools": { "p": {} } })).unwrap();
        prop_assert_eq!(back.pools[name].attempts, usual.pools.values().next().unwrap().attempts);
        // Nothing else moved.
        prop_assert!(diff(&document, &changed).len() <= 1);
    }
}
