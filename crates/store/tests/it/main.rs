//! The store on a real MariaDB.

// A whole program of tests: a panic is how any of it says that something is wrong.
#![allow(clippy::unwrap_used)]

mod away;
mod database;
mod kept;
mod nodes;
