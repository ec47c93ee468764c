//! How a request fails on its way: at its server, or with its client.

use super::error_response::{GatewayError, RequestError};
use crate::deadline::WakeReason;
use crate::io::IoError;
use crate::upstream::ConnectFailure;
use merismos_connector::connect::ConnectError;

/// Why a request got no whole answer from the server that it was sent to.
pub(super) enum ForwardError {
    /// The server failed before a byte of its answer went to the client: another one may get the request.
    Server(ServerFailure),
    /// What the client sent breaks the rules or did not come in time, and no answer has begun.
    Refused(RequestError),
    /// The server failed in the middle of its answer.
    BrokenOff {
        /// Only the end of the connection would tell the client that the body is whole.
        open_ended: bool,
    },
    /// The client went away.
    ClientGone,
}

/// Why a server did not answer a request. No byte of an answer has gone to the client.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ServerFailure {
    /// There was no connection: the request was not sent.
    NotReached(ConnectError),
    /// The connection was closed before an answer began.
    Closed,
    /// The server said that it did nothing of the request, or the connection was closed before it could be sent.
    Untouched,
    /// The answer made no sense, or ended in its head.
    Nonsense,
    /// No answer began in time.
    Late,
    /// No answer began within `retry_after`, and another server may have the request.
    Slow,
    /// The server was withdrawn, or went down while its answer was waited for.
    Cut,
}

impl ServerFailure {
    /// Whether the server is to blame: what this service is short of, what limits it was given and what operators do is no
    /// evidence against it, and neither is that it declined what another one may take.
    pub(super) fn speaks_against_server(self) -> bool {
        match self {
            Self::NotReached(
                ConnectError::LimitReached | ConnectError::Exhausted | ConnectError::SourceAddress(_),
            )
            | Self::Untouched
            | Self::Cut => false,
            Self::NotReached(_) | Self::Closed | Self::Nonsense | Self::Late | Self::Slow => true,
        }
    }
}

/// What trouble on a server's connection means before its answer has begun.
#[cold]
pub(super) fn server_failure(trouble: &IoError) -> ServerFailure {
    match trouble {
        IoError::Closed | IoError::Broken => ServerFailure::Closed,
        IoError::Rang(WakeReason::Deadline | WakeReason::Close) => ServerFailure::Late,
        IoError::Rang(WakeReason::Cut | WakeReason::Drained | WakeReason::Crowded) => ServerFailure::Cut,
    }
}

impl From<ConnectFailure> for ServerFailure {
    fn from(unreached: ConnectFailure) -> Self {
        match unreached {
            ConnectFailure::Failed(error) => Self::NotReached(error),
            ConnectFailure::Cut => Self::Cut,
        }
    }
}

/// What its client gets when no other server took the request.
impl From<ServerFailure> for GatewayError {
    fn from(failure: ServerFailure) -> Self {
        match failure {
            ServerFailure::NotReached(ConnectError::LimitReached) => Self::Full,
            ServerFailure::NotReached(ConnectError::Exhausted) => Self::Exhausted,
            ServerFailure::NotReached(_) => Self::AllFailed,
            ServerFailure::Untouched => Self::AllFailed,
            ServerFailure::Closed | ServerFailure::Nonsense => Self::BrokenAnswer,
            ServerFailure::Late | ServerFailure::Slow => Self::Late,
            ServerFailure::Cut => Self::Withdrawn,
        }
    }
}
