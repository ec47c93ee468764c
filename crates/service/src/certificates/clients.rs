//! Which certificates of clients pass, at frontends that ask for them: read from the files that documents name.

use std::collections::BTreeMap;
use std::io;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use merismos_core::config::document::{ClientCertificates, Document, FrontendSpec};
use merismos_core::config::{Warning, WarningLevel, WarningReason};
use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_plane::tls::ClientVerification;
use rustls::RootCertStore;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, CertificateRevocationListDer};
use rustls::server::WebPkiClientVerifier;
use sha2::{Digest, Sha256};
use x509_parser::prelude::{CertificateRevocationList, FromDer};

/// Why certificates of clients can't be judged.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub(super) enum ClientTrustError {
    #[error("the authorities for clients in {path} can't be read: {why}")]
    Authorities { path: String, why: String },
    #[error("the lists of revoked certificates in {path} can't be read: {why}")]
    Revocations { path: String, why: String },
    #[error("certificates of clients can't be judged: {0}")]
    Verifier(String),
}

/// What a frontend wants of its clients.
#[derive(Clone, Debug, PartialEq, Eq)]
struct ClientTerms {
    certificates: ClientCertificates,
    authorities: String,
    revocations: Option<String>,
}

/// Who judges certificates, and until when the lists of revoked ones are to be replaced.
#[derive(Clone, Debug)]
struct Judged {
    verification: ClientVerification,
    lists_due: Option<Wall>,
}

#[derive(Clone, Debug)]
struct KnownClients {
    terms: ClientTerms,
    digest: [u8; 32],
    /// The last that could be had for these terms.
    judged: Option<Judged>,
    problem: Option<String>,
}

/// The trust in clients of all frontends that ask for certificates.
#[derive(Debug, Default)]
pub(super) struct ClientTrusts(Mutex<BTreeMap<Name, KnownClients>>);

fn terms(spec: &FrontendSpec) -> Option<ClientTerms> {
    Some(ClientTerms {
        certificates: spec.client_certificates?,
        authorities: spec.client_authorities.clone()?,
        revocations: spec.client_revocations.clone(),
    })
}

impl ClientTerms {
    fn texts(&self) -> [io::Result<Vec<u8>>; 2] {
        let revocations = self.revocations.as_ref().map_or_else(|| Ok(Vec::new()), std::fs::read);
        [std::fs::read(&self.authorities), revocations]
    }

    /// Who judges by what the files hold.
    fn judged(
        &self,
        [authorities, revocations]: [io::Result<Vec<u8>>; 2],
    ) -> Result<Judged, ClientTrustError> {
        let wrong = |error: &dyn std::fmt::Display| ClientTrustError::Authorities {
            path: self.authorities.clone(),
            why: error.to_string(),
        };
        let mut roots = RootCertStore::empty();
        for certificate in CertificateDer::pem_slice_iter(&authorities.map_err(|error| wrong(&error))?) {
            roots.add(certificate.map_err(|error| wrong(&error))?).map_err(|error| wrong(&error))?;
        }
        if roots.is_empty() {
            return Err(wrong(&"there is no certificate in it"));
        }
        let path = self.revocations.clone().unwrap_or_default();
        let wrong = |error: &dyn std::fmt::Display| ClientTrustError::Revocations {
            path: path.clone(),
            why: error.to_string(),
        };
        let text = revocations.map_err(|error| wrong(&error))?;
        let lists: Vec<CertificateRevocationListDer<'static>> =
            CertificateRevocationListDer::pem_slice_iter(&text)
                .collect::<Result<_, _>>()
                .map_err(|error| wrong(&error))?;
        if lists.is_empty() && self.revocations.is_some() {
            return Err(wrong(&"there is no list in it: from BEGIN X509 CRL to END X509 CRL"));
        }
        let mut lists_due: Option<Wall> = None;
        for list in &lists {
            let (_, read) = CertificateRevocationList::from_der(list).map_err(|error| wrong(&error))?;
            if let Some(next) = read.next_update() {
                let next = Wall(next.timestamp().saturating_mul(1_000));
                lists_due = Some(lists_due.map_or(next, |due| due.min(next)));
            }
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let mut builder = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider);
        if !lists.is_empty() {
            builder = builder.with_crls(lists).only_check_end_entity_revocation();
        }
        if self.certificates == ClientCertificates::Optional {
            builder = builder.allow_unauthenticated();
        }
        let verifier = builder.build().map_err(|error| ClientTrustError::Verifier(error.to_string()))?;
        Ok(Judged { verification: ClientVerification(verifier), lists_due })
    }
}

fn overdue_words(due: Wall) -> String {
    format!(
        "a list of revoked certificates was to be replaced by {due}, so who was revoked since is let in: put the newest into its file"
    )
}

fn digest(texts: &[io::Result<Vec<u8>>; 2]) -> [u8; 32] {
    let mut digest = Sha256::new();
    for text in texts {
        let text = text.as_deref().unwrap_or_default();
        digest.update((text.len() as u64).to_le_bytes());
        digest.update(text);
    }
    digest.finalize().into()
}

impl ClientTrusts {
    fn known(&self) -> MutexGuard<'_, BTreeMap<Name, KnownClients>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads what a document refers to, as far as it is not what was read before. It blocks. Gives what is to be said of frontends.
    pub(super) fn load(&self, document: &Document) -> Vec<(Name, String)> {
        let mut news = Vec::new();
        for (name, spec) in &document.frontends {
            let Some(terms) = terms(spec) else { continue };
            let texts = terms.texts();
            let (before, digest) = (self.known().get(name).cloned(), digest(&texts));
            if before.as_ref().is_some_and(|known| known.terms == terms && known.digest == digest) {
                continue;
            }
            let had_problem = before.as_ref().and_then(|before| before.problem.clone());
            // Those of other terms must not stand in for ones that were made stricter.
            let stays = before.filter(|before| before.terms == terms).and_then(|before| before.judged);
            let known = match terms.judged(texts) {
                Ok(judged) => {
                    if had_problem.is_some() || stays.is_some() {
                        news.push((
                            name.clone(),
                            "its clients' certificates are judged by new files".to_owned(),
                        ));
                    }
                    KnownClients { terms, digest, judged: Some(judged), problem: None }
                }
                Err(error) => {
                    let what = if stays.is_some() {
                        "those before stay"
                    } else {
                        "the frontend refuses its clients"
                    };
                    let says = format!("{error}; {what}");
                    if had_problem.as_ref() != Some(&says) {
                        news.push((name.clone(), says.clone()));
                    }
                    KnownClients { terms, digest, judged: stays, problem: Some(says) }
                }
            };
            self.known().insert(name.clone(), known);
        }
        news
    }

    /// Who judges the certificates of a frontend's clients: `Ok(None)` where they are not asked for any, and an error where nobody can.
    pub(super) fn of(&self, name: &Name, spec: &FrontendSpec) -> Result<Option<ClientVerification>, ()> {
        let Some(terms) = terms(spec) else { return Ok(None) };
        let known = self.known();
        let judged =
            known.get(name).filter(|known| known.terms == terms).and_then(|known| known.judged.as_ref());
        judged.map(|judged| Some(judged.verification.clone())).ok_or(())
    }

    /// Frontends that the document does not have, or that do not ask in it, are forgotten.
    pub(super) fn forget_others(&self, document: &Document) {
        self.known().retain(|name, _| document.frontends.get(name).and_then(terms).is_some());
    }

    /// What is wrong with the files of new and changed frontends, before they go live.
    pub(super) fn try_out(old: &Document, new: &Document) -> Vec<Warning> {
        let warnings = new.frontends.iter().filter_map(|(name, spec)| {
            let terms = terms(spec)
                .filter(|new| old.frontends.get(name).and_then(self::terms).as_ref() != Some(new))?;
            let problem = terms.judged(terms.texts()).err()?.to_string();
            let path = format!("frontends.{name}.client_certificates");
            Some(Warning::new(&WarningReason::NoClientTrust { problem }, WarningLevel::Warning, &path))
        });
        warnings.collect()
    }

    /// Frontends whose clients are not judged as their document says, a sentence each.
    pub(super) fn troubles(&self, now: Wall) -> Vec<String> {
        let known = self.known();
        let troubles = known.iter().filter_map(|(name, known)| {
            if let Some(problem) = &known.problem {
                return Some(format!("frontend {name}: {problem}"));
            }
            let due = known.judged.as_ref()?.lists_due.filter(|due| *due < now)?;
            Some(format!("frontend {name}: {}", overdue_words(due)))
        });
        troubles.collect()
    }

    /// Frontends whose lists of revoked certificates were to be replaced by a time after `since`, which has passed.
    pub(super) fn overdue_since(&self, since: Wall, now: Wall) -> Vec<(Name, String)> {
        let known = self.known();
        let overdue = known.iter().filter_map(|(name, known)| {
            let due = known.judged.as_ref()?.lists_due.filter(|due| since < *due && *due <= now)?;
            Some((name.clone(), overdue_words(due)))
        });
        overdue.collect()
    }
}
