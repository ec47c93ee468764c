//! Reading what a machine has: from `/proc` and `/sys`, without anything that it would have to be asked for.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::net::SocketAddr;
use std::os::fd::AsRawFd;
use std::path::Path;
use std::str::FromStr;

use merismos_core::machine::{
    InterfaceFacts, MachineFacts, MemoryFacts, PortFacts, QueueFacts, Stolen, Usage,
};
use procfs::net::{TcpNetEntry, TcpState};
use procfs::{Current, Meminfo};

/// Which sockets are counted.
#[derive(Debug, Default)]
pub(super) struct Watched {
    /// What this node listens on.
    pub(super) listens: BTreeSet<SocketAddr>,
    /// Addresses of its servers.
    pub(super) servers: BTreeSet<SocketAddr>,
}

/// Reads all of it. Cost: some milliseconds, and a microsecond or two for each socket of the machine.
pub(super) fn read(watched: &Watched) -> MachineFacts {
    let sockets: Option<Vec<TcpNetEntry>> = procfs::net::tcp().ok().map(|mut all| {
        // A machine without IPv6 has no such table.
        all.extend(procfs::net::tcp6().unwrap_or_default());
        all
    });
    MachineFacts {
        ports: sockets.as_deref().and_then(|sockets| ports(sockets, watched)),
        queues: sockets.as_deref().and_then(|sockets| queues(sockets, watched)),
        descriptors: descriptors(),
        all_descriptors: all_descriptors(),
        tracked: tracked(),
        memory: memory(),
        migrates: setting::<u8>("net/ipv4/tcp_migrate_req").map(|value| value == 1),
        neighbours: neighbours(),
        queue_drops: queue_drops(),
        datagram_drops: procfs::net::snmp().ok().map(|counts| counts.udp_rcvbuf_errors),
        receive_buffer: setting("net/core/rmem_max"),
        interfaces: interfaces(),
        clock: text("/sys/devices/system/clocksource/clocksource0/current_clocksource"),
        stolen: stolen(),
    }
}

fn text(path: impl AsRef<Path>) -> Option<String> {
    std::fs::read_to_string(path).ok().map(|text| text.trim().to_owned())
}

/// The words of a setting of the system.
fn words(name: &str) -> Option<Vec<u64>> {
    let text = text(Path::new("/proc/sys").join(name))?;
    text.split_whitespace().map(|word| word.parse().ok()).collect()
}

/// A setting of one word.
fn setting<T: FromStr>(name: &str) -> Option<T> {
    text(Path::new("/proc/sys").join(name))?.parse().ok()
}

fn ports(sockets: &[TcpNetEntry], watched: &Watched) -> Option<PortFacts> {
    let range = text("/proc/sys/net/ipv4/ip_local_port_range")?;
    let mut range = range.split_whitespace().map(|word| word.parse().ok());
    let (first, last) = (range.next()??, range.next()??);
    let reserved = text("/proc/sys/net/ipv4/ip_local_reserved_ports").unwrap_or_default();
    let mut used = BTreeMap::new();
    for socket in sockets.iter().filter(|socket| watched.servers.contains(&socket.remote_address)) {
        *used.entry(socket.remote_address).or_insert(0) += 1;
    }
    Some(PortFacts { first, last, reserved: reserved_between(&reserved, first, last), used })
}

/// How many ports of a range are in a list such as `8080,9000-9100`.
fn reserved_between(list: &str, first: u16, last: u16) -> u16 {
    let count = |part: &str| {
        let (from, to) = part.split_once('-').unwrap_or((part, part));
        let (from, to) =
            (from.trim().parse::<u16>().ok()?.max(first), to.trim().parse::<u16>().ok()?.min(last));
        (from <= to).then(|| to - from + 1)
    };
    list.split(',').filter_map(count).fold(0, u16::saturating_add)
}

fn queues(sockets: &[TcpNetEntry], watched: &Watched) -> Option<QueueFacts> {
    // Of a socket that listens this is how many wait at it.
    let waiting = sockets
        .iter()
        .filter(|socket| socket.state == TcpState::Listen && watched.listens.contains(&socket.local_address))
        .map(|socket| (socket.local_address, u64::from(socket.rx_queue)));
    Some(QueueFacts {
        limit: setting("net/core/somaxconn")?,
        handshakes: setting("net/ipv4/tcp_max_syn_backlog")?,
        cookies: setting::<u8>("net/ipv4/tcp_syncookies")? > 0,
        overflows: extended_count("ListenOverflows")?,
        longest: waiting.max_by_key(|(_, waiting)| *waiting),
    })
}

/// A count of `TcpExt` in `/proc/net/netstat`: a line of names, and a line of counts.
fn extended_count(name: &str) -> Option<u64> {
    let text = text("/proc/net/netstat")?;
    let mut lines = text.lines().filter(|line| line.starts_with("TcpExt:"));
    let (names, counts) = (lines.next()?, lines.next()?);
    let place = names.split_whitespace().position(|word| word == name)?;
    counts.split_whitespace().nth(place)?.parse().ok()
}

fn descriptors() -> Option<Usage> {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current?;
    // The size of the folder is how many are open, as of Linux 6.2. Before, the number of a new one, the lowest that is free (POSIX,
    // `open`), is the least that there are: what was closed since leaves gaps.
    let counted = std::fs::metadata("/proc/self/fd").ok().map(|folder| folder.len()).filter(|open| *open > 0);
    let next = || u64::try_from(File::open("/dev/null").ok()?.as_raw_fd()).ok();
    Some(Usage { used: counted.or_else(next)?, limit })
}

fn all_descriptors() -> Option<Usage> {
    let counts = words("fs/file-nr")?;
    Some(Usage { used: *counts.first()?, limit: *counts.get(2)? })
}

fn tracked() -> Option<Usage> {
    let used = setting("net/netfilter/nf_conntrack_count")?;
    Some(Usage { used, limit: setting("net/netfilter/nf_conntrack_max")? })
}

fn memory() -> Option<MemoryFacts> {
    let all = Meminfo::current().ok()?;
    Some(MemoryFacts { total: all.mem_total, available: all.mem_available?, tcp: memory_of_tcp() })
}

fn memory_of_tcp() -> Option<Usage> {
    let page = u64::try_from(rustix::param::page_size()).ok()?;
    let sockets = text("/proc/net/sockstat")?;
    let line = sockets.lines().find(|line| line.starts_with("TCP:"))?;
    let held: u64 = line.split_whitespace().skip_while(|word| *word != "mem").nth(1)?.parse().ok()?;
    let pressure = *words("net/ipv4/tcp_mem")?.get(1)?;
    Some(Usage { used: held * page, limit: pressure * page })
}

fn neighbours() -> Option<Usage> {
    let used = u64::try_from(procfs::net::arp().ok()?.len()).ok()?;
    Some(Usage { used, limit: setting("net/ipv4/neigh/default/gc_thresh3")? })
}

/// The second column of each processor's line: what was dropped for its queue was full.
fn queue_drops() -> Option<u64> {
    let text = text("/proc/net/softnet_stat")?;
    let count = |line: &str| u64::from_str_radix(line.split_whitespace().nth(1)?, 16).ok();
    text.lines().map(count).sum()
}

fn interfaces() -> BTreeMap<String, InterfaceFacts> {
    let of = |interface: &str, name: &str| {
        setting::<u8>(&format!("net/ipv4/conf/{interface}/{name}")).unwrap_or(0)
    };
    let known = procfs::net::dev_status().unwrap_or_default();
    let facts = |(name, counts): (String, procfs::net::DeviceStatus)| {
        // The system goes by the larger of the two.
        let either = |setting: &str| of("all", setting).max(of(&name, setting));
        let facts = InterfaceFacts {
            dropped_in: counts.recv_drop,
            dropped_out: counts.sent_drop,
            return_filter: either("rp_filter"),
            arp_ignore: either("arp_ignore"),
            arp_announce: either("arp_announce"),
        };
        (name, facts)
    };
    known.into_iter().filter(|(name, _)| name != "lo").map(facts).collect()
}

/// The first line of `/proc/stat`; the eighth count is what others took.
fn stolen() -> Option<Stolen> {
    let text = text("/proc/stat")?;
    let counts: Option<Vec<u64>> =
        text.lines().next()?.split_whitespace().skip(1).map(|word| word.parse().ok()).collect();
    let counts = counts?;
    // Those of guests are counted as programs' too.
    Some(Stolen { all: counts.iter().take(8).sum(), stolen: *counts.get(7)? })
}

#[cfg(test)]
mod tests {
    use std::net::{TcpListener, TcpStream};

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("", 0)]
    #[case("8080", 0)]
    #[case("40000", 1)]
    #[case("8080,40000-40009,50000", 11)]
    #[case("1000-33000", 233)]
    #[case("60990-65535", 10)]
    fn reserved_ports_count_within_the_range(#[case] list: &str, #[case] count: u16) {
        assert_eq!(reserved_between(list, 32_768, 60_999), count);
    }

    #[test]
    fn connections_to_servers_and_those_who_wait_are_counted() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let watched = Watched { listens: [address].into(), servers: [address].into() };
        let gap = File::open("/dev/null").unwrap();
        let clients: Vec<TcpStream> = (0..3).map(|_| TcpStream::connect(address).unwrap()).collect();
        drop(gap);
        let facts = read(&watched);
        assert_eq!(facts.ports.as_ref().unwrap().used.get(&address), Some(&3));
        assert_eq!(facts.queues.unwrap().longest, Some((address, 3)));
        drop((clients, listener));
        let own = facts.descriptors.unwrap();
        assert!(own.used >= 4 && own.used < own.limit, "{own:?}");
        let memory = facts.memory.unwrap();
        assert!(memory.available > 0 && memory.available <= memory.total, "{memory:?}");
        assert!(facts.stolen.is_some_and(|stolen| stolen.all > 0), "{:?}", facts.stolen);
        assert!(
            facts.clock.is_some() && facts.queue_drops.is_some() && facts.neighbours.is_some(),
            "{facts:?}"
        );
    }
}
