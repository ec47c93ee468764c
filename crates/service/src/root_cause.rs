//! What lies at the bottom of an error of the HTTP client.

use std::error::Error as _;

/// The innermost error in words: the outer layers say only that something failed.
pub(crate) fn root_cause(error: &reqwest::Error) -> String {
    let mut cause = error.source();
    let mut text = error.to_string();
    while let Some(error) = cause {
        text = error.to_string();
        cause = error.source();
    }
    text
}
