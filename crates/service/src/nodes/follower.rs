//! Following what other nodes write: revisions, duties, plans, tokens, the key of pins and those of session tickets.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use merismos_core::nodes::{DifferenceNews, NodeReport, differences};
use merismos_core::time::{Tick, Wall};
use merismos_store::{GONE_AFTER, SLOTS, Store, StoreError, StoredNode};
use serde_json::json;

use super::{NodeWatch, PinKeyKeeper, in_words, label, short};
use crate::access::Access;
use crate::addresses::AddressWatch;
use crate::announcements::AnnouncementWatch;
use crate::certificates::{CertificateKeeper, SealingKey};
use crate::clock::wall;
use crate::controller::{Controller, ServersReport, Stopping};
use crate::deploy::Deployer;
use crate::journal::{Journal, from_store};
use crate::troubles::{TroubleKind, Troubles};

/// How often the database is asked whether another node wrote something.
const LOOKS_EVERY: Duration = Duration::from_millis(400);
/// With many nodes each asks less often: up to twenty of them ask no more than twenty times a second together.
const LOOK_SHARE: Duration = Duration::from_millis(50);
/// No node asks less often than this.
const LOOKS_AT_LEAST: Duration = Duration::from_secs(1);
/// How often this node says that it is there: so that two may be lost before it is taken to be gone.
const SIGN_EVERY: Duration = Duration::from_millis(GONE_AFTER.as_millis() as u64 / 3);
/// How often everything is looked at, whether a node said that it wrote something or not: one that crashes in between does not say so.
const LOOKS_AT_ALL_EVERY: Duration = Duration::from_secs(30);
/// How many events of other nodes are relayed with each look.
const RELAYED_AT_ONCE: u32 = 200;
/// The work that one node has to do.
pub(super) const LEADING: &str = "lead";
/// For how long a node leads without taking the lease anew.
const LEASE: Duration = Duration::from_secs(6);
/// How often the node that leads takes the lease anew, and others try to get it when it is free.
const LEASE_EVERY: Duration = Duration::from_secs(2);

/// Looks at the other nodes, says that this one is there, and follows what the others wrote.
pub(crate) struct NodeFollower {
    pub(crate) store: Store,
    pub(crate) watch: NodeWatch,
    pub(crate) addresses: AddressWatch,
    pub(crate) announcements: AnnouncementWatch,
    pub(crate) controller: Controller,
    pub(crate) deployer: Arc<Deployer>,
    pub(crate) access: Access,
    pub(crate) pin_key: PinKeyKeeper,
    pub(crate) certificates: CertificateKeeper,
    pub(crate) sealing: Arc<SealingKey>,
    pub(crate) journal: Journal,
    pub(crate) troubles: Troubles,
    /// What this node said of itself last.
    pub(crate) report: NodeReport,
}

/// What is known from look to look.
#[derive(Default)]
struct Progress {
    /// What each node had written when it was followed last.
    changes: BTreeMap<[u8; 16], u64>,
    looked_at_all: Option<Instant>,
    said: Option<Instant>,
    lease_tried: Option<Instant>,
    /// Nodes that are known to be gone.
    gone: BTreeSet<[u8; 16]>,
    led: bool,
    /// The database did not answer when it was asked last.
    was_away: bool,
    /// Since when it answers again, where it did not.
    back: Option<Instant>,
    has_looked: bool,
    /// Number of the newest event of another node that was relayed.
    relayed: u64,
}

impl NodeFollower {
    /// Looks at the nodes for the first time, before anything is done that one node has to do; gives this node's slot among them. When the database
    /// does not answer, this node takes itself to be alone, with a slot by its identity.
    pub(crate) async fn meet(store: &Store, watch: &NodeWatch, report: &NodeReport) -> u8 {
        let slot = match store.join(watch.name().as_str(), report).await {
            Ok(slot) => slot,
            Err(error) => {
                tracing::warn!(%error, "the other nodes are not known yet");
                return watch.own.id[0] % SLOTS;
            }
        };
        if let Ok((nodes, leader)) = store.nodes(LEADING).await {
            let mut seen = watch.seen();
            (seen.nodes, seen.leader, seen.at) = (nodes, leader, Some(Instant::now()));
        }
        slot
    }

    /// Follows the other nodes for as long as the service runs.
    pub(crate) async fn run(mut self) {
        let mut progress = Progress::default();
        loop {
            match self.turn(&mut progress).await {
                Ok(Ok(())) => self.note_database(Ok(())),
                Ok(Err(error)) => {
                    progress.was_away = true;
                    self.note_database(Err(error));
                }
                // Nothing is followed while the service is about to stop or to be taken over from. It still says that it is there, and a take-over that
                // fails has it go on.
                Err(Stopping) => {}
            }
            let share = LOOK_SHARE * u32::try_from(self.watch.count()).unwrap_or(u32::MAX);
            tokio::time::sleep(share.clamp(LOOKS_EVERY, LOOKS_AT_LEAST)).await;
        }
    }

    async fn turn(&mut self, progress: &mut Progress) -> Result<Result<(), StoreError>, Stopping> {
        let running = self.controller.running_number();
        let is_due = |last: Option<Instant>, every: Duration| last.is_none_or(|last| last.elapsed() >= every);
        let ServersReport { down, out } = self.controller.servers_report().await?;
        let (addresses, announcements) = (self.addresses.report(), self.announcements.reports());
        let report = NodeReport {
            at: wall(),
            revision: running,
            out,
            addresses,
            announcements,
            ..self.report.clone()
        }
        .with_down(down);
        // Other nodes wait for some of it, so it is reported at once.
        let is_news = NodeReport { at: report.at, ..self.report.clone() } != report;
        if is_due(progress.said, SIGN_EVERY) || is_news {
            if let Err(error) = self.store.sign_of_life(self.watch.name().as_str(), &report).await {
                return Ok(Err(error));
            }
            (progress.said, self.report) = (Some(Instant::now()), report);
        }
        let (mut nodes, leader) = match self.store.nodes(LEADING).await {
            Ok(seen) => seen,
            Err(error) => return Ok(Err(error)),
        };
        if std::mem::take(&mut progress.was_away) {
            progress.back = Some(Instant::now());
        }
        if let Some(back) = progress.back {
            no_sign_before(&mut nodes, back.elapsed());
        }
        self.note_nodes(progress, &nodes, running);
        if let Err(error) = self.lead(progress, leader).await {
            return Ok(Err(error));
        }
        let news: Vec<_> = nodes
            .iter()
            .filter(|node| !self.watch.is_own(node) && progress.changes.get(&node.id) != Some(&node.changes))
            .map(|node| (node.id, node.changes))
            .collect();
        if !news.is_empty() || is_due(progress.looked_at_all, LOOKS_AT_ALL_EVERY) {
            if let Err(error) = self.follow().await? {
                return Ok(Err(error));
            }
            progress.changes.extend(news);
            progress.looked_at_all = Some(Instant::now());
        }
        Ok(self.relay_events(progress).await)
    }

    /// Has those who watch this node's events get the other nodes' too.
    async fn relay_events(&self, progress: &mut Progress) -> Result<(), StoreError> {
        if self.watch.count() < 2 || !self.journal.is_watched() {
            // Those that are older than a watcher are not news.
            progress.relayed = self.journal.number_at(wall());
            return Ok(());
        }
        let own = self.watch.name().as_str();
        for event in self.store.events_of_others(own, progress.relayed, RELAYED_AT_ONCE).await? {
            progress.relayed = event.id;
            self.journal.relay(from_store(event));
        }
        Ok(())
    }

    /// Takes over what the database has and this node does not.
    async fn follow(&mut self) -> Result<Result<(), StoreError>, Stopping> {
        let followed = async {
            self.store.forget_long_gone_nodes().await?;
            self.access.join(&self.store.tokens().await?);
            let (orders, plans) = (self.store.duties().await?, self.store.plans().await?);
            let newest = self.store.latest_revision_number().await?;
            Ok((orders, plans, newest))
        };
        let (orders, plans, newest) = match followed.await {
            Ok(followed) => followed,
            Err(error) => return Ok(Err(error)),
        };
        self.controller.adopt_orders(orders).await?;
        self.controller.adopt_plans(plans).await?;
        if newest > self.controller.running_number() {
            match self.store.latest_revision().await {
                Ok(Some(revision)) => self.run_revision(revision).await?,
                Ok(None) => {}
                Err(error) => return Ok(Err(error)),
            }
        }
        let followed =
            self.pin_key.follow(&self.store, &self.controller, &self.journal, &self.troubles).await;
        if let Err(error) = followed {
            return Ok(Err(error));
        }
        Ok(self.certificates.follow_tickets(&self.store, &self.sealing).await)
    }

    async fn run_revision(&mut self, revision: merismos_store::Revision) -> Result<(), Stopping> {
        let number = revision.number;
        match self.deployer.adopt(revision).await {
            Ok(()) => {
                self.report.trouble = None;
                self.troubles.clear(TroubleKind::Unfollowed);
            }
            Err(crate::deploy::AdoptError::Stopping(stopping)) => return Err(stopping),
            Err(error) => {
                let says = format!("revision {number}, which another node made, does not run here: {error}");
                if self.troubles.set(TroubleKind::Unfollowed, says.clone()) {
                    self.journal.here(says, json!({ "revision": number }));
                }
                self.report.trouble = Some(error.to_string());
            }
        }
        Ok(())
    }

    /// Notes who is there, and says who has gone and come.
    fn note_nodes(&self, progress: &mut Progress, nodes: &[StoredNode], running: u64) {
        let now = Instant::now();
        let views = nodes.iter().filter(|node| node.is_alive());
        let views = views.filter_map(|node| Some((node.name.as_str(), node.report.as_ref()?)));
        let differing = differences(running, views);
        let behind = |node: &&StoredNode| {
            let revision = node.report.as_ref().map(|report| report.revision);
            !self.watch.is_own(node) && revision.is_some_and(|revision| revision < running)
        };
        let behind: BTreeSet<[u8; 16]> = nodes.iter().filter(behind).map(|node| node.id).collect();
        let news = {
            let mut seen = self.watch.seen();
            seen.behind.retain(|(id, _)| behind.contains(id));
            for id in behind {
                if seen.behind.iter().all(|(known, _)| *known != id) {
                    seen.behind.push((id, now));
                }
            }
            (seen.nodes, seen.at) = (nodes.to_vec(), Some(now));
            seen.lasting.follow(&differing, tick(wall()))
        };
        self.watch.note_differences(differing);
        // One of them is enough to write down what all of them see.
        let writes = self.watch.leads();
        for item in news.iter().filter(|_| writes) {
            match item {
                DifferenceNews::Lasts(found) => {
                    self.journal.here(in_words(found), json!({ "server": found.server }));
                }
                DifferenceNews::Over(server) => self
                    .journal
                    .here(format!("all nodes see {server} alike again"), json!({ "server": server })),
            }
        }
        for node in nodes.iter().filter(|node| !self.watch.is_own(node)) {
            if node.is_alive() {
                if progress.gone.remove(&node.id) && writes {
                    self.journal
                        .here(format!("{} is there again", label(node)), json!({ "node": short(node.id) }));
                }
            } else if progress.gone.insert(node.id) && progress.has_looked && writes {
                let says = format!("{} is gone: no sign of life for {} s", label(node), node.seen.as_secs());
                self.journal.here(says, json!({ "node": short(node.id) }));
            }
        }
        progress.has_looked = true;
    }

    /// Sees to it that one node leads.
    async fn lead(&self, progress: &mut Progress, leader: Option<[u8; 16]>) -> Result<(), StoreError> {
        if self.watch.seen().has_stepped_down {
            return Ok(());
        }
        let own = self.watch.own.id;
        let is_due = progress.lease_tried.is_none_or(|last| last.elapsed() >= LEASE_EVERY);
        let mut leader = leader;
        if is_due && leader.is_none_or(|leader| leader == own) {
            // By its own clock it leads a little shorter than by the database's.
            let begin = Instant::now();
            progress.lease_tried = Some(begin);
            let has_it = self.store.take_lease(LEADING, own, LEASE).await?;
            self.watch.seen().lease = has_it.then_some(begin + LEASE);
            leader = has_it.then_some(own).or(leader.filter(|leader| *leader != own));
        }
        self.watch.seen().leader = leader;
        let leads = leader == Some(own);
        if leads && !progress.led && self.watch.count() > 1 {
            let says = "leads now: windows, rolls and messages to people are its work";
            self.journal.here(says, json!({}));
        }
        progress.led = leads;
        Ok(())
    }

    /// Says at once when the database does not answer, and when it does again: the first change should not be what finds it out.
    fn note_database(&self, answer: Result<(), StoreError>) {
        self.watch.seen().is_away = answer.is_err();
        match answer {
            Ok(()) => {
                if self.troubles.clear(TroubleKind::DatabaseAway) {
                    self.journal.here("the database answers again", json!({}));
                }
            }
            Err(error) => {
                let others = match self.watch.count() - 1 {
                    0 => String::new(),
                    1 => ". The other node goes on for itself: what is ordered there is not known here"
                        .to_owned(),
                    many => format!(
                        ". The {many} other nodes go on for themselves: what is ordered there is not known here"
                    ),
                };
                let says = format!(
                    "{error}. Traffic, checks and duties go on; nothing else can be changed until it is back{others}"
                );
                if self.troubles.set(TroubleKind::DatabaseAway, says.clone()) {
                    self.journal.here(says, json!({}));
                }
            }
        }
    }
}

/// While the database was away no node could give a sign of life: that is not held against it.
fn no_sign_before(nodes: &mut [StoredNode], back_for: Duration) {
    for node in nodes {
        node.seen = node.seen.min(back_for);
    }
}

fn tick(at: Wall) -> Tick {
    Tick(u64::try_from(at.0).unwrap_or(0).saturating_mul(1_000_000))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_node_is_not_gone_because_the_database_was_away() {
        let seen = |seconds: u64| StoredNode {
            id: [7; 16],
            name: "south".to_owned(),
            changes: 5,
            seen: Duration::from_secs(seconds),
            report: None,
        };
        let mut nodes = [seen(70), seen(2)];
        assert!(!nodes[0].is_alive());
        no_sign_before(&mut nodes, Duration::from_secs(3));
        assert_eq!(
            nodes.each_ref().map(|node| (node.seen.as_secs(), node.is_alive())),
            [(3, true), (2, true)]
        );
        let mut nodes = [seen(70)];
        no_sign_before(&mut nodes, Duration::from_secs(11));
        assert!(!nodes[0].is_alive(), "it had time to give one since");
    }
}
