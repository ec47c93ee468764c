//! The plane on real sockets: clients and servers are plain threads, the frontend is the real thing.

mod failing;
mod hostile;
mod probing;
mod rig;
mod traffic;
