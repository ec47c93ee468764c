//! The changes between two documents, by name.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::config::Document;
use crate::config::defaults::Defaults;
use crate::config::object::ObjectPath;
use crate::config::renames::{Renames, pools_by_keys, same};
use crate::name::{Name, PoolServer};

/// One difference between two documents.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DocumentChange {
    /// The key path, such as `pools.booking.servers.gull.weight`; of something renamed the path it has now.
    pub path: String,
    /// What stood there; absent when it is new. Of something renamed the path that it had.
    pub old: Option<String>,
    /// Whether that was the default of a key.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub old_is_default: bool,
    /// What stands there now; absent when it was removed. Of something renamed the path that it has now.
    pub new: Option<String>,
    /// Whether that is the default of a key.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub new_is_default: bool,
    /// Whether only the name changed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub renamed: bool,
}

impl DocumentChange {
    /// The change in words: `weight of server booking/gull: 3 to 1`.
    #[must_use]
    pub fn words(&self) -> String {
        let object =
            |path: &str| path.parse::<ObjectPath>().map_or_else(|_| path.to_owned(), |object| object.words());
        if self.renamed {
            let from = self.old.as_deref().map(object).unwrap_or_default();
            return format!("rename {from} to {}", self.path.rsplit('.').next().unwrap_or_default());
        }
        let subject = match self.subject() {
            Some((object, "")) => object.words(),
            Some((object, key)) => format!("{} of {}", key.replace("labels.", "label "), object.words()),
            None => self.path.clone(),
        };
        match (self.old.as_deref().map(shortened), self.new.as_deref().map(shortened)) {
            (None, Some(new)) if self.path.parse::<ObjectPath>().is_ok() && !new.is_empty() => {
                format!("add {subject} ({new})")
            }
            (None, Some(_)) if self.path.parse::<ObjectPath>().is_ok() => format!("add {subject}"),
            (None, Some(new)) => format!("{subject}: {new}, nothing before"),
            (Some(old), None) if self.path.parse::<ObjectPath>().is_err() => {
                format!("{subject}: {old} to nothing")
            }
            (Some(_), None) => format!("remove {subject}"),
            (Some(old), Some(new)) => {
                let usual = |is_default: bool| if is_default { " (default)" } else { "" };
                format!(
                    "{subject}: {old}{} to {new}{}",
                    usual(self.old_is_default),
                    usual(self.new_is_default)
                )
            }
            (None, None) => subject,
        }
    }

    /// The object that changes, and the key of it that does (empty when all of it comes or goes).
    #[must_use]
    pub fn subject(&self) -> Option<(ObjectPath, &str)> {
        let dots: Vec<usize> = self.path.match_indices('.').map(|(at, _)| at).collect();
        // The longest beginning that is an object: `pools.a.servers.b` rather than `pools.a`.
        let mut ends = std::iter::once(self.path.len()).chain(dots.into_iter().rev());
        let found = ends.find_map(|end| Some((self.path[..end].parse::<ObjectPath>().ok()?, end)));
        found.map(|(object, end)| (object, self.path[end..].trim_start_matches('.')))
    }
}

/// A value as it is shown: of a page its beginning, and how long it is.
fn shortened(text: &str) -> Cow<'_, str> {
    const LONGEST: usize = 1_000;
    const SHOWN: usize = 200;
    if text.len() <= LONGEST {
        return Cow::Borrowed(text);
    }
    let beginning: String = text.chars().take(SHOWN).collect();
    Cow::Owned(format!("{beginning} ... ({} bytes)", text.len()))
}

/// Changes in one line: the first of them, and how many more there are. At most about 300 characters.
pub fn in_a_line<'w>(mut words: impl Iterator<Item = &'w str>) -> String {
    const LONGEST: usize = 280;
    let Some(first) = words.next() else { return "nothing".to_owned() };
    let mut line: String = first.chars().take(LONGEST).collect();
    if line.len() < first.len() {
        line.push_str(" ...");
    }
    match words.count() {
        0 => line,
        more => format!("{line}, and {more} more"),
    }
}

/// What changes on the way from `old` to `new`, ordered by path. An object that comes or goes is one change, and one
/// that only gets another name is one too.
#[must_use]
pub fn diff(old: &Document, new: &Document) -> Vec<DocumentChange> {
    let mut changes = Vec::new();
    let renames = Renames::between(old, new);
    let at = |kind: &'static str| move |name: &Name| format!("{kind}.{name}");
    compare(
        &old.hosts,
        &new.hosts,
        &same(&old.hosts, &new.hosts),
        at("hosts"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.ranges,
        &new.ranges,
        &same(&old.ranges, &new.ranges),
        at("ranges"),
        &mut changes,
        |_, old, name, changes| {
            let (old_taken, new_taken) =
                (old.map(|old| &old.reserved), new.ranges.get(name).map(|range| &range.reserved));
            let empty = BTreeMap::new();
            let path = |taken: &Name| format!("ranges.{name}.reserved.{taken}");
            let (old_taken, new_taken) = (old_taken.unwrap_or(&empty), new_taken.unwrap_or(&empty));
            compare(old_taken, new_taken, &same(old_taken, new_taken), path, changes, |_, _, _, _| {});
        },
    );
    compare(
        &old.networks,
        &new.networks,
        &same(&old.networks, &new.networks),
        at("networks"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.checks,
        &new.checks,
        &same(&old.checks, &new.checks),
        at("checks"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.pools,
        &new.pools,
        &pools_by_keys(old, new, &renames),
        at("pools"),
        &mut changes,
        |old_name, old, name, changes| {
            let (empty, no_lookups) = (BTreeMap::new(), BTreeMap::new());
            let now = new.pools.get(name);
            let own: BTreeMap<Name, Name> = renames
                .servers
                .iter()
                .filter(|(from, to)| from.pool == *old_name && to.pool == *name && from.server != to.server)
                .map(|(from, to)| (from.server.clone(), to.server.clone()))
                .collect();
            compare(
                old.map_or(&empty, |pool| &pool.servers),
                now.map_or(&empty, |pool| &pool.servers),
                &own,
                |server| {
                    ObjectPath::Server(PoolServer { pool: name.clone(), server: server.clone() }).to_string()
                },
                changes,
                |_, _, _, _| {},
            );
            let old_lookups = old.map_or(&no_lookups, |pool| &pool.lookups);
            let new_lookups = now.map_or(&no_lookups, |pool| &pool.lookups);
            compare(
                old_lookups,
                new_lookups,
                &same(old_lookups, new_lookups),
                |lookup| format!("pools.{name}.lookups.{lookup}"),
                changes,
                |_, _, _, _| {},
            );
        },
    );
    compare(
        &old.frontends,
        &new.frontends,
        &renames.frontends,
        at("frontends"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.limits,
        &new.limits,
        &same(&old.limits, &new.limits),
        at("limits"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.rules,
        &new.rules,
        &same(&old.rules, &new.rules),
        at("rules"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.examples,
        &new.examples,
        &same(&old.examples, &new.examples),
        at("examples"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.addresses,
        &new.addresses,
        &same(&old.addresses, &new.addresses),
        at("addresses"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.announce,
        &new.announce,
        &same(&old.announce, &new.announce),
        at("announce"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.authorities,
        &new.authorities,
        &same(&old.authorities, &new.authorities),
        at("authorities"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.certificates,
        &new.certificates,
        &same(&old.certificates, &new.certificates),
        at("certificates"),
        &mut changes,
        |_, _, _, _| {},
    );
    compare(
        &old.notifications,
        &new.notifications,
        &same(&old.notifications, &new.notifications),
        at("notifications"),
        &mut changes,
        |_, _, _, _| {},
    );
    changes.sort_by(|a, b| a.path.cmp(&b.path));
    changes
}

/// Compares two maps of objects; `inside` looks at what stands inside one, with its old name, its old self and its
/// new name.
fn compare<T: PartialEq + Serialize>(
    old: &BTreeMap<Name, T>,
    new: &BTreeMap<Name, T>,
    renames: &BTreeMap<Name, Name>,
    path: impl Fn(&Name) -> String,
    changes: &mut Vec<DocumentChange>,
    inside: impl Fn(&Name, Option<&T>, &Name, &mut Vec<DocumentChange>),
) {
    let mut defaults = Defaults::default();
    let came_from: BTreeMap<&Name, &Name> = renames.iter().map(|(from, to)| (to, from)).collect();
    let change = |path, old, new| DocumentChange {
        path,
        old,
        new,
        renamed: false,
        old_is_default: false,
        new_is_default: false,
    };
    for (name, now) in new {
        let old_name = came_from.get(name).copied().unwrap_or(name);
        let before = old.get(old_name);
        match before {
            None => {
                let path = path(name);
                let own = keys(now);
                let says = whole(&own, &defaults.of(&path, &own));
                changes.push(change(path, None, Some(says)));
            }
            Some(before) => {
                if old_name != name {
                    let (was, is) = (path(old_name), path(name));
                    changes.push(DocumentChange { renamed: true, ..change(is.clone(), Some(was), Some(is)) });
                }
                if before == now {
                    continue;
                }
                let mut of = |object: &T| {
                    let own = keys(object);
                    let usual = defaults.of(&path(name), &own);
                    (own, usual)
                };
                let ((before, old_usual), (now, new_usual)) = (of(before), of(now));
                let all: BTreeSet<&String> = before.keys().chain(now.keys()).collect();
                for key in all.into_iter().filter(|key| before.get(*key) != now.get(*key)) {
                    let path = if key.is_empty() { path(name) } else { format!("{}.{key}", path(name)) };
                    let side = |keys: &PlainKeys, usual: &PlainKeys| {
                        let default = usual.get(key);
                        let value = keys.get(key).or(default).cloned();
                        (value.is_some() && value.as_ref() == default, value)
                    };
                    let (mut old_is_default, mut old) = side(&before, &old_usual);
                    let (mut new_is_default, mut new) = side(&now, &new_usual);
                    // A key of a group that comes or goes: without it the default holds of nothing.
                    if old == new {
                        if before.contains_key(key) {
                            (new_is_default, new) = (false, None);
                        } else {
                            (old_is_default, old) = (false, None);
                        }
                    }
                    changes.push(DocumentChange { old_is_default, new_is_default, ..change(path, old, new) });
                }
            }
        }
        inside(old_name, before, name, changes);
    }
    for (name, before) in old {
        if !new.contains_key(name) && !renames.contains_key(name) {
            changes.push(change(path(name), Some(summary(&keys(before))), None));
            inside(name, Some(before), name, changes);
        }
    }
}

pub(in crate::config) type PlainKeys = BTreeMap<String, String>;

/// The keys by which an object is known, in the order in which they are listed.
const FIRST: [&str; 34] = [
    "kind",
    "frontend",
    "method",
    "host",
    "when",
    "action",
    "name",
    "records",
    "protocol",
    "listen",
    "chain",
    "self_signed",
    "authority",
    "names",
    "directory",
    "challenge",
    "address",
    "addresses",
    "interface",
    "router_id",
    "as_number",
    "peers",
    "peer_as",
    "weight",
    "algorithm",
    "pool",
    "path",
    "expect_rule",
    "expect_pool",
    "expect_status",
    "expect_location",
    "interval",
    "webhook",
    "mail_to",
];

/// An object in one line.
pub(in crate::config) fn summary_of<T: Serialize>(object: &T) -> String {
    summary(&keys(object))
}

fn summary(keys: &PlainKeys) -> String {
    parts(keys, FIRST.iter().copied())
}

/// As [`summary`], with every other key that is not its default behind it.
fn whole(keys: &PlainKeys, usual: &PlainKeys) -> String {
    let own = |key: &&str| !FIRST.contains(key) && !key.is_empty() && !is_usual(keys, usual, key);
    parts(keys, FIRST.iter().copied().chain(keys.keys().map(String::as_str).filter(own)))
}

fn is_usual(keys: &PlainKeys, usual: &PlainKeys, key: &str) -> bool {
    keys.get(key) == usual.get(key)
}

fn parts<'k>(keys: &PlainKeys, shown: impl Iterator<Item = &'k str>) -> String {
    let parts: Vec<_> = shown.filter_map(|key| keys.get(key).map(|value| format!("{key} {value}"))).collect();
    if parts.is_empty() { keys.get("").cloned().unwrap_or_default() } else { parts.join(", ") }
}

/// An object's plain keys as text, its labels among them, without the objects inside it. An object that is a plain value
/// itself stands under the empty key.
pub(in crate::config) fn keys<T: Serialize>(object: &T) -> PlainKeys {
    let value = serde_json::to_value(object).expect("a document's keys are texts");
    let mut found = PlainKeys::new();
    let Value::Object(entries) = value else {
        found.insert(String::new(), text(&value));
        return found;
    };
    for (key, value) in entries {
        match value {
            Value::Object(labels) if key == "labels" => {
                found.extend(labels.iter().map(|(label, value)| (format!("labels.{label}"), text(value))));
            }
            // What stands inside an object is an object of its own; all else is a table of plain values.
            Value::Object(_) if key == "servers" || key == "lookups" || key == "reserved" => {}
            Value::Object(entries) => {
                found.extend(entries.iter().map(|(name, value)| (format!("{key}.{name}"), text(value))));
            }
            Value::String(bytes) if key == "send" => drop(found.insert(key, crate::text::sent(&bytes))),
            plain => drop(found.insert(key, text(&plain))),
        }
    }
    found
}

fn text(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(items) => items.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(" "),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_a_page_its_beginning_and_its_length_are_shown() {
        let change = |new: String| DocumentChange {
            path: "frontends.site.error_html".to_owned(),
            old: None,
            old_is_default: false,
            new: Some(new),
            new_is_default: false,
            renamed: false,
        };
        assert_eq!(change("short".to_owned()).words(), "error_html of frontend site: short, nothing before");
        let page = change("x".repeat(60_000)).words();
        assert!(page.len() < 300 && page.ends_with("x ... (60000 bytes), nothing before"), "{page}");
    }
}
