//! Heads of requests that were written for servers, changed once more by rules.

use merismos_core::rules::RequestEdits;

/// The end of a line.
const LINE_END: &[u8] = b"\r\n";

/// Changes a head in place, which was checked before: its lines are well formed, and nothing stands behind its empty line.
pub(in super::super) fn edit_request(head: &mut Vec<u8>, edits: &RequestEdits) {
    let mut edited = Vec::with_capacity(head.len() + 256);
    let mut rest = &head[..];
    let mut lines = std::iter::from_fn(|| {
        let (line, after) = rest.split_at(memchr::memchr(b'\n', rest)? + 1);
        rest = after;
        Some(line)
    });
    let first = lines.next().unwrap_or_default();
    match (&edits.target, memchr::memchr(b' ', first)) {
        (Some(target), Some(space)) => {
            edited.extend_from_slice(&first[..=space]);
            edited.extend_from_slice(target.as_bytes());
            edited.extend_from_slice(b" HTTP/1.1\r\n");
        }
        _ => edited.extend_from_slice(first),
    }
    for line in lines.filter(|line| *line != LINE_END) {
        let name = &line[..memchr::memchr(b':', line).unwrap_or(0)];
        let name = str::from_utf8(name).unwrap_or_default();
        match &edits.host {
            Some(host) if name.eq_ignore_ascii_case("host") => push_field(&mut edited, "Host", host),
            _ if edits.request.removes(name) => {}
            _ => edited.extend_from_slice(line),
        }
    }
    for (name, value) in &edits.request.added {
        push_field(&mut edited, name, value);
    }
    edited.extend_from_slice(LINE_END);
    *head = edited;
}

fn push_field(head: &mut Vec<u8>, name: &str, value: &str) {
    for part in [name, ": ", value, "\r\n"] {
        head.extend_from_slice(part.as_bytes());
    }
}

#[cfg(test)]
mod tests {
    use merismos_core::rules::FieldChanges;

    use super::*;

    #[test]
    fn a_head_is_changed_and_stays_whole() {
        let mut head = b"GET /old/x?y HTTP/1.1\r\nHost: a.example:80\r\nX-Old: 1\r\nx-tenant: red\r\nAccept: */*\r\n\r\n".to_vec();
        let added = vec![("X-Tenant".to_owned(), "blue".to_owned())];
        let edits = RequestEdits {
            target: Some("/new/x?y".to_owned()),
            host: Some("inside.example".to_owned()),
            request: FieldChanges { removed: vec!["x-old".to_owned(), "x-tenant".to_owned()], added },
            response: FieldChanges::default(),
            ..RequestEdits::default()
        };
        edit_request(&mut head, &edits);
        let expected =
            "GET /new/x?y HTTP/1.1\r\nHost: inside.example\r\nAccept: */*\r\nX-Tenant: blue\r\n\r\n";
        assert_eq!(String::from_utf8(head).unwrap(), expected);
    }

    #[test]
    fn nothing_changes_by_nothing() {
        let head = b"GET / HTTP/1.1\r\nHost: a\r\n\r\n".to_vec();
        let mut edited = head.clone();
        edit_request(&mut edited, &RequestEdits::default());
        assert_eq!(edited, head);
    }
}
