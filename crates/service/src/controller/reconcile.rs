//! What stays when the configuration changes: cells, duties, health, ramps, tiers and pins go with their servers, also
//! under new names.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use merismos_api::EventKind;
use merismos_core::config::document::{CheckKind, Document};
use merismos_core::config::renames::Renames;
use merismos_core::duty::{Duty, DutyOrder};
use merismos_core::health::HealthState;
use merismos_core::name::PoolServer;
use serde_json::json;

use super::history::ProbeHistory;
use super::state::{ControllerState, ServerHealth, health_key};
use crate::clock::wall;

impl ControllerState {
    /// Prepares cells, duties and health for what is to run next.
    pub(super) fn settle(&mut self, new: &Document) {
        let old = self.document();
        let renames = Renames::between(&old, new);
        if !renames.is_empty() {
            self.cells.rename(&renames);
            self.move_duties(&renames);
            self.move_dealing(&renames);
        }
        self.holds.retain(|pool, _| new.pools.contains_key(pool));
        self.former_names.retain(|pool, former| {
            let Some(spec) = new.pools.get(pool) else { return false };
            former.retain(|name| new.pools.contains_key(name), |name| spec.servers.contains_key(name));
            !former.is_empty()
        });
        self.settle_health(new, &renames);
    }

    /// A withdrawn server that gets another name stays withdrawn, and one in service stays in service, whatever was
    /// ordered for a server that had the new name once.
    fn move_duties(&mut self, renames: &Renames) {
        let away = |order: &&DutyOrder| order.duty != Duty::InService;
        let mut moved = Vec::new();
        for (from, to) in &renames.servers {
            let own = self.duties.get(from).filter(away).cloned();
            let stale = self.duties.get(to).filter(away);
            let ended = |why: String, number: u64| DutyOrder {
                duty: Duty::InService,
                reason: why,
                who: "the service".to_owned(),
                number,
                at: wall(),
            };
            if let Some(order) = own {
                let gone = ended(format!("it is called {to} now"), self.order_numbers.next());
                let order = DutyOrder { number: self.order_numbers.next(), ..order };
                let says = format!("{} goes on, as it is called {to} now", order.duty);
                self.journal.write(
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
                self.journal.write(
                    EventKind::Duty,
                    to.to_string(),
                    says,
                    json!({ "order": order, "from": from }),
                );
                moved.push((to.clone(), order));
            }
        }
        for (server, order) in moved {
            self.journal.outbox().add_duty(server.clone(), order.clone());
            self.duties.insert(server, order);
        }
    }

    /// The tier that a pool works on, ramps, and the pins of clients go with the names.
    fn move_dealing(&mut self, renames: &Renames) {
        let held: Vec<_> = renames.pools.iter().map(|(from, to)| (to, self.holds.remove(from))).collect();
        self.holds.extend(held.into_iter().filter_map(|(to, hold)| Some((to.clone(), hold?))));
        let ramps: Vec<_> = renames.servers.iter().map(|(from, to)| (to, self.ramps.remove(from))).collect();
        self.ramps.extend(ramps.into_iter().filter_map(|(to, ramp)| Some((to.clone(), ramp?))));
        let known: Vec<_> =
            renames.pools.iter().map(|(from, to)| (from, to, self.former_names.remove(from))).collect();
        for (from, to, former) in known {
            let mut former = former.unwrap_or_default();
            former.pool_was(from.clone());
            self.former_names.insert(to.clone(), former);
        }
        for (from, to) in renames.servers.iter().filter(|(from, to)| from.server != to.server) {
            let former = self.former_names.entry(to.pool.clone()).or_default();
            former.server_was(from.server.clone(), to.server.clone());
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
            for (server, server_spec) in &spec.servers {
                let address = server_spec.address.get();
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
                        kept.push((id, ServerHealth { state, since, asked, ..health }));
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
    fn begin_health(&mut self, new: Vec<(PoolServer, SocketAddr, Option<CheckKind>)>, gone: &[ServerHealth]) {
        let proven = gone.iter().chain(self.health.values());
        let proven = proven.filter(|health| health.state != HealthState::Unproven);
        let elsewhere: BTreeMap<SocketAddr, ServerHealth> =
            proven.map(|health| (health.address, health.clone())).collect();
        for (id, address, asked) in new {
            let same = elsewhere.get(&address).filter(|health| health.asked == asked && asked.is_some());
            let health = same.cloned().unwrap_or_else(|| {
                let known = self.known_health.remove(&health_key(&id, address)).filter(|_| asked.is_some());
                ServerHealth {
                    address,
                    asked,
                    state: known.map(|known| known.state).unwrap_or_default(),
                    since: known.map_or_else(wall, |known| known.since),
                    last_probe: None,
                    failures_to_down: None,
                    passes_to_up: None,
                    feedback: known.and_then(|known| known.feedback),
                    flapping: false,
                    held_until: known.and_then(|known| known.held_until),
                    history: ProbeHistory::default(),
                    evidence_told: 0,
                }
            });
            self.health.insert(id, health);
        }
    }
}
