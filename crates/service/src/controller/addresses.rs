//! Orders for addresses that move between nodes, and what this node is worth for each.

use std::collections::BTreeSet;
use std::net::IpAddr;

use merismos_core::config::document::Document;
use merismos_core::vrrp::StandingOrder;
use merismos_store::plans::PlanKind;

use super::state::ControllerState;
use crate::announcements::AnnouncingNode;
use crate::clock::wall;

impl ControllerState {
    /// Brings addresses in line with the document, the health of pools and the orders.
    pub(super) fn keep_addresses(&self) {
        if self.running.is_none() || self.handed_on {
            return;
        }
        let (snapshot, now) = (self.publisher.plane.snapshot(), self.publisher.plane.now());
        let document = self.document();
        self.addresses.keep(&document, &snapshot, now);
        if document.announce.is_empty() && !self.announcements.is_begun() {
            return;
        }
        let drain = self.addresses.order(PlanKind::Node, self.node.nodes.name().as_str());
        self.announcements.keep(&AnnouncingNode {
            document: &document,
            snapshot: &snapshot,
            deaf: &self.publisher.plane.deaf(),
            drained_since: drain.map(|order| order.at),
            now,
            at: wall(),
        });
    }

    /// Keeps an order for an address or a node, or that it was taken back, and follows it at once.
    pub(super) fn order_address(&mut self, of: (PlanKind, String), order: Option<StandingOrder>) {
        let plan = self.addresses.put(of, self.order_numbers.next(), order);
        self.reports.journal.outbox().add_plan(plan);
        self.state_file.changed();
        self.keep_addresses();
    }
}

/// Addresses that frontends may listen at before this machine has them: those that move between nodes, and those that nodes announce.
pub(super) fn floating(document: &Document) -> BTreeSet<IpAddr> {
    let moving = document.addresses.values().flat_map(|spec| &spec.addresses);
    moving.chain(document.announce.values().flat_map(|spec| &spec.addresses)).copied().collect()
}

impl ControllerState {
    /// Who has an address that moves between nodes or is announced by them, when this node does not have it: such as `node south holds it`.
    pub(super) fn away(&self, ip: IpAddr) -> Option<String> {
        let document = self.document();
        // A node that can bind it has it.
        if !floating(&document).contains(&ip) || std::net::UdpSocket::bind((ip, 0)).is_ok() {
            return None;
        }
        let Some((object, _)) = document.addresses.iter().find(|(_, spec)| spec.addresses.contains(&ip))
        else {
            return Some("it announces it to no router".to_owned());
        };
        let holders = self.addresses.heard_holders(object).unwrap_or_default();
        Some(match holders.as_slice() {
            [] => "it hears no node that holds it".to_owned(),
            [only] => format!("node {only} holds it"),
            several => format!("nodes {} hold it", several.join(" and ")),
        })
    }
}
