//! Weighted round robin: each server in its turn, exact over every whole cycle.

use super::{Balance, Excluded, PickContext};
use crate::runtime::PoolRuntime;

/// Cycles up to this length are laid out in full (2 bytes a turn); longer ones are computed turn by turn.
const LONGEST_TABLE: u64 = 65_536;
/// How far ahead a server's turn is looked for in an explanation.
const MOST_TURNS_AHEAD: u64 = 1 << 20;

/// Exact weighted round robin without state of its own: the n-th turn of a cycle always belongs to the same server.
///
/// Weights are reduced by their greatest common divisor; a cycle is as many turns as the reduced weights add up to,
/// and in any such number of turns in a row each server has exactly its weight. Turns are spread evenly:
/// - a short cycle is a table in the order of the divisor method of Sainte-Laguë: the k-th turn of a server of
///   weight w falls at (2k+1)/2w of the cycle (A. Sainte-Laguë, "La représentation proportionnelle et la méthode
///   des moindres carrés", 1910), so a pick is one look-up;
/// - a long cycle steps through the places 0..W by a stride near W divided by the golden ratio that shares no
///   divisor with W, so it visits each place once a cycle and never bunches (three-distance theorem); the server
///   of a place is found among the running sums of the weights in O(log n).
#[derive(Debug)]
pub struct RoundRobin {
    /// Place in the pool and reduced weight of each eligible server.
    servers: Box<[(u32, u32)]>,
    order: TurnOrder,
}

#[derive(Debug)]
enum TurnOrder {
    Empty,
    Table(Box<[u16]>),
    Stride { stride: u64, cycle: u64, ends: Box<[u64]> },
}

impl RoundRobin {
    /// Distributes among the given places of a pool by their weights. A weight of 0 takes no part.
    #[must_use]
    pub fn new(weights: impl IntoIterator<Item = (usize, u32)>) -> Self {
        let mut servers: Vec<(u32, u32)> = weights
            .into_iter()
            .filter(|(_, weight)| *weight > 0)
            .map(|(place, weight)| (u32::try_from(place).expect("fewer than 2^32 servers"), weight))
            .collect();
        let divisor = servers.iter().fold(0, |divisor, (_, weight)| gcd(divisor, u64::from(*weight)));
        for (_, weight) in &mut servers {
            *weight /= u32::try_from(divisor).expect("no larger than a weight");
        }
        let cycle: u64 = servers.iter().map(|(_, weight)| u64::from(*weight)).sum();
        let order = match cycle {
            0 => TurnOrder::Empty,
            1..=LONGEST_TABLE => TurnOrder::Table(table(&servers)),
            _ => TurnOrder::Stride { stride: stride(cycle), cycle, ends: running_sums(&servers) },
        };
        Self { servers: servers.into(), order }
    }

    fn at(&self, turn: u64) -> Option<usize> {
        let index = match &self.order {
            TurnOrder::Empty => return None,
            TurnOrder::Table(table) => usize::from(table[(turn % table.len() as u64) as usize]),
            TurnOrder::Stride { stride, cycle, ends } => {
                let place = u128::from(turn) * u128::from(*stride) % u128::from(*cycle);
                ends.partition_point(|end| u128::from(*end) <= place)
            }
        };
        Some(self.servers[index].0 as usize)
    }

    /// A retry: a few turns find another server in proportion to the weights; when light servers are left among heavy
    /// ones that were tried, any of them will do.
    fn untried(&self, tried: &Excluded, mut turn: impl FnMut() -> u64) -> Option<usize> {
        for _ in 0..4 {
            let next = self.at(turn())?;
            if !tried.contains(next) {
                return Some(next);
            }
        }
        self.servers.iter().map(|(place, _)| *place as usize).find(|place| !tried.contains(*place))
    }

    fn cycle(&self) -> u64 {
        match &self.order {
            TurnOrder::Empty => 0,
            TurnOrder::Table(table) => table.len() as u64,
            TurnOrder::Stride { cycle, .. } => *cycle,
        }
    }
}

fn gcd(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { gcd(b, a % b) }
}

fn table(servers: &[(u32, u32)]) -> Box<[u16]> {
    let mut turns: Vec<(u64, u64, u16)> = Vec::new();
    for (index, (_, weight)) in servers.iter().enumerate() {
        let index = u16::try_from(index).expect("no more servers than turns");
        turns.extend((0..u64::from(*weight)).map(|k| (2 * k + 1, u64::from(*weight), index)));
    }
    // (2k+1)/w compared without dividing; equal times go by the order of the servers.
    turns.sort_by(|a, b| (a.0 * b.1, a.2).cmp(&(b.0 * a.1, b.2)));
    turns.into_iter().map(|(_, _, index)| index).collect()
}

fn stride(cycle: u64) -> u64 {
    let golden = (cycle as f64 * 0.618_033_988_749_895) as u64;
    (golden.max(1)..cycle).find(|stride| gcd(*stride, cycle) == 1).unwrap_or(1)
}

fn running_sums(servers: &[(u32, u32)]) -> Box<[u64]> {
    let add = |sum: &mut u64, (_, weight): &(u32, u32)| {
        *sum += u64::from(*weight);
        Some(*sum)
    };
    servers.iter().scan(0, add).collect()
}

impl Balance for RoundRobin {
    fn pick(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        if tried.is_empty() {
            return self.at(ask.cell.take_turn());
        }
        self.untried(tried, || ask.cell.take_retry_turn())
    }

    fn peek(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        if tried.is_empty() {
            return self.at(ask.cell.next_turn());
        }
        let mut turn = ask.cell.next_retry_turn();
        self.untried(tried, || {
            turn += 1;
            turn - 1
        })
    }

    fn turns_until(&self, cell: &PoolRuntime, place: usize) -> Option<u64> {
        let next = cell.next_turn();
        (0..self.cycle().min(MOST_TURNS_AHEAD))
            .find(|ahead| self.at(next.wrapping_add(*ahead)) == Some(place))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::contract_tests::World;
    use super::*;

    fn deal(weights: &[u32], turns: u64) -> Vec<usize> {
        let robin = RoundRobin::new(weights.iter().copied().enumerate());
        let world = World::default();
        (0..turns).map(|_| robin.pick(&world.ask(None), &Excluded::default()).unwrap()).collect()
    }

    /// More turns in a cycle than a table holds.
    fn many_weights() -> Vec<u32> {
        (901..=1_000).collect()
    }

    #[rstest]
    #[case::equal(&[1, 1, 1], &[0, 1, 2, 0, 1, 2])]
    #[case::three_two_one(&[3, 2, 1], &[0, 1, 0, 2, 1, 0])]
    #[case::common_divisor(&[300, 200, 100], &[0, 1, 0, 2, 1, 0])]
    #[case::one_without_weight(&[1, 0, 1], &[0, 2, 0, 2, 0, 2])]
    fn turns_are_spread_evenly(#[case] weights: &[u32], #[case] picks: &[usize]) {
        assert_eq!(deal(weights, picks.len() as u64), picks);
    }

    #[rstest]
    #[case::table(&[5, 3, 2])]
    #[case::long_table(&[997, 991, 983, 977, 971, 1])]
    #[case::stride(&many_weights())]
    #[case::one_server(&[7])]
    fn each_cycle_is_exact_wherever_it_begins(#[case] weights: &[u32]) {
        let divisor = weights.iter().fold(0, |d, w| gcd(d, u64::from(*w)));
        let cycle: u64 = weights.iter().map(|w| u64::from(*w) / divisor).sum();
        let picks = deal(weights, cycle + 57);
        for start in [0, 1, 13, 57] {
            let window = &picks[start..start + cycle as usize];
            for (place, weight) in weights.iter().enumerate() {
                let got = window.iter().filter(|pick| **pick == place).count() as u64;
                assert_eq!(got, u64::from(*weight) / divisor, "from {start}, place {place}");
            }
        }
    }

    #[test]
    fn a_long_cycle_does_not_bunch() {
        let picks = deal(&many_weights(), 100_000);
        let longest_run = picks.chunk_by(|a, b| a == b).map(<[usize]>::len).max();
        assert!(longest_run <= Some(2), "{longest_run:?} turns in a row");
    }

    #[test]
    fn ten_thousand_equal_servers_take_one_turn_each() {
        let mut picks = deal(&[1; 10_000], 10_000);
        picks.sort_unstable();
        assert!(picks.iter().copied().eq(0..10_000));
    }
}
