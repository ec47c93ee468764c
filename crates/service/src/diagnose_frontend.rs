//! Why clients of a frontend do not get through: its name, address, port, handshake, answer and pools, as a client on this machine meets
//! them.

use std::net::{SocketAddr, UdpSocket};
use std::time::{Duration, Instant};

use merismos_api::{AddressStatus, AnnouncementStatus, DiagnosisStep, FrontendDiagnosis, HandshakeView};
use merismos_connector::connect::{ConnectError, connect};
use merismos_core::config::document::{CheckSpec, FrontendSpec, Protocol};
use merismos_core::name::Name;
use merismos_core::routing::Frontend;
use merismos_probe::{ProbeEnvironment, ProbeOpening, probe};

use crate::certificates::{CertificateKeeper, from_here};
use crate::controller::RunningView;

/// How long connecting may take.
const LIMIT: Duration = Duration::from_secs(3);
/// How long a name is looked up.
const LOOKUP_LIMIT: Duration = Duration::from_secs(2);

/// How a frontend's address comes to this machine when it is not its own alone.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct AddressWays<'a> {
    /// The object of addresses that one node at a time holds.
    pub(crate) held: Option<&'a AddressStatus>,
    /// The object of addresses that nodes announce to routers.
    pub(crate) announced: Option<&'a AnnouncementStatus>,
}

/// The steps so far, and what the first that failed means.
#[derive(Default)]
struct Ladder {
    steps: Vec<DiagnosisStep>,
    broken: Option<(String, Vec<String>)>,
}

impl Ladder {
    fn passed(&mut self, what: &str, observed: impl Into<String>, took: Option<Duration>) {
        self.add(what, true, observed.into(), took);
    }

    /// A step that failed, with what that means and what to look at.
    fn failed(&mut self, what: &str, observed: impl Into<String>, means: String, next: &[&str]) {
        self.add(what, false, observed.into(), None);
        let next = next.iter().map(|text| (*text).to_owned()).collect();
        self.broken.get_or_insert((means, next));
    }

    fn add(&mut self, what: &str, works: bool, observed: String, took: Option<Duration>) {
        let took_us = took.map(|took| u64::try_from(took.as_micros()).unwrap_or(u64::MAX));
        self.steps.push(DiagnosisStep {
            what: what.to_owned(),
            step: None,
            works,
            observed,
            took_us,
            there: None,
        });
    }
}

/// Climbs the ladder for a client that asks for `host`. `trouble` is what the status says of the frontend, which has to be one of the
/// document.
pub(crate) async fn diagnose_frontend(
    view: &RunningView,
    name: &Name,
    host: Option<&str>,
    certificates: &CertificateKeeper,
    trouble: Option<&str>,
    ways: AddressWays<'_>,
) -> FrontendDiagnosis {
    let document = view.effective.document();
    let spec = &document.frontends[name];
    let listen = spec.listen.get();
    let mut ladder = Ladder::default();
    if let Some(host) = host.filter(|host| host.parse::<std::net::IpAddr>().is_err()) {
        the_name(&mut ladder, host, listen).await;
    }
    match ways.held {
        Some(held) => the_holder(&mut ladder, listen, held),
        None => the_address(&mut ladder, listen),
    }
    if let Some(announced) = ways.announced {
        the_routes(&mut ladder, listen, announced);
    }
    let is_reached = the_port(&mut ladder, spec, trouble).await;
    let usual = certificates.usual_name(spec).filter(|_| !spec.certificates.is_empty());
    let asked = host.map(str::to_owned).or(usual).unwrap_or_else(|| listen.ip().to_string());
    let is_tls = !spec.certificates.is_empty();
    let mut may_ask = is_reached;
    if is_reached && is_tls {
        let handshake = certificates.handshakes(document, Some(name), &asked).await.pop();
        may_ask = handshake.is_some_and(|handshake| the_handshake(&mut ladder, &handshake));
    }
    if may_ask && spec.http.is_some() {
        the_answer(&mut ladder, spec, &asked, is_tls).await;
    }
    if let Some(frontend) = view.snapshot.frontend_named(name) {
        the_pools(&mut ladder, frontend);
    }
    let works = ladder.broken.is_none();
    let (message, next) = ladder.broken.unwrap_or_else(|| {
        let how = if is_tls { " over TLS, without a warning" } else { "" };
        (format!("A client on this machine gets through to frontend {name}{how}."), Vec::new())
    });
    FrontendDiagnosis {
        frontend: name.to_string(),
        address: listen.to_string(),
        host: asked,
        steps: ladder.steps,
        works,
        message,
        next,
    }
}

/// Where the name leads. An address of something in between (a router that translates, another balancer) is no fault of the frontend.
async fn the_name(ladder: &mut Ladder, host: &str, listen: SocketAddr) {
    let began = Instant::now();
    let found = tokio::time::timeout(LOOKUP_LIMIT, tokio::net::lookup_host((host, listen.port()))).await;
    let found: Vec<SocketAddr> = match found {
        Ok(Ok(found)) => found.collect(),
        Ok(Err(_)) | Err(_) => Vec::new(),
    };
    if found.is_empty() {
        ladder.failed(
            "the name",
            format!("{host} leads nowhere, as this machine's resolver says"),
            format!("Clients can't find {host}: no address stands for it."),
            &["the zone of the name, and whether clients ask another resolver than this machine"],
        );
        return;
    }
    let mut to: Vec<String> = found.iter().map(|address| address.ip().to_string()).collect();
    to.dedup();
    let is_here = listen.ip().is_unspecified() || found.iter().any(|address| address.ip() == listen.ip());
    let elsewhere = if is_here {
        String::new()
    } else {
        format!(
            ", and the frontend listens on {}: right where something in between hands clients on",
            listen.ip()
        )
    };
    ladder.passed("the name", format!("{host} leads to {}{elsewhere}", to.join(", ")), Some(began.elapsed()));
}

fn the_address(ladder: &mut Ladder, listen: SocketAddr) {
    let ip = listen.ip();
    if ip.is_unspecified() {
        ladder.passed("the address", "every address of this machine", None);
    } else if UdpSocket::bind((ip, 0)).is_ok() {
        ladder.passed("the address", format!("this machine has {ip}"), None);
    } else {
        ladder.failed(
            "the address",
            format!("no interface of this machine has {ip}"),
            format!("Clients that go to {ip} do not come to this machine: none of its interfaces has that address."),
            &["`ip address` on this machine", "listen of the frontend"],
        );
    }
}

/// Which node holds an address that moves between nodes. A client comes to that one, also from this machine.
fn the_holder(ladder: &mut Ladder, listen: SocketAddr, held: &AddressStatus) {
    let (ip, object) = (listen.ip(), &held.name);
    let next = format!("`merismos address status {object}`");
    match held.holders.as_slice() {
        [] => ladder.failed(
            "the holder",
            format!("no node holds {ip} (address {object})"),
            format!("Clients that go to {ip} reach no machine: none of the nodes that may hold it does."),
            &[&next],
        ),
        [only] => {
            let is_here = held.nodes.iter().any(|node| node.is_here && node.node == *only);
            let has_it = UdpSocket::bind((ip, 0)).is_ok();
            match (is_here, has_it) {
                (true, false) => ladder.failed(
                    "the holder",
                    format!(
                        "this node holds {ip} (address {object}), and {} does not have it",
                        held.interface
                    ),
                    format!("Another hand took {ip} off {}; it is put back within a second.", held.interface),
                    &[&next],
                ),
                (true, true) => {
                    ladder.passed("the holder", format!("this node holds {ip} (address {object})"), None);
                }
                (false, _) => {
                    let says = format!(
                        "node {only} holds {ip} (address {object}): clients go there, and so does what follows"
                    );
                    ladder.passed("the holder", says, None);
                }
            }
        }
        several => ladder.failed(
            "the holder",
            format!("{} hold {ip} at once (address {object})", several.join(" and ")),
            format!(
                "Clients that go to {ip} reach one of several nodes by chance: those do not hear each other."
            ),
            &[&next, "whether the link carries advertisements (IP protocol 112) between the nodes"],
        ),
    }
}

/// Whether routers lead to an address that nodes announce.
fn the_routes(ladder: &mut Ladder, listen: SocketAddr, announced: &AnnouncementStatus) {
    let (ip, object) = (listen.ip().to_string(), &announced.name);
    let mut here = "this node does not announce it".to_owned();
    let (mut is_here, mut others) = (false, Vec::new());
    for node in announced.nodes.iter().filter(|node| node.is_alive) {
        let Some(route) = node.routes.iter().find(|route| route.address == ip) else { continue };
        match (node.is_here, route.routers) {
            (true, 0) => {
                let sessions = node.sessions.iter().find_map(|session| session.trouble.clone());
                let why = route.withheld.map(|why| why.in_words().to_owned()).or(sessions);
                here = format!(
                    "this node does not announce it: {}",
                    why.as_deref().unwrap_or("no session is established yet")
                );
            }
            (true, count) => {
                is_here = true;
                here = format!("this node announces it to {count} of {} routers", route.of_routers);
            }
            (false, 0) => {}
            (false, _) => others.push(node.node.as_str()),
        }
    }
    let elsewhere = match (others.as_slice(), is_here) {
        ([], _) => ", and no other node does".to_owned(),
        (others, true) => format!(", as {} does", others.join(", ")),
        (others, false) => format!("; {} does", others.join(", ")),
    };
    let says = format!("{here}{elsewhere}");
    if is_here || !others.is_empty() {
        ladder.passed("the route", says, None);
        return;
    }
    ladder.failed(
        "the route",
        says,
        format!("Routers know no way to {ip}: clients behind them reach no node. On this machine itself it may work all the same."),
        &[&format!("`merismos announcement status {object}`")],
    );
}

/// Whether the frontend is reached; of datagrams, whether it listens.
async fn the_port(ladder: &mut Ladder, spec: &FrontendSpec, trouble: Option<&str>) -> bool {
    let address = from_here(spec.listen.get());
    let not_listening = trouble.filter(|trouble| trouble.starts_with("does not listen"));
    if let Some(trouble) = not_listening {
        let means = format!("Nothing of this service listens on {address}: it {trouble}.");
        ladder.failed(
            "the port",
            trouble,
            means,
            &["`ss -lntup` on this machine: which program has the port"],
        );
        return false;
    }
    if spec.protocol == Protocol::Udp {
        ladder.passed("the port", "it listens; a datagram alone is not answered", None);
        return false;
    }
    let began = Instant::now();
    match connect(&[address], LIMIT).await {
        Ok(_) => {
            ladder.passed("the port", "connected", Some(began.elapsed()));
            true
        }
        Err(error) => {
            let means = match error {
                ConnectError::Refused => format!("Nothing listens on {address}."),
                ConnectError::Silent => {
                    format!("A filter on this machine drops connections to {address}, or no more are taken.")
                }
                _ => format!("{address} is not reached from this machine."),
            };
            ladder.failed(
                "the port",
                error.to_string(),
                means,
                &["`ss -lntp` and the filters of this machine"],
            );
            false
        }
    }
}

/// Whether there is a handshake over which something can be asked.
fn the_handshake(ladder: &mut Ladder, handshake: &HandshakeView) -> bool {
    let HandshakeView { version, cipher, protocol, certificate, chain, reasons, .. } = handshake;
    let first = reasons.first().cloned().unwrap_or_default();
    let Some(own) = chain.first() else {
        let means = format!("Clients do not come through the handshake: {first}.");
        ladder.failed(
            "the handshake",
            first,
            means,
            &["`merismos certificate status`", "certificates of the frontend"],
        );
        return false;
    };
    let agreed: Vec<&str> = [version, cipher, protocol].into_iter().flatten().map(String::as_str).collect();
    ladder.passed("the handshake", agreed.join(", "), None);
    if reasons.is_empty() {
        let name = certificate.as_deref().unwrap_or("unknown");
        let until = &own.not_after.to_string()[..10];
        ladder.passed(
            "the certificate",
            format!("{name}, for {}, until {until}", own.names.join(", ")),
            None,
        );
    } else {
        let means = format!(
            "Clients warn, or refuse: {first}. That is so for those who trust whom this machine trusts."
        );
        ladder.failed(
            "the certificate",
            reasons.join("; "),
            means,
            &["`merismos certificate try` with this host"],
        );
    }
    true
}

/// What is asked of a frontend: any status is an answer.
fn question(host: &str, is_tls: bool) -> CheckSpec {
    let mut keys = serde_json::json!({
        "kind": "http", "host": host, "accept": ["100-599"], "timeout": "5s", "interval": "10s"
    });
    if is_tls {
        keys["tls"] = "unverified".into();
    }
    let document = serde_json::json!({ "format": 3, "checks": { "asked": keys } });
    let document = merismos_core::config::read_value(document).expect("a document of our own");
    document.checks.into_values().next().expect("the check that stands in it")
}

async fn the_answer(ladder: &mut Ladder, spec: &FrontendSpec, host: &str, is_tls: bool) {
    let check = question(host, is_tls);
    let address = from_here(spec.listen.get());
    let asked = probe(&[address], &check, &ProbeOpening::default(), &ProbeEnvironment::default()).await;
    let redirects = spec.http.as_ref().and_then(|http| http.redirect_to_https);
    match (asked.status, redirects) {
        (Some(status @ 500..), _) => ladder.failed(
            "the answer",
            format!("status {status} for /"),
            format!("The frontend is reached, and answers {status} for /."),
            &["the pools below", "`merismos explain` with the client's path"],
        ),
        (Some(status), Some(port)) => {
            ladder.passed("the answer", format!("status {status}: redirected to https at port {port}"), None);
        }
        (Some(status), None) => ladder.passed("the answer", format!("status {status} for /"), None),
        (None, _) => ladder.failed(
            "the answer",
            asked.observed.clone(),
            format!("The frontend is reached, and does not answer: {}.", asked.observed),
            &["whether its clients have to begin with a PROXY protocol header (trusted, proxy_protocol)"],
        ),
    }
}

fn the_pools(ladder: &mut Ladder, frontend: &Frontend) {
    if frontend.redirect.is_some() {
        ladder.passed("the pools", "they are not asked: every request is redirected", None);
        return;
    }
    let counts: Vec<String> = frontend
        .all_pools()
        .map(|pool| format!("{}: {} of {} servers eligible", pool.name, pool.eligible(), pool.servers.len()))
        .collect();
    let observed = counts.join("; ");
    if frontend.pools().any(|pool| pool.eligible() > 0) {
        ladder.passed("the pools", observed, None);
        return;
    }
    let first = frontend.pools().flat_map(|pool| &pool.servers).next();
    let next = first.map(|server| format!("`merismos diagnose {}`", server.name)).unwrap_or_default();
    ladder.failed("the pools", observed, "No server can have the work of its clients.".to_owned(), &[&next]);
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::every("0.0.0.0:80", None)]
    #[case::this_machine("127.0.0.1:80", None)]
    #[case::another_machine("192.0.2.9:80", Some("Clients that go to 192.0.2.9 do not come to this machine"))]
    fn an_address_that_no_interface_has_is_told(#[case] listen: SocketAddr, #[case] means: Option<&str>) {
        let mut ladder = Ladder::default();
        the_address(&mut ladder, listen);
        let said = ladder.broken.map(|(message, _)| message);
        assert_eq!(said.is_some(), means.is_some());
        assert!(said.unwrap_or_default().starts_with(means.unwrap_or_default()));
    }
}
