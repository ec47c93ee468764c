//! What goes over the wire, as another program decodes it.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader};
use std::process::Stdio;
use std::time::{Duration, Instant};

use merismos_addresses::{AddressKeeper, AddressPlan};
use merismos_core::vrrp::{ChecksumRule, Preemption, WholeInterval};
use merismos_lab::network::Network;

/// How many packets are looked at.
const PACKETS: usize = 30;

#[test]
fn advertisements_and_announcements_are_what_the_standards_say() {
    let mut network = Network::new().unwrap();
    let looks_on = network.machine("looks-on", &["192.0.2.9/24", "2001:db8::9/64"]).unwrap();
    let node = network.machine("node", &["192.0.2.1/24", "2001:db8::1/64"]).unwrap();
    let count = PACKETS.to_string();
    let fields = [
        "ip.ttl",
        "ipv6.hlim",
        "vrrp.version",
        "vrrp.virt_rtr_id",
        "vrrp.prio",
        "vrrp.checksum.status",
        "vrrp.ip_addr",
        "vrrp.ipv6_addr",
        "arp.isannouncement",
        "arp.src.proto_ipv4",
        "icmpv6.nd.na.target_address",
        "icmpv6.nd.na.flag.o",
        "icmpv6.checksum.status",
    ];
    let mut command = looks_on.command("tshark");
    // The checksum over IPv4 is that of the message alone (RFC 9568).
    command.args([
        "-i",
        "eth0",
        "-l",
        "-n",
        "-c",
        &count,
        "-a",
        "duration:30",
        "-o",
        "vrrp.v3_checksum_as_in_v2:TRUE",
    ]);
    command.args([
        "-f",
        "ip proto 112 or ip6 proto 112 or arp or icmp6",
        "-Y",
        "vrrp or arp or icmpv6.type == 136",
        "-T",
        "fields",
    ]);
    for field in fields {
        command.args(["-e", field]);
    }
    let mut capture = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let listens = || {
        looks_on
            .enter(|| std::fs::read_to_string("/proc/thread-self/net/packet").unwrap())
            .unwrap()
            .lines()
            .count()
            > 1
    };
    let start = Instant::now();
    while !listens() {
        assert!(start.elapsed() < Duration::from_secs(20), "it does not listen");
        std::thread::sleep(Duration::from_millis(20));
    }
    let keeper = node.enter(|| AddressKeeper::start(false).unwrap()).unwrap();
    let plan = AddressPlan {
        interface: "eth0".to_owned(),
        router_id: 7,
        addresses: vec!["192.0.2.10".parse().unwrap(), "2001:db8::10".parse().unwrap()],
        interval: WholeInterval::nearest(Duration::from_millis(100)),
        peers: Vec::new(),
        checksum: ChecksumRule::Message,
        priority: 200,
        preemption: Preemption::AtOnce,
        claim: false,
    };
    keeper.set(BTreeMap::from([("front".parse().unwrap(), plan)]));
    let lines: Vec<String> =
        BufReader::new(capture.stdout.take().unwrap()).lines().map(Result::unwrap).collect();
    capture.wait().unwrap();
    let packets: Vec<BTreeMap<&str, &str>> =
        lines.iter().map(|line| fields.iter().copied().zip(line.split('\t')).collect()).collect();
    let with = |wanted: &[(&str, &str)]| {
        packets
            .iter()
            .filter(|packet| wanted.iter().all(|(field, value)| packet.get(field) == Some(value)))
            .count()
    };
    let both = [
        ("vrrp.version", "3"),
        ("vrrp.virt_rtr_id", "7"),
        ("vrrp.prio", "200"),
        ("vrrp.checksum.status", "1"),
    ];
    let four = with(&[&both[..], &[("ip.ttl", "255"), ("vrrp.ip_addr", "192.0.2.10")]].concat());
    let six = with(&[&both[..], &[("ipv6.hlim", "255"), ("vrrp.ipv6_addr", "2001:db8::10")]].concat());
    assert!(four >= 5 && six >= 5, "{packets:#?}");
    assert_eq!(with(&[("vrrp.checksum.status", "0")]), 0, "none is bad: {packets:#?}");
    let told = with(&[("arp.isannouncement", "1"), ("arp.src.proto_ipv4", "192.0.2.10")]);
    // Booleans are written in two ways by its versions.
    let overrides = |value| {
        with(&[
            ("icmpv6.nd.na.target_address", "2001:db8::10"),
            ("icmpv6.nd.na.flag.o", value),
            ("ipv6.hlim", "255"),
            ("icmpv6.checksum.status", "1"),
        ])
    };
    assert!(
        told >= 1 || with(&[("arp.isannouncement", "True"), ("arp.src.proto_ipv4", "192.0.2.10")]) >= 1,
        "{packets:#?}"
    );
    assert!(overrides("1") + overrides("True") >= 1, "{packets:#?}");
}
