//! What a trial was asked to do, checked, and the plan that follows.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;
use merismos_api::TrialRequest;
use merismos_connector::identity;
use merismos_core::config::document::{BalancePer, ClientCertificates, Protocol};
use merismos_core::name::{Name, PoolServer};
use merismos_core::proof::RequestResults;
use merismos_core::routing::Frontend;
use merismos_load::{LoadClients, LoadPlan, LoadTls, RequestSpec, can_send_from};
use merismos_plane::observer::MARK;
use rustls::sign::CertifiedKey;

use super::expected::{NoServerReason, client_address, routed};
use crate::controller::TrialTarget;

const MOST_SHOTS: u32 = 1_000_000;
const MOST_AT_ONCE: u32 = 256;
const MOST_CLIENTS: u32 = 1_000;
const LONGEST_WORDS: usize = 1_000;
/// The content of a datagram when none is given.
const USUAL_WORDS: &str = "merismos trial";

/// Why a trial can't be as it was asked for.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OrderError {
    #[error(
        "a trial sends 1 to {MOST_SHOTS} requests, 1 to {MOST_AT_ONCE} at the same time, by 1 to {MOST_CLIENTS} clients, of which 1 to 100 percent \
         are new"
    )]
    Counts,
    #[error("a path begins with a slash and holds no spaces, such as /ferry?day=3; found {0:?}")]
    Path(String),
    #[error("from is a network such as 127.0.9.0/24; found {0:?}")]
    From(String),
    #[error(
        "a trial's clients come from this machine, and {0} is none of its addresses: on loopback any of 127.0.0.0/8 will do"
    )]
    Elsewhere(IpAddr),
    #[error("frontend {frontend} listens on {address}, and no client comes there from {from}")]
    Family { frontend: Name, address: IpAddr, from: IpNet },
    #[error("say is for tcp and udp, and has 1 to {LONGEST_WORDS} bytes; frontend {0} takes {1}")]
    Say(Name, Protocol),
    #[error("one_way is for udp; frontend {0} takes {1}")]
    OneWay(Name, Protocol),
    #[error("path, keep_cookies, new_percent and server are for http; frontend {0} takes {1}")]
    OfHttp(Name, Protocol),
    #[error("no pool of frontend {frontend} has a server {server}")]
    Server { frontend: Name, server: String },
    #[error(
        "frontend {0} redirects every request to https at port {1}: try the frontend that speaks TLS there"
    )]
    Redirects(Name, u16),
    #[error("host is for frontends that speak HTTP or TLS, and {0} speaks neither")]
    NoTls(Name),
    #[error(
        "rule {rule} of frontend {frontend} decides about these requests ({does}), and no server gets them: another path or host, or `merismos rule try`"
    )]
    Rule { frontend: Name, rule: Name, does: &'static str },
    #[error(
        "frontend {0} is in maintenance, and these clients get 503: let them come from a network of maintenance_except (from), or end the maintenance"
    )]
    Maintenance(Name),
    #[error(
        "frontend {frontend} does not let {client} in (allow, deny): let the clients come from another network (from)"
    )]
    NotLetIn { frontend: Name, client: IpAddr },
    #[error(
        "frontend {frontend} listens on {address}, which this node does not have ({who}): a trial counts what its own node serves, so begin it there (--url)"
    )]
    Away { frontend: Name, address: IpAddr, who: String },
    #[error(
        "frontend {0} asks every client for a certificate: name one of the document that its authorities issued (certificate)"
    )]
    AsksForOne(Name),
    #[error("certificate is for frontends that ask clients for one (client_certificates), and {0} does not")]
    AsksForNone(Name),
    #[error("there is no certificate {0} that could be shown: `merismos certificate status` lists them")]
    Certificate(String),
    #[error(
        "host is a host's name or an IP address that clients ask frontend {frontend} for; found {host:?}"
    )]
    Host { frontend: Name, host: String },
}

impl OrderError {
    /// Whether it is what runs, and where, that the order does not go with.
    pub(crate) fn is_about_what_runs(&self) -> bool {
        match self {
            Self::Counts | Self::Path(_) | Self::From(_) => false,
            Self::Elsewhere(_)
            | Self::Family { .. }
            | Self::Say(..)
            | Self::OneWay(..)
            | Self::OfHttp(..)
            | Self::NoTls(_)
            | Self::Rule { .. }
            | Self::Maintenance(_)
            | Self::NotLetIn { .. }
            | Self::Redirects(..)
            | Self::Host { .. }
            | Self::Away { .. }
            | Self::AsksForOne(_)
            | Self::AsksForNone(_)
            | Self::Certificate(_)
            | Self::Server { .. } => true,
        }
    }
}

/// What can be known to be wrong before the frontend is looked at. Gives where the clients come from, if that was said.
pub(super) fn check(request: &TrialRequest) -> Result<Option<IpNet>, OrderError> {
    let counts_are_good = (1..=MOST_SHOTS).contains(&request.requests)
        && (1..=MOST_AT_ONCE).contains(&request.concurrency)
        && request.clients.is_none_or(|clients| (1..=MOST_CLIENTS).contains(&clients))
        && request.new_percent.is_none_or(|percent| (1..=100).contains(&percent))
        && request.per_second != Some(0);
    if !counts_are_good {
        return Err(OrderError::Counts);
    }
    if !request.path.starts_with('/') || !request.path.bytes().all(|byte| byte.is_ascii_graphic()) {
        return Err(OrderError::Path(request.path.clone()));
    }
    let Some(text) = &request.from else { return Ok(None) };
    let network = text.parse().or_else(|_| text.parse::<IpAddr>().map(IpNet::from));
    network.map(Some).map_err(|_| OrderError::From(text.clone()))
}

/// The server of the frontend's that gets all of it, if one is named.
pub(super) fn server(frontend: &Frontend, request: &TrialRequest) -> Result<Option<PoolServer>, OrderError> {
    let Some(wanted) = &request.server else { return Ok(None) };
    let mut known = frontend.pools().flat_map(|pool| &pool.servers).map(|server| &server.name);
    let found = known.find(|known| known.to_string() == *wanted).cloned();
    let unknown = || OrderError::Server { frontend: frontend.name.clone(), server: wanted.clone() };
    found.map(Some).ok_or_else(unknown)
}

/// What a trial sends to a frontend.
pub(super) fn sends(frontend: &Frontend, request: &TrialRequest) -> RequestResults {
    match (frontend.protocol, frontend.balance_per) {
        (Protocol::Http, _) => RequestResults::Requests,
        (Protocol::Tcp, _) => RequestResults::Connections,
        (Protocol::Udp, BalancePer::Datagram) => RequestResults::OneWay,
        (Protocol::Udp, _) if request.one_way => RequestResults::OneWay,
        (Protocol::Udp, _) => RequestResults::Datagrams,
    }
}

/// How clients speak to a frontend that speaks TLS.
fn tls(request: &TrialRequest, ground: &TrialTarget) -> Result<Option<LoadTls>, OrderError> {
    let (frontend, wanted) = (&ground.frontend.name, request.host.as_deref());
    match (&ground.tls_name, wanted) {
        _ if ground.tls_name.is_none() && request.certificate.is_some() => {
            Err(OrderError::AsksForNone(frontend.clone()))
        }
        (None, None) => Ok(None),
        (None, Some(_)) if ground.frontend.protocol == Protocol::Http => Ok(None),
        (None, Some(_)) => Err(OrderError::NoTls(frontend.clone())),
        (Some(usual), wanted) => {
            let name = wanted.unwrap_or(usual);
            let wrong = |_| OrderError::Host { frontend: frontend.clone(), host: name.to_owned() };
            let tls = LoadTls::new(name).map_err(wrong)?;
            Ok(Some(match certificate(request, ground)? {
                Some(key) => tls.showing(key),
                None => tls,
            }))
        }
    }
}

/// The certificate that clients show.
fn certificate(
    request: &TrialRequest,
    ground: &TrialTarget,
) -> Result<Option<Arc<CertifiedKey>>, OrderError> {
    let frontend = ground.frontend.name.clone();
    match (&request.certificate, ground.client_certificates) {
        (None, Some(ClientCertificates::Required)) => Err(OrderError::AsksForOne(frontend)),
        (None, Some(ClientCertificates::Optional) | None) => Ok(None),
        (Some(_), None) => Err(OrderError::AsksForNone(frontend)),
        (Some(name), Some(_)) => {
            let key = name.parse().ok().and_then(|name| identity::of(&name));
            key.map(Some).ok_or_else(|| OrderError::Certificate(name.clone()))
        }
    }
}

/// The plan of a trial on this ground.
pub(super) fn plan(request: &TrialRequest, ground: &TrialTarget) -> Result<LoadPlan, OrderError> {
    let TrialTarget { address, frontend, from, sightings, .. } = ground;
    let (name, protocol) = (frontend.name.clone(), frontend.protocol);
    if let Some(who) = ground.away.clone() {
        return Err(OrderError::Away { frontend: name, address: address.ip(), who });
    }
    if let Some(to) = frontend.redirect {
        return Err(OrderError::Redirects(name, to.port));
    }
    let said = request.say.as_deref();
    if said.is_some_and(|said| !(1..=LONGEST_WORDS).contains(&said.len()) || protocol == Protocol::Http) {
        return Err(OrderError::Say(name, protocol));
    }
    if protocol != Protocol::Udp && request.one_way {
        return Err(OrderError::OneWay(name, protocol));
    }
    let of_http = request.keep_cookies
        || request.new_percent.is_some()
        || request.server.is_some()
        || request.path != "/";
    if protocol != Protocol::Http && of_http {
        return Err(OrderError::OfHttp(name, protocol));
    }
    let at_once = request.concurrency.min(request.requests);
    let count = request.clients.unwrap_or(at_once);
    let addresses: Vec<IpAddr> = from.hosts().take(count as usize).collect();
    if from.addr().is_ipv4() != address.is_ipv4() {
        return Err(OrderError::Family { frontend: name, address: address.ip(), from: *from });
    }
    if let Some(strange) = addresses.iter().find(|address| !can_send_from(**address)) {
        return Err(OrderError::Elsewhere(*strange));
    }
    let (work, timeout) = match protocol {
        Protocol::Http => {
            let mark = Some((MARK, format!("{}-", sightings.number)));
            let host = request.host.clone();
            if let Some(host) = host.as_deref().filter(|host| !is_host(host)) {
                return Err(OrderError::Host { frontend: name, host: host.to_owned() });
            }
            (RequestSpec::Http { path: request.path.clone(), host, mark }, Duration::from_secs(60))
        }
        Protocol::Tcp => {
            (RequestSpec::Tcp { say: said.unwrap_or_default().as_bytes().to_vec() }, Duration::from_secs(10))
        }
        Protocol::Udp => {
            let say = said.unwrap_or(USUAL_WORDS).as_bytes().to_vec();
            let is_answered = sends(frontend, request) != RequestResults::OneWay;
            (RequestSpec::Udp { say, is_answered }, Duration::from_secs(2))
        }
    };
    let plan = LoadPlan {
        address: *address,
        tls: tls(request, ground)?,
        work,
        shots: u64::from(request.requests),
        // More at the same time than there are clients would be more clients.
        concurrency: at_once.min(count),
        per_second: request.per_second,
        timeout,
        clients: LoadClients {
            count,
            addresses,
            keep_cookies: request.keep_cookies,
            new_percent: request.new_percent.unwrap_or(0),
        },
    };
    for client in 0..plan.clients.count {
        let name = frontend.name.clone();
        let address = client_address(&plan, client);
        if frontend.access.as_ref().is_some_and(|access| !access.admits(address)) {
            return Err(OrderError::NotLetIn { frontend: name, client: address });
        }
        match routed(frontend, &plan, client_address(&plan, client)) {
            Ok(_) => {}
            Err(NoServerReason::Rule(rule, does)) => {
                return Err(OrderError::Rule { frontend: name, rule, does });
            }
            Err(NoServerReason::Maintenance) => return Err(OrderError::Maintenance(name)),
        }
    }
    Ok(plan)
}

/// Whether a text can stand in a `Host` field without a port.
fn is_host(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._[]:".contains(&byte))
}
