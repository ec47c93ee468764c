//! The last probes of a server, and how often its health changed today.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use merismos_api::{ProbeRecord, Probes};
use merismos_core::config::document::CheckSpec;
use merismos_core::health::{HealthState, ProbeStep};
use merismos_core::name::PoolServer;
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_probe::ProbeReport;

use super::server_records::ServerHealth;
use super::state::ControllerState;
use crate::clock::wall;

/// How many probes are kept of a server: some 3 KiB, for most of them give the same words.
const KEPT: usize = 60;
/// How much is kept of what came back.
const LONGEST: usize = 120;
/// A day in milliseconds.
const DAY: i64 = 24 * 3_600 * 1_000;

#[derive(Clone, Debug)]
struct StoredProbe {
    at: Wall,
    took_us: u32,
    step: ProbeStep,
    to: Option<HealthState>,
    got: Arc<str>,
}

impl StoredProbe {
    fn passed(&self) -> bool {
        self.step == ProbeStep::Done
    }

    fn mark(&self) -> ProbeRecord {
        ProbeRecord {
            at: self.at,
            passed: self.passed(),
            step: self.step,
            took_us: self.took_us.into(),
            observed: self.got.to_string(),
            to: self.to,
        }
    }
}

/// What is remembered of a server's probes.
#[derive(Clone, Debug, Default)]
pub(super) struct ProbeHistory {
    marks: VecDeque<StoredProbe>,
    /// The day (UTC, since 1970), how many changes it has had, and how many of them were to down.
    changes: (i64, u32, u32),
    next: Option<Wall>,
}

impl ProbeHistory {
    pub(super) fn note(&mut self, report: &ProbeReport, now: Wall) {
        let evidence = &report.evidence;
        if self.marks.len() == KEPT {
            self.marks.pop_front();
        }
        let to = report.transition.map(|transition| transition.to);
        let got: String = evidence.observed.chars().take(LONGEST).collect();
        let same = self.marks.back().map(|last| &last.got).filter(|last| ***last == *got);
        let got = same.map_or_else(|| got.as_str().into(), Arc::clone);
        let took_us = u32::try_from(evidence.took_us).unwrap_or(u32::MAX);
        self.marks.push_back(StoredProbe { at: evidence.at, took_us, step: evidence.step, to, got });
        self.next = Some(after(now, report.next_in));
        if let Some(to) = to {
            let day = now.0.div_euclid(DAY);
            let (before, downs) =
                if self.changes.0 == day { (self.changes.1, self.changes.2) } else { (0, 0) };
            self.changes = (day, before + 1, downs + u32::from(to == HealthState::Down));
        }
    }

    /// How many times its health has changed today.
    pub(super) fn changes_today(&self, now: Wall) -> u32 {
        if self.changes.0 == now.0.div_euclid(DAY) { self.changes.1 } else { 0 }
    }

    /// How many times it went down today.
    pub(super) fn downs_today(&self, now: Wall) -> u32 {
        if self.changes.0 == now.0.div_euclid(DAY) { self.changes.2 } else { 0 }
    }
}

pub(super) fn after(now: Wall, rest: Duration) -> Wall {
    Wall(now.0.saturating_add(i64::try_from(rest.as_millis()).unwrap_or(i64::MAX)))
}

impl ControllerState {
    /// The last probes of a server; `None` when there is no such server.
    pub(super) fn probes(&self, server: &PoolServer) -> Option<Probes> {
        let document = self.document();
        let check = document.pools.get(&server.pool)?.check.as_ref().map(|name| &document.checks[name]);
        let health = self.servers.health.get(server)?;
        let now = wall();
        let history = &health.history;
        Some(Probes {
            server: server.to_string(),
            checked: check.is_some(),
            state: health.state,
            since: health.since,
            changes_today: history.changes_today(now),
            message: check.map_or_else(
                || "its pool has no check: it is taken to work, and not probed".to_owned(),
                |check| says(health, check, now),
            ),
            next: history.next.filter(|_| check.is_some()),
            marks: history.marks.iter().map(StoredProbe::mark).collect(),
        })
    }
}

/// Where a server stands between two verdicts.
fn says(health: &ServerHealth, check: &CheckSpec, now: Wall) -> String {
    let plural =
        |count: u32, one: &str, many: &str| format!("{count} {}", if count == 1 { one } else { many });
    let mut parts = Vec::new();
    match (health.state, health.failures_to_down, health.passes_to_up) {
        (HealthState::Suspect, Some(left), _) => {
            let so_far = check.down_after.saturating_sub(left);
            parts.push(format!("{so_far} of {} failures", check.down_after));
        }
        (HealthState::Down, _, Some(needs)) => {
            let failed = health.history.marks.iter().rev().take_while(|mark| !mark.passed()).count();
            let failed = u32::try_from(failed).unwrap_or(u32::MAX);
            let more = if failed as usize == KEPT { " and more" } else { "" };
            parts.push(format!("the last {}{more} failed", plural(failed, "probe", "probes")));
            parts.push(format!("needs {}", plural(needs, "pass", "passes")));
        }
        (HealthState::Recovering, _, Some(needs)) => match health.held_until {
            Some(until) => {
                parts.push(format!("it passes, and is held down for {} more", humane(until.since(now))))
            }
            None => {
                parts.push(format!("{} of {} passes", check.up_after.saturating_sub(needs), check.up_after))
            }
        },
        (HealthState::Up, Some(left), _) => {
            parts.push(format!("down after {}", plural(left, "failure", "failures in a row")))
        }
        _ => parts.push("no probe has ended yet".to_owned()),
    }
    if health.flapping {
        parts.push("it is flapping".to_owned());
    }
    if let Some(feedback) = health.feedback {
        parts.push(format!("it {feedback}"));
    }
    if let Some(next) = health.history.next {
        let rest = next.since(now);
        parts.push(if rest.is_zero() {
            "a probe is under way".to_owned()
        } else {
            format!("next probe in {}", humane(rest))
        });
    }
    parts.join(", ")
}
