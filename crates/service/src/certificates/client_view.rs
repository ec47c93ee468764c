//! What clients of a frontend are shown: a handshake made from here, and each reason why they would warn.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use merismos_api::{ChainLink, HandshakeView};
use merismos_connector::trust;
use merismos_core::config::document::FrontendSpec;
use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_core::units::humane;
use merismos_probe::{ShownTls, shown_tls};
use rustls::client::verify_server_name;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;

use super::facts::{self, CertificateFacts};
use crate::clock::wall;

/// How long connecting and the handshake may take each.
const LIMIT: Duration = Duration::from_secs(3);
/// Asks a frontend for a host, as a client on this machine.
pub(super) async fn handshake(frontend: &Name, spec: &FrontendSpec, host: &str) -> HandshakeView {
    let address = from_here(spec.listen.get());
    let mut view = HandshakeView {
        frontend: frontend.to_string(),
        address: address.to_string(),
        version: None,
        cipher: None,
        protocol: None,
        certificate: None,
        chain: Vec::new(),
        reasons: Vec::new(),
    };
    if spec.certificates.is_empty() {
        view.reasons.push("it has no certificates: its clients speak plain text".to_owned());
        return view;
    }
    let Ok(name) = ServerName::try_from(host.to_owned()) else {
        view.reasons.push(format!("{host} is no name that a certificate could be for"));
        return view;
    };
    let protocols: &[&[u8]] = if spec.http.is_some() { &[b"h2", b"http/1.1"] } else { &[] };
    match shown_tls(address, name.clone(), protocols, LIMIT).await {
        Ok(shown) => {
            let ShownTls { version, cipher, protocol, chain } = shown;
            (view.version, view.cipher, view.protocol) = (Some(version), Some(cipher), protocol);
            view.reasons = reasons(&chain, &name, wall());
            view.chain = chain.iter().filter_map(link).collect();
        }
        Err(why) => view.reasons.push(why),
    }
    view
}

/// Where a frontend is reached from this machine.
pub(crate) fn from_here(listen: SocketAddr) -> SocketAddr {
    let ip = match listen.ip() {
        IpAddr::V4(ip) if ip.is_unspecified() => Ipv4Addr::LOCALHOST.into(),
        IpAddr::V6(ip) if ip.is_unspecified() => Ipv6Addr::LOCALHOST.into(),
        ip => ip,
    };
    SocketAddr::new(ip, listen.port())
}

fn link(certificate: &CertificateDer<'_>) -> Option<ChainLink> {
    let facts = facts::of_one(certificate).ok()?;
    Some(ChainLink {
        subject: facts.subject,
        issuer: facts.issuer,
        names: facts.names,
        not_before: facts.not_before,
        not_after: facts.not_after,
        key: facts.key,
        sha256: facts.sha256,
    })
}

/// Each reason why a client that asked for `name` and trusts whom this machine trusts would warn.
fn reasons(chain: &[CertificateDer<'_>], name: &ServerName<'_>, now: Wall) -> Vec<String> {
    let Some(own) = chain.first() else { return vec!["no certificate was sent".to_owned()] };
    let facts = match facts::of_one(own) {
        Ok(facts) => facts,
        Err(error) => return vec![error.to_string()],
    };
    let mut reasons = Vec::new();
    let is_for = ParsedCertificate::try_from(own).and_then(|parsed| verify_server_name(&parsed, name));
    if is_for.is_err() {
        let names = if facts.names.is_empty() { "no name".to_owned() } else { facts.names.join(", ") };
        reasons.push(format!("the certificate is for {names}, and not for {}", name.to_str()));
    }
    if facts.not_after < now {
        let since = humane(now.since(facts.not_after));
        reasons.push(format!("the certificate ended on {}, {since} ago", facts.not_after));
    } else if facts.not_before > now {
        reasons.push(format!("the certificate begins on {}", facts.not_before));
    }
    reasons.extend(who_vouches(chain, &facts, name, now));
    reasons
}

/// Why the authorities of this machine do not vouch for a chain, if they do not: at a time within its dates and for a name of its own, which
/// are judged beside it.
fn who_vouches(
    chain: &[CertificateDer<'_>],
    facts: &CertificateFacts,
    name: &ServerName<'_>,
    now: Wall,
) -> Option<String> {
    if facts.is_self_signed {
        return Some("the certificate was signed with its own key: nobody vouches for it".to_owned());
    }
    let own_name = facts.names.first().map(|name| name.replacen('*', "www", 1));
    let own_name = own_name.and_then(|name| ServerName::try_from(name).ok());
    let at = Wall(now.0.clamp(facts.not_before.0, facts.not_after.0));
    let seconds = u64::try_from(at.0 / 1_000).unwrap_or_default();
    let at = UnixTime::since_unix_epoch(Duration::from_secs(seconds));
    let why = trust::judge_chain(chain, own_name.as_ref().unwrap_or(name), at).err()?;
    let last = chain.last().and_then(|last| facts::of_one(last).ok());
    Some(match last {
        Some(last) if !last.is_self_signed => format!(
            "{why}: the chain of {} ends with one that {} made, whose own certificate is neither sent nor among this machine's authorities",
            chain.len(),
            last.issuer
        ),
        _ => format!("{why}: {} is not among this machine's authorities", facts.issuer),
    })
}
