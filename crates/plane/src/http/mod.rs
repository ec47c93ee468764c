//! HTTP from clients and to servers: HTTP/1.1 forwarded by our own code on reused buffers, HTTP/2 translated at the
//! edges.
//!
//! The life of a request: [`session`] reads its head, [`head`] checks and rewrites it, [`rules`] decide about it where a frontend has some, [`forward`] offers it to
//! one server after the other, [`attempt`] tries one server, [`request_body`] brings the rest of the body there, [`response`] brings the answer back, [`body`]
//! knows where bodies end. [`http2`] makes streams of HTTP/2 look like connections of HTTP/1.1.
//!
//! What every request passes through is written for small states and little code, for beside thousands of others a request
//! finds neither in a cache (docs/performance.md): functions that give an `async move` block instead of async functions,
//! which would keep each argument twice; what is rare in a box; and `cold_path` where a rare way branches off, so that
//! what follows does not lie between what is needed.
#![expect(clippy::manual_async_fn, reason = "an async function keeps each argument twice")]

mod affinity;
mod attempt;
mod body;
mod body_pace;
mod cancel_on_reset;
mod error_response;
mod failure;
mod forward;
mod forwarded;
#[cfg(fuzzing)]
pub(crate) mod fuzzing;
mod head;
mod http2;
mod long_response;
#[cfg(test)]
mod properties;
mod request_body;
mod response;
mod rules;
mod session;

pub(crate) use http2::SharedConnections;
pub(crate) use session::{reject_limited, reject_over_limit, reject_plain, serve};
