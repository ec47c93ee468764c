//! How the servers of a pool are reached: the protocol, from where, and which connections are kept.

use std::net::IpAddr;

use serde::Serialize;

use crate::units::Span;

/// The version of HTTP that servers are spoken to in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub enum HttpVersion {
    /// HTTP/1.1 (RFC 9112).
    #[default]
    #[serde(rename = "1.1")]
    One,
    /// HTTP/2 by prior knowledge (RFC 9113, 3.3).
    #[serde(rename = "2")]
    Two,
}

/// How the servers of a pool are reached.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct UpstreamSettings {
    /// The version of HTTP that its servers are spoken to in, whatever their clients speak.
    #[serde(skip_serializing_if = "is_usual")]
    pub http_version: HttpVersion,
    /// The addresses of this machine that connections to servers come from, in turn; the system's choice when there are
    /// none of a server's family. At most 64.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub source_addresses: Vec<IpAddr>,
    /// The most unused connections that each worker keeps to a server. 0 to 1000.
    pub idle_connections: u16,
    /// How long a connection is kept unused. 100ms to 1h.
    pub idle_connection_timeout: Span,
    /// How old a connection may be to be used once more. 1s to 24h.
    pub idle_connection_age: Span,
    /// How many connections each worker makes to a server that comes back, before anybody asks for one. 0 to 16.
    #[serde(skip_serializing_if = "is_none")]
    pub preconnect: u8,
}

fn is_usual(version: &HttpVersion) -> bool {
    *version == HttpVersion::One
}

fn is_none(count: &u8) -> bool {
    *count == 0
}

impl Default for UpstreamSettings {
    fn default() -> Self {
        Self {
            http_version: HttpVersion::One,
            source_addresses: Vec::new(),
            idle_connections: 128,
            idle_connection_timeout: Span::from_millis(4_000),
            idle_connection_age: Span::from_millis(3_600_000),
            preconnect: 0,
        }
    }
}
