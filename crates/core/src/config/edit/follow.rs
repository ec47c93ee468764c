//! Renames: whoever names an object names it by its new name.

use crate::config::document::{Document, ServerSpec};
use crate::config::listen_address::AddressSource;
use crate::config::object::ObjectPath;
use crate::name::Name;

/// Lets a user of a renamed object name it by its new name.
pub(super) fn follow(document: &mut Document, user: &ObjectPath, renamed: &ObjectPath, to: &Name) {
    match (user, renamed) {
        (ObjectPath::Frontend(name), ObjectPath::Pool(_)) => {
            if let Some(frontend) = document.frontends.get_mut(name) {
                let more = &mut frontend.more;
                let named = std::iter::once(&mut frontend.pool)
                    .chain(&mut more.next_pools)
                    .chain(&mut more.last_resort);
                for pool in named.filter(|pool| *pool == renamed.name()) {
                    *pool = to.clone();
                }
                if let Some(weight) = more.pool_weights.remove(renamed.name()) {
                    more.pool_weights.insert(to.clone(), weight);
                }
                if let Some(networks) = more.pool_networks.remove(renamed.name()) {
                    more.pool_networks.insert(to.clone(), networks);
                }
                if let Some(names) = frontend.passthrough.remove(renamed.name()) {
                    frontend.passthrough.insert(to.clone(), names);
                }
            }
        }
        (ObjectPath::Frontend(name), ObjectPath::Network(_)) => {
            let Some(frontend) = document.frontends.get_mut(name) else { return };
            let excepted = frontend.http.iter_mut().flat_map(|http| &mut http.maintenance.maintenance_except);
            let lists = frontend.more.pool_networks.values_mut().flatten().chain(excepted);
            let lists = lists.chain(&mut frontend.allow).chain(&mut frontend.deny);
            for list in lists.filter(|list| *list == renamed.name()) {
                *list = to.clone();
            }
        }
        (ObjectPath::Frontend(name), ObjectPath::Certificate(_)) => {
            let certificates =
                document.frontends.get_mut(name).into_iter().flat_map(|frontend| &mut frontend.certificates);
            for certificate in certificates.filter(|certificate| *certificate == renamed.name()) {
                *certificate = to.clone();
            }
        }
        (ObjectPath::Pool(name), ObjectPath::Certificate(_)) => {
            let trust = document.pools.get_mut(name).and_then(|pool| pool.reaching.tls.as_mut());
            if let Some(trust) = trust {
                trust.certificate = Some(to.clone());
            }
        }
        (ObjectPath::Check(name), ObjectPath::Certificate(_)) => {
            if let Some(trust) = document.checks.get_mut(name).and_then(|check| check.kind.trust_mut()) {
                trust.certificate = Some(to.clone());
            }
        }
        (ObjectPath::Rule(name), ObjectPath::Pool(_)) => {
            if let Some(rule) = document.rules.get_mut(name) {
                for pool in rule.pool.iter_mut().filter(|pool| *pool == renamed.name()) {
                    *pool = to.clone();
                }
                if let Some(weight) = rule.pool_weights.remove(renamed.name()) {
                    rule.pool_weights.insert(to.clone(), weight);
                }
            }
        }
        (ObjectPath::Rule(name), ObjectPath::Network(_)) => {
            if let Some(rule) = document.rules.get_mut(name) {
                rule.when = rule.when.with_network_renamed(renamed.name(), to);
            }
        }
        (ObjectPath::Frontend(name), ObjectPath::Limit(_)) => {
            let limits =
                document.frontends.get_mut(name).into_iter().flat_map(|frontend| &mut frontend.limits);
            for limit in limits.filter(|limit| *limit == renamed.name()) {
                *limit = to.clone();
            }
        }
        (ObjectPath::Rule(name), ObjectPath::Limit(_)) => {
            let limits = document.rules.get_mut(name).into_iter().flat_map(|rule| &mut rule.limits);
            for limit in limits.filter(|limit| *limit == renamed.name()) {
                *limit = to.clone();
            }
        }
        (ObjectPath::Frontend(name), ObjectPath::Rule(_)) => {
            let frontend = document.frontends.get_mut(name);
            let rules = frontend.into_iter().flat_map(|frontend| &mut frontend.rules);
            for rule in rules.filter(|rule| *rule == renamed.name()) {
                *rule = to.clone();
            }
        }
        (ObjectPath::Example(name), _) => {
            if let Some(example) = document.examples.get_mut(name) {
                let named = match renamed {
                    ObjectPath::Pool(_) => example.expect_pool.as_mut(),
                    ObjectPath::Rule(_) => example.expect_rule.as_mut(),
                    _ => Some(&mut example.frontend),
                };
                if let Some(named) = named {
                    *named = to.clone();
                }
            }
        }
        (ObjectPath::Certificate(name), ObjectPath::Authority(_)) => {
            if let Some(certificate) = document.certificates.get_mut(name) {
                certificate.authority = Some(to.clone());
            }
        }
        (ObjectPath::Address(name), ObjectPath::Pool(_)) => {
            let pools = document.addresses.get_mut(name).into_iter().flat_map(|address| &mut address.pools);
            for pool in pools.filter(|pool| *pool == renamed.name()) {
                *pool = to.clone();
            }
        }
        (ObjectPath::Announcement(name), ObjectPath::Pool(_)) => {
            let pools =
                document.announce.get_mut(name).into_iter().flat_map(|announced| &mut announced.pools);
            for pool in pools.filter(|pool| *pool == renamed.name()) {
                *pool = to.clone();
            }
        }
        (ObjectPath::Notification(name), ObjectPath::Pool(_)) => {
            let pools =
                document.notifications.get_mut(name).into_iter().flat_map(|message| &mut message.pools);
            for pool in pools.filter(|pool| *pool == renamed.name()) {
                *pool = to.clone();
            }
        }
        (ObjectPath::Pool(name), ObjectPath::Check(_)) => {
            if let Some(pool) = document.pools.get_mut(name) {
                for check in
                    pool.check.iter_mut().chain(&mut pool.more_checks).filter(|name| *name == renamed.name())
                {
                    *check = to.clone();
                }
            }
        }
        (ObjectPath::Server(id), ObjectPath::Host(_)) => {
            let server: Option<&mut ServerSpec> =
                document.pools.get_mut(&id.pool).and_then(|pool| pool.servers.get_mut(&id.server));
            if let Some(server) = server {
                server.address.rewrite(AddressSource::Host(to.clone()));
            }
        }
        (ObjectPath::Frontend(name), ObjectPath::Range(_) | ObjectPath::Reserved(..)) => {
            let Some(frontend) = document.frontends.get_mut(name) else { return };
            if let AddressSource::Taken { range, name } = frontend.listen.written().clone() {
                let written = match renamed {
                    ObjectPath::Range(_) => AddressSource::Taken { range: to.clone(), name },
                    _ => AddressSource::Taken { range, name: to.clone() },
                };
                frontend.listen.rewrite(written);
            }
        }
        _ => unreachable!("{user} does not use {renamed}"),
    }
}
