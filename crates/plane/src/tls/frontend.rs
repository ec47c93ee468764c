//! What a frontend needs to speak TLS: certificates by name, versions and protocols.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arc_swap::ArcSwap;
use merismos_core::certificate_choice::CertificateChoice;
use merismos_core::config::document::{CipherSuite, TlsPolicy, UnknownName};
use merismos_core::name::Name;
use rustls::ServerConfig;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::{CertificateDer, UnixTime};
use rustls::server::danger::ClientCertVerifier;
use rustls::server::{ClientHello, NoServerSessionStorage, ProducesTickets, ResolvesServerCert};
use rustls::sign::CertifiedKey;

/// A certificate that clients may be shown.
#[derive(Clone, Debug)]
pub struct ShownCertificate {
    /// The names that it is for; one may have `*` in place of its first label.
    pub names: Vec<String>,
    /// The chain with its key, which belong together.
    pub key: Arc<CertifiedKey>,
}

/// Which certificates of clients pass: who judges them.
#[derive(Clone, Debug)]
pub struct ClientVerification(pub Arc<dyn ClientCertVerifier>);

/// By which terms a frontend speaks TLS.
#[derive(Clone, Debug)]
pub struct TlsTerms {
    /// Versions and ciphers.
    pub policy: TlsPolicy,
    /// The ciphers of these that are spoken, the preferred ones first; without any it is all of them.
    pub ciphers: Vec<CipherSuite>,
    /// What clients get that ask for a name of which there is no certificate.
    pub unknown: UnknownName,
    /// Whether clients speak HTTP: then they may choose HTTP/2 in the handshake (ALPN, RFC 7301).
    pub is_http: bool,
    /// Which certificates clients may or have to show.
    pub clients: Option<ClientVerification>,
}

/// What session tickets are made with (RFC 8446, 4.6.1; RFC 5077). Frontends share it, and so a certificate that is replaced ends no session.
#[derive(Clone, Debug)]
pub struct TlsTickets(pub Arc<dyn ProducesTickets>);

/// How a frontend speaks TLS. Connections keep the one that they began with.
#[derive(Clone, Debug)]
pub struct FrontendTls {
    pub(super) config: Arc<ServerConfig>,
    pub(crate) clients: Option<ClientVerification>,
    by_name: Arc<ByName>,
}

impl FrontendTls {
    /// Speaks TLS with these certificates, of which the first is for clients whose name is unknown.
    ///
    /// # Errors
    /// When no version is left that this process can speak.
    pub fn new(
        certificates: Vec<ShownCertificate>,
        terms: TlsTerms,
        tickets: &TlsTickets,
    ) -> Result<Self, rustls::Error> {
        let choice =
            CertificateChoice::new(certificates.iter().map(|certificate| &certificate.names), terms.unknown);
        let keys = certificates.into_iter().map(|certificate| certificate.key).collect();
        let by_name = Arc::new(ByName { choice, keys });
        let mut provider = rustls::crypto::ring::default_provider();
        let has_own_order = !terms.ciphers.is_empty();
        if has_own_order {
            let known = provider.cipher_suites;
            let named = |wanted: &CipherSuite| {
                known.iter().find(|suite| u16::from(suite.suite()) == wanted.number()).copied()
            };
            provider.cipher_suites = terms.ciphers.iter().filter_map(named).collect();
        }
        let provider: Arc<CryptoProvider> = Arc::new(provider);
        let versions: &[&rustls::SupportedProtocolVersion] = match terms.policy {
            TlsPolicy::Compatible => &[&rustls::version::TLS13, &rustls::version::TLS12],
            TlsPolicy::Modern => &[&rustls::version::TLS13],
        };
        let builder = ServerConfig::builder_with_provider(provider).with_protocol_versions(versions)?;
        let resolver: Arc<ByName> = Arc::clone(&by_name);
        let builder = match &terms.clients {
            Some(clients) => builder.with_client_cert_verifier(Arc::clone(&clients.0)),
            None => builder.with_no_client_auth(),
        };
        let mut config = builder.with_cert_resolver(resolver);
        config.ignore_client_order = has_own_order;
        config.ticketer = Arc::clone(&tickets.0);
        config.session_storage = Arc::new(NoServerSessionStorage {});
        if terms.is_http {
            config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        }
        Ok(Self { config: Arc::new(config), clients: terms.clients, by_name })
    }

    /// Whether there is a certificate for a client that asks for this name.
    pub(super) fn knows(&self, name: Option<&str>) -> bool {
        self.by_name.choice.choose(name).is_some()
    }
}

impl ClientVerification {
    /// Whether this is the same judge: one that was made of the same files at the same time.
    pub(super) fn is(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }

    /// Whether the client of a session that is taken up again would still be let in: it was judged when the session began, perhaps by
    /// another frontend, and may have been revoked since.
    ///
    /// # Errors
    /// What does not pass.
    pub(crate) fn judge_again(&self, chain: Option<&[CertificateDer<'_>]>) -> Result<(), rustls::Error> {
        match chain.and_then(<[_]>::split_first) {
            Some((own, others)) => self.0.verify_client_cert(own, others, UnixTime::now()).map(|_| ()),
            None if self.0.client_auth_mandatory() => Err(rustls::Error::NoCertificatesPresented),
            None => Ok(()),
        }
    }
}

/// Certificates by the names that clients ask for.
#[derive(Debug)]
struct ByName {
    choice: CertificateChoice,
    keys: Box<[Arc<CertifiedKey>]>,
}

impl ResolvesServerCert for ByName {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let (place, _) = self.choice.choose(hello.server_name())?;
        self.keys.get(place).cloned()
    }
}

/// How each frontend speaks TLS, by name. A frontend whose clients speak TLS and that is not in it serves nobody.
#[derive(Clone, Debug, Default)]
pub struct TlsTable {
    frontends: Arc<ArcSwap<BTreeMap<Name, FrontendTls>>>,
    /// Why the last handshake of each that came to nothing did; held for a look or a change.
    failures: Arc<Mutex<BTreeMap<Name, String>>>,
}

impl TlsTable {
    /// How all frontends speak from now on. Connections that are open keep what they began with. Gives whether certificates of clients are
    /// judged by other terms than before at one of them.
    pub fn set(&self, frontends: BTreeMap<Name, FrontendTls>) -> bool {
        self.failures().retain(|name, _| frontends.contains_key(name));
        let before = self.frontends.load();
        let judges_anew = frontends.iter().any(|(name, tls)| {
            let others = before.get(name).and_then(|before| before.clients.as_ref());
            match (&tls.clients, others) {
                (Some(now), Some(before)) => !now.is(before),
                (Some(_), None) => true,
                (None, _) => false,
            }
        });
        self.frontends.store(Arc::new(frontends));
        judges_anew
    }

    /// How all frontends speak now.
    #[must_use]
    pub fn get(&self) -> BTreeMap<Name, FrontendTls> {
        (**self.frontends.load()).clone()
    }

    pub(crate) fn of(&self, frontend: &Name) -> Option<FrontendTls> {
        self.frontends.load().get(frontend).cloned()
    }

    fn failures(&self) -> MutexGuard<'_, BTreeMap<Name, String>> {
        self.failures.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes why a handshake came to nothing.
    pub(super) fn note_failure(&self, frontend: &Name, why: String) {
        self.failures().insert(frontend.clone(), why);
    }

    /// Why the last handshake of a frontend that came to nothing did.
    #[must_use]
    pub fn last_failure(&self, frontend: &Name) -> Option<String> {
        self.failures().get(frontend).cloned()
    }
}
