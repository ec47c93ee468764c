//! Whether a text is a host.

use std::net::Ipv6Addr;

use super::bytes::ByteSet;

/// The bytes that the name in a host may hold (RFC 3986, 3.2.2) without further questions.
const NAME_BYTES: ByteSet = ByteSet::letters_digits_and(b"-._~!$&'()*+,;=");

/// Whether it is a host with or without a port, or nothing at all (RFC 9110, 7.2).
pub(super) fn is_host(value: &[u8]) -> bool {
    let name = without_port(value);
    let is_plain = NAME_BYTES.holds_all(name) && (!name.is_empty() || value.is_empty());
    is_plain || is_unusual_host(value)
}

/// What comes before a colon with nothing but digits behind it.
fn without_port(value: &[u8]) -> &[u8] {
    let digits = value.iter().rev().take_while(|byte| byte.is_ascii_digit()).count();
    match value.len().checked_sub(digits + 1) {
        Some(at) if value[at] == b':' => &value[..at],
        _ => value,
    }
}

#[cold]
fn is_unusual_host(value: &[u8]) -> bool {
    if value.starts_with(b"[") { is_literal_host(value) } else { is_encoded_host(without_port(value)) }
}

/// An address in brackets.
fn is_literal_host(value: &[u8]) -> bool {
    let text = str::from_utf8(value).ok().and_then(|text| text.strip_prefix('[')?.split_once(']'));
    let Some((literal, rest)) = text else { return false };
    // What future versions look like is known, if nothing else of them.
    let is_future = || {
        let (version, address) = literal.strip_prefix(['v', 'V'])?.split_once('.')?;
        let is_version = !version.is_empty() && version.bytes().all(|byte| byte.is_ascii_hexdigit());
        let is_address = NAME_BYTES.holds_all(&address.replace(':', "").into_bytes());
        Some(is_version && !address.is_empty() && is_address)
    };
    let is_address = literal.parse::<Ipv6Addr>().is_ok() || is_future() == Some(true);
    is_address && (rest.is_empty() || rest.strip_prefix(':').is_some_and(is_port))
}

/// A name in which bytes are encoded.
fn is_encoded_host(name: &[u8]) -> bool {
    let mut pieces = name.split(|byte| *byte == b'%');
    let is_plain = |piece: &[u8]| NAME_BYTES.holds_all(piece);
    let is_encoded = |piece: &[u8]| {
        piece.first_chunk::<2>().is_some_and(|code| code.iter().all(u8::is_ascii_hexdigit)) && is_plain(piece)
    };
    name.contains(&b'%') && pieces.next().is_some_and(is_plain) && pieces.all(is_encoded)
}

fn is_port(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_digit())
}
