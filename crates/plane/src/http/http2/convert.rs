//! Heads, from the fields of HTTP/2 to the text of HTTP/1.1 and back (RFC 9113, 8).

use std::io::Write as _;

use bytes::Bytes;
use http::header::{CONNECTION, CONTENT_LENGTH, COOKIE, HOST, TE, TRANSFER_ENCODING, UPGRADE};
use http::uri::{Authority, PathAndQuery, Scheme};
use http::{HeaderMap, HeaderName, HeaderValue, Method, Request, Response, StatusCode, Uri, Version};
use httparse::{Header, Status};

use super::super::body::MOST_TRAILERS;
use super::super::error_response::RequestError;
use super::super::head::{self, Framing, MOST_FIELDS, MOST_RESPONSE_FIELDS};
use super::request_body::BodyCoding;

fn write_field(name: &str, value: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(name.as_bytes());
    out.extend_from_slice(b": ");
    out.extend_from_slice(value);
    out.extend_from_slice(b"\r\n");
}

/// Writes fields as lines.
pub(super) fn write_fields(fields: &HeaderMap, out: &mut Vec<u8>) {
    for (name, value) in fields {
        write_field(name.as_str(), value.as_bytes(), out);
    }
}

/// Writes the head of a client's request as text. `ends`: no body follows.
///
/// # Errors
/// [`RequestError`] when the request contradicts itself.
pub(super) fn request_text<B>(
    request: &Request<B>,
    ends: bool,
    out: &mut Vec<u8>,
) -> Result<BodyCoding, RequestError> {
    let (method, uri, fields) = (request.method(), request.uri(), request.headers());
    let authority = uri.authority().map(Authority::as_str);
    let target = if method == Method::CONNECT {
        authority.unwrap_or_default()
    } else {
        uri.path_and_query().map_or("/", PathAndQuery::as_str)
    };
    // What can't be written cannot happen: this is memory.
    let _ = write!(out, "{method} {target} HTTP/1.1\r\n");
    // RFC 9113, 8.3.1: the two must not name different hosts.
    for host in fields.get_all(HOST) {
        if authority.is_some_and(|authority| !host.as_bytes().eq_ignore_ascii_case(authority.as_bytes())) {
            return Err(RequestError::Malformed("the Host field and the authority contradict"));
        }
    }
    match authority {
        Some(authority) => write_field("Host", authority.as_bytes(), out),
        None => fields.get_all(HOST).iter().for_each(|host| write_field("Host", host.as_bytes(), out)),
    }
    for (name, value) in fields {
        if name == HOST || name == COOKIE || name == TE {
            continue;
        }
        if [CONNECTION, TRANSFER_ENCODING, UPGRADE].contains(name) {
            return Err(RequestError::Malformed(
                "a field that concerns one connection has no place in HTTP/2",
            ));
        }
        write_field(name.as_str(), value.as_bytes(), out);
    }
    // RFC 9113, 8.2.3: cookies may come in pieces, and go on as one field.
    let mut cookies = fields.get_all(COOKIE).iter();
    if let Some(first) = cookies.next() {
        out.extend_from_slice(b"Cookie: ");
        out.extend_from_slice(first.as_bytes());
        for more in cookies {
            out.extend_from_slice(b"; ");
            out.extend_from_slice(more.as_bytes());
        }
        out.extend_from_slice(b"\r\n");
    }
    let has_length = fields.contains_key(CONTENT_LENGTH);
    let coding = if ends || has_length { BodyCoding::Bare } else { BodyCoding::Chunked };
    if coding == BodyCoding::Chunked {
        out.extend_from_slice(b"Transfer-Encoding: chunked\r\n");
    } else if !has_length && [Method::POST, Method::PUT, Method::PATCH].contains(method) {
        // Its meaning has room for a body, and it has none (RFC 9110, 8.6).
        out.extend_from_slice(b"Content-Length: 0\r\n");
    }
    out.extend_from_slice(b"\r\n");
    Ok(coding)
}

/// Writes the head of a server's response as text. `ends`: no body follows; `to_head`: none would anyway.
pub(super) fn response_text<B>(
    response: &Response<B>,
    ends: bool,
    to_head: bool,
    out: &mut Vec<u8>,
) -> BodyCoding {
    let status = response.status();
    let phrase = status.canonical_reason().unwrap_or_default();
    let _ = write!(out, "HTTP/1.1 {} {phrase}\r\n", status.as_u16());
    let mut has_length = false;
    for (name, value) in response.headers() {
        // What concerns one connection has no place in HTTP/2, and would mean something in HTTP/1.1.
        if is_of_connection(name.as_str()) {
            continue;
        }
        has_length |= name == CONTENT_LENGTH;
        write_field(name.as_str(), value.as_bytes(), out);
    }
    let has_body = !status.is_informational()
        && status != StatusCode::NO_CONTENT
        && status != StatusCode::NOT_MODIFIED
        && !to_head;
    let mut coding = BodyCoding::Bare;
    if has_body && !has_length {
        if ends {
            out.extend_from_slice(b"content-length: 0\r\n");
        } else {
            coding = BodyCoding::Chunked;
            out.extend_from_slice(b"transfer-encoding: chunked\r\n");
        }
    }
    out.extend_from_slice(b"\r\n");
    coding
}

/// Fields that concern one connection (RFC 9113, 8.2.2).
fn is_of_connection(name: &str) -> bool {
    ["connection", "keep-alive", "proxy-connection", "transfer-encoding", "upgrade"]
        .iter()
        .any(|forbidden| name.eq_ignore_ascii_case(forbidden))
}

/// The fields that go over a stream; those that `leaves_out` names do not. Their values stay where they are in the text.
fn fields(text: &Bytes, parsed: &[Header<'_>], leaves_out: impl Fn(&str) -> bool) -> HeaderMap {
    let mut map = HeaderMap::with_capacity(parsed.len());
    for field in parsed {
        if is_of_connection(field.name) || leaves_out(field.name) {
            continue;
        }
        let value = HeaderValue::from_maybe_shared(text.slice_ref(field.value));
        let pair = (HeaderName::from_bytes(field.name.as_bytes()), value);
        if let (Ok(name), Ok(value)) = pair {
            map.append(name, value);
        }
    }
    map
}

/// Why a head that we wrote can't go over a stream.
#[derive(Debug, thiserror::Error)]
#[error("the head has no form in HTTP/2")]
pub(super) struct HeaderConversionError;

/// A request to a server, made of the text that was written for one of HTTP/1.1.
pub(in super::super) struct RequestHead {
    pub(super) request: Request<()>,
    /// How many bytes of the text it was.
    pub(super) length: usize,
    pub(super) framing: Framing,
    pub(super) is_head: bool,
}

impl RequestHead {
    /// Makes one of the head that a text begins with.
    ///
    /// # Errors
    /// What of the client's request has no form in HTTP/2, in words.
    pub(in super::super) fn new(text: &[u8], known: &head::Request) -> Result<Self, &'static str> {
        let end = memchr::memmem::find(text, b"\r\n\r\n").ok_or("the head has no end")?;
        let head = Bytes::copy_from_slice(&text[..end + 4]);
        Ok(Self {
            request: request(&head)?,
            length: head.len(),
            framing: known.framing,
            is_head: known.is_head,
        })
    }
}

/// The head of a request to a server, from its text.
fn request(head: &Bytes) -> Result<Request<()>, &'static str> {
    let mut room = [const { std::mem::MaybeUninit::uninit() }; MOST_FIELDS + 16];
    let mut parsed = httparse::Request::new(&mut []);
    let Ok(Status::Complete(_)) = parsed.parse_with_uninit_headers(head, &mut room) else {
        return Err("the head has too many fields for a server that speaks HTTP/2");
    };
    let host = parsed.headers.iter().find(|field| field.name.eq_ignore_ascii_case("host"));
    // RFC 9113, 8.3.1 wants an authority that a URL can have (RFC 3986, 3.2).
    let authority = host.and_then(|host| Authority::try_from(host.value).ok());
    let authority = authority.ok_or(
        "the host is empty or encoded, and the server behind speaks HTTP/2, which needs a plain one",
    )?;
    let target = parsed.path.and_then(|path| path.parse::<PathAndQuery>().ok());
    let target = target.ok_or(
        "the request target holds characters that have to be encoded for a server that speaks HTTP/2",
    )?;
    let mut parts = http::uri::Parts::default();
    (parts.scheme, parts.authority) = (Some(Scheme::HTTP), Some(authority));
    parts.path_and_query = Some(target);
    let mut request = Request::new(());
    *request.version_mut() = Version::HTTP_2;
    let method = parsed.method.unwrap_or_default();
    *request.method_mut() =
        Method::from_bytes(method.as_bytes()).map_err(|_| "the method has no form in HTTP/2")?;
    *request.uri_mut() = Uri::from_parts(parts).map_err(|_| "the request target has no form in HTTP/2")?;
    *request.headers_mut() = fields(head, parsed.headers, |name| name.eq_ignore_ascii_case("host"));
    // Trailers are passed on to receivers that can take them.
    request.headers_mut().insert(TE, HeaderValue::from_static("trailers"));
    Ok(request)
}

/// The head of an answer to a client, from its text.
pub(super) fn response(head: &Bytes) -> Result<Response<()>, HeaderConversionError> {
    let mut room = [const { std::mem::MaybeUninit::uninit() }; MOST_RESPONSE_FIELDS + 16];
    let mut parsed = httparse::Response::new(&mut []);
    let config = httparse::ParserConfig::default();
    let Ok(Status::Complete(_)) = config.parse_response_with_uninit_headers(&mut parsed, head, &mut room)
    else {
        return Err(HeaderConversionError);
    };
    let mut response = Response::new(());
    *response.status_mut() =
        parsed.code.and_then(|code| StatusCode::from_u16(code).ok()).ok_or(HeaderConversionError)?;
    *response.headers_mut() = fields(head, parsed.headers, |_| false);
    Ok(response)
}

/// Trailer fields from their lines; at most 64. Those that delimit or direct have no place there (RFC 9110, 6.5.1).
pub(super) fn trailers(lines: &Bytes) -> Result<HeaderMap, HeaderConversionError> {
    let mut room = [httparse::EMPTY_HEADER; MOST_TRAILERS * 2];
    match httparse::parse_headers(lines, &mut room) {
        Ok(Status::Complete((_, parsed))) => {
            let directs = |name: &str| {
                ["content-length", "host"].iter().any(|forbidden| name.eq_ignore_ascii_case(forbidden))
            };
            Ok(fields(lines, parsed, directs))
        }
        Ok(Status::Partial) | Err(_) => Err(HeaderConversionError),
    }
}
