//! One order, from the account to the certificate (RFC 8555, 7).

use std::io;
use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::{URL_SAFE, URL_SAFE_NO_PAD};
use instant_acme::{
    Account, AuthorizationStatus, CertificateIdentifier, ExternalAccountKey, Identifier, NewAccount,
    NewOrder, Order, OrderStatus, RetryPolicy,
};
use merismos_core::config::document::{AuthoritySpec, ChallengeKind};
use merismos_core::name::Name;
use merismos_core::text::printable;
use merismos_core::time::Wall;
use merismos_probe::secret_ref::SecretCache;
use merismos_store::{IssuedCertificate, Store, StoreError};
use rcgen::{CertificateParams, DistinguishedName, KeyPair};
use rustls::pki_types::CertificateDer;

use super::authority_client::AuthorityClient;
use super::kept;
use super::proofs::{Proof, ProofError, Proofs, kind_of};
use crate::certificates::SealingKey;
use crate::certificates::facts::{CertificateError, LoadedCertificate};

/// How long an order may take altogether.
pub(super) const ORDER_LIMIT: Duration = Duration::from_secs(300);
/// How an order is looked at while the authority works on it. Its own Retry-After comes first.
const LOOKS: RetryPolicy =
    RetryPolicy::new().initial_delay(Duration::from_millis(100)).timeout(Duration::from_secs(120));
/// The problem of an account that the authority does not know any more (RFC 8555, 6.7).
const NO_ACCOUNT: &str = "urn:ietf:params:acme:error:accountDoesNotExist";

/// Why there is no new certificate.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CertificateOrderError {
    #[error("the database, which keeps accounts and certificates for all nodes, does not answer: {0}")]
    Store(#[from] StoreError),
    #[error("another node is ordering it")]
    Elsewhere,
    #[error("it is being ordered already")]
    UnderWay,
    #[error("it is not ordered: it has no authority")]
    NotOrdered,
    #[error("the order was broken off: {0}")]
    BrokenOff(String),
    #[error("the node that ordered it sealed its key with another store-secret: all nodes need the same")]
    Sealed,
    #[error("{0}")]
    Secret(String),
    #[error("the key of the external account should be base64url, as the authority gives it: {0}")]
    AccountKey(base64::DecodeError),
    #[error("authority {authority} {doing}: {why}")]
    Authority { authority: Name, doing: &'static str, why: String },
    #[error("authority {authority} does not see that {name} is ours: {why}")]
    NotSeen { authority: Name, name: String, why: String },
    #[error("authority {authority} offers no {challenge} for {name}: it offers {offered}")]
    NoChallenge { authority: Name, challenge: ChallengeKind, name: String, offered: String },
    #[error("{name} can't be shown to be ours: {source}")]
    Proof { name: String, source: Box<ProofError> },
    #[error("the key or the request can't be made: {0}")]
    Request(#[from] rcgen::Error),
    #[error("what authority {authority} issued can't be shown to clients: {source}")]
    Issued { authority: Name, source: CertificateError },
    #[error("authority {authority} issued a certificate for {found}, and not for {wanted}")]
    OtherNames { authority: Name, found: String, wanted: String },
    #[error("the order has no end after {}", merismos_core::units::humane(ORDER_LIMIT))]
    Slow,
    #[error("it can't be kept in the state folder: {0}")]
    Kept(#[from] io::Error),
}

impl CertificateOrderError {
    /// Whether it is to be tried again soon, for nothing was asked of the authority.
    pub(super) fn is_ours(&self) -> bool {
        matches!(self, Self::Store(_) | Self::Elsewhere)
    }
}

/// A certificate that is to be had, and all that is needed for it.
#[derive(Debug)]
pub(super) struct Errand {
    pub(super) store: Store,
    pub(super) key: std::sync::Arc<SealingKey>,
    pub(super) proofs: Proofs,
    pub(super) secrets: SecretCache,
    pub(super) folder: PathBuf,
    pub(super) certificate: Name,
    pub(super) names: Vec<String>,
    pub(super) authority_name: Name,
    pub(super) authority: AuthoritySpec,
    /// The chain that is to be replaced.
    pub(super) replaces: Option<CertificateDer<'static>>,
    /// From when on an authority's certificate is new enough to be taken from another node.
    pub(super) wanted_beyond: Option<Wall>,
}

impl Errand {
    fn wrong(&self, doing: &'static str, error: &instant_acme::Error) -> CertificateOrderError {
        CertificateOrderError::Authority { authority: self.authority_name.clone(), doing, why: words(error) }
    }

    fn account_purpose(&self) -> String {
        format!("account {} {}", self.authority_name, self.authority.directory)
    }

    fn key_purpose(&self) -> String {
        format!("certificate {}", self.certificate)
    }

    /// A client for the authority.
    pub(super) fn client(&self) -> Result<AuthorityClient, CertificateOrderError> {
        AuthorityClient::new(&self.authority).map_err(|why| CertificateOrderError::Authority {
            authority: self.authority_name.clone(),
            doing: "can't be asked",
            why,
        })
    }

    /// The account that is known, if there is one.
    pub(super) async fn known_account(
        &self,
        client: &AuthorityClient,
    ) -> Result<Option<Account>, CertificateOrderError> {
        let (name, directory) = (self.authority_name.as_str(), &self.authority.directory);
        let Some(sealed) = self.store.authority_account(name, directory).await? else { return Ok(None) };
        let credentials = self.key.open(&self.account_purpose(), &sealed);
        let credentials = credentials.and_then(|text| serde_json::from_slice(&text).ok());
        // One that was sealed with a secret that is gone is of no use: a new one is made.
        let Some(credentials) = credentials else { return Ok(None) };
        let account =
            Account::builder_with_http(Box::new(client.clone())).from_credentials(credentials).await;
        account.map(Some).map_err(|error| self.wrong("does not say what it can do", &error))
    }

    async fn new_account(&self, client: &AuthorityClient) -> Result<Account, CertificateOrderError> {
        let AuthoritySpec { contacts, external_account, external_account_key, .. } = &self.authority;
        let contacts: Vec<String> = contacts.iter().map(|contact| format!("mailto:{contact}")).collect();
        let contacts: Vec<&str> = contacts.iter().map(String::as_str).collect();
        let new = NewAccount {
            contact: &contacts,
            terms_of_service_agreed: self.authority.terms_agreed,
            only_return_existing: false,
        };
        let secret = external_account_key.as_ref().map(|secret| self.secrets.read(secret));
        let secret = secret.transpose().map_err(CertificateOrderError::Secret)?;
        let external = match external_account.as_ref().zip(secret) {
            Some((id, secret)) => {
                let secret = secret.trim();
                let key = URL_SAFE_NO_PAD.decode(secret).or_else(|_| URL_SAFE.decode(secret));
                Some(ExternalAccountKey::new(id.clone(), &key.map_err(CertificateOrderError::AccountKey)?))
            }
            None => None,
        };
        let directory = self.authority.directory.clone();
        let builder = Account::builder_with_http(Box::new(client.clone()));
        let made = builder.create(&new, directory, external.as_ref()).await;
        let (account, credentials) = made.map_err(|error| self.wrong("makes no account", &error))?;
        let text = serde_json::to_vec(&credentials)
            .map_err(|error| CertificateOrderError::Secret(error.to_string()))?;
        let sealed = self.key.seal(&self.account_purpose(), &text);
        let (name, directory) = (self.authority_name.as_str(), &self.authority.directory);
        self.store.put_authority_account(name, directory, &sealed).await?;
        Ok(account)
    }

    /// The certificate: from another node that has ordered it already, or by an order.
    pub(super) async fn run(
        &self,
        client: &AuthorityClient,
    ) -> Result<LoadedCertificate, CertificateOrderError> {
        if let Some(issued) = self.issued_elsewhere().await? {
            return Ok(issued);
        }
        match tokio::time::timeout(ORDER_LIMIT, self.order(client)).await {
            Ok(done) => done,
            Err(_) => Err(CertificateOrderError::Slow),
        }
    }

    async fn issued_elsewhere(&self) -> Result<Option<LoadedCertificate>, CertificateOrderError> {
        let Some(issued) = self.store.issued_certificate(self.certificate.as_str()).await? else {
            return Ok(None);
        };
        if self.wanted_beyond.is_some_and(|end| issued.not_after <= end) {
            return Ok(None);
        }
        let key = self.key.open(&self.key_purpose(), &issued.sealed).ok_or(CertificateOrderError::Sealed)?;
        let key = String::from_utf8_lossy(&key).into_owned();
        let Ok(loaded) = LoadedCertificate::read(&issued.chain, &key) else { return Ok(None) };
        if !kept::is_for(&loaded.facts, &self.names) || loaded.trouble(crate::clock::wall()).is_some() {
            return Ok(None);
        }
        kept::write(&self.folder, &self.certificate, &issued.chain, &key)?;
        Ok(Some(loaded))
    }

    async fn begin(&self, client: &AuthorityClient) -> Result<Order, CertificateOrderError> {
        let identifiers: Vec<Identifier> = self.names.iter().map(|name| identifier(name)).collect();
        let mut replaced = self.replaces.as_ref().and_then(|own| CertificateIdentifier::try_from(own).ok());
        let mut account = self.known_account(client).await?;
        let mut is_known = account.is_some();
        loop {
            let with = match account.take() {
                Some(account) => account,
                None => self.new_account(client).await?,
            };
            // Only where the authority knows of renewals (RFC 9773, 5). It may have had the certificate replaced by now.
            if let Some(replaced) = replaced.take()
                && with.renewal_info(&replaced).await.is_ok()
                && let Ok(order) = with.new_order(&NewOrder::new(&identifiers).replaces(replaced)).await
            {
                return Ok(order);
            }
            match with.new_order(&NewOrder::new(&identifiers)).await {
                Ok(order) => return Ok(order),
                Err(instant_acme::Error::Api(problem))
                    if is_known && problem.r#type.as_deref() == Some(NO_ACCOUNT) =>
                {
                    is_known = false;
                }
                Err(error) => return Err(self.wrong("takes no order", &error)),
            }
        }
    }

    async fn order(&self, client: &AuthorityClient) -> Result<LoadedCertificate, CertificateOrderError> {
        let mut order = self.begin(client).await?;
        let mut published = Vec::new();
        let shown = self.show(&mut order, &mut published).await;
        for proof in published {
            self.proofs.withdraw(&self.authority, &self.secrets, proof).await;
        }
        shown?;
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(self.names.clone())?;
        params.distinguished_name = DistinguishedName::new();
        let request = params.serialize_request(&key)?;
        let finished = order.finalize_csr(request.der()).await;
        finished.map_err(|error| self.wrong("does not take the request", &error))?;
        let chain = order.poll_certificate(&LOOKS).await;
        let chain = chain.map_err(|error| self.wrong("does not issue the certificate", &error))?;
        let key = key.serialize_pem();
        let loaded = LoadedCertificate::read(&chain, &key).map_err(|source| {
            CertificateOrderError::Issued { authority: self.authority_name.clone(), source }
        })?;
        if !kept::is_for(&loaded.facts, &self.names) {
            return Err(CertificateOrderError::OtherNames {
                authority: self.authority_name.clone(),
                found: printable(&loaded.facts.names.join(", ")).into_owned(),
                wanted: self.names.join(", "),
            });
        }
        // The state folder first: what was issued is not to be lost because the database went away meanwhile.
        kept::write(&self.folder, &self.certificate, &chain, &key)?;
        let sealed = self.key.seal(&self.key_purpose(), key.as_bytes());
        let not_after = loaded.facts.not_after;
        let issued = IssuedCertificate { name: self.certificate.to_string(), not_after, chain, sealed };
        if let Err(error) = self.store.put_issued_certificate(&issued).await {
            tracing::warn!(%error, certificate = %self.certificate, "other nodes can't be given the certificate");
        }
        Ok(loaded)
    }

    /// Has the authority see that every name is ours.
    async fn show(&self, order: &mut Order, published: &mut Vec<Proof>) -> Result<(), CertificateOrderError> {
        let mut authorizations = order.authorizations();
        while let Some(authorization) = authorizations.next().await {
            let mut authorization = authorization
                .map_err(|error| self.wrong("does not say how names are shown to be ours", &error))?;
            if authorization.status == AuthorizationStatus::Valid {
                continue;
            }
            let name = match &authorization.identifier().identifier {
                Identifier::Dns(name) => name.clone(),
                Identifier::Ip(address) => address.to_string(),
                other => format!("{other:?}"),
            };
            let offered = authorization.challenges.iter();
            let offered: Vec<String> =
                offered.map(|it| printable(&format!("{:?}", it.r#type)).into_owned()).collect();
            let Some(mut challenge) = authorization.challenge(kind_of(self.authority.challenge)) else {
                return Err(CertificateOrderError::NoChallenge {
                    authority: self.authority_name.clone(),
                    challenge: self.authority.challenge,
                    name,
                    offered: offered.join(", "),
                });
            };
            let (token, answer) = (challenge.token.clone(), challenge.key_authorization());
            let proof = self.proofs.publish(&self.authority, &self.secrets, &name, &token, &answer).await;
            published.push(proof.map_err(|source| CertificateOrderError::Proof {
                name: name.clone(),
                source: Box::new(source),
            })?);
            challenge.set_ready().await.map_err(|error| self.not_seen(&name, words(&error)))?;
        }
        match order.poll_ready(&LOOKS).await {
            Ok(OrderStatus::Ready | OrderStatus::Valid) => Ok(()),
            Ok(_) => Err(self.first_unseen(order).await),
            Err(error) => Err(self.wrong("does not come to an end", &error)),
        }
    }

    fn not_seen(&self, name: &str, why: String) -> CertificateOrderError {
        CertificateOrderError::NotSeen {
            authority: self.authority_name.clone(),
            name: printable(name).into_owned(),
            why,
        }
    }

    /// Which name made the order fail, and why.
    async fn first_unseen(&self, order: &mut Order) -> CertificateOrderError {
        let mut authorizations = order.authorizations();
        while let Some(Ok(mut authorization)) = authorizations.next().await {
            let name = authorization.identifier().to_string();
            let Ok(state) = authorization.refresh().await else { continue };
            if let Some(problem) = state.challenges.iter().find_map(|challenge| challenge.error.as_ref()) {
                return self.not_seen(&name, problem_words(problem));
            }
        }
        self.not_seen(&self.names.join(", "), "it does not say why".to_owned())
    }
}

fn identifier(name: &str) -> Identifier {
    name.parse::<IpAddr>().map_or_else(|_| Identifier::Dns(name.to_owned()), Identifier::Ip)
}

/// What an authority, or the way to it, says.
fn words(error: &instant_acme::Error) -> String {
    match error {
        instant_acme::Error::Api(problem) => problem_words(problem),
        other => printable(&other.to_string()).into_owned(),
    }
}

fn problem_words(problem: &instant_acme::Problem) -> String {
    let kind = problem.r#type.as_deref().unwrap_or("no kind of problem");
    let kind = kind.strip_prefix("urn:ietf:params:acme:error:").unwrap_or(kind);
    let mut text = format!("{} ({kind})", problem.detail.as_deref().unwrap_or("it gives no reason"));
    for part in &problem.subproblems {
        text = format!("{text}; {}", part.detail.as_deref().unwrap_or_default());
    }
    printable(&text).into_owned()
}
