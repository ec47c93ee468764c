//! How the servers of a pool are reached: the protocol, from where, and which connections are kept.

use std::net::IpAddr;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::schema::checks::CertificateTrust;
use crate::units::Span;

/// The version of HTTP that servers are spoken to in.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
pub enum HttpVersion {
    /// HTTP/1.1 (RFC 9112).
    #[default]
    #[serde(rename = "1.1")]
    #[strum(serialize = "1.1")]
    One,
    /// HTTP/2 by prior knowledge (RFC 9113, 3.3).
    #[serde(rename = "2")]
    #[strum(serialize = "2")]
    Two,
}

/// Whose name servers are asked for in the handshake of TLS.
#[derive(
    Clone,
    Copy,
    Debug,
    Default,
    PartialEq,
    Eq,
    Hash,
    Serialize,
    Display,
    EnumString,
    VariantNames,
    EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum TlsNameOf {
    /// `tls_name`; without it the server's address.
    #[default]
    Server,
    /// The host that the client's request asks for: a connection serves requests for one host.
    Request,
}

/// How the servers of a pool are reached.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct UpstreamSettings {
    /// Version of HTTP for connections to servers, whatever clients speak.
    ///
    /// Over HTTP/2 many requests share a connection.
    #[key(default = "1.1", label = "HTTP version")]
    #[serde(skip_serializing_if = "is_usual")]
    pub http_version: HttpVersion,
    /// Addresses of this machine that connections to servers come from, in turn.
    ///
    /// Each has some 28,000 ports for each server. The system chooses where there is none of the server's family.
    #[key(format = SOURCE_ADDRESS, count = 1..=64, without = "the system's choice")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub source_addresses: Vec<IpAddr>,
    /// Most idle connections that each worker keeps to a server.
    ///
    /// More of them spare requests a handshake and cost servers memory.
    #[key(range = 0..=1_000, default = "128")]
    pub idle_connections: u16,
    /// Longest time that an idle connection is kept.
    ///
    /// It should be shorter than the servers' own: a server that closes a connection while a request is on its way costs an attempt.
    #[key(range = "100ms".."1h", default = "4s")]
    pub idle_connection_timeout: Span,
    /// Greatest age at which a connection gets another request.
    #[key(range = "1s".."24h", default = "1h")]
    pub idle_connection_age: Span,
    /// Number of connections that each worker makes to a server that comes back, before the first request needs one.
    #[key(range = 0..=16, default = "0")]
    #[serde(skip_serializing_if = "is_none")]
    pub preconnect: u8,
    /// How the certificates of servers are judged; without it servers are spoken to in plain text.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub tls: Option<CertificateTrust>,
    /// Whose name servers are asked for in the handshake, and have to prove.
    #[key(default = "server", label = "TLS name of", group = "TLS")]
    #[serde(skip_serializing_if = "is_of_server")]
    pub tls_name_of: TlsNameOf,
}

fn is_of_server(of: &TlsNameOf) -> bool {
    *of == TlsNameOf::Server
}

fn is_usual(version: &HttpVersion) -> bool {
    *version == HttpVersion::One
}

fn is_none(count: &u8) -> bool {
    *count == 0
}

impl Default for UpstreamSettings {
    fn default() -> Self {
        crate::config::keys::defaults()
    }
}
