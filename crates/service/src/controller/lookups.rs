//! Servers that come and go with the answers of name servers.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use merismos_api::EventKind;
use merismos_core::config::discovery::{DiscoveredServer, DiscoveredServers, discovered_name};
use merismos_core::config::document::{Document, LookupSpec, WhenEmpty};
use merismos_core::config::renames::Renames;
use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_probe::lookup::{LookupError, LookupId, LookupReport, Lookups};
use serde_json::json;

use super::state::ControllerState;
use crate::clock::wall;

/// How a lookup went last.
#[derive(Clone, Debug, Default)]
pub(super) struct LookupState {
    pub(super) at: Option<Wall>,
    pub(super) trouble: Option<String>,
}

/// How a lookup is named in the copy.
pub(super) fn lookup_key((pool, lookup): &LookupId) -> String {
    format!("{pool}/{lookup}")
}

pub(super) fn lookup_id(key: &str) -> Option<LookupId> {
    let (pool, lookup) = key.split_once('/')?;
    Some((pool.parse().ok()?, lookup.parse().ok()?))
}

/// The lookups of DNS names, and what they found.
pub(super) struct Discovery {
    pub(super) lookups: Lookups,
    pub(super) found: DiscoveredServers,
    pub(super) looked: BTreeMap<LookupId, LookupState>,
}

impl Discovery {
    /// Goes on with what lookups found before the start, by [`lookup_key`].
    pub(super) fn new(lookups: Lookups, found: BTreeMap<String, BTreeSet<DiscoveredServer>>) -> Self {
        let found =
            found.into_iter().filter_map(|(key, servers)| Some((lookup_id(&key)?, servers))).collect();
        Self { lookups, found, looked: BTreeMap::new() }
    }
}

impl ControllerState {
    /// Keeps what lookups found as long as they stand in the new document, under their pools' new names.
    pub(super) fn keep_found(&mut self, new: &Document) {
        let renames = match &self.running {
            Some(running) => Renames::between(running.checked.document(), new),
            None => Renames::default(),
        };
        let moved = |pool: Name| renames.pools.get(&pool).cloned().unwrap_or(pool);
        // A lookup that asks the same under another name has found the same.
        let old = self.running.as_ref().map(|running| running.checked.shared()).unwrap_or_default();
        let called = |old_pool: &Name, pool: &Name, lookup: Name| {
            let asked = old.pools.get(old_pool).and_then(|pool| pool.lookups.get(&lookup));
            let now = new.pools.get(pool).map(|pool| &pool.lookups);
            let same = now.filter(|now| !now.contains_key(&lookup)).zip(asked);
            let same = same.and_then(|(now, asked)| now.iter().find(|(_, known)| *known == asked));
            same.map_or(lookup, |(name, _)| name.clone())
        };
        let found = std::mem::take(&mut self.discovery.found);
        let found = found.into_iter().map(|((old_pool, lookup), found)| {
            let pool = moved(old_pool.clone());
            let lookup = called(&old_pool, &pool, lookup);
            ((pool, lookup), found)
        });
        self.discovery.found = found.collect();
        let stands = |(pool, lookup): &LookupId| {
            new.pools.get(pool).is_some_and(|pool| pool.lookups.contains_key(lookup))
        };
        self.discovery.found.retain(|id, _| stands(id));
        self.discovery.looked.retain(|id, _| stands(id));
    }

    pub(super) fn set_lookups(&mut self) {
        let document = self.document();
        let mut lookups = BTreeMap::new();
        for (pool, spec) in &document.pools {
            let all = spec.lookups.iter();
            lookups.extend(all.map(|(name, lookup)| ((pool.clone(), name.clone()), lookup.clone())));
        }
        self.discovery.lookups.set(lookups);
    }

    /// Takes what a lookup came to.
    pub(super) fn on_lookup(&mut self, report: LookupReport) {
        let LookupReport { id, lookup, outcome } = report;
        let document = self.document();
        let stands = document.pools.get(&id.0).and_then(|pool| pool.lookups.get(&id.1)) == Some(&lookup);
        if !stands {
            return;
        }
        let subject = format!("{}/{}", id.0, id.1);
        let looked = self.discovery.looked.entry(id.clone()).or_default();
        let had_trouble = looked.trouble.take();
        match outcome {
            Ok(answer) => {
                looked.at = Some(wall());
                if had_trouble.is_some() {
                    let says = format!("{} is answered again", lookup.name);
                    self.reports.journal.write(EventKind::Lookup, subject, says, json!({}));
                }
                self.find(id, &lookup, answer.servers);
            }
            Err(error) => {
                let is_empty = matches!(error, LookupError::Empty { .. });
                let kept = self.discovery.found.get(&id).map_or(0, BTreeSet::len);
                let goes = is_empty && lookup.when_empty == WhenEmpty::Remove;
                let what_now = match (goes, kept) {
                    (_, 0) => "there is nothing to keep".to_owned(),
                    (true, kept) => format!("its {kept} servers go"),
                    (false, kept) => format!("the last {kept} servers are kept"),
                };
                let trouble = format!("{error}; {what_now}");
                if had_trouble.is_none() {
                    self.reports.journal.write(EventKind::Lookup, subject, trouble.clone(), json!({}));
                }
                looked.trouble = Some(trouble);
                if goes {
                    self.find(id, &lookup, BTreeSet::new());
                }
            }
        }
    }

    /// Lets the servers that a lookup found come and go.
    fn find(&mut self, id: LookupId, lookup: &LookupSpec, servers: BTreeSet<DiscoveredServer>) {
        let before = self.discovery.found.get(&id).cloned().unwrap_or_default();
        if before == servers {
            return;
        }
        let name = |server: &DiscoveredServer| {
            discovered_name(&id.1, server.address).map_or_else(String::new, |name| format!("{}/{name}", id.0))
        };
        for server in servers.difference(&before) {
            let says = format!(
                "found at {} by {}, weight {}, tier {}",
                server.address, lookup.name, server.weight, server.tier
            );
            self.reports.journal.write(EventKind::Lookup, name(server), says, json!({ "found": server }));
        }
        for server in before.iter().filter(|server| !servers.iter().any(|now| now.address == server.address))
        {
            let says = format!("gone: {} does not name {} any more", lookup.name, server.address);
            self.reports.journal.write(EventKind::Lookup, name(server), says, json!({ "gone": server }));
        }
        self.discovery.found.insert(id, servers);
        let Some(running) = &self.running else { return };
        let effective = running.checked.with_found(&self.discovery.found);
        self.settle(effective.document(), None);
        if let Some(running) = &mut self.running {
            Arc::make_mut(running).effective = effective;
        }
        self.publish(Vec::new());
        self.set_probes();
        self.forget_gone_servers();
        self.state_file.changed();
    }
}
