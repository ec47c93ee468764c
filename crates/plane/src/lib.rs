//! The data plane: sockets and relaying. No database and no HTTP API.
//!
//! Each worker is a thread with a runtime of its own. It owns its listening sockets, its idle connections to
//! servers, its buffers and its lane of every count. It reads an immutable [`Snapshot`] and shares nothing else
//! with its fellows but the turn of each pool, so a request never waits for a lock and never changes threads.

mod accept;
mod buffer;
pub mod challenges;
mod client_hello;
mod client_rate;
mod context;
mod deadline;
pub mod decisions;
#[cfg(fuzzing)]
pub mod fuzzing;
mod http;
mod idle;
mod io;
mod limits;
mod listen;
pub mod memory;
mod memory_trim;
pub mod observer;
mod pinning;
mod pipe;
mod plane;
mod preconnect;
mod receive_low_water;
mod relay;
pub mod request_samples;
mod select;
mod tcp;
pub mod tls;
mod udp;
mod upstream;
mod worker;

pub use listen::{BACKLOG, BindError, BoundSockets, HandedSocket};
pub use merismos_core::routing::Snapshot;
pub use plane::{Plane, Queued, StartError};
