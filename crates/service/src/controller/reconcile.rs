//! What stays when the configuration changes: cells, duties, health, ramps, tiers and pins go with their servers, also
//! under new names.

use merismos_api::EventKind;
use merismos_core::config::document::Document;
use merismos_core::config::renames::Renames;
use merismos_core::duty::{Duty, DutyOrder};
use merismos_core::time::Wall;
use serde_json::json;

use super::state::ControllerState;
use crate::clock::{GrowingNumbers, wall};

impl ControllerState {
    /// Prepares cells, duties and health for what is to run next; `followed` is when another node made it, where one did.
    pub(super) fn settle(&mut self, new: &Document, followed: Option<Wall>) {
        let old = self.document();
        let renames = Renames::between(&old, new);
        if !renames.is_empty() {
            self.publisher.cells.rename(&renames);
            self.move_duties(&renames, followed);
            self.servers.rename(&renames);
        }
        self.servers.forget_gone_pools(new);
        self.servers.settle_health(new, &renames);
    }

    /// A withdrawn server that gets another name stays withdrawn, and one in service stays in service, whatever was
    /// ordered for a server that had the new name once. Where another node made the revision, its orders follow: until they are here this node goes
    /// by its own, which have no larger numbers.
    fn move_duties(&mut self, renames: &Renames, followed: Option<Wall>) {
        let is_followed = followed.is_some();
        let away = |order: &&DutyOrder| order.duty != Duty::InService;
        let (mut moved, mut events) = (Vec::new(), Vec::new());
        for (from, to) in &renames.servers {
            let own = self.servers.duties.get(from).filter(away).cloned();
            // An order of the node that made the revision, which was here first, is not stale.
            let is_of_revision =
                |order: &&DutyOrder| followed.is_some_and(|at| order.number >= GrowingNumbers::at(at));
            let standing = self.servers.duties.get(to);
            if standing.is_some_and(|order| is_of_revision(&order)) {
                continue;
            }
            let stale = standing.filter(away);
            let next = |standing: Option<&DutyOrder>| {
                let follows = standing.map_or(0, |order| order.number);
                let number = if is_followed { follows } else { self.order_numbers.next() };
                (number, if is_followed { 0 } else { follows })
            };
            let ended = |why: String, (number, follows): (u64, u64)| DutyOrder {
                number,
                follows,
                ..DutyOrder::new(Duty::InService, why, "the service", wall())
            };
            if let Some(order) = own {
                let gone = ended(format!("it is called {to} now"), next(Some(&order)));
                let (number, _) = next(Some(&order));
                let follows = self.servers.duties.get(to).map_or(0, |order| order.number);
                let order = DutyOrder { number, follows, ..order };
                let says = format!("{} goes on, as it is called {to} now", order.duty);
                events.push((from.clone(), says, json!({ "order": order, "to": to })));
                moved.push((from.clone(), gone));
                moved.push((to.clone(), order));
            } else if let Some(stale) = stale {
                let says = format!(
                    "in service, as it was when it was called {from}; {} by {} was for a server that was called {to} before",
                    stale.duty, stale.who
                );
                let order = ended(format!("it was in service when it was called {from}"), next(Some(stale)));
                events.push((to.clone(), says, json!({ "order": order, "from": from })));
                moved.push((to.clone(), order));
            }
        }
        for (server, says, detail) in events.into_iter().filter(|_| !is_followed) {
            self.reports.journal.write(EventKind::Duty, server.to_string(), says, detail);
        }
        for (server, order) in moved {
            if !is_followed {
                self.reports.journal.outbox().add_duty(server.clone(), order.clone());
            }
            self.servers.duties.insert(server, order);
        }
    }
}
