//! What goes otherwise than it is meant to, although traffic flows: work that another tier or pool does, and frontends many of
//! whose clients get no good answer. Each is an event and a message when it begins and when it is over.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Instant;

use merismos_api::EventKind;
use merismos_core::config::document::{Document, Failback, NotifiedChange};
use merismos_core::name::Name;
use merismos_core::notifications::ReportedChange;
use merismos_core::routing::{CurrentRouting, Frontend, Pool, Snapshot};
use merismos_core::runtime::FrontendCounts;
use serde_json::json;

use super::rates::MINUTE;
use super::state::ControllerState;
use crate::clock::wall;
use crate::notifications::ChangeReport;

/// How many failures a minute it takes at least: one failed request of two is no outage.
const LEAST_FAILURES: u64 = 5;

/// What was reported of it.
#[derive(Debug, Default)]
pub(super) struct ReportedMoves {
    /// Where the work of each frontend goes, by the number of its cell, from when on it first went where it is meant to.
    frontends: BTreeMap<u32, CurrentRouting>,
    /// Which tier of each pool works, from when on its first one did.
    tiers: BTreeMap<Name, u8>,
    /// Frontends that fail their clients, by the numbers of their cells.
    failing: BTreeSet<u32>,
}

impl ReportedMoves {
    pub(super) fn is_failing(&self, frontend: &Frontend) -> bool {
        self.failing.contains(&frontend.cell.id)
    }
}

/// How many of a frontend's requests of a minute had no good answer.
fn failures(minute: &FrontendCounts) -> u64 {
    minute.errors + minute.unavailable + minute.unanswered
}

/// Whether so many failed that it has to be reported; `share` is the frontend's bound in percent, 0 for none.
fn is_much(minute: &FrontendCounts, share: u8) -> bool {
    let failures = failures(minute);
    share > 0 && failures >= LEAST_FAILURES && failures * 100 >= minute.requests * u64::from(share)
}

/// What a frontend's clients got in a minute in which some got no good answer.
pub(super) fn failing_words(minute: &FrontendCounts, unit: &str) -> String {
    let parts = [
        (minute.errors, "answered 5xx by servers"),
        (minute.unavailable, "for which no server was eligible or had room"),
        (minute.unanswered, "that no server answered properly"),
    ];
    let parts = parts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}"));
    let parts: Vec<String> = parts.collect();
    let (failures, requests) = (failures(minute), minute.requests);
    format!("{failures} of {requests} {unit}s of the last minute failed: {}", parts.join(", "))
}

/// Where a frontend's work goes, where it is not where it is meant to.
pub(super) fn moved_words(frontend: &Frontend) -> Option<String> {
    let unusable = |until: Option<&Name>| {
        let pools = frontend.choice.iter().flat_map(|choice| &choice.pools);
        let pools = pools.take_while(|pool| Some(&pool.name) != until).filter(|pool| !pool.usable);
        let state = |pool: &Arc<Pool>| {
            format!("{}: {} of {} servers eligible", pool.name, pool.eligible(), pool.servers.len())
        };
        pools.map(state).collect::<Vec<_>>().join("; ")
    };
    match frontend.goes() {
        CurrentRouting::AsMeant | CurrentRouting::Nowhere => None,
        CurrentRouting::To(pool) => {
            let before = unusable(Some(&pool));
            Some(format!("its work goes to pool {pool}, for those before it are not usable ({before})"))
        }
        CurrentRouting::ToLastResort(pool) => Some(format!(
            "all its work goes to the last resort, pool {pool}, for no other is usable ({})",
            unusable(None)
        )),
        CurrentRouting::Without(_) => {
            Some(format!("its work goes to its other pools, for some are not usable ({})", unusable(None)))
        }
    }
}

/// Which tier of a pool works, where it is not its first.
pub(super) fn tier_words(pool: &Pool, is_held: bool) -> Option<String> {
    let (first, works) = (pool.tiers.0, pool.tiers.1?);
    let held = if is_held { "; a lower one could, and work does not go back by itself" } else { "" };
    (works > first).then(|| format!("pool {}: tier {works} works, and not tier {first}{held}", pool.name))
}

impl ControllerState {
    /// Tells of work that goes elsewhere from now on, or goes where it is meant to again.
    pub(super) fn tell_of_moves(&mut self, after: &Snapshot, document: &Document) {
        for frontend in after.frontends() {
            self.tell_of_frontend(frontend);
        }
        for pool in &after.pools {
            let (first, Some(works)) = pool.tiers else { continue };
            let Some(before) = self.reports.moves.tiers.get(&pool.name).copied() else {
                if works == first {
                    self.reports.moves.tiers.insert(pool.name.clone(), works);
                }
                continue;
            };
            if before == works {
                continue;
            }
            self.reports.moves.tiers.insert(pool.name.clone(), works);
            let says = format!("tier {works} works now, after tier {before}");
            // Where work is bound to a tier, the event was written when that was decided.
            if document.pools.get(&pool.name).is_some_and(|pool| pool.failback == Failback::Automatic) {
                let detail = json!({ "from": before, "to": works, "failback": Failback::Automatic });
                self.reports.journal.write(EventKind::Tier, pool.name.to_string(), says.clone(), detail);
            }
            let change = if works == first { NotifiedChange::MovedBack } else { NotifiedChange::Moved };
            self.tell_change(change, &pool.name, format!("pool {}", pool.name), says);
        }
        self.reports.moves.tiers.retain(|name, _| document.pools.contains_key(name));
    }

    fn tell_of_frontend(&mut self, frontend: &Frontend) {
        let (goes, id) = (frontend.goes(), frontend.cell.id);
        let known = self.reports.moves.frontends.get(&id);
        // Until its pools have been proven for the first time, it is no news where its work goes.
        let is_news = known.is_some_and(|before| *before != goes);
        if known.is_some() || goes == CurrentRouting::AsMeant {
            self.reports.moves.frontends.insert(id, goes.clone());
        }
        if !is_news {
            return;
        }
        let (change, says) = match &goes {
            CurrentRouting::AsMeant => {
                (NotifiedChange::MovedBack, "its work goes where it is meant to again".to_owned())
            }
            CurrentRouting::Nowhere => {
                (NotifiedChange::Moved, "its work goes nowhere: none of its pools is usable".to_owned())
            }
            CurrentRouting::To(_) | CurrentRouting::ToLastResort(_) | CurrentRouting::Without(_) => {
                (NotifiedChange::Moved, moved_words(frontend).unwrap_or_default())
            }
        };
        let subject = format!("frontend {}", frontend.name);
        self.reports.journal.write(
            EventKind::Traffic,
            subject.clone(),
            says.clone(),
            json!({ "change": change }),
        );
        self.tell_change(change, &frontend.pool.name, subject, says);
    }

    /// Tells of frontends that fail many of their clients, and of those that do so no more.
    pub(super) fn tell_of_failures(&mut self, now: Instant) {
        let (snapshot, document) = (self.publisher.plane.snapshot(), self.document());
        let mut failing = BTreeSet::new();
        for frontend in snapshot.frontends() {
            let share = document.frontends.get(&frontend.name).map_or(0, |frontend| frontend.failing_share);
            let counts = frontend.cell.counts();
            let minute = self.totals.rates.frontend(frontend.cell.id, &counts, MINUTE, now).by;
            let (was, id) = (self.reports.moves.is_failing(frontend), frontend.cell.id);
            // It is over when only half as many fail, so that it is not reported again and again around the bound.
            let is = if was { is_much(&minute, share.div_ceil(2)) } else { is_much(&minute, share) };
            if is {
                failing.insert(id);
            }
            let (change, says) = match (was, is) {
                (false, true) => {
                    (NotifiedChange::Failing, failing_words(&minute, &frontend.balance_per.to_string()))
                }
                (true, false) => {
                    (NotifiedChange::Answering, "its clients are answered well again".to_owned())
                }
                (true, true) | (false, false) => continue,
            };
            let subject = format!("frontend {}", frontend.name);
            let detail = json!({
                "change": change, "requests": minute.requests, "errors": minute.errors,
                "unavailable": minute.unavailable, "unanswered": minute.unanswered,
            });
            self.reports.journal.write(EventKind::Traffic, subject.clone(), says.clone(), detail);
            self.tell_change(change, &frontend.pool.name, subject, says);
        }
        self.reports.moves.failing = failing;
    }

    pub(super) fn tell_change(&self, change: NotifiedChange, pool: &Name, subject: String, says: String) {
        let report = ReportedChange {
            at: wall(),
            pool: pool.clone(),
            subject,
            change: change.to_string(),
            message: says,
        };
        self.reports.messages.changed(ChangeReport { change, report });
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::too_few(4, 4, 10, false)]
    #[case::a_tenth(10, 100, 10, true)]
    #[case::less_than_a_tenth(9, 100, 10, false)]
    #[case::nothing_is_told(100, 100, 0, false)]
    fn how_many_failures_are_told(
        #[case] errors: u64,
        #[case] requests: u64,
        #[case] share: u8,
        #[case] is_reported: bool,
    ) {
        let minute = FrontendCounts { requests, errors, ..FrontendCounts::default() };
        assert_eq!(is_much(&minute, share), is_reported);
    }
}
