//! How certificates of servers are judged, for traffic and for probes alike. The judgement itself is rustls'.

use std::collections::BTreeMap;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use merismos_core::config::document::{CertificateTrust, TlsVerify};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{WantsClientCert, WebPkiServerVerifier};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    AlertDescription, CertificateError, ClientConfig, ConfigBuilder, DigitallySignedStruct, RootCertStore,
    SignatureScheme,
};
use sha2::{Digest, Sha256};

use crate::identity::NamedCertificate;

/// Why servers can't be spoken to in TLS at all.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TrustError {
    /// The file of authorities is not there, or holds something else.
    #[error("the authorities in {path} can't be read: {why}")]
    Authorities {
        /// The file.
        path: String,
        /// What is wrong with it.
        why: String,
    },
    /// There is nobody who could have signed a certificate.
    #[error("no authority is trusted: this machine has none, and tls_authorities names no file")]
    NoAuthority,
    /// This build speaks no version of TLS.
    #[error("no version of TLS can be spoken: {0}")]
    NoVersion(String),
}

/// How long this machine's authorities are taken to be the same.
const KNOWN_FOR: Duration = Duration::from_secs(300);

/// This machine's authorities: reading them takes some ten milliseconds, which is too much for each probe.
static SYSTEM: Mutex<Option<(Instant, Arc<RootCertStore>)>> = Mutex::new(None);

fn system_authorities() -> Arc<RootCertStore> {
    let mut known = SYSTEM.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((read, roots)) = &*known
        && read.elapsed() < KNOWN_FOR
    {
        return Arc::clone(roots);
    }
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    let roots = Arc::new(roots);
    *known = Some((Instant::now(), Arc::clone(&roots)));
    roots
}

/// The authorities whose certificates pass: this machine's, and those of the text, which was read from the file at `path`.
fn authorities(path: Option<(&str, io::Result<Vec<u8>>)>) -> Result<Arc<RootCertStore>, TrustError> {
    let mut roots = system_authorities();
    if let Some((path, text)) = path {
        let wrong = |error: &dyn std::fmt::Display| TrustError::Authorities {
            path: path.to_owned(),
            why: error.to_string(),
        };
        let text = text.map_err(|error| wrong(&error))?;
        let own = Arc::make_mut(&mut roots);
        let before = own.len();
        for certificate in CertificateDer::pem_slice_iter(&text) {
            own.add(certificate.map_err(|error| wrong(&error))?).map_err(|error| wrong(&error))?;
        }
        if own.len() == before {
            return Err(wrong(&"there is no certificate in it"));
        }
    }
    if roots.is_empty() { Err(TrustError::NoAuthority) } else { Ok(roots) }
}

/// Whether this machine's authorities vouch for a chain at a moment, whatever the name that its owner is asked for: `name` is one of its own.
///
/// # Errors
/// A sentence with what is wrong.
pub fn judge_chain(chain: &[CertificateDer<'_>], name: &ServerName<'_>, at: UnixTime) -> Result<(), String> {
    let Some((own, others)) = chain.split_first() else { return Err("there is no certificate".to_owned()) };
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let roots = system_authorities();
    if roots.is_empty() {
        return Err(TrustError::NoAuthority.to_string());
    }
    let verifier = WebPkiServerVerifier::builder_with_provider(roots, provider).build();
    let verifier = verifier.map_err(|error| error.to_string())?;
    match verifier.verify_server_cert(own, others, name, &[], at) {
        Ok(_) => Ok(()),
        Err(error) => Err(in_words(&io::Error::other(error), name)),
    }
}

/// What servers were trusted by when that was read last.
struct KnownConfig {
    digest: [u8; 32],
    config: Arc<ClientConfig>,
}

/// How many of them are kept; beyond, all are read anew.
const MOST_KNOWN: usize = 1_024;

static KNOWN: Mutex<BTreeMap<CertificateTrust, KnownConfig>> = Mutex::new(BTreeMap::new());

/// How servers are spoken to by this trust: by what its file holds now or, when that can't be read, by what it held before in this process,
/// for a file that breaks must take no server down. It reads the file; the pin is for [`is_pinned`] to judge.
///
/// # Errors
/// [`TrustError`], when nothing could be read yet.
pub fn last_good_config(trust: &CertificateTrust) -> Result<Arc<ClientConfig>, TrustError> {
    let text = trust.authorities.as_ref().map(std::fs::read);
    let digest = text.as_ref().map(|text| text.as_deref().unwrap_or_default());
    let digest: [u8; 32] = Sha256::digest(digest.unwrap_or_default()).into();
    let known = || KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    let before = known().get(trust).map(|known| (known.digest == digest, Arc::clone(&known.config)));
    // Without a file it is this machine's authorities that may have changed.
    if let Some((true, config)) = &before
        && trust.authorities.is_some()
    {
        return Ok(Arc::clone(config));
    }
    let path = trust.authorities.as_deref().zip(text);
    match (config(trust, path), before) {
        (Ok(config), _) => {
            let config = Arc::new(config);
            let mut known = known();
            if known.len() >= MOST_KNOWN {
                known.clear();
            }
            known.insert(trust.clone(), KnownConfig { digest, config: Arc::clone(&config) });
            Ok(config)
        }
        (Err(_), Some((_, config))) => Ok(config),
        (Err(error), None) => Err(error),
    }
}

/// How servers are spoken to by what the trust's file holds now. It reads the file; the pin is for [`is_pinned`] to judge.
///
/// # Errors
/// [`TrustError`], which says what would be right.
pub fn client_config(trust: &CertificateTrust) -> Result<ClientConfig, TrustError> {
    let path = trust.authorities.as_deref();
    config(trust, path.map(|path| (path, std::fs::read(path))))
}

fn config(
    trust: &CertificateTrust,
    path: Option<(&str, io::Result<Vec<u8>>)>,
) -> Result<ClientConfig, TrustError> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(|error| TrustError::NoVersion(error.to_string()))?;
    let builder: ConfigBuilder<ClientConfig, WantsClientCert> = match trust.tls {
        TlsVerify::Verified => builder.with_root_certificates(authorities(path)?),
        TlsVerify::Unverified => {
            builder.dangerous().with_custom_certificate_verifier(Arc::new(AnyCertificate(provider)))
        }
    };
    Ok(match &trust.certificate {
        Some(name) => builder.with_client_cert_resolver(Arc::new(NamedCertificate(name.clone()))),
        None => builder.with_no_client_auth(),
    })
}

/// Whether a server's certificate is the pinned one, where one is.
///
/// # Errors
/// A sentence with the digest of the other one.
pub fn is_pinned(trust: &CertificateTrust, certificate: &CertificateDer<'_>) -> Result<(), String> {
    let Some(pin) = &trust.pin else { return Ok(()) };
    let digest: String = Sha256::digest(certificate).iter().map(|byte| format!("{byte:02x}")).collect();
    if digest == *pin {
        return Ok(());
    }
    Err(format!("the certificate is another one than the pinned one: its SHA-256 is {digest}"))
}

/// What went wrong in a handshake with a server that was asked for as `name`, in words.
#[must_use]
pub fn in_words(error: &io::Error, name: &ServerName<'_>) -> String {
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match inner {
        Some(rustls::Error::InvalidCertificate(wrong)) => match wrong {
            CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
                "the certificate has ended".to_owned()
            }
            CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
                "the certificate is not valid yet".to_owned()
            }
            CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
                format!("the certificate is not for {}", name.to_str())
            }
            CertificateError::UnknownIssuer => {
                "the certificate is not signed by a trusted authority".to_owned()
            }
            CertificateError::BadSignature => "the signature of the certificate is wrong".to_owned(),
            CertificateError::Revoked => "the certificate was revoked".to_owned(),
            CertificateError::InvalidPurpose | CertificateError::InvalidPurposeContext { .. } => {
                "the certificate is not meant for servers".to_owned()
            }
            CertificateError::BadEncoding => "the certificate can't be read".to_owned(),
            // The verifier has a type of its own for this, which is not to be had here.
            CertificateError::Other(other) if format!("{other:?}").contains("CaUsedAsEndEntity") => {
                "the certificate is an authority's, and not a server's".to_owned()
            }
            other => format!("the certificate is not valid: {other}"),
        },
        Some(rustls::Error::InvalidMessage(_)) => "what came back is no TLS".to_owned(),
        Some(rustls::Error::AlertReceived(alert)) => alert_in_words(*alert),
        _ => error.to_string(),
    }
}

/// Why a server refuses after the handshake what it was shown in it, where an error on the connection comes of that: in TLS 1.3 a client hears of it no
/// sooner (RFC 8446, 4.4.2.4).
#[must_use]
pub fn refusal(error: &(dyn std::error::Error + 'static)) -> Option<String> {
    let mut next = Some(error);
    while let Some(error) = next {
        let inner = error.downcast_ref::<io::Error>().and_then(io::Error::get_ref);
        if let Some(rustls::Error::AlertReceived(alert)) = inner.and_then(|inner| inner.downcast_ref()) {
            return Some(alert_in_words(*alert));
        }
        next = error.source();
    }
    None
}

/// Why a server ended a handshake, or refuses afterwards what it was shown (RFC 8446, 6.2).
fn alert_in_words(alert: AlertDescription) -> String {
    match alert {
        AlertDescription::CertificateRequired => {
            "it wants a certificate of ours (alert CertificateRequired): tls_certificate names one".to_owned()
        }
        AlertDescription::UnrecognisedName => {
            "it has no certificate for the name that it is asked for (alert UnrecognisedName)".to_owned()
        }
        other => format!("it refuses (alert {other:?})"),
    }
}

/// Takes every certificate, and verifies that its owner is the peer: what is wanted is that TLS works, or a pin decides.
#[derive(Debug)]
struct AnyCertificate(Arc<CryptoProvider>);

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.0.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, certificate, signed, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.0.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, certificate, signed, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
