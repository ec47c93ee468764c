//! HTTP/1.1 from clients and to servers, forwarded by our own code on reused buffers.
//!
//! The life of a request: [`session`] reads its head, [`head`] checks and rewrites it, [`exchange`] offers it to
//! one server after the other, [`answer`] brings the answer back, [`body`] knows where bodies end.

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

pub(crate) use session::{serve, turn_away};
