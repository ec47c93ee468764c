//! Request heads: what they ask for, and what of them the server gets.

use std::cell::OnceCell;
use std::net::IpAddr;
use std::time::Duration;

use httparse::{Header, Status};
use ipnet::IpNet;
use merismos_core::config::document::SESSION_COOKIE;
use merismos_core::cookie::cookie_pairs;
use merismos_core::limits::{BodyPace, LimitedWork};
use merismos_core::routing::{DroppedFields, Pool, RequestFacts, RequestKey, UpstreamTimeouts};

use super::super::error_response::RequestError;
use super::super::forwarded::{ClientFields, ForwardedFields, is_disguised};
use super::bytes::ByteSet;
use super::host::is_host;
use super::{
    BARE_LINE_FEED, FieldAction, Framing, MOST_FIELDS, content_length, drop_named, has_whole_line_ends,
    members, offset,
};
use crate::accept::is_in;

/// What the plane needs to know of a request.
#[derive(Debug)]
pub(in super::super) struct Request {
    /// How many bytes the head had.
    pub(in super::super) length: usize,
    pub(in super::super) framing: Framing,
    pub(in super::super) is_head: bool,
    /// Sending it twice has the same effect as once (RFC 9110, 9.2.2).
    pub(in super::super) is_idempotent: bool,
    pub(in super::super) is_http_10: bool,
    pub(in super::super) keep_alive: bool,
    /// The client waits for a sign that its body is wanted (RFC 9110, 10.1.1).
    pub(in super::super) expects: bool,
    /// The client wants to go on with another protocol on this connection, which the server may agree to.
    pub(in super::super) upgrade: bool,
    /// The client's address as a trusted peer tells it.
    pub(in super::super) client: Option<IpAddr>,
    /// The value of the mark field.
    pub(in super::super) mark: Option<Vec<u8>>,
    /// What rules decide about it besides its pools; of most requests nothing.
    pub(in super::super) rule_effects: OnceCell<Box<RuleEffects>>,
    /// What limits of its client count it as while it is under way.
    pub(in super::super) held: OnceCell<Vec<LimitedWork>>,
}

/// What rules decide about a request besides its pools, and about its response.
#[derive(Clone, Debug, Default)]
pub(in super::super) struct RuleEffects {
    /// Names of fields that are taken out of the response.
    pub(in super::super) removed: Vec<String>,
    /// Fields that are put into the response, as lines.
    pub(in super::super) added: Vec<u8>,
    /// Its pool is the one that this number means.
    pub(in super::super) draw: Option<u64>,
    /// See [`UpstreamTimeouts::first_byte`].
    pub(in super::super) first_byte: Option<Duration>,
    /// See [`UpstreamTimeouts::whole_answer`].
    pub(in super::super) whole_answer: Option<Duration>,
    /// No pin counts, and none is made.
    pub(in super::super) without_pins: bool,
    /// What it is called.
    pub(in super::super) label: Option<String>,
    /// How fast its bodies may pass.
    pub(in super::super) paces: Vec<BodyPace>,
}

impl RuleEffects {
    /// Whether nothing is left of what rules decided.
    pub(in super::super) fn is_empty(&self) -> bool {
        let decides = self.draw.is_some() || self.without_pins || self.label.is_some();
        let times = self.first_byte.or(self.whole_answer);
        !decides && times.is_none() && !self.touches_response()
    }

    /// Whether the response does not pass as it comes.
    pub(in super::super) fn touches_response(&self) -> bool {
        !self.added.is_empty() || !self.removed.is_empty() || !self.paces.is_empty()
    }
}

impl Request {
    /// How long a server may take until its answer begins.
    #[inline]
    pub(in super::super) fn first_byte(&self, times: &UpstreamTimeouts) -> Duration {
        match self.rule_effects.get() {
            None => times.first_byte,
            Some(effects) => effects.first_byte.unwrap_or(times.first_byte),
        }
    }

    /// How fast its bodies may pass; empty where they pass as they come.
    #[inline]
    pub(in super::super) fn paces(&self) -> &[BodyPace] {
        self.rule_effects.get().map_or(&[], |effects| &effects.paces)
    }

    /// How long its answer may take from there to its end.
    #[inline]
    pub(in super::super) fn whole_answer(&self, times: &UpstreamTimeouts) -> Duration {
        match self.rule_effects.get() {
            None => times.whole_answer,
            Some(effects) => effects.whole_answer.unwrap_or(times.whole_answer),
        }
    }
}

/// Of whom a request comes, and what is known before its head is read.
#[derive(Clone, Copy)]
pub(in super::super) struct RequestOrigin<'a> {
    pub(in super::super) client: &'a ClientFields,
    pub(in super::super) trusted: &'a [IpNet],
    /// Fields that only trusted peers get through.
    pub(in super::super) dropped: &'a DroppedFields,
    /// Two random numbers to make an identity of.
    pub(in super::super) id: [u64; 2],
}

/// What the fields of a request say together.
#[derive(Default)]
struct ParsedFields<'h> {
    length: Option<u64>,
    chunked: bool,
    host: Option<&'h [u8]>,
    close: bool,
    keep_alive: bool,
    expects: bool,
    upgrade_named: bool,
    upgrade: Option<&'h [u8]>,
    forwarded: ForwardedFields<'h>,
    /// A `Connection` field that names other fields.
    names_others: bool,
    has_cookies: bool,
    /// There are several `Cookie` fields, or one with a session of our console, which is not the servers' to know.
    joins_cookies: bool,
    mark: Option<&'h [u8]>,
}

/// Parses the request head that the data begins with and appends to `out` the head that the server gets.
///
/// # Errors
/// [`RequestError`] with the status and the sentence that the client gets.
pub(in super::super) fn request(
    data: &[u8],
    origin: RequestOrigin<'_>,
    header_count_limit: usize,
    out: &mut Vec<u8>,
) -> Result<Request, RequestError> {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_FIELDS];
    let mut parsed = httparse::Request::new(&mut []);
    let length = match parsed.parse_with_uninit_headers(data, &mut fields) {
        Ok(Status::Complete(length)) => length,
        Ok(Status::Partial) => return Err(RequestError::Malformed("the head ends early")),
        Err(httparse::Error::TooManyHeaders) => {
            return Err(RequestError::TooManyFields { limit: header_count_limit });
        }
        Err(httparse::Error::Version) => {
            return match as_http_11(data) {
                Some(data) => request(&data, origin, header_count_limit, out),
                None => Err(RequestError::Version),
            };
        }
        Err(error) => return Err(RequestError::Malformed(broken_rule(error))),
    };
    let head = &data[..length];
    if matches!(head.first(), Some(b'\r' | b'\n')) || !has_whole_line_ends(head, parsed.headers) {
        return Err(BARE_LINE_FEED);
    }
    if parsed.headers.len() > header_count_limit {
        return Err(RequestError::TooManyFields { limit: header_count_limit });
    }
    let (method, target) = (parsed.method.unwrap_or_default(), parsed.path.unwrap_or_default());
    let is_http_10 = parsed.version == Some(0);
    if method == "CONNECT" {
        return Err(RequestError::NotOffered("CONNECT is not offered here"));
    }
    let mut fates = [FieldAction::Keep; MOST_FIELDS];
    let mut found = ParsedFields::default();
    // Only peers that are trusted are believed.
    let believed = !origin.trusted.is_empty() && is_in(origin.client.peer, origin.trusted);
    for (field, fate) in parsed.headers.iter().zip(&mut fates) {
        *fate = classify_field(field, &mut found)?;
        if !believed && origin.dropped.holds(field.name) {
            *fate = FieldAction::Drop;
        }
    }
    if found.names_others {
        drop_named(parsed.headers, &mut fates);
    }
    if found.expects && is_http_10 {
        // A client of HTTP/1.0 can't get an informational response, so it does not wait (RFC 9110, 10.1.1).
        drop_expect(parsed.headers, &mut fates);
    }
    if found.host.is_none() && !is_http_10 {
        return Err(RequestError::Malformed("the Host field is missing"));
    }
    if found.joins_cookies {
        drop_cookies(parsed.headers, &mut fates);
    }
    let framing = match (found.chunked, found.length) {
        (true, Some(_)) => {
            return Err(RequestError::Malformed("Content-Length and Transfer-Encoding contradict"));
        }
        (true, None) if is_http_10 => {
            return Err(RequestError::Malformed("HTTP/1.0 has no Transfer-Encoding"));
        }
        (true, None) => Framing::Chunked,
        (false, Some(0) | None) => Framing::None,
        (false, Some(length)) => Framing::Length(length),
    };
    let (path, authority) = origin_form(method, target)?;
    let hops = if matches!(method, "OPTIONS" | "TRACE") {
        hops_left(method, parsed.headers, &mut fates)?
    } else {
        None
    };
    write_request(head, &parsed, &fates, method, path, out);
    if found.joins_cookies {
        write_cookies(parsed.headers, out);
    }
    let host = authority.map(str::as_bytes).or(found.host).unwrap_or_default();
    if authority.is_some() || found.host.is_none() {
        write_field("Host", host, out);
    }
    if let Some(hops) = hops {
        write_field("Max-Forwards", hops.to_string().as_bytes(), out);
    }
    let upgrade = found.upgrade.filter(|_| found.upgrade_named && framing == Framing::None && !is_http_10);
    if let Some(upgrade) = upgrade {
        write_field("Connection", b"Upgrade", out);
        write_field("Upgrade", upgrade, out);
    }
    let client = if believed {
        found.forwarded.write(origin.client, host, origin.id, out);
        found.forwarded.client(origin.trusted)
    } else {
        origin.client.write(host, origin.id, out);
        None
    };
    Ok(Request {
        length,
        framing,
        is_head: method == "HEAD",
        is_idempotent: matches!(method, "GET" | "HEAD" | "OPTIONS" | "TRACE" | "PUT" | "DELETE"),
        is_http_10,
        expects: found.expects,
        keep_alive: if is_http_10 { found.keep_alive && !found.close } else { !found.close },
        upgrade: upgrade.is_some(),
        client,
        mark: found.mark.map(<[u8]>::to_vec),
        rule_effects: OnceCell::new(),
        held: OnceCell::new(),
    })
}

/// A head of a later minor version as one of HTTP/1.1, which is how it is to be read (RFC 9110, 2.5).
#[cold]
fn as_http_11(data: &[u8]) -> Option<Vec<u8>> {
    let end = memchr::memchr(b'\r', data)?;
    let minor = end.checked_sub(1)?;
    let is_later = data[..minor].ends_with(b" HTTP/1.") && matches!(data[minor], b'2'..=b'9');
    is_later.then(|| {
        let mut data = data.to_vec();
        data[minor] = b'1';
        data
    })
}

/// Which rule of RFC 9112 a head breaks that can't be parsed.
#[cold]
fn broken_rule(error: httparse::Error) -> &'static str {
    use httparse::Error as E;
    match error {
        E::Token => "the request line is not a method, a target and a version with one space between them",
        E::HeaderName => {
            "a field's name is empty, holds what no name may or has white space around it, or a value is folded"
        }
        E::HeaderValue => "a field's value holds a control character",
        E::NewLine => "a line does not end with a carriage return and a line feed",
        E::Status | E::TooManyHeaders | E::Version => "the head is not as RFC 9112 wants it",
    }
}

/// Notes what a field says and decides whether the server gets it.
fn classify_field<'h>(field: &Header<'h>, found: &mut ParsedFields<'h>) -> Result<FieldAction, RequestError> {
    let (name, value) = (field.name, field.value);
    let is = |other: &str| name.eq_ignore_ascii_case(other);
    // The length tells most fields apart without comparing them.
    match name.len() {
        2 if is("te") => return Ok(FieldAction::Drop),
        4 if is("host") => {
            if found.host.is_some() {
                return Err(RequestError::Malformed("there is more than one Host field"));
            }
            if !is_host(value) {
                return Err(RequestError::Malformed("the Host field is not a host"));
            }
            found.host = Some(value);
        }
        6 if is("expect") => found.expects = true,
        6 if is("cookie") => {
            // Several are one (RFC 6265, 5.4), for the search for a cookie looks at one field.
            let is_another = std::mem::replace(&mut found.has_cookies, true);
            found.joins_cookies |=
                is_another || memchr::memmem::find(value, SESSION_COOKIE.as_bytes()).is_some();
        }
        7 if is("upgrade") => {
            // HTTP/2 is spoken by prior knowledge; its upgrade may be ignored (RFC 9113, 3.1).
            let is_h2c = members(value).any(|member| member.eq_ignore_ascii_case(b"h2c"));
            found.upgrade = (!is_h2c && !value.is_empty()).then_some(value);
            return Ok(FieldAction::Drop);
        }
        10 if is("connection") => {
            for option in members(value) {
                match option {
                    it if it.eq_ignore_ascii_case(b"close") => found.close = true,
                    it if it.eq_ignore_ascii_case(b"keep-alive") => found.keep_alive = true,
                    it if it.eq_ignore_ascii_case(b"upgrade") => found.upgrade_named = true,
                    _ => found.names_others = true,
                }
            }
            return Ok(FieldAction::Drop);
        }
        10 if is("keep-alive") => return Ok(FieldAction::Drop),
        13 if is(crate::observer::MARK) => {
            found.mark = Some(value);
            return Ok(FieldAction::Drop);
        }
        14 if is("content-length") => {
            let length =
                content_length(value).ok_or(RequestError::Malformed("Content-Length is not a number"))?;
            if found.length.replace(length).is_some() {
                return Err(RequestError::Malformed("there is more than one Content-Length field"));
            }
        }
        16 if is("proxy-connection") => return Ok(FieldAction::Drop),
        17 if is("transfer-encoding") => {
            if found.chunked || !value.eq_ignore_ascii_case(b"chunked") {
                return Err(RequestError::Coding);
            }
            found.chunked = true;
        }
        9 | 12 | 15..=17 if found.forwarded.note(name, value) => return Ok(FieldAction::Drop),
        12 | 15..=17 if is_disguised(name) => return Ok(FieldAction::Drop),
        _ => {}
    }
    Ok(FieldAction::Keep)
}

fn is_cookie(field: &Header<'_>) -> bool {
    field.name.eq_ignore_ascii_case("cookie")
}

fn is_session_cookie(pair: &[u8]) -> bool {
    pair.strip_prefix(SESSION_COOKIE.as_bytes()).is_some_and(|rest| rest.trim_ascii_start().starts_with(b"="))
}

#[cold]
fn drop_cookies(fields: &[Header<'_>], fates: &mut [FieldAction]) {
    for (field, fate) in fields.iter().zip(fates) {
        if is_cookie(field) {
            *fate = FieldAction::Drop;
        }
    }
}

/// Writes all cookies but the sessions of our console as one field.
#[cold]
fn write_cookies(fields: &[Header<'_>], out: &mut Vec<u8>) {
    let pairs = fields.iter().filter(|field| is_cookie(field)).flat_map(|field| cookie_pairs(field.value));
    let others = pairs.filter(|pair| !is_session_cookie(pair)).collect::<Vec<_>>().join(&b"; "[..]);
    if !others.is_empty() {
        write_field("Cookie", &others, out);
    }
}

fn drop_expect(fields: &[Header<'_>], fates: &mut [FieldAction]) {
    for (field, fate) in fields.iter().zip(fates) {
        if field.name.eq_ignore_ascii_case("expect") {
            *fate = FieldAction::Drop;
        }
    }
}

/// How often a question about the way may still be passed on (RFC 9110, 7.6.2), when that is limited.
fn hops_left(
    method: &str,
    fields: &[Header<'_>],
    fates: &mut [FieldAction],
) -> Result<Option<u64>, RequestError> {
    let place = fields.iter().position(|field| field.name.eq_ignore_ascii_case("max-forwards"));
    let Some((place, most)) = place.and_then(|place| Some((place, content_length(fields[place].value)?)))
    else {
        return Ok(None);
    };
    fates[place] = FieldAction::Drop;
    most.checked_sub(1).map(Some).ok_or(if method == "TRACE" {
        RequestError::Trace
    } else {
        RequestError::Options
    })
}

/// The bytes that a target is made of.
const TARGET_BYTES: ByteSet = ByteSet::graphic_but(b'#');

/// The target as an origin server gets it (RFC 9112, 3.2), and the authority of an absolute one.
fn origin_form<'t>(method: &str, target: &'t str) -> Result<(&'t str, Option<&'t str>), RequestError> {
    if !TARGET_BYTES.holds_all(target.as_bytes()) {
        return Err(RequestError::Malformed("the request target holds characters that have to be encoded"));
    }
    if target.starts_with('/') || (target == "*" && method == "OPTIONS") {
        return Ok((target, None));
    }
    let scheme_end = "http://".len();
    if target.get(..scheme_end).is_some_and(|scheme| scheme.eq_ignore_ascii_case("http://")) {
        let rest = &target[scheme_end..];
        let (authority, path) = rest.split_at(rest.find(['/', '?']).unwrap_or(rest.len()));
        if !authority.is_empty() && is_host(authority.as_bytes()) {
            // RFC 9112, 3.2.4: such a question is about the server as a whole.
            let nothing = if method == "OPTIONS" { "*" } else { "/" };
            return Ok((if path.is_empty() { nothing } else { path }, Some(authority)));
        }
    }
    Err(RequestError::Malformed("the request target is neither a path nor an http URL"))
}

/// Copies the kept fields in runs that are as long as possible: mostly the whole head is one run.
fn write_request(
    head: &[u8],
    parsed: &httparse::Request<'_, '_>,
    fates: &[FieldAction],
    method: &str,
    target: &str,
    out: &mut Vec<u8>,
) {
    out.extend_from_slice(method.as_bytes());
    out.push(b' ');
    if target.starts_with('?') {
        // The path of an absolute target may be empty, and a path on its own may not.
        out.push(b'/');
    }
    out.extend_from_slice(target.as_bytes());
    out.extend_from_slice(b" HTTP/1.1\r\n");
    let replaces_host = parsed.path.is_some_and(|path| !path.starts_with('/') && path != "*");
    let last = head.len() - 2;
    let mut run: Option<usize> = None;
    for (field, fate) in parsed.headers.iter().zip(fates) {
        let at = offset(head, field);
        let drop = *fate == FieldAction::Drop || (replaces_host && field.name.eq_ignore_ascii_case("host"));
        match (drop, run) {
            (true, Some(start)) => {
                out.extend_from_slice(&head[start..at]);
                run = None;
            }
            (false, None) => run = Some(at),
            (true, None) | (false, Some(_)) => {}
        }
    }
    if let Some(start) = run {
        out.extend_from_slice(&head[start..last]);
    }
}

fn write_field(name: &str, value: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(name.as_bytes());
    out.extend_from_slice(b": ");
    out.extend_from_slice(value);
    out.extend_from_slice(b"\r\n");
}

/// The value of the first field of a name in a head that was written for a server: it was checked before, so its lines are well
/// formed, and it is not parsed once more.
fn field_of<'h>(head: &'h [u8], name: &str) -> Option<&'h [u8]> {
    fields_of(head, name).next()
}

/// The values of all fields of a name in a head that was written for a server.
pub(in super::super) fn fields_of<'h>(head: &'h [u8], name: &str) -> impl Iterator<Item = &'h [u8]> {
    let mut rest = head;
    std::iter::from_fn(move || next_field(&mut rest, name))
}

fn next_field<'h>(rest: &mut &'h [u8], name: &str) -> Option<&'h [u8]> {
    while let Some(end) = memchr::memchr(b'\n', rest) {
        *rest = &rest[end + 1..];
        if rest.starts_with(b"\r\n") {
            // What follows is the body, as far as it is there.
            *rest = &[];
            return None;
        }
        if rest.len() > name.len()
            && rest[name.len()] == b':'
            && rest[..name.len()].eq_ignore_ascii_case(name.as_bytes())
        {
            let value = &rest[name.len() + 1..];
            return Some(value[..memchr::memchr(b'\r', value)?].trim_ascii());
        }
    }
    None
}

/// What a client wants to read, of a head that was written for a server.
pub(in super::super) fn accept_of(head: &[u8]) -> &[u8] {
    field_of(head, "accept").unwrap_or_default()
}

/// The method of a head that was written for a server.
pub(in super::super) fn method_of(head: &[u8]) -> &str {
    let end = memchr::memchr(b' ', head).unwrap_or(head.len());
    std::str::from_utf8(&head[..end]).unwrap_or_default()
}

/// The target of a head that was written for a server.
pub(in super::super) fn target_of(head: &[u8]) -> Option<&str> {
    let rest = &head[memchr::memchr(b' ', head)? + 1..];
    std::str::from_utf8(&rest[..memchr::memchr(b' ', rest)?]).ok()
}

/// What a request says that work can be distributed by and clients can be tied by, read from the head that was written for the server.
/// Only pools that go by such things ask for it.
pub(in super::super) fn with_facts<T>(
    head: &[u8],
    client: IpAddr,
    look: impl FnOnce(&RequestFacts<'_>) -> T,
) -> T {
    with_labelled_facts(head, client, None, look)
}

/// As [`with_facts`], of a request that rules call something.
pub(in super::super) fn with_labelled_facts<T>(
    head: &[u8],
    client: IpAddr,
    label: Option<&str>,
    look: impl FnOnce(&RequestFacts<'_>) -> T,
) -> T {
    let field = |name: &str| field_of(head, name);
    look(&RequestFacts {
        client,
        port: None,
        target: target_of(head),
        host: field("host"),
        sni: None,
        label,
        first_bytes: None,
        field: &field,
    })
}

/// The key of a request.
pub(in super::super) fn key(head: &[u8], client: IpAddr, pool: &Pool) -> RequestKey {
    with_facts(head, client, |facts| pool.key(facts))
}

/// The key of a request in words, for the decision log.
pub(in super::super) fn key_words(head: &[u8], client: IpAddr, pool: &Pool) -> Option<String> {
    let rule = pool.key_rule.as_ref()?;
    with_facts(head, client, |facts| rule.words(rule.key(facts), facts))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const HEAD: &[u8] = b"POST /a?b=c HTTP/1.1\r\nHost: harbour.skerry.example\r\nX-Berth:  7 \r\nX-Berth: 8\r\nX-Empty:\r\n\r\nX-Body: no\r\n";

    #[rstest]
    #[case::the_first_of_two("x-berth", Some("7"))]
    #[case::in_any_case("HOST", Some("harbour.skerry.example"))]
    #[case::empty("x-empty", Some(""))]
    #[case::only_begins_so("x-b", None)]
    #[case::not_there("cookie", None)]
    #[case::a_line_of_the_body("x-body", None)]
    fn fields_are_found_in_the_head_alone(#[case] name: &str, #[case] value: Option<&str>) {
        assert_eq!(field_of(HEAD, name), value.map(str::as_bytes));
    }

    #[test]
    fn the_target_stands_between_the_first_two_spaces() {
        assert_eq!(target_of(HEAD), Some("/a?b=c"));
    }
}
