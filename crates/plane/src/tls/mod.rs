//! TLS of clients: which certificate each is shown, its handshake, and its connection afterwards. The protocol itself is rustls'.

mod accept;
mod frontend;
mod stream;

pub(crate) use accept::accept;
pub use frontend::{FrontendTls, ShownCertificate, TlsTable, TlsTerms, TlsTickets};

/// The first byte of a record that holds a handshake (RFC 8446, 5.1).
pub(crate) const HANDSHAKE: u8 = 22;
