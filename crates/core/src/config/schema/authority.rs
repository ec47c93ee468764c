//! Authorities: who issues certificates, by ACME (RFC 8555).

use std::net::SocketAddr;

use merismos_derive::Keys;
use serde::Serialize;
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::decode::Section;
use crate::config::document::Labels;
use crate::config::schema::checks::SecretRef;

/// An authority that certificates are ordered from, and how it is shown that their names are ours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
#[keys(check = has_all_of_its_parts)]
pub struct AuthoritySpec {
    /// URL of its directory (RFC 8555, 7.1.1).
    #[key(basic, format = HTTPS_URL)]
    pub directory: String,
    /// File of the authorities (PEM) that vouch for the directory's own certificate.
    #[key(format = FILE, without = "those that this machine trusts")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub directory_authorities: Option<String>,
    /// Whether you agree to its terms of service, without which most authorities make no account (RFC 8555, 7.3).
    #[key(basic, default = "false")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub terms_agreed: bool,
    /// E-mail addresses at which the authority reaches you.
    #[key(basic, format = MAILBOX, count = 0..=10, group = "Account", without = "none")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub contacts: Vec<String>,
    /// Identifier of an account that you have there already outside of ACME (RFC 8555, 7.3.4).
    #[key(format = USER, without = "no such account")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub external_account: Option<String>,
    /// Reference to that account's key, in base64url as the authority gives it.
    #[key(without = "no such account", example = "environment:MERISMOS_SECRET_ACCOUNT")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub external_account_key: Option<SecretRef>,
    /// How the authority sees that a name is ours.
    #[key(basic, default = "http-01", group = "Challenges")]
    pub challenge: ChallengeKind,
    /// Name server that takes dynamic updates (RFC 2136).
    #[key(basic, needed, when(challenge = "dns-01"), example = "192.0.2.53:53")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name_server: Option<SocketAddr>,
    /// Zone that is updated.
    #[key(basic, needed, format = DNS_NAME, when(challenge = "dns-01"), example = "skerry.example")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Name of the key that signs updates (TSIG, RFC 8945).
    #[key(basic, format = DNS_NAME, when(challenge = "dns-01"), without = "updates are not signed", label = "TSIG key", example = "merismos.skerry.example")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tsig_key: Option<String>,
    /// How updates are signed.
    #[key(default = "hmac-sha256", when(challenge = "dns-01"), label = "TSIG algorithm")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tsig_algorithm: Option<TsigAlgorithm>,
    /// Reference to that key, in base64 as name servers keep it.
    #[key(
        basic,
        when(challenge = "dns-01"),
        without = "updates are not signed",
        label = "TSIG secret",
        example = "environment:MERISMOS_SECRET_TSIG"
    )]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tsig_secret: Option<SecretRef>,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "std::collections::BTreeMap::is_empty")]
    pub labels: Labels,
}

/// Keys that mean nothing without each other.
fn has_all_of_its_parts(section: &mut Section<'_, '_>) {
    for (one, other, wanted) in [
        ("external_account", "external_account_key", "the identifier and the key of the account"),
        ("tsig_key", "tsig_secret", "the name of the key and the key itself"),
    ] {
        match (section.holds(one), section.holds(other)) {
            (true, false) => section.problem(other, &format!("{one} is without it"), wanted),
            (false, true) => section.problem(one, &format!("{other} is without it"), wanted),
            (true, true) | (false, false) => {}
        }
    }
}

/// How an authority sees that a name is ours (RFC 8555, 8).
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
pub enum ChallengeKind {
    /// It asks port 80 of the name, and any of our `http` frontends answers (RFC 8555, 8.3).
    #[default]
    #[serde(rename = "http-01")]
    #[strum(serialize = "http-01")]
    Http,
    /// It makes a handshake with port 443 of the name, and any of our frontends with TLS answers (RFC 8737).
    #[serde(rename = "tls-alpn-01")]
    #[strum(serialize = "tls-alpn-01")]
    TlsAlpn,
    /// It looks up a TXT record of the name, which we put into the zone (RFC 8555, 8.4). The only one for names with `*`.
    #[serde(rename = "dns-01")]
    #[strum(serialize = "dns-01")]
    Dns,
}

/// How an update of a zone is signed (RFC 8945, 6).
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
pub enum TsigAlgorithm {
    /// HMAC with SHA-256.
    #[default]
    #[serde(rename = "hmac-sha256")]
    #[strum(serialize = "hmac-sha256")]
    Sha256,
    /// HMAC with SHA-384.
    #[serde(rename = "hmac-sha384")]
    #[strum(serialize = "hmac-sha384")]
    Sha384,
    /// HMAC with SHA-512.
    #[serde(rename = "hmac-sha512")]
    #[strum(serialize = "hmac-sha512")]
    Sha512,
}
