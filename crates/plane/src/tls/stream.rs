//! A connection that speaks TLS, a client's or one to a server.

use std::cell::RefCell;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, Waker, ready};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use rustls::pki_types::CertificateDer;
use tokio::io::{AsyncBufRead, AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::TlsStream;

use crate::io::{Connection, Sink, Source, Transport};

/// The connection. What was taken of a write has left this process when the write is done: nobody has to flush, and what waits for
/// the peer is where all else waits.
pub(crate) struct TlsConnection(RefCell<TlsSession>);

struct TlsSession {
    stream: Box<TlsStream<TcpStream>>,
    /// How much of a write that is not done was encrypted, and has not left yet.
    owed: usize,
    /// The peer was not given all: it is not told that this is the end (`close_notify`, RFC 8446, 6.1), and does not take it for one.
    is_broken: bool,
}

impl TlsConnection {
    pub(crate) fn new(stream: TlsStream<TcpStream>) -> Self {
        Self(RefCell::new(TlsSession { stream: Box::new(stream), owed: 0, is_broken: false }))
    }

    /// Whether its peer has neither ended it nor said anything that was not asked for, as far as is known. Tickets for later sessions are
    /// taken in.
    pub(crate) fn is_quiet(&mut self) -> bool {
        let mut context = Context::from_waker(Waker::noop());
        self.0.get_mut().poll_ready(&mut context).is_pending()
    }

    /// The name that the client asked for.
    pub(crate) fn server_name(&self) -> Option<String> {
        match &*self.0.borrow().stream {
            TlsStream::Server(stream) => stream.get_ref().1.server_name().map(str::to_owned),
            TlsStream::Client(_) => None,
        }
    }
}

/// `Client-Cert` with a client's own certificate, and `Client-Cert-Chain` with those that lead to its authority, as byte sequences (RFC 9440, 2).
fn certificate_fields(chain: &[CertificateDer<'_>]) -> String {
    let bytes = |certificate: &CertificateDer<'_>| format!(":{}:", STANDARD.encode(certificate));
    let Some((own, others)) = chain.split_first() else { return String::new() };
    let mut fields = format!("Client-Cert: {}\r\n", bytes(own));
    if !others.is_empty() {
        let others: Vec<String> = others.iter().map(bytes).collect();
        fields = format!("{fields}Client-Cert-Chain: {}\r\n", others.join(", "));
    }
    fields
}

impl std::fmt::Debug for TlsConnection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("TlsConnection").finish_non_exhaustive()
    }
}

impl TlsSession {
    fn poll_read(&mut self, context: &mut Context<'_>, room: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut *self.stream).poll_read(context, room)
    }

    /// Ready when reading would give something, or the end.
    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        ready!(Pin::new(&mut *self.stream).poll_fill_buf(context))?;
        Poll::Ready(Ok(()))
    }

    /// A write that is pending is asked again with the same bytes, perhaps with more behind them.
    fn poll_write(&mut self, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        if self.owed == 0 {
            self.owed = ready!(Pin::new(&mut *self.stream).poll_write(context, bytes))?;
        }
        ready!(Pin::new(&mut *self.stream).poll_flush(context))?;
        Poll::Ready(Ok(std::mem::take(&mut self.owed)))
    }

    fn is_gone(&mut self, context: &mut Context<'_>) -> bool {
        match Pin::new(&mut *self.stream).poll_fill_buf(context) {
            Poll::Ready(Ok(bytes)) => bytes.is_empty(),
            Poll::Ready(Err(_)) => true,
            Poll::Pending => false,
        }
    }
}

macro_rules! reads {
    ($($type:ty),*) => {$(
        impl AsyncRead for $type {
            fn poll_read(
                self: Pin<&mut Self>,
                context: &mut Context<'_>,
                room: &mut ReadBuf<'_>,
            ) -> Poll<io::Result<()>> {
                self.get_mut().0.borrow_mut().poll_read(context, room)
            }
        }

        impl Source for $type {
            fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
                self.0.borrow_mut().poll_ready(context)
            }
        }
    )*};
}

macro_rules! writes {
    ($($type:ty),*) => {$(
        impl AsyncWrite for $type {
            fn poll_write(
                self: Pin<&mut Self>,
                context: &mut Context<'_>,
                bytes: &[u8],
            ) -> Poll<io::Result<usize>> {
                self.get_mut().0.borrow_mut().poll_write(context, bytes)
            }

            fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
                Pin::new(&mut *self.get_mut().0.borrow_mut().stream).poll_flush(context)
            }

            fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
                Pin::new(&mut *self.get_mut().0.borrow_mut().stream).poll_shutdown(context)
            }
        }

        impl Sink for $type {
            const IS_CONNECTION: bool = true;
        }
    )*};
}

/// The reading side alone. Both sides are polled by one task.
pub(crate) struct TlsReading<'a>(&'a RefCell<TlsSession>);
/// The writing side alone.
pub(crate) struct TlsWriting<'a>(&'a RefCell<TlsSession>);

reads!(TlsConnection, TlsReading<'_>);
writes!(TlsConnection, TlsWriting<'_>);

impl Transport for TlsConnection {
    type Reading<'a> = TlsReading<'a>;
    type Writing<'a> = TlsWriting<'a>;
    type Whole = Self;

    fn sides(&mut self) -> (TlsReading<'_>, TlsWriting<'_>) {
        (TlsReading(&self.0), TlsWriting(&self.0))
    }

    fn is_gone(&mut self, context: &mut Context<'_>) -> bool {
        self.0.get_mut().is_gone(context)
    }

    fn connection(&mut self) -> Option<&mut Self> {
        Some(self)
    }
}

impl Connection for TlsConnection {
    const HAS_FAREWELL: bool = true;

    fn tcp(&mut self) -> &mut TcpStream {
        match &mut *self.0.get_mut().stream {
            TlsStream::Server(stream) => stream.get_mut().0,
            TlsStream::Client(stream) => stream.get_mut().0,
        }
    }

    fn break_off(&mut self) {
        self.0.get_mut().is_broken = true;
    }

    fn poll_farewell(&mut self, context: &mut Context<'_>) -> Poll<()> {
        let session = self.0.get_mut();
        if session.is_broken {
            return Poll::Ready(());
        }
        // A client that does not want to hear it is gone.
        Pin::new(&mut *session.stream).poll_shutdown(context).map(|_| ())
    }

    fn name(&self) -> Option<String> {
        self.server_name()
    }

    fn certificate_fields(&self) -> Box<str> {
        match &*self.0.borrow().stream {
            TlsStream::Server(stream) => {
                certificate_fields(stream.get_ref().1.peer_certificates().unwrap_or_default()).into()
            }
            TlsStream::Client(_) => Box::default(),
        }
    }
}
