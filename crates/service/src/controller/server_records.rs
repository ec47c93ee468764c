//! What is known of each server beside the document: orders, health, and what hangs on them. It needs no plane, no journal and no
//! database.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;

use merismos_core::config::document::{CheckKind, Document};
use merismos_core::config::renames::Renames;
use merismos_core::duty::{DrainPins, Duty, DutyOrder};
use merismos_core::eligibility::{RAMPED, ServerStates};
use merismos_core::health::{Evidence, HealthState, InitialHealth, ServerFeedback};
use merismos_core::name::{Name, PoolServer};
use merismos_core::pins::FormerNames;
use merismos_core::tiers::TierHold;
use merismos_core::time::Wall;
use merismos_store::state_snapshot::KnownHealth;

use super::drains::DrainRecord;
use super::history::ProbeHistory;
use super::slow_start::SlowStart;
use crate::clock::wall;

/// A server's health as the controller knows it.
#[derive(Clone, Debug)]
pub(super) struct ServerHealth {
    pub(super) address: SocketAddr,
    pub(super) asked: Option<CheckKind>,
    pub(super) state: HealthState,
    pub(super) since: Wall,
    pub(super) last_probe: Option<Evidence>,
    pub(super) failures_to_down: Option<u32>,
    pub(super) passes_to_up: Option<u32>,
    /// What it asks for.
    pub(super) feedback: Option<ServerFeedback>,
    pub(super) flapping: bool,
    /// It is not up before this, whatever its probes say.
    pub(super) held_until: Option<Wall>,
    pub(super) history: ProbeHistory,
    /// How many failures its traffic had when that was reported last.
    pub(super) evidence_told: u64,
}

impl ServerHealth {
    /// Whether it gets work as far as its health goes.
    pub(super) fn works(&self) -> bool {
        self.asked.is_none() || matches!(self.state, HealthState::Up | HealthState::Suspect)
    }

    /// What its probes begin with.
    pub(super) fn known(&self, now: Wall) -> InitialHealth {
        let held_for = self.held_until.map(|until| until.since(now)).unwrap_or_default();
        InitialHealth { state: self.state, held_for }
    }

    /// What a restart goes on with.
    pub(super) fn to_keep(&self) -> KnownHealth {
        KnownHealth {
            state: self.state,
            since: self.since,
            feedback: self.feedback,
            held_until: self.held_until,
        }
    }
}

/// How a server's health is named in the copy: at another address it is another server.
pub(super) fn health_key(server: &PoolServer, address: SocketAddr) -> String {
    format!("{server} {address}")
}

/// Two of the three truths, duty and health, with what follows from them and outlives a snapshot.
#[derive(Debug, Default)]
pub(super) struct ServerRecords {
    pub(super) duties: BTreeMap<PoolServer, DutyOrder>,
    /// Numbers of the orders that were given on this node, the last one for each server.
    pub(super) given_here: BTreeMap<PoolServer, u64>,
    pub(super) health: BTreeMap<PoolServer, ServerHealth>,
    /// Health from before the start, by [`health_key`]; taken out when its server is begun with.
    pub(super) known_health: BTreeMap<String, KnownHealth>,
    /// The tiers of pools whose work does not go back by itself.
    pub(super) holds: BTreeMap<Name, TierHold>,
    /// What pools and their servers were called before, where that was otherwise.
    pub(super) former_names: BTreeMap<Name, FormerNames>,
    /// Servers that returned or recovered a moment ago.
    pub(super) ramps: BTreeMap<PoolServer, SlowStart>,
    /// Servers that drain.
    pub(super) drains: BTreeMap<PoolServer, DrainRecord>,
    /// Servers that returned, and since when: they wait for their first passed check.
    pub(super) awaiting: BTreeMap<PoolServer, Wall>,
    /// Servers that returned without slow start.
    pub(super) full_at_once: BTreeSet<PoolServer>,
}

impl ServerStates for ServerRecords {
    fn duty(&self, server: &PoolServer) -> Duty {
        self.duties.get(server).map(|order| order.duty).unwrap_or_default()
    }

    fn drain_is_over(&self, server: &PoolServer) -> bool {
        self.drains.get(server).is_some_and(DrainRecord::is_over)
    }

    fn pins_move(&self, server: &PoolServer) -> bool {
        self.duties.get(server).is_some_and(|order| order.pins == DrainPins::Move)
    }

    fn awaits_pass(&self, server: &PoolServer) -> bool {
        self.awaiting.contains_key(server)
    }

    fn health(&self, server: &PoolServer) -> HealthState {
        self.health.get(server).map(|health| health.state).unwrap_or_default()
    }

    fn ramp(&self, server: &PoolServer) -> u32 {
        self.thousandths(server)
    }

    fn feedback(&self, server: &PoolServer) -> Option<ServerFeedback> {
        self.health.get(server).and_then(|health| health.feedback)
    }

    fn held_tier(&self, pool: &Name) -> Option<u8> {
        self.holds.get(pool).map(|hold| hold.tier)
    }

    fn former_names(&self, pool: &Name) -> FormerNames {
        self.former_names.get(pool).cloned().unwrap_or_default()
    }
}

impl ServerRecords {
    pub(super) fn thousandths(&self, server: &PoolServer) -> u32 {
        self.ramps.get(server).map_or(RAMPED, |ramping| ramping.thousandths())
    }

    /// How far a server has come on its ramp, 0 to 1; `None` when it is on none.
    pub(super) fn ramp_of(&self, server: &PoolServer) -> Option<f64> {
        self.ramps.get(server).map(|ramping| f64::from(ramping.thousandths()) / f64::from(RAMPED))
    }

    /// Whether work is bound to a tier although a lower one could work.
    pub(super) fn is_held(&self, pool: &Name) -> bool {
        self.holds.get(pool).is_some_and(|hold| hold.lower_able_since.is_some())
    }

    /// Forgets the tiers and former names of pools that the document does not have.
    pub(super) fn forget_gone_pools(&mut self, new: &Document) {
        self.holds.retain(|pool, _| new.pools.contains_key(pool));
        self.former_names.retain(|pool, former| {
            let Some(spec) = new.pools.get(pool) else { return false };
            former.retain(|name| new.pools.contains_key(name), |name| spec.servers.contains_key(name));
            !former.is_empty()
        });
    }

    /// The tier that a pool works on, ramps, and the pins of clients go with the names.
    pub(super) fn rename(&mut self, renames: &Renames) {
        let held: Vec<_> = renames.pools.iter().map(|(from, to)| (to, self.holds.remove(from))).collect();
        self.holds.extend(held.into_iter().filter_map(|(to, hold)| Some((to.clone(), hold?))));
        let ramps: Vec<_> = renames.servers.iter().map(|(from, to)| (to, self.ramps.remove(from))).collect();
        self.ramps.extend(ramps.into_iter().filter_map(|(to, ramp)| Some((to.clone(), ramp?))));
        let awaiting: Vec<_> =
            renames.servers.iter().map(|(from, to)| (to, self.awaiting.remove(from))).collect();
        self.awaiting.extend(awaiting.into_iter().filter_map(|(to, at)| Some((to.clone(), at?))));
        let known: Vec<_> =
            renames.pools.iter().map(|(from, to)| (from, to, self.former_names.remove(from))).collect();
        for (from, to, former) in known {
            let mut former = former.unwrap_or_default();
            former.pool_was(from.clone());
            self.former_names.insert(to.clone(), former);
        }
        for (from, to) in renames.servers.iter().filter(|(from, to)| from.server != to.server) {
            let former = self.former_names.entry(to.pool.clone()).or_default();
            former.server_was(from.server.clone(), to.server.clone());
        }
    }

    /// Gives each server of the document its health: what stays keeps it, also under a new name.
    pub(super) fn settle_health(&mut self, document: &Document, renames: &Renames) {
        let mut before = std::mem::take(&mut self.health);
        for (from, to) in &renames.servers {
            if let Some(health) = before.remove(from) {
                before.insert(to.clone(), health);
            }
        }
        // Both are in the order of the names, so they are gone through side by side.
        let mut before = before.into_iter().peekable();
        let (mut kept, mut gone, mut missing) = (Vec::new(), Vec::new(), Vec::new());
        for (pool, spec) in &document.pools {
            let asked = spec.check.as_ref().map(|check| &document.checks[check].kind);
            for (server, server_spec) in &spec.servers {
                let address = server_spec.address.get();
                while let Some((_, health)) =
                    before.next_if(|(id, _)| (&id.pool, &id.server) < (pool, server))
                {
                    gone.push(health);
                }
                match before.next_if(|(id, _)| (&id.pool, &id.server) == (pool, server)) {
                    Some((id, health)) if health.address == address && health.asked.as_ref() == asked => {
                        kept.push((id, health));
                    }
                    // Another question does not take a server out that works, nor does the first one: clients would
                    // get nothing until the first probe.
                    Some((id, health)) if health.address == address && asked.is_some() && health.works() => {
                        let (state, asked) = (HealthState::Up, asked.cloned());
                        let since = if health.state == state { health.since } else { wall() };
                        kept.push((id, ServerHealth { state, since, asked, ..health }));
                    }
                    other => {
                        gone.extend(other.map(|(_, health)| health));
                        missing.push((
                            PoolServer { pool: pool.clone(), server: server.clone() },
                            address,
                            asked.cloned(),
                        ));
                    }
                }
            }
        }
        gone.extend(before.map(|(_, health)| health));
        self.health = kept.into_iter().collect();
        if !missing.is_empty() {
            self.begin_health(missing, &gone);
        }
    }

    /// Gives servers that are new their health. The same question to the same address has the same answer, whatever
    /// the server is called and whatever pool it is in.
    fn begin_health(&mut self, new: Vec<(PoolServer, SocketAddr, Option<CheckKind>)>, gone: &[ServerHealth]) {
        let proven = gone.iter().chain(self.health.values());
        let proven = proven.filter(|health| health.state != HealthState::Unproven);
        let elsewhere: BTreeMap<SocketAddr, ServerHealth> =
            proven.map(|health| (health.address, health.clone())).collect();
        for (id, address, asked) in new {
            let same = elsewhere.get(&address).filter(|health| health.asked == asked && asked.is_some());
            let health = same.cloned().unwrap_or_else(|| {
                let known = self.known_health.remove(&health_key(&id, address)).filter(|_| asked.is_some());
                ServerHealth {
                    address,
                    asked,
                    state: known.map(|known| known.state).unwrap_or_default(),
                    since: known.map_or_else(wall, |known| known.since),
                    last_probe: None,
                    failures_to_down: None,
                    passes_to_up: None,
                    feedback: known.and_then(|known| known.feedback),
                    flapping: false,
                    held_until: known.and_then(|known| known.held_until),
                    history: ProbeHistory::default(),
                    evidence_told: 0,
                }
            });
            self.health.insert(id, health);
        }
    }
}

#[cfg(test)]
mod tests {
    use merismos_core::config;
    use rstest::rstest;

    use super::*;

    const QUAY: &str = r#"
        format = 3
        [checks.well]
        kind = "http"
        path = "/health"
        [pools.quay]
        check = "well"
        [pools.quay.servers.gull]
        address = "192.0.2.21:80"
    "#;

    fn document(text: &str) -> Document {
        config::load(text, config::DocumentFormat::Toml).unwrap().document().clone()
    }

    fn id(name: &str) -> PoolServer {
        name.parse().unwrap()
    }

    fn after(first: &str, then: &str, state: HealthState) -> ServerRecords {
        let mut records = ServerRecords::default();
        records.settle_health(&document(first), &Renames::default());
        records.health.values_mut().for_each(|health| health.state = state);
        let (old, new) = (document(first), document(then));
        let renames = Renames::between(&old, &new);
        records.rename(&renames);
        records.settle_health(&new, &renames);
        records
    }

    #[rstest]
    #[case::nothing_changed("", "", HealthState::Down, HealthState::Down)]
    #[case::another_address("192.0.2.21", "192.0.2.22", HealthState::Up, HealthState::Unproven)]
    #[case::another_check_of_one_that_works("/health", "/well", HealthState::Up, HealthState::Up)]
    #[case::another_check_of_one_that_fails("/health", "/well", HealthState::Down, HealthState::Unproven)]
    fn health_stays_where_the_same_is_asked_of_the_same_address(
        #[case] from: &str,
        #[case] to: &str,
        #[case] before: HealthState,
        #[case] expected: HealthState,
    ) {
        let records = after(QUAY, &QUAY.replace(from, to), before);
        assert_eq!(records.health(&id("quay/gull")), expected);
    }

    #[test]
    fn health_and_tiers_go_with_a_pool_that_is_renamed() {
        let mut records = ServerRecords::default();
        let (old, new) = (document(QUAY), document(&QUAY.replace("pools.quay", "pools.pier")));
        records.settle_health(&old, &Renames::default());
        records.health.values_mut().for_each(|health| health.state = HealthState::Up);
        records.holds.insert("quay".parse().unwrap(), TierHold { tier: 1, lower_able_since: None });
        let renames = Renames::between(&old, &new);
        records.rename(&renames);
        records.settle_health(&new, &renames);
        records.forget_gone_pools(&new);
        assert_eq!(records.health(&id("pier/gull")), HealthState::Up);
        assert_eq!(records.held_tier(&"pier".parse().unwrap()), Some(1));
        assert_eq!(records.held_tier(&"quay".parse().unwrap()), None);
        assert!(!records.former_names(&"pier".parse().unwrap()).is_empty(), "pins of clients find it");
    }

    #[test]
    fn a_server_that_waits_for_its_first_check_waits_on_under_another_name() {
        let mut records = ServerRecords::default();
        let (old, new) = (document(QUAY), document(&QUAY.replace("servers.gull", "servers.puffin")));
        records.settle_health(&old, &Renames::default());
        records.awaiting.insert(id("quay/gull"), Wall(5));
        records.rename(&Renames::between(&old, &new));
        assert!(records.awaits_pass(&id("quay/puffin")));
        assert!(!records.awaits_pass(&id("quay/gull")), "a new server of the old name has not returned");
    }

    #[test]
    fn a_server_in_a_second_pool_begins_with_the_health_that_its_address_has() {
        let more =
            "\n[pools.pier]\ncheck = \"well\"\n[pools.pier.servers.tern]\naddress = \"192.0.2.21:80\"\n";
        let records = after(QUAY, &format!("{QUAY}{more}"), HealthState::Up);
        assert_eq!(records.health(&id("pier/tern")), HealthState::Up);
    }

    #[test]
    fn health_from_before_the_start_counts_once_and_for_its_address_alone() {
        let known =
            KnownHealth { state: HealthState::Down, since: Wall(7), feedback: None, held_until: None };
        let key = health_key(&id("quay/gull"), "192.0.2.21:80".parse().unwrap());
        let mut records =
            ServerRecords { known_health: BTreeMap::from([(key, known)]), ..ServerRecords::default() };
        records.settle_health(&document(&QUAY.replace("192.0.2.21", "192.0.2.22")), &Renames::default());
        assert_eq!(records.health(&id("quay/gull")), HealthState::Unproven);
        records.settle_health(&document(QUAY), &Renames::default());
        assert_eq!(
            (records.health(&id("quay/gull")), records.health[&id("quay/gull")].since),
            (HealthState::Down, Wall(7))
        );
        assert!(records.known_health.is_empty());
    }
}
