//! Picks servers so many times, to be counted by `scripts/bench.sh`: `picks ALGORITHM SERVERS COUNT`.
//!
//! Work begins and ends with each pick, for algorithms that go by the work in flight do most of their own work then.

use std::net::SocketAddr;

use merismos_core::balance::{Excluded, PickContext};
use merismos_core::config::{DocumentFormat, load};
use merismos_core::draw::Draw;
use merismos_core::duty::Duty;
use merismos_core::eligibility::ServerStates;
use merismos_core::health::HealthState;
use merismos_core::name::PoolServer;
use merismos_core::routing::{Pick, compile};
use merismos_core::runtime::RuntimeRegistry;
use merismos_core::time::Tick;

struct AllWell;

impl ServerStates for AllWell {
    fn duty(&self, _: &PoolServer) -> Duty {
        Duty::InService
    }

    fn health(&self, _: &PoolServer) -> HealthState {
        HealthState::Up
    }
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [algorithm, servers, count] = args.as_slice() else {
        panic!("picks ALGORITHM SERVERS COUNT");
    };
    let (servers, count): (u32, u32) = (servers.parse().expect("a number"), count.parse().expect("a number"));
    let lines: String = (0..servers)
        .map(|n| {
            let address = SocketAddr::from(([10, 0, (n / 250) as u8, (n % 250) as u8], 80));
            format!("servers.s{n} = {{ address = \"{address}\", weight = {} }}\n", n % 3 + 1)
        })
        .collect();
    let text = format!("format = 3\n[pools.p]\nalgorithm = \"{algorithm}\"\n{lines}");
    let checked = load(&text, DocumentFormat::Toml).expect("a document");
    let snapshot = compile(&checked, &AllWell, &mut RuntimeRegistry::new(1), 1, 1, Tick(0));
    let pool = &snapshot.pools[0];
    let mut draw = Draw::seeded(1);
    for _ in 0..count {
        let number = draw.number();
        let ask = PickContext { cell: &pool.cell, key: Some(number), draw: number, now: Tick(0) };
        let Pick::Server(place) = pool.decide(&ask, &Excluded::default()) else {
            panic!("a server is eligible");
        };
        let lane = pool.servers[place].cell.lane(0);
        lane.begun.increment();
        pool.begin(&ask, place);
        lane.ended.increment();
        pool.leave(&ask, place);
    }
}
