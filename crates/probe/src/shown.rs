//! What a client of a TLS server is shown: a handshake that takes every certificate, so that what is wrong with it can be said.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use merismos_connector::connect::connect;
use merismos_connector::trust;
use merismos_core::config::document::{CertificateTrust, TlsVerify};
use rustls::AlertDescription;
use rustls::client::Resumption;
use rustls::pki_types::{CertificateDer, ServerName};
use tokio_rustls::TlsConnector;

/// How a handshake ended well.
#[derive(Clone, Debug)]
pub struct ShownTls {
    /// The version of TLS, such as `TLS 1.3`.
    pub version: String,
    /// The name of the cipher suite, as IANA has it.
    pub cipher: String,
    /// The protocol that both agreed to (ALPN, RFC 7301).
    pub protocol: Option<String>,
    /// What the server sent, its own certificate first.
    pub chain: Vec<CertificateDer<'static>>,
}

/// Makes a handshake as a client that asks for `name` and knows these protocols, within `limit`.
///
/// # Errors
/// A sentence with what is in the way.
pub async fn shown_tls(
    address: SocketAddr,
    name: ServerName<'static>,
    protocols: &[&[u8]],
    limit: Duration,
) -> Result<ShownTls, String> {
    let anybody = CertificateTrust {
        tls: TlsVerify::Unverified,
        name: None,
        authorities: None,
        pin: None,
        certificate: None,
    };
    let mut config = trust::client_config(&anybody).map_err(|error| error.to_string())?;
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
    config.resumption = Resumption::disabled();
    let stream = connect(&[address], limit).await.map_err(|error| error.to_string())?;
    let connector = TlsConnector::from(Arc::new(config));
    let handshake = tokio::time::timeout(limit, connector.connect(name.clone(), stream)).await;
    let stream = handshake
        .map_err(|_| format!("connected, and the handshake did not end within {limit:?}"))?
        .map_err(|error| in_words(&error, &name))?;
    let session = stream.get_ref().1;
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Ok(ShownTls {
        version: match session.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3".to_owned(),
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2".to_owned(),
            other => format!("{other:?}"),
        },
        cipher: session
            .negotiated_cipher_suite()
            .map(|suite| suite.suite().as_str().unwrap_or("unknown").to_owned())
            .unwrap_or_default(),
        protocol: session.alpn_protocol().map(text),
        chain: session.peer_certificates().unwrap_or_default().iter().map(CertificateDer::clone).collect(),
    })
}

fn in_words(error: &std::io::Error, name: &ServerName<'_>) -> String {
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match inner {
        Some(rustls::Error::AlertReceived(AlertDescription::UnrecognisedName)) => {
            format!(
                "there is no certificate for {}, and unknown names are refused (alert unrecognized_name)",
                name.to_str()
            )
        }
        Some(rustls::Error::AlertReceived(AlertDescription::HandshakeFailure)) => {
            "the handshake is refused (alert handshake_failure): plain text is spoken there".to_owned()
        }
        Some(rustls::Error::AlertReceived(alert)) => format!("the handshake is refused (alert {alert:?})"),
        _ => trust::in_words(error, name),
    }
}
