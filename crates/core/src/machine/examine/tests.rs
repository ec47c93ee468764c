//! Each part of a machine, enough and not enough.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use rstest::rstest;

use super::super::facts::{InterfaceFacts, PortFacts, QueueFacts, ServerPorts, Stolen};
use super::*;

const MINUTE: Duration = Duration::from_secs(60);

fn gull() -> SocketAddr {
    "192.0.2.11:8080".parse().unwrap()
}

fn needs() -> MachineNeeds {
    let server = ServerPorts { server: "booking/gull".into(), addresses: vec![gull()], sources: 1 };
    MachineNeeds { backlog: 4_096, servers: vec![server], addresses_move: true, takes_datagrams: true }
}

/// A machine on which all is enough.
fn good() -> MachineFacts {
    let used = BTreeMap::from([(gull(), 10)]);
    let little = Some(Usage { used: 10, limit: 1_000 });
    let interface =
        InterfaceFacts { return_filter: 2, arp_ignore: 1, arp_announce: 2, ..InterfaceFacts::default() };
    MachineFacts {
        ports: Some(PortFacts { first: 32_768, last: 60_999, reserved: 0, used }),
        queues: Some(QueueFacts {
            limit: 4_096,
            handshakes: 2_048,
            cookies: true,
            overflows: 7,
            longest: Some((gull(), 1)),
        }),
        descriptors: little,
        all_descriptors: little,
        tracked: little,
        memory: Some(MemoryFacts {
            total: 8 << 30,
            available: 4 << 30,
            tcp: Some(Usage { used: 1 << 20, limit: 1 << 30 }),
        }),
        migrates: Some(true),
        neighbours: little,
        queue_drops: Some(3),
        datagram_drops: Some(4),
        receive_buffer: Some(212_992),
        interfaces: [("eth0".to_owned(), interface), ("eth1".to_owned(), interface)].into(),
        clock: Some("tsc".into()),
        stolen: Some(Stolen { all: 1_000, stolen: 500 }),
    }
}

fn found(now: &MachineFacts, before: &MachineFacts, subject: MachineSubject) -> MachineFinding {
    let findings = examine(now, Some((before, MINUTE)), &needs());
    findings.into_iter().find(|finding| finding.subject == subject).expect("it is looked at")
}

#[test]
fn what_has_long_been_so_on_a_good_machine_is_enough() {
    let mut now = good();
    now.stolen = Some(Stolen { all: 2_000, stolen: 510 });
    let findings = examine(&now, Some((&good(), MINUTE)), &needs());
    let not_enough: Vec<_> =
        findings.iter().filter(|finding| finding.state != MachineState::Enough).collect();
    assert_eq!(not_enough, [&findings[0]; 0]);
    assert_eq!(findings.len(), 13, "every subject once");
}

#[test]
fn what_can_not_be_read_is_unknown_and_nothing_is_wrong_with_it() {
    let findings = examine(&MachineFacts::default(), None, &MachineNeeds::default());
    assert!(findings.iter().all(|finding| finding.state <= MachineState::Enough), "{findings:#?}");
    assert_eq!(findings[0].state, MachineState::Unknown);
}

type Change = fn(&mut MachineFacts);

#[rstest]
#[case::ports(MachineSubject::SourcePorts, MachineState::Near, |m: &mut MachineFacts| { m.ports.as_mut().unwrap().used.insert(gull(), 23_000); }, "booking/gull (192.0.2.11:8080): 23000 of 28232 source ports in use (81 %), and none is left in 13 s")]
#[case::no_ports(MachineSubject::SourcePorts, MachineState::Short, |m: &mut MachineFacts| { m.ports.as_mut().unwrap().used.insert(gull(), 28_000); }, "(99 %)")]
#[case::reserved(MachineSubject::SourcePorts, MachineState::Near, |m: &mut MachineFacts| { let ports = m.ports.as_mut().unwrap(); ports.reserved = 28_220; }, "10 of 12 source ports")]
#[case::small_queue(MachineSubject::ListenQueues, MachineState::Advice, |m: &mut MachineFacts| m.queues.as_mut().unwrap().limit = 128, "128 may wait")]
#[case::full_queue(MachineSubject::ListenQueues, MachineState::Short, |m: &mut MachineFacts| m.queues.as_mut().unwrap().longest = Some((gull(), 4_000)), "most wait at 192.0.2.11:8080: 4000")]
#[case::overflows(MachineSubject::ListenQueues, MachineState::Advice, |m: &mut MachineFacts| m.queues.as_mut().unwrap().overflows = 9, "2 found a queue of this machine full")]
#[case::no_cookies(MachineSubject::ListenQueues, MachineState::Advice, |m: &mut MachineFacts| m.queues.as_mut().unwrap().cookies = false, "4096")]
#[case::descriptors(MachineSubject::Descriptors, MachineState::Short, |m: &mut MachineFacts| m.descriptors = Some(Usage { used: 990, limit: 1_000 }), "990 of 1000 in use (99 %)")]
#[case::descriptors_of_others(MachineSubject::Descriptors, MachineState::Near, |m: &mut MachineFacts| m.all_descriptors = Some(Usage { used: 900, limit: 1_000 }), "of all programs 900 of 1000")]
#[case::tracking(MachineSubject::ConnectionTracking, MachineState::Near, |m: &mut MachineFacts| m.tracked = Some(Usage { used: 80, limit: 100 }), "80 of 100 connections tracked")]
#[case::memory(MachineSubject::Memory, MachineState::Near, |m: &mut MachineFacts| m.memory.as_mut().unwrap().available = 512 << 20, "512.0 MiB of 8.0 GiB available")]
#[case::memory_of_tcp(MachineSubject::Memory, MachineState::Short, |m: &mut MachineFacts| m.memory.as_mut().unwrap().tcp = Some(Usage { used: 1 << 30, limit: 1 << 30 }), "TCP holds 1.0 GiB of 1.0 GiB")]
#[case::closing(MachineSubject::ClosingListeners, MachineState::Advice, |m: &mut MachineFacts| m.migrates = Some(false), "those who wait are reset")]
#[case::strict(MachineSubject::ReturnPath, MachineState::Advice, |m: &mut MachineFacts| m.interfaces.get_mut("eth1").unwrap().return_filter = 1, "strict on eth1")]
#[case::answers(MachineSubject::AddressResolution, MachineState::Advice, |m: &mut MachineFacts| m.interfaces.get_mut("eth1").unwrap().arp_ignore = 0, "of each other")]
#[case::neighbours(MachineSubject::Neighbours, MachineState::Short, |m: &mut MachineFacts| m.neighbours = Some(Usage { used: 1_024, limit: 1_024 }), "1024 of 1024 known")]
#[case::lost_in_queues(MachineSubject::PacketQueues, MachineState::Advice, |m: &mut MachineFacts| m.queue_drops = Some(5), "2 for the processors' queue")]
#[case::lost_on_the_way_in(MachineSubject::PacketQueues, MachineState::Advice, |m: &mut MachineFacts| m.interfaces.get_mut("eth0").unwrap().dropped_in = 6, "6 that came by eth0")]
#[case::datagrams(MachineSubject::Datagrams, MachineState::Advice, |m: &mut MachineFacts| m.datagram_drops = Some(14), "10 were dropped")]
#[case::clock(MachineSubject::Clock, MachineState::Advice, |m: &mut MachineFacts| m.clock = Some("hpet".into()), "read from hpet")]
#[case::stolen(MachineSubject::Processors, MachineState::Advice, |m: &mut MachineFacts| m.stolen = Some(Stolen { all: 2_000, stolen: 920 }), "took 42 % of their time in the last 60 s")]
fn what_is_not_enough_says_so_and_what_helps(
    #[case] subject: MachineSubject,
    #[case] state: MachineState,
    #[case] change: Change,
    #[case] says: &str,
) {
    let mut now = good();
    change(&mut now);
    let finding = found(&now, &good(), subject);
    assert_eq!(finding.state, state, "{finding:#?}");
    assert!(finding.found.contains(says), "{}", finding.found);
    assert!(!finding.help.is_empty() && !finding.wanted.is_empty(), "{finding:#?}");
}

#[test]
fn more_source_addresses_are_more_ports_and_the_fullest_servers_are_named() {
    let mut now = good();
    now.ports.as_mut().unwrap().used.insert(gull(), 28_000);
    let mut needs = needs();
    needs.servers[0].sources = 2;
    let findings = examine(&now, None, &needs);
    assert_eq!(findings[0].state, MachineState::Enough, "{:?}", findings[0]);
    for number in 0..20_u16 {
        let address = SocketAddr::from(([192, 0, 2, 50], 9_000 + number));
        now.ports.as_mut().unwrap().used.insert(address, 27_000);
        let server = format!("booking/s{number}");
        needs.servers.push(ServerPorts { server, addresses: vec![address], sources: 1 });
    }
    let findings = examine(&now, None, &needs);
    let named = findings.iter().filter(|finding| finding.subject == MachineSubject::SourcePorts);
    assert_eq!(named.count(), NAMED);
}
