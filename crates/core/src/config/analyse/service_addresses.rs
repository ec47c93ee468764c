//! What has to hold between service addresses, and between them and the rest of a document.

use std::collections::BTreeMap;
use std::net::IpAddr;

use crate::config::analyse::check::one_of;
use crate::config::document::Document;
use crate::config::problem::Problem;
use crate::name::Name;

/// Looks at the addresses that move between nodes.
pub(super) fn service_addresses(document: &Document, problems: &mut Vec<Problem>) {
    let mut held = BTreeMap::<IpAddr, &Name>::new();
    let mut routers = BTreeMap::<(&str, u8), &Name>::new();
    for (name, spec) in &document.addresses {
        let at = |key: &str| format!("addresses.{name}.{key}");
        if spec.nodes.is_empty() {
            let found = "no node may hold them".to_owned();
            problems.push(Problem::at(
                &at("nodes"),
                found,
                "nodes = { north = 200, south = 100 }, by the names of the nodes",
            ));
        }
        for address in &spec.addresses {
            if address.is_unspecified() || address.is_multicast() || address.is_loopback() {
                let found = format!("{address} is no address of a single machine that others reach");
                problems.push(Problem::at(
                    &at("addresses"),
                    found,
                    "an address of the network behind the interface",
                ));
            }
            if let Some(other) = held.insert(*address, name).filter(|other| *other != name) {
                let found = format!("{address} is one of addresses.{other} too");
                problems.push(Problem::at(&at("addresses"), found, "each address in one of them"));
            }
            if spec.peers.contains(address) {
                let found = format!("{address} is one of the addresses that move");
                problems.push(Problem::at(
                    &at("peers"),
                    found,
                    "the nodes' own addresses, which stay where they are",
                ));
            }
        }
        if let Some(other) = routers.insert((&spec.interface, spec.router_id), name) {
            let found =
                format!("addresses.{other} is virtual router {} of {} too", spec.router_id, spec.interface);
            problems.push(Problem::at(
                &at("router_id"),
                found,
                "a number of its own for each on one interface",
            ));
        }
        for pool in spec.pools.iter().filter(|pool| !document.pools.contains_key(*pool)) {
            let wanted = one_of("pool", pool, document.pools.keys());
            problems.push(Problem::dangling(&at("pools"), "pool", pool, wanted));
        }
    }
}
