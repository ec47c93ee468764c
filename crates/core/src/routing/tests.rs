use std::collections::BTreeMap;

use rstest::rstest;

use super::*;
use crate::balance::{Excluded, PickContext};
use crate::config::{Checked, DocumentFormat, load};
use crate::duty::Duty;
use crate::eligibility::{IneligibleReason, ServerStates};
use crate::health::HealthState;
use crate::name::PoolServer;
use crate::runtime::RuntimeRegistry;
use crate::time::Tick;

#[derive(Default)]
struct Known {
    duties: BTreeMap<&'static str, Duty>,
    down: Vec<&'static str>,
}

impl ServerStates for Known {
    fn duty(&self, server: &PoolServer) -> Duty {
        self.duties.get(server.server.as_str()).copied().unwrap_or_default()
    }

    fn health(&self, server: &PoolServer) -> HealthState {
        if self.down.contains(&server.server.as_str()) { HealthState::Down } else { HealthState::Up }
    }
}

fn document(gull: &str) -> Checked {
    let text = format!(
        "format = 3\n[checks.up]\nkind = \"tcp\"\n[pools.booking]\ncheck = \"up\"\n\
         servers.gull = {{ address = \"{gull}\", weight = 2 }}\nservers.tern = {{ address = \"192.0.2.22:80\" }}\n\
         servers.auk = {{ address = \"192.0.2.23:80\" }}\n\
         [frontends.site]\nprotocol = \"http\"\nlisten = \"192.0.2.1:80\"\npool = \"booking\"\n"
    );
    load(&text, DocumentFormat::Toml).unwrap()
}

fn names(snapshot: &Snapshot, picks: usize) -> Vec<String> {
    let pool = &snapshot.pools[0];
    (0..picks)
        .map(|_| {
            let ask = PickContext { cell: &pool.cell, key: None, draw: 1, now: Tick(0) };
            match pool.decide(&ask, &Excluded::default()) {
                Pick::Server(place) => pool.servers[place].name.server.to_string(),
                Pick::Full => "full".to_owned(),
                Pick::NoneEligible => "none".to_owned(),
            }
        })
        .collect()
}

#[test]
fn only_eligible_servers_get_work_in_proportion_to_their_weights() {
    let mut cells = RuntimeRegistry::new(1);
    let mut known = Known { down: vec!["tern"], ..Known::default() };
    let snapshot = compile(&document("192.0.2.21:80"), &known, &mut cells, 1, 1, Tick(0));
    let picks = names(&snapshot, 30);
    assert_eq!(picks.iter().filter(|name| *name == "gull").count(), 20);
    assert_eq!(picks.iter().filter(|name| *name == "auk").count(), 10);
    known.down = vec!["tern", "auk"];
    known.duties.insert("gull", Duty::Draining);
    let none = compile(&document("192.0.2.21:80"), &known, &mut cells, 1, 2, Tick(0));
    assert_eq!((names(&none, 1)[0].as_str(), none.pools[0].eligible()), ("none", 0));
}

#[test]
fn turns_and_counts_go_on_from_one_snapshot_to_the_next() {
    let mut cells = RuntimeRegistry::new(2);
    let known = Known::default();
    let first = compile(&document("192.0.2.21:80"), &known, &mut cells, 1, 1, Tick(0));
    let picked = names(&first, 3);
    first.pools[0].servers[0].cell.lane(1).taken.increment();
    let second = compile(&document("192.0.2.21:80"), &known, &mut cells, 1, 2, Tick(0));
    assert_eq!(second.pools[0].servers[0].cell.counts().taken, 1);
    let mut cycle = [picked, names(&second, 1)].concat();
    cycle.sort_unstable();
    assert_eq!(
        cycle,
        ["auk", "gull", "gull", "tern"],
        "the cycle that the first one began is ended by the second"
    );
}

#[test]
fn at_another_address_it_is_another_server() {
    let mut cells = RuntimeRegistry::new(1);
    let known = Known::default();
    let before = compile(&document("192.0.2.21:80"), &known, &mut cells, 1, 1, Tick(0));
    let after = compile(&document("192.0.2.99:80"), &known, &mut cells, 2, 2, Tick(0));
    let cell = |snapshot: &Snapshot, place: usize| snapshot.pools[0].servers[place].cell.id;
    assert_ne!(cell(&before, 1), cell(&after, 1), "gull moved");
    assert_eq!(cell(&before, 2), cell(&after, 2), "tern did not");
    let frontend = |snapshot: &Snapshot| snapshot.frontends().next().unwrap().cell.id;
    assert_eq!(frontend(&before), frontend(&after));
}

#[test]
fn an_explanation_names_the_next_server_and_every_reason() {
    let mut cells = RuntimeRegistry::new(1);
    let known = Known { down: vec!["tern"], duties: BTreeMap::from([("auk", Duty::Withdrawn)]) };
    let snapshot = compile(&document("192.0.2.21:80"), &known, &mut cells, 1, 1, Tick(0));
    let frontend = snapshot.frontend_named(&"site".parse().unwrap()).unwrap();
    let explained = frontend.explain(&RequestFacts::of_client([192, 0, 2, 7].into()), 1, Tick(0));
    let chosen = explained.chosen.unwrap();
    assert_eq!((chosen.server.to_string().as_str(), chosen.share), ("booking/gull", 1.0));
    let reasons: Vec<_> = explained
        .passed
        .iter()
        .map(|passed_over| (passed_over.server.server.as_str(), passed_over.reason, passed_over.turns_until))
        .collect();
    assert_eq!(
        reasons,
        [("auk", Some(IneligibleReason::Withdrawn), None), ("tern", Some(IneligibleReason::Down), None)]
    );
    assert_eq!(names(&snapshot, 1), ["gull"], "explaining takes no turn");
}

#[test]
fn full_servers_are_passed_over_then_the_pool_is_full_then_standby_takes_over() {
    let text = "format = 3\n[pools.p]\nin_flight_limit = 2\nservers.a = { address = \"192.0.2.1:80\" }\n\
                servers.b = { address = \"192.0.2.2:80\", capacity = 50 }\n\
                servers.c = { address = \"192.0.2.3:80\", tier = 1 }\n";
    let snapshot = compile(
        &load(text, DocumentFormat::Toml).unwrap(),
        &Known::default(),
        &mut RuntimeRegistry::new(1),
        1,
        1,
        Tick(0),
    );
    let mut taken = names(&snapshot, 4);
    assert_eq!(taken.pop().as_deref(), Some("full"), "b may have one at half its capacity");
    taken.sort_unstable();
    assert_eq!(taken, ["a", "a", "b"]);
    let pool = &snapshot.pools[0];
    let ask = PickContext { cell: &pool.cell, key: None, draw: 1, now: Tick(0) };
    let spill = || pool.decide_spilling(&ask, &Excluded::default());
    assert_eq!([spill(), spill(), spill()], [Pick::Server(2), Pick::Server(2), Pick::Full]);
    pool.leave(&ask, 1);
    assert_eq!(names(&snapshot, 2), ["b", "full"]);
}

/// What is explained once so many requests were taken.
fn explained(text: &str, taken: usize) -> Explanation {
    let snapshot = compile(
        &load(text, DocumentFormat::Toml).unwrap(),
        &Known::default(),
        &mut RuntimeRegistry::new(1),
        1,
        1,
        Tick(0),
    );
    names(&snapshot, taken);
    let frontend = snapshot.frontend_named(&"site".parse().unwrap()).unwrap();
    frontend.explain(&RequestFacts::of_client([192, 0, 2, 7].into()), 1, Tick(0))
}

#[rstest]
#[case::standby("servers.b = { address = \"192.0.2.2:80\", tier = 1 }", "next_pools = [\"q\"]", Some("p/b"))]
#[case::next_pool("", "next_pools = [\"q\"]", Some("q"))]
#[case::no_server("", "", None)]
fn what_is_explained_of_a_full_pool(#[case] server: &str, #[case] keys: &str, #[case] spills: Option<&str>) {
    let text = format!(
        "format = 3\n[frontends.site]\nprotocol = \"http\"\nlisten = \"192.0.2.9:80\"\npool = \"p\"\n{keys}\n\
         [pools.p]\nin_flight_limit = 1\nservers.a = {{ address = \"192.0.2.1:80\" }}\n{server}\n\
         [pools.q]\nservers.c = {{ address = \"192.0.2.3:80\" }}\n"
    );
    let explanation = explained(&text, 1);
    assert_eq!(explanation.chosen, None);
    let words = |spill: Spill| match spill {
        Spill::Standby(server) => server.to_string(),
        Spill::Pool(pool) => pool.to_string(),
    };
    assert_eq!(explanation.spills.map(words).as_deref(), spills);
    assert!(explained(&text, 0).spills.is_none(), "there is room");
}

#[test]
fn explaining_finds_the_one_with_room_behind_many_full_ones() {
    let servers: String =
        (1..=40).map(|n| format!("servers.s{n:02} = {{ address = \"192.0.2.{n}:80\" }}\n")).collect();
    let text = format!(
        "format = 3\n[frontends.site]\nprotocol = \"http\"\nlisten = \"192.0.2.99:80\"\npool = \"p\"\n\
         [pools.p]\nin_flight_limit = 1\n{servers}"
    );
    assert!(explained(&text, 39).chosen.is_some());
    assert_eq!(explained(&text, 40).chosen, None);
}

#[test]
fn many_full_servers_do_not_hide_one_with_room() {
    let servers: String =
        (1..=60).map(|n| format!("servers.s{n:02} = {{ address = \"192.0.2.{n}:80\" }}\n")).collect();
    let text = format!(
        "format = 3\n[pools.p]\nin_flight_limit = 1\nservers.s00 = {{ address = \"192.0.2.99:80\", in_flight_limit = 2 }}\n{servers}"
    );
    let snapshot = compile(
        &load(&text, DocumentFormat::Toml).unwrap(),
        &Known::default(),
        &mut RuntimeRegistry::new(1),
        1,
        1,
        Tick(0),
    );
    let mut picks = names(&snapshot, 63);
    assert_eq!(picks.pop().as_deref(), Some("full"));
    picks.sort_unstable();
    picks.dedup();
    assert_eq!(picks.len(), 61, "each got work before the pool was full");
}
