//! Texts of others on their way to people: nothing in them may move a cursor, begin a line of its own or turn the order of letters.

use std::borrow::Cow;

/// Whether a character shows as something, where it stands: no control character (Unicode category Cc), no line or paragraph
/// separator, and none that changes the direction of the text around it (Unicode Standard Annex 9, 2).
#[must_use]
pub fn is_plain(character: char) -> bool {
    !character.is_control()
        && !matches!(
            character,
            '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}'
        )
}

/// Whether a text is a token (RFC 9110, 5.6.2), as the names of fields and cookies are.
#[must_use]
pub(crate) fn is_token(text: &str) -> bool {
    (1..=100).contains(&text.len())
        && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&byte))
}

/// What a text of plain characters alone looks like, as a pattern of JSON Schema (ECMA-262).
pub const PLAIN_PATTERN: &str =
    "^[^\\u0000-\\u001f\\u007f-\\u009f\\u061c\\u200e\\u200f\\u2028-\\u202e\\u2066-\\u2069\\ufeff]*$";

/// The text with all that is not plain escaped as in a document, such as `\u001b`; mostly it is the text itself.
#[must_use]
pub fn printable(text: &str) -> Cow<'_, str> {
    if text.chars().all(is_plain) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    text.chars().for_each(|character| push_printable(&mut out, character));
    Cow::Owned(out)
}

fn push_printable(out: &mut String, character: char) {
    let number = u32::from(character);
    match character {
        '\n' => out.push_str("\\n"),
        '\r' => out.push_str("\\r"),
        '\t' => out.push_str("\\t"),
        plain if is_plain(plain) => out.push(plain),
        _ if number <= 0xffff => out.push_str(&format!("\\u{number:04x}")),
        _ => out.push_str(&format!("\\U{number:08x}")),
    }
}

/// The text as [`unescaped`] reads it back: as [`printable`], and a backslash is two.
#[must_use]
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '\\' => out.push_str("\\\\"),
            other => push_printable(&mut out, other),
        }
    }
    out
}

/// An escape that there is not.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "{0:?} has an escape that there is not; there are \\n, \\r, \\t, \\b, \\f, \\e, \\\\, \\\", \\x00 to \\x7f, \\u0000 and \\U00000000"
)]
pub struct EscapeError(String);

/// A text that was written with the escapes of a document (TOML 1.1, basic strings). One that begins with `\x` is a byte below 80.
///
/// # Errors
/// An escape that there is not; and `\x80` to `\xff`, which would be two bytes.
pub fn unescaped(text: &str) -> Result<String, EscapeError> {
    let wrong = || EscapeError(text.to_owned());
    let mut quoted = String::with_capacity(text.len() + 8);
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '\\' => {
                let kind = letters.next().ok_or_else(wrong)?;
                quoted.extend(['\\', kind]);
                if kind == 'x' {
                    let high =
                        letters.next().filter(|digit| ('0'..='7').contains(digit)).ok_or_else(wrong)?;
                    quoted.push(high);
                }
            }
            // What the shell passed as it is, a quote or a line end, is meant as it is.
            '"' => quoted.push_str("\\\""),
            other if other.is_control() => quoted.push_str(&format!("\\u{:04x}", u32::from(other))),
            other => quoted.push(other),
        }
    }
    #[derive(serde::Deserialize)]
    struct Quoted {
        text: String,
    }
    toml::from_str::<Quoted>(&format!("text = \"{quoted}\"")).map(|parsed| parsed.text).map_err(|_| wrong())
}

/// A text that is sent, for people: in quotes, or byte by byte where it is not plain, such as `4 bytes: 00 01 0d 0a`.
#[must_use]
pub fn sent(text: &str) -> String {
    const SHOWN: usize = 16;
    if text.chars().all(is_plain) {
        return format!("\"{text}\"");
    }
    let bytes = text.as_bytes();
    let shown: Vec<String> = bytes.iter().take(SHOWN).map(|byte| format!("{byte:02x}")).collect();
    let more = if bytes.len() > SHOWN { " ..." } else { "" };
    let unit = if bytes.len() == 1 { "byte" } else { "bytes" };
    format!("{} {unit}: {}{more}", bytes.len(), shown.join(" "))
}

/// Every character that is not plain, for tests that send them all.
pub fn not_plain() -> impl Iterator<Item = char> {
    (0..=0x1_ffff).filter_map(char::from_u32).filter(|character| !is_plain(*character))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_pattern_says_the_same() {
        let pattern = regex::Regex::new(PLAIN_PATTERN).unwrap();
        for character in (0..=0x1_ffff).filter_map(char::from_u32) {
            assert_eq!(pattern.is_match(&character.to_string()), is_plain(character), "{character:?}");
        }
    }

    #[test]
    fn what_is_not_plain_is_escaped_and_all_else_stays() {
        assert_eq!(printable("a\u{1b}[2J\nb\u{202e}c"), "a\\u001b[2J\\nb\\u202ec");
        let plain = "Fähre ⛴ \"Gull\" – 3 ½ h, αβγ עברית 日本";
        assert!(matches!(printable(plain), Cow::Borrowed(text) if text == plain));
    }

    #[test]
    fn what_is_escaped_is_read_back() {
        let all: String = not_plain().chain("plain \\ \" 'ä⛴'".chars()).collect();
        assert_eq!(unescaped(&escaped(&all)).unwrap(), all);
        assert!(escaped(&all).chars().all(is_plain));
    }

    #[test]
    fn escapes_are_those_of_a_document() {
        assert_eq!(unescaped(r"\x00\x01PING\r\n\u00e4\\").unwrap(), "\0\u{1}PING\r\nä\\");
        assert_eq!(unescaped("as\tit \"is\"\n").unwrap(), "as\tit \"is\"\n");
        for wrong in [r"\d", r"\xff", r"\x8", r"\u12", r"a\", r"\ud800"] {
            let error = unescaped(wrong).unwrap_err().to_string();
            assert!(error.contains(r"\x00 to \x7f"), "{error}");
        }
    }

    #[test]
    fn what_is_sent_is_shown_in_quotes_or_byte_by_byte() {
        assert_eq!(sent("where"), "\"where\"");
        assert_eq!(sent("\0\u{1}\r\n"), "4 bytes: 00 01 0d 0a");
        assert!(sent(&"\n".repeat(17)).ends_with("0a ..."));
    }

    #[test]
    fn all_of_them_are_known() {
        let all: Vec<char> = not_plain().collect();
        assert_eq!(all.iter().filter(|character| character.is_control()).count(), 65, "C0, DEL and C1");
        for turned in
            "\u{202a}\u{202b}\u{202c}\u{202d}\u{202e}\u{2066}\u{2067}\u{2068}\u{2069}\u{200e}\u{200f}\u{61c}"
                .chars()
        {
            assert!(all.contains(&turned), "{turned:?}");
        }
        let text: String = all.iter().collect();
        assert!(printable(&text).chars().all(is_plain));
    }
}
