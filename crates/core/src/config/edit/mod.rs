//! Edits: changes of a document object by object, several at once or not at all.

pub mod bulk_add;
mod follow;
pub mod hosts;
pub mod merge;
pub mod object;
pub mod objects;
pub mod references;

use std::collections::BTreeSet;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::config::document::{Document, RangeSpec};
use crate::config::problem::Problem;
use crate::config::{read_value, tree};
use crate::name::{Name, PoolServer, nearest};
use bulk_add::LineError;
use hosts::{HostsError, HostsFormat};
use object::ObjectPath;
use references::{removal_order, users};

/// One edit of a document; several are made together or not at all.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "do", rename_all = "snake_case", deny_unknown_fields)]
pub enum Edit {
    /// Adds an object that is not there yet.
    Add {
        /// The object that is made.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        object: ObjectPath,
        /// Its keys, as in the document.
        #[cfg_attr(feature = "schema", schema(value_type = Object))]
        keys: Map<String, Value>,
    },
    /// Changes some keys of an object (RFC 7396): null puts a key back to its default.
    Change {
        /// The object whose keys are changed.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        object: ObjectPath,
        /// The keys that change.
        #[cfg_attr(feature = "schema", schema(value_type = Object))]
        keys: Map<String, Value>,
    },
    /// Gives an object another name; whatever names it follows.
    Rename {
        /// The object that is renamed.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        object: ObjectPath,
        /// The new name, free among objects of its kind.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        to: Name,
    },
    /// Copies an object, with what is inside it.
    Copy {
        /// The object that is copied.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        object: ObjectPath,
        /// Name of the copy, free among objects of its kind.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        to: Name,
        /// The keys in which the copy differs.
        #[serde(default)]
        #[cfg_attr(feature = "schema", schema(value_type = Object))]
        keys: Map<String, Value>,
    },
    /// Removes an object that nothing uses.
    Remove {
        /// The object that is removed.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        object: ObjectPath,
    },
    /// Adds several servers to a pool.
    AddServers {
        /// The pool that gets the servers.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        pool: Name,
        /// A line each: `address:port [weight]`, `host:port [weight]` or `first-last:port [weight]`.
        lines: String,
        /// The weight of those whose line has none; 1 when nothing is said.
        #[serde(default)]
        #[cfg_attr(feature = "schema", schema(maximum = 1000))]
        weight: Option<u16>,
        /// Their tier; 0 when nothing is said.
        #[serde(default)]
        #[cfg_attr(feature = "schema", schema(maximum = 7))]
        tier: Option<u8>,
    },
    /// Adds the hosts of a list; those that are there take the list's address.
    ImportHosts {
        /// How the list is written.
        format: HostsFormat,
        /// The pasted list: one server a line.
        text: String,
    },
    /// Takes an address from a range.
    Reserve {
        /// The range of whose free addresses one is reserved.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        range: Name,
        /// The name to take it under.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        name: Name,
        /// Which address; the next free one when nothing is said.
        #[serde(default)]
        #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
        address: Option<IpAddr>,
    },
}

/// Why edits can't be made. None of them was.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// It is not there.
    #[error("there is no {}{}", .object.words(), near_words(.near))]
    Unknown {
        /// The path that was named.
        object: ObjectPath,
        /// Names that are there.
        near: Vec<String>,
    },
    /// It is there already.
    #[error("there is a {} already: change it, or choose another name", .0.words())]
    Exists(ObjectPath),
    /// Other objects refer to it, so it can't be removed yet.
    #[error(
        "{} is used by {}: it can't be removed before they are. In this order it can be done: {}",
        .object.words(), words(.users), words(.order)
    )]
    InUse {
        /// What was to be removed.
        object: ObjectPath,
        /// The objects that refer to it.
        users: Vec<ObjectPath>,
        /// What to remove, in this order.
        order: Vec<ObjectPath>,
    },
    /// A line of several servers makes no sense.
    #[error(transparent)]
    Line(#[from] LineError),
    /// A list of hosts makes no sense.
    #[error(transparent)]
    Hosts(#[from] HostsError),
    /// No address is left.
    #[error(
        "no address of range {0} is free: each is taken, or a frontend listens on it. Release one, or make the range larger"
    )]
    NoneFree(Name),
    /// None of the free addresses is one of this machine's.
    #[error(
        "this machine has none of the free addresses of range {range}: give it one, such as {first}, or name the address to take"
    )]
    NoneHere {
        /// The range that has no free address.
        range: Name,
        /// Its first free address.
        first: IpAddr,
    },
    /// A key or a value is wrong.
    #[error("{}", .0.iter().map(with_place).collect::<Vec<_>>().join("; "))]
    Keys(Vec<Problem>),
}

impl EditError {
    /// What is wrong with values that were given, each at its place; a line of several servers stands at the path `lines`.
    #[must_use]
    pub fn problems(&self) -> Vec<Problem> {
        match self {
            Self::Keys(problems) => problems.clone(),
            Self::Line(line) => {
                let found = format!("line {}, {:?}: {}", line.line, line.text, line.why);
                let expected = "a server a line: name=address:port, address:port, host:port or first-last:port, with an optional weight";
                vec![Problem { line: Some(line.line), ..Problem::at("lines", found, expected) }]
            }
            _ => Vec::new(),
        }
    }
}

fn with_place(problem: &Problem) -> String {
    format!("{}: {}. Right would be: {}", problem.path, problem.found, problem.expected)
}

fn words(objects: &[ObjectPath]) -> String {
    objects.iter().map(ObjectPath::words).collect::<Vec<_>>().join(", ")
}

fn near_words(near: &[String]) -> String {
    if near.is_empty() { String::new() } else { format!("; there are {}", near.join(", ")) }
}

/// Makes edits one after the other; all of them or none.
///
/// The relations between objects are not looked at here (see [`check`](crate::config::check::check)), so a draft may pass
/// through states that could not run.
///
/// # Errors
/// The first edit that can't be made.
pub fn edit(document: &Document, edits: &[Edit]) -> Result<Document, EditError> {
    edit_at(document, edits, &|_| true)
}

/// As [`edit`], on a machine that has some addresses: of a range the next free one is taken that it has.
///
/// # Errors
/// The first edit that can't be made.
pub fn edit_at(
    document: &Document,
    edits: &[Edit],
    is_here: &dyn Fn(IpAddr) -> bool,
) -> Result<Document, EditError> {
    let mut document = document.clone();
    for edit in edits {
        document = one(document, edit, is_here)?;
    }
    Ok(document)
}

/// The first address of a range that is not taken, that no frontend listens on, and that this machine has.
fn next_free(
    document: &Document,
    name: &Name,
    range: &RangeSpec,
    is_here: &dyn Fn(IpAddr) -> bool,
) -> Result<IpAddr, EditError> {
    /// Of a range that is larger, only its first addresses are looked at.
    const LOOKED_AT: usize = 65_536;
    let taken: BTreeSet<IpAddr> = range.reserved.values().copied().collect();
    let listened: BTreeSet<IpAddr> =
        document.frontends.values().map(|frontend| frontend.listen.get().ip()).collect();
    let mut free = range
        .addresses
        .iter()
        .take(LOOKED_AT)
        .filter(|address| !taken.contains(address) && !listened.contains(address))
        .peekable();
    let Some(first) = free.peek().copied() else { return Err(EditError::NoneFree(name.clone())) };
    free.find(|address| is_here(*address)).ok_or_else(|| EditError::NoneHere { range: name.clone(), first })
}

fn one(document: Document, edit: &Edit, is_here: &dyn Fn(IpAddr) -> bool) -> Result<Document, EditError> {
    match edit {
        Edit::Add { object, keys } => {
            absent(&document, object)?;
            put(document, object, Value::Object(keys.clone()))
        }
        Edit::Change { object, keys } => {
            let mut value = present(&document, object)?;
            merge_patch(&mut value, keys);
            put(document, object, value)
        }
        Edit::Rename { object, to } => rename(document, object, to),
        Edit::Copy { object, to, keys } => {
            let mut value = present(&document, object)?;
            let copy = object.renamed(to.clone());
            absent(&document, &copy)?;
            merge_patch(&mut value, keys);
            put(document, &copy, value)
        }
        Edit::Remove { object } => {
            present(&document, object)?;
            let users = users(&document, object);
            if !users.is_empty() {
                let order = removal_order(&document, object);
                return Err(EditError::InUse { object: object.clone(), users, order });
            }
            Ok(removed(document, object))
        }
        Edit::AddServers { pool, lines, weight, tier } => {
            let object = ObjectPath::Pool(pool.clone());
            present(&document, &object)?;
            let servers = bulk_add::servers(&document, pool, lines, weight.unwrap_or(1), tier.unwrap_or(0))?;
            let mut document = document;
            if let Some(spec) = document.pools.get_mut(pool) {
                spec.servers.extend(servers);
            }
            Ok(document)
        }
        Edit::ImportHosts { format, text } => {
            let mut document = document;
            hosts::import(&mut document.hosts, *format, text)?;
            Ok(document)
        }
        Edit::Reserve { range, name, address } => {
            let object = ObjectPath::Reserved(range.clone(), name.clone());
            let Some(known) = document.ranges.get(range) else {
                return Err(unknown(&document, &ObjectPath::Range(range.clone())));
            };
            absent(&document, &object)?;
            let free = match address {
                Some(address) => *address,
                None => next_free(&document, range, known, is_here)?,
            };
            let mut document = document;
            if let Some(known) = document.ranges.get_mut(range) {
                known.reserved.insert(name.clone(), free);
            }
            Ok(document)
        }
    }
}

fn merge_patch(value: &mut Value, keys: &Map<String, Value>) {
    let Value::Object(entries) = value else { return };
    for (key, new) in keys {
        match (entries.get_mut(key), new) {
            (_, Value::Null) => drop(entries.remove(key)),
            (Some(old @ Value::Object(_)), Value::Object(inner)) => merge_patch(old, inner),
            // A table that is new holds no nulls either.
            (_, Value::Object(inner)) => {
                let mut made = Value::Object(Map::new());
                merge_patch(&mut made, inner);
                entries.insert(key.clone(), made);
            }
            (_, plain) => drop(entries.insert(key.clone(), plain.clone())),
        }
    }
}

/// One object's keys as JSON, as they stand in the document; `None` when it is not there. A reserved address, a plain text
/// in the document, has the key `address`, and a list of networks, a plain list there, the key `prefixes`.
#[must_use]
pub fn value(document: &Document, object: &ObjectPath) -> Option<Value> {
    fn json<T: serde::Serialize>(object: Option<&T>) -> Option<Value> {
        object.map(|object| serde_json::to_value(object).expect("a document's keys are texts"))
    }
    match object {
        ObjectPath::Host(name) => json(document.hosts.get(name)),
        ObjectPath::Range(name) => json(document.ranges.get(name)),
        ObjectPath::Reserved(range, name) => document
            .ranges
            .get(range)?
            .reserved
            .get(name)
            .map(|address| serde_json::json!({ "address": address })),
        ObjectPath::Check(name) => json(document.checks.get(name)),
        ObjectPath::Pool(name) => json(document.pools.get(name)),
        ObjectPath::Server(it) => json(document.pools.get(&it.pool)?.servers.get(&it.server)),
        ObjectPath::Lookup(pool, name) => json(document.pools.get(pool)?.lookups.get(name)),
        ObjectPath::Frontend(name) => json(document.frontends.get(name)),
        ObjectPath::Notification(name) => json(document.notifications.get(name)),
        ObjectPath::Certificate(name) => json(document.certificates.get(name)),
        ObjectPath::Address(name) => json(document.addresses.get(name)),
        ObjectPath::Announcement(name) => json(document.announce.get(name)),
        ObjectPath::Authority(name) => json(document.authorities.get(name)),
        ObjectPath::Limit(name) => json(document.limits.get(name)),
        ObjectPath::Rule(name) => json(document.rules.get(name)),
        ObjectPath::Example(name) => json(document.examples.get(name)),
        ObjectPath::Network(name) => {
            document.networks.get(name).map(|prefixes| serde_json::json!({ "prefixes": prefixes }))
        }
    }
}

fn present(document: &Document, object: &ObjectPath) -> Result<Value, EditError> {
    value(document, object).ok_or_else(|| unknown(document, object))
}

fn absent(document: &Document, object: &ObjectPath) -> Result<(), EditError> {
    match parent(object) {
        Some(parent) if value(document, &parent).is_none() => Err(unknown(document, &parent)),
        _ if value(document, object).is_some() => Err(EditError::Exists(object.clone())),
        _ => Ok(()),
    }
}

fn parent(object: &ObjectPath) -> Option<ObjectPath> {
    match object {
        ObjectPath::Reserved(range, _) => Some(ObjectPath::Range(range.clone())),
        ObjectPath::Server(PoolServer { pool, .. }) | ObjectPath::Lookup(pool, _) => {
            Some(ObjectPath::Pool(pool.clone()))
        }
        ObjectPath::Host(_)
        | ObjectPath::Range(_)
        | ObjectPath::Check(_)
        | ObjectPath::Pool(_)
        | ObjectPath::Frontend(_)
        | ObjectPath::Certificate(_)
        | ObjectPath::Address(_)
        | ObjectPath::Announcement(_)
        | ObjectPath::Authority(_)
        | ObjectPath::Limit(_)
        | ObjectPath::Rule(_)
        | ObjectPath::Example(_)
        | ObjectPath::Notification(_)
        | ObjectPath::Network(_) => None,
    }
}

fn unknown(document: &Document, object: &ObjectPath) -> EditError {
    if let Some(parent) = parent(object).filter(|parent| value(document, parent).is_none()) {
        return unknown(document, &parent);
    }
    let path = object.to_string();
    let own = path.rsplit('.').next().unwrap_or_default();
    let near = match object {
        ObjectPath::Host(_) => names(&document.hosts, own),
        ObjectPath::Range(_) => names(&document.ranges, own),
        ObjectPath::Reserved(range, _) => {
            document.ranges.get(range).map(|range| names(&range.reserved, own)).unwrap_or_default()
        }
        ObjectPath::Check(_) => names(&document.checks, own),
        ObjectPath::Pool(_) => names(&document.pools, own),
        ObjectPath::Server(it) => {
            document.pools.get(&it.pool).map(|pool| names(&pool.servers, own)).unwrap_or_default()
        }
        ObjectPath::Lookup(pool, _) => {
            document.pools.get(pool).map(|pool| names(&pool.lookups, own)).unwrap_or_default()
        }
        ObjectPath::Frontend(_) => names(&document.frontends, own),
        ObjectPath::Notification(_) => names(&document.notifications, own),
        ObjectPath::Certificate(_) => names(&document.certificates, own),
        ObjectPath::Address(_) => names(&document.addresses, own),
        ObjectPath::Announcement(_) => names(&document.announce, own),
        ObjectPath::Authority(_) => names(&document.authorities, own),
        ObjectPath::Limit(_) => names(&document.limits, own),
        ObjectPath::Rule(_) => names(&document.rules, own),
        ObjectPath::Example(_) => names(&document.examples, own),
        ObjectPath::Network(_) => names(&document.networks, own),
    };
    EditError::Unknown { object: object.clone(), near }
}

fn names<T>(objects: &std::collections::BTreeMap<Name, T>, found: &str) -> Vec<String> {
    nearest(found, objects.keys()).into_iter().map(Name::to_string).collect()
}

/// The value of an object's only key.
fn alone(object: &ObjectPath, mut value: Value, key: &str) -> Result<Value, EditError> {
    let own = value.as_object_mut().and_then(|keys| keys.remove(key));
    let others = value.as_object().into_iter().flat_map(Map::keys);
    let problem = |other: &String| {
        let found = format!("there is no key {other:?} here");
        Problem::at(&format!("{object}.{other}"), found, format!("{key} alone"))
    };
    let problems: Vec<Problem> = others.map(problem).collect();
    if problems.is_empty() { Ok(own.unwrap_or_default()) } else { Err(EditError::Keys(problems)) }
}

/// A document that holds nothing but one object and what has to stand around it.
fn read_alone(object: &ObjectPath, value: Value) -> Result<Document, EditError> {
    let mut small = Value::Object(Map::new());
    small["format"] = crate::config::document::FORMAT.into();
    // What stands around an object inside another is not read again.
    let around = match object {
        ObjectPath::Reserved(range, _) => {
            Some((ObjectPath::Range(range.clone()), serde_json::json!({ "addresses": "::/112" })))
        }
        ObjectPath::Server(PoolServer { pool, .. }) | ObjectPath::Lookup(pool, _) => {
            Some((ObjectPath::Pool(pool.clone()), serde_json::json!({})))
        }
        _ => None,
    };
    if let Some((around, keys)) = around {
        tree::put(&mut small, &around.keys(), keys);
    }
    let value = match object {
        ObjectPath::Reserved(..) => alone(object, value, "address")?,
        ObjectPath::Network(_) => alone(object, value, "prefixes")?,
        _ => value,
    };
    tree::put(&mut small, &object.keys(), value);
    read_value(small).map_err(EditError::Keys)
}

/// Reads one object from JSON and puts it where it belongs.
fn put(mut document: Document, object: &ObjectPath, value: Value) -> Result<Document, EditError> {
    let read = read_alone(object, value)?;
    let lost = "what was read without problems is there";
    match object {
        ObjectPath::Host(name) => {
            document.hosts.extend(read.hosts.into_iter().filter(|(candidate, _)| candidate == name))
        }
        ObjectPath::Range(name) => {
            document.ranges.extend(read.ranges.into_iter().filter(|(candidate, _)| candidate == name))
        }
        ObjectPath::Check(name) => {
            document.checks.extend(read.checks.into_iter().filter(|(candidate, _)| candidate == name))
        }
        ObjectPath::Pool(name) => {
            document.pools.extend(read.pools.into_iter().filter(|(candidate, _)| candidate == name))
        }
        ObjectPath::Frontend(_) => document.frontends.extend(read.frontends),
        ObjectPath::Notification(_) => document.notifications.extend(read.notifications),
        ObjectPath::Certificate(_) => document.certificates.extend(read.certificates),
        ObjectPath::Address(_) => document.addresses.extend(read.addresses),
        ObjectPath::Announcement(_) => document.announce.extend(read.announce),
        ObjectPath::Authority(_) => document.authorities.extend(read.authorities),
        ObjectPath::Limit(_) => document.limits.extend(read.limits),
        ObjectPath::Rule(_) => document.rules.extend(read.rules),
        ObjectPath::Example(_) => document.examples.extend(read.examples),
        ObjectPath::Network(_) => document.networks.extend(read.networks),
        ObjectPath::Reserved(range, _) => {
            let made = read.ranges.into_values().next().expect(lost);
            document.ranges.get_mut(range).expect("it was looked for before").reserved.extend(made.reserved);
        }
        ObjectPath::Server(PoolServer { pool, .. }) | ObjectPath::Lookup(pool, _) => {
            let made = read.pools.into_values().next().expect(lost);
            let into = document.pools.get_mut(pool).expect("it was looked for before");
            into.servers.extend(made.servers);
            into.lookups.extend(made.lookups);
        }
    }
    Ok(document)
}

fn removed(mut document: Document, object: &ObjectPath) -> Document {
    match object {
        ObjectPath::Host(name) => drop(document.hosts.remove(name)),
        ObjectPath::Range(name) => drop(document.ranges.remove(name)),
        ObjectPath::Reserved(range, name) => {
            document.ranges.get_mut(range).and_then(|range| range.reserved.remove(name));
        }
        ObjectPath::Check(name) => drop(document.checks.remove(name)),
        ObjectPath::Pool(name) => drop(document.pools.remove(name)),
        ObjectPath::Server(it) => {
            document.pools.get_mut(&it.pool).and_then(|pool| pool.servers.remove(&it.server));
        }
        ObjectPath::Lookup(pool, name) => {
            document.pools.get_mut(pool).and_then(|pool| pool.lookups.remove(name));
        }
        ObjectPath::Frontend(name) => drop(document.frontends.remove(name)),
        ObjectPath::Notification(name) => drop(document.notifications.remove(name)),
        ObjectPath::Certificate(name) => drop(document.certificates.remove(name)),
        ObjectPath::Address(name) => drop(document.addresses.remove(name)),
        ObjectPath::Announcement(name) => drop(document.announce.remove(name)),
        ObjectPath::Authority(name) => drop(document.authorities.remove(name)),
        ObjectPath::Limit(name) => drop(document.limits.remove(name)),
        ObjectPath::Rule(name) => drop(document.rules.remove(name)),
        ObjectPath::Example(name) => drop(document.examples.remove(name)),
        ObjectPath::Network(name) => drop(document.networks.remove(name)),
    }
    document
}

fn rename(document: Document, object: &ObjectPath, to: &Name) -> Result<Document, EditError> {
    let value = present(&document, object)?;
    let new = object.renamed(to.clone());
    absent(&document, &new)?;
    let users = users(&document, object);
    let mut document = removed(put(document, &new, value)?, object);
    for user in users {
        follow::follow(&mut document, &user, object, to);
    }
    Ok(document)
}
