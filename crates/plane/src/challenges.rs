//! What frontends answer authorities that want to see that a name is ours (RFC 8555, 8.3; RFC 8737). While nothing is ordered, a request costs
//! one look at a flag.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arc_swap::ArcSwap;
use rustls::ServerConfig;
use rustls::crypto::ring::default_provider;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;

/// Below which path authorities ask (RFC 8555, 8.3).
const PATH: &str = "/.well-known/acme-challenge/";
/// The protocol that authorities ask for in a handshake (RFC 8737, 6.2).
const PROTOCOL: &[u8] = b"acme-tls/1";

/// What is answered, all of it.
#[derive(Clone, Debug, Default)]
pub struct ChallengeAnswers {
    /// What stands at each token.
    pub by_token: BTreeMap<String, String>,
    /// The certificate that is shown for each name.
    pub by_name: BTreeMap<String, Arc<CertifiedKey>>,
}

/// The answers that all frontends give now.
#[derive(Clone, Debug, Default)]
pub struct ChallengeTable(Arc<ChallengeState>);

#[derive(Debug, Default)]
struct ChallengeState {
    has_any: AtomicBool,
    answers: ArcSwap<ChallengeAnswers>,
}

impl ChallengeTable {
    /// Replaces all answers.
    pub fn set(&self, answers: ChallengeAnswers) {
        let has_any = !answers.by_token.is_empty() || !answers.by_name.is_empty();
        self.0.answers.store(Arc::new(answers));
        self.0.has_any.store(has_any, Ordering::Release);
    }

    /// Whether anything is ordered.
    #[inline]
    pub(crate) fn has_any(&self) -> bool {
        self.0.has_any.load(Ordering::Acquire)
    }

    /// What a request gets that begins with this head, when an authority asks.
    pub(crate) fn of_request(&self, head: &[u8]) -> Option<String> {
        let line = head.split(|byte| *byte == b'\r').next()?;
        let mut words = str::from_utf8(line).ok()?.split(' ');
        let (method, target) = (words.next()?, words.next()?);
        let path = target.split('?').next()?;
        let token = path.strip_prefix(PATH).filter(|_| ["GET", "HEAD"].contains(&method))?;
        self.0.answers.load().by_token.get(token).cloned()
    }

    /// How a handshake is done that an authority begins to see whether the name is ours.
    pub(crate) fn of_handshake(&self, hello: &ClientHello<'_>) -> Option<Arc<ServerConfig>> {
        let mut protocols = hello.alpn()?;
        if protocols.next() != Some(PROTOCOL) || protocols.next().is_some() {
            return None;
        }
        let name = hello.server_name()?.to_ascii_lowercase();
        let key = self.0.answers.load().by_name.get(&name).cloned()?;
        let builder = ServerConfig::builder_with_provider(Arc::new(default_provider()));
        let builder = builder.with_safe_default_protocol_versions().ok()?;
        let mut config = builder.with_no_client_auth().with_cert_resolver(Arc::new(OneKey(key)));
        config.alpn_protocols = vec![PROTOCOL.to_vec()];
        Some(Arc::new(config))
    }
}

/// The one certificate that there is to be shown.
#[derive(Debug)]
struct OneKey(Arc<CertifiedKey>);

impl ResolvesServerCert for OneKey {
    fn resolve(&self, _hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.0))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("GET /.well-known/acme-challenge/tern HTTP/1.1\r\n", Some("tern.print"))]
    #[case("GET /.well-known/acme-challenge/tern?x=1 HTTP/1.1\r\n", Some("tern.print"))]
    #[case("HEAD /.well-known/acme-challenge/tern HTTP/1.1\r\n", Some("tern.print"))]
    #[case("POST /.well-known/acme-challenge/tern HTTP/1.1\r\n", None)]
    #[case("GET /.well-known/acme-challenge/gull HTTP/1.1\r\n", None)]
    #[case("GET /.well-known/acme-challenge/ HTTP/1.1\r\n", None)]
    #[case("GET /.well-known/acme-challenge HTTP/1.1\r\n", None)]
    #[case("GET", None)]
    #[case("\r\n", None)]
    fn a_token_alone_is_answered(#[case] head: &str, #[case] answer: Option<&str>) {
        let table = ChallengeTable::default();
        assert!(!table.has_any());
        let by_token = BTreeMap::from([("tern".to_owned(), "tern.print".to_owned())]);
        table.set(ChallengeAnswers { by_token, by_name: BTreeMap::new() });
        assert!(table.has_any());
        assert_eq!(table.of_request(head.as_bytes()).as_deref(), answer);
    }
}
