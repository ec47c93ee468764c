//! What has to hold between announced addresses, and between them and the rest of a document.

use std::collections::BTreeMap;
use std::net::IpAddr;

use crate::config::analyse::check::one_of;
use crate::config::document::{AnnouncementSpec, Document, PoolLossAnswer};
use crate::config::problem::Problem;
use crate::name::Name;

/// Looks at the addresses that are announced to routers.
pub(super) fn announcements(document: &Document, problems: &mut Vec<Problem>) {
    let mut announced = BTreeMap::<IpAddr, &Name>::new();
    let mut sessions = BTreeMap::<IpAddr, (&Name, &AnnouncementSpec)>::new();
    let moving: BTreeMap<&IpAddr, &Name> = document
        .addresses
        .iter()
        .flat_map(|(name, spec)| spec.addresses.iter().map(move |ip| (ip, name)))
        .collect();
    for (name, spec) in &document.announce {
        let at = |key: &str| format!("announce.{name}.{key}");
        for ip in &spec.addresses {
            if !is_of_a_machine(*ip) {
                let found = format!("{ip} is no address of a machine that others reach");
                problems.push(Problem::at(
                    &at("addresses"),
                    found,
                    "an address that may be announced to routers",
                ));
            }
            if let Some(other) = announced.insert(*ip, name).filter(|other| *other != name) {
                let found = format!("{ip} is one of announce.{other} too");
                problems.push(Problem::at(&at("addresses"), found, "each address in one of them"));
            }
            if let Some(other) = moving.get(ip) {
                let found = format!("{ip} is one of addresses.{other}, which one node at a time holds");
                problems.push(Problem::at(
                    &at("addresses"),
                    found,
                    "an address that every node may have at once",
                ));
            }
            if spec.peers.iter().all(|peer| peer.is_ipv4() != ip.is_ipv4()) {
                let family = if ip.is_ipv4() { "IPv4" } else { "IPv6" };
                let found = format!("no peer of {family} that {ip} could be announced to");
                problems.push(Problem::at(
                    &at("peers"),
                    found,
                    "a peer of each family that the addresses are of",
                ));
            }
        }
        for peer in &spec.peers {
            if !is_of_a_machine(*peer) || matches!(peer, IpAddr::V6(ip) if ip.is_unicast_link_local()) {
                let found = format!("{peer} is no address that a session can be made with");
                problems.push(Problem::at(
                    &at("peers"),
                    found,
                    "a router's address that is not of one link alone",
                ));
            }
            if spec.addresses.contains(peer) {
                let found = format!("{peer} is one of the addresses that are announced");
                problems.push(Problem::at(&at("peers"), found, "the routers' own addresses"));
            }
            let Some((other, first)) = sessions.insert(*peer, (name, spec)) else { continue };
            if !shares_session(first, spec) {
                let found = format!("announce.{other} has a session with {peer} too, with other settings");
                problems.push(Problem::at(
                    &at("peers"),
                    found,
                    "the same as_number, peer_as, hold_time, hops, password and restart_time in both: there is one session with a router",
                ));
            }
        }
        if spec.as_number == spec.peer_as && spec.when_pools_fail == PoolLossAnswer::Prepend {
            let found = "prepend, between routers of one AS".to_owned();
            problems.push(Problem::at(
                &at("when_pools_fail"),
                found,
                "withdraw, med or community: paths inside of an AS are empty",
            ));
        }
        for pool in spec.pools.iter().filter(|pool| !document.pools.contains_key(*pool)) {
            let wanted = one_of("pool", pool, document.pools.keys());
            problems.push(Problem::dangling(&at("pools"), "pool", pool, wanted));
        }
    }
}

fn is_of_a_machine(ip: IpAddr) -> bool {
    !ip.is_unspecified() && !ip.is_multicast() && !ip.is_loopback()
}

fn shares_session(one: &AnnouncementSpec, other: &AnnouncementSpec) -> bool {
    let settings = |spec: &AnnouncementSpec| {
        (spec.as_number, spec.peer_as, spec.hold_time, spec.hops, spec.password.clone(), spec.restart_time)
    };
    settings(one) == settings(other)
}
