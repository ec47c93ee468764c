//! What checks are made of.

use std::collections::BTreeMap;

use super::super::balancing::is_token;
use super::super::checks::{SECRET_WANTED, WANTED_WANTED};
use super::super::document::{
    BodyExpectation, CertificateTrust, CheckKind, CheckSpec, ChecksNeeded, CommandProbe, DnsProbe,
    DnsRecordType, ExpectedValue, FlappingSettings, GrpcProbe, HttpProbe, HttpVersion, PassiveAction,
    PassiveCheck, Pattern, ProbeAddress, SecretRef, SendExpect, SqlProbe, StatusRange, TlsProbe, TlsVerify,
};
use super::super::tree::Value;
use super::objects::flag;
use super::{Section, dns_name, ip, name, number, span, text, within};
use crate::name::Name;
use crate::units::Span;

/// The kinds in the words of messages.
const KINDS: &str =
    "\"tcp\", \"http\", \"icmp\", \"udp\", \"dns\", \"tls\", \"sql\", \"grpc\" or \"command\"";

pub(super) fn check(mut section: Section<'_, '_>) -> Option<CheckSpec> {
    let kind = section.required("kind", |value| match text(value) {
        Some(kind @ ("tcp" | "http" | "icmp" | "udp" | "dns" | "tls" | "sql" | "grpc" | "command")) => {
            Ok(kind.to_owned())
        }
        _ => Err(KINDS.to_owned()),
    });
    let asked = kind.as_deref().and_then(|kind| asked(kind, &mut section));
    let elsewhere = elsewhere(&mut section, kind.as_deref());
    let interval = section.value("interval", span("100ms", "1h"));
    let interval_down = section.value("interval_down", span("100ms", "1h"));
    let timeout = section.value("timeout", span("10ms", "60s"));
    let down_after = section.value("down_after", number(1..=100));
    let up_after = section.value("up_after", number(1..=100));
    let steadiness = steadiness(&mut section);
    let (labels, note) = section.about();
    if kind.is_some() {
        section.close();
    }
    Some(CheckSpec {
        kind: asked?,
        interval: interval.unwrap_or(Span::from_millis(2_000)),
        interval_down,
        timeout: timeout.unwrap_or(Span::from_millis(1_000)),
        elsewhere,
        down_after: down_after.unwrap_or(3),
        up_after: up_after.unwrap_or(2),
        steadiness,
        note,
        labels,
    })
}

/// The checks of a pool beside its first.
pub(super) fn more_checks(section: &mut Section<'_, '_>) -> (Vec<Name>, ChecksNeeded) {
    let names = section.value("more_checks", |value| {
        let wanted = || "a list of at most 8 names of checks, such as [\"lag\"]".to_owned();
        let Value::List(items) = value else { return Err(wanted()) };
        let names: Result<Vec<Name>, String> = items.iter().map(|item| name(&item.value)).collect();
        names.ok().filter(|names| names.len() <= 8).ok_or_else(wanted)
    });
    let needed = section.value("checks_needed", |value| match text(value) {
        Some("all") => Ok(ChecksNeeded::All),
        Some("any") => Ok(ChecksNeeded::Any),
        _ => Err("\"all\" or \"any\"".to_owned()),
    });
    (names.unwrap_or_default(), needed.unwrap_or_default())
}

/// The passive check of a pool, when it has one.
pub(super) fn passive_check(section: &mut Section<'_, '_>) -> Option<PassiveCheck> {
    section.table("passive_check", |mut table| {
        let failures = table.required("failures", number(1..=100_000));
        let within = table.value("within", span("1s", "60s"));
        let count_5xx = table.value("count_5xx", flag);
        let action = table.value("action", |value| match text(value) {
            Some("suspect") => Ok(PassiveAction::Suspect),
            Some("down") => Ok(PassiveAction::Down),
            _ => Err("\"suspect\" or \"down\"".to_owned()),
        });
        let allow_last = table.value("allow_last", flag);
        table.close();
        Some(PassiveCheck {
            failures: failures?,
            within: within.unwrap_or(Span::from_millis(10_000)),
            count_5xx: count_5xx.unwrap_or(false),
            action: action.unwrap_or_default(),
            allow_last: allow_last.unwrap_or(false),
        })
    })
}

fn steadiness(section: &mut Section<'_, '_>) -> FlappingSettings {
    let usual = FlappingSettings::default();
    FlappingSettings {
        flapping_after: section.value("flapping_after", number(2..=100)).unwrap_or(usual.flapping_after),
        flapping_within: section.value("flapping_within", span("1m", "24h")).unwrap_or(usual.flapping_within),
        hold_down: section.value("hold_down", span("1s", "1h")),
        hold_down_most: section.value("hold_down_most", span("1s", "24h")).unwrap_or(usual.hold_down_most),
    }
}

fn elsewhere(section: &mut Section<'_, '_>, kind: Option<&str>) -> ProbeAddress {
    let has_port = !matches!(kind, Some("icmp" | "command"));
    let has_source = !matches!(kind, Some("sql" | "command"));
    ProbeAddress {
        port: if has_port { section.value("port", number(1..=65_535)) } else { None },
        address: section.value("address", ip),
        source_address: if has_source { section.value("source_address", ip) } else { None },
    }
}

fn asked(kind: &str, section: &mut Section<'_, '_>) -> Option<CheckKind> {
    Some(match kind {
        "tcp" => CheckKind::Tcp(exchange(section)),
        "udp" => CheckKind::Udp(exchange(section)),
        "icmp" => CheckKind::Icmp,
        "http" => CheckKind::Http(Box::new(http(section))),
        "dns" => {
            // Every key is read before a wrong one ends it, or the others would be called unknown.
            let name = section.required("name", dns_name);
            let record = section.value("record", record).unwrap_or_default();
            let expect = section.value("expect", some_text);
            CheckKind::Dns(DnsProbe { name: name?, record, expect })
        }
        "tls" => CheckKind::Tls(TlsProbe {
            trust: trust(section).unwrap_or_else(no_trust),
            warn_days: section.value("warn_days", number(0..=365)).unwrap_or(14),
        }),
        "sql" => {
            let user = section.required("user", some_text);
            let password = section.value("password", secret);
            let database = section.value("database", some_text);
            let tls = section.value("tls", verify);
            let authorities = section.value("tls_authorities", authorities);
            let query = section.required("query", query);
            let column = section.value("column", some_text);
            let wanted = section.value("expect", wanted);
            CheckKind::Sql(Box::new(SqlProbe {
                user: user?,
                password,
                database,
                tls,
                authorities,
                query: query?,
                column,
                expect: wanted,
            }))
        }
        "grpc" => {
            CheckKind::Grpc(GrpcProbe { service: section.value("service", some_text).unwrap_or_default() })
        }
        _ => {
            let program = section.required("program", program);
            let arguments = section.value("arguments", arguments).unwrap_or_default();
            CheckKind::Command(CommandProbe { program: program?, arguments })
        }
    })
}

fn exchange(section: &mut Section<'_, '_>) -> SendExpect {
    SendExpect {
        send: section.value("send", some_text),
        expect: section.value("expect", some_text),
        expect_pattern: section.value("expect_pattern", pattern),
    }
}

fn http(section: &mut Section<'_, '_>) -> HttpProbe {
    HttpProbe {
        path: section.value("path", probe_path).unwrap_or_else(|| "/".to_owned()),
        method: section.value("method", method).unwrap_or_else(|| "GET".to_owned()),
        host: section.value("host", host),
        headers: section.value("headers", headers).unwrap_or_default(),
        http_version: section.value("http_version", http_version).unwrap_or_default(),
        tls: trust(section),
        accept: section
            .value("accept", accepted)
            .unwrap_or_else(|| vec!["200-299".parse().expect("a range")]),
        body: BodyExpectation {
            contains: section.value("body_contains", some_text),
            matches: section.value("body_matches", pattern),
            lacks: section.value("body_not_contains", some_text),
            pointer: section.value("json_pointer", pointer),
            expect: section.value("json_expect", wanted),
            limit: section.value("body_limit", within("1KiB", "10MiB", "a size such as 64KiB,")),
        },
        redirects: section.value("redirects", number(0..=5)).unwrap_or(0),
        keep_alive: section.value("keep_alive", flag).unwrap_or(false),
        server_feedback: section.value("server_feedback", flag).unwrap_or(false),
    }
}

fn no_trust() -> CertificateTrust {
    CertificateTrust { tls: TlsVerify::Verified, name: None, authorities: None, pin: None }
}

/// How a certificate is judged, when anything is said of TLS.
fn trust(section: &mut Section<'_, '_>) -> Option<CertificateTrust> {
    let tls = section.value("tls", verify);
    let name = section.value("tls_name", dns_name);
    let authorities = section.value("tls_authorities", authorities);
    let pin = section.value("tls_pin", |value| {
        let digits = |pin: &&str| pin.len() == 64 && pin.bytes().all(|byte| byte.is_ascii_hexdigit());
        let pin = text(value).filter(digits).map(str::to_ascii_lowercase);
        pin.ok_or_else(|| "the SHA-256 of a certificate: 64 hexadecimal digits".to_owned())
    });
    if tls.is_none() && name.is_none() && authorities.is_none() && pin.is_none() {
        return None;
    }
    Some(CertificateTrust { tls: tls.unwrap_or_default(), name, authorities, pin })
}

fn verify(value: &Value) -> Result<TlsVerify, String> {
    match text(value) {
        Some("verified") => Ok(TlsVerify::Verified),
        Some("unverified") => Ok(TlsVerify::Unverified),
        _ => Err("\"verified\" or \"unverified\"".to_owned()),
    }
}

fn authorities(value: &Value) -> Result<String, String> {
    let path = text(value).filter(|path| path.starts_with('/')).map(str::to_owned);
    path.ok_or_else(|| "the whole path of a file of certificates (PEM)".to_owned())
}

fn some_text(value: &Value) -> Result<String, String> {
    text(value)
        .filter(|text| (1..=4_096).contains(&text.len()))
        .map(str::to_owned)
        .ok_or_else(|| "a text of 1 to 4096 bytes".to_owned())
}

fn pattern(value: &Value) -> Result<Pattern, String> {
    let Some(text) = text(value).filter(|text| (1..=1_024).contains(&text.len())) else {
        return Err("a regular expression of 1 to 1024 bytes".to_owned());
    };
    text.parse()
        .map_err(|error: regex::Error| format!("a regular expression: {}", one_line(&error.to_string())))
}

/// The last line of a message that draws a picture of the mistake.
fn one_line(message: &str) -> String {
    message.lines().last().unwrap_or_default().trim().to_owned()
}

fn wanted(value: &Value) -> Result<ExpectedValue, String> {
    text(value).and_then(|text| text.parse().ok()).ok_or_else(|| WANTED_WANTED.to_owned())
}

pub(super) fn secret(value: &Value) -> Result<SecretRef, String> {
    text(value).and_then(|text| text.parse().ok()).ok_or_else(|| SECRET_WANTED.to_owned())
}

fn record(value: &Value) -> Result<DnsRecordType, String> {
    let record = text(value).and_then(|text| text.parse().ok());
    record.ok_or_else(|| "a type of record: A, AAAA, CNAME, MX, NS, PTR, SOA, SRV or TXT".to_owned())
}

/// One statement that changes nothing, as far as its beginning tells; the probe runs it in a transaction that can't.
fn query(value: &Value) -> Result<String, String> {
    let good = |query: &&str| {
        let first = query.split_whitespace().next().unwrap_or_default();
        let reads = ["select", "show"].iter().any(|word| first.eq_ignore_ascii_case(word));
        reads && !query.contains(';') && query.len() <= 4_096
    };
    let query = text(value).filter(good).map(str::to_owned);
    query.ok_or_else(|| "one statement that begins with SELECT or SHOW, without a semicolon".to_owned())
}

fn pointer(value: &Value) -> Result<String, String> {
    let good = |pointer: &&str| pointer.is_empty() || pointer.starts_with('/');
    let pointer = text(value).filter(good).map(str::to_owned);
    pointer.ok_or_else(|| "a JSON pointer (RFC 6901), such as \"/state\"".to_owned())
}

fn method(value: &Value) -> Result<String, String> {
    let method = text(value).filter(|method| is_token(method) && *method != "CONNECT").map(str::to_owned);
    method.ok_or_else(|| "a method such as \"GET\", \"HEAD\" or \"OPTIONS\"".to_owned())
}

fn host(value: &Value) -> Result<String, String> {
    let good = |host: &&str| {
        !host.is_empty() && host.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._:[]".contains(&byte))
    };
    let host = text(value).filter(good).map(str::to_owned);
    host.ok_or_else(|| "a host, perhaps with a port, such as \"booking.skerry.example\"".to_owned())
}

fn headers(value: &Value) -> Result<BTreeMap<String, String>, String> {
    let wanted = || "a table of names and values, such as { \"X-Probe\" = \"yes\" }".to_owned();
    let Value::Table(entries) = value else { return Err(wanted()) };
    let pair = |(name, _, node): &(String, usize, super::super::tree::DocumentNode)| {
        let value =
            text(&node.value).filter(|value| value.bytes().all(|byte| (0x20..0x7f).contains(&byte)))?;
        is_token(name).then(|| (name.clone(), value.to_owned()))
    };
    entries
        .iter()
        .map(pair)
        .collect::<Option<BTreeMap<_, _>>>()
        .filter(|pin| pin.len() <= 32)
        .ok_or_else(wanted)
}

pub(super) fn http_version(value: &Value) -> Result<HttpVersion, String> {
    match text(value) {
        Some("1.1") => Ok(HttpVersion::One),
        Some("2") => Ok(HttpVersion::Two),
        _ => Err("\"1.1\" or \"2\", in quotes".to_owned()),
    }
}

/// A file name alone: which folder it is in is not the document's to say.
fn program(value: &Value) -> Result<String, String> {
    let good = |program: &&str| {
        let bytes = program.as_bytes();
        let known = |byte: &u8| byte.is_ascii_alphanumeric() || b"-_.".contains(byte);
        !bytes.is_empty() && bytes[0] != b'.' && bytes.len() <= 100 && bytes.iter().all(known)
    };
    let program = text(value).filter(good).map(str::to_owned);
    program.ok_or_else(|| "the file name of a program, without a folder".to_owned())
}

fn arguments(value: &Value) -> Result<Vec<String>, String> {
    let wanted = || "a list of at most 32 texts".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let argument = |text: &str| (!text.contains('\0') && text.len() <= 1_024).then(|| text.to_owned());
    let arguments: Option<Vec<String>> =
        items.iter().map(|item| text(&item.value).and_then(argument)).collect();
    arguments.filter(|arguments| arguments.len() <= 32).ok_or_else(wanted)
}

fn probe_path(value: &Value) -> Result<String, String> {
    let good = |path: &&str| path.starts_with('/') && path.bytes().all(|byte| byte.is_ascii_graphic());
    text(value)
        .filter(good)
        .map(str::to_owned)
        .ok_or_else(|| "a path that begins with a slash and holds no spaces, such as \"/health\"".to_owned())
}

fn accepted(value: &Value) -> Result<Vec<StatusRange>, String> {
    let wanted = || "a list of status codes and ranges in quotes, such as [\"200-299\", \"304\"]".to_owned();
    let Value::List(items) = value else { return Err(wanted()) };
    let ranges: Option<Vec<StatusRange>> =
        items.iter().map(|item| text(&item.value).and_then(|text| text.parse().ok())).collect();
    ranges.filter(|ranges| !ranges.is_empty()).ok_or_else(wanted)
}
