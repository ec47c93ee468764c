//! Long bodies of known length: they go by `splice`, and need no buffer.

use super::body::BodyTracker;
use super::failure::ForwardError;
use super::head::{self, Framing};
use super::response::{HEAD_ALONE, KeepAlive, ResponseDone, ResponseForwarder, invalid_response};
use crate::buffer::Buffer;
use crate::context::WorkerContext;
use crate::io::{Sink, Source, SpliceError, SplicePair, peek, readable};
use crate::pipe::Pipe;

/// From how much on the rest of a body of known length goes by `splice` (see docs/performance.md).
const SPLICE_FROM: u64 = 32 << 10;

/// How much of a body is still to come, and a pipe for it, when it is worth one.
#[inline]
pub(super) fn long_rest(
    worker: &WorkerContext,
    follow: &BodyTracker,
    from: &impl Source,
    to: &impl Sink,
) -> Option<(Pipe, u64)> {
    let BodyTracker::Counted(left @ SPLICE_FROM..) = *follow else { return None };
    let (Some(_), Some(_)) = (from.socket(), to.socket()) else { return None };
    Some((worker.pipes.take()?, left))
}

/// What goes to the client before the rest of a long body: the head, and what came with it.
pub(super) enum ResponseStart {
    /// The head is still where the body is.
    Nothing,
    /// As it was read: so many bytes of the buffer.
    Read(Buffer, usize),
    Written(Vec<u8>),
}

impl ResponseForwarder<'_> {
    /// Looks at the beginning of an answer without taking it. When it is a long one that goes on as it is, its head goes
    /// by `splice` too; `None` when it is not, and has to be read.
    pub(super) async fn peek_long(
        &self,
        server: &mut impl Source,
        client: &impl Sink,
    ) -> Option<Result<ResponseDone, ForwardError>> {
        readable(server, self.watch).await.ok()?;
        let mut buffer = self.worker.small.take();
        let seen = peek(server.socket()?, &mut buffer.room()[..HEAD_ALONE])?;
        buffer.filled(seen);
        let response = head::server_response(&buffer, self.request.is_head).ok()??;
        let Framing::Length(length @ SPLICE_FROM..) = response.framing else { return None };
        let (keep_client, connection) = self.keeps_connection(response, false);
        let is_final = response.status >= 200;
        if !is_final || !response.passes_as_is || connection.is_some() || self.pin.is_some() {
            return None;
        }
        let (pipe, left) = (self.worker.pipes.take()?, response.length as u64 + length);
        drop(buffer);
        self.begun.set(true);
        self.watch.set_total_timeout(self.request.whole_answer(self.times));
        self.count(response);
        let keep = KeepAlive { client: keep_client, server: response.keep_alive };
        Some(self.splice_long(server, client, ResponseStart::Nothing, pipe, left, keep).await)
    }

    /// Carries a long body by `splice`, its head ahead.
    pub(super) async fn splice_long(
        &self,
        server: &impl Source,
        client: &impl Sink,
        ahead: ResponseStart,
        mut pipe: Pipe,
        left: u64,
        keep: KeepAlive,
    ) -> Result<ResponseDone, ForwardError> {
        let (Some(source), Some(sink)) = (server.socket(), client.socket()) else {
            return Err(invalid_response());
        };
        let pair = SplicePair {
            source,
            source_timeout: self.times.idle,
            sink,
            sink_timeout: self.frontend.idle_timeout,
            counted: &self.lane.bytes_from,
            watch: self.watch,
        };
        let left = match &ahead {
            ResponseStart::Nothing => Ok(left),
            ResponseStart::Read(buffer, length) => pair.send_ahead(&mut pipe, &buffer[..*length], left).await,
            ResponseStart::Written(text) => pair.send_ahead(&mut pipe, text, left).await,
        };
        // What follows may take long, and needs no buffer.
        if let ResponseStart::Written(text) = ahead {
            self.worker.return_scratch(text);
        } else {
            drop(ahead);
        }
        let left = left.map_err(|trouble| self.client_write_error(&trouble))?;
        let moved = pair.splice(&mut pipe, left, self.carried).await;
        self.worker.pipes.give_back(Some(pipe));
        match moved {
            Ok(clean) => Ok(ResponseDone {
                keep_client: keep.client,
                keep_server: keep.server && clean,
                was_long: true,
                tunnel: None,
            }),
            Err(SpliceError::Source(_)) => Err(ForwardError::BrokenOff { open_ended: false }),
            Err(SpliceError::Sink(trouble)) => Err(self.client_write_error(&trouble)),
        }
    }
}
