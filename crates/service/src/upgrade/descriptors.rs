//! Descriptors over a Unix socket (`SCM_RIGHTS`, unix(7)).

use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer, SendAncillaryMessage,
    SendFlags, recvmsg, sendmsg,
};
use tokio::io::Interest;
use tokio::net::UnixStream;

/// The most descriptors that the system takes with one message.
const AT_ONCE: usize = 253;

/// Sends descriptors, with a byte for each message.
pub(super) async fn send(stream: &UnixStream, all: &[OwnedFd]) -> io::Result<()> {
    for part in all.chunks(AT_ONCE) {
        let part: Vec<BorrowedFd<'_>> = part.iter().map(AsFd::as_fd).collect();
        let send = || {
            let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(AT_ONCE))];
            let mut ancillary = SendAncillaryBuffer::new(&mut space);
            ancillary.push(SendAncillaryMessage::ScmRights(&part));
            Ok(sendmsg(stream, &[IoSlice::new(b"d")], &mut ancillary, SendFlags::NOSIGNAL)?)
        };
        stream.async_io(Interest::WRITABLE, send).await?;
    }
    Ok(())
}

/// Receives so many descriptors.
pub(super) async fn receive(stream: &UnixStream, count: usize) -> io::Result<Vec<OwnedFd>> {
    let mut all = Vec::with_capacity(count);
    while all.len() < count {
        let receive = || {
            let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(AT_ONCE))];
            let mut ancillary = RecvAncillaryBuffer::new(&mut space);
            let mut byte = [0; 1];
            let message =
                recvmsg(stream, &mut [IoSliceMut::new(&mut byte)], &mut ancillary, RecvFlags::CMSG_CLOEXEC)?;
            let mut received = Vec::new();
            for ancillary in ancillary.drain() {
                if let RecvAncillaryMessage::ScmRights(descriptors) = ancillary {
                    received.extend(descriptors);
                }
            }
            if message.bytes == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            Ok(received)
        };
        let received = stream.async_io(Interest::READABLE, receive).await?;
        if received.is_empty() {
            // The limit of descriptors, most likely: the system leaves out what there is no room for.
            return Err(io::Error::other("not all descriptors came; raise the limit of open files"));
        }
        all.extend(received);
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Seek, Write};

    use super::*;

    #[tokio::test]
    async fn more_descriptors_than_go_with_one_message_arrive_in_their_order() {
        let (here, there) = UnixStream::pair().unwrap();
        let sent: Vec<OwnedFd> = (0..300)
            .map(|number| {
                let mut file = tempfile::tempfile().unwrap();
                write!(file, "{number}").unwrap();
                file.rewind().unwrap();
                file.into()
            })
            .collect();
        let (sent, received) = tokio::join!(send(&here, &sent), receive(&there, 300));
        sent.unwrap();
        for (number, descriptor) in received.unwrap().into_iter().enumerate() {
            let mut text = String::new();
            std::fs::File::from(descriptor).read_to_string(&mut text).unwrap();
            assert_eq!(text, number.to_string());
        }
    }

    #[tokio::test]
    async fn a_connection_that_ends_is_an_error() {
        let (here, there) = UnixStream::pair().unwrap();
        drop(here);
        assert_eq!(receive(&there, 1).await.unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
    }
}
