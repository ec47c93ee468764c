//! Whether a machine is enough for its node.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::facts::{MachineFacts, MachineNeeds, MemoryFacts, Usage};
use crate::units::humane;

/// From how many hundredths in use on something is near its end.
const NEAR: u64 = 80;
/// From how many on it is short.
const SHORT: u64 = 95;
/// How many hundredths of the processors' time others may take until it is worth a word.
const STOLEN: u64 = 10;
/// How many servers are named whose ports are near their end.
const NAMED: usize = 10;
/// What clocks are read from without a call to the system.
const FAST_CLOCKS: [&str; 4] = ["tsc", "kvm-clock", "arch_sys_counter", "hyperv_clocksource_tsc_page"];

/// What is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum MachineSubject {
    /// Ports that connections to servers come from.
    SourcePorts,
    /// Queues of those who wait to be taken.
    ListenQueues,
    /// File descriptors.
    Descriptors,
    /// Connections that the packet filter tracks.
    ConnectionTracking,
    /// Memory.
    Memory,
    /// What becomes of those who wait at a listener that closes.
    ClosingListeners,
    /// Whether packets are dropped for the way that they came by.
    ReturnPath,
    /// Who answers for an address.
    AddressResolution,
    /// Neighbours that the machine knows.
    Neighbours,
    /// Queues of packets.
    PacketQueues,
    /// Datagrams that were dropped.
    Datagrams,
    /// What the clock is read from.
    Clock,
    /// Processors that others share.
    Processors,
}

/// How something stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum MachineState {
    /// It can't be read here.
    Unknown,
    /// It is enough.
    Enough,
    /// It is enough, and could be better.
    Advice,
    /// It is near its end.
    Near,
    /// It is short, or clients have felt it.
    Short,
}

/// What was found of one part of the machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MachineFinding {
    /// What was looked at.
    pub subject: MachineSubject,
    /// How it stands.
    pub state: MachineState,
    /// What is.
    #[cfg_attr(
        feature = "schema",
        schema(example = "gull (192.0.2.11:8080): 25690 of 28232 source ports in use (90 %)")
    )]
    pub found: String,
    /// What should be; empty where it is so.
    pub wanted: String,
    /// Why it matters.
    pub why: String,
    /// What helps, a line each: as `sysctl` takes it where it is a setting of the system.
    pub help: Vec<String>,
}

impl MachineFinding {
    fn new(subject: MachineSubject, why: &str, found: impl Into<String>) -> Self {
        let state = MachineState::Enough;
        Self { subject, state, found: found.into(), wanted: String::new(), why: why.into(), help: Vec::new() }
    }

    fn unknown(subject: MachineSubject, why: &str) -> Self {
        let state = MachineState::Unknown;
        Self { state, ..Self::new(subject, why, "this machine does not say") }
    }

    /// It is not as it should be.
    fn but(self, state: MachineState, wanted: impl Into<String>, help: &[&str]) -> Self {
        let help = help.iter().map(|line| (*line).to_owned()).collect();
        Self { state, wanted: wanted.into(), help, ..self }
    }

    /// It is as it should be until so much of it is in use.
    fn unless_used(self, usage: Usage, help: &[&str]) -> Self {
        match pressure(usage) {
            MachineState::Enough => self,
            state => self.but(state, format!("less than {NEAR} %"), help),
        }
    }

    /// Whether it will be felt by clients, or is: what a status has to say by itself.
    #[must_use]
    pub fn is_pressing(&self) -> bool {
        self.state >= MachineState::Near
    }
}

fn pressure(usage: Usage) -> MachineState {
    match usage.percent() {
        SHORT.. => MachineState::Short,
        NEAR.. => MachineState::Near,
        _ => MachineState::Enough,
    }
}

/// Bytes as people say them.
fn rounded(bytes: u64) -> String {
    const UNITS: [(u64, &str); 3] = [(1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB")];
    let unit = UNITS.iter().find(|(size, _)| bytes >= *size);
    unit.map_or_else(
        || format!("{bytes} bytes"),
        |(size, name)| format!("{:.1} {name}", bytes as f64 / *size as f64),
    )
}

fn of(usage: Usage, what: &str) -> String {
    format!("{} of {} {what} ({} %)", usage.used, usage.limit, usage.percent())
}

/// Looks at every part of a machine. `before` is what was read of it some time ago, and when: what has only ever grown says nothing of now.
///
/// Cost: linear in servers and interfaces.
#[must_use]
pub fn examine(
    now: &MachineFacts,
    before: Option<(&MachineFacts, Duration)>,
    needs: &MachineNeeds,
) -> Vec<MachineFinding> {
    let mut findings = source_ports(now, before, needs);
    findings.push(listen_queues(now, before, needs));
    findings.push(descriptors(now));
    findings.push(connection_tracking(now));
    findings.push(memory(now));
    findings.push(closing_listeners(now));
    findings.push(return_path(now));
    findings.extend(needs.addresses_move.then(|| address_resolution(now)));
    findings.push(neighbours(now));
    findings.push(packet_queues(now, before));
    findings.extend(needs.takes_datagrams.then(|| datagrams(now, before)));
    findings.push(clock(now));
    findings.push(processors(now, before));
    findings
}

/// By how much something has grown, and in what time.
fn growth(
    now: &MachineFacts,
    before: Option<(&MachineFacts, Duration)>,
    count: impl Fn(&MachineFacts) -> Option<u64>,
) -> Option<(u64, Duration)> {
    let (earlier, within) = before?;
    Some((count(now)?.saturating_sub(count(earlier)?), within))
}

fn source_ports(
    now: &MachineFacts,
    before: Option<(&MachineFacts, Duration)>,
    needs: &MachineNeeds,
) -> Vec<MachineFinding> {
    const WHY: &str = "each connection to a server needs a port of its own, also for a minute after it is closed here; when all are in use, requests \
                       fail although the server is well";
    let subject = MachineSubject::SourcePorts;
    let Some(ports) = &now.ports else { return vec![MachineFinding::unknown(subject, WHY)] };
    let each = ports.each();
    let mut usages: Vec<(Usage, &str, std::net::SocketAddr)> = Vec::new();
    for server in &needs.servers {
        for address in &server.addresses {
            let used = ports.used.get(address).copied().unwrap_or(0);
            usages.push((Usage { used, limit: each * server.sources }, &server.server, *address));
        }
    }
    usages.sort_by_key(|(usage, server, _)| (std::cmp::Reverse(usage.percent()), *server));
    let full = usages.iter().take_while(|(usage, ..)| usage.percent() >= NEAR).count().clamp(1, NAMED);
    let mut findings: Vec<MachineFinding> = usages
        .iter()
        .take(full)
        .map(|(usage, server, address)| {
            let mut found = format!("{server} ({address}): {}", of(*usage, "source ports in use"));
            let earlier = before.and_then(|(facts, within)| {
                let used = facts.ports.as_ref()?.used.get(address).copied().unwrap_or(0);
                Some((usage.used.checked_sub(used).filter(|more| *more > 0)?, within))
            });
            if let (NEAR.., Some((more, within))) = (usage.percent(), earlier) {
                let left = usage.limit.saturating_sub(usage.used);
                let ends = within.mul_f64(left as f64 / more as f64);
                found += &format!(", and none is left in {} if it goes on like this", humane(ends));
            }
            let help = [
                "more addresses under `source_addresses` of the pool: each brings as many ports again",
                "`http_version = \"2\"`, or more `idle_connections` of the pool: connections that are shared or kept need fewer",
                "net.ipv4.ip_local_port_range = 10240 65535",
                "net.ipv4.tcp_tw_reuse = 1",
            ];
            MachineFinding::new(subject, WHY, found).unless_used(*usage, &help)
        })
        .collect();
    if findings.is_empty() {
        findings.push(MachineFinding::new(
            subject,
            WHY,
            format!("{each} for each server and source address"),
        ));
    }
    findings
}

fn listen_queues(
    now: &MachineFacts,
    before: Option<(&MachineFacts, Duration)>,
    needs: &MachineNeeds,
) -> MachineFinding {
    const WHY: &str = "clients wait there until a worker takes them; those who find it full try again after a second, and then after two";
    let subject = MachineSubject::ListenQueues;
    let Some(queues) = now.queues else { return MachineFinding::unknown(subject, WHY) };
    let room = queues.limit.min(needs.backlog);
    let mut found = format!("{room} may wait at each listener");
    if let Some((address, waiting)) = queues.longest.filter(|(_, waiting)| *waiting > 0) {
        found += &format!("; most wait at {address}: {waiting}");
    }
    let overflows = growth(now, before, |facts| facts.queues.map(|queues| queues.overflows));
    if let Some((times @ 1.., within)) = overflows {
        found += &format!("; {times} found a queue of this machine full in the last {}", humane(within));
    }
    let finding = MachineFinding::new(subject, WHY, found);
    let waiting = Usage { used: queues.longest.map_or(0, |(_, waiting)| waiting), limit: room };
    let larger = format!("net.core.somaxconn = {}", needs.backlog);
    if waiting.percent() >= NEAR {
        let help = ["more workers (`--workers`) and processors: they take clients too slowly"];
        finding.but(pressure(waiting), format!("less than {NEAR} % of it"), &help)
    } else if queues.limit < needs.backlog {
        finding.but(MachineState::Advice, format!("room for {}", needs.backlog), &[&larger])
    } else if !queues.cookies {
        let help = ["net.ipv4.tcp_syncookies = 1"];
        finding.but(MachineState::Advice, "SYN cookies, so that a flood shuts no client out", &help)
    } else if overflows.is_some_and(|(times, _)| times > 0) {
        let help = ["`ss -ltn` shows which listener of which program it is: Recv-Q beside Send-Q"];
        finding.but(MachineState::Advice, "none", &help)
    } else {
        finding
    }
}

fn descriptors(now: &MachineFacts) -> MachineFinding {
    const WHY: &str = "a client takes one, and one more for its server; without one it waits or gets 503";
    let subject = MachineSubject::Descriptors;
    let Some(own) = now.descriptors else { return MachineFinding::unknown(subject, WHY) };
    let mut finding = MachineFinding::new(subject, WHY, of(own, "in use"));
    let all = now.all_descriptors.unwrap_or_default();
    if pressure(all) > pressure(own) {
        finding.found += &format!("; of all programs {}", of(all, "in use"));
        return finding.unless_used(all, &[&format!("fs.file-max = {}", all.limit.saturating_mul(4))]);
    }
    let more = own.limit.saturating_mul(4);
    finding.unless_used(
        own,
        &[&format!("`ulimit -n {more}`, or `LimitNOFILE={more}` of its unit, and a restart")],
    )
}

fn connection_tracking(now: &MachineFacts) -> MachineFinding {
    const WHY: &str = "a packet filter that tracks connections drops new ones when its table is full, and only the kernel's log shows it";
    let subject = MachineSubject::ConnectionTracking;
    let Some(tracked) = now.tracked else {
        return MachineFinding::new(subject, WHY, "no connections are tracked");
    };
    let larger = format!("net.netfilter.nf_conntrack_max = {}", tracked.limit.saturating_mul(4));
    let help = [&larger, "a rule that leaves the frontends' ports untracked (`notrack`)"];
    MachineFinding::new(subject, WHY, of(tracked, "connections tracked")).unless_used(tracked, &help)
}

fn memory(now: &MachineFacts) -> MachineFinding {
    const WHY: &str = "without memory the system ends programs, or TCP gives each connection less and all of them become slow";
    let subject = MachineSubject::Memory;
    let Some(MemoryFacts { total, available, tcp }) = now.memory else {
        return MachineFinding::unknown(subject, WHY);
    };
    let mut found = format!("{} of {} available", rounded(available), rounded(total));
    if let Some(tcp) = tcp {
        found += &format!("; TCP holds {} of {}", rounded(tcp.used), rounded(tcp.limit));
    }
    let finding = MachineFinding::new(subject, WHY, found);
    let taken = Usage { used: total.saturating_sub(available), limit: total };
    if let Some(tcp) = tcp.filter(|tcp| pressure(*tcp) > MachineState::Enough) {
        let pages = tcp.limit / 4_096;
        let larger = format!("net.ipv4.tcp_mem = {} {} {}", pages * 3 / 2, pages * 2, pages * 3);
        return finding.but(pressure(tcp), format!("TCP at less than {NEAR} % of it"), &[&larger]);
    }
    // The cache of files counts as available: what is left at 90 % is little.
    match taken.percent() {
        97.. => finding.but(
            MachineState::Short,
            "a tenth of it available",
            &["more memory, or a smaller --client-memory"],
        ),
        90.. => finding.but(
            MachineState::Near,
            "a tenth of it available",
            &["more memory, or a smaller --client-memory"],
        ),
        _ => finding,
    }
}

fn closing_listeners(now: &MachineFacts) -> MachineFinding {
    const WHY: &str = "clients that wait at a listener which closes are reset; an upgrade hands listeners on and closes none, but a worker that ends \
                       closes its own";
    let subject = MachineSubject::ClosingListeners;
    match now.migrates {
        None => MachineFinding::unknown(subject, WHY),
        Some(true) => {
            MachineFinding::new(subject, WHY, "those who wait go to another listener of the same address")
        }
        Some(false) => MachineFinding::new(subject, WHY, "those who wait are reset").but(
            MachineState::Advice,
            "those who wait go to another listener of the same address",
            &["net.ipv4.tcp_migrate_req = 1"],
        ),
    }
}

fn return_path(now: &MachineFacts) -> MachineFinding {
    const WHY: &str = "a strict filter drops packets that come by another interface than the way back to their sender leads by, without a trace in any log";
    let subject = MachineSubject::ReturnPath;
    let strict: Vec<&str> = now
        .interfaces
        .iter()
        .filter(|(_, facts)| facts.return_filter == 1)
        .map(|(name, _)| name.as_str())
        .collect();
    if strict.is_empty() {
        return MachineFinding::new(subject, WHY, "no strict filter");
    }
    let finding = MachineFinding::new(subject, WHY, format!("strict on {}", strict.join(", ")));
    if now.interfaces.len() < 2 {
        return finding;
    }
    let loose: Vec<String> =
        strict.iter().map(|name| format!("net.ipv4.conf.{name}.rp_filter = 2")).collect();
    let help: Vec<&str> =
        std::iter::once("net.ipv4.conf.all.rp_filter = 2").chain(loose.iter().map(String::as_str)).collect();
    finding.but(MachineState::Advice, "loose (2) on a machine with several interfaces", &help)
}

fn address_resolution(now: &MachineFacts) -> MachineFinding {
    const WHY: &str = "an interface that answers for addresses of another one sends clients of an address that moves to the wrong hardware address";
    let subject = MachineSubject::AddressResolution;
    let loose = now.interfaces.values().any(|facts| facts.arp_ignore == 0 || facts.arp_announce < 2);
    let finding = |found: &str| MachineFinding::new(subject, WHY, found);
    if now.interfaces.len() < 2 {
        finding("there is one interface, which answers for all addresses")
    } else if loose {
        let help = ["net.ipv4.conf.all.arp_ignore = 1", "net.ipv4.conf.all.arp_announce = 2"];
        finding("interfaces answer for addresses of each other").but(
            MachineState::Advice,
            "each answers for its own",
            &help,
        )
    } else {
        finding("each interface answers for its own addresses")
    }
}

fn neighbours(now: &MachineFacts) -> MachineFinding {
    const WHY: &str =
        "machines of the same network can't be reached when there is no room for their hardware address";
    let subject = MachineSubject::Neighbours;
    let Some(known) = now.neighbours else { return MachineFinding::unknown(subject, WHY) };
    let larger = format!("net.ipv4.neigh.default.gc_thresh3 = {}", known.limit.saturating_mul(4));
    MachineFinding::new(subject, WHY, of(known, "known")).unless_used(known, &[&larger])
}

fn packet_queues(now: &MachineFacts, before: Option<(&MachineFacts, Duration)>) -> MachineFinding {
    const WHY: &str =
        "packets that find a queue full are lost: connections stand still until they are sent again";
    let subject = MachineSubject::PacketQueues;
    if now.queue_drops.is_none() {
        return MachineFinding::unknown(subject, WHY);
    }
    let mut lost: Vec<String> = Vec::new();
    if let Some((packets @ 1.., _)) = growth(now, before, |facts| facts.queue_drops) {
        lost.push(format!("{packets} for the processors' queue"));
    }
    for name in now.interfaces.keys() {
        let count = |way: fn(&super::InterfaceFacts) -> u64| {
            growth(now, before, |facts| facts.interfaces.get(name).map(way))
        };
        if let Some((packets @ 1.., _)) = count(|interface| interface.dropped_in) {
            lost.push(format!("{packets} that came by {name}"));
        }
        if let Some((packets @ 1.., _)) = count(|interface| interface.dropped_out) {
            lost.push(format!("{packets} that were to leave by {name}"));
        }
    }
    let within = before.map_or_else(String::new, |(_, within)| format!(" in the last {}", humane(within)));
    if lost.is_empty() {
        return MachineFinding::new(subject, WHY, format!("no packet was dropped{within}"));
    }
    let help = [
        "net.core.netdev_max_backlog = 10000",
        "`ethtool -g` and `ethtool -l` of the interface: longer rings, and a queue for each processor",
    ];
    let found = format!("dropped{within}: {}", lost.join(", "));
    MachineFinding::new(subject, WHY, found).but(MachineState::Advice, "none", &help)
}

fn datagrams(now: &MachineFacts, before: Option<(&MachineFacts, Duration)>) -> MachineFinding {
    const WHY: &str = "datagrams that find the buffer of their socket full are lost, and are not sent again";
    let subject = MachineSubject::Datagrams;
    let Some(buffer) = now.receive_buffer else { return MachineFinding::unknown(subject, WHY) };
    let room = format!("a socket may have a buffer of {}", rounded(buffer));
    match growth(now, before, |facts| facts.datagram_drops) {
        Some((lost @ 1.., within)) => {
            let larger = format!("net.core.rmem_max = {}", buffer.saturating_mul(4));
            let found = format!("{lost} were dropped on this machine in the last {}; {room}", humane(within));
            let default = format!("net.core.rmem_default = {}", buffer.saturating_mul(4));
            MachineFinding::new(subject, WHY, found).but(MachineState::Advice, "none", &[&larger, &default])
        }
        _ => MachineFinding::new(subject, WHY, format!("none was dropped; {room}")),
    }
}

fn clock(now: &MachineFacts) -> MachineFinding {
    const WHY: &str = "the clock is read several times for each request: from a slow source that costs as much as the request itself";
    let subject = MachineSubject::Clock;
    match now.clock.as_deref() {
        None => MachineFinding::unknown(subject, WHY),
        Some(source) if FAST_CLOCKS.contains(&source) => MachineFinding::new(subject, WHY, format!("read from {source}")),
        Some(source) => MachineFinding::new(subject, WHY, format!("read from {source}")).but(
            MachineState::Advice,
            "a source that needs no call to the system",
            &["/sys/devices/system/clocksource/clocksource0/available_clocksource has those that this machine knows"],
        ),
    }
}

fn processors(now: &MachineFacts, before: Option<(&MachineFacts, Duration)>) -> MachineFinding {
    const WHY: &str = "while another machine has the processor everything stands still: probes look late, and addresses may move";
    let subject = MachineSubject::Processors;
    let Some(stolen) = now.stolen else { return MachineFinding::unknown(subject, WHY) };
    let earlier = before.and_then(|(facts, within)| Some((facts.stolen?, within)));
    let (usage, within) = match earlier {
        Some((earlier, within)) => (
            Usage {
                used: stolen.stolen.saturating_sub(earlier.stolen),
                limit: stolen.all.saturating_sub(earlier.all),
            },
            format!("in the last {}", humane(within)),
        ),
        None => (Usage { used: stolen.stolen, limit: stolen.all }, "since it began".to_owned()),
    };
    let found = format!("other machines took {} % of their time {within}", usage.percent());
    let finding = MachineFinding::new(subject, WHY, found);
    if usage.percent() < STOLEN {
        return finding;
    }
    let help = ["processors that this machine has for itself, or a host with fewer machines"];
    finding.but(MachineState::Advice, format!("less than {STOLEN} %"), &help)
}

#[cfg(test)]
mod tests;
