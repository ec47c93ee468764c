//! How the path of a request is read before rules compare it.
//!
//! The one rule, in this order: the query is cut off; percent-encoded bytes are decoded once (RFC 3986, 2.1); several slashes in a row
//! count as one; `.` and `..` segments are removed (RFC 3986, 5.2.4). The case of letters is kept. What goes to the server stays as it came.
//!
//! Servers disagree about some paths: whether `%2f` and `\` separate segments, whether `%2e%2e` goes up, what follows a `;`, where a NUL ends. A rule
//! that protects `/admin` would be passed by a path that this side reads in one way and the server in another, so [`read`] names them.

use std::borrow::Cow;

/// A path as rules compare it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RequestPath<'p> {
    /// The path, decoded and without dot segments.
    pub bytes: Cow<'p, [u8]>,
    /// What servers would read in several ways, if anything.
    pub ambiguity: Option<&'static str>,
}

/// Reads the path of a request target.
#[must_use]
pub fn read(target: &str) -> RequestPath<'_> {
    let target = target.as_bytes();
    let mut follows_slash = false;
    for (at, byte) in target.iter().enumerate() {
        match KINDS[usize::from(*byte)] {
            ByteKind::Plain => follows_slash = false,
            ByteKind::Dot if !follows_slash => {}
            ByteKind::Slash if !follows_slash => follows_slash = true,
            ByteKind::Query => return RequestPath { bytes: Cow::Borrowed(&target[..at]), ambiguity: None },
            ByteKind::Special | ByteKind::Dot | ByteKind::Slash => {
                let end = memchr::memchr(b'?', target).unwrap_or(target.len());
                return read_unusual(&target[..end]);
            }
        }
    }
    RequestPath { bytes: Cow::Borrowed(target), ambiguity: None }
}

/// What a byte means for how a path is read.
#[derive(Clone, Copy)]
enum ByteKind {
    /// It stands for itself.
    Plain,
    /// It ends the path.
    Query,
    /// A segment ends; two in a row are one.
    Slash,
    /// Behind a slash it may be a dot segment.
    Dot,
    /// The path has to be read byte by byte.
    Special,
}

/// One look for each byte: nearly every path is read as it stands.
const KINDS: [ByteKind; 256] = {
    let mut kinds = [ByteKind::Plain; 256];
    kinds[b'?' as usize] = ByteKind::Query;
    kinds[b'/' as usize] = ByteKind::Slash;
    kinds[b'.' as usize] = ByteKind::Dot;
    kinds[b'%' as usize] = ByteKind::Special;
    kinds[b'\\' as usize] = ByteKind::Special;
    kinds[b';' as usize] = ByteKind::Special;
    kinds
};

#[cold]
fn read_unusual(path: &[u8]) -> RequestPath<'_> {
    let mut ambiguity = None;
    let mut decoded = Vec::with_capacity(path.len());
    let mut rest = path;
    // Which bytes of `decoded` were written as a percent-encoding: a dot that was is not a plain one.
    let mut has_encoded_dot = false;
    while let Some((byte, after)) = rest.split_first() {
        let (byte, after, was_encoded) = match (byte, after) {
            (b'%', [high, low, after @ ..]) if high.is_ascii_hexdigit() && low.is_ascii_hexdigit() => {
                (hex(*high) << 4 | hex(*low), after, true)
            }
            (b'%', _) => {
                ambiguity = Some("a percent sign without two hexadecimal digits");
                (b'%', after, false)
            }
            (byte, after) => (*byte, after, false),
        };
        match byte {
            b'/' if was_encoded => ambiguity = Some("an encoded slash (%2F)"),
            b'\\' => ambiguity = Some("a backslash"),
            b';' => ambiguity = Some("a semicolon"),
            0 => ambiguity = Some("an encoded NUL (%00)"),
            1..0x20 | 0x7f => ambiguity = Some("an encoded control character"),
            b'%' if was_encoded => ambiguity = Some("an encoded percent sign (%25)"),
            b'.' => has_encoded_dot |= was_encoded,
            _ => {}
        }
        decoded.push(byte);
        rest = after;
    }
    let (bytes, had_dots) = without_dots(&decoded);
    if had_dots && has_encoded_dot {
        ambiguity = Some("an encoded dot segment (%2E%2E)");
    }
    RequestPath { bytes: Cow::Owned(bytes), ambiguity }
}

fn hex(digit: u8) -> u8 {
    match digit {
        b'0'..=b'9' => digit - b'0',
        b'a'..=b'f' => digit - b'a' + 10,
        _ => digit - b'A' + 10,
    }
}

/// The path with one slash where there are several and without dot segments, and whether it had any of these.
fn without_dots(path: &[u8]) -> (Vec<u8>, bool) {
    let mut had_dots = false;
    let mut segments: Vec<&[u8]> = Vec::new();
    let mut ends_open = false;
    for segment in path.split(|byte| *byte == b'/' || *byte == b'\\') {
        ends_open = matches!(segment, b"" | b"." | b"..");
        match segment {
            b"" => {}
            b"." => had_dots = true,
            b".." => {
                had_dots = true;
                segments.pop();
            }
            plain => segments.push(plain),
        }
    }
    let mut joined = Vec::with_capacity(path.len());
    for segment in &segments {
        joined.push(b'/');
        joined.extend_from_slice(segment);
    }
    if ends_open || joined.is_empty() {
        joined.push(b'/');
    }
    (joined, had_dots)
}

/// Whether a path lies under another: it is the same, or goes on with a slash.
#[must_use]
pub fn is_under(path: &[u8], prefix: &[u8]) -> bool {
    let prefix = prefix.strip_suffix(b"/").unwrap_or(prefix);
    path.strip_prefix(prefix).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain("/ferry/lerwick", "/ferry/lerwick")]
    #[case::root("/", "/")]
    #[case::with_a_query("/ferry?to=/admin/../x", "/ferry")]
    #[case::several_slashes("//ferry///lerwick//", "/ferry/lerwick/")]
    #[case::dot_segments("/a/./b/../c", "/a/c")]
    #[case::up_at_the_end("/a/b/..", "/a/")]
    #[case::beyond_the_root("/../../admin", "/admin")]
    #[case::encoded_letters("/%61dmin/%C3%A9", "/admin/\u{e9}")]
    #[case::an_encoded_space("/a%20b", "/a b")]
    #[case::dots_in_names("/.well-known/a..b/...", "/.well-known/a..b/...")]
    #[case::an_encoded_dot_in_a_name("/index%2Ehtml", "/index.html")]
    #[case::all_of_a_host("*", "*")]
    fn paths_are_read_in_one_way(#[case] target: &str, #[case] path: &str) {
        let read = read(target);
        // All of a host is no path with segments.
        let expected = if target == "*" { "*" } else { path };
        assert_eq!((&*read.bytes, read.ambiguity), (expected.as_bytes(), None));
    }

    #[rstest]
    #[case::encoded_dots("/a/%2e%2e/admin", "/admin", "dot segment")]
    #[case::half_encoded_dots("/a/.%2E/admin", "/admin", "dot segment")]
    #[case::an_encoded_slash("/a%2fadmin", "/a/admin", "slash")]
    #[case::a_backslash("/a\\..\\admin", "/admin", "backslash")]
    #[case::an_encoded_backslash("/a%5c%2e%2e%5cadmin", "/admin", "dot segment")]
    #[case::a_semicolon("/a/..;/admin", "/a/..;/admin", "semicolon")]
    #[case::an_encoded_semicolon("/admin%3bx", "/admin;x", "semicolon")]
    #[case::nul("/admin%00.html", "/admin\0.html", "NUL")]
    #[case::a_line_end("/admin%0d%0a", "/admin\r\n", "control")]
    #[case::encoded_twice("/%252e%252e/admin", "/%2e%2e/admin", "percent")]
    #[case::no_digits("/%zz", "/%zz", "percent")]
    #[case::cut_off("/a%2", "/a%2", "percent")]
    fn paths_that_servers_read_differently_are_named(
        #[case] target: &str,
        #[case] path: &str,
        #[case] why: &str,
    ) {
        let read = read(target);
        assert_eq!(&*read.bytes, path.as_bytes());
        assert!(read.ambiguity.is_some_and(|named| named.contains(why)), "{:?}", read.ambiguity);
    }

    #[rstest]
    #[case::the_same("/admin", "/admin", true)]
    #[case::below("/admin/users", "/admin", true)]
    #[case::with_a_slash("/admin/", "/admin", true)]
    #[case::a_prefix_with_a_slash("/admin", "/admin/", true)]
    #[case::another_segment("/administration", "/admin", false)]
    #[case::above("/", "/admin", false)]
    #[case::all("/x", "/", true)]
    fn a_prefix_ends_where_a_segment_does(#[case] path: &str, #[case] prefix: &str, #[case] under: bool) {
        assert_eq!(is_under(path.as_bytes(), prefix.as_bytes()), under);
    }
}
