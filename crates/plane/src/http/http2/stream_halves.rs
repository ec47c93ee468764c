//! A wire whose two sides are apart by nature, as those of a stream are.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;

use crate::io::{Sink, Source, Transport};

/// Both sides of a stream.
pub(in super::super) struct StreamHalves<R, W> {
    pub(super) reading: R,
    pub(super) writing: W,
}

impl<R: Source, W: Unpin> AsyncRead for StreamHalves<R, W> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        room: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.reading).poll_read(context, room)
    }
}

impl<R: Unpin, W: Sink> AsyncWrite for StreamHalves<R, W> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.writing).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.writing).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.writing).poll_shutdown(context)
    }
}

impl<R: Source, W: Unpin> Source for StreamHalves<R, W> {
    fn unread(&mut self) -> usize {
        self.reading.unread()
    }

    fn poll_unasked(&mut self, context: &mut Context<'_>) -> io::Result<()> {
        self.reading.poll_unasked(context)
    }

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.reading.poll_ready(context)
    }
}

impl<R: Unpin, W: Sink> Sink for StreamHalves<R, W> {
    fn poll_given_up(&mut self, context: &mut Context<'_>) -> Poll<()> {
        self.writing.poll_given_up(context)
    }
}

impl<R: Source, W: Sink> Transport for StreamHalves<R, W> {
    type Reading<'a>
        = &'a mut R
    where
        Self: 'a;
    type Writing<'a>
        = &'a mut W
    where
        Self: 'a;
    type Whole = TcpStream;

    fn sides(&mut self) -> (&mut R, &mut W) {
        (&mut self.reading, &mut self.writing)
    }

    fn is_gone(&mut self, context: &mut Context<'_>) -> bool {
        self.writing.poll_given_up(context).is_ready()
    }
}
