//! Reading from a server for a client who may say meanwhile that it wants nothing more.

use std::hint::cold_path;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, ReadBuf};

use super::failure::{ForwardError, ServerFailure};
use super::head::Response;
use crate::buffer::Buffer;
use crate::io::{Sink, Source};

/// A server that is read from for a client who may say meanwhile that it wants nothing more.
pub(super) struct CancelOnReset<'a, S, C> {
    pub(super) server: &'a mut S,
    pub(super) client: &'a mut C,
    /// It said so; that is what reading failed of.
    pub(super) given_up: bool,
}

impl<S: Source, C: Sink> CancelOnReset<'_, S, C> {
    /// What came of reading a head.
    pub(super) fn heard(
        &self,
        head: Result<(Buffer, Response), ServerFailure>,
    ) -> Result<(Buffer, Response), ForwardError> {
        match head {
            Ok(head) if !self.given_up => Ok(head),
            Err(failure) if !self.given_up => {
                cold_path();
                Err(ForwardError::Server(failure))
            }
            _ => {
                cold_path();
                Err(ForwardError::ClientGone)
            }
        }
    }

    fn attend(&mut self, context: &mut Context<'_>) -> io::Result<()> {
        if self.client.poll_given_up(context).is_ready() {
            self.given_up = true;
            return Err(io::ErrorKind::ConnectionAborted.into());
        }
        Ok(())
    }
}

impl<S: Source, C: Sink> AsyncRead for CancelOnReset<'_, S, C> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        room: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        self.attend(context)?;
        Pin::new(&mut *self.server).poll_read(context, room)
    }
}

impl<S: Source, C: Sink> Source for CancelOnReset<'_, S, C> {
    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.attend(context)?;
        self.server.poll_ready(context)
    }
}
