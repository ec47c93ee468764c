//! The log on standard error: one line an entry, whatever stands in it.

use std::io::{self, Write};

use merismos_core::text::{is_plain, printable};
use tracing_subscriber::fmt::MakeWriter;

/// Writes entries to standard error. What others sent can begin no line of its own and move no cursor.
#[derive(Clone, Copy, Debug)]
pub(crate) struct PlainLines;

impl<'a> MakeWriter<'a> for PlainLines {
    type Writer = PlainLine;

    fn make_writer(&'a self) -> PlainLine {
        PlainLine
    }
}

/// One entry, which is written at once.
pub(crate) struct PlainLine;

impl Write for PlainLine {
    fn write(&mut self, entry: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(entry);
        io::stderr().lock().write_all(one_line(&text).as_bytes())?;
        Ok(entry.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        io::stderr().flush()
    }
}

/// An entry as one line. Colours of our own stay: `ESC [`, digits and semicolons, `m` (ECMA-48, 8.3.117).
fn one_line(entry: &str) -> String {
    let (entry, end) = entry.strip_suffix('\n').map_or((entry, ""), |entry| (entry, "\n"));
    if entry.chars().all(is_plain) {
        return format!("{entry}{end}");
    }
    let mut out = String::with_capacity(entry.len() + 16);
    let mut rest = entry;
    while let Some(at) = rest.find('\u{1b}') {
        out.push_str(&printable(&rest[..at]));
        let colour =
            rest[at..].strip_prefix("\u{1b}[").and_then(|text| text.find('m').map(|end| &text[..end]));
        let is_colour =
            colour.is_some_and(|text| text.bytes().all(|byte| byte.is_ascii_digit() || byte == b';'));
        let length = if is_colour { 3 + colour.map_or(0, str::len) } else { 1 };
        let part = &rest[at..at + length];
        out.push_str(&if is_colour { part.into() } else { printable(part) });
        rest = &rest[at + length..];
    }
    out.push_str(&printable(rest));
    out + end
}

#[cfg(test)]
mod tests {
    use merismos_core::text::not_plain;

    use super::*;

    #[test]
    fn nothing_in_an_entry_begins_a_line_or_moves_a_cursor() {
        let all: String = not_plain().collect();
        let line = one_line(&format!("down: {all} and more\n"));
        let text = line.strip_suffix('\n').unwrap();
        assert!(text.chars().all(is_plain), "{text:?}");
    }

    #[test]
    fn colours_stay_and_other_sequences_do_not() {
        assert_eq!(one_line("\u{1b}[2m12:00\u{1b}[0m INFO\n"), "\u{1b}[2m12:00\u{1b}[0m INFO\n");
        assert_eq!(one_line("\u{1b}[2Jgone\u{1b}]0;title\u{7}"), r"\u001b[2Jgone\u001b]0;title\u0007");
    }
}
