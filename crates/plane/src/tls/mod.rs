//! TLS of clients: which certificate each is shown, its handshake, and its connection afterwards. The protocol itself is rustls'.

mod accept;
mod frontend;
mod stream;

pub(crate) use accept::accept;
pub use frontend::{FrontendTls, ShownCertificate, TlsTable, TlsTerms, TlsTickets};
