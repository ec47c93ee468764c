//! Which rules no request has met for long: when the last one met each, over restarts and over all nodes that share the database.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use merismos_api::RuleCounts;
use merismos_core::time::Wall;
use merismos_store::{RuleUse, Store};

use crate::clock::wall;
use crate::controller::Controller;

/// How often uses are written, and those of other nodes read.
const NOTED_EVERY: Duration = Duration::from_secs(60);
/// A later use is written when it is so much later than the one that is known: what is asked is a matter of days.
const WRITTEN_STEP: i64 = 10 * 60 * 1_000;
/// How soon it is tried again while the database does not answer.
const AGAIN_AFTER: Duration = Duration::from_secs(5);
/// A rule is forgotten when it was not listed for so many rounds: another node may list it already, or still.
const FORGOTTEN_AFTER: u32 = 60;
/// A rule that no request has met for so many days is pointed out.
const UNMET_DAYS: i64 = 30;
const DAY_MILLIS: i64 = 24 * 60 * 60 * 1_000;

/// A rule by its frontend and its name.
pub(crate) type RuleOfFrontend = (String, String);

/// A rule, and when the last request met it since the start.
pub(crate) type LastMet = (RuleOfFrontend, Option<Wall>);

/// What is known of the uses of rules. A clone is the same.
#[derive(Clone, Debug, Default)]
pub(crate) struct RuleUses(Arc<Mutex<BTreeMap<RuleOfFrontend, RuleUse>>>);

impl RuleUses {
    /// Notes uses for as long as the service runs.
    pub(crate) async fn run(self, controller: Controller, store: Store) {
        let mut absent = BTreeMap::new();
        loop {
            let Ok(listed) = controller.rule_lasts().await else { return };
            let noted = self.note(listed, &store, &mut absent).await;
            // While the database is away nothing is lost: counts go on, and are written when it is back.
            tokio::time::sleep(if noted.is_ok() { NOTED_EVERY } else { AGAIN_AFTER }).await;
        }
    }

    async fn note(
        &self,
        listed: Vec<LastMet>,
        store: &Store,
        absent: &mut BTreeMap<RuleOfFrontend, u32>,
    ) -> Result<(), merismos_store::StoreError> {
        let stored: BTreeMap<RuleOfFrontend, RuleUse> = store
            .rule_uses()
            .await?
            .into_iter()
            .map(|one| ((one.frontend.clone(), one.rule.clone()), one))
            .collect();
        let (uses, changed) = merged(&stored, listed, wall());
        absent.retain(|rule, _| stored.contains_key(rule) && !uses.contains_key(rule));
        for rule in stored.keys().filter(|rule| !uses.contains_key(*rule)) {
            *absent.entry(rule.clone()).or_default() += 1;
        }
        let is_gone = |(_, rounds): &(&RuleOfFrontend, &u32)| **rounds >= FORGOTTEN_AFTER;
        let gone: Vec<RuleOfFrontend> = absent.iter().filter(is_gone).map(|(rule, _)| rule.clone()).collect();
        *self.lock() = uses;
        store.note_rule_uses(&changed).await?;
        store.forget_rule_uses(&gone).await
    }

    /// Adds what is known from before the start and of other nodes.
    pub(crate) fn complete(&self, counts: &mut RuleCounts) {
        let (known, now) = (self.lock(), wall());
        for rule in &mut counts.rules {
            let of_rule = known.get(&(counts.frontend.clone(), rule.name.clone()));
            rule.last = rule.last.max(of_rule.and_then(|known| known.last));
            let since = rule.last.or(of_rule.map(|known| known.listed));
            let days = since.map_or(0, |since| (now.0 - since.0) / DAY_MILLIS);
            rule.unmet_days = u64::try_from(days).ok().filter(|_| days >= UNMET_DAYS);
        }
    }

    fn lock(&self) -> MutexGuard<'_, BTreeMap<RuleOfFrontend, RuleUse>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The uses of all rules that are listed, and those that the database does not know so.
fn merged(
    stored: &BTreeMap<RuleOfFrontend, RuleUse>,
    listed: Vec<LastMet>,
    now: Wall,
) -> (BTreeMap<RuleOfFrontend, RuleUse>, Vec<RuleUse>) {
    let (mut uses, mut changed) = (BTreeMap::new(), Vec::new());
    for (key, last) in listed {
        let before = stored.get(&key);
        let one = RuleUse {
            frontend: key.0.clone(),
            rule: key.1.clone(),
            listed: before.map_or(now, |before| before.listed),
            last: last.max(before.and_then(|before| before.last)),
        };
        let is_written = before.is_some_and(|before| match (before.last, one.last) {
            (Some(before), Some(last)) => last.0 - before.0 < WRITTEN_STEP,
            (before, last) => before == last,
        });
        if !is_written {
            changed.push(one.clone());
        }
        uses.insert(key, one);
    }
    (uses, changed)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(rule: &str) -> RuleOfFrontend {
        ("site".to_owned(), rule.to_owned())
    }

    fn of(rule: &str, listed: i64, last: Option<i64>) -> RuleUse {
        RuleUse {
            frontend: "site".to_owned(),
            rule: rule.to_owned(),
            listed: Wall(listed),
            last: last.map(Wall),
        }
    }

    #[test]
    fn the_later_use_counts_and_only_what_changed_is_written() {
        let stored = [
            of("a", 1, Some(50)),
            of("b", 2, None),
            of("c", 1, Some(50)),
            of("d", 1, Some(50)),
            of("gone", 3, None),
        ];
        let stored = stored.into_iter().map(|one| (key(&one.rule), one)).collect();
        let (soon, later) = (Wall(49 + WRITTEN_STEP), Wall(50 + WRITTEN_STEP));
        let listed = vec![
            (key("a"), Some(Wall(40))),
            (key("b"), Some(Wall(60))),
            (key("c"), Some(soon)),
            (key("d"), Some(later)),
            (key("new"), None),
        ];
        let (uses, changed) = merged(&stored, listed, Wall(100));
        let all: Vec<RuleUse> = uses.into_values().collect();
        let (c, d) = (of("c", 1, Some(soon.0)), of("d", 1, Some(later.0)));
        assert_eq!(all, [of("a", 1, Some(50)), of("b", 2, Some(60)), c, d.clone(), of("new", 100, None)]);
        assert_eq!(changed, [of("b", 2, Some(60)), d, of("new", 100, None)]);
    }
}
