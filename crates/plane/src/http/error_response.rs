//! The answers that are our own: short, plain, and naming the frontend.

use std::fmt;
use std::time::SystemTime;

use httpdate::HttpDate;
use merismos_core::config::document::{ErrorFacts, ErrorFormat, RuleSpec};
use merismos_core::limits::RefusalReason;
use merismos_core::name::Name;
use merismos_core::routing::{Frontend, Maintenance};

/// Why a request is not passed on: the client's doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum RequestError {
    /// The head breaks the rules.
    Malformed(&'static str),
    /// The head did not come in time.
    Slow,
    /// The request line alone is larger than the frontend takes a head.
    TargetTooLong,
    /// The head is larger than the frontend takes.
    HeadTooLarge,
    /// The head has more fields than are taken.
    TooManyFields { limit: usize },
    /// The body is larger than the frontend takes.
    BodyTooLarge { limit: u64 },
    /// A transfer coding other than chunked.
    Coding,
    /// Something that exists and is not offered.
    NotOffered(&'static str),
    /// Not HTTP/1.0 or 1.1.
    Version,
    /// The chunked coding of the body is broken.
    BrokenChunks,
    /// It has none of the keys that the pool distributes by.
    NoKey,
    /// Its path would be read in several ways, and rules go by paths.
    AmbiguousPath(&'static str),
    /// It has no form in HTTP/2, which its servers speak.
    NoFormInHttp2(&'static str),
    /// It asks about the way and may not go further than here: the question is ours to answer (RFC 9110, 7.6.2).
    Options,
    /// The same, and wants to see itself; which is shown to no client (RFC 9110, 9.3.8).
    Trace,
}

/// Why a request could not be answered: ours or the servers' doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum GatewayError {
    /// No server is eligible.
    NoServer,
    /// The server that its client is tied to is out of service, and no other may have it.
    PinnedAway,
    /// All eligible servers are full, and so is the line, or the wait was too long.
    Full,
    /// Every server that was tried failed.
    AllFailed,
    /// The server answered nonsense or broke off before its answer began.
    BrokenAnswer,
    /// The server took too long.
    Late,
    /// The server was withdrawn while it worked on the request.
    Withdrawn,
    /// This service has no descriptor or port left for a connection to a server.
    Exhausted,
}

impl RequestError {
    /// Why the client is refused.
    pub(super) fn reason(self) -> RefusalReason {
        match self {
            Self::Slow => RefusalReason::TooSlow,
            Self::TargetTooLong
            | Self::HeadTooLarge
            | Self::TooManyFields { .. }
            | Self::BodyTooLarge { .. } => RefusalReason::TooLarge,
            Self::Malformed(_)
            | Self::Coding
            | Self::NotOffered(_)
            | Self::Version
            | Self::BrokenChunks
            | Self::NoKey
            | Self::AmbiguousPath(_)
            | Self::NoFormInHttp2(_)
            | Self::Options
            | Self::Trace => RefusalReason::Malformed,
        }
    }

    /// The status that the client gets.
    pub(super) fn status(self) -> u16 {
        match self {
            Self::Malformed(_) | Self::BrokenChunks | Self::NoKey => 400,
            Self::Slow => 408,
            Self::BodyTooLarge { .. } => 413,
            Self::TargetTooLong => 414,
            Self::NoFormInHttp2(_) | Self::AmbiguousPath(_) => 400,
            Self::HeadTooLarge | Self::TooManyFields { .. } => 431,
            Self::Options => 200,
            Self::Coding | Self::NotOffered(_) | Self::Trace => 501,
            Self::Version => 505,
        }
    }
}

impl fmt::Display for RequestError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Malformed(what) | Self::NotOffered(what) => f.write_str(what),
            Self::Slow => f.write_str("the request did not come in time"),
            Self::TargetTooLong => f.write_str("the request target is too long"),
            Self::HeadTooLarge => f.write_str("the request head is too large"),
            Self::BodyTooLarge { limit } => {
                write!(
                    f,
                    "the body of the request is larger than {limit} bytes, which is the most that is taken here"
                )
            }
            Self::TooManyFields { limit } => write!(f, "the request head has more than {limit} fields"),
            Self::NoFormInHttp2(what) => f.write_str(what),
            Self::AmbiguousPath(what) => {
                write!(
                    f,
                    "the path holds {what}, which servers read in several ways; it is not passed on here"
                )
            }
            Self::Coding => f.write_str("only the transfer coding chunked is understood, once and alone"),
            Self::Version => f.write_str("only HTTP/1.0 and HTTP/1.1 are understood"),
            Self::NoKey => {
                f.write_str("the request has none of the keys by which it would be given to a server")
            }
            Self::Options => {
                f.write_str("here Max-Forwards ends; what the servers behind offer was not asked")
            }
            Self::Trace => f.write_str("here Max-Forwards ends, and TRACE is not answered"),
            Self::BrokenChunks => f.write_str(
                "the chunked coding of the body is broken, or more stands behind it than is taken",
            ),
        }
    }
}

impl GatewayError {
    /// The status that the client gets.
    pub(super) fn status(self) -> u16 {
        match self {
            Self::NoServer | Self::PinnedAway | Self::Full | Self::Exhausted => 503,
            Self::AllFailed | Self::BrokenAnswer | Self::Withdrawn => 502,
            Self::Late => 504,
        }
    }
}

impl fmt::Display for GatewayError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::NoServer => "no server is available",
            Self::PinnedAway => {
                "the server that holds this session is out of service; it is kept for its return"
            }
            Self::Full => "every server has as much work as it may have; try again soon",
            Self::AllFailed => "no server could be reached",
            Self::BrokenAnswer => "the server broke off its answer or gave one that makes no sense",
            Self::Late => "the server did not answer in time",
            Self::Exhausted => {
                "no connection to a server can be made now, for this service is short of descriptors or ports"
            }
            Self::Withdrawn => "the server was taken out of service while it worked on this request",
        })
    }
}

/// When a client that got 503 may come again (RFC 9110, 10.2.3): a server that was full or away a second ago may not be
/// so any more.
const RETRY_AFTER: &str = "Retry-After: 1\r\n";

fn reason_phrase(status: u16) -> &'static str {
    let known = http::StatusCode::from_u16(status).ok();
    known.and_then(|status| status.canonical_reason()).unwrap_or("Other")
}

/// A whole answer of our own. `with_body` is false for HEAD, whose answer has the fields alone.
pub(super) fn error_response(
    status: u16,
    says: &dyn fmt::Display,
    frontend: &Name,
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let again = if status == 503 { RETRY_AFTER } else { "" };
    response(status, says, again, frontend, close, with_body)
}

/// As [`error_response`], of a frontend whose every response may say something of its own (HSTS, RFC 6797, 7.1).
/// `accept` is what the client wants to read, as far as it is known.
pub(super) fn frontend_error(
    status: u16,
    says: &dyn fmt::Display,
    frontend: &Frontend,
    accept: &[u8],
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let again = if status == 503 { RETRY_AFTER } else { "" };
    error_page(status, says, again, frontend, accept, close, with_body)
}

/// An error in the words of the frontend, or in a sentence where it has none. `field` is one more field, with its line end.
fn error_page(
    status: u16,
    says: &dyn fmt::Display,
    field: &str,
    frontend: &Frontend,
    accept: &[u8],
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let hsts = String::from_utf8_lossy(frontend.hsts.as_deref().unwrap_or_default());
    let fields = format!("{field}{hsts}");
    let page = frontend.errors.as_ref().filter(|_| status >= 400).and_then(|pages| {
        let (reason, name) = (reason_phrase(status), frontend.name.to_string());
        let facts = ErrorFacts { status, reason, why: &says.to_string(), frontend: &name };
        pages.body(ErrorFormat::preferred(accept), facts)
    });
    match page {
        Some((kind, body)) => {
            whole_response(status, Content { kind, body: &body, with_body }, &fields, close)
        }
        None => response(status, says, &fields, &frontend.name, close, with_body),
    }
}

/// A redirect, which is not to be cached: it is easy to take back.
pub(super) fn redirect(
    status: u16,
    location: &str,
    frontend: &Name,
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let field = format!("Location: {location}\r\n");
    response(status, &format_args!("use {location}"), &field, frontend, close, with_body)
}

/// A redirect of a rule.
pub(super) fn rule_redirect(
    status: u16,
    location: &str,
    frontend: &Frontend,
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let hsts = String::from_utf8_lossy(frontend.hsts.as_deref().unwrap_or_default());
    let fields = format!("Location: {location}\r\n{hsts}");
    response(status, &format_args!("use {location}"), &fields, &frontend.name, close, with_body)
}

/// The fixed response of a rule.
pub(super) fn rule_response(
    rule: &RuleSpec,
    frontend: &Frontend,
    accept: &[u8],
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let status = rule.own_status().unwrap_or(403);
    let Some(body) = &rule.body else {
        let says = if status < 400 { "a rule answers this request" } else { "a rule refuses this request" };
        return frontend_error(status, &says, frontend, accept, close, with_body);
    };
    let hsts = String::from_utf8_lossy(frontend.hsts.as_deref().unwrap_or_default());
    let kind = rule.content_type.as_deref().unwrap_or("text/plain; charset=utf-8");
    let content = Content { kind, body, with_body: with_body && has_content(status) };
    whole_response(status, content, &hsts, close)
}

/// What a client gets that asks for more than it may (RFC 6585, 4).
pub(super) fn limited(
    retry_after: u64,
    frontend: &Frontend,
    accept: &[u8],
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let field = format!("Retry-After: {retry_after}\r\n");
    let says = format_args!("this client asks for more than it may; please come again in {retry_after} s");
    error_page(429, &says, &field, frontend, accept, close, with_body)
}

/// What clients get while the application is worked on.
pub(super) fn maintenance(
    of: &Maintenance,
    frontend: &Frontend,
    accept: &[u8],
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let field = format!("Retry-After: {}\r\n", of.retry_after);
    let Some(body) = &of.page else {
        let says = "the application is being worked on; please come again later";
        return error_page(503, &says, &field, frontend, accept, close, with_body);
    };
    let hsts = String::from_utf8_lossy(frontend.hsts.as_deref().unwrap_or_default());
    let fields = format!("{field}{hsts}");
    let is_html = body.trim_start().starts_with('<');
    let kind = if is_html { "text/html; charset=utf-8" } else { "text/plain; charset=utf-8" };
    whole_response(503, Content { kind, body, with_body }, &fields, close)
}

/// Whether a response with this status may have content (RFC 9110, 6.4.1).
fn has_content(status: u16) -> bool {
    !matches!(status, 204 | 304)
}

/// What an authority of certificates is answered (RFC 8555, 8.3).
pub(super) fn challenge(answer: &str, close: bool, with_body: bool) -> Vec<u8> {
    let connection = if close { "Connection: close\r\n" } else { "" };
    let body_sent = if with_body { answer } else { "" };
    format!(
        "HTTP/1.1 200 OK\r\nDate: {}\r\nContent-Type: application/octet-stream\r\nContent-Length: {}\r\n\
         Cache-Control: no-store\r\n{connection}\r\n{body_sent}",
        HttpDate::from(SystemTime::now()),
        answer.len()
    )
    .into_bytes()
}

/// `field` is one more field, with its line end.
fn response(
    status: u16,
    says: &dyn fmt::Display,
    field: &str,
    frontend: &Name,
    close: bool,
    with_body: bool,
) -> Vec<u8> {
    let phrase = reason_phrase(status);
    let body = format!("{status} {phrase}\nfrontend {frontend}: {says}\n");
    let content = Content {
        kind: "text/plain; charset=utf-8",
        body: &body,
        with_body: with_body && has_content(status),
    };
    whole_response(status, content, field, close)
}

/// The content of a response of our own.
struct Content<'a> {
    kind: &'a str,
    body: &'a str,
    /// Whether it is sent; its length is said where it is not, unless the status has none.
    with_body: bool,
}

/// `fields` are more fields, with their line ends.
fn whole_response(status: u16, content: Content<'_>, fields: &str, close: bool) -> Vec<u8> {
    let phrase = reason_phrase(status);
    let connection = if close { "Connection: close\r\n" } else { "" };
    let body = if content.with_body { content.body } else { "" };
    let about = if has_content(status) {
        format!("Content-Type: {}\r\nContent-Length: {}\r\n", content.kind, content.body.len())
    } else {
        String::new()
    };
    format!(
        "HTTP/1.1 {status} {phrase}\r\nDate: {}\r\n{about}Cache-Control: no-store\r\n{fields}{connection}\r\n{body}",
        HttpDate::from(SystemTime::now()),
    )
    .into_bytes()
}
