//! Addresses that two nodes announce to a router, which shares the traffic of a client among them.

use std::net::SocketAddr;
use std::process::Command;

use merismos_lab::network::{Machine, Network};
use merismos_lab::router::{Router, RouterNeighbour};
use serde_json::Value;

use crate::addresses::{Client, Node, Seen, get, serve, until};
use crate::harness::Instance;

const FOUR: &str = "198.51.100.10";
const SIX: &str = "2001:db8:51::10";

const DOCUMENT: &str = r#"format = 3

[announce.edge]
addresses = ["198.51.100.10", "2001:db8:51::10"]
as_number = 64500
peers = ["192.0.2.254", "2001:db8::254"]
peer_as = 64501
hold_time = "9s"
leave_time = "2s"
pools = ["quay"]
pool_loss_delay = "1s"

[checks.well]
kind = "tcp"
interval = "1s"
timeout = "900ms"
down_after = 2
up_after = 2

[pools.quay]
check = "well"
[pools.quay.servers.gull]
address = "192.0.2.50:8080"

[frontends.four]
protocol = "http"
listen = "198.51.100.10:80"
pool = "quay"

[frontends.six]
protocol = "http"
listen = "[2001:db8:51::10]:80"
pool = "quay"
"#;

/// Two nodes, a server and a client on one link, and a router that the client sends everything to.
struct Edge {
    // In the order in which they have to go.
    north: Node,
    south: Node,
    client: Machine,
    server: Machine,
    router: Router,
    document: String,
    _database: Instance,
    _network: Network,
}

fn run(mut command: Command, arguments: &[&str]) {
    let output = command.args(arguments).output().unwrap();
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

fn edge() -> Edge {
    edge_with("", DOCUMENT)
}

fn edge_with(of_neighbours: &str, document: &str) -> Edge {
    let mut network = Network::new().unwrap();
    let database = Instance::new();
    let mut machine = |name: &str, number: u8| {
        let addresses = [format!("192.0.2.{number}/24"), format!("2001:db8::{number}/64")];
        network.machine(name, &[&addresses[0], &addresses[1]]).unwrap()
    };
    let (server, client, at_router) = (machine("server", 50), machine("client", 60), machine("router", 254));
    let (at_north, at_south) = (machine("north", 1), machine("south", 2));
    serve(&server);
    for setting in [
        "net.ipv4.ip_forward=1",
        "net.ipv6.conf.all.forwarding=1",
        "net.ipv4.conf.all.send_redirects=0",
        "net.ipv4.conf.eth0.send_redirects=0",
    ] {
        run(at_router.command("sysctl"), &["-qw", setting]);
    }
    for (family, prefix, router) in
        [("-4", "198.51.100.0/24", "192.0.2.254"), ("-6", "2001:db8:51::/64", "2001:db8::254")]
    {
        run(client.command("ip"), &[family, "route", "add", prefix, "via", router]);
    }
    run(
        client.command("sysctl"),
        &[
            "-qw",
            "net.ipv4.conf.all.accept_redirects=0",
            "net.ipv4.conf.eth0.accept_redirects=0",
            "net.ipv6.conf.eth0.accept_redirects=0",
        ],
    );
    let neighbours = ["192.0.2.1", "192.0.2.2", "2001:db8::1", "2001:db8::2"];
    let neighbours = neighbours.map(|address| RouterNeighbour {
        address: address.to_owned(),
        as_number: 64_500,
        more: of_neighbours.to_owned(),
    });
    let router = Router::start(at_router, 64_501, &neighbours).unwrap();
    let north = Node::new(at_north, "north", &database, None);
    let south = Node::new(at_south, "south", &database, Some(&north));
    let file = north.folder.path().join("edge.toml");
    std::fs::write(&file, document).unwrap();
    let document = file.to_str().unwrap().to_owned();
    north.done(&["apply", &document]);
    let edge =
        Edge { north, south, client, server, router, document, _database: database, _network: network };
    edge.leads_to("both", &[1, 2]);
    edge
}

impl Edge {
    /// Waits until the router sends traffic to these nodes and no other.
    fn leads_to(&self, what: &str, nodes: &[u8]) {
        let four: Vec<String> = nodes.iter().map(|node| format!("192.0.2.{node}")).collect();
        let six: Vec<String> = nodes.iter().map(|node| format!("2001:db8::{node}")).collect();
        until(&format!("traffic goes to {what}"), || {
            self.router.next_hops(FOUR).unwrap() == four && self.router.next_hops(SIX).unwrap() == six
        });
    }

    /// Whether a client is served at both addresses.
    fn serves(&self) -> bool {
        let to = |ip: &str| SocketAddr::new(ip.parse().unwrap(), 80);
        self.client.enter(|| get(to(FOUR)) && get(to(SIX))).unwrap()
    }
}

/// A client was served. A connection that is open in the moment in which the router goes another way comes to a node that does not know it.
fn served(seen: &Seen) {
    assert!(seen.answers > 20 && seen.failures * 10 < seen.answers, "{seen:?}");
}

/// A step of a diagnosis.
fn step(diagnosis: &Value, what: &str) -> Value {
    let steps = diagnosis["steps"].as_array().cloned().unwrap_or_default();
    steps.into_iter().find(|step| step["what"] == what).unwrap_or_default()
}

fn nodes(found: &Value) -> Vec<Value> {
    found["announcements"][0]["nodes"].as_array().cloned().unwrap_or_default()
}

#[test]
fn a_node_that_is_drained_asks_for_less_traffic_withdraws_and_comes_back() {
    let edge = edge();
    until("clients are served", || edge.serves());
    until("all is well, as both see it", || {
        [&edge.north, &edge.south]
            .iter()
            .all(|node| node.merismos(&["announcement", "status"]).status.code() == Some(0))
    });
    for node in nodes(&edge.south.json(&["announcement", "status"])) {
        assert_eq!(node["routes"][0]["routers"], 1, "{node}");
        assert_eq!(node["sessions"].as_array().unwrap().len(), 2, "{node}");
    }
    let clients = [Client::start(&edge.client, FOUR), Client::start(&edge.client, SIX)];
    edge.north.done(&["node", "drain", "north", "--reason", "a new disk"]);
    until("routers are asked to prefer others", || {
        edge.router.ask(&format!("show route for {FOUR} all")).unwrap().contains("(65535,0)")
    });
    edge.leads_to("south", &[2]);
    for seen in clients.map(Client::end) {
        served(&seen);
    }
    until("south knows why", || {
        let north = nodes(&edge.south.json(&["announcement", "status"]))
            .into_iter()
            .find(|node| node["node"] == "north");
        north.is_some_and(|north| {
            north["is_drained"] == true && north["routes"][0]["withheld"] == "node-leaves"
        })
    });
    let refused = edge.north.merismos(&["node", "drain", "south"]);
    let says = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && says.contains("no other node does"), "{says}");
    edge.north.done(&["node", "return", "north"]);
    edge.leads_to("both", &[1, 2]);
    let events = edge.north.done(&["events", "--limit", "100"]);
    for says in [
        "this node announces 198.51.100.10",
        "asks routers to send the traffic",
        "withdraws 198.51.100.10: it leaves",
        "a session is established",
    ] {
        assert!(events.contains(says), "{says:?} in {events}");
    }
}

#[test]
fn what_a_node_can_not_serve_it_does_not_announce() {
    let edge = edge();
    // Nothing answers for the server any more, as both see it.
    edge.server.unplug().unwrap();
    edge.leads_to("none", &[]);
    let status = edge.north.merismos(&["status"]);
    let said = String::from_utf8_lossy(&status.stdout).into_owned();
    assert!(said.contains("too few servers are eligible of quay as seen from here"), "{said}");
    let says =
        "this node does not announce it: too few servers of its pools are eligible, and no other node does";
    until("a diagnosis says why", || {
        let step = step(&edge.north.json(&["diagnose", "four"]), "the route");
        step["works"] == false && step["observed"] == says
    });
    edge.server.plug().unwrap();
    edge.leads_to("both", &[1, 2]);
    until("a diagnosis knows that both announce it", || {
        let step = step(&edge.north.json(&["diagnose", "four"]), "the route");
        step["observed"] == "this node announces it to 1 of 1 routers, as south does"
    });
    // With another answer to it routes stay, behind those of nodes that can do more.
    let text = DOCUMENT.replace("leave_time", "when_pools_fail = \"prepend\"\nleave_time");
    std::fs::write(&edge.document, text).unwrap();
    edge.north.done(&["apply", &edge.document]);
    edge.server.unplug().unwrap();
    until("the path is longer", || {
        edge.router
            .ask(&format!("show route for {FOUR} all"))
            .unwrap()
            .contains("BGP.as_path: 64500 64500 64500 64500\n")
    });
    edge.leads_to("both", &[1, 2]);
    edge.server.plug().unwrap();
    // An address that no frontend listens at.
    let text = DOCUMENT.replace("listen = \"198.51.100.10:80\"", "listen = \"127.0.0.1:8099\"");
    std::fs::write(&edge.document, text).unwrap();
    edge.north.done(&["apply", &edge.document]);
    until("it alone is withdrawn", || {
        edge.router.next_hops(FOUR).unwrap().is_empty() && edge.router.next_hops(SIX).unwrap().len() == 2
    });
    until("it is a headline", || {
        let status = edge.south.merismos(&["status"]);
        String::from_utf8_lossy(&status.stdout)
            .contains("198.51.100.10 is not announced here: no frontend listens at it")
    });
}

#[test]
fn traffic_goes_on_when_nodes_are_killed_and_when_they_are_stopped() {
    let mut edge = edge();
    until("clients are served", || edge.serves());
    edge.north.kill();
    edge.leads_to("south", &[2]);
    until("clients are served", || edge.serves());
    edge.north.start();
    edge.leads_to("both", &[1, 2]);
    // One that is to stop sends its traffic away first.
    let clients = [Client::start(&edge.client, FOUR), Client::start(&edge.client, SIX)];
    edge.south.signal("-TERM");
    edge.leads_to("north", &[1]);
    let ended = edge.south.child.take().unwrap().wait().unwrap();
    assert!(ended.success());
    assert!(!edge.south.machine.has_address(FOUR).unwrap() && !edge.south.machine.has_address(SIX).unwrap());
    for seen in clients.map(Client::end) {
        served(&seen);
    }
    until("clients are served", || edge.serves());
}

#[test]
fn routers_keep_the_routes_over_an_upgrade_where_they_were_asked_to() {
    let mut edge = edge_with(
        "graceful restart on; password \"hidden\";",
        &DOCUMENT.replace(
            "leave_time",
            "restart_time = \"30s\"\npassword = \"environment:MERISMOS_SECRET_ROUTER\"\nleave_time",
        ),
    );
    let mut before = edge.north.child.take().unwrap();
    edge.north.child = Some(edge.north.process(&["upgrade", "--within", "5s"]));
    let is_routed =
        || edge.router.next_hops(FOUR).unwrap().len() == 2 && edge.router.next_hops(SIX).unwrap().len() == 2;
    until("the service before it has ended", || {
        assert!(is_routed(), "at any time");
        before.try_wait().unwrap().is_some_and(|ended| ended.success())
    });
    until("the one that follows has the sessions", || {
        assert!(is_routed(), "at any time");
        edge.north.merismos(&["announcement", "status"]).status.code() == Some(0)
    });
    until("the routers took its routes anew", || {
        assert!(is_routed(), "at any time");
        !edge.router.ask("show route all").unwrap().contains("stale")
    });
}
