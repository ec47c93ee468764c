//! Whether a text is a host.

use std::net::Ipv6Addr;

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
pub(super) fn is_host(value: &[u8]) -> bool {
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
