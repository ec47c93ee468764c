//! One question to one server: where it goes, how long it may take, and what was seen on the way.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use merismos_core::config::document::{CertificateTrust, CheckKind, CheckSpec, PoolSpec, ProxyVersion};
use merismos_core::health::{CompletedStep, FailureCause, ProbeStep, ServerFeedback};
use merismos_core::units::humane;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio::time::Instant;

use crate::secret_ref::SecretCache;
use crate::{command, dns, grpc, http, icmp, sql, tcp, tls, udp};
use merismos_connector::connect::{ConnectError, connect_any_address};
use merismos_connector::proxy_header;

/// How much of an answer is shown.
const EXCERPT: usize = 80;

/// What the service's own settings allow probes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ProbeEnvironment {
    /// The folder whose programs may be run; none may when it is left out.
    pub command_folder: Option<PathBuf>,
    /// Where secrets may stand.
    pub secrets: SecretCache,
}

/// How connections to the servers of a pool begin, for traffic and for probes alike.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ProbeOpening {
    /// The PROXY protocol header that the servers want to see first.
    pub proxy_protocol: Option<ProxyVersion>,
    /// How their certificates are judged, where they speak TLS.
    pub tls: Option<CertificateTrust>,
}

impl ProbeOpening {
    /// As the pool's document says.
    #[must_use]
    pub fn of(pool: &PoolSpec) -> Self {
        Self { proxy_protocol: pool.proxy_protocol, tls: pool.reaching.tls.clone() }
    }
}

/// Why a probe did not pass.
#[derive(Debug)]
pub(super) struct ProbeFailure {
    pub(super) step: ProbeStep,
    pub(super) cause: Option<FailureCause>,
    /// What came back, in words.
    pub(super) got: String,
}

impl ProbeFailure {
    pub(super) fn at(step: ProbeStep, got: String) -> Self {
        Self { step, cause: None, got }
    }

    pub(super) fn refused(got: String) -> Self {
        Self { step: ProbeStep::Connect, cause: Some(FailureCause::Refused), got }
    }

    /// It could not be made.
    pub(super) fn not_made(got: String) -> Self {
        Self { step: ProbeStep::Connect, cause: Some(FailureCause::NotMade), got }
    }

    /// Nothing came back, or not all of it, in the time that there was.
    pub(super) fn silent(step: ProbeStep, got: String) -> Self {
        Self { step, cause: Some(FailureCause::Silent), got }
    }
}

/// What came of a question: what passed in words, or why it did not.
pub(super) type ProbeOutcome = Result<String, ProbeFailure>;

pub(super) struct ProbeRun<'a> {
    /// The server's own address.
    pub(super) address: SocketAddr,
    /// All of them, that one first.
    pub(super) addresses: Vec<SocketAddr>,
    pub(super) check: &'a CheckSpec,
    pub(super) opening: &'a ProbeOpening,
    pub(super) surroundings: &'a ProbeEnvironment,
    /// Where a connection is kept for the next probe, when its check keeps one.
    pub(super) kept: &'a http::KeptConnection,
}

/// The steps that were taken, and the one that is being taken.
pub(super) struct Trace {
    since: Instant,
    pub(super) taken: Vec<CompletedStep>,
    doing: (ProbeStep, String),
    /// The status of its response.
    pub(super) status: Option<u16>,
    /// What the server asked for.
    pub(super) feedback: Option<ServerFeedback>,
}

impl Trace {
    fn new() -> Self {
        Self {
            since: Instant::now(),
            taken: Vec::new(),
            doing: (ProbeStep::Connect, "nothing came back".to_owned()),
            status: None,
            feedback: None,
        }
    }

    /// A step begins; `without` says what it means when it never ends.
    pub(super) fn begin(&mut self, step: ProbeStep, without: impl Into<String>) {
        self.doing = (step, without.into());
    }

    /// A step is done.
    pub(super) fn done(&mut self, step: ProbeStep, got: impl Into<String>) {
        self.note(step, got.into());
    }

    fn note(&mut self, step: ProbeStep, got: String) {
        let now = Instant::now();
        let took_us = u64::try_from((now - self.since).as_micros()).unwrap_or(u64::MAX);
        self.since = now;
        self.taken.push(CompletedStep { step, took_us, observed: got });
    }
}

impl ProbeRun<'_> {
    /// Asks within the check's time.
    pub(super) async fn ask(&self) -> (String, ProbeOutcome, Trace) {
        let mut trace = Trace::new();
        let limit = self.check.timeout.get();
        let asked = tokio::time::timeout(limit, self.by_kind(&mut trace)).await;
        let asked = asked.unwrap_or_else(|_| {
            let (step, without) = trace.doing.clone();
            Err(ProbeFailure::silent(step, format!("{without} within {}", humane(limit))))
        });
        let (step, got) = match &asked {
            Ok(got) => (ProbeStep::Done, got.clone()),
            Err(failed) => (failed.step, failed.got.clone()),
        };
        trace.note(step, got);
        (self.tried(), asked, trace)
    }

    async fn by_kind(&self, trace: &mut Trace) -> ProbeOutcome {
        match &self.check.kind {
            CheckKind::Tcp(exchange) => tcp::ask(self, exchange, trace).await,
            CheckKind::Http(asked) => http::ask(self, asked, trace).await,
            CheckKind::Icmp => icmp::ask(self, trace).await,
            CheckKind::Udp(exchange) => udp::ask(self, exchange, trace).await,
            CheckKind::Dns(asked) => dns::ask(self, asked, trace).await,
            CheckKind::Tls(asked) => tls::ask(self, asked, trace).await,
            CheckKind::Sql(asked) => sql::ask(self, asked, trace).await,
            CheckKind::Grpc(asked) => grpc::ask(self, asked, trace).await,
            CheckKind::Command(asked) => command::ask(self, asked, trace).await,
        }
    }

    /// What is tried, in words.
    fn tried(&self) -> String {
        let address = self.address;
        match &self.check.kind {
            CheckKind::Tcp(_) => format!("connect to {address}"),
            CheckKind::Http(asked) => {
                let scheme = if self.is_tls(asked.tls.as_ref()) { "https" } else { "http" };
                format!("{} {scheme}://{address}{}", asked.method, asked.path)
            }
            CheckKind::Icmp => format!("echo of {}", address.ip()),
            CheckKind::Udp(_) => format!("datagram to {address}"),
            CheckKind::Dns(asked) => format!("ask {address} for {} {}", asked.name, asked.record),
            CheckKind::Tls(_) => format!("TLS with {address}"),
            CheckKind::Sql(asked) => format!("{} at {address}", asked.query),
            CheckKind::Grpc(asked) if asked.service.is_empty() => format!("gRPC health of {address}"),
            CheckKind::Grpc(asked) => format!("gRPC health of {} at {address}", asked.service),
            CheckKind::Command(asked) => format!("run {} for {address}", asked.program),
        }
    }

    /// A connection to where the check asks.
    pub(super) async fn connect(&self, trace: &mut Trace) -> Result<TcpStream, ProbeFailure> {
        trace.begin(
            ProbeStep::Connect,
            "no answer to the connection attempt (a filter drops it, or the host is away)",
        );
        let sources: Vec<_> = self.check.elsewhere.source_address.into_iter().collect();
        let opened = connect_any_address(&sources, &self.addresses).await;
        let (mut stream, address) = opened.map_err(|error| match error {
            ConnectError::Refused => ProbeFailure::refused(error.to_string()),
            ConnectError::Silent => ProbeFailure::silent(ProbeStep::Connect, error.to_string()),
            ConnectError::Exhausted => ProbeFailure::not_made(error.to_string()),
            _ => ProbeFailure::at(ProbeStep::Connect, error.to_string()),
        })?;
        if let Some(version) = self.opening.proxy_protocol {
            // A server that closes at once is noticed when it is asked.
            let _ = stream.write_all(&proxy_header::own_header(version)).await;
        }
        let got =
            if address == self.address { "connected".to_owned() } else { format!("connected to {address}") };
        trace.done(ProbeStep::Connect, got);
        Ok(stream)
    }

    /// Whether TLS is spoken: as the check itself says, else as the pool does.
    pub(super) fn is_tls(&self, own: Option<&CertificateTrust>) -> bool {
        own.or(self.opening.tls.as_ref()).is_some()
    }

    /// How long the whole of it may take.
    pub(super) fn limit(&self) -> Duration {
        self.check.timeout.get()
    }
}

/// The beginning of an answer, as text.
pub(super) fn excerpt(bytes: &[u8]) -> String {
    // Within double quotes a single one is plain.
    let shown = bytes[..bytes.len().min(EXCERPT)].escape_ascii().to_string().replace("\\'", "'");
    if bytes.len() > EXCERPT { format!("\"{shown}…\"") } else { format!("\"{shown}\"") }
}
