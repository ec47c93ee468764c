//! HTTP/2 by hand: frames as no well-behaved program sends them.

use std::io::{Read, Write};
use std::net::TcpStream;

use crate::rig::{PATIENCE, Rig};

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
    pub(crate) fn goaway(&mut self) -> Option<u32> {
        let (mut bytes, mut room, mut code) = (Vec::new(), [0; 16 << 10], None);
        while let Ok(count @ 1..) = self.stream.read(&mut room) {
            bytes.extend_from_slice(&room[..count]);
            while bytes.len() >= 9 {
                let length = u32::from_be_bytes([0, bytes[0], bytes[1], bytes[2]]) as usize;
                if bytes.len() < 9 + length {
                    break;
                }
                if bytes[3] == 7 {
                    code = Some(u32::from_be_bytes(bytes[13..17].try_into().unwrap()));
                }
                bytes.drain(..9 + length);
            }
        }
        code
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
