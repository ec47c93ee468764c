//! Request and response heads: where they end, what they mean, and what of them is passed on.
//!
//! Strict where leniency is dangerous: what two parsers could read in two ways is refused, not repaired
//! (RFC 9112, 2.2, 3.2, 5, 6.1, 6.3 and 11.2).

mod bytes;
mod edit;
mod host;
mod request;
mod response;

use httparse::Header;

use super::error_response::RequestError;

pub(super) use edit::edit_request;
pub(super) use request::{
    Request, RequestOrigin, RuleEffects, accept_of, fields_of, key, key_words, method_of, request, target_of,
    with_facts, with_labelled_facts,
};
pub(super) use response::{
    ExtraFields, Response, response, server_response, set_cookies, upgrade_field, write_response,
};

/// The most fields that a head may have; frontends may set a lower limit.
pub(super) const MOST_FIELDS: usize = 100;
/// The most fields that a response head may have: applications set a cookie for each object that they remember.
pub(super) const MOST_RESPONSE_FIELDS: usize = 256;

/// How the body of a message is delimited (RFC 9112, 6.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Framing {
    /// There is no body.
    None,
    /// The body has this many bytes (`Content-Length`).
    Length(u64),
    /// The body comes in chunks (RFC 9112, 7.1).
    Chunked,
    /// Everything until the connection closes (responses only).
    UntilClose,
}

/// Searches for the end of a head, byte by byte once, however often more data comes.
#[derive(Debug, Default)]
pub(super) struct HeadScan {
    seen: usize,
    line_start: usize,
}

/// Marks the highest bit of each byte that is a line feed. Lines of heads are short, and a search that looks at eight
/// bytes at once has found them all before one with wider registers has begun for each.
const fn line_feeds(word: u64) -> u64 {
    const LOW: u64 = u64::from_le_bytes([1; 8]);
    const SEVEN: u64 = u64::from_le_bytes([0x7f; 8]);
    let differs = word ^ (LOW * b'\n' as u64);
    // Only for a zero does neither the sum carry into the highest bit nor the byte itself have it (exact for each byte).
    !(((differs & SEVEN) + SEVEN) | differs | SEVEN)
}

/// A line that ends with a line feed alone: one parser's end of line is another's part of a value.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct BareLineFeed;

/// What a client gets of it.
pub(super) const BARE_LINE_FEED: RequestError = RequestError::Malformed("a line ends with a line feed alone");

impl HeadScan {
    /// Whether no line of the head has been seen yet.
    pub(super) fn is_new(&self) -> bool {
        self.seen == 0
    }

    /// The length of the head, its empty line included, once all of it is there.
    pub(super) fn end(&mut self, data: &[u8]) -> Result<Option<usize>, BareLineFeed> {
        let (words, rest) = data[self.seen..].as_chunks::<8>();
        let mut line_start = self.line_start;
        let mut line_feed = |at: usize| {
            if at == 0 || data[at - 1] != b'\r' {
                return Some(Err(BareLineFeed));
            }
            let is_end = at - 1 == line_start;
            line_start = at + 1;
            is_end.then_some(Ok(Some(at + 1)))
        };
        for (number, word) in words.iter().enumerate() {
            let mut found = line_feeds(u64::from_le_bytes(*word));
            while found != 0 {
                if let Some(end) = line_feed(self.seen + number * 8 + found.trailing_zeros() as usize / 8) {
                    return end;
                }
                found &= found - 1;
            }
        }
        let start = data.len() - rest.len();
        for (offset, _) in rest.iter().enumerate().filter(|(_, byte)| **byte == b'\n') {
            if let Some(end) = line_feed(start + offset) {
                return end;
            }
        }
        (self.seen, self.line_start) = (data.len(), line_start);
        Ok(None)
    }
}

/// What is said of a head that is larger than `limit`, of which at least as much is there.
pub(super) fn too_large(head: &[u8], limit: usize) -> RequestError {
    let line = &head[..head.len().min(limit)];
    // RFC 9112, 3: a target that is too long has a status of its own.
    if line.contains(&b'\n') { RequestError::HeadTooLarge } else { RequestError::TargetTooLong }
}

/// Whether data that begins with a head surely holds all of it, so that parsing will tell where it ends.
pub(super) fn holds_whole_head(data: &[u8]) -> bool {
    data.ends_with(b"\r\n\r\n")
}

/// Whether a request may begin like this: with a method (RFC 9110, 5.6.2), or the line end before it.
pub(super) fn may_begin_head(data: &[u8]) -> bool {
    data.first().is_none_or(|byte| byte.is_ascii_graphic() || *byte == b'\r')
}

/// What is done with a field on its way to the server.
#[derive(Clone, Copy, PartialEq, Eq)]
enum FieldAction {
    Keep,
    Drop,
}

/// Where a field begins in its head.
fn offset(head: &[u8], field: &Header<'_>) -> usize {
    field.name.as_ptr() as usize - head.as_ptr() as usize
}

/// The members of a comma-separated list (RFC 9110, 5.6.1).
fn members(value: &[u8]) -> impl Iterator<Item = &[u8]> {
    value.split(|byte| *byte == b',').map(<[u8]>::trim_ascii).filter(|member| !member.is_empty())
}

/// Digits alone (RFC 9110, 8.6): no sign, no list, no more than fits.
fn content_length(value: &[u8]) -> Option<u64> {
    if value.is_empty() {
        return None;
    }
    value.iter().try_fold(0_u64, |length, byte| {
        let digit = byte.checked_sub(b'0').filter(|digit| *digit <= 9)?;
        length.checked_mul(10)?.checked_add(u64::from(digit))
    })
}

/// Whether the lines of a head all end with a carriage return and a line feed: each field begins behind such an end, and
/// the head itself ends with two.
fn has_whole_line_ends(head: &[u8], fields: &[Header<'_>]) -> bool {
    let ends_at = |at: usize| at >= 2 && head[at - 2..at] == *b"\r\n";
    head.ends_with(b"\r\n\r\n") && fields.iter().all(|field| ends_at(offset(head, field)))
}

/// Drops the fields that a `Connection` field names (RFC 9110, 7.6.1), but never those that delimit or direct.
fn drop_named(fields: &[Header<'_>], fates: &mut [FieldAction]) {
    let options = fields.iter().filter(|field| field.name.eq_ignore_ascii_case("connection"));
    let options: Vec<&[u8]> = options.flat_map(|field| members(field.value)).collect();
    for (field, fate) in fields.iter().zip(fates) {
        let keeps = ["host", "content-length", "transfer-encoding"];
        let is_named = options.iter().any(|option| option.eq_ignore_ascii_case(field.name.as_bytes()));
        if is_named && !keeps.iter().any(|name| field.name.eq_ignore_ascii_case(name)) {
            *fate = FieldAction::Drop;
        }
    }
}

#[cfg(test)]
mod tests;
