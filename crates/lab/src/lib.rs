//! The lab: small stand-in servers with faults, and a bare relay to measure against.
#![forbid(unsafe_code)]

pub mod authority;
pub mod control;
pub mod datagrams;
pub mod free;
pub mod health_server;
mod inbox;
pub mod network;
pub mod relay;
pub mod router;
pub mod scripted;
pub mod stand_in;
pub mod tls_relay;
mod udp_echo;
pub mod visitors;
