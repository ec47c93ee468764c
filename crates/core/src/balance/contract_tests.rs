//! One suite over all implementations of [`Balance`], and the small world that it and their own tests run in.

use std::net::SocketAddr;
use std::time::Duration;

use rstest::rstest;

use super::*;
use crate::draw::{Draw, digest};
use crate::name::{Name, PoolServer};
use crate::runtime::RuntimeRegistry;

/// Eligible servers with these weights.
pub(super) fn members(weights: &[u16]) -> Vec<Member> {
    let mut cells = RuntimeRegistry::new(1);
    let pool: Name = "pool".parse().unwrap();
    let member = |(place, weight): (usize, &u16)| {
        let server: Name = format!("server-{place}").parse().unwrap();
        let identity = digest(server.as_str().as_bytes());
        let address = SocketAddr::from(([192, 0, 2, 1], 1 + place as u16));
        let cell = cells.server(&PoolServer { pool: pool.clone(), server }, address);
        Member { weight: u32::from(*weight) * 1_000, configured: *weight, identity, cell }
    };
    weights.iter().enumerate().map(member).collect()
}

/// One pool's cell, a clock and a source of random numbers.
#[derive(Debug)]
pub(super) struct World {
    pub(super) cell: PoolRuntime,
    pub(super) now: Tick,
    draw: Draw,
}

impl Default for World {
    fn default() -> Self {
        Self { cell: PoolRuntime::default(), now: Tick(0), draw: Draw::seeded(42) }
    }
}

impl World {
    pub(super) fn ask(&self, key: Option<u64>) -> PickContext<'_> {
        PickContext { cell: &self.cell, key, draw: 5, now: self.now }
    }

    pub(super) fn ask_drawing(&mut self) -> PickContext<'_> {
        let draw = self.draw.number();
        PickContext { cell: &self.cell, key: Some(draw), draw, now: self.now }
    }

    /// One request begins and stays.
    pub(super) fn begin(&self, balance: &dyn Balance, members: &[Member]) -> usize {
        let place = balance.pick(&self.ask(None), &Excluded::default()).expect("a server is eligible");
        members[place].cell.lane(0).begun.increment();
        balance.on_begin(&self.ask(None), place);
        place
    }

    pub(super) fn end(&self, balance: &dyn Balance, members: &[Member], place: usize) {
        members[place].cell.lane(0).ended.increment();
        balance.on_end(&self.ask(None), place);
    }

    /// One request begins and ends.
    pub(super) fn work(&self, balance: &dyn Balance, members: &[Member]) -> usize {
        let place = self.begin(balance, members);
        self.end(balance, members, place);
        place
    }
}

type Make = fn(Vec<Member>) -> Box<dyn Balance>;

const ALL: [(&str, Make); 6] = [
    ("round-robin", |members| {
        Box::new(RoundRobin::new(members.iter().map(|member| member.weight).enumerate()))
    }),
    ("least-connections", |members| Box::new(LeastConnections::new(members))),
    ("least-load", |members| Box::new(LeastLoad::new(members, &PoolRuntime::default(), Tick(0)))),
    ("random-two", |members| Box::new(RandomTwo::new(members))),
    ("hash", |members| Box::new(Hash::new(members, Some(125)))),
    ("in-order", |members| Box::new(InOrder::new(&members))),
];

#[rstest]
fn nobody_eligible_gives_nobody(#[values(0, 1, 2, 3, 4, 5)] which: usize) {
    let (name, make) = ALL[which];
    for weights in [&[][..], &[0], &[0, 0]] {
        let balance = make(members(weights));
        let mut world = World::default();
        assert_eq!(balance.pick(&world.ask_drawing(), &Excluded::default()), None, "{name}");
        assert_eq!(balance.peek(&world.ask(None), &Excluded::default()), None, "{name}");
    }
}

#[rstest]
fn the_last_untried_server_is_always_found(#[values(0, 1, 2, 3, 4, 5)] which: usize) {
    let (name, make) = ALL[which];
    let balance = make(members(&[1_000, 1, 0, 1_000, 1_000]));
    let mut world = World::default();
    for start in 0..50 {
        let mut tried = Excluded::default();
        let ask = world.ask_drawing();
        let mut picks: Vec<_> = (0..4)
            .map(|_| {
                let place = balance.pick(&ask, &tried);
                let place = place.unwrap_or_else(|| panic!("{name}, round {start}: one is left"));
                assert!(tried.add(place));
                place
            })
            .collect();
        assert_eq!(balance.pick(&ask, &tried), None, "{name}, round {start}: all were tried");
        picks.sort_unstable();
        assert_eq!(picks, [0, 1, 3, 4], "{name}");
    }
}

#[rstest]
fn peek_tells_the_next_pick_and_takes_nothing(#[values(0, 1, 2, 3, 4, 5)] which: usize) {
    let (name, make) = ALL[which];
    let balance = make(members(&[3, 0, 2, 1]));
    let mut world = World::default();
    for _ in 0..30 {
        let ask = world.ask_drawing();
        let peeked = balance.peek(&ask, &Excluded::default());
        assert_eq!(balance.peek(&ask, &Excluded::default()), peeked, "{name}");
        assert_eq!(balance.pick(&ask, &Excluded::default()), peeked, "{name}");
        assert!(peeked.is_some_and(|place| place != 1), "{name}: three are eligible");
    }
    assert_eq!(balance.turns_until(&world.cell, 1), None, "{name}: without weight there is no turn");
}

#[rstest]
fn the_same_questions_give_the_same_picks(#[values(0, 1, 2, 3, 4, 5)] which: usize) {
    let (name, make) = ALL[which];
    let run = || {
        let members = members(&[5, 3, 1, 1]);
        let balance = make(members.clone());
        let mut world = World::default();
        let mut picks = Vec::new();
        for step in 0..200 {
            let ask = world.ask_drawing();
            let place = balance.pick(&ask, &Excluded::default()).unwrap();
            picks.push(place);
            members[place].cell.lane(0).begun.increment();
            balance.on_begin(&ask, place);
            if step % 3 == 0 {
                members[place].cell.lane(0).ended.increment();
                balance.on_end(&ask, place);
            }
            world.now = world.now.plus(Duration::from_millis(3));
        }
        picks
    };
    assert_eq!(run(), run(), "{name}");
}

/// Under work that all servers do alike, each algorithm but `in-order` distributes in proportion to the weights.
#[rstest]
fn alike_servers_get_their_weights_share(#[values(0, 1, 2, 3, 4)] which: usize) {
    let (name, make) = ALL[which];
    let weights = [3, 2, 1];
    let members = members(&weights);
    let balance = make(members.clone());
    let mut world = World::default();
    let mut counts = [0_u32; 3];
    let mut busy = std::collections::VecDeque::new();
    for _ in 0..12_000 {
        let place = {
            let ask = world.ask_drawing();
            let place = balance.pick(&ask, &Excluded::default()).unwrap();
            members[place].cell.lane(0).begun.increment();
            balance.on_begin(&ask, place);
            place
        };
        counts[place] += 1;
        busy.push_back(place);
        if busy.len() > 12 {
            let done = busy.pop_front().unwrap();
            members[done].cell.lane(0).ended.increment();
            members[done].cell.pace.note(world.now, Duration::from_millis(10));
            world.cell.pace.note(world.now, Duration::from_millis(10));
            balance.on_end(&world.ask(None), done);
        }
        world.now = world.now.plus(Duration::from_millis(1));
    }
    for (count, weight) in counts.iter().zip(weights) {
        let wanted = 2_000 * u32::from(weight);
        assert!(count.abs_diff(wanted) < wanted / 6, "{name}: {counts:?}");
    }
}
