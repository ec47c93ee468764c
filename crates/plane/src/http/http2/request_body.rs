//! The body of a message that comes over a stream, as HTTP/1.1 would carry it.

use std::io::{self, Write as _};
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use bytes::{Buf, Bytes};
use h2::RecvStream;
use tokio::io::{AsyncRead, ReadBuf};

use super::stream_error;
use crate::io::Source;

/// How the end of the body shows in HTTP/1.1.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum BodyCoding {
    /// Its length was said before, or it is empty.
    Bare,
    /// The chunked coding, in which trailers have a place too.
    Chunked,
}

/// A body on its way in.
pub(super) struct StreamBodyReader {
    stream: RecvStream,
    coding: BodyCoding,
    /// What goes before the data: a chunk's size, or the end with its trailers.
    lead: Vec<u8>,
    lead_read: usize,
    data: Bytes,
    /// What goes behind the data.
    tail: &'static [u8],
    at_end: bool,
}

impl StreamBodyReader {
    pub(super) fn new(stream: RecvStream, coding: BodyCoding) -> Self {
        Self { stream, coding, lead: Vec::new(), lead_read: 0, data: Bytes::new(), tail: b"", at_end: false }
    }

    fn has_some(&self) -> bool {
        self.lead_read < self.lead.len() || !self.data.is_empty() || !self.tail.is_empty()
    }

    /// Ready when there is something to read, or nothing will come any more.
    fn poll_fill(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        while !self.has_some() && !self.at_end {
            self.lead.clear();
            self.lead_read = 0;
            match ready!(self.stream.poll_data(context)) {
                Some(Ok(data)) if data.is_empty() => {}
                Some(Ok(data)) => {
                    if self.coding == BodyCoding::Chunked {
                        write!(self.lead, "{:x}\r\n", data.len())?;
                        self.tail = b"\r\n";
                    }
                    self.data = data;
                }
                Some(Err(error)) => return Poll::Ready(Err(stream_error(error))),
                None => {
                    if self.coding == BodyCoding::Chunked {
                        self.lead.extend_from_slice(b"0\r\n");
                        if let Some(trailers) =
                            ready!(self.stream.poll_trailers(context)).map_err(stream_error)?
                        {
                            super::convert::write_fields(&trailers, &mut self.lead);
                        }
                        self.lead.extend_from_slice(b"\r\n");
                    }
                    self.at_end = true;
                }
            }
        }
        Poll::Ready(Ok(()))
    }
}

impl AsyncRead for StreamBodyReader {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        room: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let inward = &mut *self;
        ready!(inward.poll_fill(context))?;
        let lead = &inward.lead[inward.lead_read..];
        let count = lead.len().min(room.remaining());
        room.put_slice(&lead[..count]);
        inward.lead_read += count;
        let count = inward.data.len().min(room.remaining());
        if count > 0 {
            room.put_slice(&inward.data[..count]);
            inward.data.advance(count);
            // Only now may the peer send as much again. A stream that has ended has no window to open.
            let _ = inward.stream.flow_control().release_capacity(count);
        }
        if inward.data.is_empty() {
            let count = inward.tail.len().min(room.remaining());
            room.put_slice(&inward.tail[..count]);
            inward.tail = &inward.tail[count..];
        }
        Poll::Ready(Ok(()))
    }
}

impl Source for StreamBodyReader {
    fn unread(&mut self) -> usize {
        self.stream.flow_control().used_capacity()
    }

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.poll_fill(context)
    }
}
