//! The connection between a service and its successor: lines of JSON in both directions, and descriptors in between.

use std::io;
use std::os::fd::OwnedFd;
use std::time::Duration;

use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;

use super::{ANSWERS_WITHIN, descriptors};

/// The longest line: ten thousand servers take some 4 MiB, a million pins that were used within a moment some 60.
const LONGEST_LINE: usize = 128 << 20;

#[derive(Debug)]
pub(super) struct Link {
    stream: UnixStream,
    /// What was read and not yet given out.
    read: Vec<u8>,
}

impl Link {
    pub(super) fn new(stream: UnixStream) -> Self {
        Self { stream, read: Vec::new() }
    }

    /// Whether a process of the same user, or of root, is on the other side.
    pub(super) fn is_of_same_user(&self) -> io::Result<bool> {
        let other = self.stream.peer_cred()?.uid();
        Ok(other == 0 || other == rustix::process::geteuid().as_raw())
    }

    pub(super) async fn send(&mut self, message: &impl Serialize) -> io::Result<()> {
        let mut line = serde_json::to_vec(message).map_err(io::Error::other)?;
        line.push(b'\n');
        limited(ANSWERS_WITHIN, self.stream.write_all(&line)).await
    }

    /// The next message; `None` when the other side has ended. Nothing is lost when the future is dropped.
    pub(super) async fn receive<T: DeserializeOwned>(&mut self) -> io::Result<Option<T>> {
        let mut looked = 0;
        loop {
            if let Some(end) = line_end(&self.read[looked..]) {
                let rest = self.read.split_off(looked + end + 1);
                let line = std::mem::replace(&mut self.read, rest);
                return serde_json::from_slice(&line).map(Some).map_err(|error| {
                    io::Error::other(format!(
                        "the other process said what is no message of an upgrade ({error})"
                    ))
                });
            }
            looked = self.read.len();
            if looked > LONGEST_LINE {
                return Err(io::Error::other("a message is too long"));
            }
            if self.stream.read_buf(&mut self.read).await? == 0 {
                return Ok(None);
            }
        }
    }

    /// The next message, which has to come soon.
    pub(super) async fn expect<T: DeserializeOwned>(&mut self, within: Duration) -> io::Result<T> {
        let message = limited(within, self.receive()).await?;
        message.ok_or_else(|| io::ErrorKind::UnexpectedEof.into())
    }

    pub(super) async fn send_descriptors(&self, all: &[OwnedFd]) -> io::Result<()> {
        limited(ANSWERS_WITHIN, descriptors::send(&self.stream, all)).await
    }

    pub(super) async fn receive_descriptors(&self, count: usize) -> io::Result<Vec<OwnedFd>> {
        limited(ANSWERS_WITHIN, descriptors::receive(&self.stream, count)).await
    }
}

fn line_end(bytes: &[u8]) -> Option<usize> {
    bytes.iter().position(|byte| *byte == b'\n')
}

async fn limited<T>(within: Duration, work: impl Future<Output = io::Result<T>>) -> io::Result<T> {
    tokio::time::timeout(within, work).await.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
}
