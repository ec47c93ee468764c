//! All keys, by the kind of object that has them.

use std::collections::BTreeMap;
use std::sync::LazyLock;

use ipnet::IpNet;
use merismos_derive::Keys;
use serde::Serialize;

use crate::config::Document;
use crate::config::decode::Section;
use crate::config::document::{
    AddressSpec, AnnouncementSpec, AuthoritySpec, CertificateSpec, CheckSpec, ExampleSpec, FrontendSpec,
    HostSpec, LimitSpec, LookupSpec, NotificationSpec, PoolSpec, RangeSpec, RuleSpec, ServerSpec,
};
use crate::config::key::{Field, Key, KeyCondition, Keys, Shape};
use crate::config::object::ObjectKind;

/// A list of networks as an object; in the document it is a plain list.
#[derive(Debug, Keys)]
#[allow(dead_code)]
struct NetworkObject {
    /// Addresses and prefixes of the list.
    #[key(basic, needed, count = 0..=100_000)]
    prefixes: Vec<IpNet>,
}

/// A reserved address as an object; in the document it is a plain text.
#[derive(Debug, Keys)]
#[allow(dead_code)]
struct ReservedObject {
    /// The address, inside its range.
    #[key(basic)]
    address: std::net::IpAddr,
}

/// Keys whose entries are objects of their own.
const INNER_OBJECTS: [&str; 3] = ["servers", "lookups", "reserved"];

/// A key of an object.
#[derive(Clone, Debug)]
pub struct ObjectKey {
    /// Its path in the object's table: `weight`, `passive_check.failures`.
    pub path: String,
    /// Declaration of the key.
    pub key: &'static Key,
    /// The condition under which the key exists; absent when it always does.
    pub when: Option<DecidedBy>,
    /// When it has an effect.
    pub effective: Option<DecidedBy>,
    /// The heading that it stands under.
    pub group: &'static str,
    /// Whether an object can't be without it.
    pub is_needed: bool,
    /// Whether it has to be given as soon as another one of its group is.
    pub is_needed_in_group: bool,
}

/// The values of another key of the object that decide about one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct DecidedBy {
    /// Name of the key that decides.
    pub key: &'static str,
    /// Values of that key with which this one exists.
    pub values: Vec<&'static str>,
}

impl ObjectKey {
    /// What forms call it: its label, or its name with spaces and a capital letter.
    #[must_use]
    pub fn label(&self) -> String {
        if !self.key.label.is_empty() {
            return self.key.label.to_owned();
        }
        let words = self.path.replace(['_', '.'], " ");
        let mut letters = words.chars();
        letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
    }

    /// Whether its entries are objects of their own.
    #[must_use]
    pub fn holds_objects(&self) -> bool {
        INNER_OBJECTS.contains(&self.key.name)
    }
}

/// The kinds of objects that have keys, each with the key of the document under which its objects stand.
pub const HOMES: [(ObjectKind, &str); 16] = [
    (ObjectKind::Host, "hosts"),
    (ObjectKind::Range, "ranges"),
    (ObjectKind::Network, "networks"),
    (ObjectKind::Address, "addresses"),
    (ObjectKind::Announcement, "announce"),
    (ObjectKind::Authority, "authorities"),
    (ObjectKind::Certificate, "certificates"),
    (ObjectKind::Check, "checks"),
    (ObjectKind::Pool, "pools"),
    (ObjectKind::Server, "servers"),
    (ObjectKind::Lookup, "lookups"),
    (ObjectKind::Limit, "limits"),
    (ObjectKind::Rule, "rules"),
    (ObjectKind::Frontend, "frontends"),
    (ObjectKind::Example, "examples"),
    (ObjectKind::Notification, "notifications"),
];

static KEYS: LazyLock<BTreeMap<ObjectKind, Vec<ObjectKey>>> = LazyLock::new(|| {
    let all = HOMES.iter().map(|(kind, _)| *kind).chain([ObjectKind::Reserved]);
    all.map(|kind| (kind, listed(fields(kind)))).collect()
});

/// The keys of a kind of object, in the order in which people read them.
#[must_use]
pub fn of(kind: ObjectKind) -> &'static [ObjectKey] {
    &KEYS[&kind]
}

/// The keys of the document itself.
#[must_use]
pub fn of_document() -> &'static [Field] {
    Document::FIELDS
}

/// The declarations of a kind.
pub(in crate::config) fn fields(kind: ObjectKind) -> &'static [Field] {
    match kind {
        ObjectKind::Host => HostSpec::FIELDS,
        ObjectKind::Range => RangeSpec::FIELDS,
        ObjectKind::Reserved => ReservedObject::FIELDS,
        ObjectKind::Network => NetworkObject::FIELDS,
        ObjectKind::Address => AddressSpec::FIELDS,
        ObjectKind::Announcement => AnnouncementSpec::FIELDS,
        ObjectKind::Authority => AuthoritySpec::FIELDS,
        ObjectKind::Certificate => CertificateSpec::FIELDS,
        ObjectKind::Check => CheckSpec::FIELDS,
        ObjectKind::Pool => PoolSpec::FIELDS,
        ObjectKind::Server => ServerSpec::FIELDS,
        ObjectKind::Lookup => LookupSpec::FIELDS,
        ObjectKind::Limit => LimitSpec::FIELDS,
        ObjectKind::Rule => RuleSpec::FIELDS,
        ObjectKind::Frontend => FrontendSpec::FIELDS,
        ObjectKind::Example => ExampleSpec::FIELDS,
        ObjectKind::Notification => NotificationSpec::FIELDS,
    }
}

/// What a table is of which nothing is given.
///
/// # Panics
/// When the table has a key that has to be given: a mistake in its declaration.
pub(in crate::config) fn defaults<T: Keys>() -> T {
    let empty =
        crate::config::tree::DocumentNode { line: 0, value: crate::config::tree::Value::Table(Vec::new()) };
    let mut problems = Vec::new();
    let mut section = Section::open(&empty, String::new(), 0, &mut problems).expect("a table");
    T::read(&mut section).expect("a table of which nothing has to be given")
}

fn listed(fields: &'static [Field]) -> Vec<ObjectKey> {
    let mut keys = Vec::new();
    let mut group = "General";
    let around = Surroundings { path: "", when: None, is_optional: false };
    list(fields, around, &mut group, &mut keys);
    keys
}

/// What stands around keys that are listed.
#[derive(Clone, Copy)]
struct Surroundings<'a> {
    /// The path of the table that they are in, with a dot behind it.
    path: &'a str,
    when: Option<KeyCondition>,
    /// Whether they are there together or not at all.
    is_optional: bool,
}

fn list(
    fields: &'static [Field],
    around: Surroundings<'_>,
    group: &mut &'static str,
    keys: &mut Vec<ObjectKey>,
) {
    for field in fields {
        let key = match field {
            Field::Key(key) => key,
            Field::Inline { fields, when, is_optional } => {
                let around = Surroundings {
                    when: when.or(around.when),
                    is_optional: around.is_optional || *is_optional,
                    ..around
                };
                list(fields, around, group, keys);
                continue;
            }
        };
        if !key.group.is_empty() {
            *group = key.group;
        }
        let path = format!("{}{}", around.path, key.name);
        if let Shape::Table { fields } = key.shape {
            let mut inner = "Passive check";
            let path = format!("{path}.");
            let is_optional = around.is_optional || key.is_optional;
            list(fields, Surroundings { path: &path, is_optional, ..around }, &mut inner, keys);
            continue;
        }
        let when = key.when.or(around.when).map(decided);
        // The same declaration under several values of a deciding key is one key.
        let same = keys.iter_mut().find(|known| known.path == path && known.key.help == key.help);
        match (same.and_then(|known| known.when.as_mut()), when) {
            (Some(known), Some(when)) if known.key == when.key => known.values.extend(when.values),
            (_, when) => keys.push(ObjectKey {
                path,
                key,
                when,
                effective: key.effective.map(decided),
                group,
                is_needed: key.is_needed() && !around.is_optional,
                is_needed_in_group: key.is_needed() && around.is_optional,
            }),
        }
    }
}

fn decided(condition: KeyCondition) -> DecidedBy {
    DecidedBy { key: condition.key, values: condition.values.to_vec() }
}
