//! Connections and datagrams without any protocol of their own.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use nix::sys::socket::setsockopt;
use nix::sys::socket::sockopt::IpBindAddressNoPort;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpSocket, TcpStream, UdpSocket};
use tokio::time::timeout;

use crate::ClientOutcome;
use crate::tls::{self, LoadTls};

/// How long a server may take to end its side when it was answered and left.
const FAREWELL: Duration = Duration::from_millis(100);
/// The longest answer to a datagram.
const LARGEST: usize = 65_535;

/// Whether this machine can send from an address.
#[must_use]
pub fn can_send_from(address: IpAddr) -> bool {
    std::net::UdpSocket::bind((address, 0)).is_ok()
}

/// The address that this machine sends from when it sends there.
///
/// # Errors
/// When there is no way there.
pub fn usual_source(to: SocketAddr) -> io::Result<IpAddr> {
    let any = if to.is_ipv4() { IpAddr::from([0; 4]) } else { IpAddr::from([0; 16]) };
    let socket = std::net::UdpSocket::bind((any, 0))?;
    // No datagram leaves: connecting only asks for the way.
    socket.connect(to)?;
    Ok(socket.local_addr()?.ip())
}

/// Connects, from this address if there is one.
pub(crate) async fn connect(to: SocketAddr, from: Option<IpAddr>) -> io::Result<TcpStream> {
    let stream = match from {
        None => TcpStream::connect(to).await?,
        Some(from) => {
            let socket = if to.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
            // The port is chosen when the peer is known, so that ports of the past can serve again.
            setsockopt(&socket, IpBindAddressNoPort, &true)?;
            socket.bind(SocketAddr::new(from, 0))?;
            socket.connect(to).await?
        }
    };
    stream.set_nodelay(true)?;
    Ok(stream)
}

/// What one client does over TCP or UDP; where it came from is reported as soon as it is known.
pub(crate) struct StreamClient {
    pub(crate) to: SocketAddr,
    pub(crate) source: Option<IpAddr>,
    pub(crate) tls: Option<LoadTls>,
    pub(crate) from: Option<SocketAddr>,
}

impl StreamClient {
    pub(crate) async fn connection(&mut self, say: &[u8]) -> io::Result<ClientOutcome> {
        self.from = None;
        let (mut stream, from) = tls::open(self.to, self.source, self.tls.as_ref()).await?;
        self.from = Some(from);
        let mut room = [0; 4_096];
        if say.is_empty() {
            stream.shutdown().await?;
            let _: usize = stream.read(&mut room).await?;
            return Ok(ClientOutcome::Done);
        }
        stream.write_all(say).await?;
        if stream.read(&mut room).await? == 0 {
            return Ok(ClientOutcome::Broken);
        }
        // What more the server sends does not matter; that it can end in order does.
        let _ = timeout(FAREWELL, async {
            stream.shutdown().await?;
            while stream.read(&mut room).await? > 0 {}
            io::Result::Ok(())
        })
        .await;
        Ok(ClientOutcome::Done)
    }

    pub(crate) async fn datagram(&mut self, say: &[u8], is_answered: bool) -> io::Result<ClientOutcome> {
        self.from = None;
        let any = if self.to.is_ipv4() { IpAddr::from([0; 4]) } else { IpAddr::from([0; 16]) };
        let socket = UdpSocket::bind((self.source.unwrap_or(any), 0)).await?;
        socket.connect(self.to).await?;
        self.from = Some(socket.local_addr()?);
        socket.send(say).await?;
        if is_answered {
            socket.recv(&mut vec![0; LARGEST]).await?;
        }
        Ok(ClientOutcome::Done)
    }
}
