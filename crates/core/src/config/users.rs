//! Who uses a thing.

use super::document::Document;
use super::place::Written;
use super::thing::Thing;
use crate::name::PoolServer;

/// The things that name this one, in the order of their paths: what has to go or change before it can be removed.
#[must_use]
pub fn users(document: &Document, thing: &Thing) -> Vec<Thing> {
    let frontends = |uses: &dyn Fn(&super::document::Frontend) -> bool| -> Vec<Thing> {
        let using = document.frontends.iter().filter(|(_, frontend)| uses(frontend));
        using.map(|(name, _)| Thing::Frontend(name.clone())).collect()
    };
    match thing {
        Thing::Pool(pool) => {
            let telling = document.messages.iter().filter(|(_, message)| message.pools.contains(pool));
            let mut using = frontends(&|frontend| frontend.pools().any(|it| it == pool));
            using.extend(telling.map(|(name, _)| Thing::Message(name.clone())));
            using
        }
        Thing::Range(wanted) => frontends(
            &|frontend| matches!(frontend.listen.written(), Written::Taken { range, .. } if range == wanted),
        ),
        Thing::Taken(wanted, taken) => frontends(
            &|frontend| matches!(frontend.listen.written(), Written::Taken { range, name } if range == wanted && name == taken),
        ),
        Thing::Network(list) => {
            frontends(&|frontend| frontend.more.pool_networks.values().flatten().any(|it| it == list))
        }
        Thing::Check(check) => {
            let using = document.pools.iter().filter(|(_, pool)| pool.checks().any(|it| it == check));
            using.map(|(name, _)| Thing::Pool(name.clone())).collect()
        }
        Thing::Host(host) => {
            let mut using = Vec::new();
            for (pool, spec) in &document.pools {
                let servers = spec.servers.iter().filter(
                    |(_, server)| matches!(server.address.written(), Written::Host(it) if it == host),
                );
                using.extend(servers.map(|(server, _)| {
                    Thing::Server(PoolServer { pool: pool.clone(), server: server.clone() })
                }));
            }
            using
        }
        Thing::Server(_) | Thing::Lookup(..) | Thing::Frontend(_) | Thing::Message(_) => Vec::new(),
    }
}

/// Everything that has to go before a thing can, in an order in which it can be done: users first, the thing last.
#[must_use]
pub fn removal_order(document: &Document, thing: &Thing) -> Vec<Thing> {
    let mut order = Vec::new();
    for user in users(document, thing) {
        for step in removal_order(document, &user) {
            if !order.contains(&step) {
                order.push(step);
            }
        }
    }
    order.push(thing.clone());
    order
}
