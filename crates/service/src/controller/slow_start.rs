//! What the dealing out remembers between snapshots: tiers that work is bound to, and servers on their ramps.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use merismos_api::EventKind;
use merismos_core::config::document::{Document, Failback, PoolSpec};
use merismos_core::eligibility::{IneligibleReason, RAMPED, eligible_per_tier, ineligible_reasons};
use merismos_core::name::{Name, PoolServer};
use merismos_core::tiers::{TierHold, lowest};
use serde_json::json;

use super::state::ControllerState;
use crate::clock::wall;

/// How often the share of a server on its ramp is raised.
pub(super) const BEAT: Duration = Duration::from_millis(250);
/// The least that a server on its ramp counts, in thousandths of its full share.
const RAMP_START: u32 = 10;

/// A server on its ramp.
#[derive(Clone, Copy, Debug)]
pub(super) struct SlowStart {
    since: Instant,
    length: Duration,
}

impl SlowStart {
    pub(super) fn thousandths(self) -> u32 {
        let part = self.since.elapsed().as_secs_f64() / self.length.as_secs_f64();
        ((part * f64::from(RAMPED)) as u32).clamp(RAMP_START, RAMPED)
    }
}

/// Why work can't be sent back to a lower tier.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FailbackError {
    #[error("there is no pool {0}")]
    NoPool(Name),
    #[error("pool {pool} works on tier {tier}, and no server of a lower tier can work")]
    NoLower { pool: Name, tier: u8 },
    #[error("pool {0} works on its lowest tier that can: there is nothing to send back")]
    NotHeld(Name),
}

/// Reasons after which a server begins again with a small share.
fn was_away(reason: IneligibleReason) -> bool {
    match reason {
        IneligibleReason::Withdrawn
        | IneligibleReason::Draining
        | IneligibleReason::Drained
        | IneligibleReason::AwaitsPass
        | IneligibleReason::AsksToDrain
        | IneligibleReason::WeightZero
        | IneligibleReason::Down
        | IneligibleReason::Recovering => true,
        IneligibleReason::Unproven | IneligibleReason::Standby => false,
    }
}

impl ControllerState {
    /// Follows what servers can do now, before a snapshot of these pools is compiled.
    pub(super) fn follow_pools<'p>(&mut self, pools: impl Iterator<Item = (&'p Name, &'p PoolSpec)>) {
        for (name, pool) in pools {
            if pool.ramp.is_some() || self.servers.ramps.keys().any(|server| server.pool == *name) {
                self.follow_ramps(name, pool);
            }
            if pool.failback == Failback::Automatic {
                self.servers.holds.remove(name);
            } else {
                self.follow_tier(name, pool);
            }
        }
    }

    fn follow_tier(&mut self, name: &Name, pool: &PoolSpec) {
        let able = eligible_per_tier(name, pool, &self.servers);
        let held = self.servers.holds.get(name).copied();
        let Some(hold) = TierHold::follow(held, &able, pool.tier_min_eligible, pool.failback, wall()) else {
            return;
        };
        if held == Some(hold) {
            return;
        }
        if let Some(before) = held.filter(|before| before.tier != hold.tier) {
            let says = format!("tier {} works now, after tier {}", hold.tier, before.tier);
            let detail = json!({ "from": before.tier, "to": hold.tier, "failback": pool.failback });
            self.reports.journal.write(EventKind::Tier, name.to_string(), says, detail);
        } else if held.is_some_and(|before| before.lower_able_since.is_none()) {
            let says = format!(
                "a lower tier can work again; tier {} goes on working (failback: {})",
                hold.tier, pool.failback
            );
            self.reports.journal.write(EventKind::Tier, name.to_string(), says, json!({ "tier": hold.tier }));
        }
        self.servers.holds.insert(name.clone(), hold);
        self.state_file.changed();
    }

    fn follow_ramps(&mut self, name: &Name, pool: &PoolSpec) {
        let snapshot = self.publisher.plane.snapshot();
        let before = snapshot.pools.iter().find(|pool| pool.name == *name);
        let before: BTreeMap<&Name, Option<IneligibleReason>> = before
            .iter()
            .flat_map(|pool| &pool.servers)
            .map(|server| (&server.name.server, server.standing.reason))
            .collect();
        let reasons = ineligible_reasons(name, pool, &self.servers);
        for (server, now) in pool.servers.keys().zip(reasons) {
            let id = PoolServer { pool: name.clone(), server: server.clone() };
            let was = before.get(server).copied().flatten();
            match (pool.ramp, now) {
                (Some(_), None) if self.servers.full_at_once.remove(&id) => {}
                (Some(length), None) if was.is_some_and(was_away) => {
                    let ramping = SlowStart { since: Instant::now(), length: length.get() };
                    self.servers.ramps.insert(id, ramping);
                }
                (Some(_), None) => {}
                (None, _) | (_, Some(_)) => drop(self.servers.ramps.remove(&id)),
            }
        }
    }

    /// Raises the shares of those on their ramps, and sends work back where the time has come.
    pub(super) fn on_beat(&mut self) {
        self.end_due_drains();
        if self.servers.ramps.is_empty() && self.servers.holds.is_empty() {
            return;
        }
        let mut touched: BTreeSet<Name> =
            self.servers.ramps.keys().map(|server| server.pool.clone()).collect();
        self.servers.ramps.retain(|_, ramping| ramping.thousandths() < RAMPED);
        let document = self.document();
        touched.extend(self.due_holds(&document));
        if !touched.is_empty() {
            self.publish_pools(&touched);
        }
    }

    /// The pools whose work goes back now.
    fn due_holds(&self, document: &Document) -> Vec<Name> {
        let due = |(name, hold): (&Name, &TierHold)| {
            let Failback::After(span) = document.pools.get(name)?.failback else { return None };
            let since = hold.lower_able_since?;
            (wall().since(since) >= span.get()).then(|| name.clone())
        };
        self.servers.holds.iter().filter_map(due).collect()
    }

    /// An operator orders that the work of a pool goes back to its lowest tier that can; gives that tier.
    pub(super) fn fail_back(&mut self, name: &Name, who: &str) -> Result<u8, FailbackError> {
        let document = self.document();
        let pool = document.pools.get(name).ok_or_else(|| FailbackError::NoPool(name.clone()))?;
        let able = eligible_per_tier(name, pool, &self.servers);
        let held =
            self.servers.holds.get(name).copied().ok_or_else(|| FailbackError::NotHeld(name.clone()))?;
        let released = held.released(&able, pool.tier_min_eligible);
        if released.tier == held.tier {
            return Err(match lowest(&able, pool.tier_min_eligible) {
                Some(lowest) if lowest < held.tier => FailbackError::NotHeld(name.clone()),
                Some(lowest) if lowest == held.tier && lowest == 0 => FailbackError::NotHeld(name.clone()),
                Some(_) | None => FailbackError::NoLower { pool: name.clone(), tier: held.tier },
            });
        }
        let says = format!("tier {} works now, after tier {}: sent back by {who}", released.tier, held.tier);
        let detail = json!({ "from": held.tier, "to": released.tier, "who": who });
        self.reports.journal.write(EventKind::Tier, name.to_string(), says, detail);
        self.servers.holds.insert(name.clone(), released);
        self.publish_pools(&BTreeSet::from([name.clone()]));
        self.state_file.changed();
        Ok(released.tier)
    }
}
