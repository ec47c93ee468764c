//! Two and three nodes on a link, of which one holds the addresses.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use merismos_addresses::{AddressKeeper, AddressPlan, AddressView};
use merismos_core::name::Name;
use merismos_core::vrrp::{ChecksumRule, Preemption, Stance, WholeInterval};
use merismos_lab::network::{Machine, Network};

const FOUR: &str = "192.0.2.10";
const SIX: &str = "2001:db8::10";

/// How often holders advertise.
const INTERVAL: Duration = Duration::from_millis(300);
/// How long a test waits for what has to come.
const PATIENCE: Duration = Duration::from_secs(20);

fn front() -> Name {
    "front".parse().unwrap()
}

fn plan(priority: u8) -> AddressPlan {
    AddressPlan {
        interface: "eth0".to_owned(),
        router_id: 10,
        addresses: vec![FOUR.parse().unwrap(), SIX.parse().unwrap()],
        // Not so short that nodes of a busy machine take each other for gone.
        interval: WholeInterval::nearest(INTERVAL),
        peers: Vec::new(),
        checksum: ChecksumRule::Message,
        priority,
        preemption: Preemption::AtOnce,
        claim: false,
    }
}

/// A node on its machine.
struct Node {
    machine: Machine,
    keeper: AddressKeeper,
    plan: AddressPlan,
}

impl Node {
    fn start(network: &mut Network, number: u8, plan: AddressPlan) -> Self {
        let addresses = [format!("192.0.2.{number}/24"), format!("2001:db8::{number}/64")];
        let addresses: Vec<&str> = addresses.iter().map(String::as_str).collect();
        let machine = network.machine(&format!("node{number}"), &addresses).unwrap();
        Self::on(machine, plan)
    }

    fn on(machine: Machine, plan: AddressPlan) -> Self {
        let keeper = machine.enter(|| AddressKeeper::start(false).unwrap()).unwrap();
        let mut node = Self { machine, keeper, plan: plan.clone() };
        node.set(plan);
        node
    }

    fn set(&mut self, plan: AddressPlan) {
        self.plan = plan.clone();
        self.keeper.set(BTreeMap::from([(front(), plan)]));
    }

    fn view(&self) -> Option<AddressView> {
        self.keeper.views().get(&front()).cloned()
    }

    fn holds(&self) -> bool {
        self.view().is_some_and(|view| view.stance == Stance::Active)
    }

    /// Whether its machine has the addresses.
    fn has_them(&self) -> bool {
        self.machine.has_address(FOUR).unwrap() && self.machine.has_address(SIX).unwrap()
    }

    fn has_none(&self) -> bool {
        !self.machine.has_address(FOUR).unwrap() && !self.machine.has_address(SIX).unwrap()
    }

    fn stop(&self) {
        let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
        runtime.block_on(self.keeper.stop());
    }
}

fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let start = Instant::now();
    while !is_so() {
        assert!(start.elapsed() < PATIENCE, "waited in vain: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn the_node_that_is_worth_most_holds_the_addresses_and_another_takes_them_when_it_ends() {
    let mut network = Network::new().unwrap();
    let north = Node::start(&mut network, 1, plan(200));
    let south = Node::start(&mut network, 2, plan(100));
    until("north holds them", || north.holds() && north.has_them() && !south.holds() && south.has_none());
    until("it hears north", || south.view().unwrap().holder.is_some());
    let heard = south.view().unwrap().holder.unwrap();
    assert_eq!((heard.priority, heard.interval), (200, INTERVAL));
    // On a machine that stands still while they begin, both wait until their time is over.
    let before = south.view().unwrap().counted.taken;
    north.stop();
    until("south holds them", || south.holds() && south.has_them() && north.has_none());
    let counted = south.view().unwrap().counted;
    assert!(counted.taken > before, "{counted:?}");
    assert_eq!((counted.wrong, counted.other_addresses, counted.other_interval), (0, 0, 0));
    let last = south.view().unwrap().advertisements;
    assert!(
        last.iter().any(|said| said.priority == 0 && !said.is_own),
        "north said that it leaves: {last:?}"
    );
}

#[test]
fn a_cable_that_is_pulled_moves_them_and_they_come_back_with_it() {
    let mut network = Network::new().unwrap();
    let north = Node::start(&mut network, 1, plan(200));
    let south = Node::start(&mut network, 2, plan(100));
    until("north holds them", || north.holds() && north.has_them());
    north.machine.unplug().unwrap();
    until("south holds them, and north has none", || {
        south.holds() && south.has_them() && !north.holds() && north.has_none()
    });
    assert!(north.view().unwrap().troubles[0].starts_with("eth0 is down"), "{:?}", north.view());
    north.machine.plug().unwrap();
    until("north has them again", || north.holds() && north.has_them() && !south.holds() && south.has_none());
    assert_eq!(north.view().unwrap().troubles, Vec::<String>::new());
}

#[test]
fn they_come_back_by_hand_alone_where_the_plan_says_so() {
    let mut network = Network::new().unwrap();
    let by_hand = |priority| AddressPlan { preemption: Preemption::ByHand, ..plan(priority) };
    let south = Node::start(&mut network, 2, by_hand(100));
    until("south is alone", || south.holds());
    let mut north = Node::start(&mut network, 1, by_hand(200));
    until("north hears south", || north.view().is_some_and(|view| view.counted.received > 20));
    assert!(south.holds() && !north.holds());
    // Longer than a holder is missed.
    north.set(AddressPlan { claim: true, ..by_hand(200) });
    until("an operator moved them", || {
        north.holds() && north.has_them() && !south.holds() && south.has_none()
    });
}

#[test]
fn nodes_without_multicast_between_them_speak_to_their_peers() {
    let mut network = Network::new().unwrap();
    let among = |priority| AddressPlan {
        peers: ["192.0.2.1", "192.0.2.2", "192.0.2.3"].map(|peer| peer.parse().unwrap()).into(),
        ..plan(priority)
    };
    let north = Node::start(&mut network, 1, among(200));
    let south = Node::start(&mut network, 2, among(150));
    let east = Node::start(&mut network, 3, among(100));
    let stranger = Node::start(&mut network, 4, AddressPlan { router_id: 10, ..plan(250) });
    until("north holds them", || north.holds() && north.has_them() && !south.holds() && !east.holds());
    let heard = north.view().unwrap().counted;
    until("the stranger is counted", || north.view().unwrap().counted.wrong > heard.wrong);
    assert!(stranger.holds(), "it hears none of them");
    north.stop();
    until("south holds them", || south.holds() && south.has_them() && !east.holds());
}

#[test]
fn what_is_taken_off_by_another_hand_is_put_back() {
    let mut network = Network::new().unwrap();
    let north = Node::start(&mut network, 1, plan(200));
    until("north holds them", || north.holds() && north.has_them());
    let done = north
        .machine
        .command("ip")
        .args(["address", "delete", &format!("{FOUR}/32"), "dev", "eth0"])
        .status()
        .unwrap();
    assert!(done.success());
    until("it is back", || north.has_them());
}

#[test]
fn of_a_node_that_hears_nothing_another_hears_that_there_are_two_holders() {
    let mut network = Network::new().unwrap();
    let north = Node::start(&mut network, 1, plan(200));
    let south = Node::start(&mut network, 2, plan(100));
    until("north holds them", || north.holds() && !south.holds());
    south.machine.deafen().unwrap();
    until("south takes north for gone", || south.holds());
    until("north hears it", || north.view().unwrap().counted.second_holder > 0);
    south.machine.let_hear().unwrap();
    until("one is left", || north.holds() && !south.holds() && south.has_none());
}

#[test]
fn a_process_that_follows_goes_on_holding_and_one_that_was_killed_leaves_nothing() {
    // Nodes that wait longer forgive a machine that stands still for longer; a process that lets go is noticed with each.
    let goes_on = [1, 2, 5].into_iter().any(|times| another_process_goes_on(INTERVAL * times));
    assert!(goes_on, "south never had to take them");
}

/// Whether a process went on holding what the one before it held without another node having to take it.
fn another_process_goes_on(interval: Duration) -> bool {
    let plan = |priority| AddressPlan { interval: WholeInterval::nearest(interval), ..plan(priority) };
    let mut network = Network::new().unwrap();
    let mut north = Node::start(&mut network, 1, plan(200));
    let south = Node::start(&mut network, 2, plan(100));
    until("north holds them", || {
        north.holds() && north.has_them() && !south.holds() && south.view().unwrap().holder.is_some()
    });
    let ever_taken = south.view().unwrap().counted.taken;
    let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
    let before = north.keeper.clone();
    north.keeper = north.machine.enter(|| AddressKeeper::start(true).unwrap()).unwrap();
    north.set(plan(200));
    until("the next one holds them", || north.holds());
    runtime.block_on(before.hand_over());
    let sent = north.view().unwrap().counted.sent;
    until("it advertises by itself", || north.view().unwrap().counted.sent > sent + 10);
    if south.view().unwrap().counted.taken > ever_taken {
        return false;
    }
    assert!(north.holds());
    assert!(north.has_them());
    // As if it were killed: nothing is said, and the addresses stay until their time is over.
    runtime.block_on(north.keeper.hand_over());
    until("south holds them", || south.holds() && south.has_them());
    until("the kernel took them off", || north.has_none());
    true
}

#[test]
fn an_interface_that_is_not_there_is_a_trouble() {
    let mut network = Network::new().unwrap();
    let north = Node::start(&mut network, 1, AddressPlan { interface: "eth7".to_owned(), ..plan(200) });
    until("it is shown", || north.view().is_some());
    let view = north.view().unwrap();
    assert_eq!(
        view.troubles,
        ["this machine has no interface eth7: name one of its own, `ip link` lists them"]
    );
    assert_eq!((view.stance, view.priority), (Stance::Aside, 0));
}
