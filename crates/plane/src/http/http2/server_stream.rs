//! One request to a server that speaks HTTP/2, as a wire of its own.

use std::cell::Cell;
use std::io;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use h2::client::{ResponseFuture, SendRequest};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use super::super::head::Framing;
use super::convert::RequestHead;
use super::request_body::StreamBodyReader;
use super::response_body::StreamBodyWriter;
use super::shared_connections::SharedConnection;
use super::stream_halves::StreamHalves;
use super::{convert, stream_error};
use crate::io::{Sink, Source};

/// How many bytes of informational answers are kept for a client that takes none.
const MOST_UNASKED: usize = 64 << 10;

/// Counts a stream on its connection.
struct SharedStreamGuard(Rc<SharedConnection>);

impl Drop for SharedStreamGuard {
    fn drop(&mut self) {
        self.0.streams.set(self.0.streams.get() - 1);
    }
}

/// One request to a server and its answer, as a wire.
pub(in super::super) type ServerStream = StreamHalves<ResponseHalf, RequestHalf>;

/// An answer that will come: the request's side begins it, the answer's side takes it.
type PendingResponse = Rc<Cell<Option<ResponseFuture>>>;

pub(in super::super) struct RequestHalf {
    requests: SendRequest<Bytes>,
    framing: Framing,
    /// The head, until it is sent.
    request: Option<http::Request<()>>,
    /// How much of its text is still to come.
    head_left: usize,
    body: Option<StreamBodyWriter>,
    coming: PendingResponse,
    counted: SharedStreamGuard,
    /// The server said, or it is plain, that it has done nothing of the request.
    untouched: bool,
}

pub(in super::super) struct ResponseHalf {
    to_head: bool,
    coming: PendingResponse,
    answer: Option<ResponseFuture>,
    /// The text of a head, from `read` on.
    head: Vec<u8>,
    read: usize,
    body: Option<StreamBodyReader>,
    untouched: bool,
}

/// Whether an error says that the server has done nothing of a request (RFC 9113, 6.8 and 8.7).
fn is_untouched(error: &h2::Error) -> bool {
    let refused = error.is_reset() && error.reason() == Some(h2::Reason::REFUSED_STREAM);
    error.is_remote() && (refused || error.is_go_away())
}

impl ServerStream {
    pub(super) fn server_stream(line: Rc<SharedConnection>, now: u64, asked: RequestHead) -> Self {
        line.streams.set(line.streams.get() + 1);
        line.used.set(now);
        let coming = PendingResponse::default();
        let writing = RequestHalf {
            requests: line.requests.clone(),
            framing: asked.framing,
            request: Some(asked.request),
            head_left: asked.length,
            body: None,
            coming: Rc::clone(&coming),
            counted: SharedStreamGuard(line),
            untouched: false,
        };
        let reading = ResponseHalf {
            to_head: asked.is_head,
            coming,
            answer: None,
            head: Vec::new(),
            read: 0,
            body: None,
            untouched: false,
        };
        Self { reading, writing }
    }

    /// Whether nothing of the request was acted on, so that another server may have it whatever it asks for.
    pub(in super::super) fn is_untouched(&self) -> bool {
        self.writing.untouched || self.reading.untouched
    }

    /// Gives no more requests to the connection: it did not answer this one.
    pub(in super::super) fn retire_connection(&self) {
        self.writing.counted.0.spent.set(true);
    }
}

impl RequestHalf {
    /// Takes what belongs to the head; the request begins when it is whole.
    fn take_head(&mut self, bytes: &[u8], context: &mut Context<'_>) -> Poll<io::Result<usize>> {
        // Only a connection that is closed, or full against all counting, is not ready.
        if let Err(error) = ready!(self.requests.poll_ready(context)) {
            self.untouched = true;
            return Poll::Ready(Err(stream_error(error)));
        }
        // What it says was read before; its text only has to pass by.
        let used = bytes.len().min(self.head_left);
        self.head_left -= used;
        let Some(request) = self.request.take_if(|_| self.head_left == 0) else {
            return Poll::Ready(Ok(used));
        };
        let ends = self.framing == Framing::None;
        match self.requests.send_request(request, ends) {
            Ok((answer, stream)) => {
                self.coming.set(Some(answer));
                self.body = Some(StreamBodyWriter::new(stream, self.framing, ends));
                Poll::Ready(Ok(used))
            }
            Err(error) => {
                self.untouched = true;
                Poll::Ready(Err(stream_error(error)))
            }
        }
    }
}

impl AsyncWrite for RequestHalf {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        match &mut self.body {
            Some(body) => body.poll_write(context, bytes),
            None => self.take_head(bytes, context),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }
}

impl Sink for RequestHalf {}

impl ResponseHalf {
    fn fail(&mut self, error: h2::Error) -> io::Error {
        self.untouched = is_untouched(&error);
        stream_error(error)
    }

    /// Ready when there is something to read, or nothing will come any more.
    fn poll_fill(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        if self.read < self.head.len() {
            return Poll::Ready(Ok(()));
        }
        self.answer = self.answer.take().or_else(|| self.coming.take());
        if let Some(answer) = &mut self.answer {
            self.head.clear();
            self.read = 0;
            match answer.poll_informational(context) {
                Poll::Ready(Some(Ok(informational))) => {
                    convert::response_text(&informational, true, self.to_head, &mut self.head);
                    return Poll::Ready(Ok(()));
                }
                Poll::Ready(Some(Err(error))) => return Poll::Ready(Err(self.fail(error))),
                Poll::Ready(None) | Poll::Pending => {}
            }
            match ready!(Pin::new(answer).poll(context)) {
                Ok(response) => {
                    let ends = response.body().is_end_stream();
                    let coding = convert::response_text(&response, ends, self.to_head, &mut self.head);
                    self.body = Some(StreamBodyReader::new(response.into_body(), coding));
                    self.answer = None;
                    return Poll::Ready(Ok(()));
                }
                Err(error) => return Poll::Ready(Err(self.fail(error))),
            }
        }
        match &mut self.body {
            Some(body) => body.poll_ready(context),
            None => Poll::Ready(Err(io::ErrorKind::NotConnected.into())),
        }
    }
}

impl AsyncRead for ResponseHalf {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        room: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let answering = &mut *self;
        ready!(answering.poll_fill(context))?;
        if answering.read < answering.head.len() {
            let rest = &answering.head[answering.read..];
            let count = rest.len().min(room.remaining());
            room.put_slice(&rest[..count]);
            answering.read += count;
            return Poll::Ready(Ok(()));
        }
        match &mut answering.body {
            Some(body) => Pin::new(body).poll_read(context, room),
            None => Poll::Ready(Ok(())),
        }
    }
}

impl Source for ResponseHalf {
    /// Informational answers know no window: the codec keeps all that come.
    fn poll_unasked(&mut self, context: &mut Context<'_>) -> io::Result<()> {
        while let Some(answer) = &mut self.answer
            && let Poll::Ready(Some(Ok(informational))) = answer.poll_informational(context)
        {
            convert::response_text(&informational, true, self.to_head, &mut self.head);
            if self.head.len() - self.read > MOST_UNASKED {
                return Err(io::ErrorKind::OutOfMemory.into());
            }
        }
        Ok(())
    }

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.poll_fill(context)
    }
}
