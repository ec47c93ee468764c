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

/// The standing of every server of a pool: a server's share is its weight among the weights of all eligible ones.
#[must_use]
pub fn pool_shares(name: &Name, pool: &Pool, truths: &impl Truths) -> BTreeMap<Name, Standing> {
    let has_check = pool.check.is_some();
    let reasons: Vec<_> = pool
        .servers
        .iter()
        .map(|(server, spec)| {
            let id = PoolServer { pool: name.clone(), server: server.clone() };
            (server, spec.weight, reason(spec.weight, has_check, truths.duty(&id), truths.health(&id)))
        })
        .collect();
    let eligible = reasons.iter().filter(|(_, _, reason)| reason.is_none());
    let total: u32 = eligible.map(|(_, weight, _)| u32::from(*weight)).sum();
    reasons
        .into_iter()
        .map(|(server, weight, reason)| {
            let share = if reason.is_none() { f64::from(weight) / f64::from(total) } else { 0.0 };
            (server.clone(), Standing { reason, share })
        })
        .collect()
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
}
