//! Certificates as they are shown to clients.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    /// The DNS names and IP addresses that it is for; empty while it could not be had.
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
    /// What is wrong with it now.
    pub problem: Option<String>,
}
