//! Nodes that announce addresses to a router, which sends traffic by what they announce.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{Read, Write};
use std::net::{IpAddr, TcpListener};
use std::time::{Duration, Instant};

use merismos_addresses::{PeerPlan, RouteSpeaker, SessionView, SpeakerPlan};
use merismos_core::announcement::{GRACEFUL_SHUTDOWN, RouteAttributes, SessionState};
use merismos_lab::network::{Machine, Network};
use merismos_lab::router::{Router, RouterNeighbour};
use rstest::rstest;

const FOUR: &str = "198.51.100.10";
const SIX: &str = "2001:db8:51::10";
const ROUTER: [&str; 2] = ["192.0.2.254", "2001:db8::254"];
/// AS numbers of the nodes (of 4 octets) and of the router.
const NODES: u32 = 4_200_000_001;
const ROUTERS: u32 = 64_501;
/// How long a test waits for what has to come.
const PATIENCE: Duration = Duration::from_secs(30);

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let start = Instant::now();
    while !is_so() {
        assert!(start.elapsed() < PATIENCE, "waited in vain: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn peer(routes: &[&str]) -> PeerPlan {
    PeerPlan {
        as_number: NODES,
        peer_as: ROUTERS,
        hold_time: Duration::from_secs(9),
        hops: 1,
        password: None,
        restart_time: None,
        identifier: 7,
        routes: routes.iter().map(|route| (ip(route), RouteAttributes::default())).collect(),
    }
}

/// Both addresses to both addresses of the router.
fn plan() -> SpeakerPlan {
    let peers = BTreeMap::from([(ip(ROUTER[0]), peer(&[FOUR])), (ip(ROUTER[1]), peer(&[SIX]))]);
    SpeakerPlan { held: BTreeSet::from([ip(FOUR), ip(SIX)]), peers }
}

fn with(change: impl Fn(&mut PeerPlan)) -> SpeakerPlan {
    let mut plan = plan();
    plan.peers.values_mut().for_each(change);
    plan
}

struct Node {
    machine: Machine,
    speaker: RouteSpeaker,
}

impl Node {
    fn start(network: &mut Network, number: u8, plan: SpeakerPlan) -> Self {
        let addresses = [format!("192.0.2.{number}/24"), format!("2001:db8::{number}/64")];
        let addresses: Vec<&str> = addresses.iter().map(String::as_str).collect();
        let machine = network.machine(&format!("node{number}"), &addresses).unwrap();
        let speaker = machine.enter(|| RouteSpeaker::start(false).unwrap()).unwrap();
        speaker.set(plan);
        Self { machine, speaker }
    }

    fn session(&self, peer: &str) -> Option<SessionView> {
        self.speaker.view().sessions.get(&ip(peer)).cloned()
    }

    fn trouble(&self) -> String {
        self.session(ROUTER[0]).and_then(|session| session.trouble).unwrap_or_default()
    }

    fn is_established(&self) -> bool {
        ROUTER
            .iter()
            .all(|peer| self.session(peer).is_some_and(|session| session.state == SessionState::Established))
    }
}

fn neighbours(nodes: &[u8], more: &str) -> Vec<RouterNeighbour> {
    let addresses = nodes.iter().flat_map(|node| [format!("192.0.2.{node}"), format!("2001:db8::{node}")]);
    addresses.map(|address| RouterNeighbour { address, as_number: NODES, more: more.to_owned() }).collect()
}

fn router(network: &mut Network, nodes: &[u8], more: &str) -> Router {
    let machine = network.machine("router", &["192.0.2.254/24", "2001:db8::254/64"]).unwrap();
    Router::start(machine, ROUTERS, &neighbours(nodes, more)).unwrap()
}

fn block_on(work: impl Future<Output = ()>) {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(work);
}

#[test]
fn a_router_shares_traffic_among_the_nodes_that_announce_an_address() {
    let mut network = Network::new().unwrap();
    let router = router(&mut network, &[1, 2], "");
    let nodes = [1, 2].map(|number| Node::start(&mut network, number, plan()));
    let hops = |address: &str| router.next_hops(address).unwrap();
    until("both ways lead to both", || {
        hops(FOUR) == ["192.0.2.1", "192.0.2.2"] && hops(SIX) == ["2001:db8::1", "2001:db8::2"]
    });
    for node in &nodes {
        assert!(node.machine.has_address(FOUR).unwrap() && node.machine.has_address(SIX).unwrap());
        let session = node.session(ROUTER[0]).unwrap();
        assert_eq!((session.state, session.trouble), (SessionState::Established, None));
        assert_eq!(session.hold_time, Some(Duration::from_secs(9)));
        assert_eq!(session.announced.keys().copied().collect::<Vec<_>>(), [ip(FOUR)]);
    }
    // One takes its addresses back, and the sessions stay.
    nodes[0].speaker.set(with(|peer| peer.routes.clear()));
    until("one way is left", || hops(FOUR) == ["192.0.2.2"] && hops(SIX) == ["2001:db8::2"]);
    assert!(nodes[0].is_established());
    assert_eq!(nodes[0].session(ROUTER[0]).unwrap().counted.withdrawn, 1);
    assert!(nodes[0].machine.has_address(FOUR).unwrap(), "what is on its way still gets there");
    nodes[0].speaker.set(plan());
    until("both ways are there again", || hops(FOUR).len() == 2 && hops(SIX).len() == 2);
    // The other leaves.
    block_on(nodes[1].speaker.stop());
    until("the other is gone", || hops(FOUR) == ["192.0.2.1"] && hops(SIX) == ["2001:db8::1"]);
    assert!(!nodes[1].machine.has_address(FOUR).unwrap() && !nodes[1].machine.has_address(SIX).unwrap());
    // And one that is killed.
    block_on(nodes[0].speaker.hand_over());
    until("none is left", || hops(FOUR).is_empty() && hops(SIX).is_empty());
    assert!(nodes[0].machine.has_address(FOUR).unwrap(), "until its time is over");
    until("the kernel took it off", || !nodes[0].machine.has_address(FOUR).unwrap());
}

#[test]
fn routers_are_told_what_they_choose_by() {
    let mut network = Network::new().unwrap();
    let router = router(&mut network, &[1], "");
    let route = RouteAttributes {
        prepend: 2,
        med: Some(70),
        communities: vec!["64500:120".parse().unwrap(), GRACEFUL_SHUTDOWN],
    };
    let node = Node::start(
        &mut network,
        1,
        with(|peer| peer.routes.values_mut().for_each(|known| *known = route.clone())),
    );
    until("it is established", || node.is_established());
    for address in [FOUR, SIX] {
        until("the router has the route", || {
            router.ask(&format!("show route for {address} all")).unwrap().contains("BGP.origin")
        });
        let said = router.ask(&format!("show route for {address} all")).unwrap();
        for line in [
            "BGP.origin: IGP",
            "BGP.as_path: 4200000001 4200000001 4200000001\n",
            "BGP.med: 70\n",
            "BGP.community: (64500,120) (65535,0)\n",
        ] {
            assert!(said.contains(line), "{line:?} of {address} in {said}");
        }
    }
    // A change of what they choose by is announced without the route going away.
    node.speaker.set(plan());
    until("the router knows", || {
        let said = router.ask(&format!("show route for {FOUR} all")).unwrap();
        said.contains("BGP.as_path: 4200000001\n")
            && !said.contains("BGP.community")
            && !said.contains("BGP.med")
    });
    assert_eq!(node.session(ROUTER[0]).unwrap().counted.withdrawn, 0);
    // It may also ask for all of it again.
    let before = node.session(ROUTER[0]).unwrap().counted.announced;
    router.ask("reload in node0").unwrap();
    until("it is announced again", || node.session(ROUTER[0]).unwrap().counted.announced > before);
}

#[test]
fn routes_inside_of_an_as_have_a_local_preference_and_no_path() {
    let mut network = Network::new().unwrap();
    let machine = network.machine("router", &["192.0.2.254/24"]).unwrap();
    let neighbour =
        RouterNeighbour { address: "192.0.2.1".to_owned(), as_number: ROUTERS, more: String::new() };
    let router = Router::start(machine, ROUTERS, &[neighbour]).unwrap();
    let leaving = RouteAttributes { communities: vec![GRACEFUL_SHUTDOWN], ..RouteAttributes::default() };
    let mut inside = peer(&[FOUR]);
    inside.as_number = ROUTERS;
    let mut plan = SpeakerPlan { held: BTreeSet::new(), peers: BTreeMap::from([(ip(ROUTER[0]), inside)]) };
    let node = Node::start(&mut network, 1, plan.clone());
    let says = |line: &str| router.ask(&format!("show route for {FOUR} all")).unwrap().contains(line);
    until("the router has the route", || says("BGP.local_pref: 100\n") && says("BGP.as_path: \n"));
    plan.peers
        .values_mut()
        .for_each(|peer| peer.routes.values_mut().for_each(|known| *known = leaving.clone()));
    node.speaker.set(plan);
    until("any other is preferred", || says("BGP.local_pref: 0\n"));
}

#[test]
fn why_there_is_no_session_is_said() {
    let mut network = Network::new().unwrap();
    let node = Node::start(&mut network, 1, plan());
    until("nothing is there", || node.trouble().contains("port 179"));
    let router = router(&mut network, &[1], "");
    until("it is tried again", || node.is_established() && node.trouble().is_empty());
    assert!(node.session(ROUTER[0]).unwrap().counted.failed > 0);
    // The router expects another AS number of the node, then has another one itself.
    let others =
        neighbours(&[1], "").into_iter().map(|neighbour| RouterNeighbour { as_number: 64_999, ..neighbour });
    router.set(ROUTERS, &others.collect::<Vec<_>>()).unwrap();
    until("the router does not want it", || node.trouble().contains("Bad Peer AS"));
    router.set(64_777, &neighbours(&[1], "")).unwrap();
    until("the node does not want the router", || {
        node.trouble().contains("its AS number is 64777, and `peer_as` is 64501")
    });
    router.set(ROUTERS, &neighbours(&[1], "")).unwrap();
    until("all is well", || node.is_established() && node.trouble().is_empty());
    router.ask("disable all").unwrap();
    until("the router's operators ended it", || node.trouble().contains("Administrative Shutdown"));
    assert!(node.session(ROUTER[0]).unwrap().counted.lost > 0);
    router.ask("enable all").unwrap();
    until("it is back by itself", || node.is_established());
}

#[test]
fn sessions_may_have_a_password() {
    let mut network = Network::new().unwrap();
    let _router = router(&mut network, &[1], "password \"tide-table\";");
    let node = Node::start(&mut network, 1, with(|peer| peer.password = Some("tide-tables".to_owned())));
    until("another password is none", || node.trouble().contains("no answer within 5 s"));
    node.speaker.set(with(|peer| peer.password = Some("tide-table".to_owned())));
    until("it is established", || node.is_established());
    node.speaker.set(with(|peer| peer.password = Some("x".repeat(81))));
    until("one that is too long is refused", || {
        node.trouble().contains("a password has 1 to 80 bytes, and this one has 81")
    });
}

#[test]
fn a_process_that_follows_keeps_the_routes_where_routers_were_asked_to() {
    let mut network = Network::new().unwrap();
    let router = router(&mut network, &[1], "graceful restart on;");
    let plan = with(|peer| peer.restart_time = Some(Duration::from_secs(20)));
    let mut node = Node::start(&mut network, 1, plan.clone());
    let is_routed = || {
        router.next_hops(FOUR).unwrap() == ["192.0.2.1"] && router.next_hops(SIX).unwrap() == ["2001:db8::1"]
    };
    until("it is routed", is_routed);
    block_on(node.speaker.hand_over());
    until("the router noticed", || router.ask("show protocols").unwrap().matches("Established").count() == 0);
    assert!(is_routed());
    node.speaker = node.machine.enter(|| RouteSpeaker::start(true).unwrap()).unwrap();
    node.speaker.set(plan);
    until("it is established again", || {
        assert!(is_routed(), "at any time");
        node.is_established()
    });
    until("the router took its routes anew", || {
        assert!(is_routed(), "at any time");
        !router.ask("show route all").unwrap().contains("stale")
    });
}

#[test]
fn a_router_that_falls_silent_is_gone_after_the_hold_time() {
    let mut network = Network::new().unwrap();
    let router = router(&mut network, &[1], "");
    let node = Node::start(&mut network, 1, with(|peer| peer.hold_time = Duration::from_secs(3)));
    until("it is routed", || router.next_hops(FOUR).unwrap() == ["192.0.2.1"]);
    assert_eq!(node.session(ROUTER[0]).unwrap().hold_time, Some(Duration::from_secs(3)));
    node.machine.unplug().unwrap();
    until("the router took it for gone", || router.next_hops(FOUR).unwrap().is_empty());
    until("it took the router for gone", || {
        node.session(ROUTER[0]).is_some_and(|session| session.counted.lost == 1)
    });
    node.machine.plug().unwrap();
    until("both are back", || router.next_hops(FOUR).unwrap() == ["192.0.2.1"]);
}

#[test]
fn what_the_machine_was_given_by_hand_stays() {
    let mut network = Network::new().unwrap();
    let machine = network.machine("node1", &["192.0.2.1/24"]).unwrap();
    let done =
        machine.command("ip").args(["address", "add", &format!("{FOUR}/32"), "dev", "lo"]).status().unwrap();
    assert!(done.success());
    let speaker = machine.enter(|| RouteSpeaker::start(false).unwrap()).unwrap();
    speaker.set(SpeakerPlan { held: BTreeSet::from([ip(FOUR), ip(SIX)]), peers: BTreeMap::new() });
    until("it is given the other", || machine.has_address(SIX).unwrap());
    block_on(speaker.stop());
    assert!(machine.has_address(FOUR).unwrap() && !machine.has_address(SIX).unwrap());
}

/// Whatever answers at the port of a router: the speaker says what is wrong, and tries again.
#[rstest]
#[case::silence(&[], "did not open the session within 10 s")]
#[case::another_protocol(
    b"HTTP/1.1 400 Bad Request\r\nServer: \x1b[31m\r\n\r\n",
    "what it sends is no message of BGP"
)]
#[case::nothing_but_zeros(&[0; 64], "what it sends is no message of BGP")]
#[case::a_length_of_nothing(&[0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 4], "says that it has 0 bytes")]
#[case::a_keepalive_first(&[0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0, 19, 4], "did not begin with an OPEN")]
fn what_is_no_router_is_said_to_be_none(#[case] answer: &'static [u8], #[case] says: &str) {
    let mut network = Network::new().unwrap();
    let machine = network.machine("router", &["192.0.2.254/24"]).unwrap();
    let listener = machine.enter(|| TcpListener::bind((ROUTER[0], 179)).unwrap()).unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming().take(20) {
            let mut stream = stream.unwrap();
            let _ = stream.write_all(answer);
            std::thread::spawn(move || stream.read_to_end(&mut Vec::new()));
        }
    });
    let plan = SpeakerPlan { held: BTreeSet::new(), peers: BTreeMap::from([(ip(ROUTER[0]), peer(&[FOUR]))]) };
    let node = Node::start(&mut network, 1, plan);
    until(says, || node.trouble().contains(says));
    assert!(!node.trouble().contains(char::is_control), "{:?}", node.trouble());
    assert_ne!(node.session(ROUTER[0]).unwrap().state, SessionState::Established);
}
