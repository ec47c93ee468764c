//! A stand-in for an authority that issues certificates (ACME, RFC 8555): it looks whether names are whose they should be, at addresses that
//! it is told, and issues what a browser takes that trusts its root.

mod looks;
mod signed;

use std::collections::{BTreeMap, BTreeSet};
use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Method, Request, Response};
use hyper_util::rt::TokioIo;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, CertifiedIssuer, DnType, IsCa,
    KeyPair, KeyUsagePurpose, SanType, SerialNumber,
};
use ring::rand::{SecureRandom, SystemRandom};
use rustls::ServerConfig;
use rustls::pki_types::PrivateKeyDer;
use serde::Deserialize;
use serde_json::{Value, json};
use tokio::net::TcpStream;
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;

use self::signed::Signed;
use crate::stand_in::{Fault, pause};

/// The longest body that is taken.
const BODY_LIMIT: usize = 256 * 1024;
/// By how much clocks of clients may be behind.
const BACKDATED: Duration = Duration::from_secs(3_600);
/// How long the root holds.
const ROOT_HOLDS: Duration = Duration::from_secs(3_650 * 86_400);
/// How long the time is in which certificates should be renewed.
const WINDOW: Duration = Duration::from_secs(3_600);
/// How long clients are asked to wait that come too often, in seconds.
const RETRY_AFTER: u32 = 3_600;

/// Where a stand-in for an authority listens, and where it looks.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AuthorityOptions {
    /// Where it listens, for HTTP over TLS.
    pub listen: SocketAddr,
    /// The file in which it keeps its root certificate; its key stands beside it. Both are made when they are not there.
    pub root: PathBuf,
    /// Where it looks for `http-01`, whatever the name.
    #[serde(default)]
    pub http: Option<SocketAddr>,
    /// Where it looks for `tls-alpn-01`, whatever the name.
    #[serde(default)]
    pub tls: Option<SocketAddr>,
    /// The name server that it asks for `dns-01`.
    #[serde(default)]
    pub dns: Option<SocketAddr>,
    /// For how many hours it issues certificates.
    #[serde(default = "ninety_days")]
    pub hours: u64,
    /// Within how many hours it wants them to be renewed (RFC 9773); it says nothing of it without this.
    #[serde(default)]
    pub renew_after_hours: Option<u64>,
}

fn ninety_days() -> u64 {
    90 * 24
}

/// What a call comes to: a status, the Location of what was made, and a body.
type Reply = (u16, Option<String>, Value);

/// Why a call is refused: a status, the kind of problem (RFC 8555, 6.7), and what is wrong.
type Refusal = (u16, &'static str, String);

fn bad(kind: &'static str, detail: impl ToString) -> Refusal {
    (400, kind, detail.to_string())
}

#[derive(Clone, Debug)]
struct OrderState {
    status: &'static str,
    identifiers: Value,
    authorizations: Vec<String>,
    /// The certificate that it takes the place of (RFC 9773, 5).
    replaces: Value,
    chain: String,
}

#[derive(Clone, Debug)]
struct AuthorizationState {
    status: &'static str,
    identifier: Value,
    is_wildcard: bool,
    token: String,
    order: String,
    error: Option<String>,
}

#[derive(Debug, Default)]
struct State {
    number: u64,
    nonces: BTreeSet<String>,
    accounts: BTreeMap<String, Value>,
    orders: BTreeMap<String, OrderState>,
    authorizations: BTreeMap<String, AuthorizationState>,
}

/// A running authority: its keys, and what it has issued.
pub(crate) struct CertificateAuthority {
    issuer: CertifiedIssuer<'static, KeyPair>,
    acceptor: TlsAcceptor,
    options: AuthorityOptions,
    state: Mutex<State>,
}

impl std::fmt::Debug for CertificateAuthority {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CertificateAuthority").field("options", &self.options).finish_non_exhaustive()
    }
}

impl CertificateAuthority {
    pub(crate) fn new(name: &str, options: &AuthorityOptions) -> io::Result<Self> {
        let mut params = CertificateParams::new(Vec::new()).map_err(io::Error::other)?;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.distinguished_name.push(DnType::CommonName, format!("{name}, a stand-in for an authority"));
        params.not_before = (SystemTime::now() - BACKDATED).into();
        params.not_after = (SystemTime::now() + ROOT_HOLDS).into();
        // The same key makes another certificate of the same root: a browser that trusts the one trusts what the other signs.
        let key_file = options.root.with_extension("key");
        let key = match std::fs::read_to_string(&key_file) {
            Ok(text) => KeyPair::from_pem(&text).map_err(io::Error::other)?,
            Err(_) => {
                let key = KeyPair::generate().map_err(io::Error::other)?;
                std::fs::write(&key_file, key.serialize_pem())?;
                key
            }
        };
        let issuer = CertifiedIssuer::self_signed(params, key).map_err(io::Error::other)?;
        std::fs::write(&options.root, issuer.pem())?;
        let names = vec!["localhost".to_owned(), options.listen.ip().to_string()];
        let own = CertificateParams::new(names).map_err(io::Error::other)?;
        let key = KeyPair::generate().map_err(io::Error::other)?;
        let own = own.signed_by(&key, &issuer).map_err(io::Error::other)?;
        let key = PrivateKeyDer::try_from(key.serialize_der()).map_err(io::Error::other)?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
        let tls = tls.map_err(io::Error::other)?.with_no_client_auth();
        let tls = tls.with_single_cert(vec![own.der().clone()], key).map_err(io::Error::other)?;
        let acceptor = TlsAcceptor::from(Arc::new(tls));
        Ok(Self { issuer, acceptor, options: options.clone(), state: Mutex::default() })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) async fn serve(self: Arc<Self>, stream: TcpStream, faults: watch::Receiver<Fault>) {
        // Clients are told URLs at the address that they came to: port 0 is known by now.
        let Ok(address) = stream.local_addr() else { return };
        let Ok(stream) = self.acceptor.accept(stream).await else { return };
        let service = service_fn(move |request| {
            let (authority, faults) = (Arc::clone(&self), faults.clone());
            async move { Ok::<_, Infallible>(authority.answer(request, address, faults).await) }
        });
        // How the connection ends is the client's affair.
        let _ =
            hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
    }

    async fn answer(
        &self,
        request: Request<Incoming>,
        address: SocketAddr,
        mut faults: watch::Receiver<Fault>,
    ) -> Response<Full<Bytes>> {
        let fault = *faults.borrow_and_update();
        pause(&mut faults).await;
        let (method, path) = (request.method().clone(), request.uri().path().to_owned());
        let body = Limited::new(request.into_body(), BODY_LIMIT).collect().await;
        let body = body.map(|body| body.to_bytes()).unwrap_or_default();
        let call = Call { base: format!("https://{address}"), path: &path };
        let done = match fault {
            Fault::Error { status } => Err((status, "rateLimited", "you come too often".to_owned())),
            _ => self.call(&method, &call, &body).await,
        };
        let (status, location, value) = done.unwrap_or_else(|(status, kind, detail)| {
            let kind = format!("urn:ietf:params:acme:error:{kind}");
            (status, None, json!({ "type": kind, "detail": detail }))
        });
        let content = if status >= 400 { "application/problem+json" } else { "application/json" };
        let mut response = Response::builder()
            .status(status)
            .header("Replay-Nonce", self.nonce())
            .header("Cache-Control", "no-store")
            .header("Content-Type", content);
        if let Some(location) = location {
            response = response.header("Location", location);
        }
        if matches!(fault, Fault::Error { .. }) || path.starts_with("/renewal/") {
            response = response.header("Retry-After", RETRY_AFTER);
        }
        let body = match value {
            Value::Null => String::new(),
            Value::String(text) => text,
            value => value.to_string(),
        };
        response.body(Full::from(body)).expect("the fields are its own")
    }

    fn id(&self) -> String {
        let mut state = self.state();
        state.number += 1;
        format!("{:x}", state.number)
    }

    fn nonce(&self) -> String {
        let mut bytes = [0; 16];
        SystemRandom::new().fill(&mut bytes).expect("the system gives random numbers");
        let nonce = URL_SAFE_NO_PAD.encode(bytes);
        self.state().nonces.insert(nonce.clone());
        nonce
    }

    async fn call(&self, method: &Method, call: &Call<'_>, body: &[u8]) -> Result<Reply, Refusal> {
        match (method, call.path) {
            (&Method::GET, "/directory") => Ok((200, None, self.directory(call))),
            (&Method::HEAD, "/nonce") => Ok((200, None, Value::Null)),
            (&Method::GET, "/nonce") => Ok((204, None, Value::Null)),
            (&Method::GET, path) if path.starts_with("/renewal/") => self.renewal(),
            _ => self.post(call, body).await,
        }
    }

    fn directory(&self, call: &Call<'_>) -> Value {
        let mut directory = json!({
            "newNonce": call.url("nonce"), "newAccount": call.url("account"), "newOrder": call.url("order"),
            "revokeCert": call.url("revoke"), "keyChange": call.url("key"),
        });
        if self.options.renew_after_hours.is_some() {
            directory["renewalInfo"] = call.url("renewal").into();
        }
        directory
    }

    /// When a certificate should be renewed (RFC 9773, 4.2): all of them at the same time, as after a mistake of the authority's own.
    fn renewal(&self) -> Result<Reply, Refusal> {
        let Some(hours) = self.options.renew_after_hours else {
            return Err((404, "malformed", "there is no such thing".to_owned()));
        };
        let end = time::OffsetDateTime::from(SystemTime::now() + Duration::from_secs(hours * 3_600));
        let start = end - WINDOW;
        let text = |moment: time::OffsetDateTime| {
            let (year, month, day) = (moment.year(), u8::from(moment.month()), moment.day());
            let (hour, minute, second) = (moment.hour(), moment.minute(), moment.second());
            format!("{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}Z")
        };
        Ok((200, None, json!({ "suggestedWindow": { "start": text(start), "end": text(end) } })))
    }

    async fn post(&self, call: &Call<'_>, body: &[u8]) -> Result<Reply, Refusal> {
        let signed = Signed::read(body, &call.url(&call.path[1..]), |account| {
            self.state().accounts.get(account).cloned()
        })?;
        if !self.state().nonces.remove(&signed.nonce) {
            return Err(bad("badNonce", "the nonce is unknown, or was used"));
        }
        let (what, id) = call.path[1..].split_once('/').unwrap_or((&call.path[1..], ""));
        if what != "account" && signed.account.is_empty() {
            return Err(bad("malformed", "kid is wanted"));
        }
        let missing = || (404, "malformed", "there is no such thing".to_owned());
        match what {
            "account" => {
                if signed.payload["termsOfServiceAgreed"] != true {
                    return Err((
                        403,
                        "userActionRequired",
                        "the terms of service were not agreed to".to_owned(),
                    ));
                }
                let url = call.url(&format!("account/{}", signed.thumbprint()));
                let is_new = self.state().accounts.insert(url.clone(), signed.key).is_none();
                Ok((if is_new { 201 } else { 200 }, Some(url), json!({ "status": "valid" })))
            }
            "order" if id.is_empty() => self.begin(call, &signed.payload),
            "order" => Ok((200, None, self.order(call, id).ok_or_else(missing)?)),
            "authorization" => Ok((200, None, self.authorization(call, id).ok_or_else(missing)?)),
            "challenge" => {
                let (id, kind) = id.split_once('/').ok_or_else(missing)?;
                self.challenge(call, id, kind, &signed.thumbprint()).await
            }
            "finalize" => self.finalize(call, id, &signed.payload),
            "certificate" => {
                let chain = self.state().orders.get(id).map(|order| order.chain.clone());
                Ok((200, None, Value::String(chain.ok_or_else(missing)?)))
            }
            _ => Err(missing()),
        }
    }

    fn begin(&self, call: &Call<'_>, payload: &Value) -> Result<Reply, Refusal> {
        let id = self.id();
        let mut authorizations = Vec::new();
        let identifiers = payload["identifiers"].as_array().filter(|all| !all.is_empty());
        for identifier in identifiers.ok_or_else(|| bad("malformed", "identifiers are missing"))? {
            let (authorization, token) = (self.id(), self.nonce());
            let name = identifier["value"].as_str().unwrap_or_default();
            let (is_wildcard, bare) = match name.strip_prefix("*.") {
                Some(bare) => (true, bare),
                None => (false, name),
            };
            let state = AuthorizationState {
                status: "pending",
                identifier: json!({ "type": identifier["type"], "value": bare }),
                is_wildcard,
                token,
                order: id.clone(),
                error: None,
            };
            self.state().authorizations.insert(authorization.clone(), state);
            authorizations.push(authorization);
        }
        let identifiers = payload["identifiers"].clone();
        let replaces = payload["replaces"].clone();
        let state =
            OrderState { status: "pending", identifiers, authorizations, replaces, chain: String::new() };
        self.state().orders.insert(id.clone(), state);
        let shown = self.order(call, &id).expect("it was made a moment ago");
        Ok((201, Some(call.url(&format!("order/{id}"))), shown))
    }

    /// Looks whether a name is shown to be the account's.
    async fn challenge(
        &self,
        call: &Call<'_>,
        id: &str,
        kind: &str,
        thumbprint: &str,
    ) -> Result<Reply, Refusal> {
        let missing = || (404, "malformed", "there is no such thing".to_owned());
        let known = self.state().authorizations.get(id).cloned().ok_or_else(missing)?;
        if known.status == "pending" {
            let wanted = format!("{}.{thumbprint}", known.token);
            let name = known.identifier["value"].as_str().unwrap_or_default();
            let seen = match kind {
                "http-01" => looks::http(self.options.http, name, &known.token, &wanted).await,
                "tls-alpn-01" => looks::handshake(self.options.tls, name, &wanted).await,
                "dns-01" => looks::record(self.options.dns, name, &wanted).await,
                _ => return Err(missing()),
            };
            let mut state = self.state();
            if let Some(authorization) = state.authorizations.get_mut(id) {
                authorization.status = if seen.is_ok() { "valid" } else { "invalid" };
                authorization.error = seen.err();
            }
            let State { orders, authorizations, .. } = &mut *state;
            if let Some(order) = orders.get_mut(&known.order) {
                let statuses = || order.authorizations.iter().map(|id| authorizations[id].status);
                if statuses().any(|status| status == "invalid") {
                    order.status = "invalid";
                } else if statuses().all(|status| status == "valid") {
                    order.status = "ready";
                }
            }
        }
        let shown = self.authorization(call, id).ok_or_else(missing)?;
        let challenges = shown["challenges"].as_array().cloned().unwrap_or_default();
        // As most authorities do, it answers that it works on it; what it found is in the authorization.
        let mut challenge =
            challenges.into_iter().find(|challenge| challenge["type"] == kind).ok_or_else(missing)?;
        challenge.as_object_mut().map(|keys| keys.remove("error"));
        Ok((200, None, challenge))
    }

    fn finalize(&self, call: &Call<'_>, id: &str, payload: &Value) -> Result<Reply, Refusal> {
        let order = self.state().orders.get(id).cloned();
        let order = order.ok_or_else(|| (404, "malformed", "there is no such thing".to_owned()))?;
        if order.status != "ready" {
            return Err((403, "orderNotReady", order.status.to_owned()));
        }
        let wrong = |error: &dyn std::fmt::Display| bad("badCSR", error);
        let request = URL_SAFE_NO_PAD.decode(payload["csr"].as_str().unwrap_or_default());
        let request = request.map_err(|error| wrong(&error))?;
        let request = CertificateSigningRequestParams::from_der(&request.into());
        let mut request = request.map_err(|error| wrong(&error))?;
        let names = request.params.subject_alt_names.iter().map(|name| match name {
            SanType::DnsName(name) => name.to_string(),
            SanType::IpAddress(address) => address.to_string(),
            other => format!("{other:?}"),
        });
        let names: BTreeSet<String> = names.collect();
        let ordered = order.identifiers.as_array().into_iter().flatten();
        let ordered = ordered.map(|identifier| identifier["value"].as_str().unwrap_or_default().to_owned());
        if names != ordered.collect() {
            return Err(wrong(&format!("it is for {names:?}")));
        }
        let mut serial = [0; 16];
        SystemRandom::new().fill(&mut serial).expect("the system gives random numbers");
        // Positive, as RFC 5280, 4.1.2.2 wants it.
        serial[0] &= 0x7f;
        request.params.serial_number = Some(SerialNumber::from(serial.to_vec()));
        request.params.use_authority_key_identifier_extension = true;
        request.params.not_before = (SystemTime::now() - BACKDATED).into();
        request.params.not_after =
            (SystemTime::now() + Duration::from_secs(self.options.hours * 3_600)).into();
        let issued = request.signed_by(&self.issuer).map_err(|error| wrong(&error))?;
        let chain = issued.pem() + &self.issuer.pem();
        self.state().orders.insert(id.to_owned(), OrderState { status: "valid", chain, ..order });
        let shown = self.order(call, id).expect("it was made a moment ago");
        Ok((200, Some(call.url(&format!("order/{id}"))), shown))
    }

    fn order(&self, call: &Call<'_>, id: &str) -> Option<Value> {
        let order = self.state().orders.get(id).cloned()?;
        let authorizations = order.authorizations.iter().map(|id| call.url(&format!("authorization/{id}")));
        let mut shown = json!({
            "status": order.status, "identifiers": order.identifiers,
            "finalize": call.url(&format!("finalize/{id}")), "authorizations": authorizations.collect::<Vec<_>>(),
        });
        if !order.replaces.is_null() {
            shown["replaces"] = order.replaces;
        }
        if order.status == "valid" {
            shown["certificate"] = call.url(&format!("certificate/{id}")).into();
        }
        Some(shown)
    }

    fn authorization(&self, call: &Call<'_>, id: &str) -> Option<Value> {
        let state = self.state().authorizations.get(id).cloned()?;
        let kinds: &[&str] =
            if state.is_wildcard { &["dns-01"] } else { &["http-01", "tls-alpn-01", "dns-01"] };
        let challenges = kinds.iter().map(|kind| {
            let url = call.url(&format!("challenge/{id}/{kind}"));
            let mut challenge =
                json!({ "type": kind, "status": state.status, "url": url, "token": state.token });
            if let Some(error) = &state.error {
                challenge["error"] =
                    json!({ "type": "urn:ietf:params:acme:error:unauthorized", "detail": error });
            }
            challenge
        });
        let challenges: Vec<Value> = challenges.collect();
        let mut shown =
            json!({ "status": state.status, "identifier": state.identifier, "challenges": challenges });
        if state.is_wildcard {
            shown["wildcard"] = true.into();
        }
        Some(shown)
    }
}

/// Where a call came to.
struct Call<'c> {
    base: String,
    path: &'c str,
}

impl Call<'_> {
    fn url(&self, path: &str) -> String {
        format!("{}/{path}", self.base)
    }
}
