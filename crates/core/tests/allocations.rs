//! Nothing that happens for each request takes memory.

use std::collections::BTreeMap;

use merismos_core::balance::{Excluded, PickContext};
use merismos_core::config::{DocumentFormat, load};
use merismos_core::draw::Draw;
use merismos_core::duty::Duty;
use merismos_core::eligibility::ServerStates;
use merismos_core::health::HealthState;
use merismos_core::name::PoolServer;
use merismos_core::routing::{Pick, RequestFacts, compile};
use merismos_core::rules::{Condition, RequestVersion, RuleFacts, RuleSet};
use merismos_core::runtime::RuntimeRegistry;
use merismos_core::time::Tick;
use rstest::rstest;

struct AllWell;

impl ServerStates for AllWell {
    fn duty(&self, _: &PoolServer) -> Duty {
        Duty::InService
    }

    fn health(&self, _: &PoolServer) -> HealthState {
        HealthState::Up
    }
}

#[rstest]
fn dealing_out_allocates_nothing(
    #[values("round-robin", "least-connections", "least-load", "random-two", "hash", "in-order")]
    algorithm: &str,
    #[values(3, 300)] servers: u16,
    #[values("", "in_flight_limit = 2\n")] limits: &str,
) {
    let lines: String = (0..servers)
        .map(|n| format!("servers.s{n} = {{ address = \"192.0.2.1:{}\", weight = {} }}\n", n + 1, n % 5 + 1))
        .collect();
    let text = format!(
        "format = 3\n[pools.p]\nalgorithm = \"{algorithm}\"\nhash_keys = [\"query:day\", \"path\"]\n{limits}{lines}\
         [frontends.f]\nprotocol = \"http\"\nlisten = \"192.0.2.9:80\"\npool = \"p\"\n"
    );
    let checked = load(&text, DocumentFormat::Toml).unwrap();
    let snapshot = compile(&checked, &AllWell, &mut RuntimeRegistry::new(1), 1, 1, Tick(0));
    let pool = &snapshot.pools[0];
    let mut draw = Draw::seeded(1);
    let field = |_: &str| None;
    let facts = RequestFacts {
        port: None,
        client: [192, 0, 2, 7].into(),
        target: Some("/ferry?day=3"),
        host: Some(b"skerry.example"),
        sni: None,
        label: None,
        first_bytes: None,
        field: &field,
    };
    let mut work = || {
        let key = pool.key(&facts).number();
        let ask = PickContext { cell: &pool.cell, key, draw: draw.number(), now: Tick(0) };
        let mut tried = Excluded::default();
        for _ in 0..2 {
            let Pick::Server(place) = pool.decide(&ask, &tried) else { return };
            let lane = pool.servers[place].cell.lane(0);
            lane.begun.increment();
            pool.begin(&ask, place);
            lane.ended.increment();
            pool.leave(&ask, place);
            tried.add(place);
        }
    };
    let counted = allocation_counter::measure(|| (0..1_000).for_each(|_| work()));
    assert_eq!(counted.count_total, 0, "{counted:?}");
}

#[test]
fn asking_rules_allocates_nothing() {
    let mut rules: Vec<Condition> = (0..100)
        .map(|number| format!("host is h{number}.skerry.example and path under /p").parse().unwrap())
        .collect();
    for text in [
        "host is *.fleet.example and method is POST",
        "client in 192.0.2.0/24 and header X-Tenant is blue",
        "path matches \"^/ferry/[0-9]+$\" or cookie visit is a81f",
    ] {
        rules.push(text.parse().unwrap());
    }
    let set = RuleSet::new(&rules, &BTreeMap::new());
    let any_field = |name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool| {
        name == "cookie" && is_wanted(b"lang=en; visit=a81f")
    };
    let facts = RuleFacts {
        client: [198, 51, 100, 7].into(),
        method: "GET",
        target: "/ferry/lerwick?day=3",
        path: None,
        host: Some(b"h7.skerry.example:8080"),
        server_name: None,
        has_certificate: false,
        certificate_subject: &String::new,
        version: RequestVersion::One,
        local: "192.0.2.10:8080".parse().unwrap(),
        any_field: &any_field,
    };
    assert_eq!(set.first(&facts), Some(102));
    let counted =
        allocation_counter::measure(|| (0..1_000).for_each(|_| assert!(set.first(&facts).is_some())));
    assert_eq!(counted.count_total, 0, "{counted:?}");
}
