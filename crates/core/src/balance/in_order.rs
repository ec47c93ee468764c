//! The first eligible server: the heaviest one, and among equals the first by name.

use super::{Balance, Excluded, Member, PickContext, ServerFact};

/// Sends everything to one server, and to the next when that one is not eligible, full, or has just failed.
///
/// Servers of a lower tier come first anyway, for only one tier works at a time; within it the weight is the rank.
#[derive(Debug)]
pub struct InOrder {
    /// The places of the servers in rank order.
    order: Box<[u32]>,
}

impl InOrder {
    /// Distributes among the members that have a weight.
    #[must_use]
    pub fn new(members: &[Member]) -> Self {
        let mut order: Vec<u32> =
            (0..).zip(members).filter(|(_, member)| member.weight > 0).map(|(place, _)| place).collect();
        // By the configured weight, for a ramp must not reorder the ranks. The sort keeps the order of the names.
        order.sort_by_key(|place| std::cmp::Reverse(members[*place as usize].configured));
        Self { order: order.into() }
    }

    /// The place of the server that gets everything as long as nothing is in its way.
    #[must_use]
    pub fn first(members: &[Member]) -> Option<usize> {
        Self::new(members).order.first().map(|place| *place as usize)
    }
}

impl Balance for InOrder {
    fn pick(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        self.peek(ask, tried)
    }

    fn peek(&self, _: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        self.order.iter().map(|place| *place as usize).find(|place| !tried.contains(*place))
    }

    fn server_fact(&self, _: &PickContext<'_>, place: usize) -> Option<ServerFact> {
        let rank = self.order.iter().position(|candidate| *candidate as usize == place)?;
        Some(ServerFact::Rank { rank: rank + 1, of: self.order.len() })
    }
}

#[cfg(test)]
mod tests {
    use super::super::contract_tests::{World, members};
    use super::*;

    #[test]
    fn the_heaviest_comes_first_and_names_settle_ties() {
        let members = members(&[1, 5, 5, 0, 3]);
        let order = InOrder::new(&members);
        let world = World::default();
        let mut tried = Excluded::default();
        let picks: Vec<_> = std::iter::from_fn(|| {
            let place = order.pick(&world.ask(None), &tried)?;
            tried.add(place);
            Some(place)
        })
        .collect();
        assert_eq!(picks, [1, 2, 4, 0]);
    }
}
