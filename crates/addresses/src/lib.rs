//! Service addresses: those that move between nodes, and those that nodes announce to routers.
//!
//! [`AddressKeeper`] has a thread that does nothing else: it sends and receives advertisements (VRRP, RFC 9568), asks the core's
//! [`Election`](merismos_core::vrrp::Election) what they mean, puts addresses on interfaces and takes them off, and tells the neighbours.
//! Whoever has a keeper says what there is to hold and what this node is worth; the keeper says who holds what.
//!
//! [`RouteSpeaker`] has another one, with a session (BGP-4, RFC 4271) to each router.
//!
//! They need the right to change interfaces and to open raw sockets (`CAP_NET_ADMIN`, `CAP_NET_RAW`).

mod bgp;
mod interface;
mod keeper;
mod member;
mod neighbours;
mod view;
mod vrrp_socket;

pub use bgp::{PeerPlan, RouteSpeaker, SessionCounts, SessionView, SpeakerPlan, SpeakerView};
pub use keeper::{AddressKeeper, AddressPlan};
pub use view::{AddressView, AdvertisementCounts, HeardHolder, SeenAdvertisement};
