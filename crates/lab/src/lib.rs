//! The lab: small stand-in servers with faults, and a bare relay to measure against.
#![forbid(unsafe_code)]

pub mod control;
pub mod datagrams;
pub mod free;
mod inbox;
pub mod knock;
pub mod relay;
pub mod stand_in;
mod station;
pub mod visitors;
