//! Looks for clients among the networks that a frontend turns away so many times, to be measured by `scripts/bench.sh`: `looks PREFIXES COUNT`.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net};
use merismos_core::draw::Draw;
use merismos_core::rules::AccessList;

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [prefixes, count] = args.as_slice() else {
        panic!("looks PREFIXES COUNT");
    };
    let (prefixes, count): (u32, u32) =
        (prefixes.parse().expect("a number"), count.parse().expect("a number"));
    let mut draw = Draw::seeded(7);
    let mut address = move || Ipv4Addr::from((draw.number() >> 32) as u32);
    let lengths = [16, 20, 22, 24, 24, 24, 28, 32];
    let networks = (0..prefixes).map(|number| {
        let length = lengths[number as usize % lengths.len()];
        IpNet::V4(Ipv4Net::new(address(), length).expect("a length of IPv4").trunc())
    });
    let list = AccessList::new([], networks.collect::<Vec<_>>());
    let mut draw = Draw::seeded(8);
    let admitted =
        (0..count).filter(|_| list.admits(IpAddr::V4(Ipv4Addr::from((draw.number() >> 32) as u32)))).count();
    std::hint::black_box(admitted);
}
