//! The formats of texts: what each looks like, for the reader, its messages, and the JSON Schema.

use std::net::{IpAddr, SocketAddr};

use ipnet::IpNet;

use crate::announcement::Community;
use crate::config::document::{DaysBefore, Failback, SESSION_COOKIE, StatusRange};
use crate::config::listen_address::{AddressRange, AddressRef, AddressSource};
use crate::config::schema::balancing::HashKey;
use crate::config::schema::checks::SecretRef;
use crate::config::schema::expectation::ExpectedValue;
use crate::config::schema::limit::LimitKey;
use crate::config::schema::persistence::PersistenceKind;
use crate::name::Name;
use crate::text::{is_plain, is_token};

/// What texts of one kind look like.
#[derive(Debug)]
pub struct TextFormat {
    /// One of them, with its article: `an IP address`.
    pub one: &'static str,
    /// Several of them: `IP addresses`.
    pub many: &'static str,
    /// One that is right.
    pub example: &'static str,
    /// A regular expression of JSON Schema (ECMA-262) that each of them matches; empty where none tells enough.
    pub pattern: &'static str,
    /// Reads one: the text as it is kept, or `None` for a text that is none.
    pub(crate) read: fn(&str) -> Option<String>,
}

impl TextFormat {
    /// What would be right, with an example: the one given, or its own where that is empty.
    #[must_use]
    pub fn expected(&self, example: &str) -> String {
        match if example.is_empty() { self.example } else { example } {
            "" => self.one.to_owned(),
            example => format!("{}, such as {example:?}", self.one),
        }
    }
}

/// The text itself, if a condition holds.
fn kept(text: &str, is_right: bool) -> Option<String> {
    is_right.then(|| text.to_owned())
}

macro_rules! formats {
    ($($(#[$doc:meta])* $name:ident: $one:literal, $many:literal, $example:literal, $pattern:literal, $read:expr;)*) => {$(
        $(#[$doc])*
        pub static $name: TextFormat =
            TextFormat { one: $one, many: $many, example: $example, pattern: $pattern, read: $read };
    )*};
}

formats! {
    /// Names of objects.
    NAME: "a name in quotes", "names", "booking", "^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$",
        |text| kept(text, text.parse::<Name>().is_ok());
    /// Texts of any kind, with bounds against mistakes.
    TEXT: "a text of 1 to 4096 bytes", "texts of 1 to 4096 bytes", "", "^[\\s\\S]{1,4096}$",
        |text| kept(text, (1..=4_096).contains(&text.len()));
    /// Pages that clients get.
    PAGE: "a text of 1 to 65536 bytes", "texts of 1 to 65536 bytes", "", "^[\\s\\S]{1,65536}$",
        |text| kept(text, (1..=65_536).contains(&text.len()));
    /// What an object is for.
    NOTE: "a text of at most 500 characters on one line", "texts", "", "^.{0,500}$",
        |text| kept(text, text.is_empty() || is_line(text, 500));
    /// The value of a label.
    LABEL: "a text of 1 to 200 characters on one line", "texts", "north", "^.{1,200}$",
        |text| kept(text, is_line(text, 200));
    /// IP addresses (RFC 4291, 2.2).
    IP_ADDRESS: "an IP address", "IP addresses", "192.0.2.21", "^[0-9a-fA-F:.]+$",
        |text| kept(text, text.parse::<IpAddr>().is_ok());
    /// Addresses that a machine can send from.
    SOURCE_ADDRESS: "an address of this machine", "addresses of this machine", "192.0.2.5", "^[0-9a-fA-F:.]+$",
        |text| {
            let usable = |address: IpAddr| !address.is_unspecified() && !address.is_multicast();
            kept(text, text.parse().is_ok_and(usable))
        };
    /// Addresses with ports.
    SOCKET_ADDRESS: "an IP address and a port from 1 to 65535", "IP addresses with ports", "[2001:db8::21]:8080", "^.+:[0-9]{1,5}$",
        |text| kept(text, text.parse::<SocketAddr>().is_ok_and(|address| address.port() != 0));
    /// Where servers listen.
    SERVER_ADDRESS: "an IP address or a host's name, and a port from 1 to 65535 (a DNS name is a lookup)", "addresses with ports",
        "192.0.2.21:8080", "^.+:[0-9]{1,5}$",
        |text| kept(text, text.parse::<AddressRef>().is_ok_and(|address| !matches!(address.written(), AddressSource::Taken { .. })));
    /// Where frontends listen.
    LISTEN_ADDRESS: "an IP address, or RANGE/NAME for a reserved one, and a port from 1 to 65535", "addresses with ports",
        "192.0.2.10:80", "^.+:[0-9]{1,5}$",
        |text| kept(text, text.parse::<AddressRef>().is_ok_and(|address| !matches!(address.written(), AddressSource::Host(_))));
    /// Ranges of addresses, of a bounded size.
    ADDRESS_RANGE: "a prefix, or a range such as 192.0.2.16-192.0.2.31, of 65536 addresses at most", "ranges of addresses",
        "192.0.2.16/28", "^[0-9a-fA-F:.]+[-/][0-9a-fA-F:.]+$",
        |text| kept(text, text.parse::<AddressRange>().is_ok_and(|range| range.len() <= 1 << 16));
    /// Networks: an address is a network of one.
    NETWORK: "an address or a prefix without bits behind it", "addresses and prefixes", "192.0.2.0/24", "^[0-9a-fA-F:.]+(/[0-9]{1,3})?$",
        |text| network(text).map(|network| network.to_string());
    /// What `hash` may go by.
    HASH_KEY: "client-address, path, path-with-query, host, sni, query:NAME, header:NAME or cookie:NAME",
        "keys, each client-address, path, path-with-query, host, sni, query:NAME, header:NAME or cookie:NAME", "client-address",
        "^(client-address|path|path-with-query|host|sni|(query|header|cookie):.+)$",
        |text| kept(text, text.parse::<HashKey>().is_ok());
    /// What counts as one client of a limit.
    LIMIT_KEY: "client-address, all, host, path, query:NAME, header:NAME, cookie:NAME or label", "", "client-address",
        "^(client-address|all|label|host|path|(query|header|cookie):.+)$",
        |text| kept(text, text.parse::<LimitKey>().is_ok());
    /// What ties clients.
    PERSISTENCE: "cookie, client-address, client-address-and-port, sni, header:NAME, query:NAME, application-cookie:NAME or first-bytes:PATTERN",
        "kinds, each cookie, client-address, client-address-and-port, sni, header:NAME, query:NAME, application-cookie:NAME or first-bytes:PATTERN", "cookie",
        "^(cookie|client-address|client-address-and-port|sni|(header|query|application-cookie):[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}|first-bytes:[ -~]{1,200})$",
        |text| kept(text, text.parse::<PersistenceKind>().is_ok());
    /// When work goes back to a lower tier.
    FAILBACK: "automatic, by hand, or after and a duration from 1s to 24h", "", "after 5m", "^(automatic|by hand|after [0-9]+(ms|s|m|h))$",
        |text| kept(text, text.parse::<Failback>().is_ok());
    /// Names of fields and of cookies (RFC 9110, 5.6.2).
    FIELD_NAME: "the name of a header field", "names of header fields", "X-Real-IP", "^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$",
        |text| kept(text, is_token(text));
    /// Values of fields of a request.
    FIELD_VALUE: "a text of printable ASCII characters", "texts", "yes", "^[ -~]*$",
        |text| kept(text, text.len() <= 4_096 && text.bytes().all(|byte| (0x20..0x7f).contains(&byte)));
    /// Names of cookies that may tie clients. The console's own is none of them.
    COOKIE_NAME: "the name of a cookie, and not merismos_session, which is the console's", "names of cookies", "skerry-pin",
        "^(?!merismos_session$)[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$",
        |text| kept(text, is_token(text) && text != SESSION_COOKIE);
    /// DNS names, as the hosts of RFC 1123, 2.1 and the services of RFC 2782 are written.
    DNS_NAME: "a DNS name", "DNS names", "booking.skerry.example", "^[A-Za-z0-9_-]{1,63}(\\.[A-Za-z0-9_-]{1,63})*\\.?$",
        |text| kept(text, is_dns_name(text));
    /// What certificates are for.
    CERTIFICATE_NAME: "a DNS name, perhaps with * in place of its first label, or an IP address",
        "DNS names and IP addresses", "www.skerry.example", "^([A-Za-z0-9_*-]{1,63}(\\.[A-Za-z0-9_-]{1,63})*|[0-9a-fA-F:.]+)$",
        |text| kept(text, text.parse::<IpAddr>().is_ok() || is_dns_name(text.strip_prefix("*.").unwrap_or(text)));
    /// Names of servers as TLS clients ask for them (SNI).
    SERVER_NAME: "a DNS name, perhaps with * in place of its first label", "DNS names", "tickets.skerry.example",
        "^(\\*\\.)?[A-Za-z0-9_-]{1,63}(\\.[A-Za-z0-9_-]{1,63})*$",
        |text| kept(text, text.parse::<IpAddr>().is_err() && is_dns_name(text.strip_prefix("*.").unwrap_or(text)));
    /// Hosts as a request names them.
    HOST: "a host, perhaps with a port", "hosts", "booking.skerry.example", "^[A-Za-z0-9._:\\[\\]-]+$",
        |text| kept(text, !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._:[]".contains(&byte)));
    /// Hosts with values of a request in braces.
    HOST_TEMPLATE: "a host, perhaps with a port and with values such as {capture.tenant}", "hosts", "inside.skerry.example", "^[A-Za-z0-9._:{}\\[\\]-]+$",
        |text| kept(text, !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._:[]{}".contains(&byte)));
    /// Paths of requests.
    PATH: "a path that begins with a slash and holds no spaces", "paths", "/health", "^/[!-~]*$",
        |text| kept(text, text.starts_with('/') && text.bytes().all(|byte| byte.is_ascii_graphic()));
    /// Domains of cookies. Browsers ignore a cookie whose domain ends with a dot (RFC 6265, 5.2.3 and 5.3).
    COOKIE_DOMAIN: "a DNS name without a dot at its end", "DNS names", "skerry.example", "^[A-Za-z0-9_-]{1,63}(\\.[A-Za-z0-9_-]{1,63})*$",
        |text| kept(text, is_dns_name(text) && !text.ends_with('.'));
    /// Paths of cookies (RFC 6265, 4.1.1: no semicolon).
    COOKIE_PATH: "a path that begins with a slash and holds no spaces and no semicolons", "paths", "/booking", "^/[!-:<-~]*$",
        |text| kept(text, text.starts_with('/') && text.len() <= 1_024 && text.bytes().all(|byte| byte.is_ascii_graphic() && byte != b';'));
    /// Methods of requests.
    METHOD: "a method, and not CONNECT", "methods", "GET", "^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}$",
        |text| kept(text, is_token(text) && text != "CONNECT");
    /// Status codes.
    STATUS_RANGE: "a status code from 100 to 599 or a range of them", "status codes and ranges", "200-299", "^[1-5][0-9]{2}(-[1-5][0-9]{2})?$",
        |text| kept(text, text.parse::<StatusRange>().is_ok());
    /// Times before a day.
    DAYS_BEFORE: "days from 1d to 365d", "days", "30d", "^([1-9][0-9]?|[12][0-9]{2}|3[0-5][0-9]|36[0-5])d$",
        |text| kept(text, text.parse::<DaysBefore>().is_ok());
    /// Regular expressions. Their compiler says what is wrong with one.
    PATTERN: "a regular expression of 1 to 1024 bytes", "regular expressions", "", "",
        |text| kept(text, (1..=1_024).contains(&text.len()));
    /// Where a value stands in JSON.
    JSON_POINTER: "a JSON pointer (RFC 6901)", "JSON pointers", "/state", "^(/.*)?$",
        |text| kept(text, text.is_empty() || text.starts_with('/'));
    /// What a value has to be.
    CONDITION: "a condition: =, !=, <, <=, > or >= and a value", "conditions", "< 30", "^(=|!=|<|<=|>|>=).*$",
        |text| kept(text, text.parse::<ExpectedValue>().is_ok());
    /// Conditions of rules. Their reader says what is wrong with one.
    RULE_CONDITION: "a condition of 1 to 4096 bytes", "conditions", "path under /admin and client not in office", "^[\\s\\S]{1,4096}$",
        |text| kept(text, (1..=4_096).contains(&text.len()));
    /// Where redirects lead. Their reader says what is wrong with one.
    LOCATION: "a URL with http or https, or a path, with {host}, {path}, {rest} or {query} in it", "URLs",
        "https://www.skerry.example{path}{query}", "^(https?://|/|\\{(path|rest)\\}).{0,2048}$",
        |text| kept(text, (1..=2_048).contains(&text.len()));
    /// Where a secret stands.
    SECRET: "a reference to a secret: environment:MERISMOS_SECRET_NAME, or file:/PATH in the folder of the service's secrets", "references",
        "environment:MERISMOS_SECRET_PROBE", "^(environment:[^=]+|file:/.*)$",
        |text| kept(text, text.parse::<SecretRef>().is_ok());
    /// Files on the service's machine.
    FILE: "the whole path of a file of certificates (PEM)", "paths", "/etc/merismos/authorities.pem", "^/",
        |text| kept(text, text.starts_with('/'));
    /// Communities of routes (RFC 1997).
    COMMUNITY: "two numbers up to 65535 with a colon between them", "communities", "64500:120", "^[0-9]{1,5}:[0-9]{1,5}$",
        |text| text.parse::<Community>().ok().map(|community| community.to_string());
    /// Interfaces of machines (at most 15 bytes, as the kernel has it).
    INTERFACE: "the name of an interface: 1 to 15 characters without spaces, slashes and colons", "interfaces", "eth0", "^[!-.0-9;-~]{1,15}$",
        |text| kept(text, is_interface(text));
    /// Fingerprints of certificates.
    SHA256: "the SHA-256 of a certificate: 64 hexadecimal digits", "fingerprints", "", "^[0-9a-fA-F]{64}$",
        |text| {
            let is_right = text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_hexdigit());
            is_right.then(|| text.to_ascii_lowercase())
        };
    /// Statements that change nothing, as far as their beginning tells; the probe runs them in a transaction that can't.
    QUERY: "one statement that begins with SELECT or SHOW, without a semicolon", "statements", "SELECT @@read_only",
        "^\\s*([Ss][Ee][Ll][Ee][Cc][Tt]|[Ss][Hh][Oo][Ww])(\\s[^;]*)?$",
        |text| kept(text, is_query(text));
    /// Programs: which folder they are in is not the document's to say.
    PROGRAM: "the file name of a program, without a folder", "file names", "lag", "^[A-Za-z0-9_-][A-Za-z0-9_.-]{0,99}$",
        |text| kept(text, is_program(text));
    /// What programs are given.
    ARGUMENT: "a text of at most 1024 bytes", "texts", "--verbose", "",
        |text| kept(text, !text.contains('\0') && text.len() <= 1_024);
    /// Where messages are posted to.
    URL: "an http or https URL without a password in it", "URLs", "https://bell.skerry.example/hook", "^https?://[!-~]+$",
        |text| kept(text, is_url(text));
    /// Where authorities tell what they do.
    HTTPS_URL: "an https URL without a password in it", "URLs", "https://ca.skerry.example/directory", "^https://[!-~]+$",
        |text| kept(text, is_url(text) && text.starts_with("https://"));
    /// Addresses of e-mail.
    MAILBOX: "an e-mail address", "e-mail addresses", "watch@skerry.example", "^[A-Za-z0-9._+-]+@[A-Za-z0-9._+-]+$",
        |text| kept(text, is_mailbox(text));
    /// Mail servers.
    MAIL_SERVER: "a mail server and its port", "mail servers", "mail.skerry.example:587", "^[A-Za-z0-9._:\\[\\]-]+:[0-9]{1,5}$",
        |text| kept(text, is_mail_server(text));
    /// Users of servers.
    USER: "a text of 1 to 200 bytes", "texts", "merismos", "",
        |text| kept(text, (1..=200).contains(&text.len()));
}

fn is_line(text: &str, most: usize) -> bool {
    (1..=most).contains(&text.chars().count()) && text.chars().all(is_plain)
}

/// A network; an address is one of a single address.
pub(in crate::config) fn network(text: &str) -> Option<IpNet> {
    let prefix = text.parse::<IpNet>().ok().filter(|net| net.addr() == net.network());
    prefix.or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from))
}

fn is_dns_name(text: &str) -> bool {
    let is_label = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_')
    };
    text.len() <= 253 && text.trim_end_matches('.').split('.').all(is_label)
}

fn is_query(text: &str) -> bool {
    let first = text.split_whitespace().next().unwrap_or_default();
    let reads = ["select", "show"].iter().any(|word| first.eq_ignore_ascii_case(word));
    reads && !text.contains(';') && text.len() <= 4_096
}

fn is_program(text: &str) -> bool {
    let is_known = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte);
    (1..=100).contains(&text.len()) && !text.starts_with('.') && text.bytes().all(is_known)
}

fn is_url(text: &str) -> bool {
    let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    text.len() <= 2_000
        && text.bytes().all(|byte| byte.is_ascii_graphic())
        && rest.is_some_and(|rest| !rest.is_empty() && !rest.starts_with('/') && !rest.contains('@'))
}

fn is_interface(text: &str) -> bool {
    let is_part = |byte: u8| byte.is_ascii_graphic() && byte != b'/' && byte != b':';
    (1..=15).contains(&text.len()) && text.bytes().all(is_part)
}

fn is_mailbox(text: &str) -> bool {
    let is_part = |part: &str| {
        !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_alphanumeric() || b".-_+".contains(&byte))
    };
    text.len() <= 254 && text.split_once('@').is_some_and(|(local, domain)| is_part(local) && is_part(domain))
}

fn is_mail_server(text: &str) -> bool {
    let Some((host, port)) = text.rsplit_once(':') else { return false };
    let is_known = |byte: u8| byte.is_ascii_alphanumeric() || b".-_[]:".contains(&byte);
    !host.is_empty() && host.bytes().all(is_known) && port.parse::<u16>().is_ok_and(|port| port != 0)
}
