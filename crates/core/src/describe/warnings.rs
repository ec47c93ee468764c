//! What warnings say.

use super::{first_of, names};
use crate::config::document::{PAGE_VALUES, Protocol};
use crate::config::{ClientFate, WarningReason};

/// What a warning says, and what to do about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advice {
    /// What will happen, as a sentence.
    pub message: String,
    /// What to do about it.
    pub help: String,
}

/// A warning for people.
#[must_use]
pub fn warning(reason: &WarningReason) -> Advice {
    let (message, help) =
        of_document(reason).or_else(|| of_effects(reason)).unwrap_or_else(|| of_tries(reason));
    Advice { message, help }
}

type Said = Option<(String, String)>;

/// What becomes of clients.
fn fate(fate: &ClientFate) -> String {
    if fate.frontends.is_empty() {
        return "clients will be refused once a frontend uses it".to_owned();
    }
    let what = match fate.protocol {
        Some(Protocol::Http) => "gets 503",
        Some(Protocol::Tcp) => "is reset",
        Some(Protocol::Udp) => "loses its datagrams",
        None => "is refused",
    };
    format!("every client of {} {what}", names(&fate.frontends))
}

/// Those that follow from the document alone.
fn of_document(reason: &WarningReason) -> Said {
    Some(match reason {
        WarningReason::EmptyPool { pool, fate: clients } => (
            format!("pool {pool} has no servers: {}", fate(clients)),
            format!("add servers under [pools.{pool}.servers]"),
        ),
        WarningReason::NoWeight { pool, fate: clients } => (
            format!("every server of pool {pool} has weight 0: {}", fate(clients)),
            "give at least one server a weight of 1 or more".to_owned(),
        ),
        WarningReason::NeverUsable { min_eligible, servers } => (
            format!(
                "min_eligible is {min_eligible} and the pool has {servers} servers: a frontend with several pools never uses it"
            ),
            format!("a number from 1 to {servers}"),
        ),
        WarningReason::NoCheck { pool } => (
            format!("pool {pool} has no check: a server that fails keeps its share"),
            "name a check, such as check = \"answers\"".to_owned(),
        ),
        WarningReason::SlowTimeout { timeout, interval } => (
            format!("timeout {timeout} is not shorter than interval {interval}: a silent server is probed only every {timeout}"),
            "a timeout shorter than the interval".to_owned(),
        ),
        WarningReason::HashKeysWithoutEffect { pool, algorithm } => (
            format!("hash_keys of pool {pool} have no effect: its algorithm is {algorithm}"),
            "algorithm = \"hash\", or no hash_keys".to_owned(),
        ),
        WarningReason::FailbackWithoutEffect { pool } => (
            format!("failback of pool {pool} has no effect: all its servers are of one tier"),
            "a tier of 1 for the servers that stand by".to_owned(),
        ),
        WarningReason::ClientHelloWithoutEffect { frontend } => (
            format!("client_hello_timeout of frontend {frontend} has no effect: none of its pools goes by sni or first-bytes"),
            "hash_keys = [\"sni\"] on its pool, or no client_hello_timeout".to_owned(),
        ),
        WarningReason::NeverTied { frontends, kinds } => {
            let kinds: Vec<String> = kinds.iter().map(ToString::to_string).collect();
            let frontends = frontends.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            (
                format!("no client of {} carries {}: none is tied to a server", frontends, kinds.join(", ")),
                "use client-address for every protocol; sni for tcp; cookie, header:NAME, query:NAME or \
                 application-cookie:NAME for http"
                    .to_owned(),
            )
        }
        WarningReason::UnsharedPins { pool, group } => (
            format!("pins of pool {pool} hold in no other pool: none of pin_group {group} has a server of the same name"),
            "the same names for the same servers in each pool of the group, or no pin_group".to_owned(),
        ),
        WarningReason::NeverThere { frontends, keys, is_refused } => {
            let keys: Vec<String> = keys.iter().map(ToString::to_string).collect();
            let what = if *is_refused { "all of them are refused" } else { "they are distributed in turns" };
            (
                format!("clients of {} never have {}: {what}", names(frontends), keys.join(" or ")),
                "client-address for any frontend, sni for tcp, the others for http".to_owned(),
            )
        }
        WarningReason::UnverifiedServers { pool } => (
            format!(
                "the servers of pool {pool} are spoken to in TLS and not verified: whoever stands between can read and change everything"
            ),
            "tls = \"verified\", with tls_authorities when they are your own; or a tls_pin".to_owned(),
        ),
        WarningReason::LongHsts { frontend, age, subdomains } => (
            format!(
                "browsers that came to frontend {frontend} refuse plain text with its hosts{} for {age}, and a certificate that does not pass can't be \
                 clicked away; that can't be taken back sooner",
                if *subdomains { " and all names below them" } else { "" }
            ),
            "hsts_age = \"5m\" first, and longer when all that is served there works over TLS".to_owned(),
        ),
        WarningReason::UnknownPageValue { frontend, key, values } => (
            format!("{key} of frontend {frontend} has {}, which is no value of a page: clients get it as it is written", values.join(", ")),
            format!("{}, or other braces", PAGE_VALUES.join(", ")),
        ),
        WarningReason::RuleNeverMet { rule } => (
            format!("no request can meet rule {rule}: parts of its condition exclude each other"),
            "or in place of and, or two rules".to_owned(),
        ),
        WarningReason::UnusedRule { rule } => (
            format!("no frontend lists rule {rule}"),
            "list it in the rules of a frontend, or remove it".to_owned(),
        ),
        WarningReason::UnusedLimit { limit } => (
            format!("nothing lists limit {limit}"),
            "list it in the limits of a frontend or of a rule, or remove it".to_owned(),
        ),
        WarningReason::ShadowedRule { rule, by, frontend } => (
            format!("rule {rule} never decides at frontend {frontend}: every request that meets it meets rule {by} before"),
            format!("{rule} before {by} in the rules of the frontend, or remove it there"),
        ),
        WarningReason::OverlappingRules { first, rule, frontend } => (
            format!("some requests meet rule {first} and rule {rule} at frontend {frontend}; {first} comes first and decides"),
            format!("nothing, where that is meant, and an example that holds it; else {rule} before {first}"),
        ),
        WarningReason::UncoveredHost { frontend, hosts } => (
            format!(
                "no certificate of frontend {frontend} is for {}: clients that ask for it over TLS are warned, or refused",
                first_of(hosts.iter().cloned())
            ),
            "a certificate with the name among the certificates of the frontend, or no rule for it".to_owned(),
        ),
        WarningReason::RedirectCircle { rule, frontend } => (
            format!("rule {rule} redirects to a request that it redirects again at frontend {frontend}: clients go in a circle until they give up"),
            "another location, or a condition that the new request does not meet".to_owned(),
        ),
        WarningReason::UnusedPool { pool } => (
            format!("no frontend uses pool {pool}"),
            "name it in a frontend, or remove it".to_owned(),
        ),
        WarningReason::OneSenderOneServer { frontend } => (
            format!(
                "frontend {frontend} keeps each sender's address and port with one server: a machine that sends its logs or metrics \
                 from one port sends all of them to the same server, and few senders are not spread evenly"
            ),
            "right where servers respond; balance_per = \"datagram\" distributes each datagram where none does".to_owned(),
        ),
        WarningReason::EmptyDatagram { check } => (
            format!("check {check} sends an empty datagram with each probe: log collectors write it down as an empty line"),
            "send = a text that the servers discard, or a check of another kind (tcp, icmp, command)".to_owned(),
        ),
        WarningReason::Shared { pool, other, servers } => {
            let servers =
                servers.iter().map(|shared| format!("{} ({}, there {})", shared.address, shared.server, shared.other));
            (
                format!("pool {pool} shares servers with pool {other}: {}", first_of(servers)),
                "right when one program does both kinds of work; else correct the addresses".to_owned(),
            )
        }
        WarningReason::Circle { address, frontend } => (
            format!("{address} is where frontend {frontend} listens: requests would go in a circle"),
            "the address of the server itself".to_owned(),
        ),
        WarningReason::Chain { address, frontend } => (
            format!("{address} is where frontend {frontend} listens: work is distributed twice"),
            "right when that is intended; else the address of the server itself".to_owned(),
        ),
        _ => return None,
    })
}

/// Those that follow from the servers' states at this moment.
fn of_effects(reason: &WarningReason) -> Said {
    Some(match reason {
        WarningReason::NoServerLeft { frontend, protocol, pools } => {
            let clients = match protocol {
                Protocol::Http => "every client would get 503",
                Protocol::Tcp => "every connection would be reset",
                Protocol::Udp => "every datagram would be lost",
            };
            let pools: Vec<String> = pools
                .iter()
                .map(|pool| format!("{}: {} of {}", pool.pool, pool.eligible, pool.servers))
                .collect();
            (
                format!(
                    "frontend {frontend} would have no eligible server at this moment: {clients}, unless a pool sends work to servers \
                     that fail (eligible then: {})",
                    pools.join("; ")
                ),
                "leave one server that is up and in service, or return one first".to_owned(),
            )
        }
        WarningReason::PoolLost { frontend, pool, min_eligible } => (
            format!(
                "pool {} would become unusable ({} of {} servers eligible, min_eligible = {min_eligible}): the work of frontend \
                 {frontend} would go to its other pools",
                pool.pool, pool.eligible, pool.servers
            ),
            "repair its servers first, or lower min_eligible".to_owned(),
        ),
        WarningReason::DutyStands { server, duty, who, reason } => (
            format!("{server} is {duty} by {who}: {reason}; that holds for the new server as well"),
            "return it, and it is in service".to_owned(),
        ),
        _ => return None,
    })
}

/// Those that were found by trying.
fn of_tries(reason: &WarningReason) -> (String, String) {
    match reason {
        WarningReason::NotTried { servers, tried } => (
            format!("{servers} servers are new or changed; only the first {tried} were tried"),
            "look at the others after the change".to_owned(),
        ),
        WarningReason::NoSecret { problem } => (
            problem.clone(),
            "a file in the folder that --secrets-folder names, or a variable that begins with MERISMOS_SECRET_".to_owned(),
        ),
        WarningReason::BadCertificate { problem } => (
            problem.clone(),
            "a chain and its key, in PEM, that hold today; until then its frontends refuse the clients that it is for".to_owned(),
        ),
        WarningReason::NoTrust { pool, problem } => (
            format!("none of pool {pool}'s servers is reached: {problem}"),
            "tls_authorities = a file of certificates in PEM on the service's machine".to_owned(),
        ),
        WarningReason::NoClientTrust { problem } => (
            format!("the frontend refuses all its clients: {problem}"),
            "client_authorities = a file of certificates in PEM on the service's machine, client_revocations = one of lists".to_owned(),
        ),
        WarningReason::NoAnswer { server, evidence } => (
            format!("nothing answers for {server}: {evidence}"),
            "it gets no work until it passes; correct the address, the port, or the check".to_owned(),
        ),
        WarningReason::NoAnswerUnchecked { server, address, problem } => (
            format!("nothing answers for {server} at {address}: {problem}; without a check it gets its share all the same"),
            "start it, correct the address, or give the pool a check".to_owned(),
        ),
        WarningReason::CheckFails { server, evidence } => (
            format!("{server} answers, but does not pass its check: {evidence}"),
            "it gets no work until it passes; correct the address, the port, or the check".to_owned(),
        ),
        WarningReason::LookupFails { problem } => {
            (problem.clone(), "correct the name or its name server; the lookup is repeated".to_owned())
        }
        other => unreachable!("{other:?} is phrased above"),
    }
}
