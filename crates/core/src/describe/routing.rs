//! Why a pool was chosen.

use super::names;
use crate::routing::{PoolChoiceReason, WhyPool};

/// Why a frontend's pool was chosen, for people.
#[must_use]
pub fn pool_choice(why: &WhyPool) -> String {
    let chosen = match &why.reason {
        PoolChoiceReason::LastResort => "it is the last resort".to_owned(),
        PoolChoiceReason::FirstUsable => "it is the first usable pool in the order".to_owned(),
        PoolChoiceReason::DrawnByWeight { chances, kept_by } => {
            let parts: Vec<String> = chances
                .iter()
                .map(|chance| format!("{} {:.1} %", chance.pool, chance.share * 100.0))
                .collect();
            let kept = kept_by.as_ref().map(|cookie| format!(", and kept by cookie {cookie}"));
            format!("drawn by weight ({}){}", parts.join(", "), kept.unwrap_or_default())
        }
        PoolChoiceReason::Fastest { micros, others } => {
            let others: Vec<String> = others
                .iter()
                .map(|other| match other.micros {
                    Some(micros) => format!("{} in {:.1} ms", other.pool, micros / 1_000.0),
                    None => format!("{} not measured", other.pool),
                })
                .collect();
            let than = if others.is_empty() { String::new() } else { format!(" ({})", others.join(", ")) };
            format!("it responds fastest, in {:.1} ms{than}", micros / 1_000.0)
        }
        PoolChoiceReason::NotMeasured => "its response time is not measured yet".to_owned(),
        PoolChoiceReason::ClientNetwork { network } => format!("the client is in {network}"),
        PoolChoiceReason::NoClientNetwork => {
            "no other network holds the client, or the pool of that network is not usable".to_owned()
        }
        PoolChoiceReason::ServerName => {
            "the TLS of clients who ask for this server name is passed on to it".to_owned()
        }
        PoolChoiceReason::Pin => "a cookie ties the client to one of its servers".to_owned(),
        PoolChoiceReason::Connection => "the connection has one of its servers already".to_owned(),
    };
    if why.unusable.is_empty() { chosen } else { format!("{chosen}; not usable: {}", names(&why.unusable)) }
}
