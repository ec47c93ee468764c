//! Service addresses that move between nodes.
//!
//! [`AddressKeeper`] has a thread that does nothing else: it sends and receives advertisements (VRRP, RFC 9568), asks the core's
//! [`Election`](merismos_core::vrrp::Election) what they mean, puts addresses on interfaces and takes them off, and tells the neighbours.
//! Whoever has a keeper says what there is to hold and what this node is worth; the keeper says who holds what.
//!
//! It needs the right to change interfaces and to open raw sockets (`CAP_NET_ADMIN`, `CAP_NET_RAW`).

mod interface;
mod keeper;
mod member;
mod neighbours;
mod view;
mod vrrp_socket;

pub use keeper::{AddressKeeper, AddressPlan};
pub use view::{AddressView, AdvertisementCounts, HeardHolder, SeenAdvertisement};
