//! Connections to routers.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::os::fd::AsRawFd;
use std::time::Duration;

use nix::libc;
use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::TcpStream;

/// The port that routers listen at (RFC 4271, 8.2.2).
const PORT: u16 = 179;
/// How long a router has to accept a connection.
const CONNECTS_WITHIN: Duration = Duration::from_secs(5);
/// How long a password may be, as the kernel has it.
const LONGEST_PASSWORD: usize = 80;

/// Connects to a router that is at most so many hops away.
///
/// # Errors
/// When nothing accepts the connection in time, or the password can't be used.
pub(super) async fn connect(peer: IpAddr, hops: u8, password: Option<&str>) -> io::Result<TcpStream> {
    let socket =
        Socket::new(Domain::for_address(SocketAddr::new(peer, PORT)), Type::STREAM, Some(Protocol::TCP))?;
    socket.set_nonblocking(true)?;
    socket.set_tcp_nodelay(true)?;
    match peer {
        IpAddr::V4(_) => socket.set_ttl_v4(u32::from(hops))?,
        IpAddr::V6(_) => socket.set_unicast_hops_v6(u32::from(hops))?,
    }
    if let Some(password) = password {
        sign(&socket, peer, password)?;
    }
    let socket = tokio::net::TcpSocket::from_std_stream(socket.into());
    let connected = tokio::time::timeout(CONNECTS_WITHIN, socket.connect(SocketAddr::new(peer, PORT))).await;
    connected.unwrap_or_else(|_| Err(io::Error::new(io::ErrorKind::TimedOut, "no answer within 5 s")))
}

/// Has the kernel sign all segments to a peer, and drop those that come without its signature (TCP MD5, RFC 2385).
fn sign(socket: &Socket, peer: IpAddr, password: &str) -> io::Result<()> {
    // `struct tcp_md5sig`: the peer as a `sockaddr_storage`, flags, prefix length, the length of the key, an interface, the key.
    let mut option = [0_u8; 128 + 8 + LONGEST_PASSWORD];
    let family = if peer.is_ipv4() { libc::AF_INET } else { libc::AF_INET6 };
    let family = u16::try_from(family).expect("families are small");
    option[..2].copy_from_slice(&family.to_ne_bytes());
    match peer {
        IpAddr::V4(ip) => option[4..8].copy_from_slice(&ip.octets()),
        IpAddr::V6(ip) => option[8..24].copy_from_slice(&ip.octets()),
    }
    let key = password.as_bytes();
    if key.is_empty() || key.len() > LONGEST_PASSWORD {
        let found = format!("a password has 1 to {LONGEST_PASSWORD} bytes, and this one has {}", key.len());
        return Err(io::Error::new(io::ErrorKind::InvalidInput, found));
    }
    let length = u16::try_from(key.len()).expect("it is short");
    option[130..132].copy_from_slice(&length.to_ne_bytes());
    option[136..136 + key.len()].copy_from_slice(key);
    let size = libc::socklen_t::try_from(option.len()).expect("it is short");
    // SAFETY: the kernel reads `size` bytes of `option`, which has as many and lives until the call is over.
    let done = unsafe {
        libc::setsockopt(
            socket.as_raw_fd(),
            libc::IPPROTO_TCP,
            libc::TCP_MD5SIG,
            option.as_ptr().cast(),
            size,
        )
    };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}
