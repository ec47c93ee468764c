//! The data plane: sockets, relaying, connecting, probing. No database and no HTTP API.
//!
//! Each worker is a thread with a runtime of its own. It owns its listening sockets, its idle connections to
//! servers, its buffers and its lane of every count. It reads an immutable [`Snapshot`] and shares nothing else
//! with its fellows but the turn of each pool, so a request never waits for a lock and never changes threads.
//!
//! Probes run elsewhere, on a thread of [`probe::Prober`].

mod ahead;
mod alarm;
mod buffer;
mod client;
mod client_rate;
pub mod connect;
mod deal;
pub mod decisions;
pub mod descriptors;
#[cfg(fuzzing)]
pub mod fuzzing;
mod gathering;
mod greeting;
mod http;
mod idle;
mod io;
mod listen;
pub mod lookup;
pub mod memory;
mod pipe;
mod plane;
pub mod post;
pub mod probe;
mod proxy;
mod quiet;
mod relay;
pub mod secret;
mod tcp;
mod udp;
pub mod way;
pub mod witness;
mod worker;

pub use listen::{BindError, Bound};
pub use merismos_core::routing::Snapshot;
pub use plane::{Plane, StartError};
