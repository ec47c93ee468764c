//! Addresses that move between machines, in a network of the tests' own.

mod takeover;
