//! What a pool and its servers were called when pins were made that may still hold.

use std::collections::{BTreeMap, VecDeque};

use serde::{Deserialize, Serialize};

use crate::name::Name;

/// How many former names of a pool are remembered. Each costs a pin of an older one a signature more to look at.
const POOLS: usize = 8;
/// How many former names of one server are remembered.
const SERVERS: usize = 8;

/// Former names. A pin names its server and its pool as they were called when it was made, and clients keep theirs for
/// as long as they like: without these a rename would untie all of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FormerNames {
    /// Of the pool, the newest first.
    #[serde(default, skip_serializing_if = "VecDeque::is_empty")]
    pools: VecDeque<Name>,
    /// Of servers by what they are called now, the newest first.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    servers: BTreeMap<Name, VecDeque<Name>>,
}

impl FormerNames {
    /// The pool was called this until now.
    pub fn pool_was(&mut self, name: Name) {
        self.pools.retain(|former| *former != name);
        self.pools.push_front(name);
        self.pools.truncate(POOLS);
    }

    /// A server was called `name` until now, and is called `now`.
    pub fn server_was(&mut self, name: Name, now: Name) {
        let mut all = self.servers.remove(&name).unwrap_or_default();
        all.retain(|former| *former != now);
        all.push_front(name);
        all.truncate(SERVERS);
        self.servers.insert(now, all);
    }

    /// Forgets names of pools that are called so now, and of servers that are gone.
    pub fn retain(&mut self, is_pool: impl Fn(&Name) -> bool, is_server: impl Fn(&Name) -> bool) {
        self.pools.retain(|name| !is_pool(name));
        self.servers.retain(|now, _| is_server(now));
    }

    /// Whether nothing was called otherwise.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.pools.is_empty() && self.servers.is_empty()
    }

    /// The former names of the pool, the newest first.
    pub(super) fn pools(&self) -> impl Iterator<Item = &Name> {
        self.pools.iter()
    }

    /// The former names of servers with what they are called now.
    pub(super) fn servers(&self) -> impl Iterator<Item = (&Name, &Name)> {
        self.servers.iter().flat_map(|(now, all)| all.iter().map(move |name| (name, now)))
    }
}
