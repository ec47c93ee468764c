//! What a change would take from clients at this moment: the last eligible server, whichever key it loses it by.

use std::collections::{BTreeMap, BTreeSet};

use crate::config::document::{Document, FrontendSpec, PoolSpec};
use crate::config::impact::BeforeAfter;
use crate::config::warnings::{EligibleCount, Warning, WarningLevel, WarningReason};
use crate::eligibility::{ServerStates, pool_shares};
use crate::name::{Name, PoolServer};

/// How many servers of a pool are eligible and do not fail, of how many.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct WorkingServers {
    well: usize,
    of: usize,
    usable: bool,
}

impl WorkingServers {
    fn of_pool(self, pool: &Name) -> EligibleCount {
        EligibleCount { pool: pool.clone(), eligible: self.well, servers: self.of }
    }
}

fn well(name: &Name, document: &Document, truths: &impl ServerStates) -> WorkingServers {
    let Some(spec) = document.pools.get(name) else {
        return WorkingServers { well: 0, of: 0, usable: false };
    };
    let eligibilities = pool_shares(name, spec, truths);
    let well = eligibilities
        .values()
        .filter(|eligibility| eligibility.reason.is_none() && !eligibility.fails)
        .count();
    WorkingServers {
        well,
        of: eligibilities.len(),
        usable: well > 0 && well >= usize::from(spec.min_eligible),
    }
}

/// Says what the way from `old` to `new` takes from clients, given the duties and the health of this moment. `failing` are
/// servers that were tried with what the new document asks of them, and do not pass.
#[must_use]
pub fn losses(
    old: &Document,
    new: &Document,
    truths: &impl ServerStates,
    failing: &BTreeSet<PoolServer>,
) -> Vec<Warning> {
    let sides = BeforeAfter::new(old, new, truths, failing);
    let after: BTreeMap<&Name, WorkingServers> =
        new.pools.keys().map(|name| (name, well(name, new, &sides))).collect();
    let mut found = Vec::new();
    for (name, frontend) in &new.frontends {
        for pool in frontend.passthrough.keys() {
            let before = well(sides.old_pool(pool), old, truths);
            if before.well > 0 && after.get(pool).is_some_and(|working| working.well == 0) {
                found.push(no_server_left(name, frontend, &[(pool, after[pool])]));
            }
        }
        let now: Vec<(&Name, WorkingServers)> =
            frontend.chosen_pools().map(|pool| (pool, after[pool])).collect();
        let before = old.frontends.get(name).or_else(|| same_address(old, frontend));
        let had: Vec<WorkingServers> = before
            .iter()
            .flat_map(|frontend| frontend.chosen_pools())
            .map(|pool| well(pool, old, truths))
            .collect();
        // A frontend that has no server as it is has nothing to lose.
        let was_served = had.iter().any(|earlier| earlier.well > 0);
        // The servers of a frontend that is all new may not be there yet; those of pools that are known are what they are.
        let is_before_known = before.is_none()
            && frontend.chosen_pools().all(|pool| old.pools.contains_key(sides.old_pool(pool)));
        // That a pool is empty, or all its weights are 0, is said of the document itself.
        let is_said = frontend.chosen_pools().all(|pool| new.pools.get(pool).is_none_or(has_no_weight));
        if now.iter().all(|(_, working)| working.well == 0) {
            if (was_served || is_before_known) && !is_said {
                found.push(no_server_left(name, frontend, &now));
            }
            continue;
        }
        if !frontend.more.next_pools.is_empty() {
            for (pool, working) in &now {
                let was = well(sides.old_pool(pool), old, truths);
                if was.usable
                    && !working.usable
                    && before
                        .is_some_and(|frontend| frontend.pools().any(|before| before == sides.old_pool(pool)))
                {
                    found.push(pool_lost(name, pool, *working, new));
                }
            }
        }
    }
    found
}

fn has_no_weight(pool: &PoolSpec) -> bool {
    pool.servers.values().all(|server| server.weight == 0)
}

fn same_address<'d>(old: &'d Document, frontend: &FrontendSpec) -> Option<&'d FrontendSpec> {
    old.frontends.values().find(|candidate| candidate.endpoint() == frontend.endpoint())
}

fn no_server_left(name: &Name, frontend: &FrontendSpec, pools: &[(&Name, WorkingServers)]) -> Warning {
    let reason = WarningReason::NoServerLeft {
        frontend: name.clone(),
        protocol: frontend.protocol,
        pools: pools.iter().map(|(pool, working)| working.of_pool(pool)).collect(),
    };
    Warning::new(&reason, WarningLevel::Warning, &format!("frontends.{name}"))
}

fn pool_lost(name: &Name, pool: &Name, working: WorkingServers, document: &Document) -> Warning {
    let reason = WarningReason::PoolLost {
        frontend: name.clone(),
        pool: working.of_pool(pool),
        min_eligible: document.pools.get(pool).map_or(1, |spec| spec.min_eligible),
    };
    Warning::new(&reason, WarningLevel::Warning, &format!("frontends.{name}.{pool}"))
}
