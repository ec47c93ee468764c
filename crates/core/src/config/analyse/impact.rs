//! What a change would do, given the duties and the health of this moment.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::config::Document;
use crate::config::document::{CheckSpec, FrontendSpec};
use crate::config::pool_shares::{CapacityChange, CapacityKind, PoolShareChange, parts, room};
use crate::config::renames::Renames;
use crate::config::replay::RequestReplay;
use crate::eligibility::{Eligibility, ServerStates, pool_shares};
use crate::health::timing::{DetectionTiming, timing};
use crate::name::{Name, PoolServer};

/// How a change moves one server's expected share.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShareChange {
    /// The server whose share changes.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub server: PoolServer,
    /// Its expected share now, 0 to 1; absent when it is new.
    pub before: Option<f64>,
    /// Its expected share afterwards, 0 to 1; absent when it is removed.
    pub after: Option<f64>,
    /// Why it would get nothing afterwards, when that is so.
    pub why_none: Option<String>,
}

/// How a change moves the time in which failures are noticed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TimingChange {
    /// The pool whose servers are probed; absent for a check that no pool uses.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub pool: Option<Name>,
    /// The check that judges afterwards, or before when there is none afterwards.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub check: Name,
    /// Now; absent when there is no check yet.
    pub before: Option<DetectionTiming>,
    /// Afterwards; absent when there is no check any more.
    pub after: Option<DetectionTiming>,
}

/// A host whose clients would be shown another certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CertificateChange {
    /// The frontend that shows it.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub frontend: Name,
    /// The host that clients ask for; one with `*` in place of its first label stands for all that no certificate names.
    pub host: String,
    /// The certificate that is for it now; absent when none is.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub before: Option<Name>,
    /// The certificate that is for it afterwards; absent when none is.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub after: Option<Name>,
}

/// What a change touches and moves.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Impact {
    /// Frontends whose clients may notice: they or their pools change.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub frontends: Vec<Name>,
    /// Pools that change, or whose check does.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub pools: Vec<Name>,
    /// The servers whose expected share would move, in the order of their names.
    pub moves: Vec<ShareChange>,
    /// The pools whose part of a frontend's work would move, where the state of the servers alone decides it.
    #[serde(default)]
    pub pool_moves: Vec<PoolShareChange>,
    /// The pools whose servers' limits would leave them more or less room.
    #[serde(default)]
    pub rooms: Vec<CapacityChange>,
    /// How detection and recovery times change.
    pub timings: Vec<TimingChange>,
    /// Hosts whose clients would be shown another certificate, by frontend.
    #[serde(default)]
    pub certificates: Vec<CertificateChange>,
    /// Where sampled requests of the last hour would go; absent where nothing that decides about them changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(nullable = false))]
    pub requests: Option<RequestReplay>,
}

fn check_of<'d>(document: &'d Document, pool: &Name) -> Option<(&'d Name, &'d CheckSpec)> {
    let name = document.pools.get(pool)?.check.as_ref()?;
    Some((name, document.checks.get(name)?))
}

/// What the way from `old` to `new` touches and moves.
///
/// Both sides are computed with the same duties and health. A server that is new, or whose address or check
/// changes, is counted as if its first probe passes, for that is what the engineer asks: the shares to come. Those that were
/// tried and do not pass (`failing`) are counted as down.
#[must_use]
pub fn impact(
    old: &Document,
    new: &Document,
    truths: &impl ServerStates,
    failing: &BTreeSet<PoolServer>,
) -> Impact {
    let mut found = Impact::default();
    let sides = BeforeAfter::new(old, new, truths, failing);
    let gone = old.pools.keys().filter(|name| !new.pools.contains_key(*name) && !sides.is_renamed(name));
    let names: BTreeSet<_> = gone.chain(new.pools.keys()).collect();
    let mut touched = BTreeSet::new();
    for pool in names {
        let before = sides.old_pool(pool);
        let (was, will) = (check_of(old, before), check_of(new, pool));
        if was != will {
            let of = |side: Option<(&Name, &CheckSpec)>| side.map(|(_, check)| timing(check));
            let (before, after) = (of(was), of(will));
            if let Some((check, _)) = will.or(was).filter(|_| before != after) {
                found.timings.push(TimingChange {
                    pool: Some(pool.clone()),
                    check: check.clone(),
                    before,
                    after,
                });
            }
        } else if before == pool && old.pools.get(pool) == new.pools.get(pool) {
            continue;
        }
        touched.insert(pool);
        found.pools.push(pool.clone());
        sides.pool_moves(pool, &mut found.moves);
        sides.room_moves(pool, &mut found.rooms);
    }
    for (name, check) in new.checks.iter().filter(|(name, _)| !uses(new, name)) {
        let before = old.checks.get(name);
        if before != Some(check) {
            found.timings.push(TimingChange {
                pool: None,
                check: name.clone(),
                before: before.map(timing),
                after: Some(timing(check)),
            });
        }
    }
    let frontends: BTreeSet<_> = old.frontends.keys().chain(new.frontends.keys()).collect();
    for name in frontends {
        let (was, will) = (old.frontends.get(name), new.frontends.get(name));
        let rules = |document: &'_ Document, frontend: Option<&'_ FrontendSpec>| -> Vec<_> {
            frontend
                .map(|frontend| document.rules_of(frontend).map(|(_, rule)| rule.clone()).collect())
                .unwrap_or_default()
        };
        if was != will
            || rules(old, was) != rules(new, will)
            || will.is_some_and(|frontend| new.pools_of(frontend).any(|pool| touched.contains(pool)))
        {
            found.frontends.push(name.clone());
        }
        if let Some(frontend) = will {
            sides.part_moves(name, frontend, &mut found.pool_moves);
        }
    }
    found
}

fn uses(document: &Document, check: &Name) -> bool {
    document.pools.values().any(|pool| pool.checks().any(|name| name == check))
}

/// Both documents, and the truths as they are; servers that the change makes anew count as up, and those that it only
/// renames as what they are.
pub(in crate::config) struct BeforeAfter<'a, T> {
    old: &'a Document,
    new: &'a Document,
    truths: &'a T,
    failing: &'a BTreeSet<PoolServer>,
    renames: Renames,
    /// The old names by the new ones.
    old_pools: BTreeMap<Name, Name>,
    old_servers: BTreeMap<PoolServer, PoolServer>,
}

impl<'a, T: ServerStates> BeforeAfter<'a, T> {
    pub(in crate::config) fn new(
        old: &'a Document,
        new: &'a Document,
        truths: &'a T,
        failing: &'a BTreeSet<PoolServer>,
    ) -> Self {
        fn back<N: Clone + Ord>(renames: &BTreeMap<N, N>) -> BTreeMap<N, N> {
            renames.iter().map(|(from, to)| (to.clone(), from.clone())).collect()
        }
        let renames = Renames::between(old, new);
        let (old_pools, old_servers) = (back(&renames.pools), back(&renames.servers));
        Self { old, new, truths, failing, renames, old_pools, old_servers }
    }

    fn is_renamed(&self, pool: &Name) -> bool {
        self.renames.pools.contains_key(pool)
    }

    /// What a pool was called before.
    pub(in crate::config) fn old_pool<'n>(&'n self, pool: &'n Name) -> &'n Name {
        self.old_pools.get(pool).unwrap_or(pool)
    }

    /// What a server was called before.
    fn old_server<'n>(&'n self, server: &'n PoolServer) -> &'n PoolServer {
        self.old_servers.get(server).unwrap_or(server)
    }

    fn pool_moves(&self, pool: &Name, moves: &mut Vec<ShareChange>) {
        let old_name = self.old_pool(pool);
        let before = self.old.pools.get(old_name).map(|spec| pool_shares(old_name, spec, self.truths));
        let before: BTreeMap<Name, Eligibility> = before.unwrap_or_default();
        // What was there is looked at under the name that it will have.
        let renamed = |server: Name| {
            let id = PoolServer { pool: old_name.clone(), server };
            self.renames.servers.get(&id).map_or(id.server, |to| to.server.clone())
        };
        let before: BTreeMap<Name, Eligibility> =
            before.into_iter().map(|(server, standing)| (renamed(server), standing)).collect();
        let after = self.new.pools.get(pool).map(|spec| pool_shares(pool, spec, self)).unwrap_or_default();
        let servers: BTreeSet<_> = before.keys().chain(after.keys()).collect();
        for server in servers {
            let (was, will) = (before.get(server), after.get(server));
            let share = |standing: Option<&Eligibility>| standing.map(|standing| standing.share);
            if share(was) != share(will) {
                let why_none = will.and_then(|standing| standing.reason.as_ref()).map(ToString::to_string);
                moves.push(ShareChange {
                    server: PoolServer { pool: pool.clone(), server: server.clone() },
                    before: share(was),
                    after: share(will),
                    why_none,
                });
            }
        }
    }

    fn room_moves(&self, pool: &Name, moves: &mut Vec<CapacityChange>) {
        let old_name = self.old_pool(pool);
        let (Some(was), Some(will)) = (self.old.pools.get(old_name), self.new.pools.get(pool)) else {
            return;
        };
        for what in [CapacityKind::InFlight, CapacityKind::Connections, CapacityKind::EachSecond] {
            let before = room(old_name, was, self.truths, what);
            let after = room(pool, will, self, what);
            if before != after {
                moves.push(CapacityChange { pool: pool.clone(), room: what, before, after });
            }
        }
    }

    fn part_moves(&self, name: &Name, frontend: &FrontendSpec, moves: &mut Vec<PoolShareChange>) {
        let old_frontends = &self.renames.frontends;
        let old_name = old_frontends.iter().find(|(_, to)| *to == name).map_or(name, |(from, _)| from);
        let Some(was) = self.old.frontends.get(old_name) else { return };
        let (Some(before), Some(after)) =
            (parts(self.old, was, self.truths), parts(self.new, frontend, self))
        else {
            return;
        };
        let now = |old: &Name| self.renames.pools.get(old).unwrap_or(old).clone();
        let before: BTreeMap<Name, f64> = before.into_iter().map(|(pool, part)| (now(pool), part)).collect();
        let pools: BTreeSet<&Name> = before.keys().chain(after.keys().copied()).collect();
        for pool in pools {
            let (before, after) = (before.get(pool).copied(), after.get(pool).copied());
            if before.unwrap_or(0.0) != after.unwrap_or(0.0) {
                moves.push(PoolShareChange { frontend: name.clone(), pool: pool.clone(), before, after });
            }
        }
    }

    fn is_known(&self, server: &PoolServer) -> bool {
        let find = |document: &Document, server: &PoolServer| {
            let pool = document.pools.get(&server.pool)?;
            let check = pool.check.as_ref().and_then(|name| document.checks.get(name));
            Some((pool.servers.get(&server.server)?.address.get(), check.map(|check| check.kind.clone())))
        };
        let before = find(self.old, self.old_server(server));
        before.is_some() && before == find(self.new, server)
    }
}

impl<T: ServerStates> ServerStates for BeforeAfter<'_, T> {
    fn duty(&self, server: &PoolServer) -> crate::duty::Duty {
        self.truths.duty(self.old_server(server))
    }

    fn health(&self, server: &PoolServer) -> crate::health::HealthState {
        if self.failing.contains(server) {
            crate::health::HealthState::Down
        } else if self.is_known(server) {
            self.truths.health(self.old_server(server))
        } else {
            crate::health::HealthState::Up
        }
    }

    fn feedback(&self, server: &PoolServer) -> Option<crate::health::ServerFeedback> {
        self.truths.feedback(self.old_server(server)).filter(|_| self.is_known(server))
    }

    fn held_tier(&self, pool: &Name) -> Option<u8> {
        self.truths.held_tier(self.old_pool(pool))
    }
}
