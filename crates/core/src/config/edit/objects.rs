//! All objects of a document, to be listed.

use crate::config::diff::summary_of;
use crate::config::document::{Document, Labels};
use crate::config::object::ObjectPath;
use crate::describe::first_of;
use crate::name::PoolServer;

/// An object with what people look for it by.
#[derive(Clone, Debug)]
pub struct ObjectEntry<'d> {
    /// Path of the object in the document.
    pub object: ObjectPath,
    /// Labels of the object, by name.
    pub labels: &'d Labels,
    /// Note of the object; may be empty.
    pub note: &'d str,
    document: &'d Document,
}

static NO_LABELS: Labels = Labels::new();

impl ObjectEntry<'_> {
    /// The object in one line.
    #[must_use]
    pub fn summary(&self) -> String {
        let document = self.document;
        let summary = match &self.object {
            ObjectPath::Host(name) => document.hosts.get(name).map(summary_of),
            ObjectPath::Range(name) => document.ranges.get(name).map(|range| {
                format!("{}, {} of {} taken", range.addresses, range.reserved.len(), range.addresses.len())
            }),
            ObjectPath::Reserved(range, name) => {
                document.ranges.get(range).and_then(|range| range.reserved.get(name)).map(ToString::to_string)
            }
            ObjectPath::Check(name) => document.checks.get(name).map(|check| {
                format!("{}, every {}, timeout {}", check.kind.asks(), check.interval, check.timeout)
            }),
            ObjectPath::Pool(name) => document.pools.get(name).map(|pool| {
                let check =
                    pool.check.as_ref().map_or_else(|| "no check".to_owned(), |name| format!("check {name}"));
                format!("{}, servers {}, {check}", pool.algorithm, pool.servers.len())
            }),
            ObjectPath::Server(PoolServer { pool, server }) => {
                document.pools.get(pool).and_then(|pool| pool.servers.get(server)).map(summary_of)
            }
            ObjectPath::Lookup(pool, name) => {
                document.pools.get(pool).and_then(|pool| pool.lookups.get(name)).map(summary_of)
            }
            ObjectPath::Frontend(name) => document.frontends.get(name).map(summary_of),
            ObjectPath::Certificate(name) => document.certificates.get(name).map(summary_of),
            ObjectPath::Address(name) => document.addresses.get(name).map(summary_of),
            ObjectPath::Announcement(name) => document.announce.get(name).map(summary_of),
            ObjectPath::Authority(name) => document.authorities.get(name).map(summary_of),
            ObjectPath::Limit(name) => document
                .limits
                .get(name)
                .map(|limit| format!("per {}: {}, {}", limit.per, limit.allows(), limit.action)),
            ObjectPath::Rule(name) => {
                document.rules.get(name).map(|rule| format!("{}: {}", rule.when, rule.does()))
            }
            ObjectPath::Example(name) => document.examples.get(name).map(summary_of),
            ObjectPath::Notification(name) => document.notifications.get(name).map(summary_of),
            ObjectPath::Network(name) => {
                document.networks.get(name).map(|prefixes| first_of(prefixes.iter().map(ToString::to_string)))
            }
        };
        summary.unwrap_or_default()
    }

    /// Whether it stands inside a pool or a range, given by its name.
    #[must_use]
    pub fn is_inside(&self, around: &str) -> bool {
        match &self.object {
            ObjectPath::Server(PoolServer { pool: name, .. })
            | ObjectPath::Lookup(name, _)
            | ObjectPath::Reserved(name, _) => name.as_str() == around,
            ObjectPath::Host(_)
            | ObjectPath::Range(_)
            | ObjectPath::Check(_)
            | ObjectPath::Pool(_)
            | ObjectPath::Frontend(_)
            | ObjectPath::Notification(_)
            | ObjectPath::Certificate(_)
            | ObjectPath::Address(_)
            | ObjectPath::Announcement(_)
            | ObjectPath::Authority(_)
            | ObjectPath::Limit(_)
            | ObjectPath::Rule(_)
            | ObjectPath::Example(_)
            | ObjectPath::Network(_) => false,
        }
    }
}

/// One object; `None` when it is not there.
#[must_use]
pub fn find<'d>(document: &'d Document, object: &ObjectPath) -> Option<ObjectEntry<'d>> {
    let (labels, note): (&Labels, &str) = match object {
        ObjectPath::Host(name) => document.hosts.get(name).map(|host| (&host.labels, host.note.as_str()))?,
        ObjectPath::Range(name) => {
            document.ranges.get(name).map(|range| (&range.labels, range.note.as_str()))?
        }
        ObjectPath::Reserved(range, name) => {
            document.ranges.get(range)?.reserved.get(name).map(|_| (&NO_LABELS, ""))?
        }
        ObjectPath::Check(name) => {
            document.checks.get(name).map(|check| (&check.labels, check.note.as_str()))?
        }
        ObjectPath::Pool(name) => document.pools.get(name).map(|pool| (&pool.labels, pool.note.as_str()))?,
        ObjectPath::Server(PoolServer { pool, server }) => document
            .pools
            .get(pool)?
            .servers
            .get(server)
            .map(|server| (&server.labels, server.note.as_str()))?,
        ObjectPath::Lookup(pool, name) => {
            document.pools.get(pool)?.lookups.get(name).map(|lookup| (&NO_LABELS, lookup.note.as_str()))?
        }
        ObjectPath::Frontend(name) => {
            document.frontends.get(name).map(|frontend| (&frontend.labels, frontend.note.as_str()))?
        }
        ObjectPath::Notification(name) => {
            document.notifications.get(name).map(|message| (&message.labels, message.note.as_str()))?
        }
        ObjectPath::Certificate(name) => document
            .certificates
            .get(name)
            .map(|certificate| (&certificate.labels, certificate.note.as_str()))?,
        ObjectPath::Limit(name) => {
            document.limits.get(name).map(|limit| (&limit.labels, limit.note.as_str()))?
        }
        ObjectPath::Rule(name) => document.rules.get(name).map(|rule| (&rule.labels, rule.note.as_str()))?,
        ObjectPath::Example(name) => {
            document.examples.get(name).map(|example| (&example.labels, example.note.as_str()))?
        }
        ObjectPath::Address(name) => {
            document.addresses.get(name).map(|address| (&address.labels, address.note.as_str()))?
        }
        ObjectPath::Announcement(name) => {
            document.announce.get(name).map(|announced| (&announced.labels, announced.note.as_str()))?
        }
        ObjectPath::Authority(name) => {
            document.authorities.get(name).map(|authority| (&authority.labels, authority.note.as_str()))?
        }
        ObjectPath::Network(name) => document.networks.get(name).map(|_| (&NO_LABELS, ""))?,
    };
    Some(ObjectEntry { object: object.clone(), labels, note, document })
}

/// Every object, by kind and name; what is inside an object follows it.
#[must_use]
pub fn list(document: &Document) -> Vec<ObjectEntry<'_>> {
    let mut all = Vec::new();
    all.extend(document.hosts.keys().cloned().map(ObjectPath::Host));
    for (name, range) in &document.ranges {
        all.push(ObjectPath::Range(name.clone()));
        all.extend(range.reserved.keys().map(|taken| ObjectPath::Reserved(name.clone(), taken.clone())));
    }
    all.extend(document.networks.keys().cloned().map(ObjectPath::Network));
    all.extend(document.addresses.keys().cloned().map(ObjectPath::Address));
    all.extend(document.announce.keys().cloned().map(ObjectPath::Announcement));
    all.extend(document.authorities.keys().cloned().map(ObjectPath::Authority));
    all.extend(document.limits.keys().cloned().map(ObjectPath::Limit));
    all.extend(document.rules.keys().cloned().map(ObjectPath::Rule));
    all.extend(document.examples.keys().cloned().map(ObjectPath::Example));
    all.extend(document.certificates.keys().cloned().map(ObjectPath::Certificate));
    all.extend(document.checks.keys().cloned().map(ObjectPath::Check));
    for (name, pool) in &document.pools {
        all.push(ObjectPath::Pool(name.clone()));
        let id = |server| ObjectPath::Server(PoolServer { pool: name.clone(), server });
        all.extend(pool.servers.keys().cloned().map(id));
        all.extend(pool.lookups.keys().map(|lookup| ObjectPath::Lookup(name.clone(), lookup.clone())));
    }
    all.extend(document.frontends.keys().cloned().map(ObjectPath::Frontend));
    all.extend(document.notifications.keys().cloned().map(ObjectPath::Notification));
    all.iter().filter_map(|object| find(document, object)).collect()
}
