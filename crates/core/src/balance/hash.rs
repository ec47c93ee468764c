//! The same server for the same key, with as little movement as possible when servers come and go.

use super::round_robin::RoundRobin;
use super::{Balance, Excluded, Member, PickContext, ServerFact};
use crate::draw::{GOLDEN, mix};
use crate::runtime::PoolRuntime;

/// A slot that no server owns.
const NO_OWNER: u32 = u32::MAX;
/// Pools of up to so many servers compare all of them for each key.
const MOST_COMPARED: usize = 64;
/// How many slots a key looks at before the eligible servers are compared one by one. With one eligible server among
/// sixteen that happens to fewer than one key in a hundred.
const MOST_LOOKS: u64 = 4_096;
/// The smallest number of slots; larger ones are four times each other, for a change of size moves most keys.
const FEWEST_SLOTS: usize = 1_024;
/// How many slots there are for each claim at least. Fewer would make keys look shorter, and would make more claims
/// meet: when a server is taken out of the document, those who had to give way to it take its slots back.
const SLOTS_PER_CLAIM: usize = 12;
/// The weights that one slot stands for: 1 as long as no weight of the pool is larger than 16, else 64.
const UNITS: [(u16, u16); 2] = [(16, 1), (u16::MAX, 64)];

/// The server of a key is drawn by the key itself, in proportion to the weights; when a server leaves, its keys are
/// drawn anew among the others and no other key moves; when it comes back it takes the same keys back, and during a ramp
/// a growing part of them. Keys fall on servers as independent draws would.
///
/// A pool of up to 64 servers compares all of them: each has a score for the key, and the lowest wins (D. Thaler,
/// C. Ravishankar: "Using name-based mappings to increase hit rates", IEEE/ACM ToN 1998; with weights as in
/// draft-ietf-bess-weighted-hrw). In a larger one each key has an endless row of slots of its own, drawn from its number,
/// and goes to the owner of the first slot that takes it; a slot without an eligible owner takes none, and that of a
/// light owner takes a part. (C. Dong, F. Wang: "DxHash: A Scalable Consistent Hash Based on the Pseudo-Random
/// Sequence", 2021; the part by rejection, as in A. Shrivastava: "Simple and Efficient Weighted Minwise Hashing",
/// NIPS 2016.)
///
/// The slots of a server depend on its name and weight, and on those of others only where two want the same slot; so
/// nodes agree on them and a restart changes nothing. What moves more keys than it must: a large pool that crosses a
/// size (65 servers, 86 and then four times as many claims), or whose largest weight crosses 16.
#[derive(Debug)]
pub struct Hash {
    members: Box<[Member]>,
    /// The places of the servers that have a weight.
    places: Box<[u32]>,
    slots: Option<Slots>,
    /// For work that has no key.
    spread: RoundRobin,
    bound: Option<LoadBound>,
}

/// Who owns which slot.
#[derive(Debug)]
struct Slots {
    owners: Box<[u32]>,
    /// One bit a slot: whether anybody owns it. Most are free, and this is small enough to stay near.
    owned: Box<[u64]>,
    /// Of 2^32 numbers, how many each server's slots take.
    takes: Box<[u64]>,
}

/// How far above its share of the work in flight a server may get.
#[derive(Clone, Copy, Debug)]
struct LoadBound {
    /// 125: a quarter more than its share.
    percent: u64,
    /// All weights together, in thousandths.
    total: u64,
}

impl Hash {
    /// Distributes by keys among the members that have a weight. With `bound_percent` no server gets more than this part
    /// of its share of the work in flight (V. Mirrokni, M. Thorup, M. Zadimoghaddam: "Consistent Hashing with Bounded
    /// Loads", SODA 2018); 100 or more.
    #[must_use]
    pub fn new(members: Vec<Member>, bound_percent: Option<u16>) -> Self {
        let total = members.iter().map(|member| u64::from(member.weight)).sum();
        Self {
            slots: (members.len() > MOST_COMPARED).then(|| Slots::new(&members)),
            places: (0..)
                .zip(&members)
                .filter(|(_, member)| member.weight > 0)
                .map(|(place, _)| place)
                .collect(),
            spread: RoundRobin::new(members.iter().map(|member| member.weight).enumerate()),
            bound: bound_percent.map(|percent| LoadBound { percent: u64::from(percent), total }),
            members: members.into(),
        }
    }

    fn fits(&self, cell: &PoolRuntime, place: usize, tried: &Excluded) -> bool {
        !tried.contains(place) && self.bound.is_none_or(|bound| !self.is_over(bound, cell, place))
    }

    fn is_over(&self, bound: LoadBound, cell: &PoolRuntime, place: usize) -> bool {
        let member = &self.members[place];
        let all = cell.in_flight() + 1;
        let most = (u128::from(all) * u128::from(bound.percent) * u128::from(member.weight))
            .div_ceil(u128::from(bound.total.max(1)) * 100);
        u128::from(member.cell.in_flight()) >= most
    }

    fn owner(&self, key: u64, cell: &PoolRuntime, tried: &Excluded) -> Option<usize> {
        let found =
            self.slots.as_ref().and_then(|slots| slots.find(key, |place| self.fits(cell, place, tried)));
        found.or_else(|| self.compared(key, |place| self.fits(cell, place, tried))).or_else(|| {
            // All are at their bounds: then the bounds say nothing.
            self.compared(key, |place| !tried.contains(place))
        })
    }

    /// The one with the lowest score of those that fit.
    fn compared(&self, key: u64, fits: impl Fn(usize) -> bool) -> Option<usize> {
        let fitting = self.places.iter().map(|place| *place as usize).filter(|place| fits(*place));
        let scored = fitting.map(|place| (score(key, &self.members[place]), place));
        scored.min_by(|(a, _), (b, _)| a.total_cmp(b)).map(|(_, place)| place)
    }
}

impl Slots {
    fn new(members: &[Member]) -> Self {
        let unit = unit(members);
        let takes = members.iter().map(|member| {
            let owned = u64::from(claims(member.configured, unit)) * u64::from(unit) * 1_000;
            (u64::from(member.weight) << 32).checked_div(owned).unwrap_or(0)
        });
        let owners = slots(members, unit);
        let bits = |slots: &[u32]| {
            let bit = |(index, owner): (usize, &u32)| u64::from(*owner != NO_OWNER) << index;
            slots.iter().enumerate().map(bit).fold(0, |bits, bit| bits | bit)
        };
        Self { owned: owners.chunks(64).map(bits).collect(), takes: takes.collect(), owners }
    }

    /// The owner of the first slot that takes the key, among those that fit.
    fn find(&self, key: u64, fits: impl Fn(usize) -> bool) -> Option<usize> {
        for look in 0..MOST_LOOKS {
            let number = mix(key.wrapping_add(look.wrapping_mul(GOLDEN)));
            let slot = number as usize & (self.owners.len() - 1);
            if self.owned[slot / 64] >> (slot % 64) & 1 == 0 {
                continue;
            }
            let owner = self.owners[slot] as usize;
            if number >> 32 < self.takes[owner] && fits(owner) {
                return Some(owner);
            }
        }
        None
    }
}

/// A server's score for a key; the lowest wins with a chance in proportion to the weight.
fn score(key: u64, member: &Member) -> f64 {
    let even = (mix(key ^ member.identity) >> 11) as f64 / (1_u64 << 53) as f64;
    -even.max(f64::MIN_POSITIVE).ln() / f64::from(member.weight)
}

fn unit(members: &[Member]) -> u16 {
    let largest = members.iter().map(|member| member.configured).max().unwrap_or(0);
    UNITS.into_iter().find(|(most, _)| largest <= *most).map_or(1, |(_, unit)| unit)
}

/// How many slots a weight claims.
fn claims(weight: u16, unit: u16) -> u16 {
    weight.div_ceil(unit)
}

/// Gives each claim the first slot of its own row that no stronger claim has (D. Gale, L. S. Shapley: "College
/// Admissions and the Stability of Marriage", 1962): the outcome does not depend on the order of the claims.
fn slots(members: &[Member], unit: u16) -> Box<[u32]> {
    let mut claims: Vec<SlotClaim> = (0..)
        .zip(members)
        .flat_map(|(owner, member)| {
            let identity = member.identity;
            (0..claims(member.configured, unit)).map(move |number| SlotClaim {
                owner,
                identity: mix(identity.wrapping_add(u64::from(number).wrapping_mul(GOLDEN))),
                step: 0,
            })
        })
        .collect();
    let mut size = FEWEST_SLOTS;
    while size < claims.len() * SLOTS_PER_CLAIM {
        size *= 4;
    }
    let mut held = vec![NO_OWNER; size];
    for index in 0..claims.len() {
        let mut seeking = index;
        loop {
            let slot = claims[seeking].next(size);
            let holder = held[slot];
            if holder == NO_OWNER {
                held[slot] = seeking as u32;
                break;
            }
            if claims[seeking].strength(slot) > claims[holder as usize].strength(slot) {
                held[slot] = seeking as u32;
                seeking = holder as usize;
            }
        }
    }
    held.into_iter()
        .map(|claim| if claim == NO_OWNER { NO_OWNER } else { claims[claim as usize].owner })
        .collect()
}

struct SlotClaim {
    owner: u32,
    identity: u64,
    /// How many slots of its row it has asked for.
    step: u64,
}

impl SlotClaim {
    fn next(&mut self, size: usize) -> usize {
        self.step += 1;
        mix(self.identity.wrapping_add(self.step.wrapping_mul(GOLDEN))) as usize & (size - 1)
    }

    fn strength(&self, slot: usize) -> (u64, u64) {
        (mix(self.identity ^ (slot as u64).wrapping_mul(GOLDEN)), self.identity)
    }
}

impl Balance for Hash {
    fn pick(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        match ask.key {
            Some(key) => self.owner(key, ask.cell, tried),
            None => self.spread.pick(ask, tried),
        }
    }

    fn peek(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        match ask.key {
            Some(key) => self.owner(key, ask.cell, tried),
            None => self.spread.peek(ask, tried),
        }
    }

    fn on_begin(&self, ask: &PickContext<'_>, _: usize) {
        if self.bound.is_some() {
            ask.cell.begin();
        }
    }

    fn on_end(&self, ask: &PickContext<'_>, _: usize) {
        if self.bound.is_some() {
            ask.cell.end();
        }
    }

    fn server_fact(&self, ask: &PickContext<'_>, place: usize) -> Option<ServerFact> {
        let bound = self.bound?;
        let member = self.members.get(place).filter(|member| member.weight > 0)?;
        let at_bound = self.is_over(bound, ask.cell, place);
        Some(ServerFact::InFlight { count: member.cell.in_flight(), at_bound })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::contract_tests::{World, members};
    use super::*;
    use crate::draw::digest;
    use crate::proof::chi_square;

    const KEYS: u64 = 40_000;

    /// Where each key goes.
    fn owners(members: &[Member]) -> Vec<usize> {
        let hash = Hash::new(members.to_vec(), None);
        let world = World::default();
        let to =
            |key: u64| hash.pick(&world.ask(Some(digest(&key.to_le_bytes()))), &Excluded::default()).unwrap();
        (0..KEYS).map(to).collect()
    }

    fn without(members: &[Member], place: usize) -> Vec<Member> {
        let mut members = members.to_vec();
        members[place].weight = 0;
        members
    }

    #[rstest]
    #[case::three(&[1, 1, 1])]
    #[case::weights(&[3, 2, 1])]
    #[case::large_weights(&[300, 200, 100, 7])]
    #[case::one_heavy_among_light(&[1_000, 1, 1, 1, 1])]
    #[case::many(&[1; 60])]
    #[case::very_many(&[1; 400])]
    #[case::very_many_large_weights(&[100; 70])]
    fn keys_fall_as_independent_draws_would(#[case] weights: &[u16]) {
        let members = members(weights);
        let mut counts = vec![0_u64; weights.len()];
        for owner in owners(&members) {
            counts[owner] += 1;
        }
        let total: u16 = weights.iter().sum();
        let expected: Vec<f64> =
            weights.iter().map(|weight| KEYS as f64 * f64::from(*weight) / f64::from(total)).collect();
        let test = chi_square(&counts, &expected).unwrap();
        assert!(test.p_value > 0.001, "p {} for {counts:?} against {expected:?}", test.p_value);
    }

    #[rstest]
    #[case::three(&[1, 1, 1])]
    #[case::weights(&[3, 2, 1, 5])]
    #[case::large_weights(&[300, 200, 100, 7])]
    #[case::many(&[2; 100])]
    #[case::many_large_weights(&[250; 80])]
    fn when_a_server_leaves_only_its_own_clients_move(#[case] weights: &[u16]) {
        let members = members(weights);
        let before = owners(&members);
        for place in 0..weights.len().min(4) {
            let after = owners(&without(&members, place));
            let moved: Vec<_> = before.iter().zip(&after).filter(|(was, is)| was != is).collect();
            let its_own = before.iter().filter(|was| **was == place).count();
            assert_eq!(moved.len(), its_own, "all of its own clients move");
            assert!(moved.iter().all(|(was, _)| **was == place), "a client of another server moved");
        }
    }

    /// Taken out of the document, not only out of work: what is known of the pool is different afterwards.
    #[rstest]
    #[case::weights(&[3, 2, 1, 5])]
    #[case::large_weights(&[300, 200, 100, 7])]
    #[case::many(&[2; 120])]
    #[case::many_large_weights(&[250; 100])]
    fn a_server_that_is_removed_takes_few_others_with_it(#[case] weights: &[u16]) {
        let members = members(weights);
        let before = owners(&members);
        let total: u16 = weights.iter().sum();
        let (mut moved, mut ideal) = (0, 0.0);
        for (place, weight) in weights.iter().enumerate().take(12) {
            let mut left = members.clone();
            left.remove(place);
            // The places behind it move up.
            let after = owners(&left).into_iter().map(|owner| owner + usize::from(owner >= place));
            moved += before.iter().zip(after).filter(|(was, is)| *was != is).count();
            ideal += KEYS as f64 * f64::from(*weight) / f64::from(total);
        }
        let excess = moved as f64 / ideal;
        assert!((0.9..1.1).contains(&excess), "moved {moved}, ideal {ideal}");
    }

    #[test]
    fn a_server_that_ramps_takes_back_a_growing_part_of_its_own_keys() {
        let members = members(&[2, 2, 2]);
        let full = owners(&members);
        let mut had = 0;
        for thousandths in [0, 200, 1_000, 2_000] {
            let mut ramping = members.clone();
            ramping[1].weight = thousandths;
            let now = owners(&ramping);
            let wrong = now.iter().zip(&full).filter(|(now, full)| **now == 1 && **full != 1).count();
            let has = now.iter().filter(|owner| **owner == 1).count();
            assert_eq!(wrong, 0, "it has keys that are not its own");
            assert!(has >= had);
            had = has;
        }
        assert_eq!(had, full.iter().filter(|owner| **owner == 1).count());
    }

    #[test]
    fn few_eligible_among_many_are_found_and_evenly() {
        let mut members = members(&[1; 700]);
        for member in &mut members[2..] {
            member.weight = 0;
        }
        let second = owners(&members).into_iter().filter(|owner| *owner == 1).count();
        assert!(second.abs_diff(KEYS as usize / 2) < 600, "{second}");
    }

    #[test]
    fn no_server_gets_more_than_its_bound() {
        let members = members(&[1, 1, 1, 1]);
        let hash = Hash::new(members.clone(), Some(125));
        let world = World::default();
        for _ in 0..400 {
            let ask = world.ask(Some(99));
            let place = hash.pick(&ask, &Excluded::default()).unwrap();
            members[place].cell.lane(0).begun.increment();
            hash.on_begin(&ask, place);
        }
        let most = members.iter().map(|member| member.cell.in_flight()).max();
        assert!(most <= Some(126), "{most:?} of 400 on one of four servers");
    }

    #[test]
    fn work_without_a_key_is_spread() {
        let hash = Hash::new(members(&[2, 1]), None);
        let world = World::default();
        let picks: Vec<_> =
            (0..6).map(|_| hash.pick(&world.ask(None), &Excluded::default()).unwrap()).collect();
        assert_eq!(picks.iter().filter(|place| **place == 0).count(), 4);
    }
}
