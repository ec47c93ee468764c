//! `tls`: a handshake, and what its certificate says. Other checks that speak TLS judge certificates here too.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use merismos_core::config::document::{CertificateTrust, TlsProbe, TlsVerify};
use merismos_core::health::ProbeStep;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use sha2::{Digest, Sha256};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

use crate::run::{ProbeFailure, ProbeOutcome, ProbeRun, Trace};

const DAY: i64 = 24 * 3_600;

pub(super) async fn ask(asking: &ProbeRun<'_>, asked: &TlsProbe, trace: &mut Trace) -> ProbeOutcome {
    let stream = asking.connect(trace).await?;
    let (_, certificate) = handshake(asking, &asked.trust, None, &[], stream, trace).await?;
    let warning = if certificate.days_left < i64::from(asked.warn_days) { " (soon)" } else { "" };
    Ok(format!("the certificate for {} ends in {} days{warning}", certificate.names, certificate.days_left))
}

/// What was learned of a certificate.
pub(super) struct Certificate {
    names: String,
    days_left: i64,
}

/// Speaks TLS on a connection and judges the certificate. `host` is the name that is asked for otherwise.
pub(super) async fn handshake(
    asking: &ProbeRun<'_>,
    trust: &CertificateTrust,
    host: Option<&str>,
    protocols: &[&[u8]],
    stream: TcpStream,
    trace: &mut Trace,
) -> Result<(TlsStream<TcpStream>, Certificate), ProbeFailure> {
    trace.begin(ProbeStep::Tls, "connected, but the TLS handshake did not end");
    let failed = |what: String| ProbeFailure::at(ProbeStep::Tls, what);
    let host = host.map(|host| host.rsplit_once(':').map_or(host, |(name, _)| name));
    let name = match trust.name.as_deref().or(host) {
        Some(name) => ServerName::try_from(name.to_owned()),
        None => Ok(ServerName::from(asking.address.ip())),
    };
    let name = name.map_err(|_| failed("the name to be verified is no host name".to_owned()))?;
    let mut config = config(trust).map_err(&failed)?;
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
    let connector = TlsConnector::from(Arc::new(config));
    let stream = connector.connect(name.clone(), stream).await;
    let stream =
        stream.map_err(|error| failed(format!("the TLS handshake failed: {}", in_words(&error, &name))))?;
    let certificates = stream.get_ref().1.peer_certificates().unwrap_or_default();
    let first = certificates.first().ok_or_else(|| failed("there is no certificate".to_owned()))?;
    if let Some(pin) = &trust.pin {
        let digest: String = Sha256::digest(first).iter().map(|byte| format!("{byte:02x}")).collect();
        if digest != *pin {
            return Err(failed(format!(
                "the certificate is another one than the pinned one: its SHA-256 is {digest}"
            )));
        }
    }
    let certificate = look_at(first).map_err(&failed)?;
    trace.done(ProbeStep::Tls, format!("TLS, the certificate ends in {} days", certificate.days_left));
    Ok((stream, certificate))
}

/// A name that a certificate is for, as people write it.
fn name_words(name: &GeneralName<'_>) -> String {
    match name {
        GeneralName::DNSName(name) => (*name).to_owned(),
        GeneralName::IPAddress(bytes) => {
            let four = <[u8; 4]>::try_from(*bytes).map(IpAddr::from);
            let address = four.or_else(|_| <[u8; 16]>::try_from(*bytes).map(IpAddr::from));
            address.map_or_else(|_| "an address that can't be read".to_owned(), |address| address.to_string())
        }
        other => other.to_string(),
    }
}

fn look_at(der: &CertificateDer<'_>) -> Result<Certificate, String> {
    let (_, parsed) =
        X509Certificate::from_der(der).map_err(|error| format!("the certificate can't be read: {error}"))?;
    let names = parsed.subject_alternative_name().ok().flatten().map(|names| {
        let shown = names.value.general_names.iter().map(name_words);
        shown.collect::<Vec<_>>().join(", ")
    });
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    let left = parsed.validity().not_after.timestamp() - i64::try_from(now).unwrap_or(i64::MAX);
    let names = names.filter(|names| !names.is_empty()).unwrap_or_else(|| parsed.subject().to_string());
    Ok(Certificate { names, days_left: left.div_euclid(DAY) })
}

/// How servers that are no servers of pools are spoken to: as this machine trusts them.
pub fn verified() -> Result<ClientConfig, String> {
    config(&CertificateTrust { tls: TlsVerify::Verified, name: None, authorities: None, pin: None })
}

fn config(trust: &CertificateTrust) -> Result<ClientConfig, String> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(Arc::clone(&provider));
    let builder = builder.with_safe_default_protocol_versions().map_err(|error| error.to_string())?;
    if trust.tls == TlsVerify::Unverified {
        let any = Arc::new(AnyCertificate(provider));
        return Ok(builder.dangerous().with_custom_certificate_verifier(any).with_no_client_auth());
    }
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    if let Some(path) = &trust.authorities {
        let wrong =
            |error: &dyn std::fmt::Display| format!("the authorities in {path} can't be read: {error}");
        let certificates = CertificateDer::pem_file_iter(path).map_err(|error| wrong(&error))?;
        for certificate in certificates {
            let certificate = certificate.map_err(|error| wrong(&error))?;
            roots.add(certificate).map_err(|error| wrong(&error))?;
        }
    }
    if roots.is_empty() {
        return Err(
            "no authority is trusted: this machine has none, and tls_authorities names no file".to_owned()
        );
    }
    Ok(builder.with_root_certificates(roots).with_no_client_auth())
}

/// What is wrong with a certificate, in words.
fn in_words(error: &std::io::Error, name: &ServerName<'_>) -> String {
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
        _ => error.to_string(),
    }
}

/// Takes every certificate: what is wanted is that TLS works, or the pin decides.
#[derive(Debug)]
struct AnyCertificate(Arc<rustls::crypto::CryptoProvider>);

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_certificates_are_written_as_people_write_them() {
        assert_eq!(name_words(&GeneralName::DNSName("booking.skerry.example")), "booking.skerry.example");
        assert_eq!(name_words(&GeneralName::IPAddress(&[192, 0, 2, 7])), "192.0.2.7");
        let six: [u8; 16] = "2001:db8::7".parse::<std::net::Ipv6Addr>().unwrap().octets();
        assert_eq!(name_words(&GeneralName::IPAddress(&six)), "2001:db8::7");
        assert_eq!(name_words(&GeneralName::IPAddress(&[1, 2])), "an address that can't be read");
    }
}
