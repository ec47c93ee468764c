//! The changes between two documents, by name.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::Document;

/// One difference between two documents.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Change {
    /// The key path, such as `pools.booking.servers.gull.weight`.
    pub path: String,
    /// What stood there; absent when it is new.
    pub old: Option<String>,
    /// What stands there now; absent when it was removed.
    pub new: Option<String>,
}

impl Change {
    /// The change in words: `weight of server booking/gull: 3 to 1`.
    #[must_use]
    pub fn words(&self) -> String {
        let parts: Vec<&str> = self.path.split('.').collect();
        let subject = match parts.as_slice() {
            ["pools", pool, "servers", server] => format!("server {pool}/{server}"),
            ["pools", pool, "servers", server, key] => format!("{key} of server {pool}/{server}"),
            [kind, name] => format!("{} {name}", kind.trim_end_matches('s')),
            [kind, name, key] => format!("{key} of {} {name}", kind.trim_end_matches('s')),
            _ => self.path.clone(),
        };
        match (&self.old, &self.new) {
            (None, Some(new)) => format!("add {subject} ({new})"),
            (Some(_), None) => format!("remove {subject}"),
            (Some(old), Some(new)) => format!("{subject}: {old} to {new}"),
            (None, None) => subject,
        }
    }
}

/// What changes on the way from `old` to `new`, ordered by path. A thing that comes or goes is one change.
#[must_use]
pub fn diff(old: &Document, new: &Document) -> Vec<Change> {
    let (old, new) = (things(old), things(new));
    let paths: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
    let mut changes = Vec::new();
    for path in paths {
        match (old.get(path), new.get(path)) {
            (None, Some(keys)) => {
                changes.push(Change { path: path.clone(), old: None, new: Some(summary(keys)) });
            }
            (Some(keys), None) => {
                changes.push(Change { path: path.clone(), old: Some(summary(keys)), new: None });
            }
            (Some(before), Some(after)) => {
                let keys: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
                for key in keys.into_iter().filter(|key| before.get(*key) != after.get(*key)) {
                    changes.push(Change {
                        path: format!("{path}.{key}"),
                        old: before.get(key).cloned(),
                        new: after.get(key).cloned(),
                    });
                }
            }
            (None, None) => unreachable!("every path comes from one of the two"),
        }
    }
    changes
}

type Keys = BTreeMap<String, String>;

fn summary(keys: &Keys) -> String {
    let shown = ["kind", "listen", "address", "weight", "algorithm", "pool", "path", "interval"];
    let parts: Vec<_> =
        shown.iter().filter_map(|key| keys.get(*key).map(|value| format!("{key} {value}"))).collect();
    parts.join(", ")
}

/// Every thing of a document by its path, each with its plain keys as text.
fn things(document: &Document) -> BTreeMap<String, Keys> {
    let value = serde_json::to_value(document).expect("a document's keys are texts");
    let mut found = BTreeMap::new();
    for kind in ["checks", "pools", "frontends"] {
        for (name, thing) in value[kind].as_object().into_iter().flatten() {
            found.insert(format!("{kind}.{name}"), plain_keys(thing));
            for (server, thing) in thing["servers"].as_object().into_iter().flatten() {
                found.insert(format!("{kind}.{name}.servers.{server}"), plain_keys(thing));
            }
        }
    }
    found
}

fn plain_keys(thing: &Value) -> Keys {
    let entries = thing.as_object().into_iter().flatten().filter(|(_, value)| !value.is_object());
    entries
        .map(|(key, value)| {
            let text = match value {
                Value::String(text) => text.clone(),
                Value::Array(items) => items.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(" "),
                other => other.to_string(),
            };
            (key.clone(), text)
        })
        .collect()
}
