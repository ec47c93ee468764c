//! The server with the least work in flight for its weight.

use super::tournament_tree::TournamentTree;
use super::{Balance, Excluded, Member, PickContext, ServerFact};

/// Work in flight, all workers together, divided by the weight; the lowest gets the next piece.
#[derive(Debug)]
pub struct LeastConnections {
    tree: TournamentTree,
}

fn score(member: &Member) -> f64 {
    member.cell.in_flight() as f64 / f64::from(member.weight.max(1))
}

impl LeastConnections {
    /// Distributes among the members that have a weight.
    #[must_use]
    pub fn new(members: Vec<Member>) -> Self {
        Self { tree: TournamentTree::new(members, score) }
    }

    fn refresh(&self, place: usize) {
        self.tree.update(place, score(&self.tree.members[place]));
    }
}

impl Balance for LeastConnections {
    fn pick(&self, ask: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        if let Some(place) = self.tree.next_refresh()
            && self.tree.differs(place, score(&self.tree.members[place]))
        {
            self.refresh(place);
        }
        self.peek(ask, tried)
    }

    fn peek(&self, _: &PickContext<'_>, tried: &Excluded) -> Option<usize> {
        self.tree.lowest(tried)
    }

    fn on_begin(&self, ask: &PickContext<'_>, place: usize) {
        self.tree.spend(ask, place);
        self.refresh(place);
    }

    fn on_end(&self, _: &PickContext<'_>, place: usize) {
        self.refresh(place);
    }

    fn server_fact(&self, _: &PickContext<'_>, place: usize) -> Option<ServerFact> {
        let member = self.tree.members.get(place).filter(|member| member.weight > 0)?;
        Some(ServerFact::InFlight { count: member.cell.in_flight(), at_bound: false })
    }
}

#[cfg(test)]
mod tests {
    use super::super::contract_tests::{World, members};
    use super::*;

    #[test]
    fn an_idle_pool_is_dealt_out_by_weight() {
        let members = members(&[3, 2, 1, 0]);
        let balance = LeastConnections::new(members.clone());
        let world = World::default();
        let mut counts = [0; 4];
        for _ in 0..600 {
            let place = world.work(&balance, &members);
            counts[place] += 1;
        }
        assert_eq!(counts, [300, 200, 100, 0]);
    }

    #[test]
    fn work_that_stays_is_counted() {
        let members = members(&[1, 1, 2]);
        let world = World::default();
        let balance = LeastConnections::new(members.clone());
        let picks: Vec<_> = (0..8).map(|_| world.begin(&balance, &members)).collect();
        let count = |place| picks.iter().filter(|picked| **picked == place).count();
        assert_eq!([count(0), count(1), count(2)], [2, 2, 4]);
        world.end(&balance, &members, 1);
        assert_eq!(world.begin(&balance, &members), 1, "the one that has least for its weight");
    }

    #[test]
    fn a_server_that_was_away_is_not_flooded() {
        let members = members(&[1, 1, 1]);
        let world = World::default();
        let mut without = members.clone();
        without[2].weight = 0;
        let balance = LeastConnections::new(without);
        for _ in 0..1_000 {
            world.work(&balance, &members);
        }
        let balance = LeastConnections::new(members.clone());
        let picks: Vec<_> = (0..30).map(|_| world.work(&balance, &members)).collect();
        let back = picks.iter().filter(|place| **place == 2).count();
        assert!((9..=11).contains(&back), "{back} of 30 went to the one that came back");
    }

    #[test]
    fn a_count_that_changed_behind_its_back_is_found_within_a_round() {
        let members = members(&[1; 8]);
        let world = World::default();
        let balance = LeastConnections::new(members.clone());
        let places: Vec<_> = (0..8).map(|_| world.begin(&balance, &members)).collect();
        // Another snapshot's work ends: the tree is not updated.
        members[places[5]].cell.lane(0).ended.increment();
        let found = (0..9).find(|_| balance.pick(&world.ask(None), &Excluded::default()) == Some(places[5]));
        assert!(found.is_some());
    }
}
