//! The one pure function that joins the three truths: configuration, duty and health.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::config::document::Pool;
use crate::duty::Duty;
use crate::health::State;
use crate::name::{Name, PoolServer};

/// What is known of servers beside the configuration.
pub trait Truths {
    /// What the operators say of a server.
    fn duty(&self, server: &PoolServer) -> Duty;
    /// What probes say of a server.
    fn health(&self, server: &PoolServer) -> State;
}

/// Why a server is not eligible.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Reason {
    /// An operator withdrew it.
    Withdrawn,
    /// An operator drains it.
    Draining,
    /// Its weight is 0.
    WeightZero,
    /// No probe has ended yet.
    Unproven,
    /// Probes fail.
    Down,
    /// Probes pass again, but not yet often enough.
    Recovering,
    /// It could work, and servers of a lower tier do.
    Standby,
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Withdrawn => "withdrawn by an operator",
            Self::Draining => "being drained by an operator",
            Self::WeightZero => "its weight is 0",
            Self::Unproven => "no probe has ended yet",
            Self::Down => "down: its probes fail",
            Self::Recovering => "recovering: its probes pass, but not yet often enough",
            Self::Standby => "standing by for a lower tier, which works",
        })
    }
}

/// The one answer for a server.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Standing {
    /// Why it may not get new work; `None` when it is eligible.
    pub reason: Option<Reason>,
    /// Its expected share of the pool's new work, 0 to 1.
    pub share: f64,
}

/// Whether a server may get new work, and if not, why: what people decided first, then what probes saw.
///
/// A pool without a check takes each of its servers to work.
#[must_use]
pub fn reason(weight: u16, has_check: bool, duty: Duty, health: State) -> Option<Reason> {
    match duty {
        Duty::Withdrawn => return Some(Reason::Withdrawn),
        Duty::Draining => return Some(Reason::Draining),
        Duty::InService => {}
    }
    if weight == 0 {
        return Some(Reason::WeightZero);
    }
    match health {
        _ if !has_check => None,
        State::Up | State::Suspect => None,
        State::Unproven => Some(Reason::Unproven),
        State::Down => Some(Reason::Down),
        State::Recovering => Some(Reason::Recovering),
    }
}

/// The standing of every server of a pool, by name.
#[must_use]
pub fn pool_shares(name: &Name, pool: &Pool, truths: &impl Truths) -> BTreeMap<Name, Standing> {
    pool.servers.keys().cloned().zip(standings(name, pool, truths)).collect()
}

/// The standing of every server of a pool, in the order of their names. The lowest tier in which a server can work
/// does; a server's share is its weight among the weights of that tier's working ones.
#[must_use]
pub fn standings(name: &Name, pool: &Pool, truths: &impl Truths) -> Vec<Standing> {
    let has_check = pool.check.is_some();
    let mut id = PoolServer { pool: name.clone(), server: name.clone() };
    let mut standings: Vec<_> = pool
        .servers
        .iter()
        .map(|(server, spec)| {
            id.server.clone_from(server);
            let reason = reason(spec.weight, has_check, truths.duty(&id), truths.health(&id));
            Standing { reason, share: 0.0 }
        })
        .collect();
    let with_specs = || standings.iter().zip(pool.servers.values());
    let works = with_specs().filter(|(it, _)| it.reason.is_none()).map(|(_, spec)| spec.tier).min();
    let is_working = |it: &Standing, tier: u8| it.reason.is_none() && Some(tier) == works;
    let total: u32 = with_specs()
        .filter(|(it, spec)| is_working(it, spec.tier))
        .map(|(_, spec)| u32::from(spec.weight))
        .sum();
    for (it, spec) in standings.iter_mut().zip(pool.servers.values()) {
        if is_working(it, spec.tier) {
            it.share = f64::from(spec.weight) / f64::from(total);
        } else if it.reason.is_none() {
            it.reason = Some(Reason::Standby);
        }
    }
    standings
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::works(1, true, Duty::InService, State::Up, None)]
    #[case::suspect_still_works(1, true, Duty::InService, State::Suspect, None)]
    #[case::down(1, true, Duty::InService, State::Down, Some(Reason::Down))]
    #[case::recovering(1, true, Duty::InService, State::Recovering, Some(Reason::Recovering))]
    #[case::unproven(1, true, Duty::InService, State::Unproven, Some(Reason::Unproven))]
    #[case::no_check(1, false, Duty::InService, State::Unproven, None)]
    #[case::weight_zero(0, true, Duty::InService, State::Up, Some(Reason::WeightZero))]
    #[case::duty_is_named_before_health(1, true, Duty::Withdrawn, State::Down, Some(Reason::Withdrawn))]
    #[case::duty_is_named_before_weight(0, true, Duty::Draining, State::Up, Some(Reason::Draining))]
    fn reasons(
        #[case] weight: u16,
        #[case] has_check: bool,
        #[case] duty: Duty,
        #[case] health: State,
        #[case] expected: Option<Reason>,
    ) {
        assert_eq!(reason(weight, has_check, duty, health), expected);
    }

    #[rstest]
    #[case::the_first_tier_works([State::Up, State::Up, State::Up], [Some(0.75), Some(0.25), None])]
    #[case::one_of_it_is_enough([State::Down, State::Up, State::Up], [None, Some(1.0), None])]
    #[case::the_next_takes_over([State::Down, State::Down, State::Up], [None, None, Some(1.0)])]
    #[case::nobody([State::Down, State::Down, State::Down], [None, None, None])]
    fn tiers(#[case] states: [State; 3], #[case] shares: [Option<f64>; 3]) {
        struct These([State; 3]);
        impl Truths for These {
            fn duty(&self, _: &PoolServer) -> Duty {
                Duty::InService
            }
            fn health(&self, server: &PoolServer) -> State {
                self.0[usize::from(server.server.as_str().as_bytes()[1] - b'0')]
            }
        }
        let text = "format = 2\n[checks.c]\nkind = \"tcp\"\n[pools.p]\ncheck = \"c\"\n\
                    servers.s0 = { address = \"192.0.2.1:80\", weight = 3 }\n\
                    servers.s1 = { address = \"192.0.2.2:80\" }\n\
                    servers.s2 = { address = \"192.0.2.3:80\", tier = 1 }\n";
        let checked = crate::config::load(text, crate::config::Format::Toml).unwrap();
        let (name, pool) = checked.document().pools.first_key_value().unwrap();
        let standings = pool_shares(name, pool, &These(states));
        let found: Vec<_> = standings.values().map(|it| it.reason.is_none().then_some(it.share)).collect();
        assert_eq!(found, shares);
        let stands_by = standings.values().filter(|it| it.reason == Some(Reason::Standby)).count();
        assert_eq!(stands_by, usize::from(shares[2].is_none() && states[2] == State::Up));
    }
}
