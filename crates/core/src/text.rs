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

/// What a text of plain characters alone looks like, as a pattern of JSON Schema (ECMA-262).
pub const PLAIN_PATTERN: &str =
    "^[^\\u0000-\\u001f\\u007f-\\u009f\\u061c\\u200e\\u200f\\u2028-\\u202e\\u2066-\\u2069\\ufeff]*$";

/// The text with all that is not plain escaped, such as `\u{1b}`; mostly it is the text itself.
#[must_use]
pub fn printable(text: &str) -> Cow<'_, str> {
    if text.chars().all(is_plain) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for character in text.chars() {
        match character {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            plain if is_plain(plain) => out.push(plain),
            other => out.extend(other.escape_unicode()),
        }
    }
    Cow::Owned(out)
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
        assert_eq!(printable("a\u{1b}[2J\nb\u{202e}c"), "a\\u{1b}[2J\\nb\\u{202e}c");
        let plain = "Fähre ⛴ \"Gull\" – 3 ½ h, αβγ עברית 日本";
        assert!(matches!(printable(plain), Cow::Borrowed(text) if text == plain));
    }

    #[test]
    fn all_of_them_are_known() {
        let all: Vec<char> = not_plain().collect();
        assert_eq!(all.iter().filter(|it| it.is_control()).count(), 65, "C0, DEL and C1");
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
