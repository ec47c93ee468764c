//! Addresses for tests that no other test gets.

use std::net::{Ipv4Addr, SocketAddr, TcpListener, UdpSocket};
use std::process;
use std::sync::atomic::{AtomicU32, Ordering};

/// The ports that are given out: below those that Linux gives to connections and to listeners on port 0 (32768 and
/// up, `ip_local_port_range`), and away from those of the demo.
const PORTS: std::ops::Range<u32> = 20_000..32_000;

/// A loopback address that nothing listens on, for TCP and UDP, and that no call in this process has given before.
///
/// A port that the system chose and that was let go of again can be another process's by the time it is used: another
/// test's server, or the own end of a connection. One of these can't.
///
/// # Panics
/// When every port of the range is taken.
pub fn free_address() -> SocketAddr {
    static GIVEN: AtomicU32 = AtomicU32::new(0);
    let many = PORTS.end - PORTS.start;
    // Programs of tests that run one after another or side by side begin at different places.
    let begin = process::id().wrapping_mul(61);
    for _ in PORTS {
        let place = begin.wrapping_add(GIVEN.fetch_add(1, Ordering::Relaxed)) % many;
        let port = u16::try_from(PORTS.start + place).expect("the range ends below 65536");
        let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        if TcpListener::bind(address).is_ok() && UdpSocket::bind(address).is_ok() {
            return address;
        }
    }
    panic!("no port of {PORTS:?} is free")
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    // One test, for two at the same time would take each other's ports.
    #[test]
    fn none_is_given_twice_none_is_taken_and_none_is_one_that_the_system_gives() {
        let given: Vec<SocketAddr> = (0..500).map(|_| free_address()).collect();
        assert_eq!(given.iter().collect::<BTreeSet<_>>().len(), given.len());
        let system = std::fs::read_to_string("/proc/sys/net/ipv4/ip_local_port_range").unwrap();
        let first: u16 = system.split_whitespace().next().unwrap().parse().unwrap();
        assert!(given.iter().all(|address| address.port() < first), "the system gives from {first} on");
        let next = free_address().port() + 1;
        let _taken = UdpSocket::bind((Ipv4Addr::LOCALHOST, next));
        assert_ne!(free_address().port(), next);
    }
}
