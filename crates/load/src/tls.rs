//! TLS of the clients. A trial looks at where work goes: the certificate is anybody's, and not judged.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;

use rustls::client::Resumption;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::sign::{CertifiedKey, SingleCertAndKey};
use rustls::{ClientConfig, DigitallySignedStruct, SignatureScheme};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::stream_client::connect;

/// How clients speak TLS.
#[derive(Clone, Debug)]
pub struct LoadTls {
    /// The name that they ask for: in the handshake (SNI, RFC 6066, 3), and as the host of requests.
    pub name: String,
    config: Arc<ClientConfig>,
}

impl LoadTls {
    /// TLS for a host's name or an IP address, with sessions that are taken up again.
    ///
    /// # Errors
    /// When the name is neither.
    pub fn new(name: &str) -> io::Result<Self> {
        let wrong =
            |error: &dyn std::fmt::Display| io::Error::new(io::ErrorKind::InvalidInput, error.to_string());
        ServerName::try_from(name).map_err(|error| wrong(&error))?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()
            .map_err(|error| wrong(&error))?;
        let verifier = Arc::new(UnjudgedCertificate(provider));
        let config = builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth();
        Ok(Self { name: name.to_owned(), config: Arc::new(config) })
    }
}

impl LoadTls {
    /// The same, with a certificate that is shown to servers who ask for one.
    #[must_use]
    pub fn showing(self, key: Arc<CertifiedKey>) -> Self {
        let mut config = ClientConfig::clone(&self.config);
        config.client_auth_cert_resolver = Arc::new(SingleCertAndKey::from(key));
        Self { config: Arc::new(config), ..self }
    }

    /// Whether a certificate is shown to servers who ask for one.
    #[must_use]
    pub fn shows_certificate(&self) -> bool {
        self.config.client_auth_cert_resolver.has_certs()
    }

    /// The same, whose every handshake is a whole one.
    #[must_use]
    pub fn without_sessions(self) -> Self {
        let mut config = ClientConfig::clone(&self.config);
        config.resumption = Resumption::disabled();
        Self { config: Arc::new(config), ..self }
    }

    /// Does a handshake for a name on a connection.
    ///
    /// # Errors
    /// When it fails, or the name is none.
    pub async fn connect(&self, name: &str, stream: TcpStream) -> io::Result<TlsStream<TcpStream>> {
        let name = ServerName::try_from(name.to_owned()).map_err(io::Error::other)?;
        TlsConnector::from(Arc::clone(&self.config)).connect(name, stream).await
    }
}

/// Bytes both ways, in plain text or in TLS.
pub(crate) trait ByteStream: AsyncRead + AsyncWrite + Send + Unpin {}

impl<S: AsyncRead + AsyncWrite + Send + Unpin> ByteStream for S {}

/// A connection, with the address that it comes from.
pub(crate) async fn open(
    to: SocketAddr,
    from: Option<IpAddr>,
    tls: Option<&LoadTls>,
) -> io::Result<(Pin<Box<dyn ByteStream>>, SocketAddr)> {
    let stream = connect(to, from).await?;
    let from = stream.local_addr()?;
    let Some(tls) = tls else { return Ok((Box::pin(stream), from)) };
    Ok((Box::pin(tls.connect(&tls.name, stream).await?), from))
}

/// Takes every certificate, and verifies that its owner is the peer.
#[derive(Debug)]
struct UnjudgedCertificate(Arc<CryptoProvider>);

impl ServerCertVerifier for UnjudgedCertificate {
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
        let schemes = &self.0.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, certificate, signed, schemes)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let schemes = &self.0.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, certificate, signed, schemes)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
