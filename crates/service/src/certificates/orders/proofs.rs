//! What shows authorities that names are ours, while certificates for them are ordered.

use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

use instant_acme::{ChallengeType, KeyAuthorization};
use merismos_core::config::document::{AuthoritySpec, ChallengeKind};
use merismos_plane::challenges::{ChallengeAnswers, ChallengeTable};
use merismos_probe::secret_ref::SecretCache;
use rcgen::{CertificateParams, CustomExtension, KeyPair};
use rustls::pki_types::PrivateKeyDer;
use rustls::sign::CertifiedKey;

use super::dns_update::{DnsUpdateError, ZoneUpdates};

/// Why a name can't be shown to be ours.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ProofError {
    #[error("the certificate that shows it can't be made: {0}")]
    Certificate(String),
    #[error(transparent)]
    Dns(#[from] DnsUpdateError),
    #[error("{0}")]
    Secret(String),
    #[error("the authority has no name server: challenge = \"dns-01\" needs name_server and zone")]
    NoNameServer,
}

/// The answers that frontends give, as orders come and go.
#[derive(Clone, Debug)]
pub(super) struct Proofs {
    table: ChallengeTable,
    answers: Arc<Mutex<ChallengeAnswers>>,
}

/// One name that is shown to be ours, until it is taken back.
#[derive(Debug)]
pub(super) enum Proof {
    Token(String),
    Handshake(String),
    Record { name: String, text: String },
}

/// The kind as the protocol calls it.
pub(super) fn kind_of(challenge: ChallengeKind) -> ChallengeType {
    match challenge {
        ChallengeKind::Http => ChallengeType::Http01,
        ChallengeKind::TlsAlpn => ChallengeType::TlsAlpn01,
        ChallengeKind::Dns => ChallengeType::Dns01,
    }
}

impl Proofs {
    pub(super) fn new(table: ChallengeTable) -> Self {
        Self { table, answers: Arc::default() }
    }

    fn change(&self, change: impl FnOnce(&mut ChallengeAnswers)) {
        let mut answers = self.answers.lock().unwrap_or_else(PoisonError::into_inner);
        change(&mut answers);
        self.table.set(answers.clone());
    }

    /// Has it shown that `name` is ours.
    pub(super) async fn publish(
        &self,
        authority: &AuthoritySpec,
        secrets: &SecretCache,
        name: &str,
        token: &str,
        authorization: &KeyAuthorization,
    ) -> Result<Proof, ProofError> {
        match authority.challenge {
            ChallengeKind::Http => {
                let answer = authorization.as_str().to_owned();
                self.change(|answers| drop(answers.by_token.insert(token.to_owned(), answer)));
                Ok(Proof::Token(token.to_owned()))
            }
            ChallengeKind::TlsAlpn => {
                let key = handshake_certificate(name, authorization)?;
                let name = name.to_ascii_lowercase();
                self.change(|answers| drop(answers.by_name.insert(name.clone(), key)));
                Ok(Proof::Handshake(name))
            }
            ChallengeKind::Dns => {
                let (name, text) = (format!("_acme-challenge.{name}"), authorization.dns_value());
                zone(authority, secrets)?.add(&name, &text).await?;
                Ok(Proof::Record { name, text })
            }
        }
    }

    /// Takes back what was shown.
    pub(super) async fn withdraw(&self, authority: &AuthoritySpec, secrets: &SecretCache, proof: Proof) {
        match proof {
            Proof::Token(token) => self.change(|answers| drop(answers.by_token.remove(&token))),
            Proof::Handshake(name) => self.change(|answers| drop(answers.by_name.remove(&name))),
            Proof::Record { name, text } => {
                let gone = match zone(authority, secrets) {
                    Ok(zone) => zone.remove(&name, &text).await.map_err(ProofError::from),
                    Err(error) => Err(error),
                };
                if let Err(error) = gone {
                    tracing::warn!(%error, name, "a record stays in the zone; it proves nothing any more");
                }
            }
        }
    }
}

fn zone(authority: &AuthoritySpec, secrets: &SecretCache) -> Result<ZoneUpdates, ProofError> {
    let (Some(server), Some(zone)) = (authority.name_server, &authority.zone) else {
        return Err(ProofError::NoNameServer);
    };
    let secret = authority.tsig_secret.as_ref().map(|secret| secrets.read(secret));
    let secret = secret.transpose().map_err(ProofError::Secret)?;
    let key = authority.tsig_key.as_deref().zip(secret.as_deref());
    Ok(ZoneUpdates::new(server, zone, key, authority.tsig_algorithm.unwrap_or_default())?)
}

/// The certificate that shows it in a handshake (RFC 8737, 3).
fn handshake_certificate(
    name: &str,
    authorization: &KeyAuthorization,
) -> Result<Arc<CertifiedKey>, ProofError> {
    let wrong = |error: &dyn std::fmt::Display| ProofError::Certificate(error.to_string());
    debug_assert!(name.parse::<IpAddr>().is_err(), "documents with addresses are refused for this challenge");
    let mut params = CertificateParams::new(vec![name.to_owned()]).map_err(|error| wrong(&error))?;
    let digest = authorization.digest();
    params.custom_extensions.push(CustomExtension::new_acme_identifier(digest.as_ref()));
    let pair = KeyPair::generate().map_err(|error| wrong(&error))?;
    let certificate = params.self_signed(&pair).map_err(|error| wrong(&error))?;
    let key = PrivateKeyDer::try_from(pair.serialize_der()).map_err(|error| wrong(&error))?;
    // Not looked at further: it has an extension that only authorities know, and that is critical.
    let key = rustls::crypto::ring::sign::any_supported_type(&key).map_err(|error| wrong(&error))?;
    Ok(Arc::new(CertifiedKey::new(vec![certificate.der().clone()], key)))
}
