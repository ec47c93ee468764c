//! The plane on real sockets: clients and servers are plain threads, the frontend is the real thing.

// A whole program of tests: a panic is how any of it says that something is wrong.
#![allow(clippy::unwrap_used)]

mod access;
mod adaptive;
mod attempts;
mod challenges;
mod client_hello;
mod client_limits;
mod counting;
mod datagrams;
mod drains;
mod error_pages;
mod failing;
mod feature_pairs;
mod hostile;
mod http;
mod http2;
mod http2_frames;
mod idle_clients;
mod limits;
mod memory;
mod pins;
mod refusals;
mod relay;
mod rig;
mod rule_effects;
mod rules;
mod selection;
mod slow_clients;
mod timeouts;
mod upstream;
