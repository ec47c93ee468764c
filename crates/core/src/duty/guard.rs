//! What an order may not do: leave a pool without enough servers, or the rest with more work than they can take.

use std::collections::BTreeSet;

use crate::name::{Name, PoolServer};
use crate::runtime::ServerRuntimeLimits;
use crate::tiers::{self, EligiblePerTier, TIERS};

/// What a pool has before an order.
#[derive(Clone, Debug)]
pub struct PoolStock {
    /// Name of the pool.
    pub pool: Name,
    /// Its `tier_min_eligible`.
    pub tier_min_eligible: u16,
    /// Its `min_eligible`.
    pub min_eligible: u16,
    /// Its servers.
    pub servers: Vec<ServerStock>,
    /// The most work that it had lately.
    pub peak: LoadPeak,
}

/// What a server counts for its pool.
#[derive(Clone, Debug)]
pub struct ServerStock {
    /// Name of the server.
    pub name: Name,
    /// Its tier.
    pub tier: u8,
    /// Whether it could work: it is eligible, or stands by.
    pub is_able: bool,
    /// What it may be given, with the part of it that the capacity allows.
    pub limits: ServerRuntimeLimits,
}

/// The most work that a pool had within a time.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct LoadPeak {
    /// Requests, connections or datagrams that began in a second.
    pub per_second: f64,
    /// How many were open at once.
    pub in_flight: u64,
    /// How many hours were looked at: 24 when the service runs for that long.
    pub hours: u32,
}

/// Why an order is refused.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum DutyRefusal {
    /// Nothing would be left to do the pool's work.
    #[error("pool {pool} would have no eligible server without {out}: none of its clients could be served")]
    NoneLeft {
        /// Name of the pool.
        pool: Name,
        /// The servers that the order takes out.
        out: String,
    },
    /// Fewer servers would be left than the pool needs.
    #[error(
        "pool {pool} would have {left} of {before} eligible servers without {out}; its {key} is {minimum}"
    )]
    TooFew {
        /// Name of the pool.
        pool: Name,
        /// The servers that the order takes out.
        out: String,
        /// How many eligible servers its working tier has now.
        before: u32,
        /// How many the tier that works then would have.
        left: u32,
        /// The key with the larger minimum.
        key: &'static str,
        /// The larger minimum.
        minimum: u16,
    },
    /// The rest could not take the pool's work.
    #[error(
        "pool {pool} had up to {peak} {what} within the last {hours} h; without {out} the rest ({left} eligible) may take {capacity} by {key}"
    )]
    OverCapacity {
        /// Name of the pool.
        pool: Name,
        /// The servers that the order takes out.
        out: String,
        /// The peak, in `what`.
        peak: u64,
        /// What is counted, in words.
        what: &'static str,
        /// How many hours were looked at.
        hours: u32,
        /// How many eligible servers would be left.
        left: u32,
        /// What they may take together.
        capacity: u64,
        /// The key that limits them.
        key: &'static str,
    },
}

/// What is left of a pool's servers.
struct Rest<'s> {
    tier: u8,
    servers: Vec<&'s ServerStock>,
}

impl PoolStock {
    fn rest(&self, is_left: impl Fn(&ServerStock) -> bool) -> Option<Rest<'_>> {
        let left = |server: &&ServerStock| server.is_able && is_left(server);
        let mut able: EligiblePerTier = [0; TIERS];
        for server in self.servers.iter().filter(left) {
            able[usize::from(server.tier)] += 1;
        }
        let tier =
            tiers::lowest(&able, self.tier_min_eligible).filter(|tier| able[usize::from(*tier)] > 0)?;
        let servers = self.servers.iter().filter(left).filter(|server| server.tier == tier).collect();
        Some(Rest { tier, servers })
    }

    /// What speaks against taking these servers out.
    fn refusals(&self, leaving: &BTreeSet<&Name>) -> Vec<DutyRefusal> {
        let lost = |server: &&ServerStock| server.is_able && leaving.contains(&server.name);
        let lost: Vec<&str> = self.servers.iter().filter(lost).map(|server| server.name.as_str()).collect();
        let Some(before) = self.rest(|_| true).filter(|_| !lost.is_empty()) else { return Vec::new() };
        let (pool, out) = (self.pool.clone(), lost.join(", "));
        let Some(after) = self.rest(|server| !leaving.contains(&server.name)) else {
            return vec![DutyRefusal::NoneLeft { pool, out }];
        };
        let (had, left) = (before.servers.len() as u32, after.servers.len() as u32);
        let tier = ("tier_min_eligible", self.tier_min_eligible);
        let (key, minimum) =
            if self.min_eligible > tier.1 { ("min_eligible", self.min_eligible) } else { tier };
        let mut refusals = Vec::new();
        if left < u32::from(minimum) && (left < had || after.tier != before.tier) {
            let (pool, out) = (pool.clone(), out.clone());
            refusals.push(DutyRefusal::TooFew { pool, out, before: had, left, key, minimum });
        }
        if after.tier == before.tier && left == had {
            return refusals;
        }
        let capacity = |limit: fn(&ServerRuntimeLimits) -> Option<u32>| {
            after.servers.iter().map(|server| limit(&server.limits).map(u64::from)).sum::<Option<u64>>()
        };
        let peaks = [
            ("rate_limit", "a second", self.peak.per_second.ceil() as u64, capacity(|limits| limits.rate)),
            (
                "in_flight_limit",
                "in flight at once",
                self.peak.in_flight,
                capacity(|limits| limits.in_flight),
            ),
        ];
        for (key, what, peak, capacity) in peaks {
            if let Some(capacity) = capacity.filter(|capacity| *capacity < peak) {
                let (pool, out, hours) = (pool.clone(), out.clone(), self.peak.hours);
                refusals.push(DutyRefusal::OverCapacity {
                    pool,
                    out,
                    peak,
                    what,
                    hours,
                    left,
                    capacity,
                    key,
                });
            }
        }
        refusals
    }
}

/// What speaks against taking servers out of their pools, all of it. Servers that could not work anyway, and those of pools that are
/// not among `pools`, are not looked at. Of a pool that works on another tier afterwards, that tier is judged.
#[must_use]
pub fn guard(pools: &[PoolStock], leaving: &BTreeSet<PoolServer>) -> Vec<DutyRefusal> {
    let of_pool = |pool: &PoolStock| {
        let leaving = leaving.iter().filter(|server| server.pool == pool.pool);
        leaving.map(|server| &server.server).collect::<BTreeSet<_>>()
    };
    pools.iter().flat_map(|pool| pool.refusals(&of_pool(pool))).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Servers as `name tier rate_limit`; those with a `-` before their name can't work.
    fn pool(servers: &[(&str, u8, u32)]) -> PoolStock {
        let server = |(name, tier, rate): &(&str, u8, u32)| ServerStock {
            name: name.trim_start_matches('-').parse().unwrap(),
            tier: *tier,
            is_able: !name.starts_with('-'),
            limits: ServerRuntimeLimits {
                rate: (*rate > 0).then_some(*rate),
                ..ServerRuntimeLimits::default()
            },
        };
        PoolStock {
            pool: "booking".parse().unwrap(),
            tier_min_eligible: 1,
            min_eligible: 1,
            servers: servers.iter().map(server).collect(),
            peak: LoadPeak { per_second: 149.5, in_flight: 9, hours: 24 },
        }
    }

    fn words(stock: PoolStock, leaving: &[&str]) -> String {
        let leaving = leaving.iter().map(|name| format!("booking/{name}").parse().unwrap()).collect();
        let refusals = guard(&[stock], &leaving);
        refusals.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
    }

    const THREE: [(&str, u8, u32); 3] = [("auk", 0, 0), ("gull", 0, 0), ("tern", 0, 0)];

    #[rstest]
    #[case::one_of_three(&THREE, 1, &["auk"], "")]
    #[case::all(&THREE, 1, &["auk", "gull", "tern"], "pool booking would have no eligible server without auk, gull, tern: none of its clients could be served")]
    #[case::the_last_able_one(&[("auk", 0, 0), ("-gull", 0, 0)], 1, &["auk"], "pool booking would have no eligible server without auk: none of its clients could be served")]
    #[case::one_that_could_not_work(&[("auk", 0, 0), ("-gull", 0, 0)], 1, &["gull"], "")]
    #[case::below_the_minimum(&THREE, 2, &["auk", "gull"], "pool booking would have 1 of 3 eligible servers without auk, gull; its min_eligible is 2")]
    #[case::at_the_minimum(&THREE, 2, &["auk"], "")]
    #[case::the_next_tier_takes_over(&[("auk", 0, 0), ("gull", 1, 0)], 1, &["auk"], "")]
    #[case::the_next_tier_is_too_small(&[("auk", 0, 0), ("gull", 0, 0), ("tern", 1, 0)], 2, &["auk", "gull"], "pool booking would have 1 of 2 eligible servers without auk, gull; its min_eligible is 2")]
    #[case::one_that_stands_by(&[("auk", 0, 0), ("gull", 0, 0), ("tern", 1, 0)], 2, &["tern"], "")]
    #[case::the_rest_is_too_slow(&[("auk", 0, 80), ("gull", 0, 80), ("tern", 0, 69)], 1, &["auk"], "pool booking had up to 150 a second within the last 24 h; without auk the rest (2 eligible) may take 149 by rate_limit")]
    #[case::the_rest_is_fast_enough(&[("auk", 0, 80), ("gull", 0, 80), ("tern", 0, 70)], 1, &["auk"], "")]
    #[case::one_without_a_limit(&[("auk", 0, 80), ("gull", 0, 0), ("tern", 0, 9)], 1, &["auk"], "")]
    fn orders_that_leave_too_little_are_refused(
        #[case] servers: &[(&str, u8, u32)],
        #[case] min_eligible: u16,
        #[case] leaving: &[&str],
        #[case] refusal: &str,
    ) {
        let stock = PoolStock { min_eligible, ..pool(servers) };
        assert_eq!(words(stock, leaving), refusal);
    }

    #[test]
    fn a_tier_that_is_large_enough_works_before_a_smaller_one() {
        let stock = PoolStock {
            tier_min_eligible: 2,
            ..pool(&[("auk", 0, 0), ("gull", 0, 0), ("tern", 1, 0), ("skua", 1, 0)])
        };
        assert_eq!(words(stock.clone(), &["auk"]), "", "tier 1 works then, with two");
        assert_eq!(
            words(stock, &["auk", "tern"]),
            "pool booking would have 1 of 2 eligible servers without auk, tern; its tier_min_eligible is 2"
        );
    }
}
