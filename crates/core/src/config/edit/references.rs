//! Who uses an object.

use crate::config::document::{CertificateTrust, Document};
use crate::config::listen_address::AddressSource;
use crate::config::object::ObjectPath;
use crate::name::PoolServer;

/// The objects that name this one, in the order of their paths: what has to go or change before it can be removed.
#[must_use]
pub fn users(document: &Document, object: &ObjectPath) -> Vec<ObjectPath> {
    let frontends = |uses: &dyn Fn(&crate::config::document::FrontendSpec) -> bool| -> Vec<ObjectPath> {
        let using = document.frontends.iter().filter(|(_, frontend)| uses(frontend));
        using.map(|(name, _)| ObjectPath::Frontend(name.clone())).collect()
    };
    match object {
        ObjectPath::Pool(pool) => {
            let telling = document.notifications.iter().filter(|(_, message)| message.pools.contains(pool));
            let mut using = frontends(&|frontend| frontend.pools().any(|name| name == pool));
            using.extend(telling.map(|(name, _)| ObjectPath::Notification(name.clone())));
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
            frontends(&|frontend| frontend.more.pool_networks.values().flatten().any(|name| name == list))
        }
        ObjectPath::Check(check) => {
            let using = document.pools.iter().filter(|(_, pool)| pool.checks().any(|name| name == check));
            using.map(|(name, _)| ObjectPath::Pool(name.clone())).collect()
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
        | ObjectPath::Frontend(_)
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
