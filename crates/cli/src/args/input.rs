//! Files that commands read; `-` is standard input.

use std::path::Path;

use crate::exit::CliError;

/// The text of a file.
pub(super) fn read(file: &Path) -> Result<String, CliError> {
    let text = if file.as_os_str() == "-" {
        std::io::read_to_string(std::io::stdin())
    } else {
        std::fs::read_to_string(file)
    };
    text.map_err(|source| CliError::File { path: file.to_owned(), source })
}
