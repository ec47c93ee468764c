//! Drains: their deadlines, how far each is, and what is reported when one is over.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use merismos_api::{DrainProgress, DrainingStatus, EventKind};
use merismos_core::config::document::{BalancePer, Document, NotifiedChange};
use merismos_core::duty::{ClientTies, CutWork, DrainWatch, Duty, DutyOrder, is_safe};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::name::PoolServer;
use merismos_core::nodes::{LeavingElsewhere, LeavingServer};
use merismos_core::pins::identity;
use merismos_core::routing::{Pool, Server, Snapshot};
use merismos_core::time::Wall;
use merismos_core::units::humane;
use serde_json::json;

use super::server_records::ServerRecords;
use super::state::{ControllerState, round};
use crate::clock::wall;
use crate::upgrade::WorkAct;

/// How long after the deadline what was cut is added up: connections have two seconds to end in order.
const CUT_WITHIN: Duration = Duration::from_secs(3);

/// One server that drains.
#[derive(Debug)]
pub(super) struct DrainRecord {
    /// The number of the order that it follows; 0 for a server that asks for it by itself.
    order: u64,
    watch: DrainWatch,
    /// Its deadline by the monotonic clock.
    ends: Option<Instant>,
    end: DrainEnd,
    /// What became of it was reported.
    is_reported: bool,
}

/// How far the end of a drain is.
#[derive(Clone, Copy, Debug)]
enum DrainEnd {
    /// The deadline lies ahead, or there is none.
    Ahead,
    /// The deadline has passed: since when, and what had been cut at the server before.
    Closing { since: Instant, cut_before: CutWork },
    /// What was left was closed: so much of it was cut.
    Over(CutWork),
}

impl DrainRecord {
    fn new(order: Option<&DutyOrder>, now: Wall, begun: u64, was_reported: bool) -> Self {
        let deadline = order.and_then(|order| order.deadline);
        Self {
            order: order.map_or(0, |order| order.number),
            watch: DrainWatch::new(now, begun),
            ends: deadline.map(|deadline| Instant::now() + deadline.since(now)),
            end: DrainEnd::Ahead,
            is_reported: was_reported,
        }
    }

    /// Whether the deadline has passed.
    pub(super) fn is_over(&self) -> bool {
        match self.end {
            DrainEnd::Ahead => false,
            DrainEnd::Closing { .. } | DrainEnd::Over(_) => true,
        }
    }

    fn is_due(&self) -> bool {
        !self.is_over() && self.ends.is_some_and(|ends| ends <= Instant::now())
    }

    /// Whether the drain can still end before its deadline. One whose deadline has passed is reported with what was cut, also when
    /// nothing has been closed yet, as at a start.
    fn can_end_early(&self) -> bool {
        !self.is_reported && !self.is_over() && !self.is_due()
    }

    /// What was cut at the server since the deadline.
    fn cut(&self, counted: CutWork) -> CutWork {
        match self.end {
            DrainEnd::Ahead => CutWork::default(),
            DrainEnd::Closing { cut_before, .. } => counted.since(cut_before),
            DrainEnd::Over(cut) => cut,
        }
    }
}

impl ServerRecords {
    /// The order by which a server drains.
    fn drain_order(&self, server: &PoolServer) -> Option<&DutyOrder> {
        self.duties.get(server).filter(|order| order.duty == Duty::Draining)
    }

    /// Follows the drains of these servers, and forgets those of all others. A new order for one begins anew. `was_reported` says of an
    /// order whether an earlier run of the service has reported what became of it.
    fn follow_drains<'s>(
        &mut self,
        draining: impl Iterator<Item = &'s Server>,
        now: Wall,
        was_reported: impl Fn(&DutyOrder) -> bool,
    ) {
        let mut before = std::mem::take(&mut self.drains);
        for server in draining {
            let (order, counts) = (self.drain_order(&server.name), server.cell.counts());
            let number = order.map_or(0, |order| order.number);
            let known = before.remove(&server.name).filter(|known| known.order == number);
            let drain = known.unwrap_or_else(|| {
                DrainRecord::new(order, now, counts.begun, order.is_some_and(&was_reported))
            });
            self.drains.insert(server.name.clone(), drain);
        }
    }
}

/// What ties clients to a server of a pool, and for how long. Where all pins are kept here, none are left when the last one is gone.
fn client_ties(document: &Document, pool: &Pool, server: &Server) -> ClientTies {
    let by_connection = document.frontends.values().any(|frontend| {
        frontend.balance_per == BalancePer::Connection
            && frontend.http.is_some()
            && document.pools_of(frontend).any(|candidate| *candidate == pool.name)
    });
    let settings = document.pools.get(&pool.name).map(|spec| &spec.persistence);
    let lifetime = settings.and_then(|settings| settings.lifetime);
    let has_pins =
        pool.pin_rule.as_ref().is_some_and(|rule| rule.cookie.is_some() || pins_left(pool, server) > Some(0));
    match (by_connection, has_pins, lifetime) {
        (true, _, _) | (false, true, None) => ClientTies::Endless,
        (false, true, Some(lifetime)) => ClientTies::For(lifetime.get()),
        (false, false, _) => ClientTies::None,
    }
}

/// How many pins of a server are kept here; `None` where none are.
fn pins_left(pool: &Pool, server: &Server) -> Option<u64> {
    let (table, _) = pool.pin_rule.as_ref()?.learned.as_ref()?;
    Some(table.per_server().get(&identity(&server.name.server)).copied().unwrap_or_default())
}

fn drains(server: &Server) -> bool {
    matches!(
        server.standing.reason,
        Some(IneligibleReason::Draining | IneligibleReason::Drained | IneligibleReason::AsksToDrain)
    )
}

fn server_of<'s>(snapshot: &'s Snapshot, name: &PoolServer) -> Option<(&'s Pool, &'s Server)> {
    let place = snapshot.pools.binary_search_by(|pool| pool.name.cmp(&name.pool)).ok()?;
    let pool = &snapshot.pools[place];
    let place = pool.servers.binary_search_by(|server| server.name.cmp(name)).ok()?;
    Some((pool, &pool.servers[place]))
}

impl ControllerState {
    /// Notes which servers drain by the snapshot that holds now.
    pub(super) fn follow_drains(&mut self) {
        let snapshot = self.publisher.plane.snapshot();
        let draining = snapshot.pools.iter().flat_map(|pool| &pool.servers).filter(|server| drains(server));
        let (now, started) = (wall(), self.node.started);
        let watched_until = self.node.watched_until.unwrap_or(started);
        let was_reported = |order: &DutyOrder| {
            let passed_unseen =
                order.deadline.is_some_and(|deadline| deadline > watched_until && deadline <= now);
            order.at < started && !passed_unseen
        };
        self.servers.follow_drains(draining, now, was_reported);
    }

    /// Ends drains whose deadlines have passed: what is left at their servers is closed. Costs nothing while none is due.
    pub(super) fn end_due_drains(&mut self) {
        let due = |(server, drain): (&PoolServer, &DrainRecord)| drain.is_due().then(|| server.clone());
        let due: Vec<PoolServer> = self.servers.drains.iter().filter_map(due).collect();
        if due.is_empty() {
            return;
        }
        let snapshot = self.publisher.plane.snapshot();
        for server in &due {
            let counted = server_of(&snapshot, server).map(|(_, server)| server.cell.counts().cut);
            if let Some(drain) = self.servers.drains.get_mut(server) {
                let cut_before = counted.unwrap_or_default();
                drain.end = DrainEnd::Closing { since: Instant::now(), cut_before };
            }
        }
        self.publish_pools(&due.iter().map(|server| server.pool.clone()).collect());
        for server in &due {
            if let Some((_, server)) = server_of(&snapshot, server) {
                self.publisher.act(WorkAct::EndDrain, server.cell.id);
            }
        }
    }

    /// Takes a sample of every drain, and reports those that are over.
    pub(super) fn watch_drains(&mut self) {
        self.follow_drains();
        let (snapshot, document, now) = (self.publisher.plane.snapshot(), self.document(), wall());
        let (mut reports, nodes) = (Vec::new(), &self.node.nodes);
        for (name, drain) in &mut self.servers.drains {
            let Some((pool, server)) = server_of(&snapshot, name) else { continue };
            let counts = server.cell.counts();
            drain.watch.on_sample(now, counts.begun, counts.open.all());
            if let DrainEnd::Closing { since, cut_before } = drain.end
                && (counts.open.all() == 0 || since.elapsed() >= CUT_WITHIN)
            {
                let cut = counts.cut.since(cut_before);
                drain.end = DrainEnd::Over(cut);
                let is_news = !drain.is_reported || cut.all() > 0;
                drain.is_reported = true;
                reports.extend(is_news.then(|| (name.clone(), Some(cut))));
            }
            let order = self.servers.duties.get(name).filter(|order| order.duty == Duty::Draining);
            if let Some(order) = order
                && drain.can_end_early()
                && is_safe(order, client_ties(&document, pool, server), counts.open, now, false)
                && nodes.leaving_elsewhere(name, order.number).nodes == 0
            {
                drain.is_reported = true;
                // All nodes see it; one of them writes it down.
                reports.extend(nodes.leads_or_is_cut_off().then(|| (name.clone(), None)));
            }
        }
        for (server, cut) in reports {
            let Some(order) = self.servers.duties.get(&server) else { continue };
            let lasted = match round(now.since(order.at)) {
                Duration::ZERO => "at once".to_owned(),
                lasted => format!("after {}", humane(lasted)),
            };
            let says = match cut {
                None => format!("drained {lasted}: nothing is open, and it can be worked on"),
                Some(cut) if cut.all() == 0 => {
                    format!("drained {lasted}, at its deadline: nothing had to be cut")
                }
                Some(cut) => format!("drained {lasted}, at its deadline: {} cut", cut_words(cut)),
            };
            let detail = json!({ "order": order, "cut": cut.unwrap_or_default(), "safe": true });
            self.reports.journal.write(EventKind::Duty, server.to_string(), says, detail);
        }
    }

    /// Reports each overdue server once.
    pub(super) fn tell_of_overdue(&mut self) {
        let now = wall();
        let overdue = |(server, order): (&PoolServer, &DutyOrder)| {
            (order.is_overdue(now) && self.servers.health.contains_key(server))
                .then(|| (server.clone(), order.number))
        };
        let overdue: BTreeSet<_> = self.servers.duties.iter().filter_map(overdue).collect();
        for (server, _) in overdue.difference(&self.reports.overdue) {
            let Some(order) = self.servers.duties.get(server) else { continue };
            let says = overdue_words(order, now);
            let detail = json!({ "order": order, "overdue": true });
            self.reports.journal.write(EventKind::Duty, server.to_string(), says.clone(), detail);
            self.tell_change(NotifiedChange::Overdue, &server.pool, server.to_string(), says);
        }
        self.reports.overdue = overdue;
    }

    /// How far a server is drained, on this node and on the others; `None` when it does not drain.
    pub(super) fn draining(
        &self,
        pool: &Pool,
        server: &Server,
        document: &Document,
        now: Wall,
    ) -> Option<DrainingStatus> {
        let here = self.draining_here(pool, server, document, now)?;
        let order = self.servers.drain_order(&server.name).map(|order| order.number);
        Some(order.map_or(here, |order| self.with_elsewhere(here, &server.name, order)))
    }

    /// Adds what other nodes say of the same order: work can begin when all of them are done with the server.
    fn with_elsewhere(&self, here: DrainingStatus, server: &PoolServer, order: u64) -> DrainingStatus {
        let LeavingElsewhere { open, nodes } = self.node.nodes.leaving_elsewhere(server, order);
        DrainingStatus { open_elsewhere: open, nodes_not_done: nodes, safe: here.safe && nodes == 0, ..here }
    }

    /// How far servers are on this node that operators took out of service.
    pub(super) fn leaving_here(&self) -> BTreeMap<PoolServer, LeavingServer> {
        let (snapshot, document, now) = (self.publisher.plane.snapshot(), self.document(), wall());
        let away = self.servers.duties.iter().filter(|(_, order)| order.duty != Duty::InService);
        away.filter_map(|(name, order)| {
            let (pool, server) = server_of(&snapshot, name)?;
            let open = server.cell.counts().open.all();
            let draining = self.draining_here(pool, server, &document, now);
            let safe = draining.map_or(open == 0, |draining| draining.safe);
            Some((name.clone(), LeavingServer { order: order.number, open, safe }))
        })
        .collect()
    }

    /// As [`Self::draining`], on this node alone.
    fn draining_here(
        &self,
        pool: &Pool,
        server: &Server,
        document: &Document,
        now: Wall,
    ) -> Option<DrainingStatus> {
        if !drains(server) {
            return None;
        }
        let (name, counts) = (&server.name, server.cell.counts());
        let drain = self.servers.drains.get(name);
        let order = self.servers.drain_order(name);
        let ties = client_ties(document, pool, server);
        let over = drain.is_some_and(DrainRecord::is_over);
        Some(DrainingStatus {
            open: counts.open,
            open_elsewhere: 0,
            nodes_not_done: 0,
            quiet_since: drain.map(|drain| drain.watch.quiet_since()),
            clients_tied: ties != ClientTies::None,
            pins_left: pins_left(pool, server),
            ties_end: order.and_then(|order| ties.end(order)),
            safe: order
                .map_or(over && counts.open.all() == 0, |order| is_safe(order, ties, counts.open, now, over)),
            over,
            ends_per_second: drain.and_then(|drain| drain.watch.decline()),
            estimated_end: drain.and_then(|drain| drain.watch.estimated_end()),
            cut: drain.map(|drain| drain.cut(counts.cut)).unwrap_or_default(),
        })
    }

    /// Every server that operators took out of service, with how far that is.
    pub(super) fn drains(&self) -> Vec<DrainProgress> {
        let (snapshot, document, now) = (self.publisher.plane.snapshot(), self.document(), wall());
        let away = self.servers.duties.iter().filter(|(_, order)| order.duty != Duty::InService);
        away.filter_map(|(name, order)| {
            let (pool, server) = server_of(&snapshot, name)?;
            let open = server.cell.counts().open;
            let withdrawn = DrainingStatus {
                open,
                open_elsewhere: 0,
                nodes_not_done: 0,
                quiet_since: None,
                clients_tied: false,
                pins_left: pins_left(pool, server),
                ties_end: Some(order.at),
                safe: open.all() == 0,
                over: true,
                ends_per_second: None,
                estimated_end: None,
                cut: CutWork::default(),
            };
            let here = self.draining_here(pool, server, &document, now).unwrap_or(withdrawn);
            Some(DrainProgress {
                server: name.to_string(),
                order: order.clone(),
                draining: self.with_elsewhere(here, name, order.number),
            })
        })
        .collect()
    }

    /// Servers that should be back by now, a sentence each.
    pub(super) fn overdue(&self, now: Wall) -> Vec<String> {
        let overdue = self.reports.overdue.iter().filter_map(|(server, _)| {
            let order = self.servers.duties.get(server)?;
            Some(format!("{server} {}", overdue_words(order, now)))
        });
        overdue.collect()
    }
}

fn overdue_words(order: &DutyOrder, now: Wall) -> String {
    let late = order.until.map(|until| humane(round(now.since(until)))).unwrap_or_default();
    format!("is still {}, {late} after it was expected back (by {}: {})", order.duty, order.who, order.reason)
}

/// What was cut, as in `2 requests and 1 tunnel were`.
fn cut_words(cut: CutWork) -> String {
    let parts = [(cut.requests, "request"), (cut.connections, "connection"), (cut.tunnels, "tunnel")];
    let parts = parts.into_iter().filter(|(count, _)| *count > 0);
    let parts: Vec<String> =
        parts.map(|(count, what)| format!("{count} {what}{}", if count == 1 { "" } else { "s" })).collect();
    format!("{} {}", parts.join(" and "), if cut.all() == 1 { "was" } else { "were" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_deadline_that_passed_while_nobody_looked_is_due_at_once() {
        let order = |deadline| DutyOrder {
            deadline: Some(Wall(deadline)),
            ..DutyOrder::new(Duty::Draining, "new disk", "kittiwake", Wall(0))
        };
        let (passed, ahead) = (order(5_000), order(69_000));
        assert!(DrainRecord::new(Some(&passed), Wall(9_000), 0, false).is_due());
        assert!(!DrainRecord::new(Some(&passed), Wall(9_000), 0, false).can_end_early());
        assert!(!DrainRecord::new(Some(&ahead), Wall(9_000), 0, false).is_due());
        assert!(DrainRecord::new(Some(&ahead), Wall(9_000), 0, false).can_end_early());
        assert!(!DrainRecord::new(None, Wall(9_000), 0, false).is_due());
    }

    #[test]
    fn what_was_cut_has_words() {
        let cut = CutWork { requests: 2, connections: 0, tunnels: 1 };
        assert_eq!(cut_words(cut), "2 requests and 1 tunnel were");
        assert_eq!(cut_words(CutWork { connections: 1, ..CutWork::default() }), "1 connection was");
    }
}
