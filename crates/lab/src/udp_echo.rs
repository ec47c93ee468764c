//! Stand-ins for datagrams.

use std::io;
use std::net::{SocketAddr, UdpSocket as StdSocket};
use std::sync::Arc;
use std::time::Duration;

use tokio::net::UdpSocket;
use tokio::sync::watch;

use crate::stand_in::{Fault, pause};

/// The largest datagram there is.
const LARGEST: usize = 65_535;

pub(crate) fn listen(address: SocketAddr) -> io::Result<UdpSocket> {
    let socket = StdSocket::bind(address)?;
    socket.set_nonblocking(true)?;
    UdpSocket::from_std(socket)
}

/// Answers each datagram, and does not listen while it refuses.
pub(crate) async fn serve(
    name: Arc<str>,
    address: SocketAddr,
    socket: UdpSocket,
    mut faults: watch::Receiver<Fault>,
    tell: watch::Sender<bool>,
) {
    let mut socket = Some(socket);
    let mut buffer = vec![0; LARGEST];
    loop {
        let refuses = *faults.borrow_and_update() == Fault::Refuse;
        if refuses {
            socket = None;
        } else if socket.is_none() {
            socket = listen(address).ok();
        }
        tell.send_replace(socket.is_some());
        let Some(open) = &socket else {
            if refuses && faults.changed().await.is_err() {
                return;
            }
            // The port is taken by another process for the moment.
            tokio::time::sleep(Duration::from_millis(if refuses { 0 } else { 100 })).await;
            continue;
        };
        tokio::select! {
            // An error says that an earlier answer did not arrive.
            received = open.recv_from(&mut buffer) => if let Ok((length, from)) = received {
                pause(&mut faults.clone()).await;
                let answer = [name.as_bytes(), b": ", &buffer[..length.min(LARGEST - 80)]].concat();
                let _ = open.send_to(&answer, from).await;
            },
            changed = faults.changed() => if changed.is_err() {
                return;
            },
        }
    }
}
