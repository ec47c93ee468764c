//! What becomes of work while its server fails: how much a suspect server still gets, when a silent one is given up, and what a
//! server that goes down takes with it.

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::Algorithm;
use crate::units::Span;

/// What becomes of connections whose server goes down, or is not the one that should have them any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum OpenConnections {
    /// Connections are reset, so that clients connect again and get another server.
    Break,
    /// Connections stay until client or server closes them.
    Keep,
}

/// The keys of a pool that say what becomes of work while a server fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct FailureHandling {
    /// Part of its share that a suspect server gets, in percent.
    ///
    /// The default is 100 for `hash` and `in-order`, where a smaller weight would move keys or the first place.
    #[key(range = 1..=100, without = "50; 100 for hash and in-order", group = "Failing servers")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub suspect_share: Option<u8>,
    /// How long an idempotent request waits for the first byte of its response before another server gets it too.
    ///
    /// All of the request's body has to be there. Too short a time gives slow requests to two servers. Without it a request waits for
    /// `first_byte_timeout`, or until the check says that its server is down.
    #[key(range = "10ms".."1h")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<Span>,
    /// Most requests of a hundred that `retry_after` may give to another server.
    ///
    /// It keeps a pool that is slow as a whole from getting even more work.
    #[key(range = 1..=100, default = "10")]
    #[serde(skip_serializing_if = "is_usual_budget")]
    pub retry_budget: u8,
    /// Most requests and connections of a hundred that are offered to another server after one failed them.
    ///
    /// Ten may be so at once. When all of a pool fails, further attempts give it more work than its clients do. Without the key all are, up to `attempts`, so that
    /// one dead server among few costs its clients nothing until it is down.
    #[key(range = 1..=100, without = "any number", example = "20")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry_share: Option<u8>,
    /// What becomes of TCP connections to a server that goes down.
    #[key(default = "break")]
    #[serde(skip_serializing_if = "breaks")]
    pub on_down: OpenConnections,
    /// What becomes of TCP connections to a server that stands by again, because work returned to a lower tier.
    #[key(default = "keep")]
    #[serde(skip_serializing_if = "keeps")]
    pub on_failback: OpenConnections,
}

/// The part of a suspect server's share that it keeps where nothing is said, in percent.
const USUAL_SUSPECT_SHARE: u8 = 50;

fn is_usual_budget(percent: &u8) -> bool {
    *percent == FailureHandling::default().retry_budget
}

fn breaks(on: &OpenConnections) -> bool {
    *on == OpenConnections::Break
}

fn keeps(on: &OpenConnections) -> bool {
    *on == OpenConnections::Keep
}

impl Default for FailureHandling {
    fn default() -> Self {
        crate::config::keys::defaults()
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
