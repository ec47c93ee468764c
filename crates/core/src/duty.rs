//! Duty: what the operators say of a server, kept apart from configuration and health.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::time::Wall;

/// What the operators say of a server.
///
/// ```text
///              drain                withdraw
/// in service ───────▶ draining ───────────────▶ withdrawn
///     ▲  └──────────────────────────────────────▶  │
///     └───────────────── return ◀──────────────────┘
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Duty {
    /// It gets new work as far as its health allows.
    #[default]
    InService,
    /// No new clients; those it has may finish.
    Draining,
    /// Nothing more, at once.
    Withdrawn,
}

impl fmt::Display for Duty {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::InService => "in service",
            Self::Draining => "draining",
            Self::Withdrawn => "withdrawn",
        })
    }
}

/// A duty with who gave it, when and why.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DutyOrder {
    /// The duty that the order gives.
    pub duty: Duty,
    /// Why, in the operator's words.
    pub reason: String,
    /// Name of the token that gave the order.
    pub who: String,
    /// Its place among all orders: of two for one server the one with the larger number counts, whatever the clocks said.
    #[serde(default)]
    pub number: u64,
    /// When it was given.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub at: Wall,
}

/// Why an order is refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DutyRefusal {
    /// Nothing would be left to do the pool's work.
    #[error("{server} is the last eligible server of pool {pool}: without it every client would get 503")]
    LastOne {
        /// Name of the server in its pool.
        server: String,
        /// Name of the pool.
        pool: String,
    },
}

/// Refuses to take the last eligible server out of a pool.
///
/// # Errors
/// [`DutyRefusal::LastOne`] when `server` is eligible and `others_eligible` is zero.
pub fn guard(
    server: &crate::name::PoolServer,
    duty: Duty,
    is_eligible: bool,
    others_eligible: usize,
) -> Result<(), DutyRefusal> {
    let takes_out = match duty {
        Duty::InService => false,
        Duty::Draining | Duty::Withdrawn => true,
    };
    if takes_out && is_eligible && others_eligible == 0 {
        return Err(DutyRefusal::LastOne { server: server.to_string(), pool: server.pool.to_string() });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::last_one_drained(Duty::Draining, true, 0, false)]
    #[case::last_one_withdrawn(Duty::Withdrawn, true, 0, false)]
    #[case::others_left(Duty::Withdrawn, true, 1, true)]
    #[case::it_gets_nothing_anyway(Duty::Withdrawn, false, 0, true)]
    #[case::returning_is_always_right(Duty::InService, true, 0, true)]
    fn the_guard(#[case] duty: Duty, #[case] eligible: bool, #[case] others: usize, #[case] allowed: bool) {
        let server = "booking/gull".parse().unwrap();
        assert_eq!(guard(&server, duty, eligible, others).is_ok(), allowed);
    }
}
