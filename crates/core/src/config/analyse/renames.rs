//! Objects that go under one name and come under another.
//!
//! A rename must not cost a server its health, its duty or its counts, nor a frontend its connections. Documents
//! hold no identities beside names, so a rename is found by what stays: a server by its address in its pool, a pool
//! by the addresses of all its servers, a frontend by where it listens.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;

use serde::Serialize;

use crate::config::document::{Document, PoolSpec};
use crate::name::{Name, PoolServer};

/// What was renamed between two documents: the old name and the new one.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Renames {
    /// New names of pools, by the old ones.
    pub pools: BTreeMap<Name, Name>,
    /// Servers, of renamed pools as well, even when their own name stayed.
    pub servers: BTreeMap<PoolServer, PoolServer>,
    /// New names of frontends, by the old ones.
    pub frontends: BTreeMap<Name, Name>,
}

impl Renames {
    /// Finds what was renamed on the way from `old` to `new`.
    #[must_use]
    pub fn between(old: &Document, new: &Document) -> Self {
        let mut renames = Self {
            pools: renamed(&old.pools, &new.pools, addresses),
            frontends: renamed(&old.frontends, &new.frontends, |frontend| Some(frontend.endpoint())),
            servers: BTreeMap::new(),
        };
        for (name, pool) in &old.pools {
            let new_name = renames.pools.get(name).unwrap_or(name);
            let Some(new_pool) = new.pools.get(new_name) else { continue };
            if pool == new_pool && name == new_name {
                continue;
            }
            let id = |pool: &Name, server: &Name| PoolServer { pool: pool.clone(), server: server.clone() };
            let mut moved = renamed(&pool.servers, &new_pool.servers, |server| Some(server.address.get()));
            if name != new_name {
                let stayed = pool.servers.iter().filter(|(server, server_spec)| {
                    new_pool
                        .servers
                        .get(server)
                        .is_some_and(|now| now.address.get() == server_spec.address.get())
                });
                moved.extend(stayed.map(|(server, _)| (server.clone(), server.clone())));
            }
            let moved = moved.iter().map(|(from, to)| (id(name, from), id(new_name, to)));
            renames.servers.extend(moved);
        }
        renames
    }

    /// Whether nothing was renamed.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.pools.is_empty() && self.servers.is_empty() && self.frontends.is_empty()
    }
}

/// Objects that go and come again under another name with all their keys as they were, for kinds that have nothing else to be known by.
pub(in crate::config) fn same<T: Serialize>(
    old: &BTreeMap<Name, T>,
    new: &BTreeMap<Name, T>,
) -> BTreeMap<Name, Name> {
    renamed(old, new, |object| serde_json::to_string(object).ok())
}

/// As [`Renames::pools`], with those that hold nothing: they are known by their keys.
pub(in crate::config) fn pools_by_keys(
    old: &Document,
    new: &Document,
    known: &Renames,
) -> BTreeMap<Name, Name> {
    let keys =
        |pool: &PoolSpec| addresses(pool).is_none().then(|| serde_json::to_string(pool).ok()).flatten();
    let mut pools = renamed(&old.pools, &new.pools, keys);
    pools.extend(known.pools.clone());
    pools
}

/// A DNS name, and the port of its servers.
type LookupTarget<'d> = (&'d str, Option<u16>);

/// What a pool is known by: its own servers and the names that it looks up. An empty pool is known by its name alone.
fn addresses(pool: &PoolSpec) -> Option<(BTreeSet<SocketAddr>, BTreeSet<LookupTarget<'_>>)> {
    let own = pool.servers.values().filter(|server| server.found_by.is_none());
    let own: BTreeSet<_> = own.map(|server| server.address.get()).collect();
    let lookups: BTreeSet<_> =
        pool.lookups.values().map(|lookup| (lookup.name.as_str(), lookup.port)).collect();
    (!own.is_empty() || !lookups.is_empty()).then_some((own, lookups))
}

/// Matches what went with what came by what they are known by; what is known twice is left alone.
pub(in crate::config) fn renamed<'d, T, K: Ord>(
    old: &'d BTreeMap<Name, T>,
    new: &'d BTreeMap<Name, T>,
    known_by: impl Fn(&'d T) -> Option<K>,
) -> BTreeMap<Name, Name> {
    let came = unique(new.iter().filter(|(name, _)| !old.contains_key(*name)), &known_by);
    if came.is_empty() {
        return BTreeMap::new();
    }
    let went = unique(old.iter().filter(|(name, _)| !new.contains_key(*name)), &known_by);
    let pairs = went.into_iter().filter_map(|(key, from)| Some((from?.clone(), (*came.get(&key)?)?.clone())));
    pairs.collect()
}

fn unique<'a, T: 'a, K: Ord>(
    objects: impl Iterator<Item = (&'a Name, &'a T)>,
    known_by: &impl Fn(&'a T) -> Option<K>,
) -> BTreeMap<K, Option<&'a Name>> {
    let mut found = BTreeMap::new();
    for (name, object) in objects {
        if let Some(key) = known_by(object) {
            found.entry(key).and_modify(|twice| *twice = None).or_insert(Some(name));
        }
    }
    found
}
