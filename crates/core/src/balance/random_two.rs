//! The less busy of two servers that are drawn at random.

use super::{Balance, Excluded, Member, PickContext, ServerFact};
use crate::draw::{mix, part};

/// How often a draw is repeated that gave a server that can't be taken, before the servers are gone through.
const DRAWS: u64 = 8;

/// Draws two servers in proportion to their weights and takes the one with less work in flight for its weight.
///
/// The busiest server has then exponentially less work above the mean than with one draw (M. Mitzenmacher, "The power
/// of two choices in randomized load balancing", IEEE TPDS 2001), at the cost of looking at two servers and no more.
/// A draw is one look-up in an alias table (M. D. Vose, "A linear algorithm for generating random numbers with a given
/// distribution", IEEE TSE 1991).
#[derive(Debug)]
pub struct RandomTwo {
    members: Box<[Member]>,
    /// The places of the servers that have a weight.
    places: Box<[u32]>,
    /// For each of them: up to where (of 2^32) a draw stays with it, and whose it is beyond.
    aliases: Box<[(u32, u32)]>,
}

impl RandomTwo {
    /// Distributes among the members that have a weight.
    #[must_use]
    pub fn new(members: Vec<Member>) -> Self {
        let places: Box<[u32]> =
            (0..).zip(&members).filter(|(_, member)| member.weight > 0).map(|(place, _)| place).collect();
        let weights: Vec<u64> =
            places.iter().map(|place| u64::from(members[*place as usize].weight)).collect();
        Self { members: members.into(), aliases: aliases(&weights), places }
    }

    fn draw(&self, number: u64) -> usize {
        let index = part(number, self.places.len() as u64) as usize;
        let (stays, alias) = self.aliases[index];
        // The low half of the number says nothing of the index yet.
        let index = if number as u32 <= stays { index } else { alias as usize };
        self.places[index] as usize
    }

    /// Whether the first has less work in flight for its weight than the second.
    fn is_less_busy(&self, first: usize, second: usize) -> bool {
        let (a, b) = (&self.members[first], &self.members[second]);
        a.cell.in_flight() * u64::from(b.weight) <= b.cell.in_flight() * u64::from(a.weight)
    }

    /// Draws until a server comes that is neither tried nor `other`.
    fn draw_other(&self, seed: u64, tried: &Excluded, other: Option<usize>) -> Option<usize> {
        let fits = |place: &usize| !tried.contains(*place) && Some(*place) != other;
        let drawn = (0..DRAWS).map(|step| self.draw(mix(seed.wrapping_add(step)))).find(&fits);
        drawn.or_else(|| {
            // Light servers among heavy ones that were tried: begin anywhere.
            let start = part(mix(seed), self.places.len() as u64) as usize;
            self.places[start..].iter().chain(&self.places[..start]).map(|place| *place as usize).find(fits)
        })
    }

    /// The two servers that a question draws; the second is missing when there is only one.
    fn pair(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<(usize, Option<usize>)> {
        if self.places.is_empty() {
            return None;
        }
        let first = self.draw_other(ask.draw, tried, None)?;
        Some((first, self.draw_other(mix(ask.draw ^ !0), tried, Some(first))))
    }
}

/// Vose's method, in whole numbers: each of `n` parts of `total` is filled by one weight and topped up by another.
fn aliases(weights: &[u64]) -> Box<[(u32, u32)]> {
    let count = weights.len() as u64;
    let total: u64 = weights.iter().sum();
    let mut left: Vec<u64> = weights.iter().map(|weight| weight * count).collect();
    let mut table: Vec<(u32, u32)> = (0..weights.len()).map(|index| (u32::MAX, index as u32)).collect();
    let (mut small, mut large): (Vec<usize>, Vec<usize>) =
        (0..weights.len()).partition(|index| left[*index] < total);
    while let (Some(less), Some(more)) = (small.pop(), large.last().copied()) {
        let stays = u128::from(left[less]) * u128::from(u32::MAX) / u128::from(total.max(1));
        table[less] = (stays as u32, more as u32);
        left[more] -= total - left[less];
        if left[more] < total {
            large.pop();
            small.push(more);
        }
    }
    table.into()
}

impl Balance for RandomTwo {
    fn pick(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        self.peek(ask, tried)
    }

    fn peek(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        let (first, second) = self.pair(ask, tried)?;
        Some(second.filter(|second| !self.is_less_busy(first, *second)).unwrap_or(first))
    }

    fn server_fact(&self, _: &PickContext<'_>, place: usize) -> Option<ServerFact> {
        let member = self.members.get(place).filter(|member| member.weight > 0)?;
        Some(ServerFact::InFlight { count: member.cell.in_flight(), at_bound: false })
    }
}

#[cfg(test)]
mod tests {
    use super::super::contract_tests::{World, members};
    use super::*;

    #[test]
    fn idle_servers_are_drawn_by_weight() {
        let balance = RandomTwo::new(members(&[1, 2, 0, 5]));
        let mut counts = [0_u32; 4];
        let mut draw = crate::draw::Draw::seeded(7);
        for _ in 0..80_000 {
            counts[balance.draw(draw.number())] += 1;
        }
        for (count, wanted) in counts.iter().zip([10_000_u32, 20_000, 0, 50_000]) {
            assert!(count.abs_diff(wanted) < 600, "{counts:?}");
        }
    }

    #[test]
    fn of_two_the_busier_one_is_left_alone() {
        let members = members(&[1, 1]);
        members[0].cell.lane(0).begun.increment();
        let balance = RandomTwo::new(members);
        let mut world = World::default();
        for _ in 0..100 {
            assert_eq!(balance.pick(&world.ask_drawing(), &Excluded::default()), Some(1));
        }
    }
}
