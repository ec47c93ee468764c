//! TLS: which certificate a client is shown, how servers are trusted, handshakes, and connections afterwards. The protocol itself is rustls'.

mod accept;
mod frontend;
mod handshake_counts;
mod server;
mod stream;

pub(crate) use accept::begin;
pub use frontend::{ClientVerification, FrontendTls, ShownCertificate, TlsTable, TlsTerms, TlsTickets};
pub(crate) use handshake_counts::HandshakeCounts;
pub(crate) use server::ServerProtocol;
pub use server::{ServerTls, ServerTlsTable};
pub(crate) use stream::TlsConnection;

/// The first byte of a record that holds a handshake (RFC 8446, 5.1).
pub(crate) const HANDSHAKE: u8 = 22;
