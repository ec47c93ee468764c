//! Rolls: the controller takes their servers out, returns them and watches them; the work itself is done and reported by others.

use std::collections::{BTreeMap, BTreeSet};

use merismos_api::{DutyRequest, EventKind, RollVerb, RollView, Rolls, WorkReport};
use merismos_core::config::document::NotifiedChange;
use merismos_core::duty::{Duty, SelectorError, ServerSelector, guard};
use merismos_core::eligibility::IneligibleReason;
use merismos_core::name::PoolServer;
use merismos_core::roll::{
    Roll, RollError, RollFacts, RollOrder, RollPlan, RollServer, RollState, RollStep, SoakSample,
};
use merismos_core::routing::Pool;
use merismos_core::runtime::{ServerCounts, of_thousand};
use merismos_store::plans::{PlanKind, StoredPlan};
use serde_json::json;

use super::duties::{DutyAct, DutyError, lines};
use super::state::ControllerState;
use crate::clock::wall;

/// How many rolls are kept that are over.
const KEPT: usize = 50;
/// How many rolls may be under way.
const ROLL_LIMIT: usize = 20;
/// How many servers a roll may have: each step writes the state of all of them.
const SERVER_LIMIT: usize = 1_000;

/// A roll with the place of its newest state among all changes.
#[derive(Clone, Debug)]
struct KnownRoll {
    roll: Roll,
    number: u64,
}

/// Every roll, by its number.
#[derive(Debug, Default)]
pub(super) struct RollBook {
    rolls: BTreeMap<u64, KnownRoll>,
    /// Numbers of rolls that were forgotten, with those of their removal.
    removed: BTreeMap<u64, u64>,
}

/// Why a roll can't be begun, or does not follow an order.
#[derive(Debug, thiserror::Error)]
pub(crate) enum RollBookError {
    #[error("there is no roll {0}")]
    Unknown(u64),
    #[error("{0}")]
    Servers(#[from] SelectorError),
    #[error(transparent)]
    Roll(#[from] RollError),
    #[error("roll {0} works on {1} already: it has to end first")]
    Busy(u64, PoolServer),
    #[error("{ROLL_LIMIT} rolls are under way, which is the limit")]
    Full,
    #[error("{0} servers are too many for a roll: {SERVER_LIMIT} at most")]
    TooMany(usize),
    #[error("a call of this Idempotency-Key has begun roll {0}, with another plan")]
    OtherPlan(u64),
}

/// A roll that is begun, or would be.
#[derive(Debug)]
pub(crate) struct RollStart {
    pub(crate) plan: RollPlan,
    pub(crate) servers: ServerSelector,
    pub(crate) who: String,
    pub(crate) preview: bool,
    pub(crate) key: Option<String>,
}

impl RollBook {
    /// Restores rolls as they were kept. What can't be read is left out and logged.
    pub(super) fn restore(plans: &[StoredPlan]) -> Self {
        let mut book = Self::default();
        for plan in plans {
            book.adopt(plan);
        }
        book
    }

    /// The largest number of a change.
    pub(super) fn newest(&self) -> u64 {
        let numbers = self.rolls.values().map(|known| known.number).chain(self.removed.values().copied());
        numbers.max().unwrap_or_default()
    }

    /// Takes over a state that is newer than what is known; gives whether it was.
    pub(super) fn adopt(&mut self, plan: &StoredPlan) -> bool {
        let Ok(id) = plan.name.parse::<u64>() else { return false };
        let known = self.rolls.get(&id).map(|known| known.number).max(self.removed.get(&id).copied());
        if plan.kind != PlanKind::Roll || known.is_some_and(|known| known >= plan.number) {
            return false;
        }
        let Some(body) = &plan.body else {
            self.rolls.remove(&id);
            self.removed.insert(id, plan.number);
            return true;
        };
        match serde_json::from_value::<Roll>(body.clone()) {
            Ok(roll) => {
                self.rolls.insert(id, KnownRoll { roll, number: plan.number });
                true
            }
            Err(error) => {
                tracing::error!(%error, roll = id, "a roll that is kept can't be read");
                false
            }
        }
    }

    /// What the state file keeps.
    pub(super) fn to_keep(&self) -> Vec<StoredPlan> {
        let kept = self.rolls.iter().map(|(id, known)| stored(*id, known.number, Some(&known.roll)));
        kept.chain(self.removed.iter().map(|(id, number)| stored(*id, *number, None))).collect()
    }

    fn next_id(&self) -> u64 {
        let last = |ids: Option<&u64>| ids.copied().unwrap_or_default();
        last(self.rolls.keys().next_back()).max(last(self.removed.keys().next_back())) + 1
    }
}

fn stored(id: u64, number: u64, roll: Option<&Roll>) -> StoredPlan {
    StoredPlan {
        kind: PlanKind::Roll,
        name: id.to_string(),
        number,
        body: roll.map(|roll| serde_json::to_value(roll).expect("a roll is JSON")),
    }
}

/// How an event names a roll.
fn subject(id: u64) -> String {
    format!("roll {id}")
}

impl ControllerState {
    /// Begins a roll, or says how it would begin.
    pub(super) fn begin_roll(&mut self, start: RollStart) -> Result<RollView, RollBookError> {
        let RollStart { plan, servers, who, preview, key } = start;
        let known = key.as_ref().and_then(|key| {
            self.rolls.rolls.iter().find(|(_, known)| known.roll.idempotency_key.as_ref() == Some(key))
        });
        if let Some((id, known)) = known {
            let id = *id;
            return if known.roll.plan == plan { self.roll(id) } else { Err(RollBookError::OtherPlan(id)) };
        }
        let servers = servers.select(&self.document())?;
        if servers.len() > SERVER_LIMIT {
            return Err(RollBookError::TooMany(servers.len()));
        }
        let under_way = || self.rolls.rolls.iter().filter(|(_, known)| !known.roll.is_over());
        for (id, known) in under_way() {
            let is_busy = |entry: &&RollServer| {
                (entry.step.is_under_way() || entry.step == RollStep::Waiting)
                    && servers.contains(&entry.server)
            };
            if let Some(busy) = known.roll.servers.iter().find(is_busy) {
                return Err(RollBookError::Busy(*id, busy.server.clone()));
            }
        }
        if under_way().count() >= ROLL_LIMIT {
            return Err(RollBookError::Full);
        }
        let roll = Roll { idempotency_key: key, ..Roll::new(plan, who, wall(), servers) };
        if preview {
            let first = roll.servers.iter().take(roll.plan.at_once.into()).map(|entry| entry.server.clone());
            let (document, snapshot, first) =
                (self.document(), self.publisher.plane.snapshot(), first.collect());
            let refusals = guard(&self.stocks(&snapshot, &document, &first), &first);
            let guard = refusals.iter().map(ToString::to_string).collect();
            return Ok(RollView { guard, ..self.view_of(0, &roll) });
        }
        let id = self.rolls.next_id();
        let many = if roll.servers.len() == 1 { "server" } else { "servers" };
        let says = format!("begun by {}: {}; {} {many}", roll.who, roll.plan.reason, roll.servers.len());
        self.reports.journal.write(EventKind::Roll, subject(id), says, json!({ "plan": roll.plan }));
        self.keep_roll(id, roll);
        self.advance_roll(id);
        self.roll(id)
    }

    /// Has a roll pause, go on or end.
    pub(super) fn order_roll(
        &mut self,
        id: u64,
        verb: RollVerb,
        reason: Option<String>,
        who: &str,
    ) -> Result<RollView, RollBookError> {
        let known = self.rolls.rolls.get(&id).ok_or(RollBookError::Unknown(id))?;
        let mut roll = known.roll.clone();
        let why = reason.map_or_else(|| format!("by {who}"), |reason| format!("by {who}: {reason}"));
        let (orders, verb) = match verb {
            RollVerb::Pause => {
                roll.pause(why.clone())?;
                (Vec::new(), "paused")
            }
            RollVerb::Resume => {
                roll.resume()?;
                (Vec::new(), "resumed")
            }
            RollVerb::Stop => (roll.stop(why.clone(), wall())?, "stopped"),
        };
        self.reports.journal.write(EventKind::Roll, subject(id), format!("{verb} {why}"), json!({}));
        self.follow_roll(id, &mut roll, orders);
        self.keep_roll(id, roll);
        self.advance_roll(id);
        self.roll(id)
    }

    /// Takes a report of the work on a server.
    pub(super) fn report_work(
        &mut self,
        id: u64,
        report: WorkReport,
        who: &str,
    ) -> Result<RollView, RollBookError> {
        let known = self.rolls.rolls.get(&id).ok_or(RollBookError::Unknown(id))?;
        let mut roll = known.roll.clone();
        let before = roll.servers.clone();
        let orders = roll.report(&report.server, report.outcome, report.note, who, wall())?;
        self.tell_of_steps(id, &before, &roll);
        self.follow_roll(id, &mut roll, orders);
        self.keep_roll(id, roll);
        self.advance_roll(id);
        self.roll(id)
    }

    /// One roll.
    pub(super) fn roll(&self, id: u64) -> Result<RollView, RollBookError> {
        let known = self.rolls.rolls.get(&id).ok_or(RollBookError::Unknown(id))?;
        Ok(self.view_of(id, &known.roll))
    }

    /// Every roll, the newest first.
    pub(super) fn rolls(&self) -> Rolls {
        Rolls {
            rolls: self.rolls.rolls.iter().rev().map(|(id, known)| self.view_of(*id, &known.roll)).collect(),
        }
    }

    fn view_of(&self, id: u64, roll: &Roll) -> RollView {
        let document = self.document();
        let address = |server: &PoolServer| {
            let spec = document.pools.get(&server.pool)?.servers.get(&server.server)?;
            Some(spec.address.get().to_string())
        };
        RollView {
            id,
            plan: roll.plan.clone(),
            who: roll.who.clone(),
            at: roll.at,
            state: roll.state,
            why: roll.why.clone(),
            is_over: roll.is_over(),
            servers: roll.servers.clone(),
            addresses: roll.servers.iter().map(|entry| address(&entry.server)).collect(),
            guard: Vec::new(),
        }
    }

    /// Goes on with every roll that is under way, as far as what is so allows.
    pub(super) fn keep_rolls(&mut self) {
        if self.running.is_none() || self.stopping || !self.node.nodes.leads() {
            return;
        }
        let under_way = self.rolls.rolls.iter().filter(|(_, known)| !known.roll.is_over());
        for id in under_way.map(|(id, _)| *id).collect::<Vec<_>>() {
            self.advance_roll(id);
        }
    }

    fn advance_roll(&mut self, id: u64) {
        let Some(known) = self.rolls.rolls.get(&id) else { return };
        let mut roll = known.roll.clone();
        // What servers did is looked at where it is compared: it costs a look at every server of the pool.
        let is_watched = |entry: &&RollServer| matches!(entry.step, RollStep::Returning | RollStep::Soaking);
        let watched: BTreeSet<PoolServer> =
            roll.servers.iter().filter(is_watched).map(|entry| entry.server.clone()).collect();
        let orders = roll.advance(wall(), |server| self.roll_facts(server, watched.contains(server)));
        self.tell_of_steps(id, &known.roll.servers.clone(), &roll);
        self.follow_roll(id, &mut roll, orders);
        if self.rolls.rolls.get(&id).is_some_and(|known| known.roll != roll) {
            self.keep_roll(id, roll);
        }
    }

    /// Follows what a roll wants done.
    fn follow_roll(&mut self, id: u64, roll: &mut Roll, orders: Vec<RollOrder>) {
        for order in orders {
            let (server, duty) = match order {
                RollOrder::Drain(server) => (server, Duty::Draining),
                RollOrder::Return(server) => (server, Duty::InService),
                RollOrder::Withdraw(server) => (server, Duty::Withdrawn),
            };
            let (is_drain, plan) = (duty == Duty::Draining, &roll.plan);
            let request = DutyRequest {
                within: plan.within.filter(|_| is_drain),
                pins: plan.pins,
                // What a roll takes out is weighed. What failed is out already.
                anyway: plan.anyway || !is_drain,
                ..DutyRequest::new(duty, plan.reason.clone())
            };
            let who = subject(id);
            let act = DutyAct {
                servers: ServerSelector::Servers(vec![server.clone()]),
                request,
                who,
                window: None,
            };
            match self.act_here(act) {
                Ok(()) if is_drain => roll.taken_out(&server),
                Ok(()) => {}
                Err(DutyError::Refused(refusals)) => {
                    let why = format!("waits: {}", lines(&refusals));
                    if roll.keep_in(&server, &why, wall()) {
                        let says = format!("{server} {why}");
                        self.reports.journal.write(
                            EventKind::Roll,
                            subject(id),
                            says,
                            json!({ "server": server }),
                        );
                    }
                }
                // It was removed a moment ago; the next look sees that.
                Err(DutyError::Unknown(_)) => {}
            }
        }
    }

    /// Has the newest state of a roll written to the state file and the database; forgets rolls that ended long ago.
    fn keep_roll(&mut self, id: u64, roll: Roll) {
        let number = self.order_numbers.next();
        let before = self.rolls.rolls.get(&id).map(|known| known.roll.state);
        if before.is_some_and(|before| before != roll.state) {
            self.tell_of_end(id, &roll);
        }
        self.reports.journal.outbox().add_plan(stored(id, number, Some(&roll)));
        self.rolls.rolls.insert(id, KnownRoll { roll, number });
        let over: Vec<u64> =
            self.rolls.rolls.iter().filter(|(_, known)| known.roll.is_over()).map(|(id, _)| *id).collect();
        for old in over.iter().rev().skip(KEPT) {
            let number = self.order_numbers.next();
            self.rolls.rolls.remove(old);
            self.rolls.removed.insert(*old, number);
            self.reports.journal.outbox().add_plan(stored(*old, number, None));
        }
        while self.rolls.removed.len() > KEPT {
            self.rolls.removed.pop_first();
        }
        self.state_file.changed();
    }

    fn tell_of_steps(&self, id: u64, before: &[RollServer], roll: &Roll) {
        for (was, is) in before.iter().zip(&roll.servers) {
            let is_news = was.step != is.step
                && match is.step {
                    RollStep::Ready
                    | RollStep::Working
                    | RollStep::Soaking
                    | RollStep::Done
                    | RollStep::Skipped
                    | RollStep::Failed => true,
                    // These are orders, with events of their own.
                    RollStep::Waiting | RollStep::Draining | RollStep::Returning => false,
                };
            if is_news {
                let note = is.note.as_ref().map(|note| format!(" ({note})")).unwrap_or_default();
                let says = format!("{}: {}{note}", is.server, is.step);
                let detail = json!({ "server": is.server, "step": is.step });
                self.reports.journal.write(EventKind::Roll, subject(id), says, detail);
            }
        }
    }

    /// Reports how a roll ended. One that an operator stopped has its event already.
    fn tell_of_end(&self, id: u64, roll: &Roll) {
        let count = |step: RollStep| roll.servers.iter().filter(|entry| entry.step == step).count();
        let why = roll.why.as_deref().unwrap_or_default();
        let says = match roll.state {
            RollState::Finished => {
                format!("finished: {} done, {} left alone", count(RollStep::Done), count(RollStep::Skipped))
            }
            RollState::Stopped if count(RollStep::Failed) > 0 => {
                let says = format!(
                    "stopped at {why}. Mend that server, `merismos return` it, and roll the others anew"
                );
                let failed = roll.servers.iter().filter(|entry| entry.step == RollStep::Failed);
                for pool in failed.map(|entry| &entry.server.pool).collect::<BTreeSet<_>>() {
                    self.tell_change(NotifiedChange::RollFailed, pool, subject(id), says.clone());
                }
                says
            }
            RollState::Stopped | RollState::Running | RollState::Paused => return,
        };
        self.reports.journal.write(EventKind::Roll, subject(id), says, json!({ "state": roll.state }));
    }

    /// What is so of a server now; `None` of one that is no longer there.
    fn roll_facts(&self, name: &PoolServer, is_watched: bool) -> Option<RollFacts> {
        let snapshot = self.publisher.plane.snapshot();
        let place = snapshot.pools.binary_search_by(|pool| pool.name.cmp(&name.pool)).ok()?;
        let pool = &snapshot.pools[place];
        let server = pool.servers.iter().find(|server| server.name == *name)?;
        let order = self.servers.duties.get(name);
        let draining = self.draining(pool, server, &self.document(), wall());
        Some(RollFacts {
            duty: order.map(|order| order.duty).unwrap_or_default(),
            is_safe: draining.is_some_and(|draining| draining.safe),
            is_endless: draining.is_some_and(|draining| draining.clients_tied && draining.ties_end.is_none()),
            is_eligible: matches!(server.standing.reason, None | Some(IneligibleReason::Standby)),
            has_full_share: !self.servers.ramps.contains_key(name),
            sample: if is_watched { self.soak_sample(pool, name) } else { SoakSample::default() },
        })
    }

    fn soak_sample(&self, pool: &Pool, name: &PoolServer) -> SoakSample {
        let now = self.publisher.plane.now();
        let failures = |counts: &ServerCounts| counts.failed + counts.errors;
        let mut sample = SoakSample::default();
        let seconds = |mut micros: Vec<u32>| {
            micros.sort_unstable();
            of_thousand(&micros, 500).map_or(0.0, |median| f64::from(median) / 1e6)
        };
        let mut others = Vec::new();
        for server in pool.servers.iter() {
            let counts = server.cell.counts();
            let lately = server.cell.latencies.last_minute(now);
            if server.name == *name {
                (sample.taken, sample.failed) = (counts.taken, failures(&counts));
                sample.seconds = seconds(lately);
            } else {
                sample.others_taken += counts.taken;
                sample.others_failed += failures(&counts);
                others.extend(lately);
            }
        }
        sample.others_seconds = seconds(others);
        sample
    }

    /// Rolls that need an operator, a sentence each: those that the guard keeps from going on, and servers that failed and are still out.
    pub(super) fn rolls_in_need(&self) -> Vec<String> {
        self.rolls.rolls.iter().filter_map(|(id, known)| self.need_of(*id, &known.roll)).collect()
    }

    fn need_of(&self, id: u64, roll: &Roll) -> Option<String> {
        if roll.state == RollState::Stopped {
            let is_out = |server: &PoolServer| {
                let order = self.servers.duties.get(server);
                order.is_some_and(|order| order.duty != Duty::InService && order.who == subject(id))
            };
            let mut failed = roll.servers.iter().filter(|entry| entry.step == RollStep::Failed);
            let failed = &failed.find(|entry| is_out(&entry.server))?.server;
            let why = roll.why.as_deref().unwrap_or_default();
            return Some(format!(
                "roll {id} stopped at {why}. {failed} is out of service: mend it, and `merismos return {failed}`"
            ));
        }
        if roll.state != RollState::Running || roll.servers.iter().any(|entry| entry.step.is_under_way()) {
            return None;
        }
        let mut waiting = roll.servers.iter().filter(|entry| entry.step == RollStep::Waiting);
        let (server, why) = waiting.find_map(|entry| Some((&entry.server, entry.note.as_ref()?)))?;
        Some(format!("roll {id} can't go on: {server} {why}"))
    }
}
