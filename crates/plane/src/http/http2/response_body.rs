//! The body of a message that goes over a stream, taken as HTTP/1.1 carries it.

use std::io;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use h2::{Reason, SendStream};
use http::{HeaderMap, HeaderValue};

use super::super::body::{BodyPart, BodyTracker};
use super::super::head::Framing;
use super::{convert, stream_error};

/// A body on its way out.
pub(super) struct StreamBodyWriter {
    stream: SendStream<Bytes>,
    follow: BodyTracker,
    trailers: Vec<u8>,
    ended: bool,
}

impl StreamBodyWriter {
    /// A body that follows its head. `ended`: the head was all.
    pub(super) fn new(stream: SendStream<Bytes>, framing: Framing, ended: bool) -> Self {
        Self { stream, follow: BodyTracker::new(framing), trailers: Vec::new(), ended }
    }

    /// Sends what of `bytes` belongs to the body, as far as the peer takes it now: the rest stays with the caller, who waits for
    /// the peer and knows for how long.
    pub(super) fn poll_write(&mut self, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        if self.ended {
            return Poll::Ready(Err(io::ErrorKind::BrokenPipe.into()));
        }
        let room = ready!(self.poll_room(context, bytes))?;
        let bytes = &bytes[..room];
        let mut content = Vec::with_capacity(bytes.len());
        let trailers = &mut self.trailers;
        let passed = self.follow.pass(bytes, |part| match part {
            BodyPart::Content(bytes) => content.extend_from_slice(bytes),
            BodyPart::Trailers(bytes) => trailers.extend_from_slice(bytes),
        });
        let used = passed.map_err(|_| io::Error::from(io::ErrorKind::InvalidData))?;
        let is_done = self.follow.is_done();
        // The empty line alone is no trailer.
        let has_trailers = is_done && self.trailers.len() > 2;
        if !content.is_empty() || (is_done && !has_trailers) {
            let ends = is_done && !has_trailers;
            self.stream.send_data(Bytes::from(content), ends).map_err(stream_error)?;
        }
        if has_trailers {
            let lines = Bytes::from(std::mem::take(&mut self.trailers));
            let trailers =
                convert::trailers(&lines).map_err(|_| io::Error::from(io::ErrorKind::InvalidData))?;
            self.stream.send_trailers(trailers).map_err(stream_error)?;
        }
        self.ended = is_done;
        Poll::Ready(Ok(used))
    }

    /// How many of `bytes` may go now: all that fit into the window, or all when none of them needs any.
    fn poll_room(&mut self, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        self.stream.reserve_capacity(bytes.len());
        while self.stream.capacity() == 0 {
            let mut ahead = self.follow.clone();
            let mut needs_room = false;
            let passed = ahead.pass(bytes, |part| needs_room |= matches!(part, BodyPart::Content(_)));
            if passed.is_err() || !needs_room {
                return Poll::Ready(Ok(bytes.len()));
            }
            match ready!(self.stream.poll_capacity(context)) {
                Some(Ok(_)) => {}
                Some(Err(error)) => return Poll::Ready(Err(stream_error(error))),
                None => return Poll::Ready(Err(io::ErrorKind::ConnectionReset.into())),
            }
        }
        Poll::Ready(Ok(self.stream.capacity().min(bytes.len())))
    }

    /// Ends a body whose end nothing but the end of the connection would tell.
    pub(super) fn end(&mut self) {
        if !self.ended && matches!(self.follow, BodyTracker::UntilClose) {
            self.ended = true;
            // If the stream is gone, its end is not waited for.
            let _ = self.stream.send_data(Bytes::new(), true);
        }
    }

    /// Ends a body of gRPC that breaks off, with the status that says so: 14, `UNAVAILABLE` (gRPC status codes).
    pub(super) fn end_unavailable(&mut self) {
        if self.ended {
            return;
        }
        self.ended = true;
        let mut trailers = HeaderMap::with_capacity(2);
        trailers.insert("grpc-status", HeaderValue::from_static("14"));
        trailers.insert("grpc-message", HeaderValue::from_static("the connection to the server has ended"));
        // If the stream is gone, nobody wants to hear it.
        let _ = self.stream.send_trailers(trailers);
    }

    /// Breaks the stream off.
    pub(super) fn reset(&mut self, reason: Reason) {
        self.stream.send_reset(reason);
    }

    pub(super) fn poll_reset(&mut self, context: &mut Context<'_>) -> Poll<()> {
        self.stream.poll_reset(context).map(|_| ())
    }
}
