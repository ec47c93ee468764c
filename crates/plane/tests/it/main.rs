//! The plane on real sockets: clients and servers are plain threads, the frontend is the real thing.

// A whole program of tests: a panic is how any of it says that something is wrong.
#![allow(clippy::unwrap_used)]

mod attempts;
mod counting;
mod datagrams;
mod dealing;
mod failing;
mod frames;
mod greeting;
mod hostile;
mod limits;
mod memory;
mod pairs;
mod reaching;
mod relaying;
mod resting;
mod rig;
mod streams;
mod traffic;
mod unruly;
