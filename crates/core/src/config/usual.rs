//! The defaults of a thing's keys, for people who compare.

use serde::Serialize;
use serde_json::Value;

use super::diff::{Keys, keys};
use super::thing::{Kind, Thing};

/// Keys without which a thing can't be read, or which decide what others it has. They have no default.
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
const LEFT_OUT: [(Kind, &str, &str); 24] = [
    (Kind::Pool, "tier_minimum", "1"),
    (Kind::Pool, "usable_from", "1"),
    (Kind::Pool, "failback", "automatic"),
    (Kind::Pool, "capacity", "100"),
    (Kind::Pool, "queue_limit", "100"),
    (Kind::Pool, "queue_timeout", "1s"),
    (Kind::Pool, "checks_needed", "all"),
    (Kind::Pool, "when_none", "refuse"),
    (Kind::Pool, "retry_budget", "10"),
    (Kind::Pool, "on_down", "break"),
    (Kind::Pool, "on_failback", "keep"),
    (Kind::Pool, "http_version", "1.1"),
    (Kind::Pool, "connect_ahead", "0"),
    (Kind::Server, "tier", "0"),
    (Kind::Server, "capacity", "100"),
    (Kind::Frontend, "choose_pool", "in-order"),
    (Kind::Frontend, "proxy_protocol", "false"),
    (Kind::Lookup, "together", "false"),
    (Kind::Check, "flapping_after", "3"),
    (Kind::Check, "flapping_within", "10m"),
    (Kind::Check, "hold_down_most", "10m"),
    (Kind::Check, "redirects", "0"),
    (Kind::Check, "keep_alive", "false"),
    (Kind::Check, "method", "GET"),
];

/// The defaults of a thing's keys: what they would be if only those were given that have to be. A thing that is not made of keys has
/// none. One reading of a document with nothing else in it.
pub(super) fn usual<T: Serialize>(path: &str, thing: &T) -> Keys {
    let value = serde_json::to_value(thing).expect("a document's keys are texts");
    let (Ok(thing), Value::Object(mut value)) = (path.parse::<Thing>(), value) else { return Keys::new() };
    value.retain(|key, _| NEEDED.contains(&key.as_str()));
    let read = super::edit::by_itself(&thing, Value::Object(value));
    let mut usual = read.map(|it| keys(&it)).unwrap_or_default();
    usual.retain(|key, _| !NEEDED.contains(&key.as_str()));
    let left_out = LEFT_OUT.iter().filter(|(kind, ..)| *kind == thing.kind());
    usual.extend(left_out.map(|(_, key, value)| ((*key).to_owned(), (*value).to_owned())));
    usual
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
                Kind::Pool => ("pools.a", json!({})),
                Kind::Server => ("pools.p.servers.a", json!({ "address": "192.0.2.1:80" })),
                Kind::Lookup => {
                    ("pools.p.lookups.a", json!({ "name": "a.example", "records": "address", "port": 80 }))
                }
                Kind::Frontend => {
                    ("frontends.a", json!({ "protocol": "http", "listen": "192.0.2.1:80", "pool": "p" }))
                }
                Kind::Check => ("checks.a", json!({ "kind": "http" })),
                other => panic!("{other}"),
            };
            let with = |keys: Value| {
                let pool = Edit::Add { thing: "pools.p".parse().unwrap(), keys: serde_json::Map::new() };
                let thing =
                    Edit::Add { thing: path.parse().unwrap(), keys: keys.as_object().unwrap().clone() };
                edit(&Document::default(), &[pool, thing])
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
