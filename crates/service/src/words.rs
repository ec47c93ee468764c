//! Decisions in words, before the fact and after it.

use merismos_core::config::document::Algorithm;
use merismos_core::runtime::LimitReached;

/// Whether a decision is asked for or was made.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tense {
    Next,
    Made,
}

/// Why an algorithm chose a server, with the key that it went by and with what it knew of it.
pub(crate) fn because(algorithm: Algorithm, key: Option<&str>, knows: Option<&str>, when: Tense) -> String {
    let turn = if when == Tense::Next { "its turn is next" } else { "it was its turn" };
    let knows = knows.map(|knows| format!(": {knows}")).unwrap_or_default();
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
pub(crate) fn why_not(algorithm: Algorithm) -> &'static str {
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
pub(crate) fn full_words(full: LimitReached) -> &'static str {
    match full {
        LimitReached::InFlight => "it is full: as much work is in flight as its in_flight_limit allows",
        LimitReached::Connections => {
            "it is full: as many connections are open as its connection_limit allows"
        }
        LimitReached::Rate => "it is full: it got as much this second as its rate_limit allows",
    }
}
