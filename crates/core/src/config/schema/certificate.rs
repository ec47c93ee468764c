//! Certificates: what frontends show clients who speak TLS.

use std::fmt;
use std::str::FromStr;

use merismos_derive::Keys;
use serde::{Serialize, Serializer};
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::decode::Section;
use crate::config::document::Labels;
use crate::config::schema::checks::SecretRef;
use crate::name::Name;

/// A certificate with its key: references to files or variables, one that is ordered, or one that the service makes itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
#[keys(check = comes_from_somewhere)]
pub struct CertificateSpec {
    /// Reference to the certificate and those that lead to its authority, in PEM (RFC 7468), the certificate first.
    #[key(basic, example = "file:/etc/merismos/secrets/booking.pem", without = "")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub chain: Option<SecretRef>,
    /// Reference to the private key, in PEM (PKCS #8, PKCS #1 or SEC 1).
    ///
    /// Both are looked at again every few seconds. A pair that fits takes the place of the one before, and connections stay; of one that
    /// does not fit the status tells, and the one before stays.
    #[key(basic, example = "file:/etc/merismos/secrets/booking.key", without = "")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<SecretRef>,
    /// Authority that it is ordered from, and that renews it.
    #[key(basic, refers = Authority, without = "")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub authority: Option<Name>,
    /// Host names for which it is ordered.
    ///
    /// One with `*` in place of its first label needs an authority that is shown `dns-01`.
    #[key(basic, format = CERTIFICATE_NAME, count = 0..=100)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
    /// Host names and IP addresses for which the service makes a certificate itself, for labs and first steps.
    ///
    /// It is made once and kept in the state folder, made anew before it ends, and no client trusts it by itself.
    #[key(basic, format = CERTIFICATE_NAME, count = 0..=100)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub self_signed: Vec<String>,
    /// How long before its end people are reminded.
    ///
    /// Of one that the service renews by itself only when that fails.
    #[key(without = "30d, 14d, 7d, 3d, 1d", count = 0..=10, label = "Reminders before the end")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub remind_before: Vec<DaysBefore>,
    /// What the object is for, in the engineer's words.
    #[key(format = NOTE, basic, without = "", group = "About")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// Free `key = value` pairs by which lists filter.
    #[key(format = LABEL)]
    #[serde(skip_serializing_if = "std::collections::BTreeMap::is_empty")]
    pub labels: Labels,
}

/// A time before a day, in days from 1 to 365; written `30d`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DaysBefore(u16);

/// Why a text is no [`DaysBefore`].
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("wanted days from 1d to 365d; found {0:?}")]
pub struct DaysBeforeError(String);

impl DaysBefore {
    /// How many days it is.
    #[must_use]
    pub fn get(self) -> u16 {
        self.0
    }
}

impl FromStr for DaysBefore {
    type Err = DaysBeforeError;

    fn from_str(text: &str) -> Result<Self, DaysBeforeError> {
        let is_plain = |digits: &&str| !digits.starts_with(['+', '0']);
        let days = text.strip_suffix('d').filter(is_plain).and_then(|digits| digits.parse().ok());
        days.filter(|days| (1..=365).contains(days)).map(Self).ok_or_else(|| DaysBeforeError(text.to_owned()))
    }
}

impl fmt::Display for DaysBefore {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}d", self.0)
    }
}

impl Serialize for DaysBefore {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// A certificate is read, ordered, or made here.
fn comes_from_somewhere(section: &mut Section<'_, '_>) {
    let wanted = "chain = \"file:/...\" and key = \"file:/...\", or authority and names = [\"www.skerry.example\"], or self_signed = [\"www.skerry.example\"]";
    for (one, other, found) in [
        ("chain", "key", "the chain is without its key"),
        ("key", "chain", "the key is without its certificate"),
        ("authority", "names", "there is no name that it could be ordered for"),
        ("names", "authority", "there is no authority that it could be ordered from"),
    ] {
        if section.holds(one) && !section.holds(other) {
            section.problem(other, found, wanted);
        }
    }
    let sources = ["chain", "authority", "self_signed"].into_iter();
    let sources: Vec<&str> = sources.filter(|key| section.holds(key)).collect();
    match sources.as_slice() {
        [] if section.holds("key") || section.holds("names") => {}
        [] => section.problem("chain", "the certificate comes from nowhere", wanted),
        [_] => {}
        [first, second, ..] => {
            let found = format!("the certificate comes from two places: {first} and {second}");
            section.problem(second, &found, wanted);
        }
    }
}

/// Which versions and ciphers of TLS clients may speak.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum TlsPolicy {
    /// TLS 1.2 with forward secrecy and authenticated ciphers alone, and TLS 1.3: every client of the last ten years.
    #[default]
    Compatible,
    /// TLS 1.3 alone (RFC 8446).
    Modern,
}

/// The cipher suites that may be spoken, by their registered names (RFC 8446, B.4; RFC 5289; RFC 7905): all have forward secrecy and authenticated
/// encryption.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage)]
pub enum CipherSuite {
    /// TLS 1.3, with any certificate.
    #[serde(rename = "TLS_AES_256_GCM_SHA384")]
    #[strum(serialize = "TLS_AES_256_GCM_SHA384")]
    Aes256Gcm,
    /// TLS 1.3, with any certificate.
    #[serde(rename = "TLS_AES_128_GCM_SHA256")]
    #[strum(serialize = "TLS_AES_128_GCM_SHA256")]
    Aes128Gcm,
    /// TLS 1.3, with any certificate.
    #[serde(rename = "TLS_CHACHA20_POLY1305_SHA256")]
    #[strum(serialize = "TLS_CHACHA20_POLY1305_SHA256")]
    ChaCha20,
    /// TLS 1.2, with a certificate of ECDSA.
    #[serde(rename = "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384")]
    #[strum(serialize = "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384")]
    EcdheEcdsaAes256Gcm,
    /// TLS 1.2, with a certificate of ECDSA.
    #[serde(rename = "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256")]
    #[strum(serialize = "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256")]
    EcdheEcdsaAes128Gcm,
    /// TLS 1.2, with a certificate of ECDSA.
    #[serde(rename = "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256")]
    #[strum(serialize = "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256")]
    EcdheEcdsaChaCha20,
    /// TLS 1.2, with a certificate of RSA.
    #[serde(rename = "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384")]
    #[strum(serialize = "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384")]
    EcdheRsaAes256Gcm,
    /// TLS 1.2, with a certificate of RSA.
    #[serde(rename = "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256")]
    #[strum(serialize = "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256")]
    EcdheRsaAes128Gcm,
    /// TLS 1.2, with a certificate of RSA.
    #[serde(rename = "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256")]
    #[strum(serialize = "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256")]
    EcdheRsaChaCha20,
}

impl CipherSuite {
    /// Its registered number.
    #[must_use]
    pub fn number(self) -> u16 {
        match self {
            Self::Aes256Gcm => 0x1302,
            Self::Aes128Gcm => 0x1301,
            Self::ChaCha20 => 0x1303,
            Self::EcdheEcdsaAes256Gcm => 0xc02c,
            Self::EcdheEcdsaAes128Gcm => 0xc02b,
            Self::EcdheEcdsaChaCha20 => 0xcca9,
            Self::EcdheRsaAes256Gcm => 0xc030,
            Self::EcdheRsaAes128Gcm => 0xc02f,
            Self::EcdheRsaChaCha20 => 0xcca8,
        }
    }

    /// Whether it is one of TLS 1.3, and not of 1.2.
    #[must_use]
    pub fn is_of_tls_13(self) -> bool {
        matches!(self, Self::Aes256Gcm | Self::Aes128Gcm | Self::ChaCha20)
    }
}

/// What clients get that ask for a name of which there is no certificate.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum UnknownName {
    /// The first of the frontend's certificates, of which browsers warn.
    #[default]
    First,
    /// The alert `unrecognized_name` (RFC 6066, 3), as clients that ask for none.
    Refuse,
}
