//! Orders for addresses that move between nodes, and what this node is worth for each.

use merismos_core::vrrp::StandingOrder;
use merismos_store::plans::PlanKind;

use super::state::ControllerState;

impl ControllerState {
    /// Brings addresses in line with the document, the health of pools and the orders.
    pub(super) fn keep_addresses(&self) {
        if self.running.is_none() || self.handed_on {
            return;
        }
        let (snapshot, now) = (self.publisher.plane.snapshot(), self.publisher.plane.now());
        self.addresses.keep(&self.document(), &snapshot, now);
    }

    /// Keeps an order for an address or a node, or that it was taken back, and follows it at once.
    pub(super) fn order_address(&mut self, of: (PlanKind, String), order: Option<StandingOrder>) {
        let plan = self.addresses.put(of, self.order_numbers.next(), order);
        self.reports.journal.outbox().add_plan(plan);
        self.state_file.changed();
        self.keep_addresses();
    }
}
