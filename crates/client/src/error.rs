//! Why a call did not succeed.

use merismos_api::ProblemDocument;

/// Why a call did not succeed.
#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    /// Nothing answers at the address of the service.
    #[error("no Merismos service answers at {url}: {why}")]
    Unreachable {
        /// Address of the service that was called.
        url: String,
        /// What the system or the library says of it.
        why: String,
    },
    /// The service refused the call; its problem document says why.
    #[error("{}", .0.detail)]
    Refused(Box<ProblemDocument>),
    /// Something else answers there.
    #[error("what answers at {url} is not a Merismos service (status {status})")]
    NotMerismos {
        /// Address of the service that was called.
        url: String,
        /// The status of the answer.
        status: u16,
    },
    /// The answer can't be read: a service of another release.
    #[error("the service at {url} answers in a way that this release does not understand: {source}")]
    Unreadable {
        /// Address of the service that was called.
        url: String,
        /// What is wrong with it.
        source: serde_json::Error,
    },
}

impl ClientError {
    pub(crate) fn from_http(url: &str, error: reqwest::Error) -> Self {
        let mut cause: &dyn std::error::Error = &error;
        while let Some(deeper) = cause.source() {
            cause = deeper;
        }
        Self::Unreachable { url: url.to_owned(), why: cause.to_string() }
    }

    /// Whether the token is missing or wrong.
    #[must_use]
    pub fn wants_token(&self) -> bool {
        matches!(self, Self::Refused(problem) if problem.status == 401)
    }
}
