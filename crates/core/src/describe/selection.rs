//! Why a server was selected, or was not, before the fact and after it.

use std::fmt;
use std::time::Duration;

use crate::balance::ServerFact;
use crate::config::document::Algorithm;
use crate::eligibility::IneligibleReason;
use crate::runtime::LimitReached;
use crate::units::humane;

/// Whether a decision is asked for or was made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tense {
    /// It is asked for: nothing is sent.
    Next,
    /// It was made.
    Made,
}

/// Why an algorithm chose a server, with the key that it went by and with what it knew of it.
#[must_use]
pub fn because(algorithm: Algorithm, key: Option<&str>, fact: Option<&ServerFact>, when: Tense) -> String {
    let turn = if when == Tense::Next { "its turn is next" } else { "it was its turn" };
    let knows = fact.map(|fact| format!(": {}", server_fact(fact))).unwrap_or_default();
    match (algorithm, key) {
        (Algorithm::RoundRobin, _) => turn.to_owned(),
        (Algorithm::Hash, Some(key)) => format!("{key}, and that key is its own{knows}"),
        (Algorithm::Hash, None) => format!("there is no key, so turns are taken, and {turn}"),
        (Algorithm::LeastConnections, _) => format!("it has the least work in flight for its weight{knows}"),
        (Algorithm::LeastLoad, _) => format!("work would wait least there for its weight{knows}"),
        (Algorithm::RandomTwo, _) => {
            format!(
                "of two servers drawn at random just now it is the less busy one{knows}; another draw may differ"
            )
        }
        (Algorithm::InOrder, _) => format!("it comes first in the order{knows}"),
    }
}

/// Why an eligible server was not preferred.
#[must_use]
pub fn why_not(algorithm: Algorithm) -> &'static str {
    match algorithm {
        Algorithm::RoundRobin => "the pool's turns pass it over",
        Algorithm::LeastConnections => {
            "the chosen one has less work for its weight, or was served less before"
        }
        Algorithm::LeastLoad => "work would wait longer there for its weight",
        Algorithm::RandomTwo => "it was not drawn, or was the busier of the two",
        Algorithm::Hash => "the key is another server's",
        Algorithm::InOrder => "it comes later in the order",
    }
}

/// Which limit a server has reached.
#[must_use]
pub fn full_words(full: LimitReached) -> &'static str {
    match full {
        LimitReached::InFlight => "it is full: as much work is in flight as its in_flight_limit allows",
        LimitReached::Connections => {
            "it is full: as many connections are open as its connection_limit allows"
        }
        LimitReached::Adaptive => {
            "it is full: as much work is in flight as its response times let it have (adaptive_limit)"
        }
        LimitReached::Rate => "it is full: it got as much this second as its rate_limit allows",
    }
}

/// What an algorithm goes by for a server: `2 in flight`.
#[must_use]
pub fn server_fact(fact: &ServerFact) -> String {
    match *fact {
        ServerFact::InFlight { count, at_bound: false } => format!("{count} in flight"),
        ServerFact::InFlight { count, at_bound: true } => {
            format!("{count} in flight, as much as its bound allows")
        }
        ServerFact::Load { in_flight, response_us: None } => {
            format!("{in_flight} in flight, no answer timed yet")
        }
        ServerFact::Load { in_flight, response_us: Some(micros) } => {
            format!("{in_flight} in flight, answers in {}", humane(Duration::from_micros(micros)))
        }
        ServerFact::Rank { rank, of } => format!("rank {rank} of {of}"),
    }
}

impl fmt::Display for IneligibleReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Withdrawn => "withdrawn by an operator",
            Self::Draining => "being drained by an operator",
            Self::Drained => "drained by an operator, and the deadline has passed",
            Self::AwaitsPass => "it returned, and has not passed a check since",
            Self::WeightZero => "its weight is 0",
            Self::Unproven => "no probe has ended yet",
            Self::Down => "down: its probes fail",
            Self::Recovering => "recovering: its probes pass, but not yet often enough",
            Self::AsksToDrain => "it asks to be drained",
            Self::Standby => "standing by for the tier that works",
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::in_flight(ServerFact::InFlight { count: 2, at_bound: false }, "2 in flight")]
    #[case::at_its_bound(ServerFact::InFlight { count: 9, at_bound: true }, "9 in flight, as much as its bound allows")]
    #[case::not_timed(ServerFact::Load { in_flight: 0, response_us: None }, "0 in flight, no answer timed yet")]
    #[case::timed(ServerFact::Load { in_flight: 3, response_us: Some(2_000) }, "3 in flight, answers in 2 ms")]
    #[case::rank(ServerFact::Rank { rank: 1, of: 3 }, "rank 1 of 3")]
    fn facts_of_algorithms_have_words(#[case] fact: ServerFact, #[case] words: &str) {
        assert_eq!(server_fact(&fact), words);
    }
}
