//! What each kind of object is made of.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;

use ipnet::IpNet;

use super::super::balancing::{ValueError, is_token};
use super::super::document::{
    Algorithm, BalancePer, ChoosePool, Document, FORMAT, Failback, FailureHandling, FrontendSpec, HashKey,
    HashSettings, HostSpec, HttpKeys, LookupRecords, LookupSpec, OpenConnections, Persistence,
    PersistenceKind, PoolSelection, PoolSpec, Protocol, ProxyVersion, QueueSettings, RangeSpec,
    SESSION_COOKIE, ServerLimits, ServerSpec, UpstreamSettings, WhenAbsent, WhenEmpty, WhenNone,
};
use super::super::tree::Value;
use super::{
    Section, address, addresses, dns_name, ip, listen, name, note, number, socket_address, span, text, within,
};
use crate::name::Name;
use crate::units::{Size, Span};

pub(super) fn document(mut section: Section<'_, '_>) -> Document {
    section.required("format", |value| match value {
        Value::Number(FORMAT) => Ok(()),
        _ => Err(format!("format = {FORMAT}, or an older format from 1 on")),
    });
    let hosts = section.named("hosts", host);
    let ranges = section.named("ranges", range);
    let networks = section.pairs("networks", networks);
    let checks = section.named("checks", super::checks::check);
    let pools = section.named("pools", pool);
    let frontends = section.named("frontends", frontend);
    let messages = section.named("notifications", super::notifications::message);
    section.close();
    Document { format: FORMAT, hosts, ranges, networks, checks, pools, frontends, notifications: messages }
}

fn host(mut section: Section<'_, '_>) -> Option<HostSpec> {
    let address = section.required("address", ip);
    let (labels, note) = section.about();
    section.close();
    Some(HostSpec { address: address?, note, labels })
}

fn range(mut section: Section<'_, '_>) -> Option<RangeSpec> {
    let addresses = section.required("addresses", addresses);
    let taken = section.pairs("reserved", ip);
    let (labels, note) = section.about();
    section.close();
    Some(RangeSpec { addresses: addresses?, note, labels, reserved: taken })
}

fn frontend(mut section: Section<'_, '_>) -> Option<FrontendSpec> {
    let protocol = section.required("protocol", |value| match text(value) {
        Some("http") => Ok(Protocol::Http),
        Some("tcp") => Ok(Protocol::Tcp),
        Some("udp") => Ok(Protocol::Udp),
        _ => Err("\"http\", \"tcp\" or \"udp\"".to_owned()),
    });
    let listen = section.required("listen", listen);
    let pool = section.required("pool", name);
    let more = more_pools(&mut section);
    let balance_per = balance_per(&mut section, protocol);
    let connection_limit = section.value("connection_limit", number(1..=1_000_000));
    let failing_share = section.value("failing_share", number(0..=100));
    let http = (protocol == Some(Protocol::Http)).then(|| http_keys(&mut section));
    let idle_timeout = section.value("idle_timeout", span("100ms", "24h"));
    let (max_connection_age, client_hello_timeout) = match protocol {
        Some(Protocol::Tcp) => (
            section.value("max_connection_age", span("1s", "720h")),
            section.value("client_hello_timeout", span("100ms", "5m")),
        ),
        Some(Protocol::Http | Protocol::Udp) | None => (None, None),
    };
    let takes_headers = protocol != Some(Protocol::Udp);
    let trusted = if takes_headers { section.value("trusted", networks) } else { None };
    let proxy_protocol = if takes_headers { section.value("proxy_protocol", flag) } else { None };
    let (labels, note) = section.about();
    if protocol.is_some() {
        section.close();
    }
    Some(FrontendSpec {
        protocol: protocol?,
        listen: listen?,
        pool: pool?,
        more,
        balance_per: balance_per?,
        connection_limit: connection_limit.unwrap_or(10_000),
        failing_share: failing_share.unwrap_or(10),
        http,
        idle_timeout: idle_timeout.unwrap_or(default_rest(protocol?)),
        max_connection_age,
        client_hello_timeout,
        trusted: trusted.unwrap_or_default(),
        proxy_protocol: proxy_protocol.unwrap_or(false),
        note,
        labels,
    })
}

fn more_pools(section: &mut Section<'_, '_>) -> PoolSelection {
    let choose_pool = section.value("choose_pool", |value| match text(value) {
        Some("in-order") => Ok(ChoosePool::InOrder),
        Some("by-weight") => Ok(ChoosePool::ByWeight),
        Some("by-latency") => Ok(ChoosePool::ByLatency),
        Some("by-network") => Ok(ChoosePool::ByNetwork),
        _ => Err("\"in-order\", \"by-weight\", \"by-latency\" or \"by-network\"".to_owned()),
    });
    PoolSelection {
        next_pools: section.value("next_pools", names).unwrap_or_default(),
        choose_pool: choose_pool.unwrap_or_default(),
        pool_weights: section.pairs("pool_weights", |value| number(0..=1_000)(value)),
        pool_networks: section.pairs("pool_networks", names),
        last_resort: section.value("last_resort", name),
    }
}

fn names(value: &Value) -> Result<Vec<Name>, String> {
    let wanted = || "a list of 1 to 31 names in quotes, each once".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let names: Option<Vec<Name>> =
        items.iter().map(|item| text(&item.value).and_then(|text| text.parse().ok())).collect();
    let distinct = |names: &Vec<Name>| names.iter().collect::<BTreeSet<_>>().len() == names.len();
    names.filter(|names| (1..=31).contains(&names.len()) && distinct(names)).ok_or_else(wanted)
}

/// How long clients may rest where nothing is said. TCP clients are often pools of connections to databases.
fn default_rest(protocol: Protocol) -> Span {
    Span::from_millis(match protocol {
        Protocol::Http => 60_000,
        Protocol::Tcp => 600_000,
        Protocol::Udp => 30_000,
    })
}

fn balance_per(section: &mut Section<'_, '_>, protocol: Option<Protocol>) -> Option<BalancePer> {
    let (usual, other, wanted) = match protocol? {
        Protocol::Http => (BalancePer::Request, BalancePer::Connection, "\"request\" or \"connection\""),
        Protocol::Tcp => (BalancePer::Connection, BalancePer::Connection, "\"connection\""),
        Protocol::Udp => (BalancePer::Flow, BalancePer::Datagram, "\"flow\" or \"datagram\""),
    };
    let parse = |value: &Value| {
        let named = |unit: &BalancePer| text(value) == Some(&unit.to_string());
        [usual, other].into_iter().find(named).ok_or_else(|| wanted.to_owned())
    };
    Some(section.value("balance_per", parse).unwrap_or(usual))
}

fn http_keys(section: &mut Section<'_, '_>) -> HttpKeys {
    let header_size_limit =
        section.value("header_size_limit", within("1KiB", "64KiB", "a size such as 16KiB,"));
    let header_count_limit = section.value("header_count_limit", number(1..=100));
    let max_concurrent_streams = section.value("max_concurrent_streams", number(1..=1_000));
    let header_timeout = section.value("header_timeout", span("100ms", "5m"));
    let tunnel_timeout = section.value("tunnel_timeout", span("1s", "24h"));
    let min_rate =
        section.value("min_rate", within("0B", "1MiB", "a size such as 32B, which is meant a second,"));
    let min_rate_grace = section.value("min_rate_grace", span("1s", "1h"));
    let dropped_fields = section.value("dropped_fields", field_names);
    HttpKeys {
        header_size_limit: header_size_limit.unwrap_or(Size::from_bytes(16 << 10)),
        header_count_limit: header_count_limit.unwrap_or(100),
        max_concurrent_streams: max_concurrent_streams.unwrap_or(100),
        header_timeout: header_timeout.unwrap_or(Span::from_millis(10_000)),
        tunnel_timeout: tunnel_timeout.unwrap_or(Span::from_millis(3_600_000)),
        min_rate: min_rate.unwrap_or(Size::from_bytes(32)),
        min_rate_grace: min_rate_grace.unwrap_or(Span::from_millis(30_000)),
        dropped_fields,
    }
}

/// Names of fields, as they stand in heads.
fn field_names(value: &Value) -> Result<Vec<String>, String> {
    let wanted = || "a list of at most 64 names of fields in quotes, such as [\"X-Real-IP\"]".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let name = |text: &str| is_token(text).then(|| text.to_owned());
    let names: Option<Vec<String>> = items.iter().map(|item| text(&item.value).and_then(name)).collect();
    names.filter(|names| names.len() <= 64).ok_or_else(wanted)
}

fn networks(value: &Value) -> Result<Vec<IpNet>, String> {
    let wanted = || {
        "a list of addresses and prefixes in quotes, such as [\"192.0.2.0/24\", \"2001:db8::7\"]".to_owned()
    };
    let Value::List(items) = value else { return Err(wanted()) };
    let network = |text: &str| {
        let parsed = text.parse::<IpNet>().ok().filter(|net| net.addr() == net.network());
        parsed.or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from))
    };
    let networks: Option<Vec<IpNet>> = items.iter().map(|item| text(&item.value).and_then(network)).collect();
    networks.filter(|networks| networks.len() <= 1_000).ok_or_else(wanted)
}

fn reaching(section: &mut Section<'_, '_>) -> UpstreamSettings {
    let usual = UpstreamSettings::default();
    let http_version = section.value("http_version", super::checks::http_version);
    UpstreamSettings {
        http_version: http_version.unwrap_or_default(),
        source_addresses: section.value("source_addresses", source_addresses).unwrap_or_default(),
        idle_connections: section
            .value("idle_connections", number(0..=1_000))
            .unwrap_or(usual.idle_connections),
        idle_connection_timeout: section
            .value("idle_connection_timeout", span("100ms", "1h"))
            .unwrap_or(usual.idle_connection_timeout),
        idle_connection_age: section
            .value("idle_connection_age", span("1s", "24h"))
            .unwrap_or(usual.idle_connection_age),
        preconnect: section.value("preconnect", number(0..=16)).unwrap_or(usual.preconnect),
    }
}

fn source_addresses(value: &Value) -> Result<Vec<IpAddr>, String> {
    let wanted =
        || "a list of 1 to 64 of this machine's addresses in quotes, such as [\"192.0.2.5\"]".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let usable = |address: &IpAddr| !address.is_unspecified() && !address.is_multicast();
    let address = |text: &str| text.parse().ok().filter(usable);
    let addresses: Option<Vec<IpAddr>> =
        items.iter().map(|item| text(&item.value).and_then(address)).collect();
    addresses.filter(|addresses| (1..=64).contains(&addresses.len())).ok_or_else(wanted)
}

pub(super) fn flag(value: &Value) -> Result<bool, String> {
    match value {
        Value::Flag(flag) => Ok(*flag),
        _ => Err("true or false".to_owned()),
    }
}

fn pool(mut section: Section<'_, '_>) -> Option<PoolSpec> {
    let algorithm = section.value("algorithm", word::<Algorithm>);
    let hashing = hashing(&mut section);
    let persistence = persistence(&mut section);
    let tier_min_eligible = section.value("tier_min_eligible", number(1..=1_000));
    let min_eligible = section.value("min_eligible", number(1..=1_000));
    let failback = section.value("failback", word::<Failback>);
    let ramp = section.value("ramp", span("1s", "1h"));
    let capacity = section.value("capacity", number(1..=100));
    let limits = limits(&mut section);
    let queue_limit = section.value("queue_limit", number(0..=100_000));
    let queue_timeout = section.value("queue_timeout", span("10ms", "10m"));
    let usual = QueueSettings::default();
    let proxy_protocol = section.value("proxy_protocol", |value| match text(value) {
        Some("v1") => Ok(ProxyVersion::V1),
        Some("v2") => Ok(ProxyVersion::V2),
        _ => Err("\"v1\" or \"v2\"".to_owned()),
    });
    let reaching = reaching(&mut section);
    let check = section.value("check", name);
    let (more_checks, checks_needed) = super::checks::more_checks(&mut section);
    let passive_check = super::checks::passive_check(&mut section);
    let when_none = section.value("when_none", |value| match text(value) {
        Some("refuse") => Ok(WhenNone::Refuse),
        Some("all") => Ok(WhenNone::All),
        _ => Err("\"refuse\" or \"all\"".to_owned()),
    });
    let connect_timeout = section.value("connect_timeout", span("10ms", "60s"));
    let first_byte_timeout = section.value("first_byte_timeout", span("10ms", "1h"));
    let response_timeout = section.value("response_timeout", span("100ms", "24h"));
    let idle_timeout = section.value("idle_timeout", span("100ms", "1h"));
    let attempts = section.value("attempts", number(1..=16));
    let failing = failing(&mut section);
    let servers = section.named("servers", server);
    let lookups = section.named("lookups", lookup);
    let (labels, note) = section.about();
    section.close();
    Some(PoolSpec {
        algorithm: algorithm.unwrap_or(Algorithm::RoundRobin),
        hashing,
        persistence,
        tier_min_eligible: tier_min_eligible.unwrap_or(1),
        min_eligible: min_eligible.unwrap_or(1),
        failback: failback.unwrap_or_default(),
        ramp,
        capacity: capacity.unwrap_or(100),
        limits,
        queue: QueueSettings {
            limit: queue_limit.unwrap_or(usual.limit),
            timeout: queue_timeout.unwrap_or(usual.timeout),
        },
        proxy_protocol,
        reaching,
        check,
        more_checks,
        checks_needed,
        passive_check,
        when_none: when_none.unwrap_or_default(),
        connect_timeout: connect_timeout.unwrap_or(Span::from_millis(1_000)),
        first_byte_timeout: first_byte_timeout.unwrap_or(Span::from_millis(30_000)),
        response_timeout: response_timeout.unwrap_or(Span::from_millis(3_600_000)),
        idle_timeout: idle_timeout.unwrap_or(Span::from_millis(60_000)),
        attempts: attempts.unwrap_or(3),
        failing,
        note,
        labels,
        servers,
        lookups,
    })
}

fn failing(section: &mut Section<'_, '_>) -> FailureHandling {
    let usual = FailureHandling::default();
    let open = |value: &Value| match text(value) {
        Some("break") => Ok(OpenConnections::Break),
        Some("keep") => Ok(OpenConnections::Keep),
        _ => Err("\"break\" or \"keep\"".to_owned()),
    };
    FailureHandling {
        suspect_share: section.value("suspect_share", number(1..=100)),
        retry_after: section.value("retry_after", span("10ms", "1h")),
        retry_budget: section.value("retry_budget", number(1..=100)).unwrap_or(usual.retry_budget),
        on_down: section.value("on_down", open).unwrap_or(usual.on_down),
        on_failback: section.value("on_failback", open).unwrap_or(usual.on_failback),
    }
}

/// A value that is one of a few words.
fn word<T: FromStr<Err = ValueError>>(value: &Value) -> Result<T, String> {
    text(value).unwrap_or_default().parse::<T>().map_err(|error| error.expected.to_owned())
}

fn hashing(section: &mut Section<'_, '_>) -> HashSettings {
    HashSettings {
        keys: section.value("hash_keys", hash_keys).unwrap_or_default(),
        prefix_ipv4: section.value("hash_prefix_ipv4", number(1..=32)),
        prefix_ipv6: section.value("hash_prefix_ipv6", number(1..=128)),
        when_absent: section.value("hash_when_absent", |value| match text(value) {
            Some("spread") => Ok(WhenAbsent::Spread),
            Some("refuse") => Ok(WhenAbsent::Refuse),
            _ => Err("\"spread\" or \"refuse\"".to_owned()),
        }),
        bound: section.value("bounded_load", number(101..=1_000)),
    }
}

fn persistence(section: &mut Section<'_, '_>) -> Persistence {
    Persistence {
        by: section.value("persistence", |value| match text(value) {
            Some("cookie") => Ok(PersistenceKind::Cookie),
            _ => Err("\"cookie\"".to_owned()),
        }),
        cookie: section.value("pin_cookie", |value| {
            let token = text(value).filter(|name| is_token(name) && *name != SESSION_COOKIE);
            let wanted = || {
                format!("the name of a cookie, such as \"skerry-pin\", and not {SESSION_COOKIE}, which is the console's")
            };
            token.map(str::to_owned).ok_or_else(wanted)
        }),
        lifetime: section.value("pin_lifetime", span("1m", "720h")),
    }
}

fn hash_keys(value: &Value) -> Result<Vec<HashKey>, String> {
    let wanted = || {
        "a list of 1 to 8 keys in quotes, each client-address, path, path-with-query, host, sni, query:NAME, \
         header:NAME or cookie:NAME"
            .to_owned()
    };
    let Value::List(items) = value else { return Err(wanted()) };
    let keys: Option<Vec<HashKey>> =
        items.iter().map(|item| text(&item.value).and_then(|text| text.parse().ok())).collect();
    keys.filter(|keys| (1..=8).contains(&keys.len())).ok_or_else(wanted)
}

fn limits(section: &mut Section<'_, '_>) -> ServerLimits {
    ServerLimits {
        connection_limit: section.value("connection_limit", number(1..=1_000_000)),
        in_flight_limit: section.value("in_flight_limit", number(1..=1_000_000)),
        rate_limit: section.value("rate_limit", number(1..=10_000_000)),
    }
}

/// The most addresses of a server beside the one that it is known by.
const MOST_OTHER_ADDRESSES: usize = 7;

fn other_addresses(value: &Value) -> Result<Vec<SocketAddr>, String> {
    let wanted =
        || "a list of 1 to 7 IP addresses with ports in quotes, such as [\"[2001:db8::21]:8080\"]".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let addresses: Result<Vec<_>, _> = items.iter().map(|item| socket_address(&item.value)).collect();
    let addresses = addresses.ok().filter(|all| (1..=MOST_OTHER_ADDRESSES).contains(&all.len()));
    addresses.ok_or_else(wanted)
}

fn server(mut section: Section<'_, '_>) -> Option<ServerSpec> {
    let address = section.required("address", address);
    let other_addresses = section.value("other_addresses", other_addresses).unwrap_or_default();
    let weight = section.value("weight", number(0..=1_000));
    let tier = section.value("tier", number(0..=7));
    let capacity = section.value("capacity", number(1..=100));
    let limits = limits(&mut section);
    let connect_timeout = section.value("connect_timeout", span("10ms", "60s"));
    let first_byte_timeout = section.value("first_byte_timeout", span("10ms", "1h"));
    let response_timeout = section.value("response_timeout", span("100ms", "24h"));
    let idle_timeout = section.value("idle_timeout", span("100ms", "1h"));
    let (labels, note) = section.about();
    section.close();
    Some(ServerSpec {
        address: address?,
        other_addresses,
        weight: weight.unwrap_or(1),
        tier: tier.unwrap_or(0),
        capacity: capacity.unwrap_or(100),
        limits,
        connect_timeout,
        first_byte_timeout,
        response_timeout,
        idle_timeout,
        note,
        labels,
        found_by: None,
    })
}

fn lookup(mut section: Section<'_, '_>) -> Option<LookupSpec> {
    let name = section.required("name", dns_name);
    let records = section.required("records", |value| match text(value) {
        Some("address") => Ok(LookupRecords::Address),
        Some("service") => Ok(LookupRecords::Service),
        _ => Err("\"address\" (A and AAAA) or \"service\" (SRV)".to_owned()),
    });
    // A service record names port and weight itself.
    let is_address = records == Some(LookupRecords::Address);
    let port = if is_address { section.required("port", number(1..=65_535)) } else { None };
    let weight = if is_address { section.value("weight", number(0..=1_000)).or(Some(1)) } else { None };
    let together = section.value("merge_addresses", flag).unwrap_or(false);
    let resolver = section.value("resolver", socket_address);
    let when_empty = section.value("when_empty", |value| match text(value) {
        Some("keep") => Ok(WhenEmpty::Keep),
        Some("remove") => Ok(WhenEmpty::Remove),
        _ => Err("\"keep\" or \"remove\"".to_owned()),
    });
    let min_interval = section.value("min_interval", span("1s", "1h"));
    let note = section.value("note", note).unwrap_or_default();
    if records.is_some() {
        section.close();
    }
    if is_address && port.is_none() {
        return None;
    }
    Some(LookupSpec {
        name: name?,
        records: records?,
        port,
        weight,
        merge_addresses: together,
        resolver,
        when_empty: when_empty.unwrap_or(WhenEmpty::Keep),
        min_interval: min_interval.unwrap_or(Span::from_millis(5_000)),
        note,
    })
}
