//! HTTP from clients and to servers: HTTP/1.1 forwarded by our own code on reused buffers, HTTP/2 translated at the
//! edges.
//!
//! The life of a request: [`session`] reads its head, [`head`] checks and rewrites it, [`exchange`] offers it to
//! one server after the other, [`answer`] brings the answer back, [`body`] knows where bodies end. [`two`] makes streams
//! of HTTP/2 look like connections of HTTP/1.1.

mod answer;
mod body;
mod exchange;
mod failure;
mod forwarded;
#[cfg(fuzzing)]
pub(crate) mod fuzzing;
mod head;
mod refuse;
mod session;
mod two;

pub(crate) use session::{serve, turn_away};
pub(crate) use two::Shared;
