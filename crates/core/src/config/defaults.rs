//! The defaults of an object's keys, for people who compare.

use std::collections::BTreeMap;
use std::rc::Rc;

use serde::Serialize;
use serde_json::Value;

use super::diff::{PlainKeys, keys};
use super::object::{ObjectKind, ObjectPath};

/// Keys without which an object can't be read, or which decide what others it has. They have no default.
const NEEDED: [&str; 12] = [
    "protocol",
    "listen",
    "pool",
    "kind",
    "name",
    "records",
    "port",
    "address",
    "addresses",
    "user",
    "query",
    "program",
];

/// Defaults that documents leave out.
const LEFT_OUT: [(ObjectKind, &str, &str); 24] = [
    (ObjectKind::Pool, "tier_min_eligible", "1"),
    (ObjectKind::Pool, "min_eligible", "1"),
    (ObjectKind::Pool, "failback", "automatic"),
    (ObjectKind::Pool, "capacity", "100"),
    (ObjectKind::Pool, "queue_limit", "100"),
    (ObjectKind::Pool, "queue_timeout", "1s"),
    (ObjectKind::Pool, "checks_needed", "all"),
    (ObjectKind::Pool, "when_none", "refuse"),
    (ObjectKind::Pool, "retry_budget", "10"),
    (ObjectKind::Pool, "on_down", "break"),
    (ObjectKind::Pool, "on_failback", "keep"),
    (ObjectKind::Pool, "http_version", "1.1"),
    (ObjectKind::Pool, "preconnect", "0"),
    (ObjectKind::Server, "tier", "0"),
    (ObjectKind::Server, "capacity", "100"),
    (ObjectKind::Frontend, "choose_pool", "in-order"),
    (ObjectKind::Frontend, "proxy_protocol", "false"),
    (ObjectKind::Lookup, "merge_addresses", "false"),
    (ObjectKind::Check, "flapping_after", "3"),
    (ObjectKind::Check, "flapping_within", "10m"),
    (ObjectKind::Check, "hold_down_most", "10m"),
    (ObjectKind::Check, "redirects", "0"),
    (ObjectKind::Check, "keep_alive", "false"),
    (ObjectKind::Check, "method", "GET"),
];

/// The needed keys that decide which others an object has, and with them its defaults.
const DECIDING: [&str; 3] = ["protocol", "kind", "records"];

/// The defaults of objects: what their keys would be if only those were given that have to be. Each is read once, from a document with
/// nothing else in it, for all objects of one kind whose deciding keys are the same.
#[derive(Default)]
pub(super) struct Defaults {
    known: BTreeMap<(ObjectKind, [Option<String>; 3]), Rc<PlainKeys>>,
}

impl Defaults {
    /// The defaults of the keys of the object at `path`; an object that is not made of keys has none.
    pub(super) fn of<T: Serialize>(&mut self, path: &str, object: &T, own: &PlainKeys) -> Rc<PlainKeys> {
        let Ok(named) = path.parse::<ObjectPath>() else { return Rc::default() };
        let deciding = DECIDING.map(|key| own.get(key).cloned());
        let read = || Rc::new(read(&named, object));
        Rc::clone(self.known.entry((named.kind(), deciding)).or_insert_with(read))
    }
}

fn read<T: Serialize>(named: &ObjectPath, object: &T) -> PlainKeys {
    let value = serde_json::to_value(object).expect("a document's keys are texts");
    let Value::Object(mut value) = value else { return PlainKeys::new() };
    value.retain(|key, _| NEEDED.contains(&key.as_str()));
    let read = super::edit::by_itself(named, Value::Object(value));
    let mut defaults = read.map(|value| keys(&value)).unwrap_or_default();
    defaults.retain(|key, _| !NEEDED.contains(&key.as_str()));
    let left_out = LEFT_OUT.iter().filter(|(kind, ..)| *kind == named.kind());
    defaults.extend(left_out.map(|(_, key, value)| ((*key).to_owned(), (*value).to_owned())));
    defaults
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::config::Document;
    use crate::config::edit::{Edit, edit};

    #[test]
    fn what_documents_leave_out_is_what_is_said_here() {
        for (kind, key, value) in LEFT_OUT {
            let (path, needed) = match kind {
                ObjectKind::Pool => ("pools.a", json!({})),
                ObjectKind::Server => ("pools.p.servers.a", json!({ "address": "192.0.2.1:80" })),
                ObjectKind::Lookup => {
                    ("pools.p.lookups.a", json!({ "name": "a.example", "records": "address", "port": 80 }))
                }
                ObjectKind::Frontend => {
                    ("frontends.a", json!({ "protocol": "http", "listen": "192.0.2.1:80", "pool": "p" }))
                }
                ObjectKind::Check => ("checks.a", json!({ "kind": "http" })),
                other => panic!("{other}"),
            };
            let with = |keys: Value| {
                let pool = Edit::Add { object: "pools.p".parse().unwrap(), keys: serde_json::Map::new() };
                let object =
                    Edit::Add { object: path.parse().unwrap(), keys: keys.as_object().unwrap().clone() };
                edit(&Document::default(), &[pool, object])
                    .unwrap_or_else(|error| panic!("{path}.{key}: {error}"))
            };
            let json =
                value.parse::<u64>().map(Value::from).or_else(|_| value.parse::<bool>().map(Value::from));
            let mut said = needed.clone();
            said[key] = json.unwrap_or_else(|_| value.into());
            assert_eq!(with(said), with(needed), "{path}.{key} = {value}");
        }
    }
}
