//! HTTP/2 by hand: frames as no well-behaved program sends them.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::TcpStream;

use crate::rig::{PATIENCE, Rig, read_to_end};

/// What came over a connection until it ended.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Rest {
    /// The error code of the last GOAWAY; `None` when there was none.
    pub(crate) goaway: Option<u32>,
    /// The streams whose answers came to their end.
    pub(crate) whole: BTreeSet<u32>,
}

/// A connection that speaks frames of HTTP/2 by hand (RFC 9113, 4.1).
pub(crate) struct Frames {
    pub(crate) stream: TcpStream,
    next: u32,
}

impl Frames {
    pub(crate) fn to(rig: &Rig) -> Self {
        let mut stream = TcpStream::connect(rig.address).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        stream.write_all(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n").unwrap();
        Self { stream, next: 1 }
    }

    pub(crate) fn frame(kind: u8, flags: u8, stream: u32, payload: &[u8]) -> Vec<u8> {
        let length = (payload.len() as u32).to_be_bytes();
        [&length[1..], &[kind, flags], &stream.to_be_bytes(), payload].concat()
    }

    pub(crate) fn settings(self) -> Self {
        self.settings_of(b"")
    }

    /// With windows of this size for each stream, and one without end for all together.
    pub(crate) fn windows(self, size: u32) -> Self {
        let mut frames = self.settings_of(&[&[0, 4], size.to_be_bytes().as_slice()].concat());
        let more = (i32::MAX as u32) - 65_535;
        frames.stream.write_all(&Self::frame(8, 0, 0, &more.to_be_bytes())).unwrap();
        frames
    }

    fn settings_of(mut self, settings: &[u8]) -> Self {
        self.stream.write_all(&Self::frame(4, 0, 0, settings)).unwrap();
        self
    }

    /// The head of a `GET /`, from the static table of HPACK (RFC 7541, A); gives its stream and the frame.
    pub(crate) fn get(&mut self) -> (u32, Vec<u8>) {
        let stream = self.next;
        self.next += 2;
        (stream, Self::frame(1, 0x5, stream, b"\x82\x86\x84\x41\x01a"))
    }

    /// The error code of the GOAWAY that comes, and then the end; `None` when it ends without one.
    #[track_caller]
    pub(crate) fn goaway(&mut self) -> Option<u32> {
        self.rest().goaway
    }

    /// What comes until the connection ends. One that stays open fails the test.
    #[track_caller]
    pub(crate) fn rest(&mut self) -> Rest {
        let (bytes, _) = read_to_end(&mut self.stream);
        let (mut bytes, mut rest) = (bytes.as_slice(), Rest::default());
        while let Some((head, after)) = bytes.split_at_checked(9) {
            let length = u32::from_be_bytes([0, head[0], head[1], head[2]]) as usize;
            let Some((payload, after)) = after.split_at_checked(length) else { break };
            match head[3] {
                // DATA and HEADERS with END_STREAM.
                0 | 1 if head[4] & 1 != 0 => {
                    rest.whole.insert(u32::from_be_bytes(head[5..].try_into().unwrap()));
                }
                7 => rest.goaway = Some(u32::from_be_bytes(payload[4..8].try_into().unwrap())),
                _ => {}
            }
            bytes = after;
        }
        rest
    }
}

/// The type and the stream of the next frame; `None` at the end.
pub(crate) fn next_frame(stream: &mut impl Read) -> Option<(u8, u32)> {
    let mut head = [0; 9];
    stream.read_exact(&mut head).ok()?;
    let length = u32::from_be_bytes([0, head[0], head[1], head[2]]);
    std::io::copy(&mut stream.take(u64::from(length)), &mut std::io::sink()).ok()?;
    Some((head[3], u32::from_be_bytes(head[5..].try_into().unwrap())))
}
