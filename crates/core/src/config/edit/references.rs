//! Who uses an object.

use crate::config::document::{CertificateTrust, Document, ExampleSpec, FrontendSpec};
use crate::config::listen_address::AddressSource;
use crate::config::object::ObjectPath;
use crate::name::PoolServer;

/// The objects that name this one, in the order of their paths: what has to go or change before it can be removed.
#[must_use]
pub fn users(document: &Document, object: &ObjectPath) -> Vec<ObjectPath> {
    let frontends = |uses: &dyn Fn(&FrontendSpec) -> bool| -> Vec<ObjectPath> {
        let using = document.frontends.iter().filter(|(_, frontend)| uses(frontend));
        using.map(|(name, _)| ObjectPath::Frontend(name.clone())).collect()
    };
    let examples = |uses: &dyn Fn(&ExampleSpec) -> bool| -> Vec<ObjectPath> {
        let using = document.examples.iter().filter(|(_, example)| uses(example));
        using.map(|(name, _)| ObjectPath::Example(name.clone())).collect()
    };
    match object {
        ObjectPath::Pool(pool) => {
            let telling = document.notifications.iter().filter(|(_, message)| message.pools.contains(pool));
            let mut using = frontends(&|frontend| frontend.pools().any(|name| name == pool));
            using.extend(telling.map(|(name, _)| ObjectPath::Notification(name.clone())));
            let leading =
                document.rules.iter().filter(|(_, rule)| rule.pools().any(|(name, _)| name == pool));
            using.extend(leading.map(|(name, _)| ObjectPath::Rule(name.clone())));
            using.extend(examples(&|example| example.expect_pool.as_ref() == Some(pool)));
            let needing = document.addresses.iter().filter(|(_, address)| address.pools.contains(pool));
            using.extend(needing.map(|(name, _)| ObjectPath::Address(name.clone())));
            let needing = document.announce.iter().filter(|(_, announced)| announced.pools.contains(pool));
            using.extend(needing.map(|(name, _)| ObjectPath::Announcement(name.clone())));
            using
        }
        ObjectPath::Range(wanted) => frontends(
            &|frontend| matches!(frontend.listen.written(), AddressSource::Taken { range, .. } if range == wanted),
        ),
        ObjectPath::Reserved(wanted, taken) => frontends(
            &|frontend| matches!(frontend.listen.written(), AddressSource::Taken { range, name } if range == wanted && name == taken),
        ),
        ObjectPath::Certificate(certificate) => {
            let shows = |trust: Option<&CertificateTrust>| {
                trust.is_some_and(|trust| trust.certificate.as_ref() == Some(certificate))
            };
            let mut using = frontends(&|frontend| frontend.certificates.contains(certificate));
            let pools = document.pools.iter().filter(|(_, pool)| shows(pool.reaching.tls.as_ref()));
            using.extend(pools.map(|(name, _)| ObjectPath::Pool(name.clone())));
            let checks = document.checks.iter().filter(|(_, check)| shows(check.kind.trust()));
            using.extend(checks.map(|(name, _)| ObjectPath::Check(name.clone())));
            using
        }
        ObjectPath::Authority(authority) => {
            let ordered = document.certificates.iter();
            let ordered = ordered.filter(|(_, spec)| spec.authority.as_ref() == Some(authority));
            ordered.map(|(name, _)| ObjectPath::Certificate(name.clone())).collect()
        }
        ObjectPath::Network(list) => {
            let by_network = |frontend: &FrontendSpec| {
                let excepted = frontend.http.iter().flat_map(|http| &http.maintenance.maintenance_except);
                frontend
                    .more
                    .pool_networks
                    .values()
                    .flatten()
                    .chain(excepted)
                    .chain(&frontend.allow)
                    .chain(&frontend.deny)
                    .any(|name| name == list)
            };
            let mut using = frontends(&by_network);
            let asking =
                document.rules.iter().filter(|(_, rule)| rule.when.networks().any(|name| name == list));
            using.extend(asking.map(|(name, _)| ObjectPath::Rule(name.clone())));
            using
        }
        ObjectPath::Check(check) => {
            let using = document.pools.iter().filter(|(_, pool)| pool.checks().any(|name| name == check));
            using.map(|(name, _)| ObjectPath::Pool(name.clone())).collect()
        }
        ObjectPath::Frontend(frontend) => examples(&|example| example.frontend == *frontend),
        ObjectPath::Limit(limit) => {
            let mut using = frontends(&|frontend| frontend.limits.contains(limit));
            let rules = document.rules.iter().filter(|(_, rule)| rule.limits.contains(limit));
            using.extend(rules.map(|(name, _)| ObjectPath::Rule(name.clone())));
            using
        }
        ObjectPath::Rule(rule) => {
            let lists = |frontend: &FrontendSpec| frontend.rules.contains(rule);
            let mut using = frontends(&lists);
            using.extend(examples(&|example| example.expect_rule.as_ref() == Some(rule)));
            using
        }
        ObjectPath::Host(host) => {
            let mut using = Vec::new();
            for (pool, spec) in &document.pools {
                let servers = spec.servers.iter().filter(
                    |(_, server)| matches!(server.address.written(), AddressSource::Host(it) if it == host),
                );
                using.extend(servers.map(|(server, _)| {
                    ObjectPath::Server(PoolServer { pool: pool.clone(), server: server.clone() })
                }));
            }
            using
        }
        ObjectPath::Server(_)
        | ObjectPath::Lookup(..)
        | ObjectPath::Address(_)
        | ObjectPath::Announcement(_)
        | ObjectPath::Example(_)
        | ObjectPath::Notification(_) => Vec::new(),
    }
}

/// Everything that has to go before an object can, in an order in which it can be done: users first, the object last.
#[must_use]
pub fn removal_order(document: &Document, object: &ObjectPath) -> Vec<ObjectPath> {
    let mut order = Vec::new();
    for user in users(document, object) {
        for step in removal_order(document, &user) {
            if !order.contains(&step) {
                order.push(step);
            }
        }
    }
    order.push(object.clone());
    order
}
