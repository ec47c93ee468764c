//! Relations between the objects of a document, and the proof that they hold.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use crate::config::Problem;
use crate::config::analyse::announcements::announcements;
use crate::config::analyse::service_addresses::service_addresses;
use crate::config::discovery::{DiscoveredServers, discovered_name};
use crate::config::document::{
    AuthoritySpec, ChallengeKind, Document, FrontendSpec, HttpVersion, PoolSpec, Protocol, ServerSpec,
    TlsNameOf, TlsPolicy,
};
use crate::config::listen_address::AddressSource;
use crate::config::tree::DocumentNode;
use crate::config::warnings::{Warning, warnings};
use crate::name::{Name, nearest};

/// A document that was checked whole. Only [`crate::config::load`] and [`check`] make one, so its holder may deploy it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checked {
    document: Arc<Document>,
    warnings: Vec<Warning>,
}

impl Checked {
    /// The document of a service that is not configured yet.
    #[must_use]
    pub fn empty() -> Self {
        Self { document: Arc::default(), warnings: Vec::new() }
    }

    /// The document, to be kept without copying it.
    #[must_use]
    pub fn shared(&self) -> Arc<Document> {
        Arc::clone(&self.document)
    }

    /// The document that was checked, with defaults in place.
    #[must_use]
    pub fn document(&self) -> &Document {
        &self.document
    }

    /// What is allowed and probably not wanted.
    #[must_use]
    pub fn warnings(&self) -> &[Warning] {
        &self.warnings
    }

    /// The document with the servers that lookups found beside those that stand in it. An address that a pool has
    /// already is left out. Gives the document itself when nothing was found.
    #[must_use]
    pub fn with_found(&self, found: &DiscoveredServers) -> Self {
        let mut document = Arc::clone(&self.document);
        for ((pool, lookup), servers) in found {
            let has_lookup = |pool: &PoolSpec| pool.lookups.contains_key(lookup);
            if servers.is_empty() || !document.pools.get(pool).is_some_and(has_lookup) {
                continue;
            }
            let Some(pool) = Arc::make_mut(&mut document).pools.get_mut(pool) else { continue };
            let mut taken: BTreeSet<SocketAddr> =
                pool.servers.values().flat_map(ServerSpec::addresses).collect();
            for server in servers {
                let Some(name) = discovered_name(lookup, server.address) else { continue };
                if taken.insert(server.address) && !pool.servers.contains_key(&name) {
                    let mut made = ServerSpec::at(server.address, server.weight, server.tier);
                    let others = server.others.iter().filter(|other| taken.insert(**other));
                    made.other_addresses = others.copied().collect();
                    pool.servers.insert(name, ServerSpec { found_by: Some(lookup.clone()), ..made });
                }
            }
        }
        Self { document, warnings: self.warnings.clone() }
    }

    pub(in crate::config) fn with_lines(mut self, tree: &DocumentNode) -> Self {
        for warning in &mut self.warnings {
            warning.line = tree.line_of(&warning.path);
        }
        self
    }
}

/// Checks the relations between the objects of a document.
///
/// # Errors
/// Every relation that does not hold.
pub fn check(mut document: Document) -> Result<Checked, Vec<Problem>> {
    let mut problems = Vec::new();
    settle_servers(&mut document, &mut problems);
    settle_frontends(&mut document, &mut problems);
    ranges(&document, &mut problems);
    references(&document, &mut problems);
    frontends_overlap(&document, &mut problems);
    trust(&document, &mut problems);
    introductions(&document, &mut problems);
    server_tls(&document, &mut problems);
    plain_to_tls(&document, &mut problems);
    pin_groups(&document, &mut problems);
    super::rules::references(&document, &mut problems);
    super::limits::references(&document, &mut problems);
    if problems.is_empty() {
        super::rules::examples(&document, &mut problems);
    }
    for (name, pool) in &document.pools {
        repeated_addresses(name, pool, &mut problems);
        long_lookups(name, pool, &mut problems);
    }
    if problems.is_empty() {
        let warnings = warnings(&document);
        Ok(Checked { document: Arc::new(document), warnings })
    } else {
        Err(problems)
    }
}

pub(super) fn one_of<'n>(kind: &str, found: &Name, names: impl Iterator<Item = &'n Name>) -> String {
    let names: Vec<_> = nearest(found.as_str(), names).into_iter().map(Name::as_str).collect();
    if names.is_empty() {
        format!("a {kind} of that name under [{kind}s]")
    } else {
        format!("one of {}", names.join(", "))
    }
}

/// Gives servers that name a host the host's address.
fn settle_servers(document: &mut Document, problems: &mut Vec<Problem>) {
    let Document { hosts, pools, .. } = document;
    for (pool, spec) in pools {
        for (server, server_spec) in &mut spec.servers {
            let AddressSource::Host(host) = server_spec.address.written() else { continue };
            match hosts.get(host) {
                Some(known) => server_spec.address.settle(known.address),
                None => problems.push(Problem::dangling(
                    &format!("pools.{pool}.servers.{server}.address"),
                    "host",
                    host,
                    one_of("host", host, hosts.keys()),
                )),
            }
        }
    }
}

/// Gives frontends that name a reserved address that address.
fn settle_frontends(document: &mut Document, problems: &mut Vec<Problem>) {
    let Document { ranges, frontends, .. } = document;
    for (frontend, frontend_spec) in frontends {
        let AddressSource::Taken { range, name } = frontend_spec.listen.written() else { continue };
        let path = format!("frontends.{frontend}.listen");
        match ranges.get(range).map(|known| (known, known.reserved.get(name))) {
            Some((_, Some(address))) => frontend_spec.listen.settle(*address),
            Some((known, None)) => {
                let free = known
                    .addresses
                    .iter()
                    .find(|address| !known.reserved.values().any(|taken| taken == address));
                let wanted = match free {
                    Some(free) => format!(
                        "an address that was taken; {free} is free: reserved.{name} = \"{free}\" in [ranges.{range}]"
                    ),
                    None => "an address that was taken; none is free in this range".to_owned(),
                };
                let found = format!("no address of range {range} was taken under the name {name}");
                let missing = Some(format!("ranges.{range}.reserved.{name}"));
                problems.push(Problem { missing, ..Problem::at(&path, found, wanted) });
            }
            None => {
                problems.push(Problem::dangling(&path, "range", range, one_of("range", range, ranges.keys())))
            }
        }
    }
}

fn ranges(document: &Document, problems: &mut Vec<Problem>) {
    for (name, range) in &document.ranges {
        let mut seen = BTreeMap::new();
        for (taken, address) in &range.reserved {
            let path = format!("ranges.{name}.reserved.{taken}");
            if !range.addresses.holds(*address) {
                let found = format!("{address} does not lie in {}", range.addresses);
                problems.push(Problem::at(&path, found, format!("an address of range {name}")));
            }
            if let Some(first) = seen.insert(address, taken) {
                let found = format!("{address} is taken already, as {name}/{first}");
                problems.push(Problem::at(&path, found, "each address once"));
            }
        }
    }
}

fn references(document: &Document, problems: &mut Vec<Problem>) {
    for (name, frontend) in &document.frontends {
        let more = &frontend.more;
        let named = std::iter::once(("pool", &frontend.pool))
            .chain(more.next_pools.iter().map(|pool| ("next_pools", pool)))
            .chain(more.last_resort.iter().map(|pool| ("last_resort", pool)));
        for (key, pool) in named.clone().filter(|(_, pool)| !document.pools.contains_key(*pool)) {
            let wanted = one_of("pool", pool, document.pools.keys());
            problems.push(Problem::dangling(&format!("frontends.{name}.{key}"), "pool", pool, wanted));
        }
        let mut seen = BTreeSet::new();
        for (key, pool) in named.filter(|(_, pool)| !seen.insert(*pool)) {
            let found = format!("pool {pool} is named twice");
            problems.push(Problem::at(&format!("frontends.{name}.{key}"), found, "each pool once"));
        }
        pool_tables(name, frontend, document, problems);
        passthrough(name, frontend, document, problems);
        let is_modern = frontend.tls_policy == Some(TlsPolicy::Modern);
        let ciphers = &frontend.tls_ciphers;
        if is_modern && !ciphers.is_empty() && !ciphers.iter().any(|cipher| cipher.is_of_tls_13()) {
            let found = "none of them is one of TLS 1.3, and tls_policy modern speaks no other version";
            let path = format!("frontends.{name}.tls_ciphers");
            problems.push(Problem::at(
                &path,
                found.to_owned(),
                "TLS_AES_128_GCM_SHA256 or the like among them",
            ));
        }
        let certificates = frontend.certificates.iter();
        for certificate in certificates.filter(|name| !document.certificates.contains_key(*name)) {
            let wanted = one_of("certificate", certificate, document.certificates.keys());
            let path = format!("frontends.{name}.certificates");
            problems.push(Problem::dangling(&path, "certificate", certificate, wanted));
        }
    }
    let of_pools = document.pools.iter().filter_map(|(name, pool)| {
        Some((format!("pools.{name}"), pool.reaching.tls.as_ref()?.certificate.as_ref()?))
    });
    let of_checks = document.checks.iter().filter_map(|(name, check)| {
        Some((format!("checks.{name}"), check.kind.trust()?.certificate.as_ref()?))
    });
    let shown = of_pools.chain(of_checks);
    for (path, certificate) in shown.filter(|(_, name)| !document.certificates.contains_key(*name)) {
        let wanted = one_of("certificate", certificate, document.certificates.keys());
        let path = format!("{path}.tls_certificate");
        problems.push(Problem::dangling(&path, "certificate", certificate, wanted));
    }
    for (name, certificate) in &document.certificates {
        let authority = certificate.authority.as_ref();
        if let Some(authority) = authority.filter(|name| !document.authorities.contains_key(*name)) {
            let wanted = one_of("authority", authority, document.authorities.keys());
            let path = format!("certificates.{name}.authority");
            problems.push(Problem::dangling(&path, "authority", authority, wanted));
        }
    }
    service_addresses(document, problems);
    announcements(document, problems);
    challenges(document, problems);
    client_certificates(document, problems);
    for (name, message) in &document.notifications {
        for pool in message.pools.iter().filter(|pool| !document.pools.contains_key(*pool)) {
            let wanted = one_of("pool", pool, document.pools.keys());
            problems.push(Problem::dangling(&format!("notifications.{name}.pools"), "pool", pool, wanted));
        }
    }
    for (name, pool) in &document.pools {
        let keys = pool
            .check
            .iter()
            .map(|name| ("check", name))
            .chain(pool.more_checks.iter().map(|name| ("more_checks", name)));
        for (key, check) in keys.filter(|(_, check)| !document.checks.contains_key(check)) {
            let wanted = one_of("check", check, document.checks.keys());
            problems.push(Problem::dangling(&format!("pools.{name}.{key}"), "check", check, wanted));
        }
        if pool.check.is_none() && !pool.more_checks.is_empty() {
            let found = "there are more checks, and none that sets their pace".to_owned();
            problems.push(Problem::at(
                &format!("pools.{name}.check"),
                found,
                "check = the name of the first".to_owned(),
            ));
        }
    }
}

/// Weights and networks of pools belong to pools of the frontend, and networks to lists that there are.
fn pool_tables(name: &Name, frontend: &FrontendSpec, document: &Document, problems: &mut Vec<Problem>) {
    let more = &frontend.more;
    let pools: BTreeSet<&Name> = frontend.chosen_pools().collect();
    let weights = more.pool_weights.keys().map(|pool| ("pool_weights", pool));
    let networks = more.pool_networks.keys().map(|pool| ("pool_networks", pool));
    for (table, pool) in weights.chain(networks).filter(|(_, pool)| !pools.contains(pool)) {
        let found = format!("{pool} is no pool of this frontend");
        let wanted = one_of("pool", pool, pools.iter().copied());
        problems.push(Problem::at(&format!("frontends.{name}.{table}.{pool}"), found, wanted));
    }
    for (pool, lists) in &more.pool_networks {
        for list in lists.iter().filter(|list| !document.networks.contains_key(*list)) {
            let wanted = one_of("network", list, document.networks.keys());
            problems.push(Problem::dangling(
                &format!("frontends.{name}.pool_networks.{pool}"),
                "list of networks",
                list,
                wanted,
            ));
        }
        for list in lists.iter().filter(|list| {
            document.networks.get(*list).is_some_and(|networks| networks.len() > MOST_OF_A_POOL)
        }) {
            let found = format!(
                "list {list} holds more than {MOST_OF_A_POOL} networks, and each request would be compared with all"
            );
            let wanted = "a shorter list; allow, deny and rules may name longer ones";
            problems.push(Problem::at(&format!("frontends.{name}.pool_networks.{pool}"), found, wanted));
        }
    }
}

/// How many networks a list may hold by which a frontend chooses pools.
const MOST_OF_A_POOL: usize = 1_000;

/// TLS that is passed on comes from clients who speak it, goes to one pool, and is not spoken twice.
fn passthrough(name: &Name, frontend: &FrontendSpec, document: &Document, problems: &mut Vec<Problem>) {
    let mut known: BTreeMap<String, &Name> = BTreeMap::new();
    for (pool, names) in &frontend.passthrough {
        let path = format!("frontends.{name}.passthrough.{pool}");
        if frontend.protocol == Protocol::Http && frontend.certificates.is_empty() {
            let found = "its clients speak plain text, and name no server before they ask".to_owned();
            let wanted = "certificates of the frontend for those whose TLS ends here, or protocol = \"tcp\"";
            problems.push(Problem::at(&path, found, wanted));
        }
        for asked in names {
            if let Some(first) = known.insert(asked.to_ascii_lowercase(), pool)
                && first != pool
            {
                let found = format!("{asked} is passed on to pool {first} already");
                problems.push(Problem::at(&path, found, "each name for one pool"));
            }
        }
        let Some(spec) = document.pools.get(pool) else {
            let wanted = one_of("pool", pool, document.pools.keys());
            problems.push(Problem::dangling(&path, "pool", pool, wanted));
            continue;
        };
        if spec.reaching.tls.is_some() {
            let found = format!(
                "pool {pool} speaks TLS to its servers itself, in which the clients' would be wrapped"
            );
            problems.push(Problem::at(&path, found, "a pool without tls for what is passed on"));
        }
    }
}

/// A header with the address of the client has to come from a trusted proxy.
fn trust(document: &Document, problems: &mut Vec<Problem>) {
    for (name, frontend) in &document.frontends {
        if frontend.proxy_protocol && frontend.trusted.is_empty() {
            problems.push(Problem::at(
                &format!("frontends.{name}.proxy_protocol"),
                "no proxy is trusted to name the client".to_owned(),
                format!("trusted = [\"192.0.2.0/24\"] or the like under [frontends.{name}]"),
            ));
        }
    }
}

/// Pools of a group read each other's pins, so they look into the same cookie.
fn pin_groups(document: &Document, problems: &mut Vec<Problem>) {
    let mut groups: BTreeMap<&Name, (&Name, &str)> = BTreeMap::new();
    for (name, pool) in &document.pools {
        let Some(group) = &pool.persistence.group else { continue };
        let cookie = pool.persistence.cookie_name();
        let (first, expected) = *groups.entry(group).or_insert((name, cookie));
        if cookie != expected {
            problems.push(Problem::at(
                &format!("pools.{name}.pin_cookie"),
                format!("its cookie is {cookie}, and that of pool {first} of the same pin_group {group} is {expected}"),
                format!("pin_cookie = \"{expected}\", or another pin_group"),
            ));
        }
    }
}

/// A connection that many clients share can't begin with the address of one.
fn introductions(document: &Document, problems: &mut Vec<Problem>) {
    for (name, pool) in &document.pools {
        if pool.proxy_protocol.is_some() && pool.reaching.http_version == HttpVersion::Two {
            problems.push(Problem::at(
                &format!("pools.{name}.proxy_protocol"),
                "connections of HTTP/2 are shared by many clients and can't begin with one's address"
                    .to_owned(),
                "http_version = \"1.1\", or no proxy_protocol: servers get Forwarded and X-Forwarded-For"
                    .to_owned(),
            ));
        }
    }
}

/// Which frontends can ask clients for certificates.
fn client_certificates(document: &Document, problems: &mut Vec<Problem>) {
    for (name, frontend) in &document.frontends {
        let mut wrong = |key: &str, found: &str, expected: &str| {
            problems.push(Problem::at(&format!("frontends.{name}.{key}"), found.to_owned(), expected));
        };
        let asks = frontend.client_certificates.is_some();
        if asks && frontend.certificates.is_empty() {
            let found = "its clients speak plain text, in which no certificate is shown";
            wrong("client_certificates", found, "certificates of its own beside it");
        }
        if asks && frontend.client_authorities.is_none() {
            let found = "there is no authority whose certificates would pass";
            wrong(
                "client_authorities",
                found,
                "client_authorities = \"/etc/merismos/clients.pem\" beside client_certificates",
            );
        }
        for (key, is_set) in [
            ("client_authorities", frontend.client_authorities.is_some()),
            ("client_revocations", frontend.client_revocations.is_some()),
        ] {
            if is_set && !asks {
                wrong(
                    key,
                    "clients are not asked for certificates",
                    "client_certificates = \"required\" beside it, or \"optional\"",
                );
            }
        }
    }
}

/// Which names an authority can be shown, by the way in which it is.
fn challenges(document: &Document, problems: &mut Vec<Problem>) {
    for (name, certificate) in &document.certificates {
        let authority = certificate.authority.as_ref().and_then(|name| document.authorities.get(name));
        let Some(AuthoritySpec { challenge, .. }) = authority else { continue };
        for host in &certificate.names {
            let is_address = host.parse::<IpAddr>().is_ok();
            let (found, expected) = match challenge {
                ChallengeKind::Dns if is_address => (
                    format!("the authority is shown names by dns-01, and {host} is an address"),
                    "an authority with challenge = \"http-01\" or \"tls-alpn-01\"",
                ),
                ChallengeKind::Http | ChallengeKind::TlsAlpn if host.starts_with("*.") => (
                    format!(
                        "the authority is shown names by {challenge}, which is for no name with *: {host}"
                    ),
                    "an authority with challenge = \"dns-01\"",
                ),
                ChallengeKind::Http | ChallengeKind::TlsAlpn | ChallengeKind::Dns => continue,
            };
            problems.push(Problem::at(&format!("certificates.{name}.names"), found, expected));
        }
    }
}

/// Which clients can be redirected to TLS, and which can be held to it.
fn plain_to_tls(document: &Document, problems: &mut Vec<Problem>) {
    for (name, frontend) in &document.frontends {
        let Some(http) = &frontend.http else { continue };
        let mut wrong = |key: &str, found: &str, expected: &str| {
            problems.push(Problem::at(&format!("frontends.{name}.{key}"), found.to_owned(), expected));
        };
        let speaks_tls = !frontend.certificates.is_empty();
        if speaks_tls && http.redirect_to_https.is_some() {
            wrong(
                "redirect_to_https",
                "its clients speak TLS already, and would be sent in a circle",
                "the key at the frontend of plain text, or no certificates here",
            );
        }
        if http.redirect_to_https.is_none() && http.redirect_status.is_some() {
            wrong("redirect_status", "nothing is redirected", "redirect_to_https = 443 beside it");
        }
        if !speaks_tls && http.hsts_age.is_some() {
            wrong(
                "hsts_age",
                "its clients speak plain text, and browsers believe it over TLS alone (RFC 6797, 7.2)",
                "the key at the frontend with certificates",
            );
        }
        if http.hsts_subdomains && http.hsts_age.is_none() {
            wrong("hsts_subdomains", "there is no hsts_age that it could be part of", "hsts_age beside it");
        }
    }
}

/// What servers that speak TLS can't do, and what has no meaning without it.
fn server_tls(document: &Document, problems: &mut Vec<Problem>) {
    for (name, pool) in &document.pools {
        let reaching = &pool.reaching;
        let mut wrong = |key: &str, found: String, expected: String| {
            problems.push(Problem::at(&format!("pools.{name}.{key}"), found, expected));
        };
        if let Some(trust) = &reaching.tls {
            let by_datagrams = document.frontends.iter().find(|(_, frontend)| {
                frontend.protocol == Protocol::Udp && frontend.pools().any(|pool| pool == name)
            });
            if let Some((frontend, _)) = by_datagrams {
                wrong(
                    "tls",
                    format!("frontend {frontend} sends datagrams to it, and TLS is for connections"),
                    "a pool of its own for udp, without keys of TLS".to_owned(),
                );
            }
            if reaching.tls_name_of == TlsNameOf::Request && trust.name.is_some() {
                wrong(
                    "tls_name",
                    "tls_name_of = \"request\" takes the name from each request".to_owned(),
                    "either tls_name, or tls_name_of = \"request\"".to_owned(),
                );
            }
        } else if reaching.tls_name_of == TlsNameOf::Request {
            wrong(
                "tls_name_of",
                "the pool's servers are spoken to in plain text, where nobody is asked for by name"
                    .to_owned(),
                "tls = \"verified\" beside it, or no tls_name_of".to_owned(),
            );
        }
        if reaching.tls_name_of == TlsNameOf::Request && reaching.http_version == HttpVersion::Two {
            wrong(
                "tls_name_of",
                "a connection of HTTP/2 carries requests for many hosts, and is made for one name".to_owned(),
                "http_version = \"1.1\", or a tls_name that all of them share".to_owned(),
            );
        }
    }
}

/// Two addresses overlap when they share the port and either is the same address or one is every address.
fn overlap(a: SocketAddr, b: SocketAddr) -> bool {
    let any_covers =
        |any: SocketAddr, other: SocketAddr| any.ip().is_unspecified() && (any.is_ipv6() || other.is_ipv4());
    a.port() == b.port() && (a.ip() == b.ip() || any_covers(a, b) || any_covers(b, a))
}

fn frontends_overlap(document: &Document, problems: &mut Vec<Problem>) {
    let mut by_port: BTreeMap<(bool, u16), Vec<(&Name, SocketAddr)>> = BTreeMap::new();
    for (name, frontend) in &document.frontends {
        let listen = frontend.listen.get();
        // A reserved address that leads nowhere was reported already, and stands for no address.
        let is_settled =
            matches!(frontend.listen.written(), AddressSource::Literal) || !listen.ip().is_unspecified();
        if !is_settled {
            continue;
        }
        // TCP and UDP ports are apart.
        let same_port = by_port.entry((frontend.protocol == Protocol::Udp, listen.port())).or_default();
        if let Some((other, taken)) = same_port.iter().find(|(_, taken)| overlap(*taken, listen)) {
            problems.push(Problem::at(
                &format!("frontends.{name}.listen"),
                format!("{listen} overlaps with {taken}, on which frontend {other} listens"),
                "an address and port of its own for each frontend",
            ));
        }
        same_port.push((name, listen));
    }
}

fn repeated_addresses(pool_name: &Name, pool: &PoolSpec, problems: &mut Vec<Problem>) {
    let mut seen: BTreeMap<SocketAddr, &Name> = BTreeMap::new();
    for (name, server) in &pool.servers {
        let address = server.address.get();
        let is_known =
            !address.ip().is_unspecified() || matches!(server.address.written(), AddressSource::Literal);
        let own = is_known.then_some((address, "address"));
        let others = server.other_addresses.iter().map(|other| (*other, "other_addresses"));
        for (address, key) in own.into_iter().chain(others) {
            let first = seen.insert(address, name);
            if first == Some(name) {
                problems.push(Problem::at(
                    &format!("pools.{pool_name}.servers.{name}.{key}"),
                    format!("{address} is named twice as an address of {pool_name}/{name}"),
                    "each of a server's addresses once",
                ));
            } else if let Some(first) = first {
                problems.push(Problem::at(
                    &format!("pools.{pool_name}.servers.{name}.{key}"),
                    format!("{address} is already the address of {pool_name}/{first}"),
                    "each address once in a pool; a server that should get more work takes a larger weight",
                ));
            }
        }
    }
}

/// The longest name of a lookup: it has to leave room for an address and a port in the names of its servers.
const LONGEST_LOOKUP: usize = 16;

fn long_lookups(pool_name: &Name, pool: &PoolSpec, problems: &mut Vec<Problem>) {
    for name in pool.lookups.keys().filter(|name| name.as_str().len() > LONGEST_LOOKUP) {
        problems.push(Problem::at(
            &format!("pools.{pool_name}.lookups.{name}"),
            format!("the name has {} characters", name.as_str().len()),
            format!(
                "a name of {LONGEST_LOOKUP} characters at most, for it begins the names of the servers found"
            ),
        ));
    }
}
