//! Certificates as they are shown to clients.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// All certificates of the running revision.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Certificates {
    /// In the order of their names.
    pub certificates: Vec<CertificateView>,
}

/// A certificate as clients are shown it. Its key is in no response.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateView {
    /// Name of the certificate, as in the document.
    pub name: String,
    /// The DNS names and IP addresses that it is for; while it could not be had, those that it is ordered for.
    pub names: Vec<String>,
    /// Who made it.
    pub issuer: Option<String>,
    /// Whether it was signed with its own key, so that clients warn of it.
    pub is_self_signed: bool,
    /// From when it holds.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub not_before: Option<Wall>,
    /// Until when it holds.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub not_after: Option<Wall>,
    /// Whole days until its end; below 0 when that has passed.
    pub days_left: Option<i64>,
    /// How many certificates clients are sent, itself included.
    pub chain_length: u64,
    /// SHA-256 of the certificate, in hexadecimal digits.
    pub sha256: Option<String>,
    /// Frontends that show it.
    pub frontends: Vec<String>,
    /// Pools whose servers are shown it.
    pub pools: Vec<String>,
    /// What is wrong with it now.
    pub problem: Option<String>,
    /// The authority that it is ordered from.
    pub authority: Option<String>,
    /// When it is ordered next, or renewed.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next_order: Option<Wall>,
    /// Whether it is being ordered now.
    pub is_being_ordered: bool,
    /// Why the last order failed, until one does not.
    pub order_failure: Option<String>,
}

/// How a certificate is ordered.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CertificateOrder {
    /// Whether it is renewed although the one that there is holds.
    #[serde(default)]
    pub renew: bool,
}

/// Whom a client would ask for, and where.
#[derive(Clone, Debug, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct HandshakeQuery {
    /// The host that is asked for, or an IP address.
    #[param(pattern = "^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?(\\.[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?){0,6}$")]
    pub host: String,
    /// The only frontend that is asked; every one that speaks TLS without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(pattern = "^[a-z][a-z0-9-]{0,62}$")]
    pub frontend: Option<String>,
}

/// What clients of frontends are shown that ask for a host.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Handshakes {
    /// The host that was asked for.
    pub host: String,
    /// Where its name leads, as this machine's resolver says; empty when it leads nowhere.
    pub leads_to: Vec<String>,
    /// A handshake with each frontend that speaks TLS, or with the one that was named.
    pub handshakes: Vec<HandshakeView>,
}

/// A handshake that the service made with one of its own frontends, as a client.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HandshakeView {
    /// The frontend.
    pub frontend: String,
    /// Where it was asked.
    pub address: String,
    /// The version of TLS, such as `TLS 1.3`; absent when there was no handshake.
    pub version: Option<String>,
    /// The cipher suite, as IANA names it.
    pub cipher: Option<String>,
    /// The protocol that both agreed to (ALPN): `h2` or `http/1.1`.
    pub protocol: Option<String>,
    /// The certificate of the document that was shown.
    pub certificate: Option<String>,
    /// What was sent, the frontend's own certificate first.
    pub chain: Vec<ChainLink>,
    /// Each reason why clients would warn, or not come through at all.
    pub reasons: Vec<String>,
}

/// A certificate of a chain.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChainLink {
    /// Whose it is.
    pub subject: String,
    /// Who made it.
    pub issuer: String,
    /// The DNS names and IP addresses that it is for.
    pub names: Vec<String>,
    /// From when it holds.
    #[schema(value_type = String, format = DateTime)]
    pub not_before: Wall,
    /// Until when it holds.
    #[schema(value_type = String, format = DateTime)]
    pub not_after: Wall,
    /// Its key: `ECDSA P-256`, `RSA 2048`.
    pub key: String,
    /// SHA-256 of it, in hexadecimal digits.
    pub sha256: String,
}
