//! What stays when the configuration changes: cells, duties, health, ramps, tiers and pins go with their servers, also
//! under new names.

use merismos_api::EventKind;
use merismos_core::config::document::Document;
use merismos_core::config::renames::Renames;
use merismos_core::duty::{Duty, DutyOrder};
use serde_json::json;

use super::state::ControllerState;
use crate::clock::wall;

impl ControllerState {
    /// Prepares cells, duties and health for what is to run next.
    pub(super) fn settle(&mut self, new: &Document) {
        let old = self.document();
        let renames = Renames::between(&old, new);
        if !renames.is_empty() {
            self.publisher.cells.rename(&renames);
            self.move_duties(&renames);
            self.servers.rename(&renames);
        }
        self.servers.forget_gone_pools(new);
        self.servers.settle_health(new, &renames);
    }

    /// A withdrawn server that gets another name stays withdrawn, and one in service stays in service, whatever was
    /// ordered for a server that had the new name once.
    fn move_duties(&mut self, renames: &Renames) {
        let away = |order: &&DutyOrder| order.duty != Duty::InService;
        let mut moved = Vec::new();
        for (from, to) in &renames.servers {
            let own = self.servers.duties.get(from).filter(away).cloned();
            let stale = self.servers.duties.get(to).filter(away);
            let ended = |why: String, number: u64| DutyOrder {
                number,
                ..DutyOrder::new(Duty::InService, why, "the service", wall())
            };
            if let Some(order) = own {
                let gone = ended(format!("it is called {to} now"), self.order_numbers.next());
                let order = DutyOrder { number: self.order_numbers.next(), ..order };
                let says = format!("{} goes on, as it is called {to} now", order.duty);
                self.reports.journal.write(
                    EventKind::Duty,
                    from.to_string(),
                    says,
                    json!({ "order": order, "to": to }),
                );
                moved.push((from.clone(), gone));
                moved.push((to.clone(), order));
            } else if let Some(stale) = stale {
                let says = format!(
                    "in service, as it was when it was called {from}; {} by {} was for a server that was called {to} before",
                    stale.duty, stale.who
                );
                let order =
                    ended(format!("it was in service when it was called {from}"), self.order_numbers.next());
                self.reports.journal.write(
                    EventKind::Duty,
                    to.to_string(),
                    says,
                    json!({ "order": order, "from": from }),
                );
                moved.push((to.clone(), order));
            }
        }
        for (server, order) in moved {
            self.reports.journal.outbox().add_duty(server.clone(), order.clone());
            self.servers.duties.insert(server, order);
        }
    }
}
