//! `tls`: a handshake, and what its certificate says. Other checks that speak TLS judge certificates here too.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use merismos_connector::trust::{self, TrustError};
use merismos_core::config::document::{CertificateTrust, TlsProbe, TlsVerify};
use merismos_core::health::ProbeStep;
use rustls::ClientConfig;
use rustls::client::Resumption;
use rustls::pki_types::{CertificateDer, ServerName};
use tokio::io::{AsyncRead, AsyncWrite};
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

/// Bytes both ways, in plain text or in TLS.
pub(super) trait ProbeStream: AsyncRead + AsyncWrite + Send + Unpin {}

impl<S: AsyncRead + AsyncWrite + Send + Unpin> ProbeStream for S {}

/// A connection to where the check asks, in TLS where it or the server's pool wants that.
pub(super) async fn connect(
    asking: &ProbeRun<'_>,
    own: Option<&CertificateTrust>,
    host: Option<&str>,
    protocols: &[&[u8]],
    trace: &mut Trace,
) -> Result<Box<dyn ProbeStream>, ProbeFailure> {
    let stream = asking.connect(trace).await?;
    match own.or(asking.opening.tls.as_ref()) {
        None => Ok(Box::new(stream)),
        Some(trust) => {
            let (stream, _) = handshake(asking, trust, host, protocols, stream, trace).await?;
            Ok(Box::new(stream))
        }
    }
}

/// What was learned of a certificate.
pub(super) struct Certificate {
    names: String,
    days_left: i64,
}

/// Speaks TLS on a connection and judges the certificate. `host` is the name that is asked for otherwise.
pub(super) async fn handshake(
    asking: &ProbeRun<'_>,
    asked: &CertificateTrust,
    host: Option<&str>,
    protocols: &[&[u8]],
    stream: TcpStream,
    trace: &mut Trace,
) -> Result<(TlsStream<TcpStream>, Certificate), ProbeFailure> {
    trace.begin(ProbeStep::Tls, "connected, but the TLS handshake did not end");
    let failed = |what: String| ProbeFailure::at(ProbeStep::Tls, what);
    let host = host.map(|host| host.rsplit_once(':').map_or(host, |(name, _)| name));
    let name = match asked.name.as_deref().or(host) {
        Some(name) => ServerName::try_from(name.to_owned()),
        None => Ok(ServerName::from(asking.address.ip())),
    };
    let name = name.map_err(|_| failed("the name to be verified is no host name".to_owned()))?;
    let config = trust::last_good_config(asked).map_err(|error| failed(error.to_string()))?;
    let mut config = ClientConfig::clone(&config);
    // A session that is taken up again proves nothing anew.
    config.resumption = Resumption::disabled();
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
    let connector = TlsConnector::from(Arc::new(config));
    let stream = connector.connect(name.clone(), stream).await;
    let stream = stream
        .map_err(|error| failed(format!("the TLS handshake failed: {}", trust::in_words(&error, &name))))?;
    let certificates = stream.get_ref().1.peer_certificates().unwrap_or_default();
    let first = certificates.first().ok_or_else(|| failed("there is no certificate".to_owned()))?;
    trust::is_pinned(asked, first).map_err(&failed)?;
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
///
/// # Errors
/// [`TrustError`], when this machine trusts nobody.
pub fn verified() -> Result<ClientConfig, TrustError> {
    let trust = CertificateTrust {
        tls: TlsVerify::Verified,
        name: None,
        authorities: None,
        pin: None,
        certificate: None,
    };
    trust::client_config(&trust)
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
