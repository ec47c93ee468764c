//! HTTP/2 (RFC 9113) at the edges of the plane; frames, streams and header compression are the `h2` crate's.
//!
//! Inside, every message is HTTP/1.1 text: one way of deciding, retrying and answering for all. A stream is a wire like
//! a connection is; [`convert`] translates heads, [`request_body`] and [`response_body`] bodies, [`client`] serves the clients that
//! speak it and [`task_pool`] keeps the tasks that answer them, [`shared_connections`] keeps the connections to servers that do, and
//! [`server_stream`] is one request on them.

mod client;
mod convert;
mod request_body;
mod response_body;
mod server_stream;
mod shared_connections;
mod stream_halves;
mod task_pool;

use std::io;

pub(super) use client::{CONNECTION_PREFACE, serve};
pub(super) use convert::RequestHead;
pub(crate) use shared_connections::SharedConnections;

/// How much of one stream a peer may send ahead of being read.
const STREAM_WINDOW: u32 = 256 << 10;
/// How much of all streams of a connection a peer may send ahead of being read.
const CONNECTION_WINDOW: u32 = 1 << 20;
/// How much of one stream may wait to be sent beyond what the peer takes.
const SEND_BUFFER: usize = 64 << 10;

/// What an error of a stream is for those that know connections only.
fn stream_error(error: h2::Error) -> io::Error {
    if error.is_io() {
        return error.into_io().unwrap_or_else(|| io::ErrorKind::ConnectionReset.into());
    }
    io::Error::new(io::ErrorKind::ConnectionReset, error)
}
