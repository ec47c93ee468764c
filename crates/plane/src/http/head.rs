//! Request and response heads: where they end, what they mean, and what of them is passed on.
//!
//! Strict where leniency is dangerous: what two parsers could read in two ways is refused, not repaired
//! (RFC 9112, 2.2, 3.2, 5, 6.1, 6.3 and 11.2).

use std::net::{IpAddr, Ipv6Addr};

use httparse::{Header, Status};
use ipnet::IpNet;
use merismos_core::routing::{Facts, Key, Pool, cookie_in};

use super::forwarded::{ClientFields, Told};
use super::refuse::Refusal;
use crate::client::is_in;

/// The most fields that a head may have; frontends may set a lower limit.
pub(super) const MOST_FIELDS: usize = 100;

/// How the body of a message is delimited (RFC 9112, 6.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Framing {
    /// There is none.
    None,
    /// As many bytes.
    Length(u64),
    /// The chunked coding.
    Chunked,
    /// Everything until the connection closes (responses only).
    UntilClose,
}

/// Searches for the end of a head, byte by byte once, however often more data comes.
#[derive(Debug, Default)]
pub(super) struct HeadScan {
    seen: usize,
    line_start: usize,
}

/// Marks the highest bit of each byte that is a line feed. Lines of heads are short, and a search that looks at eight
/// bytes at once has found them all before one with wider registers has begun for each.
const fn line_feeds(word: u64) -> u64 {
    const LOW: u64 = u64::from_le_bytes([1; 8]);
    const SEVEN: u64 = u64::from_le_bytes([0x7f; 8]);
    let differs = word ^ (LOW * b'\n' as u64);
    // Only for a zero does neither the sum carry into the highest bit nor the byte itself have it (exact for each byte).
    !(((differs & SEVEN) + SEVEN) | differs | SEVEN)
}

/// A line that ends with a line feed alone: one parser's end of line is another's part of a value.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct BareLineFeed;

/// What a client is told of it.
pub(super) const BARE_LINE_FEED: Refusal = Refusal::Malformed("a line ends with a line feed alone");

impl HeadScan {
    /// Whether no line of the head has been seen yet.
    pub(super) fn is_new(&self) -> bool {
        self.seen == 0
    }

    /// The length of the head, its empty line included, once all of it is there.
    pub(super) fn end(&mut self, data: &[u8]) -> Result<Option<usize>, BareLineFeed> {
        let (words, rest) = data[self.seen..].as_chunks::<8>();
        let mut line_start = self.line_start;
        let mut line_feed = |at: usize| {
            if at == 0 || data[at - 1] != b'\r' {
                return Some(Err(BareLineFeed));
            }
            let is_end = at - 1 == line_start;
            line_start = at + 1;
            is_end.then_some(Ok(Some(at + 1)))
        };
        for (number, word) in words.iter().enumerate() {
            let mut found = line_feeds(u64::from_le_bytes(*word));
            while found != 0 {
                if let Some(end) = line_feed(self.seen + number * 8 + found.trailing_zeros() as usize / 8) {
                    return end;
                }
                found &= found - 1;
            }
        }
        let start = data.len() - rest.len();
        for (offset, _) in rest.iter().enumerate().filter(|(_, byte)| **byte == b'\n') {
            if let Some(end) = line_feed(start + offset) {
                return end;
            }
        }
        (self.seen, self.line_start) = (data.len(), line_start);
        Ok(None)
    }
}

/// What the plane needs to know of a request.
#[derive(Clone, Debug)]
pub(super) struct Request {
    /// How many bytes the head had.
    pub(super) length: usize,
    pub(super) framing: Framing,
    pub(super) is_head: bool,
    /// Sending it twice has the same effect as once (RFC 9110, 9.2.2).
    pub(super) is_idempotent: bool,
    pub(super) is_http_10: bool,
    pub(super) keep_alive: bool,
    /// The client wants to go on with another protocol on this connection, which the server may agree to.
    pub(super) upgrade: bool,
    /// The client's address as a trusted peer tells it.
    pub(super) client: Option<IpAddr>,
    /// The value of the mark field.
    pub(super) mark: Option<Vec<u8>>,
}

/// Of whom a request comes, and what is known before its head is read.
#[derive(Clone, Copy)]
pub(super) struct Origin<'a> {
    pub(super) client: &'a ClientFields,
    pub(super) trusted: &'a [IpNet],
    /// Two random numbers to make an identity of.
    pub(super) id: [u64; 2],
}

/// What is done with a field on its way to the server.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Fate {
    Keep,
    Drop,
}

/// What the fields of a request say together.
#[derive(Default)]
struct Found<'h> {
    length: Option<u64>,
    chunked: bool,
    host: Option<&'h [u8]>,
    close: bool,
    keep_alive: bool,
    upgrade_named: bool,
    upgrade: Option<&'h [u8]>,
    told: Told<'h>,
    /// A `Connection` field that names other fields.
    names_others: bool,
    mark: Option<&'h [u8]>,
}

/// Where a field begins in its head.
fn offset(head: &[u8], field: &Header<'_>) -> usize {
    field.name.as_ptr() as usize - head.as_ptr() as usize
}

/// The members of a comma-separated list (RFC 9110, 5.6.1).
fn members(value: &[u8]) -> impl Iterator<Item = &[u8]> {
    value.split(|byte| *byte == b',').map(<[u8]>::trim_ascii).filter(|member| !member.is_empty())
}

/// Digits alone (RFC 9110, 8.6): no sign, no list, no more than fits.
fn content_length(value: &[u8]) -> Option<u64> {
    if value.is_empty() {
        return None;
    }
    value.iter().try_fold(0_u64, |length, byte| {
        let digit = byte.checked_sub(b'0').filter(|digit| *digit <= 9)?;
        length.checked_mul(10)?.checked_add(u64::from(digit))
    })
}

/// Which bytes the name in a host may hold (RFC 3986, 3.2.2) without further questions, as a table: this is asked for every
/// byte of every request's host.
const NAME_BYTES: [bool; 256] = {
    let mut table = [false; 256];
    let others = b"-._~!$&'()*+,;=";
    let mut byte = 0;
    while byte < 256 {
        table[byte] = (byte as u8).is_ascii_alphanumeric();
        byte += 1;
    }
    let mut index = 0;
    while index < others.len() {
        table[others[index] as usize] = true;
        index += 1;
    }
    table
};

/// Whether it is a host with or without a port, or nothing at all (RFC 9110, 7.2).
fn is_host(value: &[u8]) -> bool {
    let name_end = value.iter().position(|byte| !NAME_BYTES[usize::from(*byte)]).unwrap_or(value.len());
    match &value[name_end..] {
        [] => true,
        [b':', port @ ..] => name_end > 0 && port.iter().all(u8::is_ascii_digit),
        [b'[', ..] if name_end == 0 => is_literal_host(value),
        [b'%', ..] => is_encoded_host(value),
        _ => false,
    }
}

/// An address in brackets.
fn is_literal_host(value: &[u8]) -> bool {
    let text = str::from_utf8(value).ok().and_then(|text| text.strip_prefix('[')?.split_once(']'));
    let Some((literal, rest)) = text else { return false };
    // What future versions look like is known, if nothing else of them.
    let is_future = || {
        let (version, address) = literal.strip_prefix(['v', 'V'])?.split_once('.')?;
        let is_version = !version.is_empty() && version.bytes().all(|byte| byte.is_ascii_hexdigit());
        let is_address = |byte| NAME_BYTES[usize::from(byte)] || byte == b':';
        Some(is_version && !address.is_empty() && address.bytes().all(is_address))
    };
    let is_address = literal.parse::<Ipv6Addr>().is_ok() || is_future() == Some(true);
    is_address && (rest.is_empty() || rest.strip_prefix(':').is_some_and(is_port))
}

/// A name in which bytes are encoded.
fn is_encoded_host(value: &[u8]) -> bool {
    let Ok(text) = str::from_utf8(value) else { return false };
    let (name, port) = text.split_once(':').unwrap_or((text, ""));
    let mut pieces = name.split('%');
    let is_plain = |piece: &str| piece.bytes().all(|byte| NAME_BYTES[usize::from(byte)]);
    let is_encoded = |piece: &str| {
        piece.as_bytes().first_chunk::<2>().is_some_and(|code| code.iter().all(u8::is_ascii_hexdigit))
            && is_plain(piece)
    };
    pieces.next().is_some_and(is_plain) && pieces.all(is_encoded) && is_port(port)
}

fn is_port(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_digit())
}

/// Whether the lines of a head all end with a carriage return and a line feed: each field begins behind such an end, and
/// the head itself ends with two.
fn has_whole_line_ends(head: &[u8], fields: &[Header<'_>]) -> bool {
    let ends_at = |at: usize| at >= 2 && head[at - 2..at] == *b"\r\n";
    head.ends_with(b"\r\n\r\n") && fields.iter().all(|field| ends_at(offset(head, field)))
}

/// Whether data that begins with a head surely holds all of it, so that parsing will tell where it ends.
pub(super) fn holds_whole_head(data: &[u8]) -> bool {
    data.ends_with(b"\r\n\r\n")
}

/// Whether a request may begin like this: with a method (RFC 9110, 5.6.2), or the line end before it.
pub(super) fn may_begin_head(data: &[u8]) -> bool {
    data.first().is_none_or(|byte| byte.is_ascii_graphic() || *byte == b'\r')
}

/// Parses the request head that the data begins with and appends to `out` the head that the server gets.
///
/// # Errors
/// [`Refusal`] with the status and the sentence that the client gets.
pub(super) fn request(
    data: &[u8],
    origin: Origin<'_>,
    field_limit: usize,
    out: &mut Vec<u8>,
) -> Result<Request, Refusal> {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_FIELDS];
    let mut parsed = httparse::Request::new(&mut []);
    let length = match parsed.parse_with_uninit_headers(data, &mut fields) {
        Ok(Status::Complete(length)) => length,
        Ok(Status::Partial) => return Err(Refusal::Malformed("the head ends early")),
        Err(httparse::Error::TooManyHeaders) => return Err(Refusal::TooManyFields { limit: field_limit }),
        Err(httparse::Error::Version) => return Err(Refusal::Version),
        Err(_) => return Err(Refusal::Malformed("the head is not as RFC 9112 wants it")),
    };
    let head = &data[..length];
    if matches!(head.first(), Some(b'\r' | b'\n')) || !has_whole_line_ends(head, parsed.headers) {
        return Err(BARE_LINE_FEED);
    }
    if parsed.headers.len() > field_limit {
        return Err(Refusal::TooManyFields { limit: field_limit });
    }
    let (method, target) = (parsed.method.unwrap_or_default(), parsed.path.unwrap_or_default());
    let is_http_10 = parsed.version == Some(0);
    if method == "CONNECT" {
        return Err(Refusal::NotOffered("CONNECT is not offered here"));
    }
    let mut fates = [Fate::Keep; MOST_FIELDS];
    let mut found = Found::default();
    for (field, fate) in parsed.headers.iter().zip(&mut fates) {
        *fate = weigh(field, &mut found)?;
    }
    if found.names_others {
        drop_named(parsed.headers, &mut fates);
    }
    if found.host.is_none() && !is_http_10 {
        return Err(Refusal::Malformed("the Host field is missing"));
    }
    let framing = match (found.chunked, found.length) {
        (true, Some(_)) => return Err(Refusal::Malformed("Content-Length and Transfer-Encoding contradict")),
        (true, None) if is_http_10 => return Err(Refusal::Malformed("HTTP/1.0 has no Transfer-Encoding")),
        (true, None) => Framing::Chunked,
        (false, Some(0) | None) => Framing::None,
        (false, Some(length)) => Framing::Length(length),
    };
    let (path, authority) = origin_form(method, target)?;
    let hops =
        if matches!(method, "OPTIONS" | "TRACE") { hops_left(parsed.headers, &mut fates)? } else { None };
    write_request(head, &parsed, &fates, (method, path), out);
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
    // Only peers that are trusted are believed.
    let believed = !origin.trusted.is_empty() && is_in(origin.client.peer, origin.trusted);
    let client = if believed {
        found.told.write(origin.client, host, origin.id, out);
        found.told.client(origin.trusted)
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
        keep_alive: if is_http_10 { found.keep_alive && !found.close } else { !found.close },
        upgrade: upgrade.is_some(),
        client,
        mark: found.mark.map(<[u8]>::to_vec),
    })
}

/// Notes what a field says and decides whether the server gets it.
fn weigh<'h>(field: &Header<'h>, found: &mut Found<'h>) -> Result<Fate, Refusal> {
    let (name, value) = (field.name, field.value);
    let is = |other: &str| name.eq_ignore_ascii_case(other);
    // The length tells most fields apart without comparing them.
    match name.len() {
        2 if is("te") => return Ok(Fate::Drop),
        4 if is("host") => {
            if found.host.is_some() {
                return Err(Refusal::Malformed("there is more than one Host field"));
            }
            if !is_host(value) {
                return Err(Refusal::Malformed("the Host field is not a host"));
            }
            found.host = Some(value);
        }
        7 if is("upgrade") => {
            // HTTP/2 is spoken by prior knowledge; its upgrade may be ignored (RFC 9113, 3.1).
            let is_h2c = members(value).any(|it| it.eq_ignore_ascii_case(b"h2c"));
            found.upgrade = (!is_h2c && !value.is_empty()).then_some(value);
            return Ok(Fate::Drop);
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
            return Ok(Fate::Drop);
        }
        10 if is("keep-alive") => return Ok(Fate::Drop),
        13 if is(crate::witness::MARK) => {
            found.mark = Some(value);
            return Ok(Fate::Drop);
        }
        14 if is("content-length") => {
            let length = content_length(value).ok_or(Refusal::Malformed("Content-Length is not a number"))?;
            if found.length.replace(length).is_some() {
                return Err(Refusal::Malformed("there is more than one Content-Length field"));
            }
        }
        16 if is("proxy-connection") => return Ok(Fate::Drop),
        17 if is("transfer-encoding") => {
            if found.chunked || !value.eq_ignore_ascii_case(b"chunked") {
                return Err(Refusal::Coding);
            }
            found.chunked = true;
        }
        9 | 12 | 15..=17 if found.told.note(name, value) => return Ok(Fate::Drop),
        _ => {}
    }
    Ok(Fate::Keep)
}

/// Drops the fields that a `Connection` field names (RFC 9110, 7.6.1), but never those that delimit or direct.
fn drop_named(fields: &[Header<'_>], fates: &mut [Fate]) {
    let options = fields.iter().filter(|field| field.name.eq_ignore_ascii_case("connection"));
    let options: Vec<&[u8]> = options.flat_map(|field| members(field.value)).collect();
    for (field, fate) in fields.iter().zip(fates) {
        let keeps = ["host", "content-length", "transfer-encoding"];
        let is_named = options.iter().any(|option| option.eq_ignore_ascii_case(field.name.as_bytes()));
        if is_named && !keeps.iter().any(|name| field.name.eq_ignore_ascii_case(name)) {
            *fate = Fate::Drop;
        }
    }
}

/// How often a question about the way may still be passed on (RFC 9110, 7.6.2), when that is limited.
fn hops_left(fields: &[Header<'_>], fates: &mut [Fate]) -> Result<Option<u64>, Refusal> {
    let place = fields.iter().position(|field| field.name.eq_ignore_ascii_case("max-forwards"));
    let Some((place, most)) = place.and_then(|place| Some((place, content_length(fields[place].value)?)))
    else {
        return Ok(None);
    };
    fates[place] = Fate::Drop;
    most.checked_sub(1).map(Some).ok_or(Refusal::NoFurther)
}

/// The target as an origin server gets it (RFC 9112, 3.2), and the authority of an absolute one.
fn origin_form<'t>(method: &str, target: &'t str) -> Result<(&'t str, Option<&'t str>), Refusal> {
    if !target.bytes().all(|byte| byte.is_ascii_graphic() && byte != b'#') {
        return Err(Refusal::Malformed("the request target holds characters that have to be encoded"));
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
    Err(Refusal::Malformed("the request target is neither a path nor an http URL"))
}

/// Copies the kept fields in runs that are as long as possible: mostly the whole head is one run.
fn write_request(
    head: &[u8],
    parsed: &httparse::Request<'_, '_>,
    fates: &[Fate],
    (method, target): (&str, &str),
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
        let drop = *fate == Fate::Drop || (replaces_host && field.name.eq_ignore_ascii_case("host"));
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

/// The value of a cookie in the head that was written for the server.
pub(super) fn cookie<'h>(head: &'h [u8], name: &str) -> Option<&'h [u8]> {
    with_fields(head, |_, fields| field_of(fields, "cookie").and_then(|field| cookie_in(field, name)))
}

/// Reads a head that we wrote ourselves once more, for those few who want to know what is in it.
fn with_fields<'h, T>(head: &'h [u8], act: impl FnOnce(Option<&'h str>, &[Header<'h>]) -> T) -> T {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_FIELDS + 16];
    let mut parsed = httparse::Request::new(&mut []);
    let read = parsed.parse_with_uninit_headers(head, &mut fields);
    assert!(matches!(read, Ok(Status::Complete(_))), "this head was written by ourselves");
    act(parsed.path, parsed.headers)
}

fn field_of<'h>(fields: &[Header<'h>], name: &str) -> Option<&'h [u8]> {
    fields.iter().find(|field| field.name.eq_ignore_ascii_case(name)).map(|field| field.value)
}

/// What a request says that work can be dealt out by, read from the head that was written for the server. Only pools
/// that go by such things ask for it.
pub(super) fn key(head: &[u8], client: IpAddr, pool: &Pool) -> Key {
    with_fields(head, |target, fields| {
        let field = |name: &str| field_of(fields, name);
        pool.key(&Facts { client, target, host: field("host"), sni: None, field: &field })
    })
}

/// The key of a request in words, for the decision log.
pub(super) fn key_words(head: &[u8], client: IpAddr, pool: &Pool) -> Option<String> {
    let rule = pool.key_rule.as_ref()?;
    with_fields(head, |target, fields| {
        let field = |name: &str| field_of(fields, name);
        let facts = Facts { client, target, host: field("host"), sni: None, field: &field };
        rule.words(rule.key(&facts), &facts)
    })
}

/// What the plane needs to know of a response.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Response {
    /// How many bytes the head has.
    pub(super) length: usize,
    pub(super) status: u16,
    pub(super) framing: Framing,
    /// The server may be sent another request on this connection.
    pub(super) keep_alive: bool,
    /// Nothing in the head has to be taken off or changed for an HTTP/1.1 client.
    pub(super) passes_as_is: bool,
}

/// A response head that makes no sense, or that two clients could read in two ways.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Nonsense;

/// Parses the response head that the data begins with; `None` when it is not all there. `to_head`: it answers a HEAD
/// request.
pub(super) fn response(data: &[u8], to_head: bool) -> Result<Option<Response>, Nonsense> {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_FIELDS];
    let mut parsed = httparse::Response::new(&mut []);
    let config = httparse::ParserConfig::default();
    let length_of_head = match config.parse_response_with_uninit_headers(&mut parsed, data, &mut fields) {
        Ok(Status::Complete(length)) => length,
        Ok(Status::Partial) => return Ok(None),
        Err(_) => return Err(Nonsense),
    };
    let head = &data[..length_of_head];
    if !head.starts_with(b"H") || !has_whole_line_ends(head, parsed.headers) {
        return Err(Nonsense);
    }
    let status = parsed.code.filter(|code| (100..=599).contains(code)).ok_or(Nonsense)?;
    let is_http_10 = parsed.version == Some(0);
    let (mut length, mut chunked, mut close, mut keep_alive) = (None, false, false, false);
    let mut passes_as_is = !is_http_10;
    for field in parsed.headers.iter() {
        match field.name.len() {
            10 if field.name.eq_ignore_ascii_case("connection") => {
                passes_as_is = false;
                close |= members(field.value).any(|it| it.eq_ignore_ascii_case(b"close"));
                keep_alive |= members(field.value).any(|it| it.eq_ignore_ascii_case(b"keep-alive"));
            }
            14 if field.name.eq_ignore_ascii_case("content-length") => {
                let value = content_length(field.value).ok_or(Nonsense)?;
                if let Some(before) = length.replace(value) {
                    if before != value {
                        return Err(Nonsense);
                    }
                    // Said twice, it goes on once (RFC 9110, 8.6).
                    passes_as_is = false;
                }
            }
            17 if field.name.eq_ignore_ascii_case("transfer-encoding") => {
                if chunked || !field.value.eq_ignore_ascii_case(b"chunked") {
                    return Err(Nonsense);
                }
                chunked = true;
            }
            _ if is_hop_by_hop(field.name) => passes_as_is = false,
            _ => {}
        }
    }
    if chunked && (length.is_some() || is_http_10) {
        return Err(Nonsense);
    }
    let framing = match (status, chunked, length) {
        _ if to_head => Framing::None,
        (100..=199 | 204 | 304, _, _) | (_, false, Some(0)) => Framing::None,
        (_, true, _) => Framing::Chunked,
        (_, false, Some(length)) => Framing::Length(length),
        (_, false, None) => Framing::UntilClose,
    };
    let stays = framing != Framing::UntilClose && !close && (!is_http_10 || keep_alive);
    Ok(Some(Response { length: length_of_head, status, framing, keep_alive: stays, passes_as_is }))
}

/// What a response head gets beside its own fields.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct More<'a> {
    /// The value of `Connection`, when there is something to say.
    pub(super) connection: Option<&'a str>,
    /// A whole field with its end of line.
    pub(super) field: Option<&'a [u8]>,
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
pub(super) fn write_response(head: &[u8], unchunk: bool, more: More<'_>, out: &mut Vec<u8>) {
    let mut fields = [const { std::mem::MaybeUninit::uninit() }; MOST_FIELDS];
    let mut parsed = httparse::Response::new(&mut []);
    let config = httparse::ParserConfig::default();
    let complete = config.parse_response_with_uninit_headers(&mut parsed, head, &mut fields);
    assert!(matches!(complete, Ok(Status::Complete(_))), "this head was parsed before");
    let status_line = memchr::memchr(b'\n', head).map_or(head.len(), |end| end + 1);
    // "HTTP/1.x" is ours to say (RFC 9110, 2.5); what follows is the server's.
    out.extend_from_slice(b"HTTP/1.1");
    out.extend_from_slice(&head[8..status_line]);
    let mut fates = [Fate::Keep; MOST_FIELDS];
    drop_named(parsed.headers, &mut fates);
    let mut has_length = false;
    for (field, fate) in parsed.headers.iter().zip(fates) {
        let is = |name: &str| field.name.eq_ignore_ascii_case(name);
        let is_repeated = is("content-length") && std::mem::replace(&mut has_length, true);
        if fate == Fate::Drop
            || is_hop_by_hop(field.name)
            || (unchunk && is("transfer-encoding"))
            || is_repeated
        {
            continue;
        }
        out.extend_from_slice(field.name.as_bytes());
        out.extend_from_slice(b": ");
        out.extend_from_slice(field.value);
        out.extend_from_slice(b"\r\n");
    }
    out.extend_from_slice(more.field.unwrap_or_default());
    if let Some(connection) = more.connection {
        out.extend_from_slice(b"Connection: ");
        out.extend_from_slice(connection.as_bytes());
        out.extend_from_slice(b"\r\n");
    }
    out.extend_from_slice(b"\r\n");
}

#[cfg(test)]
mod tests;
