//! How the stand-in looks whether a name is the account's (RFC 8555, 8; RFC 8737).

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use hickory_proto::op::{Message, Query};
use hickory_proto::rr::{Name, RData, RecordType};
use ring::digest::{SHA256, digest};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls13_signature_with_raw_key};
use rustls::pki_types::{CertificateDer, ServerName, SubjectPublicKeyInfoDer, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, SignatureScheme};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio_rustls::TlsConnector;
use x509_parser::prelude::{FromDer, X509Certificate};

/// How long one look may take.
const LIMIT: Duration = Duration::from_secs(5);
/// The longest answer that is read.
const ANSWER_LIMIT: u64 = 64 * 1024;
/// What stands in the certificate that shows a name (RFC 8737, 6.1).
const IDENTIFIER: &str = "1.3.6.1.5.5.7.1.31";

async fn within<T>(work: impl Future<Output = Result<T, String>>) -> Result<T, String> {
    match tokio::time::timeout(LIMIT, work).await {
        Ok(done) => done,
        Err(_) => Err(format!("no answer within {LIMIT:?}")),
    }
}

fn at(address: Option<SocketAddr>) -> Result<SocketAddr, String> {
    address.ok_or_else(|| "the stand-in was not told where to look".to_owned())
}

/// Asks for the token at port 80, here at `address`.
pub(super) async fn http(
    address: Option<SocketAddr>,
    name: &str,
    token: &str,
    wanted: &str,
) -> Result<(), String> {
    let address = at(address)?;
    let url = format!("http://{name}/.well-known/acme-challenge/{token}");
    let answer = within(async {
        let wrong = |error: std::io::Error| format!("{url} can't be read: {error}");
        let mut stream = TcpStream::connect(address).await.map_err(wrong)?;
        let request = format!(
            "GET /.well-known/acme-challenge/{token} HTTP/1.1\r\nHost: {name}\r\nUser-Agent: merismos-lab\r\nConnection: close\r\n\r\n"
        );
        stream.write_all(request.as_bytes()).await.map_err(wrong)?;
        let mut answer = Vec::new();
        stream.take(ANSWER_LIMIT).read_to_end(&mut answer).await.map_err(wrong)?;
        Ok(String::from_utf8_lossy(&answer).into_owned())
    });
    let answer = answer.await?;
    let status = answer.lines().next().unwrap_or_default().trim().to_owned();
    let body = answer.split_once("\r\n\r\n").map_or("", |(_, body)| body.trim_end());
    if status.contains(" 200 ") && body == wanted {
        return Ok(());
    }
    Err(format!(
        "{url} gives {status:?} and {:?}, and not the key authorization",
        body.chars().take(40).collect::<String>()
    ))
}

/// Makes a handshake with port 443, here with `address`.
pub(super) async fn handshake(address: Option<SocketAddr>, name: &str, wanted: &str) -> Result<(), String> {
    let address = at(address)?;
    within(async {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let builder = ClientConfig::builder_with_provider(Arc::clone(&provider));
        let builder =
            builder.with_protocol_versions(&[&rustls::version::TLS13]).map_err(|error| error.to_string())?;
        let verifier = Arc::new(ChallengeCertificate(provider));
        let mut config = builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth();
        config.alpn_protocols = vec![b"acme-tls/1".to_vec()];
        let asked = ServerName::try_from(name.to_owned()).map_err(|error| error.to_string())?;
        let failed = |error: std::io::Error| format!("the handshake with {name} failed: {error}");
        let stream = TcpStream::connect(address).await.map_err(failed)?;
        let stream = TlsConnector::from(Arc::new(config)).connect(asked, stream).await.map_err(failed)?;
        let (_, session) = stream.get_ref();
        if session.alpn_protocol() != Some(b"acme-tls/1") {
            return Err(format!("{name} does not speak acme-tls/1"));
        }
        let shown =
            session.peer_certificates().and_then(|chain| chain.first()).ok_or("there is no certificate")?;
        let (_, shown) = X509Certificate::from_der(shown).map_err(|error| error.to_string())?;
        let extension = shown.extensions().iter().find(|it| it.oid.to_id_string() == IDENTIFIER);
        let extension =
            extension.ok_or_else(|| format!("the certificate that {name} shows is an ordinary one"))?;
        let digest = digest(&SHA256, wanted.as_bytes());
        let is_right = extension.critical && extension.value == [&[4, 32], digest.as_ref()].concat();
        if is_right { Ok(()) } else { Err(format!("the certificate that {name} shows is another account's")) }
    })
    .await
}

/// Takes every certificate, for what stands in it is looked at afterwards, and verifies that its owner is the peer.
#[derive(Debug)]
struct ChallengeCertificate(Arc<CryptoProvider>);

impl ServerCertVerifier for ChallengeCertificate {
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
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Err(rustls::Error::General("TLS 1.3 alone is spoken".to_owned()))
    }

    // Not by the certificate itself: it has a critical extension that is known to authorities alone.
    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let wrong = |_| rustls::Error::General("the certificate can't be read".to_owned());
        let (_, certificate) = X509Certificate::from_der(certificate).map_err(wrong)?;
        let key = SubjectPublicKeyInfoDer::from(certificate.public_key().raw);
        verify_tls13_signature_with_raw_key(message, &key, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

/// Asks a name server for the record.
pub(super) async fn record(server: Option<SocketAddr>, name: &str, wanted: &str) -> Result<(), String> {
    let server = at(server)?;
    let digest = URL_SAFE_NO_PAD.encode(digest(&SHA256, wanted.as_bytes()));
    let owner = format!("_acme-challenge.{name}.");
    let texts = within(async {
        let wrong = |error: &dyn std::fmt::Display| format!("{owner} can't be looked up: {error}");
        let asked = Name::from_ascii(&owner).map_err(|error| wrong(&error))?;
        let mut message = Message::query();
        message.add_query(Query::query(asked, RecordType::TXT));
        let message = message.to_vec().map_err(|error| wrong(&error))?;
        let from: SocketAddr = if server.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0; 16], 0).into() };
        let socket = UdpSocket::bind(from).await.map_err(|error| wrong(&error))?;
        socket.connect(server).await.map_err(|error| wrong(&error))?;
        socket.send(&message).await.map_err(|error| wrong(&error))?;
        let mut answer = vec![0; 4_096];
        let length = socket.recv(&mut answer).await.map_err(|error| wrong(&error))?;
        let answer = Message::from_vec(&answer[..length]).map_err(|error| wrong(&error))?;
        let texts = answer.answers.iter().filter_map(|record| match &record.data {
            RData::TXT(text) => Some(text.to_string()),
            _ => None,
        });
        Ok(texts.collect::<Vec<_>>())
    });
    let texts = texts.await?;
    if texts.iter().any(|text| text.trim_matches('"') == digest) {
        return Ok(());
    }
    Err(format!("{owner} has {} TXT records, and none of them is right", texts.len()))
}
