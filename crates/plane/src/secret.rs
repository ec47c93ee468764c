//! Secrets that a document only refers to.

use merismos_core::config::document::Secret;

/// The secret itself.
///
/// # Errors
/// In words, when it is not where the document says.
pub fn read(secret: &Secret) -> Result<String, String> {
    match secret {
        Secret::Environment(name) => std::env::var(name)
            .map_err(|_| format!("a secret can't be had: the service has no environment variable {name}")),
        Secret::File(path) => std::fs::read_to_string(path)
            .map(|text| text.trim_end_matches(['\r', '\n']).to_owned())
            .map_err(|error| format!("a secret can't be had: {path}: {error}")),
    }
}
