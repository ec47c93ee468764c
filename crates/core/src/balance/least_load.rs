//! The server on which a request would wait least: work in flight and response time together.

use super::tournament_tree::TournamentTree;
use super::{Balance, Excluded, Member, PickContext, ServerFact};
use crate::runtime::PoolRuntime;
use crate::time::Tick;

/// The expected wait: one more than the work in flight, times the response time, divided by the weight.
///
/// The response time of a server is a mean that forgets (see [`crate::runtime::LatencyAverage`]); without news it drifts to that
/// of the whole pool. A server that has just come back therefore counts as an average one until it has shown better,
/// and what is already on its way to it counts at once: it is not stormed.
#[derive(Debug)]
pub struct LeastLoad {
    tree: TournamentTree,
}

fn score(member: &Member, cell: &PoolRuntime, now: Tick) -> f64 {
    let typical = cell.pace.typical(now, None);
    let response = member.cell.pace.typical(now, typical).unwrap_or(1.0);
    (member.cell.in_flight() + 1) as f64 * response.max(1.0) / f64::from(member.weight.max(1))
}

impl LeastLoad {
    /// Distributes among the members that have a weight.
    #[must_use]
    pub fn new(members: Vec<Member>, cell: &PoolRuntime, now: Tick) -> Self {
        Self { tree: TournamentTree::new(members, |member| score(member, cell, now)) }
    }

    fn refresh(&self, ask: &PickContext<'_>, place: usize) {
        self.tree.update(place, score(&self.tree.members[place], ask.cell, ask.now));
    }
}

impl Balance for LeastLoad {
    fn pick(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        if let Some(place) = self.tree.next_refresh() {
            let score = score(&self.tree.members[place], ask.cell, ask.now);
            if self.tree.differs(place, score) {
                self.tree.update(place, score);
            }
        }
        self.peek(ask, tried)
    }

    fn peek(&self, _: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        self.tree.lowest(tried)
    }

    fn on_begin(&self, ask: &PickContext<'_>, place: usize) {
        self.tree.spend(ask, place);
        self.refresh(ask, place);
    }

    fn on_end(&self, ask: &PickContext<'_>, place: usize) {
        self.refresh(ask, place);
    }

    fn server_fact(&self, ask: &PickContext<'_>, place: usize) -> Option<ServerFact> {
        let member = self.tree.members.get(place).filter(|member| member.weight > 0)?;
        let typical = ask.cell.pace.typical(ask.now, None);
        let response_us = member.cell.pace.typical(ask.now, typical).map(|micros| micros as u64);
        Some(ServerFact::Load { in_flight: member.cell.in_flight(), response_us })
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::super::contract_tests::{World, members};
    use super::*;

    #[test]
    fn the_faster_server_gets_more() {
        let members = members(&[1, 1]);
        let mut world = World::default();
        let balance = LeastLoad::new(members.clone(), &world.cell, Tick(0));
        let mut counts = [0; 2];
        for _ in 0..400 {
            let place = world.begin(&balance, &members);
            counts[place] += 1;
            let took = Duration::from_millis([10, 30][place]);
            members[place].cell.pace.note(world.now, took);
            world.cell.pace.note(world.now, took);
            world.now = world.now.plus(Duration::from_millis(5));
            world.end(&balance, &members, place);
        }
        assert!(counts[0] > counts[1] * 3, "{counts:?}");
        assert!(counts[1] > 0, "the slower one is asked again now and then: {counts:?}");
    }

    #[test]
    fn one_that_came_back_is_not_stormed() {
        let members = members(&[1, 1, 1, 1]);
        let world = World::default();
        for member in &members[..3] {
            member.cell.pace.note(Tick(0), Duration::from_millis(20));
        }
        world.cell.pace.note(Tick(0), Duration::from_millis(20));
        let balance = LeastLoad::new(members.clone(), &world.cell, Tick(0));
        let picks: Vec<_> = (0..40).map(|_| world.begin(&balance, &members)).collect();
        let back = picks.iter().filter(|place| **place == 3).count();
        assert!((8..=12).contains(&back), "{back} of 40 requests went to the one without history");
    }
}
