//! The one connector: connections to servers, for traffic and for probes alike, with the PROXY protocol header that some servers
//! want first, and the descriptors that sockets take.

pub mod connect;
pub mod descriptors;
pub mod identity;
pub mod proxy_header;
pub mod trust;
