//! Health checks, DNS lookups and route look-up. No traffic of clients, no database and no HTTP API.
//!
//! A [`Prober`] owns a thread with a runtime: it probes each server when its [`HealthMachine`](merismos_core::health::HealthMachine)
//! says so, and reports what came of it. One file a kind of check.

mod command;
mod dns;
mod grpc;
mod http;
mod icmp;
pub mod lookup;
mod prober;
pub mod route_lookup;
mod run;
pub mod secret_ref;
mod shown;
mod sql;
mod tcp;
mod tls;
mod udp;

pub use prober::{AT_ONCE, ProbeReport, ProbeTarget, Prober, probe};
pub use run::{ProbeEnvironment, ProbeOpening};
pub use shown::{ShownTls, shown_tls};
pub use tls::verified;
