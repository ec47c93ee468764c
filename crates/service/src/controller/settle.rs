//! What stays when the configuration changes: cells, duties and health go with their servers, also under new names.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use merismos_api::EventKind;
use merismos_core::config::document::{CheckKind, Document};
use merismos_core::config::renames::Renames;
use merismos_core::duty::{Duty, Order};
use merismos_core::health::State as HealthState;
use merismos_core::name::PoolServer;
use serde_json::json;

use super::history::History;
use super::state::{Health, State, health_key};
use crate::clock::wall;

impl State {
    /// Prepares cells, duties and health for what is to run next.
    pub(super) fn settle(&mut self, new: &Document) {
        let old = self.document();
        let renames = Renames::between(&old, new);
        if !renames.is_empty() {
            self.cells.rename(&renames);
            self.move_duties(&renames);
        }
        self.settle_health(new, &renames);
    }

    /// A withdrawn server that gets another name stays withdrawn.
    fn move_duties(&mut self, renames: &Renames) {
        let mut moved = Vec::new();
        for (from, to) in &renames.servers {
            let Some(order) = self.duties.get(from).filter(|order| order.duty != Duty::InService).cloned()
            else {
                continue;
            };
            let gone = Order {
                duty: Duty::InService,
                reason: format!("it is called {to} now"),
                who: "the service".to_owned(),
                number: self.order_numbers.next(),
                at: wall(),
            };
            let order = Order { number: self.order_numbers.next(), ..order };
            let says = format!("{} goes on, as it is called {to} now", order.duty);
            self.journal.write(EventKind::Duty, from.to_string(), says, json!({ "order": order, "to": to }));
            moved.push((from.clone(), gone));
            moved.push((to.clone(), order));
        }
        for (server, order) in moved {
            self.journal.outbox().add_duty(server.clone(), order.clone());
            self.duties.insert(server, order);
        }
    }

    fn settle_health(&mut self, document: &Document, renames: &Renames) {
        let mut before = std::mem::take(&mut self.health);
        for (from, to) in &renames.servers {
            if let Some(health) = before.remove(from) {
                before.insert(to.clone(), health);
            }
        }
        // Both are in the order of the names, so they are gone through side by side.
        let mut before = before.into_iter().peekable();
        let (mut kept, mut gone, mut missing) = (Vec::new(), Vec::new(), Vec::new());
        for (pool, spec) in &document.pools {
            let asked = spec.check.as_ref().map(|check| &document.checks[check].kind);
            for (server, it) in &spec.servers {
                let address = it.address.get();
                while let Some((_, health)) =
                    before.next_if(|(id, _)| (&id.pool, &id.server) < (pool, server))
                {
                    gone.push(health);
                }
                match before.next_if(|(id, _)| (&id.pool, &id.server) == (pool, server)) {
                    Some((id, health)) if health.address == address && health.asked.as_ref() == asked => {
                        kept.push((id, health));
                    }
                    // Another question does not take a server out that works, nor does the first one: clients would
                    // get nothing until the first probe.
                    Some((id, health)) if health.address == address && asked.is_some() && health.works() => {
                        let (state, asked) = (HealthState::Up, asked.cloned());
                        let since = if health.state == state { health.since } else { wall() };
                        kept.push((id, Health { state, since, asked, ..health }));
                    }
                    other => {
                        gone.extend(other.map(|(_, health)| health));
                        missing.push((
                            PoolServer { pool: pool.clone(), server: server.clone() },
                            address,
                            asked.cloned(),
                        ));
                    }
                }
            }
        }
        gone.extend(before.map(|(_, health)| health));
        self.health = kept.into_iter().collect();
        if !missing.is_empty() {
            self.begin_health(missing, &gone);
        }
    }

    /// Gives servers that are new their health. The same question to the same address has the same answer, whatever
    /// the server is called and whatever pool it is in.
    fn begin_health(&mut self, new: Vec<(PoolServer, SocketAddr, Option<CheckKind>)>, gone: &[Health]) {
        let proven = gone.iter().chain(self.health.values());
        let proven = proven.filter(|health| health.state != HealthState::Unproven);
        let elsewhere: BTreeMap<SocketAddr, Health> =
            proven.map(|health| (health.address, health.clone())).collect();
        for (id, address, asked) in new {
            let same = elsewhere.get(&address).filter(|health| health.asked == asked && asked.is_some());
            let health = same.cloned().unwrap_or_else(|| {
                let known = self.known_health.remove(&health_key(&id, address)).filter(|_| asked.is_some());
                Health {
                    address,
                    asked,
                    state: known.map(|known| known.state).unwrap_or_default(),
                    since: known.map_or_else(wall, |known| known.since),
                    last_probe: None,
                    failures_to_down: None,
                    passes_to_up: None,
                    wish: known.and_then(|known| known.wish),
                    flapping: false,
                    held_until: known.and_then(|known| known.held_until),
                    history: History::default(),
                    evidence_told: 0,
                }
            });
            self.health.insert(id, health);
        }
    }
}
