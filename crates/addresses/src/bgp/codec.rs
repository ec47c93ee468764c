//! Messages on the wire, with what is no message found at its first bytes.

use std::io;

use bytes::BytesMut;
use netgauze_bgp_pkt::BgpMessage;
use netgauze_bgp_pkt::codec::BgpCodec;
use tokio_util::codec::{Decoder, Encoder};

/// What every message begins with (RFC 4271, 4.1).
const MARKER: [u8; 16] = [0xFF; 16];
/// How long the head of a message is, and how long a whole one is at most.
const LENGTHS: (usize, usize) = (19, 4_096);

/// Reads and writes messages. What is no message is an error as soon as its head is there, so that a peer of another protocol is not waited for.
#[derive(Debug)]
pub(super) struct MessageCodec(BgpCodec);

/// Why nothing can be read any more.
#[derive(Debug, thiserror::Error)]
pub(super) enum MessageError {
    #[error("the connection ended: {0}")]
    Io(#[from] io::Error),
    #[error("what it sends is no message of BGP")]
    Marker,
    #[error("a message of it says that it has {0} bytes; right are {least} to {most}", least = LENGTHS.0, most = LENGTHS.1)]
    Length(usize),
    #[error("a message of it can't be read: {0}")]
    Content(String),
    #[error("a message for it can't be written: {0}")]
    Unwritten(String),
}

impl Default for MessageCodec {
    fn default() -> Self {
        Self(BgpCodec::new(true))
    }
}

impl Decoder for MessageCodec {
    type Item = BgpMessage;
    type Error = MessageError;

    fn decode(&mut self, bytes: &mut BytesMut) -> Result<Option<BgpMessage>, MessageError> {
        let given = bytes.len().min(MARKER.len());
        if bytes[..given] != MARKER[..given] {
            return Err(MessageError::Marker);
        }
        if bytes.len() < LENGTHS.0 {
            return Ok(None);
        }
        let length = usize::from(u16::from_be_bytes([bytes[16], bytes[17]]));
        if !(LENGTHS.0..=LENGTHS.1).contains(&length) {
            return Err(MessageError::Length(length));
        }
        match self.0.decode(bytes) {
            Ok(read) => Ok(read.map(|(message, _)| message)),
            Err(error) => Err(MessageError::Content(error.to_string().escape_debug().to_string())),
        }
    }
}

impl Encoder<BgpMessage> for MessageCodec {
    type Error = MessageError;

    fn encode(&mut self, message: BgpMessage, bytes: &mut BytesMut) -> Result<(), MessageError> {
        self.0.encode(message, bytes).map_err(|error| MessageError::Unwritten(error.to_string()))
    }
}
