//! Probes on real sockets: each kind of check against servers that do well and servers that do not.

// A whole program of tests: a panic is how any of it says that something is wrong.
#![allow(clippy::unwrap_used)]

mod kinds;
mod probing;
