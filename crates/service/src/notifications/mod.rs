//! Messages to people: changes are gathered by the rules of the document, kept in the database, and delivered.
//!
//! One task owns it all. It works while the database is away: what is made then is delivered from memory. Of several nodes the one that leads delivers;
//! the others keep what changed for a moment, in case that one has just ended.

mod mail;
mod webhook;
mod webhook_client;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use merismos_api::{EventKind, SentMessage};
use merismos_core::config::document::{NotificationSpec, NotifiedChange};
use merismos_core::name::Name;
use merismos_core::notifications::{NotificationBatcher, ReportedChange};
use merismos_core::time::{Tick, Wall};
use merismos_probe::secret_ref::SecretCache;
use merismos_store::{Store, StoredMessage};
use serde_json::json;
use tokio::sync::{mpsc, watch};
use tokio::task::JoinSet;
use tokio::time::Instant;

use crate::clock::wall;
use crate::journal::Journal;
use crate::nodes::NodeWatch;

/// How many messages are kept in memory: those on their way, and the newest others.
const KEPT: usize = 500;
/// How often it is looked whether this node leads.
const LEADING_LOOKED_AT_EVERY: Duration = Duration::from_secs(1);
/// For how long a node that does not lead keeps what changed: longer than it takes until another node leads.
const HELD_FOR: Duration = Duration::from_secs(20);
/// How far apart two nodes may see one change.
const SEEN_WITHIN: Duration = Duration::from_secs(15);
/// How many changes may wait to be gathered.
const CHANGES: usize = 20_000;
/// How long one delivery may take.
const LIMIT: Duration = Duration::from_secs(10);
/// The first wait after a failure; each further one is twice as long.
const FIRST_WAIT: Duration = Duration::from_secs(1);
const LONGEST_WAIT: Duration = Duration::from_secs(300);
/// A message that could not be delivered for so long is given up.
const GIVE_UP: Duration = Duration::from_secs(24 * 3_600);

/// The messages of the document, by name.
pub(crate) type NotificationSpecs = BTreeMap<Name, NotificationSpec>;

/// A change that a notification may report.
#[derive(Debug)]
pub(crate) struct ChangeReport {
    pub(crate) change: NotifiedChange,
    pub(crate) report: ReportedChange,
}

/// The way to the messages.
#[derive(Clone, Debug)]
pub(crate) struct NotificationSender {
    changes: mpsc::Sender<ChangeReport>,
    wanted: Arc<watch::Sender<NotificationSpecs>>,
    kept: Arc<Mutex<BTreeMap<u64, StoredMessage>>>,
    secrets: Arc<SecretCache>,
}

/// The other end of [`Messages`], until it runs.
#[derive(Debug)]
pub(crate) struct NotificationReceiver {
    changes: mpsc::Receiver<ChangeReport>,
    wanted: watch::Receiver<NotificationSpecs>,
    kept: Arc<Mutex<BTreeMap<u64, StoredMessage>>>,
    secrets: Arc<SecretCache>,
}

/// Why a message could not be tried.
#[derive(Debug, thiserror::Error)]
#[error("there is no message {0} in the running configuration")]
pub(crate) struct UnknownNotification(pub(crate) Name);

impl NotificationSender {
    pub(crate) fn new(secrets: SecretCache) -> (Self, NotificationReceiver) {
        let (changes, changed) = mpsc::channel(CHANGES);
        let (wanted, wants) = watch::channel(NotificationSpecs::new());
        let kept = Arc::default();
        let secrets = Arc::new(secrets);
        let waiting = NotificationReceiver {
            changes: changed,
            wanted: wants,
            kept: Arc::clone(&kept),
            secrets: Arc::clone(&secrets),
        };
        (Self { changes, wanted: Arc::new(wanted), kept, secrets }, waiting)
    }

    /// Goes by the messages of this document from now on.
    pub(crate) fn set(&self, wanted: &NotificationSpecs) {
        self.wanted.send_if_modified(|now| {
            let differs = now != wanted;
            if differs {
                now.clone_from(wanted);
            }
            differs
        });
    }

    /// Something changed. Never waits: when far too much waits already, it is left out, and the log says so.
    pub(crate) fn changed(&self, changed: ChangeReport) {
        if self.wanted.borrow().is_empty() {
            return;
        }
        if self.changes.try_send(changed).is_err() {
            tracing::warn!("a change is not reported: {CHANGES} wait already");
        }
    }

    /// The newest messages, the newest first.
    pub(crate) fn sent(&self, limit: usize) -> Vec<SentMessage> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.values().rev().take(limit).map(shown).collect()
    }

    /// Delivers a message at once that only says that it is a try; gives what came of it by each way.
    pub(crate) async fn try_out(
        &self,
        name: &Name,
        who: &str,
    ) -> Result<Vec<SentMessage>, UnknownNotification> {
        let spec =
            self.wanted.borrow().get(name).cloned().ok_or_else(|| UnknownNotification(name.clone()))?;
        let says = format!("a try by {who}: nothing changed");
        let report = ReportedChange {
            at: wall(),
            pool: spec.pools.first().unwrap_or(name).clone(),
            subject: "this node".to_owned(),
            change: "try".to_owned(),
            message: says,
        };
        let mut tried = Vec::new();
        for via in ways(&spec) {
            // Mail servers throw away what has a number that they have seen.
            let number = u64::try_from(wall().0).unwrap_or(0);
            let mut message = made(number, name, via, std::slice::from_ref(&report), 0);
            let outcome = deliver(&spec, &message, &self.secrets).await;
            message.tries = 1;
            match outcome {
                Ok(()) => message.done = Some(wall()),
                Err(why) => message.why = Some(why),
            }
            message.next_try = None;
            tried.push(shown(&message));
        }
        Ok(tried)
    }
}

/// The ways that a message goes.
fn ways(spec: &NotificationSpec) -> impl Iterator<Item = &'static str> {
    let webhook = spec.webhook.as_ref().map(|_| "webhook");
    webhook.into_iter().chain(spec.mail.as_ref().map(|_| "mail"))
}

fn made(id: u64, name: &Name, via: &str, reports: &[ReportedChange], more: usize) -> StoredMessage {
    let body = json!({
        "notification": name,
        "at": wall(),
        "message": summary(reports, more),
        "changes": reports,
        "more_changes": more,
    });
    StoredMessage {
        id,
        name: name.to_string(),
        via: via.to_owned(),
        at: wall(),
        body,
        tries: 0,
        next_try: Some(wall()),
        done: None,
        why: None,
    }
}

/// A message in one line: one change as it is, more of them counted by pool and kind.
fn summary(reports: &[ReportedChange], more: usize) -> String {
    if let ([only], 0) = (reports, more) {
        return format!("{}: {}", only.subject, only.message);
    }
    let mut counts: BTreeMap<(&Name, &str), usize> = BTreeMap::new();
    for change in reports {
        *counts.entry((&change.pool, &change.change)).or_default() += 1;
    }
    let parts: Vec<String> = counts
        .into_iter()
        .map(|((pool, change), count)| match change {
            "empty" => format!("pool {pool}: no server is eligible"),
            "filled" => format!("pool {pool}: a server is eligible again"),
            _ => format!("pool {pool}: {count} {change}"),
        })
        .collect();
    let more = if more > 0 { format!("; and {more} changes more") } else { String::new() };
    parts.join("; ") + &more
}

/// A message as the API shows it.
pub(crate) fn shown(message: &StoredMessage) -> SentMessage {
    SentMessage {
        name: message.name.clone(),
        via: message.via.clone(),
        at: message.at,
        message: message.body["message"].as_str().unwrap_or_default().to_owned(),
        tries: message.tries,
        delivered: message.done,
        next_try: message.next_try,
        why: message.why.clone(),
    }
}

/// Whether a message's way is still in the configuration.
fn is_wanted(spec: Option<&NotificationSpec>, via: &str) -> bool {
    spec.is_some_and(|spec| ways(spec).any(|way| way == via))
}

async fn deliver(
    spec: &NotificationSpec,
    message: &StoredMessage,
    secrets: &SecretCache,
) -> Result<(), String> {
    match (message.via.as_str(), &spec.webhook, &spec.mail) {
        ("webhook", Some(webhook), _) => webhook::post(webhook, message, secrets, LIMIT).await,
        ("mail", _, Some(mail)) => mail::send(mail, message, secrets, LIMIT).await,
        _ => Err(NOT_WANTED.to_owned()),
    }
}

/// Why nothing is delivered any more.
const NOT_WANTED: &str = "it is not in the running configuration any more";

/// What the task owns.
struct NotificationTask {
    start: Instant,
    gatherers: BTreeMap<Name, NotificationBatcher>,
    wanted: NotificationSpecs,
    kept: Arc<Mutex<BTreeMap<u64, StoredMessage>>>,
    journal: Journal,
    secrets: Arc<SecretCache>,
    /// Ways on which a message is being delivered: one at a time each.
    busy: BTreeSet<(String, String)>,
    /// Whether this node delivers.
    leads: bool,
    /// What changed while another node delivered.
    held: VecDeque<ChangeReport>,
}

impl NotificationReceiver {
    /// Gathers and delivers for ever.
    pub(crate) async fn run(mut self, journal: Journal, store: Store, nodes: NodeWatch) {
        let (loaded, mut from_store) = mpsc::channel(1);
        let mut looks = tokio::time::interval(LEADING_LOOKED_AT_EVERY);
        looks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        let mut messenger = NotificationTask {
            start: Instant::now(),
            gatherers: BTreeMap::new(),
            wanted: NotificationSpecs::new(),
            kept: Arc::clone(&self.kept),
            journal,
            secrets: Arc::clone(&self.secrets),
            busy: BTreeSet::new(),
            leads: false,
            held: VecDeque::new(),
        };
        let mut deliveries = JoinSet::new();
        messenger.follow(self.wanted.borrow_and_update().clone());
        loop {
            messenger.begin_deliveries(&mut deliveries);
            let next = messenger.next_timeout();
            tokio::select! {
                changed = self.changes.recv() => match changed {
                    Some(changed) => messenger.on_change(changed),
                    None => return,
                },
                Ok(()) = self.wanted.changed() => messenger.follow(self.wanted.borrow_and_update().clone()),
                _ = looks.tick() => if messenger.look_who_leads(&nodes) {
                    tokio::spawn(load(store.clone(), loaded.clone()));
                },
                Some(messages) = from_store.recv() => messenger.add_known(messages),
                Some(delivered) = deliveries.join_next() => if let Ok((id, outcome)) = delivered {
                    messenger.on_delivered(id, outcome);
                },
                () = until(next) => messenger.gather(),
            }
        }
    }
}

async fn until(at: Option<Instant>) {
    match at {
        Some(at) => tokio::time::sleep_until(at).await,
        None => std::future::pending().await,
    }
}

/// Loads what an earlier run of the service left, as soon as the database is there.
async fn load(store: Store, loaded: mpsc::Sender<Vec<StoredMessage>>) {
    loop {
        match store.messages(u32::try_from(KEPT / 2).unwrap_or(u32::MAX)).await {
            Ok(messages) => return drop(loaded.send(messages).await),
            Err(_) => tokio::time::sleep(FIRST_WAIT).await,
        }
    }
}

impl NotificationTask {
    fn now(&self) -> Tick {
        Tick(u64::try_from(self.start.elapsed().as_nanos()).unwrap_or(u64::MAX))
    }

    fn kept(&self) -> std::sync::MutexGuard<'_, BTreeMap<u64, StoredMessage>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn follow(&mut self, wanted: NotificationSpecs) {
        self.gatherers.retain(|name, _| wanted.contains_key(name));
        for (name, spec) in &wanted {
            match self.gatherers.get_mut(name) {
                Some(gatherer) => gatherer.set(spec.clone()),
                None => drop(self.gatherers.insert(name.clone(), NotificationBatcher::new(spec.clone()))),
            }
        }
        self.wanted = wanted;
    }

    /// Gives whether this node delivers from now on, and has to know what another one left.
    fn look_who_leads(&mut self, nodes: &NodeWatch) -> bool {
        let leads = nodes.leads_or_is_cut_off();
        let begins = leads && !self.leads;
        self.leads = leads;
        if begins && !nodes.leads() {
            // The database is away, and so is what another one left.
            self.release();
        }
        begins
    }

    /// Takes up what changed lately and another node did not report.
    fn release(&mut self) {
        let now = wall();
        for held in std::mem::take(&mut self.held) {
            if now.since(held.report.at) < HELD_FOR && !self.is_reported(&held.report) {
                self.gather_change(&held);
            }
        }
    }

    /// Whether a message that is known reports a change, as another node saw it.
    fn is_reported(&self, report: &ReportedChange) -> bool {
        let (from, to) = (report.at.minus(SEEN_WITHIN), report.at.plus(SEEN_WITHIN));
        let is_same = |change: &serde_json::Value| {
            let at = serde_json::from_value::<Wall>(change["at"].clone()).ok();
            change["subject"] == report.subject.as_str()
                && change["change"] == report.change.as_str()
                && at.is_none_or(|at| from <= at && at <= to)
        };
        self.kept().values().any(|message| {
            message.body["changes"].as_array().is_some_and(|changes| changes.iter().any(is_same))
        })
    }

    fn on_change(&mut self, changed: ChangeReport) {
        if self.leads {
            self.gather_change(&changed);
            return;
        }
        let oldest = wall().minus(HELD_FOR);
        while self.held.front().is_some_and(|held| held.report.at < oldest) || self.held.len() >= CHANGES {
            self.held.pop_front();
        }
        self.held.push_back(changed);
    }

    fn gather_change(&mut self, changed: &ChangeReport) {
        let now = self.now();
        for gatherer in self.gatherers.values_mut() {
            gatherer.on_change(changed.change, changed.report.clone(), now);
        }
    }

    /// When something is due: a message to be made, or to be tried.
    fn next_timeout(&self) -> Option<Instant> {
        let gathered = self.gatherers.values().filter_map(NotificationBatcher::next_timeout).min();
        let gathered = gathered.map(|tick| self.start + Duration::from_nanos(tick.0));
        let now = wall();
        let kept = self.kept();
        let free =
            kept.values().filter(|message| !self.busy.contains(&(message.name.clone(), message.via.clone())));
        let tried = free.filter(|_| self.leads);
        let tried =
            tried.filter_map(|message| message.next_try).min().map(|at| Instant::now() + at.since(now));
        drop(kept);
        gathered.into_iter().chain(tried).min()
    }

    fn gather(&mut self) {
        let now = self.now();
        let mut fresh = Vec::new();
        for (name, gatherer) in &mut self.gatherers {
            if let Some((reports, more)) = gatherer.on_timeout(now) {
                let ways: Vec<&str> = ways(gatherer.spec()).collect();
                fresh.extend(ways.into_iter().map(|via| (name.clone(), via, reports.clone(), more)));
            }
        }
        for (name, via, reports, more) in fresh {
            self.keep(made(self.journal.number(), &name, via, &reports, more));
        }
    }

    /// Keeps a message as it is now, here and in the database. The oldest that is over makes room, or the oldest.
    fn keep(&mut self, message: StoredMessage) {
        self.journal.outbox().add_message(message.clone());
        let mut kept = self.kept();
        kept.insert(message.id, message);
        while kept.len() > KEPT {
            let over = kept.values().find(|message| message.next_try.is_none()).map(|message| message.id);
            let oldest = over.or_else(|| kept.keys().next().copied());
            let lost = oldest.and_then(|id| kept.remove(&id)).filter(|message| message.next_try.is_some());
            if let Some(lost) = lost {
                tracing::error!(
                    name = lost.name,
                    via = lost.via,
                    "a message is lost: {KEPT} are on their way"
                );
            }
        }
    }

    fn add_known(&mut self, messages: Vec<StoredMessage>) {
        let mut kept = self.kept();
        for message in messages.into_iter().take(KEPT) {
            // Another node may have tried it since it was known here.
            let known = kept.get(&message.id);
            if known.is_none_or(|known| known.tries <= message.tries && known.next_try.is_some()) {
                kept.insert(message.id, message);
            }
        }
        drop(kept);
        self.release();
    }

    fn begin_deliveries(&mut self, deliveries: &mut JoinSet<(u64, Result<(), String>)>) {
        if !self.leads {
            return;
        }
        let now = wall();
        let due: Vec<StoredMessage> = self
            .kept()
            .values()
            .filter(|message| message.next_try.is_some_and(|at| at <= now))
            .cloned()
            .collect();
        for message in due {
            if !self.busy.insert((message.name.clone(), message.via.clone())) {
                continue;
            }
            let spec = message.name.parse::<Name>().ok().and_then(|name| self.wanted.get(&name).cloned());
            let secrets = Arc::clone(&self.secrets);
            deliveries.spawn(async move {
                let outcome = match spec {
                    Some(spec) => deliver(&spec, &message, &secrets).await,
                    None => Err(NOT_WANTED.to_owned()),
                };
                (message.id, outcome)
            });
        }
    }

    fn on_delivered(&mut self, id: u64, outcome: Result<(), String>) {
        let Some(mut message) = self.kept().get(&id).cloned() else { return };
        self.busy.remove(&(message.name.clone(), message.via.clone()));
        let now = wall();
        message.tries += 1;
        match outcome {
            Ok(()) => {
                message.done = Some(now);
                message.next_try = None;
                message.why = None;
            }
            Err(why) => {
                let wait = FIRST_WAIT.saturating_mul(1 << (message.tries - 1).min(20)).min(LONGEST_WAIT);
                let spec = message.name.parse::<Name>().ok().and_then(|name| self.wanted.get(&name));
                let given_up = now.since(message.at) >= GIVE_UP || !is_wanted(spec, &message.via);
                let at = i64::try_from(wait.as_millis()).map_or(i64::MAX, |wait| now.0.saturating_add(wait));
                message.next_try = (!given_up).then_some(Wall(at));
                let (name, via) = (&message.name, &message.via);
                // Each hour would be too often, and once is not enough to be seen.
                if message.tries == 1 || given_up {
                    let what =
                        if given_up { "is given up" } else { "could not be delivered, and is tried again" };
                    let says = format!("a message by {via} {what}: {why}");
                    self.journal.write(
                        EventKind::Notification,
                        format!("message {name}"),
                        says,
                        json!({ "via": via }),
                    );
                }
                message.why = Some(why);
            }
        }
        self.keep(message);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn report(pool: &str, server: &str, change: &str) -> ReportedChange {
        ReportedChange {
            at: Wall(0),
            pool: pool.parse().unwrap(),
            subject: format!("{pool}/{server}"),
            change: change.to_owned(),
            message: format!("{change} after 3 s up: connection refused"),
        }
    }

    #[test]
    fn a_message_is_one_line() {
        let one = [report("quay", "gull", "down")];
        assert_eq!(summary(&one, 0), "quay/gull: down after 3 s up: connection refused");
        let rack =
            [report("quay", "gull", "down"), report("quay", "tern", "down"), report("pier", "auk", "up")];
        assert_eq!(summary(&rack, 0), "pool pier: 1 up; pool quay: 2 down");
        assert_eq!(summary(&rack, 7), "pool pier: 1 up; pool quay: 2 down; and 7 changes more");
        assert_eq!(
            summary(&[report("quay", "", "empty"), report("quay", "gull", "down")], 0),
            "pool quay: 1 down; pool quay: no server is eligible"
        );
    }
}
