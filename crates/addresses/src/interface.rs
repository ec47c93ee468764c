//! Interfaces of this machine, and the addresses on them, by netlink.

use std::net::{IpAddr, Ipv6Addr};
use std::time::Duration;

use futures_util::TryStreamExt;
use nix::net::if_::if_nametoindex;
use rtnetlink::Handle;
use rtnetlink::packet_route::address::{AddressAttribute, AddressFlags, AddressHeaderFlags, CacheInfo};
use rtnetlink::packet_route::link::{LinkAttribute, LinkFlags};

/// An interface, as it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Interface {
    pub(crate) index: u32,
    /// Its hardware address; zeros where it has none.
    pub(crate) mac: [u8; 6],
    /// Whether it is set up, and has a carrier.
    pub(crate) is_up: bool,
    /// The addresses on it.
    pub(crate) addresses: Vec<InterfaceAddress>,
}

/// An address on an interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct InterfaceAddress {
    pub(crate) ip: IpAddr,
    /// Whether it stays until it is removed. Those of a keeper have an end that is put off again and again.
    pub(crate) is_permanent: bool,
    /// Whether the kernel does not use it yet, or found that another machine has it.
    pub(crate) is_tentative: bool,
}

/// Why an interface is not to be had, or not to be changed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum InterfaceError {
    #[error("this machine has no interface {0}: name one of its own, `ip link` lists them")]
    Missing(String),
    #[error("this service may not change the addresses of {0}: give it CAP_NET_ADMIN, or run it as root")]
    Forbidden(String),
    #[error("{interface}: {source}")]
    Netlink { interface: String, source: rtnetlink::Error },
}

impl InterfaceError {
    fn new(interface: &str, source: rtnetlink::Error) -> Self {
        let is = |code: i32| matches!(&source, rtnetlink::Error::NetlinkError(message) if message.raw_code() == -code);
        if is(nix::libc::ENODEV) || is(nix::libc::ENOENT) {
            Self::Missing(interface.to_owned())
        } else if is(nix::libc::EPERM) || is(nix::libc::EACCES) {
            Self::Forbidden(interface.to_owned())
        } else {
            Self::Netlink { interface: interface.to_owned(), source }
        }
    }
}

impl Interface {
    /// Looks at an interface.
    pub(crate) async fn look(netlink: &Handle, name: &str) -> Result<Self, InterfaceError> {
        let wrong = |error| InterfaceError::new(name, error);
        if if_nametoindex(name).is_err() {
            return Err(InterfaceError::Missing(name.to_owned()));
        }
        let found =
            netlink.link().get().match_name(name.to_owned()).execute().try_next().await.map_err(wrong)?;
        let link = found.ok_or_else(|| InterfaceError::Missing(name.to_owned()))?;
        let mac = link.attributes.iter().find_map(|attribute| match attribute {
            LinkAttribute::Address(mac) => <[u8; 6]>::try_from(mac.as_slice()).ok(),
            _ => None,
        });
        let index = link.header.index;
        let mut addresses = Vec::new();
        let mut on_it = netlink.address().get().set_link_index_filter(index).execute();
        while let Some(message) = on_it.try_next().await.map_err(wrong)? {
            let ip = message.attributes.iter().find_map(|attribute| match attribute {
                AddressAttribute::Local(ip) => Some(*ip),
                _ => None,
            });
            let ip = ip.or_else(|| {
                message.attributes.iter().find_map(|attribute| match attribute {
                    AddressAttribute::Address(ip) => Some(*ip),
                    _ => None,
                })
            });
            let unfit = AddressHeaderFlags::Tentative | AddressHeaderFlags::Dadfailed;
            addresses.extend(ip.map(|ip| InterfaceAddress {
                ip,
                is_permanent: message.header.flags.contains(AddressHeaderFlags::Permanent),
                is_tentative: message.header.flags.intersects(unfit),
            }));
        }
        let flags = link.header.flags;
        Ok(Self {
            index,
            mac: mac.unwrap_or_default(),
            is_up: flags.contains(LinkFlags::Up) && flags.contains(LinkFlags::LowerUp),
            addresses,
        })
    }

    /// Whether an address is on it.
    pub(crate) fn has(&self, ip: IpAddr) -> Option<&InterfaceAddress> {
        self.addresses.iter().find(|address| address.ip == ip)
    }

    /// The address that this machine's advertisements come from: the first of its own that is of the family, for IPv6 the one of this link.
    pub(crate) fn own(&self, is_ipv6: bool, moving: impl Fn(IpAddr) -> bool) -> Option<IpAddr> {
        let fits = |ip: &IpAddr| match ip {
            IpAddr::V4(_) => !is_ipv6,
            IpAddr::V6(ip) => is_ipv6 && is_link_local(ip),
        };
        let usable = self.addresses.iter().filter(|address| !address.is_tentative).map(|address| address.ip);
        usable.filter(|ip| fits(ip) && !moving(*ip)).min_by_key(|ip| match ip {
            // The kernel names addresses in the order in which they were added, and the first is the primary one.
            IpAddr::V4(_) => None,
            IpAddr::V6(ip) => Some(*ip),
        })
    }

    /// This machine's own address that a peer is reached from, where it is not one of this link alone.
    pub(crate) fn own_towards(&self, peer: IpAddr, moving: impl Fn(IpAddr) -> bool) -> Option<IpAddr> {
        let same_family = |ip: &IpAddr| ip.is_ipv4() == peer.is_ipv4();
        let is_local = |ip: IpAddr| matches!(ip, IpAddr::V6(ip) if is_link_local(&ip));
        let usable = self.addresses.iter().filter(|address| !address.is_tentative).map(|address| address.ip);
        usable.filter(same_family).find(|ip| is_local(*ip) == is_local(peer) && !moving(*ip))
    }
}

fn is_link_local(ip: &Ipv6Addr) -> bool {
    ip.segments()[0] & 0xffc0 == 0xfe80
}

/// Puts an address on an interface for some time, or puts off its end.
///
/// The kernel takes it off when that time is over: also when this process was killed, or stands still.
pub(crate) async fn hold(
    netlink: &Handle,
    (name, index): (&str, u32),
    ip: IpAddr,
    lifetime: Duration,
) -> Result<(), InterfaceError> {
    let seconds = u32::try_from(lifetime.as_secs()).unwrap_or(u32::MAX - 1).max(1);
    let width = if ip.is_ipv4() { 32 } else { 128 };
    let mut request = netlink.address().add(index, ip, width).replace();
    let attributes = &mut request.message_mut().attributes;
    let mut times = CacheInfo::default();
    times.ifa_valid = seconds;
    // Of IPv6 addresses those without a preferred time are not chosen for what this machine sends by itself (RFC 6724, 5, rule 3): its probes
    // come from an address of its own.
    times.ifa_preferred = if ip.is_ipv4() { seconds } else { 0 };
    attributes.push(AddressAttribute::CacheInfo(times));
    // Without it the kernel would look for duplicates for a second, and not use the address meanwhile.
    attributes.push(AddressAttribute::Flags(AddressFlags::Nodad));
    request.execute().await.map_err(|error| InterfaceError::new(name, error))
}

/// Takes an address off an interface. One that is not there is no error.
pub(crate) async fn remove(
    netlink: &Handle,
    (name, index): (&str, u32),
    ip: IpAddr,
) -> Result<(), InterfaceError> {
    let wrong = |error| InterfaceError::new(name, error);
    let mut found = netlink.address().get().set_link_index_filter(index).set_address_filter(ip).execute();
    while let Some(message) = found.try_next().await.map_err(wrong)? {
        netlink.address().del(message).execute().await.map_err(wrong)?;
    }
    Ok(())
}
