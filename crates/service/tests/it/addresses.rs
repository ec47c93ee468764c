//! Addresses that move between nodes: two services on machines of a network of their own, with a client and a server beside them.

use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Child, Output, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use merismos_lab::network::{Machine, Network};
use serde_json::Value;
use tempfile::TempDir;

use crate::harness::Instance;

const FOUR: &str = "192.0.2.10";
const SIX: &str = "2001:db8::10";
/// How long a test waits for what has to come.
const PATIENCE: Duration = Duration::from_secs(40);
/// After how long a client gives an attempt up and tries again.
const CLIENT_PATIENCE: Duration = Duration::from_millis(50);

const DOCUMENT: &str = r#"format = 3

[addresses.front]
addresses = ["192.0.2.10", "2001:db8::10"]
interface = "eth0"
router_id = 10
nodes = { north = 200, south = 180 }
advertisement_interval = "300ms"
pools = ["quay"]
pool_loss_delay = "2s"

[checks.well]
kind = "tcp"
interval = "200ms"
timeout = "100ms"
down_after = 2
up_after = 2

[pools.quay]
check = "well"
[pools.quay.servers.gull]
address = "192.0.2.50:8080"

[frontends.four]
protocol = "http"
listen = "192.0.2.10:80"
pool = "quay"

[frontends.six]
protocol = "http"
listen = "[2001:db8::10]:80"
pool = "quay"
"#;

pub(crate) fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let start = Instant::now();
    while !is_so() {
        assert!(start.elapsed() < PATIENCE, "waited in vain: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A service on a machine of the network.
pub(crate) struct Node {
    pub(crate) machine: Machine,
    name: &'static str,
    pub(crate) folder: TempDir,
    database: String,
    pub(crate) child: Option<Child>,
}

impl Node {
    pub(crate) fn new(
        machine: Machine,
        name: &'static str,
        database: &Instance,
        secret_of: Option<&Self>,
    ) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let state = folder.path().join("state");
        std::fs::create_dir(&state).unwrap();
        std::fs::set_permissions(&state, std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
        if let Some(other) = secret_of {
            let secret = other.folder.path().join("state/store-secret");
            until("the first node made its secret", || secret.exists());
            std::fs::copy(secret, state.join("store-secret")).unwrap();
        }
        let mut node = Self { machine, name, folder, database: database.socket_url(), child: None };
        node.start();
        node
    }

    pub(crate) fn start(&mut self) {
        self.child = Some(self.process(&[]));
        until("the API answers", || self.merismos(&["status"]).status.code().is_some_and(|code| code < 2));
    }

    pub(crate) fn process(&self, flags: &[&str]) -> Child {
        let log = std::fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.folder.path().join("log"))
            .unwrap();
        self.machine
            .command(env!("CARGO_BIN_EXE_merismosd"))
            .env("MERISMOS_SECRET_ROUTER", "hidden")
            .args(["--node", self.name, "--workers", "1", "--api-listen", "127.0.0.1:7480", "--grace", "2s"])
            .args(flags)
            .arg("--state-folder")
            .arg(self.folder.path().join("state"))
            .env("MERISMOSD_DATABASE", &self.database)
            .stdin(Stdio::null())
            .stderr(log)
            .spawn()
            .unwrap()
    }

    pub(crate) fn merismos(&self, arguments: &[&str]) -> Output {
        let program = PathBuf::from(env!("CARGO_BIN_EXE_merismosd")).with_file_name("merismos");
        let token = std::fs::read_to_string(self.folder.path().join("state/first-token")).unwrap_or_default();
        self.machine
            .command(program)
            .args(arguments)
            .env("HOME", "/nonexistent")
            .env("MERISMOS_URL", "http://127.0.0.1:7480")
            .env("MERISMOS_TOKEN", token.trim())
            .output()
            .unwrap()
    }

    pub(crate) fn done(&self, arguments: &[&str]) -> String {
        let output = self.merismos(arguments);
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{arguments:?}: {said}{}", String::from_utf8_lossy(&output.stderr));
        said
    }

    pub(crate) fn json(&self, arguments: &[&str]) -> Value {
        let output = self.merismos(&[arguments, &["--json"]].concat());
        serde_json::from_slice(&output.stdout).unwrap_or_default()
    }

    /// The nodes that hold the addresses, as this one knows.
    fn holders(&self) -> Vec<String> {
        let found = self.json(&["address", "status"]);
        let holders = found["addresses"][0]["holders"].as_array().cloned().unwrap_or_default();
        holders.iter().filter_map(|holder| holder.as_str().map(str::to_owned)).collect()
    }

    /// Whether it knows where each node that lives stands.
    fn knows_all(&self) -> bool {
        let found = self.json(&["address", "status"]);
        let nodes = found["addresses"][0]["nodes"].as_array().cloned().unwrap_or_default();
        nodes.iter().all(|node| node["is_alive"] == false || !node["stance"].is_null())
    }

    fn has_them(&self) -> bool {
        self.machine.has_address(FOUR).unwrap() && self.machine.has_address(SIX).unwrap()
    }

    fn has_none(&self) -> bool {
        !self.machine.has_address(FOUR).unwrap() && !self.machine.has_address(SIX).unwrap()
    }

    pub(crate) fn signal(&self, signal: &str) {
        let pid = self.child.as_ref().expect("it runs").id().to_string();
        assert!(std::process::Command::new("kill").args([signal, &pid]).status().unwrap().success());
    }

    pub(crate) fn kill(&mut self) {
        self.signal("-KILL");
        let _ = self.child.take().unwrap().wait();
    }

    fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }
}

impl Drop for Node {
    fn drop(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
        if std::thread::panicking() {
            eprintln!("the log of {}:\n{}", self.name, self.log());
        }
    }
}

/// A client that asks again and again, each time with a new connection.
pub(crate) struct Client {
    stop: Arc<AtomicBool>,
    worker: JoinHandle<Seen>,
}

/// What a client saw.
#[derive(Debug, Default)]
pub(crate) struct Seen {
    pub(crate) answers: u64,
    pub(crate) failures: u64,
    /// The longest time between two answers.
    pub(crate) gap: Duration,
}

impl Client {
    pub(crate) fn start(machine: &Machine, address: &str) -> Self {
        let to = SocketAddr::new(address.parse::<IpAddr>().unwrap(), 80);
        let stop = Arc::new(AtomicBool::new(false));
        let ends = Arc::clone(&stop);
        let machine = machine.clone();
        let worker = std::thread::spawn(move || machine.enter(|| ask(to, &ends)).unwrap());
        Self { stop, worker }
    }

    pub(crate) fn end(self) -> Seen {
        self.stop.store(true, Ordering::Relaxed);
        self.worker.join().unwrap()
    }
}

fn ask(to: SocketAddr, ends: &AtomicBool) -> Seen {
    let mut seen = Seen::default();
    let mut last = Instant::now();
    while !ends.load(Ordering::Relaxed) {
        if get(to) {
            if seen.answers > 0 {
                seen.gap = seen.gap.max(last.elapsed());
            }
            seen.answers += 1;
            last = Instant::now();
        } else if seen.answers > 0 {
            seen.failures += 1;
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    seen
}

pub(crate) fn get(to: SocketAddr) -> bool {
    let Ok(mut connection) = TcpStream::connect_timeout(&to, CLIENT_PATIENCE) else { return false };
    let mut answer = String::new();
    connection.set_read_timeout(Some(CLIENT_PATIENCE)).unwrap();
    let asked = connection.write_all(b"GET / HTTP/1.1\r\nHost: quay.example\r\nConnection: close\r\n\r\n");
    asked.and_then(|()| connection.read_to_string(&mut answer)).is_ok() && answer.starts_with("HTTP/1.1 200")
}

/// A server that answers each request with the same few words.
pub(crate) fn serve(machine: &Machine) {
    let listener = machine.enter(|| TcpListener::bind("192.0.2.50:8080").unwrap()).unwrap();
    std::thread::spawn(move || {
        for connection in listener.incoming() {
            let Ok(mut connection) = connection else { return };
            std::thread::spawn(move || {
                let mut room = [0; 4_096];
                while connection.read(&mut room).is_ok_and(|read| read > 0) {
                    if connection.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok").is_err() {
                        return;
                    }
                }
            });
        }
    });
}

/// Two nodes, of which north is worth more, with a server and a client beside them.
struct Pair {
    // In the order in which they have to go.
    north: Node,
    south: Node,
    client: Machine,
    _database: Instance,
    _network: Network,
}

fn pair() -> Pair {
    let mut network = Network::new().unwrap();
    let database = Instance::new();
    let mut machine = |name: &str, number: u8| {
        let addresses = [format!("192.0.2.{number}/24"), format!("2001:db8::{number:x}/64")];
        network.machine(name, &[&addresses[0], &addresses[1]]).unwrap()
    };
    let server = machine("server", 50);
    let client = machine("client", 60);
    let (at_north, at_south) = (machine("north", 1), machine("south", 2));
    serve(&server);
    let north = Node::new(at_north, "north", &database, None);
    let south = Node::new(at_south, "south", &database, Some(&north));
    let document = north.folder.path().join("pair.toml");
    std::fs::write(&document, DOCUMENT).unwrap();
    north.done(&["apply", document.to_str().unwrap()]);
    let pair = Pair { north, south, client, _database: database, _network: network };
    pair.settled("north");
    pair
}

impl Pair {
    /// Waits until both nodes say that one of them holds the addresses, and it alone has them.
    fn settled(&self, holder: &str) {
        let (has, has_not) =
            if holder == "north" { (&self.north, &self.south) } else { (&self.south, &self.north) };
        until(&format!("{holder} holds the addresses"), || has.has_them() && has_not.has_none());
        for node in [&self.north, &self.south].into_iter().filter(|node| node.child.is_some()) {
            until(
                &format!("{} knows that {holder} holds them, and where the other stands", node.name),
                || node.holders() == [holder] && node.knows_all(),
            );
        }
    }

    fn clients(&self) -> [Client; 2] {
        let clients = [Client::start(&self.client, FOUR), Client::start(&self.client, SIX)];
        until("clients are served", || {
            let to = |ip: &str| SocketAddr::new(ip.parse().unwrap(), 80);
            self.client.enter(|| get(to(FOUR)) && get(to(SIX))).unwrap()
        });
        clients
    }
}

#[test]
fn a_node_that_is_killed_is_followed_and_takes_its_addresses_back() {
    let mut pair = pair();
    until("all is well", || pair.north.merismos(&["address", "status"]).status.code() == Some(0));
    for (node, says) in [
        (&pair.north, "this node holds 192.0.2.10 (address front)"),
        (
            &pair.south,
            "node north holds 192.0.2.10 (address front): clients go there, and so does what follows",
        ),
    ] {
        let diagnosis = node.json(&["diagnose", "four"]);
        assert_eq!(diagnosis["works"], true, "{diagnosis}");
        let steps = diagnosis["steps"].as_array().unwrap();
        assert_eq!(steps.iter().find(|step| step["what"] == "the holder").unwrap()["observed"], says);
    }
    let trial = pair.south.merismos(&["trial", "four", "--requests", "5"]);
    let said = String::from_utf8(trial.stderr).unwrap();
    assert_eq!(trial.status.code(), Some(3), "{said}");
    assert!(said.contains("which this node does not have (node north holds it)"), "{said}");
    let clients = pair.clients();
    pair.north.kill();
    // At once, and not when north's last sign of life is old.
    until("it is known that south holds them alone", || pair.south.holders() == ["south"]);
    until("south has the addresses", || pair.south.has_them());
    until("the kernel takes them off north", || pair.north.has_none());
    for seen in clients.map(Client::end) {
        // A second in theory; not a bound on speed, but on an address that does not move.
        assert!(seen.gap < Duration::from_secs(8), "{seen:?}");
        assert!(seen.answers > 20, "{seen:?}");
        eprintln!("killed: {seen:?}");
    }
    until("a node is missing", || pair.south.merismos(&["address", "status"]).status.code() == Some(1));
    let events = pair.south.done(&["events"]);
    assert!(
        events.contains(
            "this node holds it (priority 180): nothing was heard of node north, which held it, for"
        ),
        "{events}"
    );
    pair.north.start();
    pair.settled("north");
}

#[test]
fn operators_move_hold_and_return_addresses_and_no_client_notices() {
    let pair = pair();
    let clients = pair.clients();
    let said = pair.north.done(&["address", "move", "front", "--to", "south", "--reason", "new kernel"]);
    assert!(
        said.starts_with("Address front moved to south; `merismos address return front` ends that."),
        "{said}"
    );
    pair.settled("south");
    // What stands is said wherever people look, and holds over a restart of all.
    let status = pair.south.done(&["address", "status", "front"]);
    assert!(status.contains("moved to south, by admin at") && status.contains("new kernel"), "{status}");
    let troubles = pair.north.json(&["status"])["troubles"].to_string();
    assert!(troubles.contains("address front was moved to node south, by admin at"), "{troubles}");
    pair.south.done(&["address", "hold", "front"]);
    pair.settled("south");
    let still = Instant::now();
    until("it stays there, although north is worth more", || {
        still.elapsed() > Duration::from_secs(1) && pair.south.has_them()
    });
    pair.north.done(&["address", "return", "front"]);
    pair.settled("north");
    let unknown = pair.north.merismos(&["address", "move", "front", "--to", "east"]);
    assert_eq!(unknown.status.code(), Some(3));
    assert!(
        String::from_utf8_lossy(&unknown.stderr).contains("addresses.front names no node east"),
        "{unknown:?}"
    );
    for seen in clients.map(Client::end) {
        eprintln!("moved by hand three times: {seen:?}");
        // Milliseconds on a machine that is not busy: nothing is waited for.
        assert!(seen.gap < Duration::from_secs(4), "{seen:?}");
    }
}

#[test]
fn a_node_is_drained_of_its_addresses_and_the_last_one_is_not() {
    let mut pair = pair();
    let clients = pair.clients();
    let said = pair.south.done(&["node", "drain", "north", "--wait", "--reason", "new disk"]);
    assert!(said.contains("Node north is drained. It holds no address"), "{said}");
    pair.settled("south");
    let refused = pair.south.merismos(&["node", "drain", "south"]);
    assert_eq!(refused.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("and no other node can"), "{refused:?}");
    let refused = pair.south.merismos(&["address", "move", "front", "--to", "north"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("it is drained"), "{refused:?}");
    pair.north.kill();
    pair.north.start();
    until("it is drained still", || {
        let found = pair.north.json(&["address", "status"]);
        found["addresses"][0]["nodes"][0]["priority"] == 1
    });
    assert!(pair.south.has_them() && pair.north.has_none());
    pair.south.done(&["node", "return", "north"]);
    pair.settled("north");
    for seen in clients.map(Client::end) {
        eprintln!("drained and returned: {seen:?}");
        // Milliseconds on a machine that is not busy: nothing is waited for.
        assert!(seen.gap < Duration::from_secs(4), "{seen:?}");
    }
}

#[test]
fn a_node_that_loses_its_pools_gives_the_addresses_to_one_that_has_them() {
    let pair = pair();
    let route = |verb: &str| {
        let done = pair
            .north
            .machine
            .command("ip")
            .args(["route", verb, "blackhole", "192.0.2.50"])
            .status()
            .unwrap();
        assert!(done.success());
    };
    route("add");
    pair.settled("south");
    let status = pair.south.merismos(&["address", "status"]);
    let said = String::from_utf8_lossy(&status.stdout).into_owned();
    assert_eq!(status.status.code(), Some(1), "{said}");
    until("south knows why", || {
        let said = pair.south.merismos(&["address", "status"]);
        String::from_utf8_lossy(&said.stdout)
            .contains("front at node north: too few servers are eligible of quay")
    });
    route("delete");
    pair.settled("north");
}

#[test]
fn a_service_that_stops_or_is_upgraded_keeps_its_clients() {
    let mut pair = pair();
    let clients = pair.clients();
    let taken = pair.south.log().matches("this node holds it").count();
    let mut before = pair.north.child.take().unwrap();
    pair.north.child = Some(pair.north.process(&["upgrade", "--within", "5s"]));
    until("the service before it has ended", || {
        before.try_wait().unwrap().is_some_and(|ended| ended.success())
    });
    pair.settled("north");
    assert_eq!(
        pair.south.log().matches("this node holds it").count(),
        taken,
        "south had to: {}",
        pair.south.log()
    );
    pair.north.signal("-TERM");
    let mut ending = pair.north.child.take().unwrap();
    until("it has ended", || ending.try_wait().unwrap().is_some_and(|ended| ended.success()));
    assert!(pair.south.has_them() && pair.north.has_none(), "they were given away before it ended");
    for seen in clients.map(Client::end) {
        eprintln!("upgraded and stopped: {seen:?}");
        // Milliseconds on a machine that is not busy: nothing is waited for.
        assert!(seen.gap < Duration::from_secs(4), "{seen:?}");
    }
}
