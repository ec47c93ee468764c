//! PROXY protocol headers: the addresses of a client, announced by the proxy that passes its connection on
//! (W. Tarreau: "The PROXY protocol, versions 1 & 2", 2017).

use std::net::{IpAddr, SocketAddr};

use merismos_core::config::document::ProxyVersion;
use ppp::{HeaderResult, PartialResult, v1, v2};

/// The longest header of version 2 that is waited for; it says its own length, and its extra values are rarely long.
const LONGEST: usize = 2_048;
/// The longest line of version 1 (2.1 of the document).
const LONGEST_LINE: usize = 107;
/// How much has to be there before it is clear which version it is.
const SIGNATURE: usize = 12;

/// What the bytes at the beginning of a connection are.
#[derive(Debug, PartialEq, Eq)]
pub enum ProxyHeader {
    /// The first `length` bytes are a header. `client` is missing when it speaks for the peer itself, as health checks
    /// do, or of something that is no TCP connection.
    Whole {
        /// How many bytes it takes.
        length: usize,
        /// The client that it names.
        client: Option<SocketAddr>,
    },
    /// More has to come.
    Partial,
    /// The bytes are no header of this protocol.
    Wrong,
}

/// Looks for a header at the beginning of a connection.
pub fn parse(bytes: &[u8]) -> ProxyHeader {
    let partial = || if bytes.len() < LONGEST { ProxyHeader::Partial } else { ProxyHeader::Wrong };
    let begins = |text: &[u8]| text.starts_with(&bytes[..bytes.len().min(text.len())]);
    if bytes.len() < SIGNATURE && (begins(v2::PROTOCOL_PREFIX) || begins(b"PROXY ")) {
        return partial();
    }
    // A line is read when all of it is there: half a port number would be a wrong one.
    let line_end = memchr::memchr(b'\n', bytes);
    if bytes.starts_with(b"PROXY ") && line_end.is_none() {
        return if bytes.len() < LONGEST_LINE { ProxyHeader::Partial } else { ProxyHeader::Wrong };
    }
    match HeaderResult::parse(bytes) {
        HeaderResult::V1(Ok(header)) => {
            ProxyHeader::Whole { length: header.header.len(), client: first_client(&header) }
        }
        HeaderResult::V2(Ok(header)) => {
            ProxyHeader::Whole { length: header.len(), client: second_client(&header) }
        }
        HeaderResult::V2(Err(error)) if error.is_incomplete() => partial(),
        HeaderResult::V1(Err(_)) | HeaderResult::V2(Err(_)) => ProxyHeader::Wrong,
    }
}

fn first_client(header: &v1::Header<'_>) -> Option<SocketAddr> {
    match &header.addresses {
        v1::Addresses::Tcp4(it) => Some((it.source_address, it.source_port).into()),
        v1::Addresses::Tcp6(it) => Some((it.source_address, it.source_port).into()),
        v1::Addresses::Unknown => None,
    }
}

fn second_client(header: &v2::Header<'_>) -> Option<SocketAddr> {
    match (&header.command, &header.addresses) {
        (v2::Command::Proxy, v2::Addresses::IPv4(it)) => Some((it.source_address, it.source_port).into()),
        (v2::Command::Proxy, v2::Addresses::IPv6(it)) => Some((it.source_address, it.source_port).into()),
        (v2::Command::Proxy, v2::Addresses::Unspecified | v2::Addresses::Unix(_))
        | (v2::Command::Local, _) => None,
    }
}

/// Both addresses in one family: an IPv4 one is written as IPv6 where the other is.
fn same_family(a: SocketAddr, b: SocketAddr) -> (SocketAddr, SocketAddr) {
    let plain = |address: SocketAddr| SocketAddr::new(address.ip().to_canonical(), address.port());
    let six = |address: SocketAddr| match address.ip() {
        IpAddr::V4(ip) => SocketAddr::new(ip.to_ipv6_mapped().into(), address.port()),
        IpAddr::V6(_) => address,
    };
    let (a, b) = (plain(a), plain(b));
    if a.is_ipv4() == b.is_ipv4() { (a, b) } else { (six(a), six(b)) }
}

/// The header with which a connection to a server begins.
pub fn header(version: ProxyVersion, client: SocketAddr, meant_for: SocketAddr) -> Vec<u8> {
    let (client, meant_for) = same_family(client, meant_for);
    match version {
        ProxyVersion::V1 => v1::Addresses::from((client, meant_for)).to_string().into_bytes(),
        ProxyVersion::V2 => {
            let command = v2::Version::Two | v2::Command::Proxy;
            let builder = v2::Builder::with_addresses(command, v2::Protocol::Stream, (client, meant_for));
            builder.build().expect("a header of two addresses always fits")
        }
    }
}

/// The header of a connection of our own, as those of probes are.
pub fn own_header(version: ProxyVersion) -> Vec<u8> {
    match version {
        ProxyVersion::V1 => v1::Addresses::Unknown.to_string().into_bytes(),
        ProxyVersion::V2 => {
            let command = v2::Version::Two | v2::Command::Local;
            let builder =
                v2::Builder::with_addresses(command, v2::Protocol::Unspecified, v2::Addresses::Unspecified);
            builder.build().expect("a header without addresses always fits")
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::v4("198.51.100.7:4711", "192.0.2.1:80")]
    #[case::v6("[2001:db8::7]:4711", "[2001:db8::1]:80")]
    #[case::mixed("[::ffff:198.51.100.7]:4711", "192.0.2.1:80")]
    fn what_is_written_is_read(
        #[values(ProxyVersion::V1, ProxyVersion::V2)] version: ProxyVersion,
        #[case] client: SocketAddr,
        #[case] meant_for: SocketAddr,
    ) {
        let header = header(version, client, meant_for);
        let plain = SocketAddr::new(client.ip().to_canonical(), client.port());
        let mut bytes = header.clone();
        bytes.extend_from_slice(b"GET / HTTP/1.1\r\n");
        assert_eq!(parse(&bytes), ProxyHeader::Whole { length: header.len(), client: Some(plain) });
        for end in 0..header.len() {
            assert_eq!(parse(&bytes[..end]), ProxyHeader::Partial, "the first {end} bytes");
        }
    }

    #[rstest]
    #[case::a_request(b"GET / HTTP/1.1\r\n\r\n")]
    #[case::another_word(b"PROXIED TCP4 1.2.3.4")]
    #[case::no_address(b"PROXY TCP4 300.1.1.1 192.0.2.1 1 2\r\n")]
    #[case::a_bare_line_feed(b"PROXY TCP4 192.0.2.7 192.0.2.1 1 2\nGET / HTTP/1.1")]
    fn what_is_none(#[case] bytes: &[u8]) {
        assert_eq!(parse(bytes), ProxyHeader::Wrong);
    }

    #[test]
    fn unknown_clients_are_the_peer_itself() {
        assert_eq!(parse(b"PROXY UNKNOWN\r\n"), ProxyHeader::Whole { length: 15, client: None });
        let mut local = header(ProxyVersion::V2, ([192, 0, 2, 7], 1).into(), ([192, 0, 2, 1], 2).into());
        local[12] = 0x20;
        assert_eq!(parse(&local), ProxyHeader::Whole { length: local.len(), client: None });
    }

    #[rstest]
    fn what_is_our_own_names_nobody(#[values(ProxyVersion::V1, ProxyVersion::V2)] version: ProxyVersion) {
        let header = own_header(version);
        assert_eq!(parse(&header), ProxyHeader::Whole { length: header.len(), client: None });
    }

    #[test]
    fn an_endless_header_is_none() {
        let mut endless = b"PROXY TCP4 ".to_vec();
        endless.resize(LONGEST_LINE, b'1');
        assert_eq!(parse(&endless), ProxyHeader::Wrong);
    }
}
