//! What checks ask of servers, and what answers count.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use merismos_derive::Keys;
use serde::{Serialize, Serializer};
use strum::{Display, EnumMessage, EnumString, VariantNames};

use crate::config::document::StatusRange;
use crate::config::schema::expectation::{BodyExpectation, ExpectedValue, Pattern};
use crate::config::schema::upstream::HttpVersion;
use crate::name::Name;

/// What a probe asks of a server, and what passes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
#[serde(tag = "kind", rename_all = "lowercase")]
#[key(label = "Check type", example = "http")]
pub enum CheckKind {
    /// A connection that is accepted; a response if one is expected. An open port alone does not prove a service.
    Tcp(SendExpect),
    /// An HTTP request on a connection of its own: the status passes, and what is expected of the body.
    Http(Box<HttpProbe>),
    /// An echo of ICMP (RFC 792) or ICMPv6 (RFC 4443). The service needs CAP_NET_RAW.
    Icmp,
    /// A datagram and its response; where none is expected, that it is not refused (ICMP) within 250 ms.
    Udp(SendExpect),
    /// A DNS query to the server itself (RFC 1035).
    Dns(DnsProbe),
    /// A TLS handshake and a certificate that is trusted.
    Tls(TlsProbe),
    /// A log-in and one query at a server that speaks the protocol of MariaDB and MySQL: a value of the first row.
    Sql(Box<SqlProbe>),
    /// The standard health service of gRPC: SERVING passes.
    Grpc(GrpcProbe),
    /// A program in the service's command folder, without a shell: exit code 0 passes.
    Command(CommandProbe),
}

/// Something said, and what has to come back.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct SendExpect {
    /// Text that is sent, with the escapes of a document: `PING\r\n`, `\x00\x01`.
    #[key(basic, escapes, format = TEXT, label = "Send", group = "Probe")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub send: Option<String>,
    /// Text that the response contains within its first 64 KiB, with the escapes of a document.
    #[key(basic, escapes, format = TEXT)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect: Option<String>,
    /// Regular expression that the response matches.
    #[key(example = "^[+]PONG")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect_pattern: Option<Pattern>,
}

impl SendExpect {
    /// Whether an answer is waited for.
    #[must_use]
    pub fn wants_answer(&self) -> bool {
        self.expect.is_some() || self.expect_pattern.is_some()
    }

    /// Whether what came is what has to come back.
    #[must_use]
    pub fn is_met(&self, answer: &[u8]) -> bool {
        let contains = |text: &String| memchr::memmem::find(answer, text.as_bytes()).is_some();
        self.expect.as_ref().is_none_or(contains)
            && self.expect_pattern.as_ref().is_none_or(|pattern| pattern.matches(answer))
    }

    fn sends(&self) -> String {
        self.send.as_ref().map_or_else(String::new, |text| format!(", sends {}", crate::text::sent(text)))
    }

    fn wants(&self) -> String {
        let texts = self.expect.iter().map(|text| format!("{text:?}"));
        let patterns = self.expect_pattern.iter().map(|pattern| format!("the pattern {pattern}"));
        texts.chain(patterns).collect::<Vec<_>>().join(" and ")
    }
}

/// A request of HTTP and how its response is judged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct HttpProbe {
    /// Path of the request, with its query.
    #[key(basic, format = PATH, default = "/", group = "Probe")]
    pub path: String,
    /// Method of the request.
    #[key(format = METHOD, default = "GET")]
    #[serde(skip_serializing_if = "is_get")]
    pub method: String,
    /// Host that is asked for; a server with several sites may answer for another one without it.
    #[key(format = HOST, without = "the server's address")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// More header fields of the request.
    #[key(format = FIELD_VALUE, count = 0..=32, example = "X-Probe=yes")]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub headers: BTreeMap<String, String>,
    /// Version of HTTP.
    #[key(default = "1.1", label = "HTTP version")]
    #[serde(skip_serializing_if = "is_one")]
    pub http_version: HttpVersion,
    /// How the server's certificate is judged; without it no TLS is spoken.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub tls: Option<CertificateTrust>,
    /// Status codes and ranges that pass.
    #[key(basic, default = "200-299", count = 1..=100, label = "Expected status", group = "Probe")]
    pub accept: Vec<StatusRange>,
    /// What is wanted of the response's body.
    #[serde(flatten)]
    pub body: BodyExpectation,
    /// Most redirects that are followed; with 0 a redirect is a response like others.
    #[key(range = 0..=5, default = "0", group = "Connection")]
    #[serde(skip_serializing_if = "is_zero")]
    pub redirects: u8,
    /// Whether the connection is kept for the next probe (HTTP/1.1).
    ///
    /// It is cheaper for the server and proves less: that new connections are accepted is not seen.
    #[key(default = "false")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub keep_alive: bool,
    /// Whether servers may ask for a smaller share, or to be drained, in the field `Merismos-Feedback` of their responses.
    ///
    /// `share=N` is N percent of the share that the server would have, `drain` keeps new clients away. It stands until a response that
    /// passes comes without it. A server that asks to be drained is not while no other server of its pool could work.
    #[key(default = "false")]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub server_feedback: bool,
}

fn is_get(method: &str) -> bool {
    method == "GET"
}

fn is_one(version: &HttpVersion) -> bool {
    *version == HttpVersion::One
}

fn is_zero(number: &u8) -> bool {
    *number == 0
}

/// How a certificate is judged.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Keys)]
pub struct CertificateTrust {
    /// What is checked of the server's certificate. Any key of TLS makes an `http` check, or the connections to a pool's servers, speak TLS.
    ///
    /// Without any of these keys plain text is spoken; the default is for when another of them is given. Checks that have no such key of their own follow their pool.
    #[key(default = "verified", label = "TLS", group = "TLS")]
    pub tls: TlsVerify,
    /// Name that the certificate has to be for, and that is sent as SNI.
    #[key(format = DNS_NAME, without = "the host, else the address", label = "TLS name")]
    #[serde(rename = "tls_name", skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// File of authorities (PEM) on the service's machine that are trusted beside the machine's own.
    #[key(format = FILE, label = "TLS authorities")]
    #[serde(rename = "tls_authorities", skip_serializing_if = "Option::is_none")]
    pub authorities: Option<String>,
    /// SHA-256 of the only certificate that passes, in hexadecimal digits.
    #[key(format = SHA256, label = "TLS pin")]
    #[serde(rename = "tls_pin", skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// Certificate that servers are shown when they ask for one.
    ///
    /// Servers tell the service from all others by it. One that is replaced is shown from the next connection on.
    #[key(refers = Certificate, without = "none", label = "TLS certificate")]
    #[serde(rename = "tls_certificate", skip_serializing_if = "Option::is_none")]
    pub certificate: Option<Name>,
}

/// What is checked of a certificate.
#[derive(
    Clone,
    Copy,
    Debug,
    Default,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Display,
    EnumString,
    VariantNames,
    EnumMessage,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum TlsVerify {
    /// Name, dates and signature of the certificate are verified.
    #[default]
    Verified,
    /// Nothing is verified but `tls_pin`, where it is given.
    Unverified,
}

/// A handshake of TLS.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct TlsProbe {
    /// How the certificate is judged.
    #[serde(flatten)]
    pub trust: CertificateTrust,
    /// Number of days before a certificate's end from which a probe that passes reports it.
    #[key(basic, range = 0..=365, default = "14")]
    pub warn_days: u16,
}

/// A question to a name server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct DnsProbe {
    /// DNS name that is asked for.
    #[key(basic, format = DNS_NAME, group = "Probe")]
    pub name: String,
    /// Type of record that is asked for.
    #[key(basic, default = "A")]
    pub record: DnsRecordType,
    /// Value that is among the answers; without it any answer passes.
    #[key(basic, format = TEXT)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect: Option<String>,
}

/// The types of records that can be asked for (RFC 1035, 3.2.2; RFC 3596; RFC 2782).
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Display, EnumString, VariantNames, EnumMessage,
)]
#[serde(rename_all = "UPPERCASE")]
#[strum(serialize_all = "UPPERCASE")]
pub enum DnsRecordType {
    /// IPv4 addresses.
    #[default]
    A,
    /// IPv6 addresses.
    Aaaa,
    /// The name's canonical name.
    Cname,
    /// Mail exchanges.
    Mx,
    /// Name servers.
    Ns,
    /// Names of an address.
    Ptr,
    /// The start of the zone.
    Soa,
    /// Services.
    Srv,
    /// Texts.
    Txt,
}

/// A query of a database.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct SqlProbe {
    /// User that logs in.
    #[key(basic, format = TEXT, example = "merismos", group = "Probe")]
    pub user: String,
    /// Reference to the user's password.
    #[key(basic)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretRef>,
    /// Database that is used.
    #[key(format = TEXT)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    /// What is checked of the server's certificate; without it the probe speaks no TLS.
    ///
    /// Without TLS the network between has to be trusted: the query and its result can be read.
    #[key(label = "TLS", group = "TLS")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsVerify>,
    /// File of the only authorities (PEM) that are trusted, instead of the machine's own.
    #[key(format = FILE, label = "TLS authorities")]
    #[serde(rename = "tls_authorities", skip_serializing_if = "Option::is_none")]
    pub authorities: Option<String>,
    /// One statement that only reads: `SELECT`, run in a transaction that can't write, or `SHOW`.
    #[key(basic, format = QUERY, group = "Probe")]
    pub query: String,
    /// Column of the first row whose value is judged.
    #[key(basic, format = TEXT, without = "the first column", example = "Seconds_Behind_Master")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// Condition that the value meets, such as `< 30`; without it any row passes.
    ///
    /// `=` and `!=` compare texts and numbers. `<`, `<=`, `>` and `>=` never match a value that is not a number.
    #[key(basic)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect: Option<ExpectedValue>,
}

/// A question to the standard health service of gRPC.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct GrpcProbe {
    /// Service that is asked about; without it the whole server.
    #[key(basic, format = TEXT, without = "the whole server", group = "Probe")]
    #[serde(skip_serializing_if = "String::is_empty")]
    pub service: String,
}

/// A program to run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Keys)]
pub struct CommandProbe {
    /// File name of the program in the service's command folder.
    ///
    /// It gets `MERISMOS_ADDRESS` and `MERISMOS_PORT` in an otherwise empty environment. Its first line is shown. When the timeout is over
    /// it is ended with all that it started.
    #[key(basic, format = PROGRAM, group = "Probe")]
    pub program: String,
    /// Arguments of the program.
    #[key(format = ARGUMENT, count = 0..=32)]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub arguments: Vec<String>,
}

/// Where a secret stands: documents never hold one themselves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SecretRef {
    /// In a variable of the service's environment.
    Environment(String),
    /// In a file on the service's machine.
    File(String),
}

impl FromStr for SecretRef {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        match text.split_once(':') {
            Some(("environment", name)) if !name.is_empty() && !name.contains('=') => {
                Ok(Self::Environment(name.to_owned()))
            }
            Some(("file", path)) if path.starts_with('/') => Ok(Self::File(path.to_owned())),
            _ => Err(()),
        }
    }
}

impl fmt::Display for SecretRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Environment(name) => write!(f, "environment:{name}"),
            Self::File(path) => write!(f, "file:{path}"),
        }
    }
}

impl Serialize for SecretRef {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl CheckKind {
    /// How it judges servers' certificates itself, where it does.
    #[must_use]
    pub fn trust(&self) -> Option<&CertificateTrust> {
        match self {
            Self::Http(asked) => asked.tls.as_ref(),
            Self::Tls(asked) => Some(&asked.trust),
            _ => None,
        }
    }

    /// As [`Self::trust`], to change it.
    pub(in crate::config) fn trust_mut(&mut self) -> Option<&mut CertificateTrust> {
        match self {
            Self::Http(asked) => asked.tls.as_mut(),
            Self::Tls(asked) => Some(&mut asked.trust),
            _ => None,
        }
    }

    /// What it asks, in words: `http: GET /health wants 200-299`.
    #[must_use]
    pub fn asks(&self) -> String {
        let asks = match self {
            Self::Tcp(exchange) if exchange.wants_answer() => {
                format!("connect{}, wants {}", exchange.sends(), exchange.wants())
            }
            Self::Tcp(exchange) => format!("connect{}", exchange.sends()),
            Self::Http(asked) => {
                let ranges: Vec<_> = asked.accept.iter().map(ToString::to_string).collect();
                let body = if asked.body.is_something() {
                    format!(", body {}", asked.body.wants())
                } else {
                    String::new()
                };
                format!("{} {} wants {}{body}", asked.method, asked.path, ranges.join(" or "))
            }
            Self::Icmp => "echo".to_owned(),
            Self::Udp(exchange) if exchange.wants_answer() => {
                format!("datagram{}, wants {}", exchange.sends(), exchange.wants())
            }
            Self::Udp(exchange) => format!("datagram{}, wants no refusal", exchange.sends()),
            Self::Dns(asked) => {
                let wants = asked.expect.as_ref().map_or_else(|| "an answer".to_owned(), String::clone);
                format!("{} {} wants {wants}", asked.name, asked.record)
            }
            Self::Tls(asked) => match asked.trust.tls {
                TlsVerify::Verified => "handshake with a verified certificate".to_owned(),
                TlsVerify::Unverified => "handshake".to_owned(),
            },
            Self::Sql(asked) => {
                let wanted =
                    asked.expect.as_ref().map_or_else(|| "a row".to_owned(), ExpectedValue::to_string);
                format!("{} expects {wanted}", asked.query)
            }
            Self::Grpc(asked) if asked.service.is_empty() => "health of the server".to_owned(),
            Self::Grpc(asked) => format!("health of {}", asked.service),
            Self::Command(asked) => format!("run {}", asked.program),
        };
        let name = match self {
            Self::Http(asked) if asked.tls.is_some() => "https",
            _ => self.name(),
        };
        format!("{name}: {asks}")
    }

    /// The name of the kind: `tcp`, `http` and so on.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::Tcp(_) => "tcp",
            Self::Http(_) => "http",
            Self::Icmp => "icmp",
            Self::Udp(_) => "udp",
            Self::Dns(_) => "dns",
            Self::Tls(_) => "tls",
            Self::Sql(_) => "sql",
            Self::Grpc(_) => "grpc",
            Self::Command(_) => "command",
        }
    }
}
