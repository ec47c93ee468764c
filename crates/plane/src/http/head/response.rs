//! Response heads: where their bodies end, and what of them the client gets.

use std::time::SystemTime;

use httparse::Status;
use httpdate::HttpDate;

use super::{
    FieldAction, Framing, MOST_RESPONSE_FIELDS, content_length, drop_named, has_whole_line_ends, members,
};

/// What the plane needs to know of a response.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in super::super) struct Response {
    /// How many bytes the head has.
    pub(in super::super) length: usize,
    pub(in super::super) status: u16,
    pub(in super::super) framing: Framing,
    /// The server may be sent another request on this connection.
    pub(in super::super) keep_alive: bool,
    /// It says when it was made, or need not (1xx).
    pub(in super::super) is_dated: bool,
    /// How many fields the head has.
    pub(in super::super) fields: u16,
    /// Nothing in the head has to be taken off, changed or added for an HTTP/1.1 client.
    pub(in super::super) passes_as_is: bool,
}

/// A response head that makes no sense, or that two clients could read in two ways.
#[derive(Debug, PartialEq, Eq)]
pub(in super::super) struct InvalidResponse;

/// As [`response`], of a server: with more than 256 fields it is not passed on.
pub(in super::super) fn server_response(
    data: &[u8],
    to_head: bool,
) -> Result<Option<Response>, InvalidResponse> {
    match response(data, to_head)? {
        Some(response) if usize::from(response.fields) > MOST_RESPONSE_FIELDS => Err(InvalidResponse),
        response => Ok(response),
    }
}

/// How many fields are added to a head that is passed on, at most.
const ADDED_FIELDS: usize = 16;

/// Parses the response head that the data begins with; `None` when it is not all there. `to_head`: it answers a HEAD
/// request.
pub(in super::super) fn response(data: &[u8], to_head: bool) -> Result<Option<Response>, InvalidResponse> {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_RESPONSE_FIELDS + ADDED_FIELDS];
    let mut parsed = httparse::Response::new(&mut []);
    let config = httparse::ParserConfig::default();
    let whole = match config.parse_response_with_uninit_headers(&mut parsed, data, &mut fields) {
        Ok(Status::Complete(length)) => read_response(&data[..length], &parsed, to_head)?,
        Ok(Status::Partial) => return Ok(None),
        Err(httparse::Error::HeaderName) => return spaced_response(data, to_head),
        Err(_) => return Err(InvalidResponse),
    };
    Ok(Some(whole))
}

/// What takes a response head with white space behind the names of its fields.
fn lenient_parser() -> httparse::ParserConfig {
    let mut config = httparse::ParserConfig::default();
    config.allow_spaces_after_header_name_in_responses(true);
    config
}

/// As [`response`], of a server that puts white space behind the names of fields: that does not go on (RFC 9112, 5.1).
#[cold]
fn spaced_response(data: &[u8], to_head: bool) -> Result<Option<Response>, InvalidResponse> {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_RESPONSE_FIELDS + ADDED_FIELDS];
    let mut parsed = httparse::Response::new(&mut []);
    match lenient_parser().parse_response_with_uninit_headers(&mut parsed, data, &mut fields) {
        Ok(Status::Complete(length)) => {
            let response = read_response(&data[..length], &parsed, to_head)?;
            Ok(Some(Response { passes_as_is: false, ..response }))
        }
        Ok(Status::Partial) => Ok(None),
        Err(_) => Err(InvalidResponse),
    }
}

#[inline]
fn read_response(
    head: &[u8],
    parsed: &httparse::Response<'_, '_>,
    to_head: bool,
) -> Result<Response, InvalidResponse> {
    if !head.starts_with(b"H") || !has_whole_line_ends(head, parsed.headers) {
        return Err(InvalidResponse);
    }
    let status = parsed.code.filter(|code| (100..=599).contains(code)).ok_or(InvalidResponse)?;
    let is_http_10 = parsed.version == Some(0);
    let (mut length, mut chunked, mut close, mut keep_alive) = (None, false, false, false);
    let mut passes_as_is = !is_http_10;
    let mut is_dated = status < 200;
    for field in parsed.headers.iter() {
        match field.name.len() {
            4 if field.name.eq_ignore_ascii_case("date") => is_dated = true,
            10 if field.name.eq_ignore_ascii_case("connection") => {
                passes_as_is = false;
                close |= members(field.value).any(|member| member.eq_ignore_ascii_case(b"close"));
                keep_alive |= members(field.value).any(|member| member.eq_ignore_ascii_case(b"keep-alive"));
            }
            14 if field.name.eq_ignore_ascii_case("content-length") => {
                let value = content_length(field.value).ok_or(InvalidResponse)?;
                if let Some(before) = length.replace(value) {
                    if before != value {
                        return Err(InvalidResponse);
                    }
                    // Said twice, it goes on once (RFC 9110, 8.6).
                    passes_as_is = false;
                }
            }
            17 if field.name.eq_ignore_ascii_case("transfer-encoding") => {
                if chunked || !field.value.eq_ignore_ascii_case(b"chunked") {
                    return Err(InvalidResponse);
                }
                chunked = true;
            }
            7 | 10 | 16 if is_hop_by_hop(field.name) => passes_as_is = false,
            _ => {}
        }
    }
    if chunked && (length.is_some() || is_http_10) {
        return Err(InvalidResponse);
    }
    // What has no body says nothing of its length (RFC 9110, 8.6; RFC 9112, 6.1).
    passes_as_is &= is_dated && !(is_bare(status) && (chunked || length.is_some()));
    let framing = match (status, chunked, length) {
        _ if to_head => Framing::None,
        (100..=199 | 204 | 304, _, _) | (_, false, Some(0)) => Framing::None,
        (_, true, _) => Framing::Chunked,
        (_, false, Some(length)) => Framing::Length(length),
        (_, false, None) => Framing::UntilClose,
    };
    let stays = framing != Framing::UntilClose && !close && (!is_http_10 || keep_alive);
    let fields = parsed.headers.len() as u16;
    Ok(Response { length: head.len(), status, framing, keep_alive: stays, is_dated, fields, passes_as_is })
}

/// Whether a response with this status never has a body, nor a field that tells its length.
fn is_bare(status: u16) -> bool {
    matches!(status, 100..=199 | 204)
}

/// What a response head gets beside its own fields.
#[derive(Clone, Copy, Debug, Default)]
pub(in super::super) struct ExtraFields<'a> {
    /// The value of `Connection`, when there is something to say.
    pub(in super::super) connection: Option<&'a str>,
    /// Whole fields with their ends of line.
    pub(in super::super) field: Option<&'a [u8]>,
    /// Names of the response's own fields that are taken out.
    pub(in super::super) removed: &'a [String],
    /// When the answer came, where it does not say itself when it was made (RFC 9110, 6.6.1).
    pub(in super::super) date: Option<SystemTime>,
}

/// The `Upgrade` field of a response head that was parsed before, as a line.
pub(in super::super) fn upgrade_field(head: &[u8]) -> Vec<u8> {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_RESPONSE_FIELDS + ADDED_FIELDS];
    let mut parsed = httparse::Response::new(&mut []);
    let complete = lenient_parser().parse_response_with_uninit_headers(&mut parsed, head, &mut fields);
    assert!(matches!(complete, Ok(Status::Complete(_))), "this head was parsed before");
    let upgrade = parsed.headers.iter().find(|field| field.name.eq_ignore_ascii_case("upgrade"));
    upgrade.map_or_else(Vec::new, |field| [b"Upgrade: ", field.value, b"\r\n"].concat())
}

/// Shows each `Set-Cookie` field of a response's head (RFC 6265, 4.1), which was parsed before.
pub(in super::super) fn set_cookies(head: &[u8], mut show: impl FnMut(&[u8])) {
    const NAME: &[u8] = b"set-cookie:";
    for line in head.split(|byte| *byte == b'\n') {
        if let Some((name, value)) = line.split_at_checked(NAME.len())
            && name.eq_ignore_ascii_case(NAME)
        {
            show(value.trim_ascii());
        }
    }
}

fn is_hop_by_hop(name: &str) -> bool {
    match name.len() {
        7 => name.eq_ignore_ascii_case("upgrade"),
        10 => name.eq_ignore_ascii_case("connection") || name.eq_ignore_ascii_case("keep-alive"),
        16 => name.eq_ignore_ascii_case("proxy-connection"),
        _ => false,
    }
}

/// Appends to `out` the response head that the client gets: without the fields that concern the server's
/// connection, without `Transfer-Encoding` when `unchunk`, and with `more`.
pub(in super::super) fn write_response(head: &[u8], unchunk: bool, more: ExtraFields<'_>, out: &mut Vec<u8>) {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_RESPONSE_FIELDS + ADDED_FIELDS];
    let mut parsed = httparse::Response::new(&mut []);
    let complete = lenient_parser().parse_response_with_uninit_headers(&mut parsed, head, &mut fields);
    assert!(matches!(complete, Ok(Status::Complete(_))), "this head was parsed before");
    let status_line = memchr::memchr(b'\n', head).map_or(head.len(), |end| end + 1);
    // "HTTP/1.x" is ours to say (RFC 9110, 2.5); what follows is the server's.
    out.extend_from_slice(b"HTTP/1.1");
    out.extend_from_slice(&head[8..status_line]);
    let mut fates = [FieldAction::Keep; MOST_RESPONSE_FIELDS];
    drop_named(parsed.headers, &mut fates);
    let is_bare = parsed.code.is_some_and(is_bare);
    let mut has_length = false;
    for (field, fate) in parsed.headers.iter().zip(fates) {
        let is = |name: &str| field.name.eq_ignore_ascii_case(name);
        let is_repeated = is("content-length") && std::mem::replace(&mut has_length, true);
        if fate == FieldAction::Drop
            || is_hop_by_hop(field.name)
            || ((unchunk || is_bare) && is("transfer-encoding"))
            || (is_bare && is("content-length"))
            || is_repeated
            || more.removed.iter().any(|removed| is(removed))
        {
            continue;
        }
        out.extend_from_slice(field.name.as_bytes());
        out.extend_from_slice(b": ");
        out.extend_from_slice(field.value);
        out.extend_from_slice(b"\r\n");
    }
    out.extend_from_slice(more.field.unwrap_or_default());
    if let Some(date) = more.date {
        out.extend_from_slice(format!("Date: {}\r\n", HttpDate::from(date)).as_bytes());
    }
    if let Some(connection) = more.connection {
        out.extend_from_slice(b"Connection: ");
        out.extend_from_slice(connection.as_bytes());
        out.extend_from_slice(b"\r\n");
    }
    out.extend_from_slice(b"\r\n");
}
