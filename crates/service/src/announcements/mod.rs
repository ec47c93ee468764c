//! Addresses that this node announces to routers: which, how, and what comes of it.

mod events;
mod passwords;

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use merismos_addresses::{PeerPlan, RouteSpeaker, SessionView, SpeakerPlan, SpeakerView};
use merismos_core::announcement::{
    AnnouncementFacts, AnnouncementReport, LeaveProgress, RouteReport, SessionReport, SessionState,
    WithheldReason, announced,
};
use merismos_core::config::document::{AnnouncementSpec, Document, Endpoint, SecretRef};
use merismos_core::name::Name;
use merismos_core::routing::Snapshot;
use merismos_core::time::{Tick, Wall};
use merismos_core::vrrp::PoolLosses;
use merismos_probe::secret_ref::SecretCache;

use self::passwords::{READ_EVERY, SessionPasswords};
use crate::addresses::wall_of;
use crate::journal::Journal;

/// How long sessions of a node that stops have to end in order.
const PARTS_WITHIN: Duration = Duration::from_secs(2);
/// How long a session may be missing before that is a headline.
const LASTS: Duration = Duration::from_secs(10);

/// The announced addresses as this node takes part in them. Copies share everything.
#[derive(Clone, Debug)]
pub(crate) struct AnnouncementWatch {
    own: Name,
    journal: Journal,
    passwords: SessionPasswords,
    /// Held for a look or a change only.
    known: Arc<Mutex<KnownAnnouncements>>,
}

#[derive(Debug, Default)]
struct KnownAnnouncements {
    /// Started with the first address.
    speaker: Option<RouteSpeaker>,
    /// Why it could not be.
    unstarted: Option<String>,
    /// Whether a service before this one had the sessions a moment ago.
    restarts: bool,
    losses: BTreeMap<Name, PoolLosses>,
    parts: BTreeMap<Name, AnnouncementPart>,
    plan: SpeakerPlan,
    /// A service before this one still has the sessions.
    waits: bool,
    /// This node was taken over from, or has left for good.
    ended: bool,
}

/// What this node makes of one object.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct AnnouncementPart {
    peers: Vec<IpAddr>,
    routes: Vec<RouteReport>,
    lost: Vec<Name>,
    /// Why it can't take part.
    troubles: Vec<String>,
    leave_time: Duration,
}

/// What a node knows of itself when it decides what to announce.
pub(crate) struct AnnouncingNode<'a> {
    pub(crate) document: &'a Document,
    pub(crate) snapshot: &'a Snapshot,
    /// Where frontends should listen and do not.
    pub(crate) deaf: &'a BTreeSet<Endpoint>,
    /// Since when an operator's drain of this node stands.
    pub(crate) drained_since: Option<Wall>,
    pub(crate) now: Tick,
    pub(crate) at: Wall,
}

impl AnnouncementWatch {
    pub(crate) fn new(own: Name, journal: Journal, secrets: SecretCache, restarts: bool) -> Self {
        let known = KnownAnnouncements { restarts, waits: restarts, ..KnownAnnouncements::default() };
        let passwords = SessionPasswords::new(secrets, READ_EVERY);
        Self { own, journal, passwords, known: Arc::new(Mutex::new(known)) }
    }

    fn known(&self) -> MutexGuard<'_, KnownAnnouncements> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The service before this one lets its sessions go: routers take one of each node alone.
    pub(crate) fn begin(&self) {
        self.known().waits = false;
    }

    /// Whether this node ever had anything to announce.
    pub(crate) fn is_begun(&self) -> bool {
        self.known().speaker.is_some()
    }

    /// Brings what is announced in line with the document, the health of pools, where frontends listen, and the orders that stand.
    pub(crate) fn keep(&self, facts: &AnnouncingNode<'_>) {
        let mut known = self.known();
        if known.ended {
            return;
        }
        let document = facts.document;
        // They are at hand when the service before this one lets its sessions go.
        for spec in document.announce.values().filter(|spec| spec.is_for(&self.own)) {
            spec.password.iter().for_each(|password| drop(self.passwords.get(password)));
        }
        if known.waits {
            return;
        }
        let short: BTreeSet<&Name> = facts
            .snapshot
            .pools
            .iter()
            .filter(|pool| !pool.usable || pool.eligible() == 0)
            .map(|pool| &pool.name)
            .collect();
        known.losses.retain(|name, _| document.announce.contains_key(name));
        let named = |secret: &SecretRef| {
            document.announce.values().any(|spec| spec.password.as_ref() == Some(secret))
        };
        self.passwords.retain(named);
        let (mut plan, mut parts) = (SpeakerPlan::default(), BTreeMap::new());
        for (name, spec) in document.announce.iter().filter(|(_, spec)| spec.is_for(&self.own)) {
            // A node that has just started announces nothing before its pools were found usable.
            let is_announced = known.parts.get(name).is_some_and(|part| part.lost.is_empty());
            let losses = known.losses.entry(name.clone()).or_default();
            let needed = spec.pools.iter().filter(|pool| short.contains(pool));
            let lost = losses.note(facts.now, needed, spec.pool_loss_delay.get(), is_announced);
            let leaves = leave_progress(facts.drained_since, facts.at, spec.leave_time.get());
            let part = self.part(spec, lost, leaves, facts);
            self.add(&mut plan, spec, &part);
            self.report(name, known.parts.get(name), &part);
            parts.insert(name.clone(), part);
        }
        known.parts = parts;
        self.set(&mut known, plan);
    }

    /// What this node announces of one object.
    fn part(
        &self,
        spec: &AnnouncementSpec,
        lost: Vec<Name>,
        leaves: LeaveProgress,
        facts: &AnnouncingNode<'_>,
    ) -> AnnouncementPart {
        let routes = spec
            .addresses
            .iter()
            .map(|ip| {
                let is_listened_at = facts.snapshot.frontends().any(|frontend| {
                    listens_at(&frontend.listen, *ip) && !facts.deaf.contains(&frontend.listen)
                });
                let decided = announced(spec, &AnnouncementFacts { is_listened_at, lost: &lost, leaves });
                RouteReport { address: *ip, withheld: decided.as_ref().err().copied(), route: decided.ok() }
            })
            .collect();
        let unread = spec.password.as_ref().and_then(|password| self.passwords.trouble(password));
        AnnouncementPart {
            peers: spec.peers.clone(),
            routes,
            lost,
            troubles: unread.into_iter().collect(),
            leave_time: spec.leave_time.get(),
        }
    }

    /// Adds the sessions and routes of one object to the plan of the speaker.
    fn add(&self, plan: &mut SpeakerPlan, spec: &AnnouncementSpec, part: &AnnouncementPart) {
        plan.held.extend(spec.addresses.iter().copied());
        let password = spec.password.as_ref().map(|password| self.passwords.get(password));
        // Without its password there is no session: a router would not hear it.
        let Ok(password) = password.map_or(Ok(None), |read| read.map(Some).ok_or(())) else { return };
        for peer in &spec.peers {
            let session = plan.peers.entry(*peer).or_insert_with(|| PeerPlan {
                as_number: spec.as_number,
                peer_as: spec.peer_as,
                hold_time: spec.hold_time.get(),
                hops: spec.hops,
                password: password.clone(),
                restart_time: spec.restart_time.map(|time| time.get()),
                identifier: identifier(&self.own),
                routes: BTreeMap::new(),
            });
            let announced = part.routes.iter().filter(|route| route.address.is_ipv4() == peer.is_ipv4());
            session.routes.extend(announced.filter_map(|route| Some((route.address, route.route.clone()?))));
        }
    }

    fn set(&self, known: &mut KnownAnnouncements, plan: SpeakerPlan) {
        if known.speaker.is_none() && plan != SpeakerPlan::default() {
            match RouteSpeaker::start(known.restarts) {
                Ok(speaker) => {
                    tokio::spawn(events::report(speaker.watch(), self.journal.clone()));
                    (known.speaker, known.unstarted) = (Some(speaker), None);
                }
                Err(error) => known.unstarted = Some(error.to_string()),
            }
        }
        if known.plan != plan
            && let Some(speaker) = &known.speaker
        {
            speaker.set(plan.clone());
            known.plan = plan;
        }
    }

    /// Writes what has changed of the routes of one object.
    fn report(&self, name: &Name, before: Option<&AnnouncementPart>, now: &AnnouncementPart) {
        for route in &now.routes {
            let known =
                before.and_then(|part| part.routes.iter().find(|known| known.address == route.address));
            if let Some(says) = events::route_in_words(known, route, &now.lost) {
                events::write_route(&self.journal, name, route, says);
            }
        }
    }

    fn view(&self) -> Arc<SpeakerView> {
        self.known().speaker.as_ref().map(RouteSpeaker::view).unwrap_or_default()
    }

    /// Its sessions with routers.
    pub(crate) fn sessions(&self) -> BTreeMap<IpAddr, SessionView> {
        self.view().sessions.clone()
    }

    /// What this node reports to the others.
    pub(crate) fn reports(&self) -> BTreeMap<Name, AnnouncementReport> {
        let view = self.view();
        let known = self.known();
        let session = |peer: &IpAddr| {
            let known = view.sessions.get(peer)?;
            Some(SessionReport {
                peer: *peer,
                state: known.state,
                since: wall_of(known.since),
                trouble: known.trouble.clone(),
            })
        };
        let report = |(name, part): (&Name, &AnnouncementPart)| {
            let held = part.routes.iter().filter_map(|route| view.troubles.get(&route.address).cloned());
            let report = AnnouncementReport {
                sessions: part.peers.iter().filter_map(session).collect(),
                routes: part.routes.clone(),
                lost: part.lost.clone(),
                troubles: part.troubles.iter().cloned().chain(held).collect(),
            };
            (name.clone(), report)
        };
        known.parts.iter().map(report).collect()
    }

    /// What is wrong with announced addresses here, a sentence each.
    pub(crate) fn troubles(&self) -> Vec<String> {
        let unstarted = self.known().unstarted.clone();
        let mut troubles: Vec<String> =
            unstarted.iter().map(|why| format!("no address can be announced here: {why}")).collect();
        let sessions = self.sessions();
        for (name, report) in self.reports() {
            let about = |says: &str| format!("announcement {name}: {says}");
            troubles.extend(report.troubles.iter().map(|says| about(says)));
            for peer in report.sessions.iter().map(|session| session.peer) {
                if let Some(says) = sessions.get(&peer).and_then(|view| missing_session(peer, view)) {
                    troubles.push(about(&says));
                }
            }
            let reason = |reason| {
                let of: Vec<String> = report
                    .routes
                    .iter()
                    .filter(|route| route.withheld == Some(reason))
                    .map(|route| route.address.to_string())
                    .collect();
                (!of.is_empty()).then(|| of.join(", "))
            };
            if let Some(of) = reason(WithheldReason::NoListener) {
                troubles.push(about(&format!("{of} is not announced here: no frontend listens at it")));
            }
            if !report.lost.is_empty() {
                let pools: Vec<&str> = report.lost.iter().map(Name::as_str).collect();
                let does = match reason(WithheldReason::PoolsLost) {
                    Some(of) => format!("{of} is not announced here"),
                    None => "routers are asked to prefer other nodes".to_owned(),
                };
                troubles.push(about(&format!(
                    "too few servers are eligible of {} as seen from here: {does}",
                    pools.join(", ")
                )));
            }
        }
        troubles
    }

    /// Asks routers to send the traffic elsewhere, then withdraws everything: this node is about to stop, and still takes clients.
    pub(crate) async fn leave(&self, at_most: Duration) {
        let (speaker, mut plan, wait) = {
            let mut known = self.known();
            known.ended = true;
            let Some(speaker) = known.speaker.clone() else { return };
            let has_routes = known.plan.peers.values().any(|peer| !peer.routes.is_empty());
            let wait = known.parts.values().map(|part| part.leave_time).max().unwrap_or_default();
            (speaker, known.plan.clone(), if has_routes { wait.min(at_most) } else { Duration::ZERO })
        };
        if !wait.is_zero() {
            for route in plan.peers.values_mut().flat_map(|peer| peer.routes.values_mut()) {
                route.ask_to_leave();
            }
            speaker.set(plan.clone());
            tokio::time::sleep(wait).await;
        }
        // The addresses stay on the machine while there are clients.
        plan.peers.clear();
        speaker.set(plan);
        let mut views = speaker.watch();
        let _ = tokio::time::timeout(PARTS_WITHIN, views.wait_for(|view| view.sessions.is_empty())).await;
    }

    /// Takes the addresses off this machine: the last of its clients are gone.
    pub(crate) async fn end(&self) {
        let speaker = self.known().speaker.take();
        if let Some(speaker) = speaker {
            speaker.stop().await;
        }
    }

    /// Ends without taking the addresses off: the service that follows has them.
    pub(crate) async fn hand_over(&self) {
        let speaker = {
            let mut known = self.known();
            known.ended = true;
            known.speaker.take()
        };
        if let Some(speaker) = speaker {
            speaker.hand_over().await;
        }
    }
}

/// How far this node is in leaving the work of one object.
fn leave_progress(drained_since: Option<Wall>, at: Wall, leave_time: Duration) -> LeaveProgress {
    let Some(since) = drained_since else { return LeaveProgress::Stays };
    let gone = Duration::from_millis(u64::try_from(at.0 - since.0).unwrap_or_default());
    if gone < leave_time { LeaveProgress::Leaves } else { LeaveProgress::Left }
}

/// Whether who listens there takes clients of an address.
fn listens_at(endpoint: &Endpoint, ip: IpAddr) -> bool {
    let at = endpoint.address.ip();
    at == ip || (at.is_unspecified() && (at.is_ipv6() || ip.is_ipv4()))
}

/// Why there is no session with a router, where that has lasted.
fn missing_session(peer: IpAddr, view: &SessionView) -> Option<String> {
    let lasts = view.counted.failed > 1 || view.since.elapsed().is_ok_and(|age| age >= LASTS);
    let why = view.trouble.as_ref().filter(|_| view.state != SessionState::Established && lasts)?;
    Some(format!("no session with router {peer}: {why}"))
}

/// An identifier for sessions over IPv6, where no address of the node can be it (RFC 6286): by the node's name, and never zero.
fn identifier(node: &Name) -> u32 {
    let mut hash = 0x811C_9DC5_u32;
    for byte in node.as_str().bytes() {
        hash = (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193);
    }
    hash.max(1)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::there("198.51.100.10:80", "198.51.100.10", true)]
    #[case::elsewhere("198.51.100.11:80", "198.51.100.10", false)]
    #[case::everywhere("0.0.0.0:80", "198.51.100.10", true)]
    #[case::everywhere_in_both_families("[::]:80", "198.51.100.10", true)]
    #[case::in_the_other_family("[2001:db8:51::10]:80", "198.51.100.10", false)]
    #[case::everywhere_in_ipv4("0.0.0.0:80", "2001:db8:51::10", false)]
    fn an_address_has_a_listener(#[case] at: &str, #[case] ip: &str, #[case] listens: bool) {
        let endpoint = Endpoint { udp: false, address: at.parse().unwrap() };
        assert_eq!(listens_at(&endpoint, ip.parse().unwrap()), listens);
    }

    #[rstest]
    #[case::not_drained(None, LeaveProgress::Stays)]
    #[case::just_drained(Some(9_000), LeaveProgress::Leaves)]
    #[case::drained_long_ago(Some(8_000), LeaveProgress::Left)]
    #[case::by_a_clock_that_is_ahead(Some(60_000), LeaveProgress::Leaves)]
    fn a_drained_node_leaves_for_a_time(#[case] since: Option<i64>, #[case] progress: LeaveProgress) {
        assert_eq!(leave_progress(since.map(Wall), Wall(10_000), Duration::from_secs(2)), progress);
    }

    #[test]
    fn identifiers_are_of_the_node_and_never_zero() {
        let of = |name: &str| identifier(&name.parse().unwrap());
        assert_ne!(of("north"), of("south"));
        assert_eq!(of("north"), of("north"));
        assert_ne!(of("north"), 0);
    }
}
