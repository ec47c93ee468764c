//! Rolls: maintenance of many servers one after the other, each drained, worked on, returned and watched before the next.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::duty::{DrainPins, Duty};
use crate::name::PoolServer;
use crate::time::Wall;
use crate::units::{Span, humane};

/// How long a server that returned may take until it is eligible with its full share, where the plan does not say.
const RETURN_WITHIN: Duration = Duration::from_secs(600);
/// How many requests a server and the others need before they are compared.
const COMPARED_FROM: u64 = 20;
/// By how much its share of failures may exceed that of the others.
const FAILURES_ABOVE: f64 = 0.02;
/// How many times as long as the others it may take.
const SLOWER_BY: f64 = 2.0;
/// What is to be known of a drain without an end.
const ENDLESS: &str = "clients that are tied to it may come for as long as they like: drain it with a deadline, or move its pins";
/// Responses that are faster than this are never slow.
const FAST: f64 = 0.005;

/// What a roll is to do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RollPlan {
    /// Name of a pool: all of its servers. Name servers in one of four ways: a pool, servers, a host or a label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub pool: Option<String>,
    /// Servers, each as `pool/server`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub servers: Vec<String>,
    /// Name or address of a host: every server on it, in all pools.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub host: Option<String>,
    /// A label, such as `rack=r7`: every server that has it, or whose host has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub label: Option<String>,
    /// How many servers are out at the same time, 1 to 100.
    #[serde(default = "one")]
    #[cfg_attr(feature = "schema", schema(minimum = 1, maximum = 100))]
    pub at_once: u16,
    /// How long each drain waits; then what is still open is closed. Absent: the pool's `drain_timeout`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = String, nullable = false, example = "10m"))]
    pub within: Option<Span>,
    /// What becomes of pinned clients while a server drains.
    #[serde(default)]
    pub pins: DrainPins,
    /// How long a server that has returned is watched and compared with the others before the next one drains.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = String, nullable = false, example = "2m"))]
    pub soak: Option<Span>,
    /// How long a server that returns may take until it is eligible with its full share; then the roll stops. 10 minutes when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = String, nullable = false, example = "10m"))]
    pub return_within: Option<Span>,
    /// Why; at least one character, shown wherever the servers are shown.
    #[cfg_attr(feature = "schema", schema(min_length = 1, max_length = 500))]
    pub reason: String,
    /// Take servers out although the guard speaks against it.
    #[serde(default)]
    pub anyway: bool,
}

fn one() -> u16 {
    1
}

/// How a roll as a whole goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RollState {
    /// It goes on.
    Running,
    /// No further server is begun until it is resumed; what is begun goes on.
    Paused,
    /// It was stopped, by an operator or because a step failed.
    Stopped,
    /// Every server is done.
    Finished,
}

/// How far one server is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RollStep {
    /// Its turn has not come.
    Waiting,
    /// It drains.
    Draining,
    /// Nothing is open at it: the work can begin.
    Ready,
    /// It is being worked on.
    Working,
    /// It is in service again, and not yet eligible with its full share.
    Returning,
    /// It is watched and compared with the others.
    Soaking,
    /// It is done.
    Done,
    /// It was out of service before its turn, or is no longer there: it was left alone.
    Skipped,
    /// A step failed.
    Failed,
}

impl RollStep {
    /// Whether its turn has come and is not over.
    #[must_use]
    pub fn is_under_way(self) -> bool {
        match self {
            Self::Draining | Self::Ready | Self::Working | Self::Returning | Self::Soaking => true,
            Self::Waiting | Self::Done | Self::Skipped | Self::Failed => false,
        }
    }
}

/// A server in a roll.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RollServer {
    /// The server, as `pool/server`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub server: PoolServer,
    /// How far it is.
    pub step: RollStep,
    /// Since when.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub since: Wall,
    /// What is to be known of the step: who works on it, what it waits for, why it failed, how it compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub note: Option<String>,
    /// What it and the others had done when the soak began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(ignore))]
    pub before: Option<SoakSample>,
}

/// A roll.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Roll {
    /// What it is to do.
    pub plan: RollPlan,
    /// Name of the token that began it.
    pub who: String,
    /// When it was begun.
    pub at: Wall,
    /// How it goes.
    pub state: RollState,
    /// Why it is paused or stopped, and by whom.
    #[serde(default)]
    pub why: Option<String>,
    /// Its servers in the order of their turns.
    pub servers: Vec<RollServer>,
    /// What its caller named the call, so that the same call again begins no second roll.
    #[serde(default)]
    pub idempotency_key: Option<String>,
}

/// What a server and the others of its pool had done at one moment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SoakSample {
    /// Requests or connections that the server took.
    pub taken: u64,
    /// How many of them failed, responses of 500 and above among them.
    pub failed: u64,
    /// Those of the other servers of its pool.
    pub others_taken: u64,
    /// How many of those failed.
    pub others_failed: u64,
    /// Median of its response times in the last minute, in seconds; 0 when there was none.
    pub seconds: f64,
    /// That of the others.
    pub others_seconds: f64,
}

/// What is so of a server now.
#[derive(Clone, Copy, Debug)]
pub struct RollFacts {
    /// What the operators, the roll among them, say of it.
    pub duty: Duty,
    /// Whether it drains and can be worked on.
    pub is_safe: bool,
    /// Whether its drain has no end: clients that are tied to it may come for as long as they like.
    pub is_endless: bool,
    /// Whether it is eligible, or stands by.
    pub is_eligible: bool,
    /// Whether it gets its full share: it is not on the ramp of slow start.
    pub has_full_share: bool,
    /// What it and the others have done.
    pub sample: SoakSample,
}

/// What a roll wants done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RollOrder {
    /// Drain it.
    Drain(PoolServer),
    /// Return it.
    Return(PoolServer),
    /// Withdraw it: a step failed.
    Withdraw(PoolServer),
}

/// What was reported of the work on a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum WorkOutcome {
    /// It has begun: another caller that reports the same is refused.
    Begun,
    /// It is done, and the server can return.
    Done,
    /// It failed: the roll stops, and the server stays out.
    Failed,
}

/// Why a report or an order does not fit.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RollError {
    /// The roll has no such server.
    #[error("the roll has no server {0}")]
    NoServer(PoolServer),
    /// Work was reported of a server that is not ready for it.
    #[error("{server} is not ready for work: it is {step}{}", note.as_ref().map(|note| format!(" ({note})")).unwrap_or_default())]
    NotReady {
        /// The server.
        server: PoolServer,
        /// How far it is.
        step: String,
        /// What is to be known of the step.
        note: Option<String>,
    },
    /// The roll is over.
    #[error("the roll is over")]
    Over,
    /// It is not paused.
    #[error("the roll is not paused")]
    NotPaused,
}

impl std::fmt::Display for RollStep {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Self::Waiting => "waiting",
            Self::Draining => "draining",
            Self::Ready => "ready",
            Self::Working => "being worked on",
            Self::Returning => "returning",
            Self::Soaking => "soaking",
            Self::Done => "done",
            Self::Skipped => "skipped",
            Self::Failed => "failed",
        })
    }
}

impl RollServer {
    fn go_to(&mut self, step: RollStep, now: Wall, note: impl Into<Option<String>>) {
        (self.step, self.since, self.note) = (step, now, note.into());
    }
}

impl Roll {
    /// A roll that has not done anything yet.
    #[must_use]
    pub fn new(plan: RollPlan, who: String, at: Wall, servers: impl IntoIterator<Item = PoolServer>) -> Self {
        let waiting =
            |server| RollServer { server, step: RollStep::Waiting, since: at, note: None, before: None };
        Self {
            plan,
            who,
            at,
            state: RollState::Running,
            why: None,
            servers: servers.into_iter().map(waiting).collect(),
            idempotency_key: None,
        }
    }

    /// Whether nothing of it will go on by itself.
    #[must_use]
    pub fn is_over(&self) -> bool {
        matches!(self.state, RollState::Stopped | RollState::Finished)
            && !self.servers.iter().any(|server| server.step.is_under_way())
    }

    /// Has it begin no further server.
    ///
    /// # Errors
    /// When it is over.
    pub fn pause(&mut self, why: String) -> Result<(), RollError> {
        match self.state {
            RollState::Running | RollState::Paused => {
                (self.state, self.why) = (RollState::Paused, Some(why));
                Ok(())
            }
            RollState::Stopped | RollState::Finished => Err(RollError::Over),
        }
    }

    /// Has it go on.
    ///
    /// # Errors
    /// When it is not paused.
    pub fn resume(&mut self) -> Result<(), RollError> {
        if self.state != RollState::Paused {
            return Err(RollError::NotPaused);
        }
        (self.state, self.why) = (RollState::Running, None);
        Ok(())
    }

    /// Ends it: servers that drain or are ready return, those being worked on stay out.
    ///
    /// # Errors
    /// When it is over.
    pub fn stop(&mut self, why: String, now: Wall) -> Result<Vec<RollOrder>, RollError> {
        if matches!(self.state, RollState::Stopped | RollState::Finished) {
            return Err(RollError::Over);
        }
        (self.state, self.why) = (RollState::Stopped, Some(why));
        let mut orders = Vec::new();
        for server in &mut self.servers {
            match server.step {
                RollStep::Draining | RollStep::Ready => {
                    server.go_to(RollStep::Skipped, now, "returned when the roll was stopped".to_owned());
                    orders.push(RollOrder::Return(server.server.clone()));
                }
                RollStep::Working => {
                    server.go_to(
                        RollStep::Failed,
                        now,
                        "was being worked on when the roll was stopped".to_owned(),
                    );
                    orders.push(RollOrder::Withdraw(server.server.clone()));
                }
                RollStep::Returning | RollStep::Soaking => {
                    server.go_to(
                        RollStep::Done,
                        now,
                        "not watched to the end: the roll was stopped".to_owned(),
                    );
                }
                RollStep::Waiting | RollStep::Done | RollStep::Skipped | RollStep::Failed => {}
            }
        }
        Ok(orders)
    }

    /// Takes a report of the work on a server.
    ///
    /// # Errors
    /// When no work on it is wanted.
    pub fn report(
        &mut self,
        server: &PoolServer,
        outcome: WorkOutcome,
        note: Option<String>,
        who: &str,
        now: Wall,
    ) -> Result<Vec<RollOrder>, RollError> {
        let place = self.servers.iter().position(|candidate| candidate.server == *server);
        let entry = place.map(|place| &mut self.servers[place]);
        let entry = entry.ok_or_else(|| RollError::NoServer(server.clone()))?;
        let fits = match outcome {
            WorkOutcome::Begun => entry.step == RollStep::Ready,
            WorkOutcome::Done | WorkOutcome::Failed => {
                matches!(entry.step, RollStep::Ready | RollStep::Working)
            }
        };
        if !fits {
            let (step, note) = (entry.step.to_string(), entry.note.clone());
            return Err(RollError::NotReady { server: server.clone(), step, note });
        }
        match outcome {
            WorkOutcome::Begun => {
                entry.go_to(
                    RollStep::Working,
                    now,
                    note.map_or_else(|| format!("by {who}"), |note| format!("by {who}: {note}")),
                );
                Ok(Vec::new())
            }
            WorkOutcome::Done => {
                entry.go_to(RollStep::Returning, now, note);
                Ok(vec![RollOrder::Return(server.clone())])
            }
            WorkOutcome::Failed => {
                let why = note.unwrap_or_else(|| format!("the work failed, says {who}"));
                Ok(self.fail(server, why, now))
            }
        }
    }

    /// A server that should drain can't be taken out, as the guard says: it is tried again. Gives whether that is news.
    pub fn keep_in(&mut self, server: &PoolServer, why: &str, now: Wall) -> bool {
        let entry = self.servers.iter_mut().find(|candidate| candidate.server == *server);
        let Some(entry) = entry.filter(|entry| entry.step == RollStep::Draining) else { return false };
        let is_news = entry.note.as_deref() != Some(why);
        entry.go_to(RollStep::Waiting, now, why.to_owned());
        is_news
    }

    /// A server that should drain does.
    pub fn taken_out(&mut self, server: &PoolServer) {
        let entry = self.servers.iter_mut().find(|candidate| candidate.server == *server);
        if let Some(entry) = entry.filter(|entry| entry.step == RollStep::Draining) {
            entry.note = None;
        }
    }

    fn fail(&mut self, server: &PoolServer, why: String, now: Wall) -> Vec<RollOrder> {
        self.state = RollState::Stopped;
        self.why = Some(format!("{server}: {why}"));
        if let Some(entry) = self.servers.iter_mut().find(|candidate| candidate.server == *server) {
            entry.go_to(RollStep::Failed, now, why);
        }
        vec![RollOrder::Withdraw(server.clone())]
    }

    /// Goes on as far as what is so allows; gives what it wants done, in this order. `facts` says what is so of a server; nothing of
    /// one that is no longer there.
    pub fn advance(&mut self, now: Wall, facts: impl Fn(&PoolServer) -> Option<RollFacts>) -> Vec<RollOrder> {
        let mut orders = Vec::new();
        for place in 0..self.servers.len() {
            let entry = &self.servers[place];
            if !entry.step.is_under_way() {
                continue;
            }
            let server = entry.server.clone();
            match facts(&server) {
                Some(facts) => orders.extend(self.advance_server(place, facts, now)),
                None => self.servers[place].go_to(RollStep::Skipped, now, "it was removed".to_owned()),
            }
        }
        while self.state == RollState::Running {
            let under_way = self.servers.iter().filter(|server| server.step.is_under_way()).count();
            if under_way >= usize::from(self.plan.at_once) {
                break;
            }
            let Some(next) = self.servers.iter_mut().find(|server| server.step == RollStep::Waiting) else {
                if under_way == 0 {
                    self.state = RollState::Finished;
                }
                break;
            };
            match facts(&next.server) {
                None => next.go_to(RollStep::Skipped, now, "it was removed".to_owned()),
                Some(facts) if facts.duty != Duty::InService => {
                    let note = format!("it was {} before its turn, and is left alone", facts.duty);
                    next.go_to(RollStep::Skipped, now, note);
                }
                Some(_) => {
                    let note = next.note.take();
                    next.go_to(RollStep::Draining, now, note);
                    orders.push(RollOrder::Drain(next.server.clone()));
                }
            }
        }
        orders
    }

    fn advance_server(&mut self, place: usize, facts: RollFacts, now: Wall) -> Vec<RollOrder> {
        let (soak, return_within) = (self.plan.soak.map(Span::get), self.plan.return_within.map(Span::get));
        let entry = &mut self.servers[place];
        let (server, lasted) = (entry.server.clone(), now.since(entry.since));
        match entry.step {
            RollStep::Draining | RollStep::Ready | RollStep::Working if facts.duty == Duty::InService => {
                entry.go_to(RollStep::Skipped, now, "someone returned it".to_owned());
                Vec::new()
            }
            RollStep::Draining => {
                if facts.is_safe || facts.duty == Duty::Withdrawn {
                    entry.go_to(RollStep::Ready, now, None);
                } else if facts.is_endless {
                    entry.note = Some(ENDLESS.to_owned());
                }
                Vec::new()
            }
            RollStep::Returning | RollStep::Soaking if facts.duty != Duty::InService => {
                let why = format!("someone has it {} again", facts.duty);
                self.state = RollState::Stopped;
                self.why = Some(format!("{server}: {why}"));
                self.servers[place].go_to(RollStep::Failed, now, why);
                Vec::new()
            }
            RollStep::Returning if facts.is_eligible && facts.has_full_share => {
                match soak {
                    Some(_) => {
                        entry.go_to(RollStep::Soaking, now, None);
                        entry.before = Some(facts.sample);
                    }
                    None => entry.go_to(RollStep::Done, now, None),
                }
                Vec::new()
            }
            RollStep::Returning => {
                let limit = return_within.unwrap_or(RETURN_WITHIN);
                if lasted < limit {
                    return Vec::new();
                }
                let what = if facts.is_eligible { "at its full share" } else { "eligible" };
                self.fail(&server, format!("it is not {what} {} after its return", humane(limit)), now)
            }
            RollStep::Soaking if !facts.is_eligible => {
                self.fail(&server, "it is not eligible any more".to_owned(), now)
            }
            RollStep::Soaking => {
                let (Some(soak), before) = (soak, entry.before.unwrap_or_default()) else {
                    entry.go_to(RollStep::Done, now, None);
                    return Vec::new();
                };
                if lasted < soak {
                    return Vec::new();
                }
                match compare(before, facts.sample) {
                    Ok(note) => {
                        entry.go_to(RollStep::Done, now, note);
                        entry.before = None;
                        Vec::new()
                    }
                    Err(why) => self.fail(&server, why, now),
                }
            }
            RollStep::Ready
            | RollStep::Working
            | RollStep::Waiting
            | RollStep::Done
            | RollStep::Skipped
            | RollStep::Failed => Vec::new(),
        }
    }
}

/// Compares what a server did since the soak began with what the others did.
fn compare(before: SoakSample, now: SoakSample) -> Result<String, String> {
    let (taken, failed) = (now.taken.saturating_sub(before.taken), now.failed.saturating_sub(before.failed));
    let others_taken = now.others_taken.saturating_sub(before.others_taken);
    let others_failed = now.others_failed.saturating_sub(before.others_failed);
    if taken < COMPARED_FROM || others_taken < COMPARED_FROM {
        return Ok(format!("too little traffic to compare: {taken} here, {others_taken} at the others"));
    }
    let (share, others) = (failed as f64 / taken as f64, others_failed as f64 / others_taken as f64);
    let failures =
        format!("{failed} of {taken} failed ({:.1} %), {:.1} % at the others", share * 100.0, others * 100.0);
    if share > others + FAILURES_ABOVE {
        return Err(format!("worse than the others: {failures}"));
    }
    let times =
        format!("median {:.1} ms, {:.1} ms at the others", now.seconds * 1e3, now.others_seconds * 1e3);
    let is_slow =
        now.others_seconds > 0.0 && now.seconds > FAST && now.seconds > SLOWER_BY * now.others_seconds;
    if is_slow {
        return Err(format!("slower than the others: {times}"));
    }
    Ok(format!("{failures}; {times}"))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use rstest::rstest;

    use super::*;

    fn plan(at_once: u16, soak: Option<&str>) -> RollPlan {
        RollPlan {
            pool: Some("booking".to_owned()),
            servers: Vec::new(),
            host: None,
            label: None,
            at_once,
            within: None,
            pins: DrainPins::default(),
            soak: soak.map(|soak| soak.parse().unwrap()),
            return_within: Some("60s".parse().unwrap()),
            reason: "updates".to_owned(),
            anyway: false,
        }
    }

    fn name(server: &str) -> PoolServer {
        format!("booking/{server}").parse().unwrap()
    }

    /// A pool that follows the orders of a roll at once.
    struct Pool {
        facts: BTreeMap<PoolServer, RollFacts>,
        roll: Roll,
        now: i64,
        orders: Vec<RollOrder>,
    }

    impl Pool {
        fn new(at_once: u16, soak: Option<&str>, servers: &[&str]) -> Self {
            let facts = RollFacts {
                duty: Duty::InService,
                is_safe: false,
                is_endless: false,
                is_eligible: true,
                has_full_share: true,
                sample: SoakSample::default(),
            };
            let names: Vec<PoolServer> = servers.iter().map(|server| name(server)).collect();
            Self {
                facts: names.iter().map(|name| (name.clone(), facts)).collect(),
                roll: Roll::new(plan(at_once, soak), "kittiwake".to_owned(), Wall(0), names),
                now: 0,
                orders: Vec::new(),
            }
        }

        fn follow(&mut self, orders: Vec<RollOrder>) {
            for order in &orders {
                let (server, duty) = match order {
                    RollOrder::Drain(server) => (server, Duty::Draining),
                    RollOrder::Return(server) => (server, Duty::InService),
                    RollOrder::Withdraw(server) => (server, Duty::Withdrawn),
                };
                let facts = self.facts.get_mut(server).unwrap();
                (facts.duty, facts.is_safe, facts.is_eligible) = (duty, false, duty == Duty::InService);
            }
            self.orders.extend(orders);
        }

        /// A second passes.
        fn tick(&mut self) {
            self.now += 1_000;
            let facts = self.facts.clone();
            let orders = self.roll.advance(Wall(self.now), |server| facts.get(server).copied());
            self.follow(orders);
        }

        fn facts(&mut self, server: &str) -> &mut RollFacts {
            self.facts.get_mut(&name(server)).unwrap()
        }

        fn work(&mut self, server: &str, outcome: WorkOutcome) -> Result<(), RollError> {
            let orders = self.roll.report(&name(server), outcome, None, "kittiwake", Wall(self.now))?;
            self.follow(orders);
            Ok(())
        }

        fn steps(&self) -> Vec<RollStep> {
            self.roll.servers.iter().map(|server| server.step).collect()
        }
    }

    use RollStep::{Done, Draining, Failed, Ready, Returning, Skipped, Soaking, Waiting, Working};

    #[test]
    fn each_server_is_drained_worked_on_returned_and_watched_before_the_next() {
        let mut pool = Pool::new(1, Some("2s"), &["gull", "tern"]);
        pool.tick();
        assert_eq!(pool.steps(), [Draining, Waiting]);
        assert_eq!(pool.orders, [RollOrder::Drain(name("gull"))]);
        pool.tick();
        assert_eq!(pool.steps(), [Draining, Waiting], "something is open at it");
        pool.facts("gull").is_endless = true;
        pool.tick();
        assert!(pool.roll.servers[0].note.as_ref().is_some_and(|note| note.contains("as long as they like")));
        assert!(matches!(pool.work("gull", WorkOutcome::Begun), Err(RollError::NotReady { .. })));
        pool.facts("gull").is_safe = true;
        pool.tick();
        assert_eq!(pool.steps(), [Ready, Waiting]);
        pool.work("gull", WorkOutcome::Begun).unwrap();
        assert!(
            matches!(pool.work("gull", WorkOutcome::Begun), Err(RollError::NotReady { .. })),
            "one is enough"
        );
        pool.tick();
        assert_eq!(pool.steps(), [Working, Waiting]);
        pool.work("gull", WorkOutcome::Done).unwrap();
        pool.facts("gull").has_full_share = false;
        pool.tick();
        assert_eq!(pool.steps(), [Returning, Waiting], "it is on its ramp");
        pool.facts("gull").has_full_share = true;
        pool.tick();
        assert_eq!(pool.steps(), [Soaking, Waiting]);
        pool.tick();
        assert_eq!(pool.steps(), [Soaking, Waiting]);
        pool.tick();
        assert_eq!(pool.steps(), [Done, Draining]);
        pool.facts("tern").is_safe = true;
        pool.tick();
        pool.work("tern", WorkOutcome::Done).unwrap();
        for _ in 0..4 {
            pool.tick();
        }
        assert_eq!((pool.steps(), pool.roll.state), (vec![Done, Done], RollState::Finished));
        let gull = [RollOrder::Drain(name("gull")), RollOrder::Return(name("gull"))];
        let tern = [RollOrder::Drain(name("tern")), RollOrder::Return(name("tern"))];
        assert_eq!(pool.orders, [gull, tern].concat());
    }

    #[test]
    fn so_many_are_out_at_once_and_those_that_are_out_already_are_left_alone() {
        let mut pool = Pool::new(2, None, &["gull", "tern", "auk", "skua"]);
        pool.facts("gull").duty = Duty::Withdrawn;
        pool.tick();
        assert_eq!(pool.steps(), [Skipped, Draining, Draining, Waiting]);
        // What the guard keeps in is tried again, and keeps what it waits for.
        for is_news in [true, false] {
            pool.facts("auk").duty = Duty::InService;
            assert_eq!(pool.roll.keep_in(&name("auk"), "too few", Wall(pool.now)), is_news);
            assert_eq!(pool.roll.servers[2].note.as_deref(), Some("too few"));
            pool.tick();
        }
        pool.roll.taken_out(&name("auk"));
        assert_eq!(pool.roll.servers[2].note, None);
        pool.tick();
        assert_eq!(pool.steps(), [Skipped, Draining, Draining, Waiting]);
    }

    #[rstest]
    #[case::the_work_failed(|pool: &mut Pool| pool.work("gull", WorkOutcome::Failed).unwrap(), "the work failed")]
    #[case::it_does_not_come_up(|pool: &mut Pool| {
        pool.work("gull", WorkOutcome::Done).unwrap();
        pool.facts("gull").is_eligible = false;
        for _ in 0..61 { pool.tick(); }
    }, "it is not eligible 60 s after its return")]
    #[case::it_goes_down_while_it_is_watched(|pool: &mut Pool| {
        pool.work("gull", WorkOutcome::Done).unwrap();
        pool.tick();
        pool.facts("gull").is_eligible = false;
        pool.tick();
    }, "it is not eligible any more")]
    #[case::it_fails_more_than_the_others(|pool: &mut Pool| {
        pool.work("gull", WorkOutcome::Done).unwrap();
        pool.tick();
        pool.facts("gull").sample = SoakSample { taken: 100, failed: 5, others_taken: 100, others_failed: 2, ..SoakSample::default() };
        for _ in 0..3 { pool.tick(); }
    }, "worse than the others: 5 of 100 failed (5.0 %), 2.0 % at the others")]
    #[case::it_is_slower_than_the_others(|pool: &mut Pool| {
        pool.work("gull", WorkOutcome::Done).unwrap();
        pool.tick();
        pool.facts("gull").sample = SoakSample { taken: 100, others_taken: 100, seconds: 0.05, others_seconds: 0.02, ..SoakSample::default() };
        for _ in 0..3 { pool.tick(); }
    }, "slower than the others: median 50.0 ms, 20.0 ms at the others")]
    fn a_failing_step_stops_the_roll_with_the_server_withdrawn(
        #[case] act: fn(&mut Pool),
        #[case] why: &str,
    ) {
        let mut pool = Pool::new(1, Some("2s"), &["gull", "tern"]);
        pool.tick();
        pool.facts("gull").is_safe = true;
        pool.tick();
        act(&mut pool);
        pool.tick();
        assert_eq!((pool.steps(), pool.roll.state), (vec![Failed, Waiting], RollState::Stopped));
        assert_eq!(pool.orders.last(), Some(&RollOrder::Withdraw(name("gull"))));
        let told = pool.roll.why.clone().unwrap();
        assert!(told.starts_with(&format!("booking/gull: {why}")), "{told}");
        assert!(pool.roll.is_over());
    }

    #[test]
    fn a_paused_roll_ends_what_it_has_begun_and_a_stopped_one_returns_it() {
        let mut pool = Pool::new(1, None, &["gull", "tern"]);
        pool.tick();
        pool.roll.pause("lunch".to_owned()).unwrap();
        pool.facts("gull").is_safe = true;
        pool.tick();
        pool.work("gull", WorkOutcome::Done).unwrap();
        pool.tick();
        pool.tick();
        assert_eq!((pool.steps(), pool.roll.state), (vec![Done, Waiting], RollState::Paused));
        pool.roll.resume().unwrap();
        pool.tick();
        assert_eq!(pool.steps(), [Done, Draining]);
        let orders = pool.roll.stop("enough".to_owned(), Wall(pool.now)).unwrap();
        assert_eq!(orders, [RollOrder::Return(name("tern"))]);
        assert_eq!((pool.steps(), pool.roll.is_over()), (vec![Done, Skipped], true));
        assert_eq!(pool.roll.resume(), Err(RollError::NotPaused));
        assert_eq!(pool.roll.pause("again".to_owned()), Err(RollError::Over));
    }

    #[test]
    fn a_server_that_another_operator_returns_or_takes_out_again_is_theirs() {
        let mut pool = Pool::new(1, None, &["gull", "tern"]);
        pool.tick();
        pool.facts("gull").duty = Duty::InService;
        pool.tick();
        assert_eq!(pool.steps(), [Skipped, Draining]);
        pool.facts("tern").is_safe = true;
        pool.tick();
        pool.work("tern", WorkOutcome::Done).unwrap();
        pool.facts("tern").duty = Duty::Draining;
        pool.tick();
        assert_eq!((pool.steps(), pool.roll.state), (vec![Skipped, Failed], RollState::Stopped));
        assert!(!pool.orders.contains(&RollOrder::Withdraw(name("tern"))), "it is left as it is");
    }
}
