//! Files that commands read; `-` is standard input.

use std::path::Path;

use merismos_core::text::unescaped;

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

/// A page: what stands in the file that is named behind `@`, or a text with the escapes of a document.
pub(super) fn page(text: &str) -> Result<String, String> {
    let unescaped = |text| unescaped(text).map_err(|error| error.to_string());
    match text.strip_prefix('@') {
        Some(rest) if rest.starts_with('@') => unescaped(rest),
        Some(file) => read(Path::new(file)).map_err(|error| error.to_string()),
        None => unescaped(text),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_comes_from_a_file_or_from_the_text_itself() {
        let file = std::env::temp_dir().join(format!("merismos-page-{}", std::process::id()));
        std::fs::write(&file, "<h1>noon</h1>\n\\n").unwrap();
        assert_eq!(
            page(&format!("@{}", file.display())).unwrap(),
            "<h1>noon</h1>\n\\n",
            "as it stands there"
        );
        std::fs::remove_file(&file).unwrap();
        assert_eq!(page("a\\nb").unwrap(), "a\nb");
        assert_eq!(page("@@home").unwrap(), "@home");
        let missing = page("@/nowhere/at-all").unwrap_err();
        assert!(missing.contains("/nowhere/at-all"), "{missing}");
    }
}
