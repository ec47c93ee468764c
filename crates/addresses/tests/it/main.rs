//! Addresses that move between machines, in a network of the tests' own.

// A whole program of tests: a panic is how any of it says that something is wrong.
#![allow(clippy::unwrap_used)]

mod announced;
mod decoded;
mod takeover;
