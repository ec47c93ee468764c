//! Which of a frontend's pools gets a request.

use std::net::IpAddr;
use std::sync::Arc;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use super::request_facts::RequestFacts;
use super::snapshot::{Frontend, Pool};
use crate::draw::{digest, mix, part};
use crate::name::{Name, PoolServer};
use crate::time::Tick;

/// More than the one pool that every frontend has.
#[derive(Clone, Debug)]
pub struct PoolChoice {
    /// All pools, the frontend's first one first.
    pub pools: Vec<Arc<Pool>>,
    /// How one is chosen among those that are usable.
    pub by: PoolReason,
    /// The one that takes what none of them will.
    pub last_resort: Option<Arc<Pool>>,
    /// The cookie that keeps what was drawn for a client by weight.
    pub kept_by: Option<Box<str>>,
}

/// How a pool is chosen.
#[derive(Clone, Debug)]
pub enum PoolReason {
    /// The first usable one.
    Order,
    /// At random, in proportion to these weights.
    Weight(Vec<u32>),
    /// The one that answers fastest.
    Latency,
    /// The one whose networks hold the client, the longest prefix first; the first one for all others.
    Network(Vec<(IpNet, usize)>),
}

/// A pool that was chosen, and why.
#[derive(Clone, Copy, Debug)]
pub struct ChosenPool<'a> {
    /// Its number among the frontend's pools; the last resort comes after all others.
    pub number: usize,
    /// The pool that was chosen.
    pub pool: &'a Arc<Pool>,
}

/// Why a pool was chosen, and which others could not be.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WhyPool {
    /// The rule by which the pool was chosen.
    #[serde(flatten)]
    pub reason: PoolChoiceReason,
    /// The frontend's pools that were not usable.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub unusable: Vec<Name>,
}

/// Why a pool was chosen among several.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "reason", rename_all = "snake_case")]
pub enum PoolChoiceReason {
    /// No other pool is usable.
    LastResort,
    /// It comes first in the order.
    FirstUsable,
    /// It was drawn by weight.
    DrawnByWeight {
        /// How likely each usable pool was.
        chances: Vec<PoolChance>,
        /// The cookie that keeps what was drawn; absent where every request is drawn.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[cfg_attr(feature = "schema", schema(nullable = false))]
        kept_by: Option<String>,
    },
    /// It has the shortest response time.
    Fastest {
        /// Its response time, in microseconds.
        micros: f64,
        /// Those of the other usable pools.
        others: Vec<PoolLatency>,
    },
    /// Its response time is not known yet: it is asked to learn it.
    NotMeasured,
    /// The client is in a network of the pool.
    ClientNetwork {
        /// The network of the rule that the client's address is in.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        network: IpNet,
    },
    /// No other pool is for the client's network, or that one is not usable.
    NoClientNetwork,
    /// The TLS of clients who ask for this server name is passed on to it.
    ServerName,
    /// A cookie ties the client to one of its servers.
    Pin,
    /// The connection has one of its servers already.
    Connection,
}

/// How likely a pool was to be drawn.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PoolChance {
    /// The pool that may be drawn.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub pool: Name,
    /// From 0 to 1.
    pub share: f64,
}

/// The response time of a pool.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PoolLatency {
    /// The pool whose response time was measured.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub pool: Name,
    /// In microseconds; none where it is not measured.
    pub micros: Option<f64>,
}

/// Where the work of a frontend with several pools goes now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CurrentRouting {
    /// Where it goes when all is well.
    AsMeant,
    /// To a later pool of the order: the first ones are not usable.
    To(Name),
    /// To the last resort: no other pool is usable.
    ToLastResort(Name),
    /// To the other pools: these are not usable.
    Without(Vec<Name>),
    /// To none: no pool is usable, and there is no last resort.
    Nowhere,
}

/// Pools that were asked in vain for one request, as bits by their numbers.
#[derive(Clone, Copy, Debug, Default)]
pub struct AskedPools(u64);

/// The most pools that a frontend may have.
pub const MOST_POOLS: usize = 32;

impl AskedPools {
    /// Notes that a pool was asked, by its number among the frontend's pools.
    pub fn note(&mut self, number: usize) {
        self.0 |= 1 << number.min(63);
    }

    /// Whether a pool was asked.
    #[must_use]
    pub fn holds(self, number: usize) -> bool {
        self.0 >> number.min(63) & 1 == 1
    }

    /// Whether none was asked.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }
}

impl Frontend {
    /// The pool for a request of this client, among those that were not asked yet. With one pool it is that one,
    /// usable or not: it is the one to say why not. Where a cookie keeps the choice `draw` is the number of the cookie.
    #[must_use]
    pub fn choose(&self, client: IpAddr, draw: u64, now: Tick, asked: AskedPools) -> Option<ChosenPool<'_>> {
        let Some(choice) = &self.choice else {
            return asked.is_empty().then_some(ChosenPool { number: 0, pool: &self.pool });
        };
        let usable = |number: &usize| choice.pools[*number].usable && !asked.holds(*number);
        let in_order = || (0..choice.pools.len()).find(usable);
        let found = match &choice.by {
            PoolReason::Order => in_order(),
            PoolReason::Weight(weights) if choice.kept_by.is_some() => {
                kept(&choice.pools, weights, usable, draw)
            }
            PoolReason::Weight(weights) => drawn(weights, &usable, draw),
            PoolReason::Latency => {
                let pace = |number: usize| choice.pools[number].cell.pace.typical(now, None).unwrap_or(0.0);
                let usable = (0..choice.pools.len()).filter(usable);
                usable.min_by(|a, b| pace(*a).total_cmp(&pace(*b)))
            }
            PoolReason::Network(networks) => {
                let client = client.to_canonical();
                let meant =
                    networks.iter().find(|(network, _)| network.contains(&client)).map(|(_, number)| *number);
                meant.filter(usable).or_else(in_order)
            }
        };
        if let Some(number) = found {
            return Some(ChosenPool { number, pool: &choice.pools[number] });
        }
        let last = choice.pools.len();
        let resort = choice.last_resort.as_ref().filter(|_| !asked.holds(last));
        // Where none will, the first one says why not, unless one sends work to servers that fail.
        let fails = |number: &usize| {
            let pool = &choice.pools[*number];
            !asked.holds(*number)
                && pool.servers.iter().any(|server| server.standing.reason.is_none() && server.standing.fails)
        };
        let first = || {
            let number = (0..choice.pools.len()).find(fails).or_else(|| asked.is_empty().then_some(0))?;
            Some(ChosenPool { number, pool: &choice.pools[number] })
        };
        resort.map(|pool| ChosenPool { number: last, pool }).or_else(first)
    }

    /// The number of the cookie by which a request keeps its pool; `None` where none keeps it, or the request has none.
    #[must_use]
    pub fn kept_draw(&self, facts: &RequestFacts<'_>) -> Option<u64> {
        let cookie = self.choice.as_ref()?.kept_by.as_deref()?;
        facts.cookies(cookie).find_map(kept_number)
    }

    /// All of its pools, the last resort at the end.
    pub fn pools(&self) -> impl Iterator<Item = &Arc<Pool>> {
        let only = self.choice.is_none().then_some(&self.pool);
        let more = self.choice.iter().flat_map(|choice| choice.pools.iter().chain(&choice.last_resort));
        only.into_iter().chain(more)
    }

    /// All of its pools, those of its rules, and those that TLS is passed on to; a pool that is several of these comes several times.
    pub fn all_pools(&self) -> impl Iterator<Item = &Arc<Pool>> {
        let of_rules = self.rules.iter().flat_map(|rules| rules.pools());
        self.pools().chain(of_rules).chain(self.passed_names().map(|(_, pool)| pool))
    }

    /// The server names whose TLS is passed on, with the pool that gets it.
    pub fn passed_names(&self) -> impl Iterator<Item = (&[String], &Arc<Pool>)> {
        let ways = self.passthrough.iter().flat_map(|passthrough| passthrough.ways.iter());
        ways.map(|way| (&*way.names, &way.frontend.pool))
    }

    /// The frontend as a client sees it whose TLS is passed on by this server name; `None` when it is not.
    #[must_use]
    pub fn passed_on(&self, server_name: &str) -> Option<&Arc<Self>> {
        let passthrough = self.passthrough.as_deref()?;
        let (place, _) = passthrough.choice.choose(Some(server_name))?;
        passthrough.ways.get(place).map(|way| &way.frontend)
    }

    /// Where its work goes now, of clients that nothing ties to a server.
    #[must_use]
    pub fn goes(&self) -> CurrentRouting {
        let Some(choice) = &self.choice else { return CurrentRouting::AsMeant };
        let Some(first) = choice.pools.iter().position(|pool| pool.usable) else {
            return choice
                .last_resort
                .as_ref()
                .map_or(CurrentRouting::Nowhere, |pool| CurrentRouting::ToLastResort(pool.name.clone()));
        };
        if matches!(choice.by, PoolReason::Order) {
            return if first == 0 {
                CurrentRouting::AsMeant
            } else {
                CurrentRouting::To(choice.pools[first].name.clone())
            };
        }
        let passed: Vec<Name> =
            choice.pools.iter().filter(|pool| !pool.usable).map(|pool| pool.name.clone()).collect();
        if passed.is_empty() { CurrentRouting::AsMeant } else { CurrentRouting::Without(passed) }
    }

    /// Which part of the work of a client like this each pool gets, by its place among [`pools`](Self::pools).
    #[must_use]
    pub fn pool_shares(&self, client: IpAddr, now: Tick) -> Vec<f64> {
        let mut shares = vec![0.0; self.pools().count()];
        if let Some(PoolChoice { pools, by: PoolReason::Weight(weights), .. }) = self.choice.as_deref() {
            let total: u32 =
                pools.iter().zip(weights).filter(|(pool, _)| pool.usable).map(|(_, weight)| weight).sum();
            if total > 0 {
                for (number, _) in pools.iter().enumerate().filter(|(_, pool)| pool.usable) {
                    shares[number] = f64::from(weights[number]) / f64::from(total);
                }
                return shares;
            }
        }
        if let Some(chosen) = self.choose(client, 0, now, AskedPools::default()) {
            shares[chosen.number] = 1.0;
        }
        shares
    }

    /// The part of the work of a client like this that each server should get, 0 to 1.
    #[must_use]
    pub fn expected(&self, client: IpAddr, now: Tick) -> Vec<(PoolServer, f64)> {
        let with_share = self.pools().zip(self.pool_shares(client, now));
        let servers = with_share.flat_map(|(pool, part)| {
            pool.servers.iter().map(move |server| (server.name.clone(), part * server.standing.share))
        });
        servers.collect()
    }

    /// Why a pool was chosen; `None` where there is only one.
    #[must_use]
    pub fn why_pool(&self, chosen: &ChosenPool<'_>, client: IpAddr, now: Tick) -> Option<WhyPool> {
        if self.is_passthrough {
            return Some(WhyPool { reason: PoolChoiceReason::ServerName, unusable: Vec::new() });
        }
        let choice = self.choice.as_ref()?;
        let unusable =
            choice.pools.iter().filter(|pool| !pool.usable).map(|pool| pool.name.clone()).collect();
        let micros = |pool: &Pool| pool.cell.pace.typical(now, None);
        let others = || choice.pools.iter().filter(|pool| pool.usable && pool.name != chosen.pool.name);
        let reason = match &choice.by {
            _ if chosen.number == choice.pools.len() => PoolChoiceReason::LastResort,
            PoolReason::Order => PoolChoiceReason::FirstUsable,
            PoolReason::Weight(_) => {
                let chances = choice.pools.iter().zip(self.pool_shares(client, now));
                let chance = |(pool, share): (&Arc<Pool>, f64)| PoolChance { pool: pool.name.clone(), share };
                PoolChoiceReason::DrawnByWeight {
                    chances: chances.filter(|(pool, _)| pool.usable).map(chance).collect(),
                    kept_by: choice.kept_by.as_deref().map(str::to_owned),
                }
            }
            PoolReason::Latency => match micros(chosen.pool) {
                Some(own) => PoolChoiceReason::Fastest {
                    micros: own,
                    others: others()
                        .map(|other| PoolLatency { pool: other.name.clone(), micros: micros(other) })
                        .collect(),
                },
                None => PoolChoiceReason::NotMeasured,
            },
            PoolReason::Network(networks) => {
                let client = client.to_canonical();
                let own = networks.iter().find(|(network, _)| network.contains(&client));
                match own.filter(|(_, number)| *number == chosen.number) {
                    Some((network, _)) => PoolChoiceReason::ClientNetwork { network: *network },
                    None => PoolChoiceReason::NoClientNetwork,
                }
            }
        };
        Some(WhyPool { reason, unusable })
    }
}

/// One of the usable ones, in proportion to their weights.
fn drawn(weights: &[u32], usable: &impl Fn(&usize) -> bool, draw: u64) -> Option<usize> {
    let usable = || (0..weights.len()).filter(|number| usable(number));
    let total: u64 = usable().map(|number| u64::from(weights[number])).sum();
    if total == 0 {
        return None;
    }
    let mut at = part(draw, total);
    usable().find(|number| {
        let weight = u64::from(weights[*number]);
        let here = at < weight;
        at = at.saturating_sub(weight);
        here
    })
}

/// The usable one that a number means: by weighted rendezvous (Schindelhauer and Schomaker, 2005), so that another weight of one pool moves clients to it or
/// away from it alone.
fn kept(pools: &[Arc<Pool>], weights: &[u32], usable: impl Fn(&usize) -> bool, number: u64) -> Option<usize> {
    let score = |place: usize| {
        let even =
            (mix(number ^ digest(pools[place].name.as_str().as_bytes())) >> 11) as f64 / (1_u64 << 53) as f64;
        -even.max(f64::MIN_POSITIVE).ln() / f64::from(weights[place])
    };
    let candidates = (0..pools.len()).filter(|place| usable(place) && weights[*place] > 0);
    candidates.min_by(|a, b| score(*a).total_cmp(&score(*b)))
}

/// The number that a cookie holds which keeps a choice: eight hexadecimal digits.
#[must_use]
pub fn kept_number(value: &[u8]) -> Option<u64> {
    let is_one = value.len() == 8 && value.iter().all(u8::is_ascii_hexdigit);
    let digits = str::from_utf8(value).ok().filter(|_| is_one)?;
    u32::from_str_radix(digits, 16).ok().map(u64::from)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::digits(b"0000001f", Some(31))]
    #[case::the_largest(b"FFFFffff", Some(0xffff_ffff))]
    #[case::too_few(b"1f", None)]
    #[case::a_sign(b"+000001f", None)]
    #[case::no_digits(b"zzzzzzzz", None)]
    fn the_number_of_a_cookie_has_eight_digits(#[case] value: &[u8], #[case] number: Option<u64>) {
        assert_eq!(kept_number(value), number);
    }
}
