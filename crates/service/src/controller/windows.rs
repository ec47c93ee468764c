//! Windows: they take their servers out in time, and return those that are healthy when they close.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use merismos_api::{DutyRequest, EventKind, WindowState, WindowView, Windows};
use merismos_core::config::document::Document;
use merismos_core::config::renames::Renames;
use merismos_core::duty::{Duty, DutyOrder, PoolStock, ServerSelector};
use merismos_core::health::HealthState;
use merismos_core::name::{Name, PoolServer};
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_core::window::{Occurrence, Window, minute};
use merismos_store::plans::{PlanKind, StoredPlan};
use serde_json::json;

use super::duties::{DutyAct, DutyError};
use super::state::{ControllerState, round};
use crate::clock::wall;

/// How many times of a window are shown or weighed.
pub(crate) const TIMES: u16 = 60;
/// Within how long after its time a drain begins in time.
const BEGINS_WITHIN: Duration = Duration::from_secs(5);
/// How many windows there may be.
const WINDOW_LIMIT: usize = 200;
/// How many removals are remembered: those that were longest ago are forgotten first.
const REMOVALS: usize = 1_000;

/// A window with what is derived from it.
#[derive(Clone, Debug)]
struct KnownWindow {
    window: Window,
    /// Place of its newest state among all changes.
    number: u64,
    /// The time that is open or comes next, and when its drain begins.
    next: Option<(Wall, Occurrence)>,
    /// Why its servers were not taken out although it is time.
    kept_in: Option<String>,
    /// How many changes of its servers' health were not reported since it opened.
    held_back: u32,
}

/// Every window, and the names of those that were removed.
#[derive(Debug, Default)]
pub(super) struct WindowBook {
    windows: BTreeMap<Name, KnownWindow>,
    /// Names of removed windows with the numbers of their removal: an older state in the database does not bring them back.
    removed: BTreeMap<Name, u64>,
}

/// What a plan is weighed against.
#[derive(Debug)]
pub(crate) struct WindowGround {
    pub(crate) document: Arc<Document>,
    /// All other windows, with their servers.
    pub(crate) others: Vec<(Name, Window, BTreeSet<PoolServer>)>,
    /// Pools as they are when all of their servers work.
    pub(crate) stocks: BTreeMap<Name, PoolStock>,
}

/// Why a window can't be put or removed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum WindowBookError {
    #[error("there is no window {0}")]
    Unknown(Name),
    #[error("there are {WINDOW_LIMIT} windows already, which is the limit: remove those that are over")]
    Full,
}

impl WindowBook {
    /// Restores windows as they were kept. What can't be read is left out and logged.
    pub(super) fn restore(plans: &[StoredPlan]) -> Self {
        let mut book = Self::default();
        for plan in plans {
            book.adopt(plan);
        }
        book
    }

    /// The largest number of a change.
    pub(super) fn newest(&self) -> u64 {
        let numbers = self.windows.values().map(|known| known.number).chain(self.removed.values().copied());
        numbers.max().unwrap_or_default()
    }

    /// Takes over a state that is newer than what is known; gives whether it was.
    fn adopt(&mut self, plan: &StoredPlan) -> bool {
        let Ok(name) = plan.name.parse::<Name>() else { return false };
        let known = self.windows.get(&name).map(|known| known.number);
        let known = known.max(self.removed.get(&name).copied());
        if plan.kind != PlanKind::Window || known.is_some_and(|known| known >= plan.number) {
            return false;
        }
        let Some(body) = &plan.body else {
            self.windows.remove(&name);
            self.removed.insert(name, plan.number);
            return true;
        };
        match serde_json::from_value::<Window>(body.clone()) {
            Ok(window) => {
                self.removed.remove(&name);
                let number = plan.number;
                self.windows
                    .insert(name, KnownWindow { window, number, next: None, kept_in: None, held_back: 0 });
                true
            }
            Err(error) => {
                tracing::error!(%error, window = %name, "a window that is kept can't be read");
                false
            }
        }
    }

    /// What the state file keeps.
    pub(super) fn to_keep(&self) -> Vec<StoredPlan> {
        let kept = self.windows.iter().map(|(name, known)| stored(name, known.number, Some(&known.window)));
        kept.chain(self.removed.iter().map(|(name, number)| stored(name, *number, None))).collect()
    }
}

fn stored(name: &Name, number: u64, window: Option<&Window>) -> StoredPlan {
    StoredPlan {
        kind: PlanKind::Window,
        name: name.to_string(),
        number,
        body: window.map(|window| serde_json::to_value(window).expect("a window is JSON")),
    }
}

/// How an event names a window.
fn subject(name: &Name) -> String {
    format!("window {name}")
}

impl KnownWindow {
    /// Finds the time that is open or comes next. Servers come and go with revisions, and with them the length of their drain.
    fn plan_next(&mut self, document: &Document, now: Wall) {
        let plan = &self.window.plan;
        let servers = plan.selector().ok().and_then(|selector| selector.select(document).ok());
        let drains_for = plan.drains_for(document, &servers.unwrap_or_default());
        self.next = plan.schedule.next(now).map(|next| (next.start.minus(drains_for), next));
    }

    fn servers(&self, document: &Document) -> BTreeSet<PoolServer> {
        let selector = self.window.plan.selector().ok();
        selector.and_then(|selector| selector.select(document).ok()).unwrap_or_default()
    }

    /// Whether its servers were taken out for the time that is open or comes next.
    fn has_begun(&self) -> bool {
        self.next.is_some_and(|(_, next)| self.window.begun == Some(next.start))
    }

    fn state(&self, now: Wall) -> WindowState {
        match self.next {
            None => WindowState::Over,
            Some((_, next)) if next.start <= now => WindowState::Open,
            Some((drains_at, _)) if drains_at <= now => WindowState::Draining,
            Some(_) => WindowState::Ahead,
        }
    }
}

impl ControllerState {
    /// What a plan for `name` is weighed against.
    pub(super) fn window_ground(&self, name: &Name) -> WindowGround {
        let (document, snapshot) = (self.document(), self.publisher.plane.snapshot());
        let others = self.windows.windows.iter().filter(|(other, _)| *other != name);
        let others = others
            .map(|(other, known)| (other.clone(), known.window.clone(), known.servers(&document)))
            .collect();
        let all: BTreeSet<PoolServer> =
            snapshot.pools.iter().flat_map(|pool| &pool.servers).map(|server| server.name.clone()).collect();
        let mut stocks = BTreeMap::new();
        for mut stock in self.stocks(&snapshot, &document, &all) {
            // What is down or out today says nothing of a day that comes.
            for server in &mut stock.servers {
                server.is_able = true;
            }
            stocks.insert(stock.pool.clone(), stock);
        }
        WindowGround { document, others, stocks }
    }

    /// Plans a window, or plans it anew; gives whether that changed anything.
    pub(super) fn put_window(&mut self, name: &Name, window: Window) -> Result<bool, WindowBookError> {
        let known = self.windows.windows.get(name);
        if known.is_some_and(|known| known.window.plan == window.plan) {
            return Ok(false);
        }
        if known.is_none() && self.windows.windows.len() >= WINDOW_LIMIT {
            return Err(WindowBookError::Full);
        }
        let verb = if known.is_some() { "planned anew" } else { "planned" };
        let number = self.order_numbers.next();
        let mut known = KnownWindow { window, number, next: None, kept_in: None, held_back: 0 };
        known.plan_next(&self.document(), wall());
        let next = known.next.map(|(_, next)| {
            format!("; opens on {} for {}", minute(next.start), known.window.plan.schedule.length)
        });
        let says = format!(
            "{verb} by {}: {}{}",
            known.window.who,
            known.window.plan.reason,
            next.unwrap_or_default()
        );
        self.reports.journal.write(
            EventKind::Window,
            subject(name),
            says,
            json!({ "plan": known.window.plan }),
        );
        self.windows.removed.remove(name);
        self.windows.windows.insert(name.clone(), known);
        self.keep_window(name);
        Ok(true)
    }

    /// Removes a window. Servers that it holds stay out until the time that it is open ends.
    pub(super) fn remove_window(
        &mut self,
        name: &Name,
        who: &str,
    ) -> Result<Vec<PoolServer>, WindowBookError> {
        if self.windows.windows.remove(name).is_none() {
            return Err(WindowBookError::Unknown(name.clone()));
        }
        self.windows.removed.insert(name.clone(), self.order_numbers.next());
        if self.windows.removed.len() > REMOVALS {
            let oldest = self.windows.removed.iter().min_by_key(|(_, number)| **number);
            if let Some(oldest) = oldest.map(|(name, _)| name.clone()) {
                self.windows.removed.remove(&oldest);
            }
        }
        let held = self.held_by(name);
        let mut says = format!("removed by {who}");
        if !held.is_empty() {
            says += &format!("; {} stay out until its end", names(&held));
        }
        self.reports.journal.write(EventKind::Window, subject(name), says, json!({ "holds": held.len() }));
        self.keep_window(name);
        Ok(held)
    }

    /// Has the newest state of a window written to the state file and the database.
    fn keep_window(&self, name: &Name) {
        let known = self.windows.windows.get(name);
        let number = known.map(|known| known.number).or_else(|| self.windows.removed.get(name).copied());
        if let Some(number) = number {
            let plan = stored(name, number, known.map(|known| &known.window));
            self.reports.journal.outbox().add_plan(plan);
        }
        self.state_file.changed();
    }

    fn held_by(&self, name: &Name) -> Vec<PoolServer> {
        let held = self.servers.duties.iter();
        let held = held.filter(|(_, order)| is_held(order) && order.window.as_ref() == Some(name));
        held.map(|(server, _)| server.clone()).collect()
    }

    /// Follows those plans that are later than what is known here.
    pub(super) fn adopt_plans(&mut self, plans: &[StoredPlan]) {
        let (document, now) = (self.document(), wall());
        let mut adopted = false;
        for plan in plans {
            self.order_numbers.not_before(plan.number);
            adopted |= self.windows.adopt(plan) | self.rolls.adopt(plan) | self.addresses.adopt(plan);
        }
        if adopted {
            for known in self.windows.windows.values_mut() {
                known.plan_next(&document, now);
            }
            self.state_file.changed();
            self.keep_addresses();
        }
    }

    /// Plans name renamed servers by their new names. Where another node made the revision, it keeps them so.
    pub(super) fn rename_in_windows(&mut self, renames: &Renames, is_followed: bool) {
        let renamed = |server: &mut String| {
            let new = server.parse::<PoolServer>().ok().and_then(|old| renames.servers.get(&old));
            new.map(|new| *server = new.to_string()).is_some()
        };
        let mut touched = Vec::new();
        for (name, known) in &mut self.windows.windows {
            let is_touched =
                known.window.plan.servers.iter_mut().map(renamed).fold(false, |any, this| any | this);
            if is_touched && !is_followed {
                known.number = self.order_numbers.next();
                touched.push(name.clone());
            }
        }
        for name in touched {
            self.keep_window(&name);
        }
    }

    /// Finds the next time of every window, after a revision has changed which servers there are.
    pub(super) fn plan_windows(&mut self) {
        let (document, now) = (self.document(), wall());
        for known in self.windows.windows.values_mut() {
            known.plan_next(&document, now);
        }
    }

    /// Every window, with its times within a span.
    pub(super) fn windows(&self, length: Duration) -> Windows {
        let (document, from) = (self.document(), wall());
        let to = from.plus(length);
        let windows = self.windows.windows.iter().map(|(name, known)| {
            let holds = self.held_by(name).iter().map(ToString::to_string).collect();
            WindowView {
                name: name.to_string(),
                plan: known.window.plan.clone(),
                who: known.window.who.clone(),
                at: known.window.at,
                state: known.state(from),
                servers: known.servers(&document).iter().map(ToString::to_string).collect(),
                holds,
                drains_at: known.next.map(|(drains_at, _)| drains_at),
                times: known.window.plan.schedule.occurrences(from, to, TIMES),
                kept_in: known.kept_in.clone(),
            }
        });
        Windows { from, to, windows: windows.collect() }
    }

    /// Opens and closes windows whose time has come. Costs a comparison a window while none has.
    pub(super) fn keep_windows(&mut self) {
        if self.running.is_none() || self.stopping || !self.node.nodes.leads_or_is_cut_off() {
            return;
        }
        let now = wall();
        self.close_windows(now);
        let due = |(name, known): (&Name, &KnownWindow)| {
            let (drains_at, next) = known.next?;
            (drains_at <= now && (next.end <= now || !known.has_begun())).then(|| name.clone())
        };
        let due: Vec<Name> = self.windows.windows.iter().filter_map(due).collect();
        for name in due {
            self.open_window(&name, now);
        }
    }

    fn open_window(&mut self, name: &Name, now: Wall) {
        let document = self.document();
        let Some(known) = self.windows.windows.get(name).cloned() else { return };
        let Some((drains_at, next)) = known.next else { return };
        if next.end <= now {
            if !known.has_begun() {
                let why = known.kept_in.unwrap_or_else(|| "nothing ran here then".to_owned());
                let says = format!("passed without its servers being taken out: {why}");
                self.reports.journal.write(EventKind::Window, subject(name), says, json!({ "time": next }));
            }
            if let Some(known) = self.windows.windows.get_mut(name) {
                known.kept_in = None;
                known.plan_next(&document, now);
            }
            return;
        }
        let plan = &known.window.plan;
        let (out, servers): (Vec<PoolServer>, Vec<PoolServer>) =
            known.servers(&document).into_iter().partition(|server| {
                // Its own order is given anew: a window that is planned anew while it is open may end later.
                let order = self.servers.duties.get(server).filter(|order| order.duty != Duty::InService);
                order.is_some_and(|order| order.window.as_ref() != Some(name))
            });
        // A window that begins late gives clients the same time, up to its end.
        let late = next.start.plus(now.since(drains_at)).min(next.end);
        let deadline = if now.since(drains_at) > BEGINS_WITHIN { late } else { next.start };
        let kept_in = if servers.is_empty() && out.is_empty() {
            Some("there are no servers that it is for".to_owned())
        } else if servers.is_empty() {
            None
        } else {
            let request = DutyRequest {
                deadline: Some(deadline),
                pins: plan.pins,
                until: Some(next.end),
                anyway: plan.anyway,
                ..DutyRequest::new(Duty::Draining, plan.reason.clone())
            };
            let act = DutyAct {
                servers: ServerSelector::Servers(servers.clone()),
                request,
                who: subject(name),
                window: Some(name.clone()),
            };
            self.act_here(act).err().map(|error| match error {
                DutyError::Unknown(error) => error.to_string(),
                DutyError::Refused(refusals) => super::duties::lines(&refusals),
            })
        };
        let (was_known, number) = (known.kept_in == kept_in, self.order_numbers.next());
        let Some(known) = self.windows.windows.get_mut(name) else { return };
        known.kept_in.clone_from(&kept_in);
        let (says, has_begun) = match kept_in {
            Some(why) => (format!("is due, and its servers stay in service: {why}"), false),
            None => {
                (known.window.begun, known.number, known.held_back) = (Some(next.start), number, 0);
                let mut says = format!("begins: {} drain until {}", names(&servers), minute(deadline));
                if servers.is_empty() {
                    says = "begins".to_owned();
                }
                if !out.is_empty() {
                    says += &format!("; {} were out of service before, and are left alone", names(&out));
                }
                (says, true)
            }
        };
        if has_begun || !was_known {
            self.reports.journal.write(EventKind::Window, subject(name), says, json!({ "time": next }));
        }
        if has_begun {
            self.keep_window(name);
        }
    }

    /// Ends orders of windows whose time is over: servers that are healthy return, others stay out and are overdue.
    fn close_windows(&mut self, now: Wall) {
        let over = |order: &DutyOrder| is_held(order) && order.until.is_some_and(|until| until <= now);
        let mut closing: BTreeMap<Name, Vec<PoolServer>> = BTreeMap::new();
        for (server, order) in self.servers.duties.iter().filter(|(_, order)| over(order)) {
            if let Some(window) = &order.window {
                closing.entry(window.clone()).or_default().push(server.clone());
            }
        }
        for (name, servers) in closing {
            let state = |server: &PoolServer| {
                self.servers.health.get(server).map(|health| (health.asked.is_some(), health.state))
            };
            // A server that was not probed yet is decided when its first probe is back.
            let decided = servers
                .into_iter()
                .filter(|server| !matches!(state(server), Some((true, HealthState::Unproven)) | None));
            let (healthy, ill): (Vec<PoolServer>, Vec<PoolServer>) = decided
                .partition(|server| matches!(state(server), Some((false, _) | (true, HealthState::Up))));
            if !healthy.is_empty() {
                self.return_from_window(&name, &healthy);
            }
            for server in ill {
                self.leave_out(&name, &server);
            }
        }
    }

    fn return_from_window(&mut self, name: &Name, servers: &[PoolServer]) {
        let act = DutyAct {
            servers: ServerSelector::Servers(servers.to_vec()),
            request: DutyRequest::new(Duty::InService, "the window has ended"),
            who: subject(name),
            window: None,
        };
        if let Err(error) = self.act_here(act) {
            tracing::error!(%error, window = %name, "servers of a window did not return");
            return;
        }
        let held_back =
            self.windows.windows.get_mut(name).map_or(0, |known| std::mem::take(&mut known.held_back));
        let mut says = format!("has ended: {} return", names(servers));
        match held_back {
            0 => {}
            1 => says += "; 1 change of health within it was not reported",
            many => says += &format!("; {many} changes of health within it were not reported"),
        }
        let detail = json!({ "servers": servers.len(), "held_back": held_back });
        self.reports.journal.write(EventKind::Window, subject(name), says, detail);
    }

    /// A server that is not healthy at the end stays out: from then on its order is like one of an operator.
    fn leave_out(&mut self, name: &Name, server: &PoolServer) {
        let health = self.servers.health.get(server).map(|health| health.state).unwrap_or_default();
        let number = self.order_numbers.next();
        let Some(order) = self.servers.duties.get_mut(server) else { return };
        (order.window, order.follows, order.number) = (None, order.number, number);
        let order = order.clone();
        let says = format!(
            "stays {}: window {name} has ended, and the server is {health}. Return it when it works (`merismos return {server}`)",
            order.duty
        );
        self.reports.journal.outbox().add_duty(server.clone(), order.clone());
        self.reports.journal.write(EventKind::Duty, server.to_string(), says, json!({ "order": order }));
        self.state_file.changed();
    }

    /// Follows an order of the service itself, and has it recorded.
    pub(super) fn act_here(&mut self, act: DutyAct) -> Result<(), DutyError> {
        let followed = self.act(act)?;
        for followed in followed.servers.into_iter().filter(|followed| followed.changed) {
            self.reports.journal.outbox().add_duty(followed.server, followed.order);
        }
        Ok(())
    }

    /// Counts a change of health of a server that a window holds; gives whether it is not reported.
    pub(super) fn hold_back(&mut self, server: &PoolServer) -> bool {
        let order = self.servers.duties.get(server).filter(|order| is_held(order));
        let Some(window) = order.and_then(|order| order.window.as_ref()) else { return false };
        if let Some(known) = self.windows.windows.get_mut(window) {
            known.held_back += 1;
        }
        true
    }

    /// Windows whose servers should be out and are not, a sentence each.
    pub(super) fn late_windows(&self, now: Wall) -> Vec<String> {
        let late = self.windows.windows.iter().filter_map(|(name, known)| {
            let (why, (_, next)) = (known.kept_in.as_ref()?, known.next?);
            let when = if next.start > now {
                format!("opens in {}", humane(round(next.start.since(now))))
            } else {
                "is open".to_owned()
            };
            Some(format!("window {name} {when}, and its servers stay in service: {why}"))
        });
        late.collect()
    }
}

fn is_held(order: &DutyOrder) -> bool {
    order.duty != Duty::InService && order.window.is_some()
}

/// Servers by name, as many as a sentence takes.
fn names(servers: &[PoolServer]) -> String {
    const SHOWN: usize = 3;
    let shown: Vec<String> = servers.iter().take(SHOWN).map(ToString::to_string).collect();
    match servers.len() {
        0..=SHOWN => shown.join(", "),
        many => format!("{} and {} more", shown.join(", "), many - SHOWN),
    }
}
