//! The whole, end to end: the service as it is shipped, on loopback, with a real database, called through its
//! client, its API, its command line and its console.

// A whole program of tests: a panic is how any of it says that something is wrong.
#![allow(clippy::unwrap_used)]

mod access;
mod addresses;
mod announcements;
mod arrows;
mod browser;
mod changes;
mod checks;
mod client_certificates;
mod command_line;
mod console;
mod console_access;
mod console_forms;
mod console_maintenance;
mod control_side;
mod database;
mod degraded;
mod dns;
mod drafts;
mod durability;
mod explain;
mod golden_outputs;
mod harness;
mod leaving;
mod limits;
mod machine;
mod maintenance;
mod nodes;
mod notifications;
mod objects;
mod operations;
mod ordered;
mod outages;
mod passthrough;
mod peers;
mod pins;
mod restarts;
mod rolls;
mod rules;
mod server_tls;
mod size;
mod tls;
mod tls_clients;
mod trials;
mod upgrade;
mod windows;
