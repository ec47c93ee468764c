//! How a command ends: exit codes, and errors that say what to do next.

use std::path::PathBuf;
use std::process::ExitCode;

use merismos_client::ClientError;

/// The exit codes of every command.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ExitStatus {
    /// Done.
    Done = 0,
    /// The answer is no: a trial failed, a document is refused.
    No = 1,
    /// The call was wrong: its form, or a name in it that is not there.
    Wrong = 2,
    /// The service refused or could not be reached.
    Refused = 3,
}

impl From<ExitStatus> for ExitCode {
    fn from(exit: ExitStatus) -> Self {
        Self::from(exit as u8)
    }
}

/// Why a command did not do it.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CliError {
    #[error(transparent)]
    Client(#[from] ClientError),
    #[error("{path} can't be read or written: {source}", path = path.display())]
    File { path: PathBuf, source: std::io::Error },
    #[error("{path} is not a log-in that `merismos login` wrote: {source}", path = path.display())]
    Login { path: PathBuf, source: toml::de::Error },
    #[error("{0}")]
    Call(String),
}

impl CliError {
    pub(crate) fn exit(&self) -> ExitStatus {
        match self {
            // A document with mistakes, or with warnings that were not accepted, is a clear no.
            Self::Client(ClientError::Refused(problem))
                if problem.status == 422 || !problem.warnings.is_empty() =>
            {
                ExitStatus::No
            }
            // A value that can't be, or a name that is not there.
            Self::Client(ClientError::Refused(problem)) if matches!(problem.status, 400 | 404) => {
                ExitStatus::Wrong
            }
            Self::Client(_) => ExitStatus::Refused,
            Self::File { .. } | Self::Login { .. } | Self::Call(_) => ExitStatus::Wrong,
        }
    }

    /// What to do next, when there is something to say.
    pub(crate) fn advice(&self) -> Option<String> {
        match self {
            Self::Client(ClientError::Unreachable { .. }) => Some(
                "Start the service (`merismosd --settings FILE`, or `make demo-up` for the demo), or name the right one \
                 with --url or `merismos login`."
                    .to_owned(),
            ),
            Self::Client(error) if error.wants_token() => Some(
                "Log in with `merismos login --token-file FILE`; the first token is in the file first-token in the \
                 service's state folder."
                    .to_owned(),
            ),
            Self::Client(ClientError::NotMerismos { .. }) => {
                Some("Name the service's API address with --url.".to_owned())
            }
            Self::Client(ClientError::Unreadable { .. }) => {
                Some("Use the `merismos` of the same release as the service.".to_owned())
            }
            Self::Login { .. } => Some("Log in again with `merismos login`.".to_owned()),
            Self::Client(ClientError::Refused(problem)) if problem.status == 404 => {
                Some("`merismos status` and the `list` of each kind of object show what there is.".to_owned())
            }
            Self::Client(ClientError::Refused(problem)) if problem.kind.ends_with("/guarded") => {
                Some("If it is meant to be so: --anyway.".to_owned())
            }
            Self::Client(ClientError::Refused(_)) | Self::File { .. } | Self::Call(_) => None,
        }
    }
}
