//! The nodes that share the database: who is there, and which of them does the work that one has to do.
//!
//! Each node looks at the others about twice a second, with one cheap query, and follows what they wrote. One of them leads: it opens windows,
//! goes on with rolls and delivers messages. It holds a lease in the database, which another node takes when it ends.

mod follower;
mod pin_key;
mod turns;

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use merismos_api::{NodeView, Nodes};
use merismos_core::announcement::AnnouncementReport;
use merismos_core::name::{Name, PoolServer};
use merismos_core::nodes::{LastingDifferences, LeavingElsewhere, NodeReport, ViewDifference};
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_core::vrrp::{AddressReport, Stance};
use merismos_store::{Store, StoredNode};

pub(crate) use follower::NodeFollower;
pub(crate) use pin_key::{PinKeyError, PinKeyKeeper};
pub(crate) use turns::take_turn;

/// How long what a node runs may be older than what runs here before that is a headline: a sign of life is a few seconds old.
const LAGS_AFTER: Duration = Duration::from_secs(8);
/// How many servers that nodes see differently are headlines.
const SHOWN_DIFFERENCES: usize = 5;

/// What this node is.
#[derive(Clone, Debug)]
pub(crate) struct NodeIdentity {
    /// What its state folder keeps.
    pub(crate) id: [u8; 16],
    /// What people call it.
    pub(crate) name: Name,
}

/// The first digits of an identity, to distinguish nodes by.
pub(crate) fn short(id: [u8; 16]) -> String {
    id.iter().take(3).map(|byte| format!("{byte:02x}")).collect()
}

/// What a node is called in events and lists of this node.
fn label(node: &StoredNode) -> String {
    if node.name.is_empty() { format!("node ({})", short(node.id)) } else { format!("node {}", node.name) }
}

/// What this node knows of those that share its database.
#[derive(Clone, Debug)]
pub(crate) struct NodeWatch {
    own: NodeIdentity,
    /// Held for a look or a change only.
    seen: Arc<Mutex<SeenNodes>>,
}

#[derive(Debug, Default)]
struct SeenNodes {
    /// All that the database knows, this one too.
    nodes: Vec<StoredNode>,
    /// When they were seen so.
    at: Option<Instant>,
    /// The one that leads.
    leader: Option<[u8; 16]>,
    /// Until when this one leads, by its own clock.
    lease: Option<Instant>,
    /// The database did not answer last.
    is_away: bool,
    /// This node is about to stop, and leaves the lead to others.
    has_stepped_down: bool,
    /// Since when each other node runs an older revision than this one.
    behind: Vec<([u8; 16], Instant)>,
    differences: Vec<ViewDifference>,
    lasting: LastingDifferences,
}

impl NodeWatch {
    pub(crate) fn new(own: NodeIdentity) -> Self {
        Self { own, seen: Arc::default() }
    }

    fn seen(&self) -> MutexGuard<'_, SeenNodes> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What this node is called.
    pub(crate) fn name(&self) -> &Name {
        &self.own.name
    }

    /// How many nodes there are that gave a sign of life lately, this one among them.
    pub(crate) fn count(&self) -> u64 {
        let seen = self.seen();
        let others = seen.nodes.iter().filter(|node| node.id != self.own.id && node.is_alive()).count();
        others as u64 + 1
    }

    /// Whether this node does the work that one node has to do. One that knows of no other does; so the database need not be there.
    pub(crate) fn leads(&self) -> bool {
        let seen = self.seen();
        if seen.has_stepped_down {
            return false;
        }
        let is_alone = seen.nodes.iter().all(|node| node.id == self.own.id || !node.is_alive());
        is_alone || seen.lease.is_some_and(|until| Instant::now() < until)
    }

    /// Whether this node does work that one node should do and that harms no one when several do it. While the database is away each does: nodes
    /// can't agree then, and it is better done twice than not at all.
    pub(crate) fn leads_or_is_cut_off(&self) -> bool {
        self.leads() || self.seen().is_away
    }

    /// How far other nodes are with a server that an order takes out of service.
    pub(crate) fn leaving_elsewhere(&self, server: &PoolServer, order: u64) -> LeavingElsewhere {
        let seen = self.seen();
        let others = seen.nodes.iter().filter(|node| !self.is_own(node) && node.is_alive());
        // While the database is away it is unknown how far they are by now.
        let is_away = seen.is_away;
        LeavingElsewhere::of(server, order, others.map(|node| node.report.as_ref().filter(|_| !is_away)))
    }

    /// What is wrong among the nodes, a sentence each.
    pub(crate) fn troubles(&self, revision: u64) -> Vec<String> {
        let seen = self.seen();
        let others = || seen.nodes.iter().filter(|node| !self.is_own(node));
        let mut troubles = Vec::new();
        for node in others() {
            if !node.is_alive() {
                troubles.push(format!(
                    "{} is gone: its last sign of life is {} old. Start it again, or forget it: `merismos node remove {}`",
                    label(node),
                    humane(whole_seconds(age(&seen, node))),
                    if node.name.is_empty() { short(node.id) } else { node.name.clone() },
                ));
            } else if node.name == self.own.name.as_str() {
                troubles.push(format!(
                    "another node is called {} too ({}; this one is {}): give each a name of its own with --node",
                    node.name,
                    short(node.id),
                    short(self.own.id)
                ));
            }
        }
        for (id, since) in seen.behind.iter().filter(|(_, since)| since.elapsed() >= LAGS_AFTER) {
            let Some(node) = others().find(|node| node.id == *id && node.is_alive()) else { continue };
            let Some(report) = &node.report else { continue };
            let why = report.trouble.as_ref().map(|trouble| format!(": {trouble}")).unwrap_or_default();
            troubles.push(format!(
                "{} runs revision {} and not {revision}, for {}{why}",
                label(node),
                report.revision,
                humane(whole_seconds(since.elapsed()))
            ));
        }
        let lasting: Vec<_> =
            seen.differences.iter().filter(|found| seen.lasting.lasts(&found.server)).collect();
        troubles.extend(lasting.iter().take(SHOWN_DIFFERENCES).map(|found| in_words(found)));
        if lasting.len() > SHOWN_DIFFERENCES {
            troubles.push(format!(
                "nodes see {} more servers differently: `merismos node list`",
                lasting.len() - SHOWN_DIFFERENCES
            ));
        }
        troubles
    }

    /// Every node, for people.
    pub(crate) fn view(&self, revision: u64, drained: &BTreeSet<String>) -> Nodes {
        let seen = self.seen();
        let nodes = seen.nodes.iter().map(|node| {
            let report = node.report.as_ref();
            NodeView {
                name: node.name.clone(),
                id: short(node.id),
                is_here: node.id == self.own.id,
                is_alive: node.is_alive(),
                leads: seen.leader == Some(node.id),
                seen_ms: u64::try_from(age(&seen, node).as_millis()).unwrap_or(u64::MAX),
                version: report.map(|report| report.version.clone()),
                started: report.map(|report| report.started),
                revision: report.map(|report| report.revision),
                workers: report.map(|report| report.workers),
                api: report.map(|report| report.api.clone()),
                clock_ahead_ms: report.map(|report| clock_ahead(&seen, node, report.at)),
                trouble: report.and_then(|report| report.trouble.clone()),
                down: report
                    .map(|report| report.down.iter().map(ToString::to_string).collect())
                    .unwrap_or_default(),
                down_in_all: report.map_or(0, |report| report.down_in_all),
                holds: report.map(holds).unwrap_or_default(),
                is_drained: drained.contains(&node.name),
            }
        });
        Nodes {
            revision,
            database_away: seen.is_away,
            nodes: nodes.collect(),
            differences: seen.differences.iter().map(in_words).collect(),
        }
    }

    /// The identity of a node that is known by a name or the first digits of its identity.
    pub(crate) fn find(&self, wanted: &str) -> Result<StoredNode, FindNodeError> {
        let seen = self.seen();
        let is_meant = |node: &&StoredNode| node.name == wanted || short(node.id) == wanted;
        let found: Vec<_> = seen.nodes.iter().filter(is_meant).collect();
        match found.as_slice() {
            [] => Err(FindNodeError::Unknown(wanted.to_owned())),
            [only] => Ok((*only).clone()),
            many => Err(FindNodeError::Several {
                name: wanted.to_owned(),
                ids: many.iter().map(|node| short(node.id)).collect(),
            }),
        }
    }

    /// Whether the database did not answer last.
    pub(crate) fn is_database_away(&self) -> bool {
        self.seen().is_away
    }

    /// Whether a node of this name ever gave a sign of life.
    pub(crate) fn is_known(&self, name: &Name) -> bool {
        self.own.name == *name || self.seen().nodes.iter().any(|node| node.name == name.as_str())
    }

    /// What each node said of its part in an address: its name, whether it is alive, and what it said.
    pub(crate) fn address_reports(&self, address: &Name) -> Vec<(String, bool, Option<AddressReport>)> {
        let seen = self.seen();
        let said = |node: &StoredNode| {
            node.report.as_ref().and_then(|report| report.addresses.get(address).cloned())
        };
        seen.nodes.iter().map(|node| (node.name.clone(), node.is_alive(), said(node))).collect()
    }

    /// What each node said of its part in an object of announced addresses: its name, whether it is alive, and what it said.
    pub(crate) fn announcement_reports(
        &self,
        name: &Name,
    ) -> Vec<(String, bool, Option<AnnouncementReport>)> {
        let seen = self.seen();
        let said = |node: &StoredNode| {
            node.report.as_ref().and_then(|report| report.announcements.get(name).cloned())
        };
        seen.nodes.iter().map(|node| (node.name.clone(), node.is_alive(), said(node))).collect()
    }

    /// The node whose advertisements of an address come from this one, where it is known.
    pub(crate) fn sender_name(&self, address: &Name, from: IpAddr) -> Option<String> {
        let reports = self.address_reports(address).into_iter();
        let mut senders = reports.filter_map(|(node, _, report)| Some((node, report?)));
        senders.find(|(_, report)| report.senders.contains(&from)).map(|(node, _)| node)
    }

    /// As [`Self::sender_name`], in words; the address itself where its node is not known.
    pub(crate) fn sender(&self, address: &Name, from: IpAddr) -> String {
        self.sender_name(address, from).map_or_else(|| from.to_string(), |node| format!("node {node}"))
    }

    /// Leaves the lead to another node, at once and for good: this one is about to stop.
    pub(crate) async fn step_down(&self, store: &Store) {
        {
            let mut seen = self.seen();
            (seen.has_stepped_down, seen.lease) = (true, None);
        }
        if let Err(error) = store.end_lease(follower::LEADING, self.own.id).await {
            tracing::debug!(%error, "the lead is free when its lease ends");
        }
    }

    /// A node was removed: it is not shown until the next look.
    pub(crate) fn forget(&self, id: [u8; 16]) {
        self.seen().nodes.retain(|node| node.id != id);
    }

    /// Whether a node is this one.
    pub(crate) fn is_own(&self, node: &StoredNode) -> bool {
        node.id == self.own.id
    }

    /// Which servers other nodes find down that this one does not, and the other way round.
    fn note_differences(&self, differences: Vec<ViewDifference>) {
        self.seen().differences = differences;
    }
}

/// A node that can't be found.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FindNodeError {
    #[error("there is no node {0}: `merismos node list` shows them")]
    Unknown(String),
    #[error("several nodes are called {name}: name one by its identity, {}", .ids.join(" or "))]
    Several { name: String, ids: Vec<String> },
}

/// The addresses that a node holds.
fn holds(report: &NodeReport) -> Vec<String> {
    let held = report.addresses.iter().filter(|(_, address)| address.stance == Stance::Active);
    held.map(|(name, _)| name.to_string()).collect()
}

fn whole_seconds(length: Duration) -> Duration {
    Duration::from_secs(length.as_secs())
}

/// How long ago a node gave a sign of life, now.
fn age(seen: &SeenNodes, node: &StoredNode) -> Duration {
    node.seen + seen.at.map(|at| at.elapsed()).unwrap_or_default()
}

/// By how much a node's clock is ahead of this one's, in milliseconds, as far as its last sign of life tells.
fn clock_ahead(seen: &SeenNodes, node: &StoredNode, said: Wall) -> i64 {
    let ago = i64::try_from(age(seen, node).as_millis()).unwrap_or(i64::MAX);
    said.0.saturating_add(ago).saturating_sub(crate::clock::wall().0)
}

/// A server that nodes see differently, and what that may mean.
fn in_words(found: &ViewDifference) -> String {
    let ViewDifference { server, down_at, up_at } = found;
    match (down_at.as_slice(), up_at.as_slice()) {
        ([alone], [_, _, ..]) => format!(
            "only node {alone} finds {server} down, and {} do not: look at the way from {alone} to it",
            names(up_at)
        ),
        ([_, _, ..], [alone]) => format!(
            "only node {alone} reaches {server}, and {} find it down: look at what {alone} has that they do not",
            names(down_at)
        ),
        _ => format!(
            "{} {} {server} down, and {} {} not: look at the ways from both to it",
            names(down_at),
            if down_at.len() == 1 { "finds" } else { "find" },
            names(up_at),
            if up_at.len() == 1 { "does" } else { "do" },
        ),
    }
}

/// Nodes by name, as many as a sentence takes.
fn names(nodes: &[String]) -> String {
    match nodes {
        [only] => format!("node {only}"),
        [one, other] => format!("nodes {one} and {other}"),
        many => format!("{} nodes", many.len()),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(&["a"], &["b", "c", "d"], "only node a finds quay/gull down, and 3 nodes do not: look at the way from a to it")]
    #[case(&["a", "b"], &["c"], "only node c reaches quay/gull, and nodes a and b find it down: look at what c has that they do not")]
    #[case(&["a"], &["b"], "node a finds quay/gull down, and node b does not: look at the ways from both to it")]
    fn what_nodes_see_differently_has_words(
        #[case] down_at: &[&str],
        #[case] up_at: &[&str],
        #[case] expected: &str,
    ) {
        let owned = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
        let found = ViewDifference {
            server: "quay/gull".parse().unwrap(),
            down_at: owned(down_at),
            up_at: owned(up_at),
        };
        assert_eq!(in_words(&found), expected);
    }
}
