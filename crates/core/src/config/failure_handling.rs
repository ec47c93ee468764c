//! What becomes of work while its server fails: how much a suspect server still gets, when a silent one is given up, and what a
//! server that goes down takes with it.

use std::fmt;

use serde::Serialize;

use super::document::Algorithm;
use crate::units::Span;

/// What becomes of connections whose server goes down, or is not the one that should have them any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum OpenConnections {
    /// They are reset, so that their clients connect anew and get another server.
    Break,
    /// They stay as long as they like.
    Keep,
}

impl fmt::Display for OpenConnections {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Break => "break",
            Self::Keep => "keep",
        })
    }
}

/// The keys of a pool that say what becomes of work while a server fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct FailureHandling {
    /// How much of its share a server gets while it is suspect, in percent. 1 to 100. Without it 50, and 100 where the
    /// algorithm is `hash` or `in-order`, for there a smaller weight moves keys or the first place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub suspect_share: Option<u8>,
    /// How long an idempotent request waits for the first byte of its answer before another server gets it. 10ms to 1h;
    /// without it a request waits for `first_byte_timeout`. Too short a time gives slow requests to two servers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<Span>,
    /// How many requests of a hundred may be given to another server by `retry_after`, so that a slow pool does not get more
    /// work by it. 1 to 100.
    #[serde(skip_serializing_if = "is_usual_budget")]
    pub retry_budget: u8,
    /// What becomes of TCP connections to a server that goes down.
    #[serde(skip_serializing_if = "breaks")]
    pub on_down: OpenConnections,
    /// What becomes of TCP connections to a server that stands by again, for work went back to a lower tier.
    #[serde(skip_serializing_if = "keeps")]
    pub on_failback: OpenConnections,
}

/// The part of a suspect server's share that it keeps where nothing is said, in percent.
const USUAL_SUSPECT_SHARE: u8 = 50;
/// The retry budget where nothing is said, in percent.
const USUAL_BUDGET: u8 = 10;

fn is_usual_budget(percent: &u8) -> bool {
    *percent == USUAL_BUDGET
}

fn breaks(on: &OpenConnections) -> bool {
    *on == OpenConnections::Break
}

fn keeps(on: &OpenConnections) -> bool {
    *on == OpenConnections::Keep
}

impl Default for FailureHandling {
    fn default() -> Self {
        Self {
            suspect_share: None,
            retry_after: None,
            retry_budget: USUAL_BUDGET,
            on_down: OpenConnections::Break,
            on_failback: OpenConnections::Keep,
        }
    }
}

impl FailureHandling {
    /// How much of its share a suspect server gets, in percent.
    #[must_use]
    pub fn suspect_percent(&self, algorithm: Algorithm) -> u8 {
        let usual = match algorithm {
            Algorithm::Hash | Algorithm::InOrder => 100,
            Algorithm::RoundRobin
            | Algorithm::LeastConnections
            | Algorithm::LeastLoad
            | Algorithm::RandomTwo => USUAL_SUSPECT_SHARE,
        };
        self.suspect_share.unwrap_or(usual)
    }
}
