//! The keys of checks.

use std::net::IpAddr;

use merismos_core::config::object::ObjectKind;
use merismos_core::name::Name;
use merismos_core::text::unescaped;
use serde::Serialize;

use super::ObjectKeys;

/// What a check is made of.
#[derive(Debug, clap::Args, Serialize)]
pub(crate) struct CheckKeys {
    /// What is asked: tcp, http, icmp, udp, dns, tls, sql, grpc or command
    #[arg(long)]
    kind: Option<String>,
    #[command(flatten)]
    #[serde(flatten)]
    http: HttpCheckKeys,
    #[command(flatten)]
    #[serde(flatten)]
    other: OtherCheckKeys,
    /// http: status codes and ranges that pass, with commas between, such as 200-299,304
    #[arg(long, value_name = "STATUS", value_delimiter = ',')]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    accept: Vec<String>,
    /// Another port of the server to ask
    #[arg(long)]
    port: Option<u16>,
    /// Another address to ask
    #[arg(long)]
    address: Option<IpAddr>,
    /// The address of the service's machine that probes come from
    #[arg(long, value_name = "ADDRESS")]
    source_address: Option<IpAddr>,
    /// From the start of a probe to the start of the next, such as 2s
    #[arg(long, value_name = "DURATION")]
    interval: Option<String>,
    /// The same while the server is down
    #[arg(long, value_name = "DURATION")]
    interval_down: Option<String>,
    /// How long a probe may take, such as 1s
    #[arg(long, value_name = "DURATION")]
    timeout: Option<String>,
    /// Failures in a row before down
    #[arg(long, value_name = "COUNT")]
    down_after: Option<u32>,
    /// Passes in a row before up
    #[arg(long, value_name = "COUNT")]
    up_after: Option<u32>,
    /// Called flapping when it was down so many times ...
    #[arg(long, value_name = "COUNT")]
    flapping_after: Option<u32>,
    /// ... within this time, such as 10m
    #[arg(long, value_name = "DURATION")]
    flapping_within: Option<String>,
    /// How long a flapping server is held down the first time; twice as long each time after that
    #[arg(long, value_name = "DURATION")]
    hold_down: Option<String>,
    /// The longest that it is held down
    #[arg(long, value_name = "DURATION")]
    hold_down_most: Option<String>,
}

impl ObjectKeys for CheckKeys {
    const KIND: ObjectKind = ObjectKind::Check;
    type Name = Name;
}

/// What checks of HTTP and TLS ask.
#[derive(Debug, clap::Args, Serialize)]
struct HttpCheckKeys {
    /// http: the path
    #[arg(long)]
    path: Option<String>,
    /// http: the method
    #[arg(long)]
    method: Option<String>,
    /// http: the host that is asked for
    #[arg(long)]
    host: Option<String>,
    /// http: the version, 1.1 or 2
    #[arg(long, value_name = "VERSION")]
    http_version: Option<String>,
    /// http: a text that the body contains
    #[arg(long, value_name = "TEXT")]
    body_contains: Option<String>,
    /// http: a regular expression that the body matches
    #[arg(long, value_name = "PATTERN")]
    body_matches: Option<String>,
    /// http: a text that the body does not contain
    #[arg(long, value_name = "TEXT")]
    body_not_contains: Option<String>,
    /// http: where in a JSON body a value stands, such as /state
    #[arg(long, value_name = "POINTER")]
    json_pointer: Option<String>,
    /// http: what that value has to be, such as "= ready"
    #[arg(long, value_name = "CONDITION")]
    json_expect: Option<String>,
    /// http: how much of the body is looked at, such as 64KiB
    #[arg(long, value_name = "SIZE")]
    body_limit: Option<String>,
    /// http: how many redirections are followed
    #[arg(long, value_name = "COUNT")]
    redirects: Option<u8>,
    /// http: whether the connection is kept for the next probe
    #[arg(long, value_name = "BOOL")]
    keep_alive: Option<bool>,
    /// http: whether servers may ask for a smaller share, or to be drained, in the field Merismos-Feedback of their responses
    #[arg(long, value_name = "BOOL")]
    server_feedback: Option<bool>,
    /// http, tls, sql: speak TLS, and take certificates that are verified or unverified
    #[arg(long)]
    tls: Option<String>,
    /// http, tls: the name that the certificate has to be for
    #[arg(long, value_name = "NAME")]
    tls_name: Option<String>,
    /// http, tls, sql: a file of authorities (PEM) on the service's machine
    #[arg(long, value_name = "PATH")]
    tls_authorities: Option<String>,
    /// http, tls: the SHA-256 of the only certificate that passes
    #[arg(long, value_name = "DIGITS")]
    tls_pin: Option<String>,
    /// tls: how many days before its end a certificate is called one that ends soon
    #[arg(long, value_name = "DAYS")]
    warn_days: Option<u16>,
}

/// What the other kinds of checks ask.
#[derive(Debug, clap::Args, Serialize)]
struct OtherCheckKeys {
    /// tcp, udp: what is sent, with escapes as in a document, such as "PING\r\n" or "\x00\x01"
    #[arg(long, value_name = "TEXT", value_parser = unescaped)]
    send: Option<String>,
    /// tcp, udp: a text that the response contains, with escapes; dns: a value among the records; sql: a condition that the value meets,
    /// such as "< 30"
    #[arg(long, value_name = "TEXT", value_parser = unescaped)]
    expect: Option<String>,
    /// tcp, udp: a regular expression that the answer matches
    #[arg(long, value_name = "PATTERN")]
    expect_pattern: Option<String>,
    /// dns: the name that is asked for
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// dns: the type of record, such as A
    #[arg(long)]
    record: Option<String>,
    /// sql: who logs in
    #[arg(long)]
    user: Option<String>,
    /// sql: where the password stands: environment:MERISMOS_SECRET_NAME, or file:/PATH in the service's secrets folder
    #[arg(long, value_name = "WHERE")]
    password: Option<String>,
    /// sql: the database
    #[arg(long)]
    database: Option<String>,
    /// sql: one statement that reads, such as "SHOW REPLICA STATUS"
    #[arg(long)]
    query: Option<String>,
    /// sql: the column whose value is judged
    #[arg(long)]
    column: Option<String>,
    /// grpc: the service that is asked about
    #[arg(long)]
    service: Option<String>,
    /// command: the program's file name
    #[arg(long)]
    program: Option<String>,
    /// command: what it is given; may be given several times
    #[arg(long, value_name = "TEXT", allow_hyphen_values = true)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    arguments: Vec<String>,
}
