//! Why a server fails: a ladder of steps that ends where it breaks, held against a server that works, and what that
//! means in plain words.

use std::net::SocketAddr;

use merismos_api::{Diagnosis, DiagnosisStep, Finding};
use merismos_core::config::document::{CheckKind, CheckSpec, PoolSpec};
use merismos_core::config::listen_address::AddressSource;
use merismos_core::eligibility::ServerStates;
use merismos_core::health::{Evidence, FailureCause, HealthState, ProbeStep};
use merismos_core::name::PoolServer;
use merismos_core::units::humane;
use merismos_probe::route_lookup::{Neighbour, Route, way_to};
use merismos_probe::{ProbeEnvironment, ProbeOpening, probe};

use crate::controller::RunningView;

/// What is asked of a server whose pool has no check: whether its port is open.
fn open_port() -> CheckSpec {
    let document = serde_json::json!({ "format": 3, "checks": { "open": { "kind": "tcp" } } });
    let document = merismos_core::config::read_value(document).expect("a document of our own");
    document.checks.into_values().next().expect("the check that stands in it")
}

/// A server of the same pool that is up, to hold the other one against.
fn one_that_works(
    view: &RunningView,
    pool: &PoolSpec,
    id: &PoolServer,
) -> Option<(PoolServer, Vec<SocketAddr>)> {
    pool.servers.iter().find_map(|(name, server)| {
        let other = PoolServer { pool: id.pool.clone(), server: name.clone() };
        let works = other != *id && view.facts.health(&other) == HealthState::Up;
        works.then(|| (other, server.addresses().collect()))
    })
}

/// Climbs the ladder. The server has to be one of the document.
pub(crate) async fn diagnose(
    view: &RunningView,
    id: &PoolServer,
    surroundings: &ProbeEnvironment,
) -> Diagnosis {
    let document = view.effective.document();
    let pool = &document.pools[&id.pool];
    let server = &pool.servers[&id.server];
    let checks: Vec<CheckSpec> =
        pool.checks().filter_map(|name| document.checks.get(name)).cloned().collect();
    let checks = if checks.is_empty() { vec![open_port()] } else { checks };
    let other = one_that_works(view, pool, id);
    let opening = ProbeOpening::of(pool);
    let address = server.address.get();
    let addresses: Vec<_> = server.addresses().collect();
    let mut rungs = vec![named(server.address.written(), address)];
    let mut breaks = None;
    for check in &checks {
        let asked = check.elsewhere.of(address);
        if let Some(way) = no_way(asked, check, &mut rungs) {
            breaks = Some((check, way));
            break;
        }
        let there = async {
            match &other {
                Some((_, there)) => Some(probe(there, check, &opening, surroundings).await),
                None => None,
            }
        };
        let here = probe(&addresses, check, &opening, surroundings);
        let (here, there) = futures_util::future::join(here, there).await;
        rungs.extend(climbed(&here, there.as_ref()));
        if !here.passed() {
            let silent = here.step == ProbeStep::Connect && here.cause == Some(FailureCause::Silent);
            // The attempt has made the system ask for the neighbour: what it knows now is worth a look.
            let neighbour = way_to(asked, check.elsewhere.source_address);
            if silent && let Route::Route { neighbour: Some(Neighbour::Silent), .. } = neighbour {
                rungs.push(rung(
                    "the neighbour",
                    false,
                    "it does not answer on its network (ARP)".to_owned(),
                ));
                breaks = Some((check, BreakPoint::Neighbour));
            } else {
                breaks = Some((check, BreakPoint::Probe { here, there }));
            }
            break;
        }
    }
    let against = other.map(|(other, _)| other.to_string());
    let (says, causes, next) = match &breaks {
        None => all_is_well(view, id),
        Some((check, broken)) => in_words(check, check.elsewhere.of(address), broken),
    };
    Diagnosis {
        server: id.to_string(),
        address: address.to_string(),
        against,
        works: breaks.is_none(),
        finding: breaks.as_ref().map_or(Finding::Works, |(_, broken)| broken.finding()),
        rungs,
        message: says,
        causes,
        next,
    }
}

impl BreakPoint {
    /// What was found, as a value.
    fn finding(&self) -> Finding {
        match self {
            Self::Way(_) => Finding::NoRoute,
            Self::Neighbour => Finding::SilentNeighbour,
            Self::Probe { here, .. } => match (here.step, here.cause) {
                (ProbeStep::Connect, Some(FailureCause::Refused)) => Finding::ConnectionRefused,
                (ProbeStep::Connect, Some(FailureCause::Silent)) => Finding::NoConnection,
                (ProbeStep::Connect, _) => Finding::NotReached,
                (ProbeStep::Tls, _) => Finding::TlsFails,
                (ProbeStep::Answer, Some(FailureCause::Silent)) => Finding::NoResponse,
                (ProbeStep::Answer, _) => Finding::UnexpectedResponse,
                (ProbeStep::Status, _) => Finding::UnexpectedStatus,
                (ProbeStep::Body, _) => Finding::UnexpectedContent,
                (ProbeStep::Done, _) => Finding::Works,
            },
        }
    }
}

/// Where the ladder breaks.
enum BreakPoint {
    Way(String),
    Neighbour,
    Probe { here: Evidence, there: Option<Evidence> },
}

fn rung(what: &str, works: bool, got: String) -> DiagnosisStep {
    DiagnosisStep { what: what.to_owned(), step: None, works, observed: got, took_us: None, there: None }
}

fn named(written: &AddressSource, address: SocketAddr) -> DiagnosisStep {
    match written {
        AddressSource::Host(host) => rung("the name", true, format!("host {host} is {}", address.ip())),
        _ => rung("the name", true, format!("{address} stands in the document; nothing has to be looked up")),
    }
}

/// Adds the way to the rungs; what is wrong with it when there is none.
fn no_way(address: SocketAddr, check: &CheckSpec, rungs: &mut Vec<DiagnosisStep>) -> Option<BreakPoint> {
    match way_to(address, check.elsewhere.source_address) {
        Route::None(why) => {
            rungs.push(rung("the route", false, why.clone()));
            Some(BreakPoint::Way(why))
        }
        Route::Route { from, neighbour } => {
            let known = match neighbour {
                Some(Neighbour::Answers) => ", to a neighbour that has answered",
                Some(Neighbour::Silent) => ", to a neighbour that has not answered so far",
                None => "",
            };
            rungs.push(rung("the route", true, format!("from {from}{known}")));
            None
        }
    }
}

/// The steps of a probe as rungs, beside those of the server that works.
fn climbed(here: &Evidence, there: Option<&Evidence>) -> Vec<DiagnosisStep> {
    let steps = here.steps.iter().enumerate().map(|(number, taken)| {
        let is_last = number + 1 == here.steps.len();
        let same = |steps: &Evidence| {
            steps.steps.iter().find(|other| other.step == taken.step).map(|other| other.observed.clone())
        };
        DiagnosisStep {
            what: what(taken.step),
            step: Some(taken.step),
            works: !is_last || here.passed(),
            observed: taken.observed.clone(),
            took_us: Some(taken.took_us),
            there: there
                .and_then(|there| same(there).or_else(|| there.passed().then(|| there.observed.clone()))),
        }
    });
    steps.collect()
}

fn what(step: ProbeStep) -> String {
    match step {
        ProbeStep::Connect => "the port".to_owned(),
        ProbeStep::Tls => "TLS".to_owned(),
        ProbeStep::Answer => "the answer".to_owned(),
        ProbeStep::Status => "the status".to_owned(),
        ProbeStep::Body => "the content".to_owned(),
        ProbeStep::Done => "the verdict".to_owned(),
    }
}

type StepWords = (String, Vec<String>, Vec<String>);

fn texts(texts: &[&str]) -> Vec<String> {
    texts.iter().map(|text| (*text).to_owned()).collect()
}

fn all_is_well(view: &RunningView, id: &PoolServer) -> StepWords {
    let state = view.facts.health(id);
    let says = match state {
        HealthState::Up | HealthState::Unproven => format!("{id} works: every step passed."),
        HealthState::Suspect | HealthState::Down | HealthState::Recovering => {
            format!(
                "{id} works now: every step passed. It counts as {state} until enough probes in a row have passed."
            )
        }
    };
    (says, Vec::new(), Vec::new())
}

fn in_words(check: &CheckSpec, address: SocketAddr, broken: &BreakPoint) -> StepWords {
    match broken {
        BreakPoint::Way(why) => (
            format!("There is no way from this machine to {address}: {why}."),
            texts(&[
                "the route is missing, or its interface is down",
                "the source address is not this machine's",
            ]),
            texts(&["`ip route get` with this address, on this machine"]),
        ),
        BreakPoint::Neighbour => (
            format!(
                "{} is on this machine's network, and nothing there answers for that address.",
                address.ip()
            ),
            texts(&["the host is off or unplugged", "the address is wrong", "it is in another VLAN"]),
            texts(&["the host's console or its switch port", "the address in the document"]),
        ),
        BreakPoint::Probe { here, there } => of_probe(check, address, here, there.as_ref()),
    }
}

fn of_probe(check: &CheckSpec, address: SocketAddr, here: &Evidence, there: Option<&Evidence>) -> StepWords {
    let got = &here.observed;
    let works_there = there.is_some_and(Evidence::passed);
    let port = address.port();
    match here.step {
        ProbeStep::Connect if here.cause == Some(FailureCause::Refused) => (
            format!("The host of {address} answers, and nothing listens on port {port}."),
            vec![
                "the program is not running, or has just ended".to_owned(),
                format!(
                    "it listens on another port than {port}, or on another address of the host, such as loopback alone"
                ),
                "a filter refuses instead of dropping".to_owned(),
            ],
            vec![format!("on the host: `ss -ltnp 'sport = :{port}'`, and the program's own log")],
        ),
        ProbeStep::Connect if here.cause == Some(FailureCause::Silent) => (
            format!("Nothing comes back from {address}: neither a connection nor a refusal."),
            texts(&[
                "a filter drops it, on the way or on the host",
                "the host is off, or the address is wrong",
                "the way back to this machine is missing",
            ]),
            texts(&[
                "the filters between this machine and the host",
                "an echo: try a check of the kind icmp on it",
            ]),
        ),
        ProbeStep::Connect => (
            format!("{address} was not reached: {got}."),
            Vec::new(),
            texts(&["the text above says what is in the way"]),
        ),
        ProbeStep::Tls => (
            format!("{address} is reached, and TLS fails: {got}."),
            texts(&[
                "the certificate has ended, or is for another name than the one that is asked for",
                "its authority is not among those that are trusted (tls_authorities)",
                "the port speaks without TLS",
            ]),
            texts(&["the certificate that the server sends, and the check's tls_name"]),
        ),
        ProbeStep::Answer if here.cause == Some(FailureCause::Silent) => (
            format!(
                "{address} takes the connection and does not answer within {}.",
                humane(check.timeout.get())
            ),
            texts(&[
                "the program hangs, or waits for something behind it (a database, a disk)",
                "it is overloaded: it answers, but slower than the check's timeout",
                "the port belongs to something that speaks another protocol and waits to be spoken to",
            ]),
            vec![
                "try the same check with a longer timeout".to_owned(),
                "what the program waits for, in its log".to_owned(),
            ],
        ),
        ProbeStep::Answer => (
            format!(
                "{address} takes the connection, and what it says is not what {} expects: {got}.",
                check.kind.name()
            ),
            texts(&[
                "the port belongs to something else",
                "it speaks TLS and the check does not, or the other way round",
                "the login is wrong",
            ]),
            texts(&["which program has the port on the host", "the check's kind and keys"]),
        ),
        ProbeStep::Status => (
            format!("{address} answers, and says no: {got}."),
            of_status(check, here.status, works_there),
            texts(&["ask the same from the host itself, and read the program's log of that moment"]),
        ),
        ProbeStep::Body => (
            format!("{address} answers as it should, and what stands in the answer is not as wanted: {got}."),
            vec![
                if works_there {
                    "the program works and says itself that something is wrong: the server beside it passes"
                        .to_owned()
                } else {
                    "the check wants something that no server says".to_owned()
                },
                "another program or another version answers on this port".to_owned(),
            ],
            texts(&["the answer itself, as shown, against the check's keys"]),
        ),
        ProbeStep::Done => (format!("{address} passes."), Vec::new(), Vec::new()),
    }
}

fn of_status(check: &CheckSpec, status: Option<u16>, works_there: bool) -> Vec<String> {
    let mut causes = Vec::new();
    if let (CheckKind::Http(asked), Some(status)) = (&check.kind, status) {
        match status {
            404 if !works_there => {
                causes.push(format!("the check's path {} is wrong: no server knows it", asked.path));
            }
            404 => causes.push(format!(
                "this server does not know {}: another version, or a part that was not started",
                asked.path
            )),
            401 | 403 => causes.push("the path requires a log-in that the check does not have".to_owned()),
            301 | 302 | 307 | 308 => causes.push(
                "it redirects; a redirect is a response like others, and is followed only with the check's redirects"
                    .to_owned(),
            ),
            400 | 421 => causes
                .push("it expects another host name than the check asks for (the check's host)".to_owned()),
            500..=599 => causes.push(
                "the program works and reports an error itself, or what is behind it is unavailable".to_owned(),
            ),
            _ => {}
        }
    }
    if causes.is_empty() {
        causes.push("the server itself reports that it does not do its work".to_owned());
    }
    causes
}

#[cfg(test)]
mod tests {
    use merismos_core::config::{self, DocumentFormat};
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::unknown_everywhere(404, false, "the check's path /health is wrong")]
    #[case::unknown_here(404, true, "this server does not know /health")]
    #[case::log_in(403, true, "the path requires a log-in")]
    #[case::redirect(302, false, "it redirects")]
    #[case::another_host(421, true, "it expects another host name")]
    #[case::error(503, true, "reports an error itself")]
    #[case::any_other(204, true, "does not do its work")]
    fn a_status_has_a_likely_cause(#[case] status: u16, #[case] works_there: bool, #[case] cause: &str) {
        let text = "format = 3\n[checks.well]\nkind = \"http\"\npath = \"/health\"\n";
        let document = config::load(text, DocumentFormat::Toml).unwrap();
        let check = document.document().checks.values().next().unwrap();
        let causes = of_status(check, Some(status), works_there);
        assert!(causes[0].contains(cause), "{causes:?}");
    }
}
