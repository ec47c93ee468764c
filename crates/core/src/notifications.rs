//! What is reported to people: changes gathered into messages, so that a rack that goes down is one of them.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::config::document::{NotificationSpec, NotifiedChange};
use crate::name::Name;
use crate::time::{Tick, Wall};

/// One change that a message tells of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReportedChange {
    /// When the change happened.
    pub at: Wall,
    /// Name of the pool that it happened in.
    pub pool: Name,
    /// The server, as `pool/server`, or the pool for what is of all of it.
    pub subject: String,
    /// What: the name of a [`NotifiedChange`].
    pub change: String,
    /// The change in words, with its evidence.
    pub message: String,
}

/// How many changes one message tells one by one; the rest are counted.
pub const MOST_TOLD: usize = 200;

#[derive(Clone, Debug)]
struct PendingChange {
    change: NotifiedChange,
    ripe: Tick,
    report: ReportedChange,
}

/// The changes that one message of the document waits to tell. A state machine: it is handed its time.
#[derive(Clone, Debug)]
pub struct NotificationBatcher {
    spec: NotificationSpec,
    waiting: Vec<PendingChange>,
    more: usize,
    /// The change of each subject that was reported last, where another change undoes it.
    open: BTreeMap<String, NotifiedChange>,
    /// No message is due before this.
    not_before: Tick,
}

impl NotificationBatcher {
    /// Nothing was reported yet.
    #[must_use]
    pub fn new(spec: NotificationSpec) -> Self {
        Self { spec, waiting: Vec::new(), more: 0, open: BTreeMap::new(), not_before: Tick(0) }
    }

    /// What it goes by.
    #[must_use]
    pub fn spec(&self) -> &NotificationSpec {
        &self.spec
    }

    /// Goes by other rules from now on; what waits goes on waiting.
    pub fn set(&mut self, spec: NotificationSpec) {
        self.spec = spec;
    }

    /// Takes in a change. It is reported when it has lasted for `min_duration`, with others of the same batch window.
    pub fn on_change(&mut self, change: NotifiedChange, report: ReportedChange, now: Tick) {
        if !self.spec.pools.is_empty() && !self.spec.pools.contains(&report.pool) {
            return;
        }
        // A change that is undone before it was reported is not reported, and neither is its end.
        let before = self.waiting.len();
        let undoes = |pending: &PendingChange| {
            pending.report.subject == report.subject && pending.change.undone_by() == Some(change)
        };
        let was_ripe = self.waiting.iter().any(|pending| undoes(pending) && pending.ripe <= now);
        if !was_ripe {
            self.waiting.retain(|pending| !undoes(pending));
        }
        let undone = self.waiting.len() < before;
        let of_open = self.open.get(&report.subject).is_some_and(|open| open.undone_by() == Some(change));
        if undone && !of_open {
            return;
        }
        if of_open {
            self.open.remove(&report.subject);
        }
        if !self.spec.changes.contains(&change) {
            return;
        }
        if self.waiting.len() >= MOST_TOLD {
            self.more += 1;
            return;
        }
        let lasting =
            if change.undone_by().is_some() { self.spec.min_duration.map(|span| span.get()) } else { None };
        let ripe = now.plus(lasting.unwrap_or(Duration::ZERO));
        self.waiting.push(PendingChange { change, ripe, report });
    }

    /// When a message is due; `None` while nothing waits.
    #[must_use]
    pub fn next_timeout(&self) -> Option<Tick> {
        let first = self.waiting.iter().map(|pending| pending.ripe).min()?;
        Some(first.plus(self.spec.batch_window.get()).max(self.not_before))
    }

    /// The time has come: gives what the message tells, in the order of time, and how many changes more there were.
    pub fn on_timeout(&mut self, now: Tick) -> Option<(Vec<ReportedChange>, usize)> {
        if self.next_timeout().is_none_or(|due| now < due) {
            return None;
        }
        let (ripe, rest): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.waiting).into_iter().partition(|pending| pending.ripe <= now);
        self.waiting = rest;
        for change in &ripe {
            match change.change.undone_by() {
                Some(_) => drop(self.open.insert(change.report.subject.clone(), change.change)),
                None => drop(self.open.remove(&change.report.subject)),
            }
        }
        self.not_before = now.plus(self.spec.min_interval.get());
        let reports = ripe.into_iter().map(|pending| pending.report).collect();
        Some((reports, std::mem::take(&mut self.more)))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn gatherer(keys: &str) -> NotificationBatcher {
        let text = format!(
            "format = 3\n[pools.quay]\n[pools.pier]\n[notifications.watch]\nwebhook = \"http://192.0.2.9/\"\n{keys}\n"
        );
        let checked = crate::config::load(&text, crate::config::DocumentFormat::Toml).unwrap();
        NotificationBatcher::new(checked.document().notifications.values().next().unwrap().clone())
    }

    /// Feeds changes at seconds and gives at which tenth of a second which messages came, as `time: subject change`.
    fn run(keys: &str, changes: &[(u64, &str, NotifiedChange)]) -> Vec<String> {
        let mut gatherer = gatherer(keys);
        let (mut sent, mut changes) = (Vec::new(), changes.iter().peekable());
        for tenth in 0..3_000 {
            let now = Tick(0).plus(Duration::from_millis(tenth * 100));
            while let Some((_, subject, change)) = changes.next_if(|(at, ..)| at * 10 <= tenth) {
                let report = ReportedChange {
                    at: Wall(0),
                    pool: subject.split('/').next().unwrap().parse().unwrap(),
                    subject: (*subject).to_owned(),
                    change: change.to_string(),
                    message: String::new(),
                };
                gatherer.on_change(*change, report, now);
            }
            if let Some((reports, more)) = gatherer.on_timeout(now) {
                let texts: Vec<_> =
                    reports.iter().map(|change| format!("{} {}", change.subject, change.change)).collect();
                let more = if more > 0 { format!(" and {more}") } else { String::new() };
                sent.push(format!("{}: {}{more}", tenth / 10, texts.join(", ")));
            }
        }
        assert_eq!(gatherer.next_timeout(), None);
        sent
    }

    const DOWN: NotifiedChange = NotifiedChange::Down;
    const UP: NotifiedChange = NotifiedChange::Up;

    #[rstest]
    #[case::a_rack_is_one_message("", &[(1, "quay/a", DOWN), (2, "quay/b", DOWN), (3, "pier/c", DOWN)],
        &["6: quay/a down, quay/b down, pier/c down"])]
    #[case::only_its_pools("pools = [\"pier\"]", &[(1, "quay/a", DOWN), (2, "pier/c", DOWN)], &["7: pier/c down"])]
    #[case::only_its_changes("changes = [\"down\"]", &[(1, "quay/a", DOWN), (20, "quay/a", UP)], &["6: quay/a down"])]
    #[case::not_too_often("min_interval = \"60s\"", &[(1, "quay/a", DOWN), (10, "quay/a", UP), (30, "quay/b", DOWN)],
        &["6: quay/a down", "66: quay/a up, quay/b down"])]
    #[case::what_did_not_last("min_duration = \"30s\"", &[(1, "quay/a", DOWN), (20, "quay/a", UP)], &[])]
    #[case::what_lasted("min_duration = \"30s\"", &[(1, "quay/a", DOWN), (40, "quay/a", UP)],
        &["36: quay/a down", "96: quay/a up"])]
    #[case::down_again_before_the_end_was_told("min_duration = \"30s\"",
        &[(1, "quay/a", DOWN), (40, "quay/a", UP), (50, "quay/a", DOWN), (60, "quay/a", UP)],
        &["36: quay/a down", "96: quay/a up"])]
    #[case::an_up_that_nobody_waits_for("", &[(1, "quay/a", UP)], &["6: quay/a up"])]
    #[case::a_pool_without_servers("", &[(1, "quay", NotifiedChange::Empty), (1, "quay/a", DOWN)],
        &["6: quay empty, quay/a down"])]
    fn messages(#[case] keys: &str, #[case] changes: &[(u64, &str, NotifiedChange)], #[case] sent: &[&str]) {
        assert_eq!(run(keys, changes), sent);
    }

    #[test]
    fn a_very_large_failure_is_one_message_of_bounded_size() {
        let names: Vec<String> = (0..1_000).map(|number| format!("quay/s{number}")).collect();
        let changes: Vec<_> = names.iter().map(|name| (1, name.as_str(), DOWN)).collect();
        let sent = run("", &changes);
        assert_eq!(sent.len(), 1);
        assert!(sent[0].ends_with(" and 800"), "{}", &sent[0][sent[0].len() - 20..]);
    }
}
