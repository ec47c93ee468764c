//! Rolls: plans, how they go, and how they ended.

use std::collections::BTreeMap;

use comfy_table::Cell;
use merismos_api::{RollView, Rolls};
use merismos_core::name::PoolServer;
use merismos_core::roll::{RollState, RollStep};

use super::table::table;
use super::{bad, good, moment, note, strong, text};

/// Prints what a roll would do.
pub(crate) fn plan(roll: &RollView) {
    let plan = &roll.plan;
    let count = roll.servers.len();
    text(&format!("{count} servers, {} at once, in this order:\n", plan.at_once));
    for (place, (entry, address)) in roll.servers.iter().zip(&roll.addresses).enumerate() {
        let address = address.as_deref().unwrap_or_default();
        text(&format!("  {:>3}. {}  {address}\n", place + 1, entry.server));
    }
    let drain = plan.within.map_or_else(
        || "drain (as long as its pool's drain_timeout allows)".to_owned(),
        |within| format!("drain (for {within} at most)"),
    );
    let soak = plan
        .soak
        .map_or_else(String::new, |soak| format!(", watch it for {soak} and compare it with the others"));
    text(&format!("For each: {drain}, do the work, return, wait until it is up at its full share{soak}.\n"));
    for said in &roll.guard {
        note(&format!("The guard says now: {said}. The roll would wait until that is no longer so."));
    }
}

/// Prints a roll with its servers.
pub(crate) fn one(roll: &RollView) {
    text(&format!("{} {}\n", strong(&format!("roll {}", roll.id)), state(roll)));
    let mut shown = table(&["server", "address", "step", "since", ""]);
    for (entry, address) in roll.servers.iter().zip(&roll.addresses) {
        shown.add_row([
            Cell::new(&entry.server),
            Cell::new(address.as_deref().unwrap_or("(removed)")),
            Cell::new(entry.step),
            Cell::new(moment(entry.since)),
            Cell::new(entry.note.as_deref().unwrap_or_default()),
        ]);
    }
    text(&format!("{shown}\n"));
}

/// Prints every roll on a line.
pub(crate) fn list(rolls: &Rolls) {
    if rolls.rolls.is_empty() {
        text("There are no rolls. `merismos roll POOL` begins one.\n");
        return;
    }
    let mut shown = table(&["roll", "state", "servers", "done", "begun", "by", "reason"]);
    for roll in &rolls.rolls {
        let done = roll.servers.iter().filter(|entry| entry.step == RollStep::Done).count();
        shown.add_row([
            Cell::new(roll.id),
            Cell::new(state(roll)),
            Cell::new(roll.servers.len()),
            Cell::new(done),
            Cell::new(moment(roll.at)),
            Cell::new(&roll.who),
            Cell::new(&roll.plan.reason),
        ]);
    }
    text(&format!("{shown}\n"));
}

fn state(roll: &RollView) -> String {
    let word = match roll.state {
        RollState::Running => "running",
        RollState::Paused => "paused",
        RollState::Stopped => "stopped",
        RollState::Finished => "finished",
    };
    roll.why.as_ref().map_or_else(|| word.to_owned(), |why| format!("{word}: {why}"))
}

/// Prints how a roll ended, and what to do next.
pub(crate) fn end(roll: &RollView) {
    let count = |step: RollStep| roll.servers.iter().filter(|entry| entry.step == step).count();
    if roll.state == RollState::Finished {
        let skipped = match count(RollStep::Skipped) {
            0 => String::new(),
            skipped => format!(", {skipped} left alone"),
        };
        text(&format!(
            "{}\n",
            good(&format!("Roll {} is finished: {} done{skipped}.", roll.id, count(RollStep::Done)))
        ));
        return;
    }
    text(&format!("{}\n", bad(&format!("Roll {} is {}.", roll.id, state(roll)))));
    for entry in roll.servers.iter().filter(|entry| entry.step == RollStep::Failed) {
        text(&format!(
            "{server} is out of service. When it is mended: `merismos return {server}`, then roll the others anew.\n",
            server = entry.server
        ));
    }
}

/// Prints what changes in a roll, a line each.
#[derive(Debug, Default)]
pub(crate) struct Follower {
    steps: BTreeMap<PoolServer, (RollStep, Option<String>)>,
    state: Option<(RollState, Option<String>)>,
}

impl Follower {
    pub(crate) fn tell(&mut self, roll: &RollView) {
        let now = (roll.state, roll.why.clone());
        if self.state.as_ref().is_some_and(|before| *before != now) {
            text(&format!("roll {} is {}\n", roll.id, state(roll)));
        }
        self.state = Some(now);
        for entry in &roll.servers {
            let now = (entry.step, entry.note.clone());
            let before = self.steps.insert(entry.server.clone(), now.clone());
            let is_news =
                before.as_ref() != Some(&now) && (before.is_some() || entry.step != RollStep::Waiting);
            if is_news {
                let note = entry.note.as_ref().map(|note| format!(": {note}")).unwrap_or_default();
                text(&format!(
                    "{}  {} {}{note}\n",
                    moment(entry.since),
                    strong(&entry.server.to_string()),
                    entry.step
                ));
            }
        }
    }
}
