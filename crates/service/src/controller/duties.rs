//! Orders of operators: followed at once for all of their servers or for none, after the guard has looked at what would be left.

use std::collections::{BTreeMap, BTreeSet};

use merismos_api::{DutyRequest, EventKind};
use merismos_core::config::document::Document;
use merismos_core::config::renames::Renames;
use merismos_core::duty::{
    Duty, DutyOrder, DutyRefusal, PoolStock, SelectorError, ServerSelector, ServerStock, guard,
};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::name::{Name, PoolServer};
use merismos_core::routing::{Pool, Snapshot};
use merismos_core::time::Wall;
use merismos_core::units::{Span, humane};
use serde_json::json;

use super::state::{ControllerState, round};
use crate::clock::wall;
use crate::upgrade::WorkAct;

/// An order on its way to be followed.
#[derive(Clone, Debug)]
pub(crate) struct DutyAct {
    pub(crate) servers: ServerSelector,
    pub(crate) request: DutyRequest,
    pub(crate) who: String,
    /// The window that gives it, where one does.
    pub(crate) window: Option<Name>,
}

/// An order that was followed.
#[derive(Debug)]
pub(crate) struct FollowedAct {
    pub(crate) servers: Vec<FollowedOrder>,
    /// What the guard said, where it was overridden.
    pub(crate) overridden: Vec<DutyRefusal>,
}

/// What became of an order for one server.
#[derive(Clone, Debug)]
pub(crate) struct FollowedOrder {
    pub(crate) server: PoolServer,
    pub(crate) order: DutyOrder,
    /// Whether it is another order than the one that stood.
    pub(crate) changed: bool,
    /// What was open at the server when it was followed.
    pub(crate) in_flight: u64,
}

/// Why an order was not followed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum DutyError {
    #[error("{0}")]
    Unknown(#[from] SelectorError),
    #[error("{}. To do it anyway, say so: the reason and what the guard said are kept", lines(.0))]
    Refused(Vec<DutyRefusal>),
}

pub(super) fn lines(refusals: &[DutyRefusal]) -> String {
    refusals.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
}

impl ControllerState {
    /// Follows an order at once.
    pub(super) fn act(&mut self, act: DutyAct) -> Result<FollowedAct, DutyError> {
        let (document, snapshot, now) = (self.document(), self.publisher.plane.snapshot(), wall());
        let selected = act.servers.select(&document)?;
        let DutyRequest { duty, at_once, anyway, .. } = act.request;
        let mut refusals = Vec::new();
        if duty != Duty::InService {
            refusals = guard(&self.stocks(&snapshot, &document, &selected), &selected);
            if !refusals.is_empty() && !anyway {
                return Err(DutyError::Refused(refusals));
            }
        }
        let many = selected.len();
        let mut followed = Vec::new();
        for server in selected {
            let order = order_for(&act, &document, &server, now);
            let standing = self.servers.duties.get(&server);
            let is_same = standing.map_or(duty == Duty::InService, |standing| order.says_the_same(standing))
                || (duty == Duty::InService && standing.is_some_and(|known| known.duty == duty));
            let in_flight = in_flight(&snapshot, &server);
            if is_same {
                let order = standing.cloned().unwrap_or(order);
                followed.push(FollowedOrder { server, order, changed: false, in_flight });
                continue;
            }
            let follows = standing.map_or(0, |standing| standing.number);
            let order = DutyOrder { number: self.order_numbers.next(), follows, ..order };
            self.servers.given_here.insert(server.clone(), order.number);
            self.tell_of_order(&server, &order, many, &refusals);
            self.keep_return(&server, duty, at_once, now);
            self.servers.duties.insert(server.clone(), order.clone());
            followed.push(FollowedOrder { server, order, changed: true, in_flight });
        }
        let changed = followed.iter().filter(|followed| followed.changed);
        let touched: BTreeSet<Name> = changed.clone().map(|followed| followed.server.pool.clone()).collect();
        if !touched.is_empty() {
            self.publish_pools(&touched);
            self.follow_drains();
            for FollowedOrder { server, .. } in changed {
                match duty {
                    Duty::Withdrawn => self.cut(&snapshot, server),
                    Duty::InService => {
                        // It is for this return alone, and has been heeded.
                        self.servers.full_at_once.remove(server);
                        self.prober.probe_now(server);
                    }
                    Duty::Draining => {}
                }
            }
            self.state_file.changed();
        }
        Ok(FollowedAct { servers: followed, overridden: refusals })
    }

    fn cut(&self, snapshot: &Snapshot, server: &PoolServer) {
        if let Some(server) = pool_of(snapshot, &server.pool)
            .and_then(|pool| pool.servers.iter().find(|candidate| candidate.name == *server))
        {
            self.publisher.act(WorkAct::Cut, server.cell.id);
        }
    }

    pub(super) fn tell_of_order(
        &self,
        server: &PoolServer,
        order: &DutyOrder,
        many: usize,
        refusals: &[DutyRefusal],
    ) {
        let mut says = format!("{} by {}: {}", order.duty, order.who, order.reason);
        if let Some(deadline) = order.deadline {
            says += &format!("; what is open after {} is closed", humane(round(deadline.since(order.at))));
        }
        if let Some(until) = order.until {
            says += &format!("; expected back in {}", humane(round(until.since(order.at))));
        }
        if many > 1 {
            says += &format!(" (one order for {many} servers)");
        }
        let of_pool: Vec<String> = refusals.iter().map(ToString::to_string).collect();
        if !of_pool.is_empty() {
            says += &format!("; the guard was overridden: {}", of_pool.join("; "));
        }
        let detail = json!({ "order": order, "servers": many, "overridden": of_pool });
        self.reports.journal.write(EventKind::Duty, server.to_string(), says, detail);
    }

    /// Notes what a server that returns waits for.
    fn keep_return(&mut self, server: &PoolServer, duty: Duty, at_once: bool, now: Wall) {
        self.servers.awaiting.remove(server);
        self.servers.full_at_once.remove(server);
        match (duty, at_once) {
            (Duty::InService, false) => drop(self.servers.awaiting.insert(server.clone(), now)),
            (Duty::InService, true) => drop(self.servers.full_at_once.insert(server.clone())),
            (Duty::Draining | Duty::Withdrawn, _) => {}
        }
    }

    /// What the pools of these servers have now.
    pub(super) fn stocks(
        &self,
        snapshot: &Snapshot,
        document: &Document,
        servers: &BTreeSet<PoolServer>,
    ) -> Vec<PoolStock> {
        let pools: BTreeSet<&Name> = servers.iter().map(|server| &server.pool).collect();
        let stock = |name: &Name| {
            let (pool, spec) = (pool_of(snapshot, name)?, document.pools.get(name)?);
            let servers = pool.servers.iter().filter_map(|server| {
                Some(ServerStock {
                    name: server.name.server.clone(),
                    tier: spec.servers.get(&server.name.server)?.tier,
                    is_able: matches!(server.standing.reason, None | Some(IneligibleReason::Standby)),
                    limits: server.limits,
                })
            });
            Some(PoolStock {
                pool: name.clone(),
                tier_min_eligible: spec.tier_min_eligible,
                min_eligible: spec.min_eligible,
                servers: servers.collect(),
                peak: self.totals.peaks.of(name),
            })
        };
        pools.into_iter().filter_map(stock).collect()
    }

    /// Follows those orders that are later than what is known here: another node's, or ones from before the database was away or while this
    /// node's state file could not be written. Of two for one server the one with the larger number holds, whatever the clocks said; of two
    /// with the same number that which the database holds.
    pub(super) fn adopt_orders(&mut self, orders: Vec<(PoolServer, DutyOrder)>) {
        let (snapshot, now) = (self.publisher.plane.snapshot(), wall());
        let (mut touched, mut followed) = (BTreeSet::new(), Vec::new());
        for (server, order) in orders {
            self.order_numbers.not_before(order.number);
            let standing = self.servers.duties.get(&server);
            let is_news = standing.is_none_or(|standing| {
                standing.number < order.number || (standing.number == order.number && *standing != order)
            });
            if !is_news {
                continue;
            }
            let given_here = self.servers.given_here.remove(&server);
            let crossing = standing.filter(|standing| {
                given_here == Some(standing.number)
                    && order.follows != standing.number
                    && standing.number < order.number
            });
            if let Some(standing) = crossing {
                let says = format!(
                    "{} by {}: {}, given on another node at the same time, holds; {} by {} on this one does not ({})",
                    order.duty, order.who, order.reason, standing.duty, standing.who, standing.reason
                );
                let detail = json!({ "order": order, "instead_of": standing });
                self.reports.journal.write(EventKind::Duty, server.to_string(), says, detail);
            } else {
                let says = format!("{} by {}: {} (followed)", order.duty, order.who, order.reason);
                self.reports.journal.note(
                    EventKind::Duty,
                    server.to_string(),
                    says,
                    json!({ "order": order }),
                );
            }
            self.keep_return(&server, order.duty, false, now);
            touched.insert(server.pool.clone());
            followed.push((server.clone(), order.duty));
            self.servers.duties.insert(server, order);
        }
        if touched.is_empty() {
            return;
        }
        self.publish_pools(&touched);
        self.follow_drains();
        for (server, duty) in followed {
            match duty {
                Duty::Withdrawn => self.cut(&snapshot, &server),
                Duty::InService => self.prober.probe_now(&server),
                Duty::Draining => {}
            }
        }
        self.state_file.changed();
    }

    /// Ends the duties of servers that a revision removes: a server of that name that is added later is another one.
    pub(super) fn end_removed_duties(
        &mut self,
        old: &Document,
        new: &Document,
        renames: &Renames,
        revision: u64,
        is_followed: bool,
    ) {
        let has = |document: &Document, server: &PoolServer| {
            document.pools.get(&server.pool).is_some_and(|pool| pool.servers.contains_key(&server.server))
        };
        let removed = |(server, order): &(&PoolServer, &DutyOrder)| {
            order.duty != Duty::InService
                && has(old, server)
                && !has(new, server)
                && !renames.servers.contains_key(*server)
        };
        let removed: BTreeMap<PoolServer, (Duty, u64)> = self
            .servers
            .duties
            .iter()
            .filter(removed)
            .map(|(server, order)| (server.clone(), (order.duty, order.number)))
            .collect();
        for (server, (duty, follows)) in removed {
            let reason = format!("revision {revision} removed the server");
            if is_followed {
                // The node that made the revision records it; its order comes after this one.
                let order = DutyOrder {
                    number: follows,
                    ..DutyOrder::new(Duty::InService, reason, "the service", wall())
                };
                self.servers.duties.insert(server, order);
                continue;
            }
            let order = DutyOrder {
                number: self.order_numbers.next(),
                follows,
                ..DutyOrder::new(Duty::InService, reason, "the service", wall())
            };
            let says = format!("no more {duty}: revision {revision} removed the server");
            let detail = json!({ "order": order, "revision": revision });
            self.reports.journal.write(EventKind::Duty, server.to_string(), says, detail);
            self.reports.journal.outbox().add_duty(server.clone(), order.clone());
            self.servers.duties.insert(server, order);
        }
    }
}

/// The order for one server: without a deadline of its own it has that of its pool.
fn order_for(act: &DutyAct, document: &Document, server: &PoolServer, now: Wall) -> DutyOrder {
    let DutyRequest { duty, reason, within, deadline, pins, until, .. } = &act.request;
    let after = |within: Span| now.plus(within.get());
    // Of two the earlier one counts.
    let own = [*deadline, within.map(after)].into_iter().flatten().min();
    let of_pool = || document.pools.get(&server.pool).and_then(|pool| pool.drain_timeout).map(after);
    let is_drain = *duty == Duty::Draining;
    DutyOrder {
        deadline: if is_drain { own.or_else(of_pool) } else { None },
        pins: if is_drain { *pins } else { merismos_core::duty::DrainPins::default() },
        until: if *duty == Duty::InService { None } else { *until },
        window: act.window.clone(),
        ..DutyOrder::new(*duty, reason.clone(), act.who.clone(), now)
    }
}

fn pool_of<'s>(snapshot: &'s Snapshot, name: &Name) -> Option<&'s Pool> {
    let place = snapshot.pools.binary_search_by(|pool| pool.name.cmp(name)).ok()?;
    Some(&snapshot.pools[place])
}

fn in_flight(snapshot: &Snapshot, server: &PoolServer) -> u64 {
    let found = pool_of(snapshot, &server.pool)
        .and_then(|pool| pool.servers.iter().find(|candidate| candidate.name == *server));
    found.map_or(0, |server| server.cell.counts().in_flight)
}
