//! The clients that a trial sends: each request's outcome is kept.
//!
//! Connections are kept alive, as browsers keep them. A connection that breaks is opened anew for the next
//! request; the request that it broke under is counted as broken and not sent again, for that is what a client
//! would have seen.
#![forbid(unsafe_code)]

mod http;

pub use http::{Plan, Seen, Shot, run};
