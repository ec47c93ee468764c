//! What nodes that share a database say of themselves, and where they see servers differently.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::announcement::AnnouncementReport;
use crate::name::{Name, PoolServer};
use crate::time::{Tick, Wall};
use crate::vrrp::AddressReport;

/// How many servers that are down a node names.
pub const NAMED: usize = 200;
/// For how long nodes have to see a server differently before it is reported: until then one of them may just not have noticed yet.
pub const SETTLES_WITHIN: Duration = Duration::from_secs(15);

/// What a node says of itself with each sign of life.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeReport {
    /// Version of the software.
    pub version: String,
    /// When this run of the service started.
    pub started: Wall,
    /// Its clock when it said this.
    pub at: Wall,
    /// The revision that runs there; 0 before the first.
    pub revision: u64,
    /// How many workers it has.
    pub workers: u64,
    /// Where its API listens.
    pub api: String,
    /// Why it does not run the newest revision, in words.
    #[serde(default)]
    pub trouble: Option<String>,
    /// The servers that are down as seen from there, in the order of their names; the first [`NAMED`] of them.
    #[serde(default)]
    pub down: Vec<PoolServer>,
    /// How many there are in all.
    #[serde(default)]
    pub down_in_all: u64,
    /// How far servers are that operators took out of service, by `pool/server`.
    #[serde(default)]
    pub out: BTreeMap<PoolServer, LeavingServer>,
    /// Where it stands with the addresses that move, by the names of their objects.
    #[serde(default)]
    pub addresses: BTreeMap<Name, AddressReport>,
    /// What it announces to routers, by the names of the objects.
    #[serde(default)]
    pub announcements: BTreeMap<Name, AnnouncementReport>,
}

/// How far a node is with a server that is on its way out of service.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LeavingServer {
    /// Number of the order that the node follows.
    pub order: u64,
    /// Requests, connections and flows that are open at the server from there.
    pub open: u64,
    /// Whether nothing is open there, and no client can come from there any more.
    pub safe: bool,
}

/// How far all other nodes are with a server that is on its way out of service.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LeavingElsewhere {
    /// Requests, connections and flows that are open at the server from other nodes, as far as they have said.
    pub open: u64,
    /// How many nodes are not done with it. One that has not said that it follows the order is not.
    pub nodes: u64,
}

impl LeavingElsewhere {
    /// Sums up what other nodes say of an order for a server.
    pub fn of<'a>(
        server: &PoolServer,
        order: u64,
        others: impl IntoIterator<Item = Option<&'a NodeReport>>,
    ) -> Self {
        let mut sum = Self::default();
        for report in others {
            let said = report.and_then(|report| report.out.get(server)).filter(|said| said.order == order);
            sum.open += said.map_or(0, |said| said.open);
            sum.nodes += u64::from(said.is_none_or(|said| !said.safe));
        }
        sum
    }
}

impl NodeReport {
    /// Notes which servers are down as seen from here.
    #[must_use]
    pub fn with_down(mut self, mut down: Vec<PoolServer>) -> Self {
        self.down_in_all = down.len() as u64;
        down.sort();
        down.truncate(NAMED);
        self.down = down;
        self
    }

    /// Whether it names every server that is down there.
    fn is_whole(&self) -> bool {
        self.down_in_all == self.down.len() as u64
    }
}

/// A server that some nodes find down and others do not.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ViewDifference {
    /// The server.
    pub server: PoolServer,
    /// The nodes that find it down.
    pub down_at: Vec<String>,
    /// Those that do not.
    pub up_at: Vec<String>,
}

/// The servers that nodes see differently, in the order of their names. Only nodes that run the same revision as this one (`revision`) and
/// name all servers that are down there are compared: of others it is unknown whether they have the server at all.
#[must_use]
pub fn differences<'a>(
    revision: u64,
    views: impl IntoIterator<Item = (&'a str, &'a NodeReport)>,
) -> Vec<ViewDifference> {
    let comparable = |report: &NodeReport| report.revision == revision && report.is_whole();
    let views: Vec<_> = views.into_iter().filter(|(_, report)| comparable(report)).collect();
    let down: BTreeSet<&PoolServer> = views.iter().flat_map(|(_, report)| &report.down).collect();
    let differing = down.into_iter().filter_map(|server| {
        let (down_at, up_at): (Vec<_>, Vec<_>) =
            views.iter().partition(|(_, report)| report.down.binary_search(server).is_ok());
        let names =
            |views: Vec<&(&str, &NodeReport)>| views.iter().map(|(name, _)| (*name).to_owned()).collect();
        (!up_at.is_empty()).then(|| ViewDifference {
            server: server.clone(),
            down_at: names(down_at),
            up_at: names(up_at),
        })
    });
    differing.collect()
}

/// Which differences have lasted long enough to be reported.
#[derive(Clone, Debug, Default)]
pub struct LastingDifferences {
    /// Since when each server is seen differently, and whether that was said.
    since: BTreeMap<PoolServer, (Tick, bool)>,
}

/// What became of a difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DifferenceNews {
    /// It has lasted for [`SETTLES_WITHIN`].
    Lasts(ViewDifference),
    /// One that was said is over.
    Over(PoolServer),
}

impl LastingDifferences {
    /// Takes what is seen differently now; gives what is news.
    pub fn follow(&mut self, seen: &[ViewDifference], now: Tick) -> Vec<DifferenceNews> {
        let mut news = Vec::new();
        let differing: BTreeSet<&PoolServer> = seen.iter().map(|difference| &difference.server).collect();
        self.since.retain(|server, (_, said)| {
            let stays = differing.contains(server);
            if !stays && *said {
                news.push(DifferenceNews::Over(server.clone()));
            }
            stays
        });
        for difference in seen {
            let (since, said) = self.since.entry(difference.server.clone()).or_insert((now, false));
            if !*said && now.since(*since) >= SETTLES_WITHIN {
                *said = true;
                news.push(DifferenceNews::Lasts(difference.clone()));
            }
        }
        news
    }

    /// Whether a difference has lasted.
    #[must_use]
    pub fn lasts(&self, server: &PoolServer) -> bool {
        self.since.get(server).is_some_and(|(_, said)| *said)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn server(name: &str) -> PoolServer {
        name.parse().unwrap()
    }

    fn report(revision: u64, down: &[&str]) -> NodeReport {
        NodeReport {
            version: "1".to_owned(),
            started: Wall(0),
            at: Wall(0),
            revision,
            workers: 2,
            api: String::new(),
            trouble: None,
            down: Vec::new(),
            down_in_all: 0,
            out: BTreeMap::new(),
            addresses: BTreeMap::new(),
            announcements: BTreeMap::new(),
        }
        .with_down(down.iter().map(|name| server(name)).collect())
    }

    /// Of each node its revision and the servers that are down there.
    #[rstest]
    #[case::alike("7 gull; 7 gull", "")]
    #[case::all_well("7; 7", "")]
    #[case::one_alone("7 gull; 7; 7", "quay/gull: a | b c")]
    #[case::two_servers("7 tern gull; 7 tern; 7 tern", "quay/gull: a | b c")]
    #[case::each_another("7 tern; 7 gull", "quay/gull: b | a, quay/tern: a | b")]
    #[case::another_revision("7 gull; 6", "")]
    #[case::no_other_node("7 gull", "")]
    fn servers_that_nodes_see_differently_are_named(#[case] views: &str, #[case] expected: &str) {
        let reports = views.split("; ").map(|view| {
            let (revision, down) = view.split_once(' ').unwrap_or((view, ""));
            let down: Vec<String> = down.split_whitespace().map(|name| format!("quay/{name}")).collect();
            report(revision.parse().unwrap(), &down.iter().map(String::as_str).collect::<Vec<_>>())
        });
        let reports: Vec<NodeReport> = reports.collect();
        let found = differences(7, ["a", "b", "c"].into_iter().zip(&reports));
        let found: Vec<String> = found
            .iter()
            .map(|found| format!("{}: {} | {}", found.server, found.down_at.join(" "), found.up_at.join(" ")))
            .collect();
        assert_eq!(found.join(", "), expected);
    }

    #[test]
    fn a_server_is_left_when_every_node_says_so_of_the_same_order() {
        let gull = server("quay/gull");
        let says = |order: u64, open: u64| {
            let mut report = report(7, &[]);
            report.out.insert(gull.clone(), LeavingServer { order, open, safe: open == 0 });
            report
        };
        let (done, busy, before, silent) = (says(9, 0), says(9, 4), says(8, 0), report(7, &[]));
        let of = |others: &[Option<&NodeReport>]| {
            let LeavingElsewhere { open, nodes } = LeavingElsewhere::of(&gull, 9, others.iter().copied());
            (open, nodes)
        };
        assert_eq!(of(&[]), (0, 0));
        assert_eq!(of(&[Some(&done), Some(&done)]), (0, 0));
        assert_eq!(of(&[Some(&done), Some(&busy)]), (4, 1));
        assert_eq!(of(&[Some(&before)]), (0, 1), "it speaks of another order");
        assert_eq!(of(&[Some(&silent), None]), (0, 2), "it has not said anything");
    }

    #[test]
    fn a_node_that_does_not_name_all_is_not_compared() {
        let many: Vec<PoolServer> = (0..=NAMED).map(|number| server(&format!("quay/s{number}"))).collect();
        let many = report(7, &[]).with_down(many);
        assert_eq!((many.down.len(), many.down_in_all), (NAMED, NAMED as u64 + 1));
        assert_eq!(differences(7, [("a", &many), ("b", &report(7, &[]))]), []);
    }

    #[test]
    fn a_difference_is_said_once_when_it_lasts_and_once_when_it_is_over() {
        let seen = differences(7, [("a", &report(7, &["quay/gull"])), ("b", &report(7, &[]))]);
        let at = |seconds: u64| Tick(seconds * 1_000_000_000);
        let mut lasting = LastingDifferences::default();
        assert_eq!(lasting.follow(&seen, at(0)), []);
        assert_eq!(lasting.follow(&seen, at(14)), []);
        assert!(!lasting.lasts(&server("quay/gull")));
        assert_eq!(lasting.follow(&seen, at(15)), [DifferenceNews::Lasts(seen[0].clone())]);
        assert!(lasting.lasts(&server("quay/gull")));
        assert_eq!(lasting.follow(&seen, at(16)), []);
        assert_eq!(lasting.follow(&[], at(17)), [DifferenceNews::Over(server("quay/gull"))]);
        // One that is over before it was said is not news at all.
        assert_eq!(lasting.follow(&seen, at(20)), []);
        assert_eq!(lasting.follow(&[], at(21)), []);
        assert_eq!(lasting.follow(&seen, at(40)), [], "it begins anew");
    }
}
