//! What a certificate says of itself, and whether a chain and a key can be shown to clients.

use std::net::IpAddr;
use std::sync::Arc;

use merismos_core::time::Wall;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::sign::CertifiedKey;
use sha2::{Digest, Sha256};
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};
use x509_parser::public_key::PublicKey;
use x509_parser::x509::SubjectPublicKeyInfo;

/// What a certificate says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CertificateFacts {
    /// Whose it is.
    pub(crate) subject: String,
    /// The DNS names and IP addresses that it is for.
    pub(crate) names: Vec<String>,
    /// Who made it.
    pub(crate) issuer: String,
    pub(crate) not_before: Wall,
    pub(crate) not_after: Wall,
    /// Its key, such as `ECDSA P-256`.
    pub(crate) key: String,
    /// The digest by which it is recognised, in hexadecimal digits.
    pub(crate) sha256: String,
    /// Whether it was signed with its own key.
    pub(crate) is_self_signed: bool,
    /// How many certificates follow it.
    pub(crate) behind: usize,
}

/// A certificate that can be shown to clients.
#[derive(Clone, Debug)]
pub(crate) struct LoadedCertificate {
    pub(crate) facts: CertificateFacts,
    pub(crate) key: Arc<CertifiedKey>,
}

/// Why a certificate can't be shown.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum CertificateError {
    #[error("the chain holds no certificate: it should hold PEM, from BEGIN CERTIFICATE to END CERTIFICATE")]
    NoCertificate,
    #[error("the chain can't be read: {0}")]
    Chain(String),
    #[error("the key can't be read: {0}. It should be PEM: PKCS #8, PKCS #1 or SEC 1, without a passphrase")]
    Key(String),
    #[error("the key is not the one of the certificate: they belong to different pairs")]
    Mismatch,
    #[error(
        "the key is of a kind that TLS does not use here: {0}. RSA of 2048 bits or more, ECDSA on P-256 or P-384 and Ed25519 are"
    )]
    KeyKind(String),
    #[error(
        "certificate {place} of the chain, of {subject}, did not sign the one before it, which {issuer} signed: put them in order"
    )]
    Order { place: usize, subject: String, issuer: String },
    #[error(
        "the certificate is for no DNS name and no IP address (its subjectAltName is empty), and no client takes it"
    )]
    NoName,
    #[error("the certificate ended on {0}")]
    Ended(Wall),
    #[error("the certificate begins on {0}")]
    Ahead(Wall),
}

impl LoadedCertificate {
    /// Takes a chain and a key, both in PEM, and looks whether clients can be shown them.
    pub(crate) fn read(chain: &str, key: &str) -> Result<Self, CertificateError> {
        let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(chain.as_bytes())
            .collect::<Result<_, _>>()
            .map_err(|error| CertificateError::Chain(error.to_string()))?;
        if chain.is_empty() {
            return Err(CertificateError::NoCertificate);
        }
        let key = PrivateKeyDer::from_pem_slice(key.as_bytes())
            .map_err(|error| CertificateError::Key(error.to_string()))?;
        let facts = facts(&chain)?;
        if facts.names.is_empty() {
            return Err(CertificateError::NoName);
        }
        let provider = rustls::crypto::ring::default_provider();
        let key = CertifiedKey::from_der(chain, key, &provider).map_err(|error| match error {
            rustls::Error::InconsistentKeys(_) => CertificateError::Mismatch,
            other => CertificateError::KeyKind(other.to_string()),
        })?;
        Ok(Self { facts, key: Arc::new(key) })
    }

    /// Why clients do not take it now.
    pub(crate) fn trouble(&self, now: Wall) -> Option<CertificateError> {
        let CertificateFacts { not_before, not_after, .. } = self.facts;
        if not_after < now {
            return Some(CertificateError::Ended(not_after));
        }
        (not_before > now).then_some(CertificateError::Ahead(not_before))
    }
}

fn parsed<'d>(der: &'d CertificateDer<'_>) -> Result<X509Certificate<'d>, CertificateError> {
    let read = X509Certificate::from_der(der);
    read.map(|(_, certificate)| certificate).map_err(|error| CertificateError::Chain(error.to_string()))
}

fn facts(chain: &[CertificateDer<'_>]) -> Result<CertificateFacts, CertificateError> {
    let all: Vec<X509Certificate<'_>> = chain.iter().map(parsed).collect::<Result<_, _>>()?;
    for (place, pair) in all.windows(2).enumerate() {
        if pair[0].issuer() != pair[1].subject() {
            return Err(CertificateError::Order {
                place: place + 2,
                subject: pair[1].subject().to_string(),
                issuer: pair[0].issuer().to_string(),
            });
        }
    }
    Ok(CertificateFacts { behind: all.len() - 1, ..said_by(&all[0], &chain[0]) })
}

/// What a single certificate says.
pub(super) fn of_one(der: &CertificateDer<'_>) -> Result<CertificateFacts, CertificateError> {
    Ok(said_by(&parsed(der)?, der))
}

fn said_by(own: &X509Certificate<'_>, der: &CertificateDer<'_>) -> CertificateFacts {
    let names = own.subject_alternative_name().ok().flatten();
    let names = names.map(|names| names.value.general_names.iter().filter_map(name_of).collect());
    let moment = |time: x509_parser::time::ASN1Time| Wall(time.timestamp().saturating_mul(1_000));
    CertificateFacts {
        subject: own.subject().to_string(),
        names: names.unwrap_or_default(),
        issuer: own.issuer().to_string(),
        not_before: moment(own.validity().not_before),
        not_after: moment(own.validity().not_after),
        key: key_words(own.public_key()),
        sha256: Sha256::digest(der).iter().map(|byte| format!("{byte:02x}")).collect(),
        is_self_signed: own.issuer() == own.subject(),
        behind: 0,
    }
}

/// The object identifier of Ed25519 (RFC 8410, 3).
const ED25519: &str = "1.3.101.112";

fn key_words(key: &SubjectPublicKeyInfo<'_>) -> String {
    match key.parsed() {
        Ok(PublicKey::RSA(key)) => format!("RSA {}", key.key_size()),
        Ok(PublicKey::EC(point)) => format!("ECDSA P-{}", point.key_size()),
        Ok(_) | Err(_) => match key.algorithm.algorithm.to_id_string().as_str() {
            ED25519 => "Ed25519".to_owned(),
            other => format!("of the kind {other}"),
        },
    }
}

/// A name that clients look for.
fn name_of(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::DNSName(name) => Some((*name).to_owned()),
        GeneralName::IPAddress(bytes) => {
            let four = <[u8; 4]>::try_from(*bytes).map(IpAddr::from);
            let address = four.or_else(|_| <[u8; 16]>::try_from(*bytes).map(IpAddr::from));
            address.ok().map(|address| address.to_string())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rcgen::{CertificateParams, CertifiedIssuer, DnType, KeyPair};

    use super::*;
    use crate::clock::wall;

    struct Pair {
        chain: String,
        key: String,
        authority: String,
    }

    fn params(names: &[&str]) -> CertificateParams {
        CertificateParams::new(names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>()).unwrap()
    }

    /// A certificate by an authority of its own.
    fn pair(names: &[&str], change: impl FnOnce(&mut CertificateParams)) -> Pair {
        let mut authority = params(&[]);
        authority.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        authority.distinguished_name.push(DnType::CommonName, "Skerry test root");
        let authority = CertifiedIssuer::self_signed(authority, KeyPair::generate().unwrap()).unwrap();
        let key = KeyPair::generate().unwrap();
        let mut own = params(names);
        change(&mut own);
        let certificate = own.signed_by(&key, &authority).unwrap();
        Pair { chain: certificate.pem(), key: key.serialize_pem(), authority: authority.pem() }
    }

    #[test]
    fn a_pair_says_for_which_names_it_is_and_until_when() {
        let pair = pair(&["*.skerry.example", "192.0.2.10"], |_| {});
        let loaded =
            LoadedCertificate::read(&format!("{}{}", pair.chain, pair.authority), &pair.key).unwrap();
        assert_eq!(loaded.trouble(wall()), None);
        assert_eq!(loaded.facts.names, ["*.skerry.example", "192.0.2.10"]);
        assert_eq!((loaded.facts.behind, loaded.facts.is_self_signed), (1, false));
        assert!(loaded.facts.issuer.contains("Skerry test root"), "{}", loaded.facts.issuer);
        assert_eq!(loaded.facts.sha256.len(), 64);
    }

    #[test]
    fn what_clients_would_not_take_is_refused_with_the_reason() {
        let good = pair(&["booking.skerry.example"], |_| {});
        let other = pair(&["booking.skerry.example"], |_| {});
        let why = |chain: &str, key: &str| LoadedCertificate::read(chain, key).unwrap_err();
        assert_eq!(why(&good.chain, &other.key), CertificateError::Mismatch);
        assert_eq!(why("not PEM", &good.key), CertificateError::NoCertificate);
        assert!(matches!(why(&good.chain, &good.chain), CertificateError::Key(_)));
        let wrong = why(&format!("{}{}", good.chain, good.chain), &good.key);
        assert!(matches!(wrong, CertificateError::Order { place: 2, .. }), "{wrong}");
        let nameless = pair(&[], |_| {});
        assert_eq!(why(&nameless.chain, &nameless.key), CertificateError::NoName);
        let over = pair(&["a.example"], |own| {
            own.not_before = rcgen::date_time_ymd(2020, 1, 1);
            own.not_after = rcgen::date_time_ymd(2021, 1, 1);
        });
        let trouble =
            |pair: &Pair| LoadedCertificate::read(&pair.chain, &pair.key).unwrap().trouble(wall()).unwrap();
        assert_eq!(trouble(&over).to_string(), "the certificate ended on 2021-01-01T00:00:00.000Z");
        let ahead = pair(&["a.example"], |own| {
            own.not_before = rcgen::date_time_ymd(2090, 1, 1);
            own.not_after = rcgen::date_time_ymd(2091, 1, 1);
        });
        assert!(matches!(trouble(&ahead), CertificateError::Ahead(_)));
    }
}
