//! Who a request comes from and how it came: what servers get, and what is believed of it.
//!
//! `Forwarded` is RFC 7239; `X-Forwarded-For`, `-Proto` and `-Host` are its customary older kin, and `X-Request-Id` is
//! as customary. What clients say in these fields is dropped, unless the peer is trusted: then it is added to.

use std::net::{IpAddr, SocketAddr};
use std::ops::Range;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ipnet::IpNet;
use merismos_core::rules::RequestVersion;

use crate::accept::{ConnectionAddrs, is_in};

/// How many lines of one field are believed; the last ones count, for they were added last.
const MOST_LINES: usize = 4;

/// What the plane adds to each request of one client.
#[derive(Debug)]
pub(super) struct ClientFields {
    pub(super) peer: IpAddr,
    /// The fields that tell of its certificate; most clients have none.
    certificate: Box<str>,
    /// The fields for a client that is not trusted, up to where the host comes: made once, for each of its requests copies them.
    fields: Box<str>,
    /// Where its address stands in them.
    words: Range<u8>,
    /// The same as `Forwarded` wants it.
    node: Range<u8>,
    proto: &'static str,
    spoken: ClientProtocol,
    /// The name that it asked for in its TLS handshake.
    server_name: Option<Box<str>>,
}

/// The version of HTTP that a client speaks, as `Via` names it (RFC 9110, 7.6.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ClientProtocol {
    One,
    Two,
}

impl ClientFields {
    pub(super) fn new(who: &ConnectionAddrs, spoken: ClientProtocol) -> Self {
        let ip = who.client.ip().to_canonical();
        let proto = if who.is_secure { "https" } else { "http" };
        let node = if ip.is_ipv6() { format!("for=\"[{ip}]\"") } else { format!("for={ip}") };
        let before_words = "X-Forwarded-For: ";
        let before_node = format!("{before_words}{ip}\r\nX-Forwarded-Proto: {proto}\r\nForwarded: ");
        // Both are short: an address has 39 characters at most.
        let range = |start: usize, end: usize| start as u8..end as u8;
        Self {
            peer: ip,
            certificate: Box::default(),
            words: range(before_words.len(), before_words.len() + ip.to_string().len()),
            node: range(before_node.len(), before_node.len() + node.len()),
            fields: format!("{before_node}{node};proto={proto}").into(),
            proto,
            spoken,
            server_name: None,
        }
    }

    /// The same, of a client whose certificate passed.
    pub(super) fn with_certificate(self, certificate: Box<str>) -> Self {
        Self { certificate, ..self }
    }

    /// The same, of a client that asked for a name in its TLS handshake.
    pub(super) fn with_server_name(self, name: Option<String>) -> Self {
        Self { server_name: name.map(String::into_boxed_str), ..self }
    }

    /// The name that the client asked for in its TLS handshake.
    pub(super) fn server_name(&self) -> Option<&str> {
        self.server_name.as_deref()
    }

    /// Whether the client showed a certificate that passed.
    pub(super) fn has_certificate(&self) -> bool {
        !self.certificate.is_empty()
    }

    /// The subject of that certificate, read anew each time; empty where there is none.
    pub(super) fn certificate_subject(&self) -> String {
        let own = self.certificate.strip_prefix("Client-Cert: :").and_then(|rest| rest.split_once(':'));
        let bytes = own.and_then(|(own, _)| STANDARD.decode(own).ok()).unwrap_or_default();
        let read = x509_parser::parse_x509_certificate(&bytes);
        read.map(|(_, certificate)| certificate.subject().to_string()).unwrap_or_default()
    }

    /// What the client speaks.
    pub(super) fn version(&self) -> RequestVersion {
        match self.spoken {
            ClientProtocol::One => RequestVersion::One,
            ClientProtocol::Two => RequestVersion::Two,
        }
    }

    fn part(&self, range: &Range<u8>) -> &[u8] {
        &self.fields.as_bytes()[usize::from(range.start)..usize::from(range.end)]
    }

    /// Writes the fields that the server gets of a client that is not trusted, and the end of the head.
    pub(super) fn write(&self, host: &[u8], id: [u64; 2], out: &mut Vec<u8>) {
        out.reserve(ROOM);
        if !self.certificate.is_empty() {
            out.extend_from_slice(self.certificate.as_bytes());
        }
        out.extend_from_slice(self.fields.as_bytes());
        if !host.is_empty() {
            write_host(host, host, out);
        }
        let mut end = self.end();
        write_hex(id[0], &mut end[ID..ID + 16]);
        write_hex(id[1], &mut end[ID + 16..ID + 32]);
        out.extend_from_slice(&end);
    }

    fn end(&self) -> [u8; 71] {
        match self.spoken {
            ClientProtocol::One => *END,
            ClientProtocol::Two => *END_TWO,
        }
    }
}

/// Room for all that is written of a client, without the host.
const ROOM: usize = 256;

/// The end of every head, with room for the request's identity.
const END: &[u8; 71] = b"\r\nX-Request-Id: ................................\r\nVia: 1.1 merismos\r\n\r\n";
/// The same for what came over HTTP/2.
const END_TWO: &[u8; 71] = b"\r\nX-Request-Id: ................................\r\nVia: 2.0 merismos\r\n\r\n";
/// Where the identity stands in it.
const ID: usize = 16;

fn write_host(host: &[u8], forwarded: &[u8], out: &mut Vec<u8>) {
    out.reserve(host.len() + forwarded.len() + 32);
    out.extend_from_slice(b";host=\"");
    out.extend_from_slice(host);
    out.extend_from_slice(b"\"\r\nX-Forwarded-Host: ");
    out.extend_from_slice(forwarded);
}

/// The lines of one field.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct FieldLines<'h> {
    values: [&'h [u8]; MOST_LINES],
    len: usize,
}

impl<'h> FieldLines<'h> {
    fn push(&mut self, value: &'h [u8]) {
        if value.is_empty() {
            return;
        }
        if self.len == MOST_LINES {
            self.values.rotate_left(1);
            self.len -= 1;
        }
        self.values[self.len] = value;
        self.len += 1;
    }

    fn write(&self, out: &mut Vec<u8>) {
        for value in &self.values[..self.len] {
            out.extend_from_slice(value);
            out.extend_from_slice(b", ");
        }
    }

    /// The members of the lists, the last ones first.
    fn members_from_the_last(&self) -> impl Iterator<Item = &'h [u8]> {
        let lines = self.values[..self.len].iter().rev();
        lines.flat_map(|line| line.rsplit(|byte| *byte == b',').map(<[u8]>::trim_ascii))
    }
}

/// What the peer says of the request.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct ForwardedFields<'h> {
    forwarded_for: FieldLines<'h>,
    forwarded: FieldLines<'h>,
    proto: Option<&'h [u8]>,
    host: Option<&'h [u8]>,
    request_id: Option<&'h [u8]>,
}

/// Whether a name would be one of those that we set, were its underscores hyphens. Servers that make variables of fields
/// (RFC 3875, 4.1.18) take them for the same, and would believe every client that sends them.
#[inline]
pub(super) fn is_disguised(name: &str) -> bool {
    const OURS: [&str; 4] = ["x-request-id", "x-forwarded-for", "x-forwarded-host", "x-forwarded-proto"];
    let is_like = |other: &str| {
        name.len() == other.len()
            && name.bytes().zip(other.bytes()).all(|(byte, other)| match byte {
                b'_' => other == b'-',
                byte => byte.eq_ignore_ascii_case(&other),
            })
    };
    name.contains('_') && OURS.iter().any(|other| is_like(other))
}

/// Whether every quoted string ends (RFC 9110, 5.6.4).
fn has_whole_quotes(value: &[u8]) -> bool {
    let (mut is_quoted, mut is_escaped) = (false, false);
    for byte in value {
        match byte {
            _ if is_escaped => is_escaped = false,
            b'\\' if is_quoted => is_escaped = true,
            b'"' => is_quoted = !is_quoted,
            _ => {}
        }
    }
    !is_quoted && !is_escaped
}

/// A word or an identity that can be passed on as it is.
fn is_plain(value: &[u8]) -> bool {
    (1..=128).contains(&value.len())
        && value.iter().all(|byte| byte.is_ascii_graphic() && !b"\",;=".contains(byte))
}

impl<'h> ForwardedFields<'h> {
    /// Notes a field when it is one of those; gives whether it is.
    pub(super) fn note(&mut self, name: &str, value: &'h [u8]) -> bool {
        let is = |other: &str| name.eq_ignore_ascii_case(other);
        match name.len() {
            // A quote that is open at the end would swallow what we add.
            9 if is("forwarded") => self.forwarded.push(if has_whole_quotes(value) { value } else { b"" }),
            12 if is("x-request-id") => self.request_id = Some(value),
            15 if is("x-forwarded-for") => self.forwarded_for.push(value),
            16 if is("x-forwarded-host") => self.host = Some(value),
            17 if is("x-forwarded-proto") => self.proto = Some(value),
            _ => return false,
        }
        true
    }

    /// The client's address as trusted peers tell it: the last one that is not one of their own.
    pub(super) fn client(&self, trusted: &[IpNet]) -> Option<IpAddr> {
        let first = |addresses: &mut dyn Iterator<Item = Option<IpAddr>>| {
            let mut last = None;
            for address in addresses {
                // What can't be read hides everything before it.
                let address = address?;
                last = Some(address);
                if !is_in(address, trusted) {
                    return last;
                }
            }
            last
        };
        let older = first(&mut self.forwarded_for.members_from_the_last().map(address));
        older.or_else(|| first(&mut self.forwarded.members_from_the_last().map(for_of)))
    }

    /// Writes the fields that the server gets of a client that a trusted peer tells of, and the end of the head. The certificate is the
    /// peer's own then, and what it says of its client's goes through.
    pub(super) fn write(&self, client: &ClientFields, host: &[u8], id: [u64; 2], out: &mut Vec<u8>) {
        let proto = self.proto.filter(|proto| is_plain(proto)).unwrap_or(client.proto.as_bytes());
        out.extend_from_slice(b"X-Forwarded-For: ");
        self.forwarded_for.write(out);
        out.extend_from_slice(client.part(&client.words));
        out.extend_from_slice(b"\r\nX-Forwarded-Proto: ");
        out.extend_from_slice(proto);
        out.extend_from_slice(b"\r\nForwarded: ");
        self.forwarded.write(out);
        out.extend_from_slice(client.part(&client.node));
        out.extend_from_slice(b";proto=");
        out.extend_from_slice(proto);
        if !host.is_empty() {
            write_host(host, self.host.filter(|host| is_plain(host)).unwrap_or(host), out);
        }
        match self.request_id.filter(|id| is_plain(id)) {
            Some(id) => {
                let end = client.end();
                out.extend_from_slice(&end[..ID]);
                out.extend_from_slice(id);
                out.extend_from_slice(&end[ID + 32..]);
            }
            None => {
                let mut end = client.end();
                write_hex(id[0], &mut end[ID..ID + 16]);
                write_hex(id[1], &mut end[ID + 16..ID + 32]);
                out.extend_from_slice(&end);
            }
        }
    }
}

/// Writes sixteen digits, eight at once: each byte of a word is made a digit without looking anything up.
fn write_hex(number: u64, into: &mut [u8]) {
    const LOW: u64 = u64::from_le_bytes([1; 8]);
    let (high, low) = ((number >> 32) as u32, number as u32);
    for (half, digits) in [high, low].into_iter().zip(into.as_chunks_mut::<8>().0) {
        // Four bits to a byte.
        let wide = u64::from(half);
        let wide = (wide | wide << 16) & 0x0000_ffff_0000_ffff;
        let wide = (wide | wide << 8) & 0x00ff_00ff_00ff_00ff;
        let wide = (wide | wide << 4) & 0x0f0f_0f0f_0f0f_0f0f;
        // Beyond nine they are letters: 39 further on.
        let letters = (wide + LOW * 6) >> 4 & LOW;
        *digits = (wide + LOW * u64::from(b'0') + letters * u64::from(b'a' - b'0' - 10)).to_be_bytes();
    }
}

/// An address as these fields hold it, perhaps with a port: `192.0.2.7`, `192.0.2.7:80`, `[2001:db8::7]:80`.
fn address(text: &[u8]) -> Option<IpAddr> {
    let text = std::str::from_utf8(text).ok()?.trim_matches('"');
    let bare = text.trim_start_matches('[').trim_end_matches(']');
    text.parse().ok().or_else(|| bare.parse().ok()).or_else(|| Some(text.parse::<SocketAddr>().ok()?.ip()))
}

/// The address in the `for` of one element of `Forwarded` (RFC 7239, 4).
fn for_of(element: &[u8]) -> Option<IpAddr> {
    let pairs = element.split(|byte| *byte == b';').map(<[u8]>::trim_ascii);
    let mut values = pairs.filter(|pair| pair.len() > 4 && pair[..4].eq_ignore_ascii_case(b"for="));
    address(&values.next()?[4..])
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn networks() -> Vec<IpNet> {
        vec!["192.0.2.0/24".parse().unwrap(), "2001:db8:1::/48".parse().unwrap()]
    }

    #[rstest]
    #[case::one("x-forwarded-for", "198.51.100.7", Some("198.51.100.7"))]
    #[case::the_last_that_is_not_trusted(
        "x-forwarded-for",
        "203.0.113.1, 198.51.100.7, 192.0.2.9",
        Some("198.51.100.7")
    )]
    #[case::all_are_trusted("x-forwarded-for", "192.0.2.8, 192.0.2.9", Some("192.0.2.8"))]
    #[case::with_ports("x-forwarded-for", "198.51.100.7:4711", Some("198.51.100.7"))]
    #[case::six("x-forwarded-for", "[2001:db8::7]:4711, 2001:db8:1::1", Some("2001:db8::7"))]
    #[case::unreadable("x-forwarded-for", "198.51.100.7, unknown, 192.0.2.9", None)]
    #[case::forwarded("forwarded", "for=198.51.100.7;proto=https, for=192.0.2.1", Some("198.51.100.7"))]
    #[case::forwarded_six("Forwarded", "proto=https; For=\"[2001:db8::7]:1\"", Some("2001:db8::7"))]
    #[case::nothing("x-forwarded-proto", "https", None)]
    fn who_the_client_is(#[case] name: &str, #[case] value: &str, #[case] client: Option<&str>) {
        let mut fields = ForwardedFields::default();
        assert!(fields.note(name, value.as_bytes()));
        assert_eq!(fields.client(&networks()), client.map(|client| client.parse().unwrap()));
    }

    #[test]
    fn what_trusted_peers_say_is_added_to() {
        let mut fields = ForwardedFields::default();
        for (name, value) in [
            ("X-Forwarded-For", "198.51.100.7"),
            ("X-Forwarded-For", "192.0.2.9"),
            ("X-Forwarded-Proto", "https"),
            ("X-Forwarded-Host", "skerry.example"),
            ("Forwarded", "for=198.51.100.7"),
            ("X-Request-Id", "abc-1"),
        ] {
            assert!(fields.note(name, value.as_bytes()));
        }
        let mut out = Vec::new();
        let client = ClientFields::new(
            &ConnectionAddrs::plain("192.0.2.77:5000".parse().unwrap()),
            ClientProtocol::One,
        );
        fields.write(&client, b"inner.example", [1, 2], &mut out);
        assert_eq!(
            String::from_utf8(out).unwrap(),
            "X-Forwarded-For: 198.51.100.7, 192.0.2.9, 192.0.2.77\r\nX-Forwarded-Proto: https\r\n\
             Forwarded: for=198.51.100.7, for=192.0.2.77;proto=https;host=\"inner.example\"\r\n\
             X-Forwarded-Host: skerry.example\r\nX-Request-Id: abc-1\r\nVia: 1.1 merismos\r\n\r\n"
        );
    }

    #[test]
    fn every_digit_is_written() {
        let mut digits = [0; 16];
        write_hex(0x0123_4567_89ab_cdef, &mut digits);
        assert_eq!(&digits, b"0123456789abcdef");
        write_hex(0xf00f_0000_0000_00ff, &mut digits);
        assert_eq!(&digits, b"f00f0000000000ff");
    }

    #[test]
    fn what_could_break_out_of_a_field_is_not_passed_on() {
        let mut fields = ForwardedFields::default();
        fields.note("X-Forwarded-Proto", b"http;host=\"evil\"");
        fields.note("X-Request-Id", b"a b");
        let mut out = Vec::new();
        fields.write(
            &ClientFields::new(
                &ConnectionAddrs::plain("[2001:db8::7]:1".parse().unwrap()),
                ClientProtocol::One,
            ),
            b"",
            [10, 11],
            &mut out,
        );
        assert_eq!(
            String::from_utf8(out).unwrap(),
            "X-Forwarded-For: 2001:db8::7\r\nX-Forwarded-Proto: http\r\nForwarded: for=\"[2001:db8::7]\";proto=http\r\n\
             X-Request-Id: 000000000000000a000000000000000b\r\nVia: 1.1 merismos\r\n\r\n"
        );
    }
}
