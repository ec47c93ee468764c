//! What clients get where a frontend itself can't give them what they asked for.

use merismos_derive::Keys;
use serde::Serialize;

/// Bodies of the responses that a frontend makes by itself: those of 400 and above, and of 503 in maintenance where that has no page.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct ErrorPages {
    /// Body for clients that accept HTML, with `{status}`, `{reason}` (the words for it), `{why}` (a sentence) and `{frontend}`.
    ///
    /// The `Accept` field of a request decides (RFC 9110, 12.5.1). A request whose head can't be read gets `error_text`; errors of servers, and of rules
    /// that have a body, stay as they are.
    #[key(format = PAGE, without = "a sentence in plain text", escapes, example = "<h1>{status} {reason}</h1><p>{why}</p>", group = "Errors")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error_html: Option<String>,
    /// Body for clients that accept JSON, with the same values; `application/problem+json` (RFC 9457) where it has a `title`.
    #[key(format = PAGE, without = "a sentence in plain text", escapes, example = "{\"title\": \"{reason}\", \"status\": {status}}", label = "Error JSON")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error_json: Option<String>,
    /// Body for all others, with the same values.
    #[key(format = PAGE, without = "a sentence in plain text", escapes, example = "{status} {reason}: {why}")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error_text: Option<String>,
}

/// What a client wants to read an error in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ErrorFormat {
    /// HTML.
    Html,
    /// JSON.
    Json,
    /// Plain text.
    Text,
}

/// The values of an error page.
#[derive(Clone, Copy, Debug)]
pub struct ErrorFacts<'a> {
    /// The status.
    pub status: u16,
    /// The words for it.
    pub reason: &'a str,
    /// Why, in a sentence.
    pub why: &'a str,
    /// Name of the frontend.
    pub frontend: &'a str,
}

impl ErrorFormat {
    /// What a client prefers by its `Accept` field, of which it may have several parts: the one of the highest weight (`q`), HTML before JSON where
    /// both are alike. Ranges such as `*/*` are no preference.
    #[must_use]
    pub fn preferred(accept: &[u8]) -> Self {
        let accept = String::from_utf8_lossy(accept);
        let mut best = (Self::Text, 0.0);
        for range in accept.split(',') {
            let mut parts = range.split(';').map(str::trim);
            let kind = parts.next().unwrap_or_default().to_ascii_lowercase();
            let weight = parts.find_map(|part| part.strip_prefix("q=")?.parse().ok()).unwrap_or(1.0);
            let format = match kind.as_str() {
                "text/html" | "application/xhtml+xml" => Self::Html,
                "application/json" | "application/problem+json" => Self::Json,
                "text/plain" => Self::Text,
                _ => continue,
            };
            let comes_first =
                weight > 0.0 && weight == best.1 && format == Self::Html && best.0 != Self::Html;
            if weight > best.1 || comes_first {
                best = (format, weight);
            }
        }
        best.0
    }
}

/// The values of a page, as they are written.
pub const PAGE_VALUES: [&str; 4] = ["{status}", "{reason}", "{why}", "{frontend}"];

impl ErrorPages {
    /// The pages that have words in braces which are no values, by their keys. Other braces, as those of JSON and of style sheets, are none.
    pub(in crate::config) fn unknown_values(&self) -> Vec<(&'static str, Vec<String>)> {
        let pages = [
            ("error_html", &self.error_html),
            ("error_json", &self.error_json),
            ("error_text", &self.error_text),
        ];
        let found = pages.into_iter().filter_map(|(key, page)| Some((key, words_in_braces(page.as_ref()?))));
        found
            .map(|(key, words)| {
                (key, words.into_iter().filter(|word| !PAGE_VALUES.contains(&word.as_str())).collect())
            })
            .filter(|(_, unknown): &(_, Vec<String>)| !unknown.is_empty())
            .collect()
    }

    /// Whether nothing is said of them.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// The media type and the body of an error; `None` where there is none for that format.
    #[must_use]
    pub fn body(&self, format: ErrorFormat, facts: ErrorFacts<'_>) -> Option<(&'static str, String)> {
        let (kind, page) = match format {
            ErrorFormat::Html => ("text/html; charset=utf-8", self.error_html.as_ref()?),
            ErrorFormat::Json => {
                let page = self.error_json.as_ref()?;
                let is_problem = page.contains("\"title\"");
                (if is_problem { "application/problem+json" } else { "application/json" }, page)
            }
            ErrorFormat::Text => ("text/plain; charset=utf-8", self.error_text.as_ref()?),
        };
        let escaped = |text: &str| match format {
            ErrorFormat::Html => text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;"),
            ErrorFormat::Json => text.replace('\\', "\\\\").replace('"', "\\\""),
            ErrorFormat::Text => text.to_owned(),
        };
        // One pass, so that a value is never read as a page.
        let (mut body, mut rest) = (String::with_capacity(page.len() + 64), page.as_str());
        while let Some(at) = rest.find('{') {
            body.push_str(&rest[..at]);
            rest = &rest[at..];
            let values = [
                ("{status}", facts.status.to_string()),
                ("{reason}", escaped(facts.reason)),
                ("{why}", escaped(facts.why)),
                ("{frontend}", escaped(facts.frontend)),
            ];
            match values.iter().find(|(name, _)| rest.starts_with(name)) {
                Some((name, value)) => {
                    body.push_str(value);
                    rest = &rest[name.len()..];
                }
                None => {
                    body.push('{');
                    rest = &rest[1..];
                }
            }
        }
        body.push_str(rest);
        Some((kind, body))
    }
}

/// What stands in braces and is a word, each once, with its braces.
fn words_in_braces(page: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for (at, _) in page.match_indices('{') {
        let Some((word, _)) = page[at + 1..].split_once('}') else { break };
        let is_word = !word.is_empty()
            && word.bytes().all(|byte| byte.is_ascii_lowercase() || matches!(byte, b'_' | b'-' | b'.'));
        let whole = format!("{{{word}}}");
        if is_word && !found.contains(&whole) {
            found.push(whole);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::a_browser("text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8", ErrorFormat::Html)]
    #[case::a_program("application/json", ErrorFormat::Json)]
    #[case::a_problem("application/problem+json, */*", ErrorFormat::Json)]
    #[case::anything("*/*", ErrorFormat::Text)]
    #[case::nothing("", ErrorFormat::Text)]
    #[case::by_weight("text/html;q=0.5, application/json", ErrorFormat::Json)]
    #[case::both_alike("application/json, text/html", ErrorFormat::Html)]
    #[case::not_at_all("text/html;q=0", ErrorFormat::Text)]
    fn what_a_client_prefers(#[case] accept: &str, #[case] format: ErrorFormat) {
        assert_eq!(ErrorFormat::preferred(accept.as_bytes()), format);
    }

    #[rstest]
    #[case::all("{status} {reason} {why} {frontend}", &[])]
    #[case::misspelt("{statis} {statis} {request-id}", &["{statis}", "{request-id}"])]
    #[case::other_braces("p{color:red} {\"title\": {\"a\": 1}} {} { why } {", &[])]
    fn words_in_braces_that_are_no_values_are_found(#[case] page: &str, #[case] unknown: &[&str]) {
        let pages = ErrorPages { error_text: Some(page.to_owned()), ..ErrorPages::default() };
        let found: Vec<String> =
            pages.unknown_values().into_iter().flat_map(|(_, unknown)| unknown).collect();
        assert_eq!(found, unknown);
    }

    #[test]
    fn values_are_put_in_and_can_t_break_out() {
        let pages = ErrorPages {
            error_html: Some("<h1>{status} {reason}</h1>{why} {frontend} {other} {".to_owned()),
            error_json: Some("{\"title\": \"{reason}\", \"detail\": \"{why}\"}".to_owned()),
            error_text: None,
        };
        let facts = ErrorFacts {
            status: 503,
            reason: "Service Unavailable",
            why: "a \"<b>\\{status}",
            frontend: "site",
        };
        assert_eq!(
            pages.body(ErrorFormat::Html, facts).unwrap(),
            (
                "text/html; charset=utf-8",
                "<h1>503 Service Unavailable</h1>a &quot;&lt;b>\\{status} site {other} {".to_owned()
            )
        );
        let (kind, body) = pages.body(ErrorFormat::Json, facts).unwrap();
        assert_eq!(kind, "application/problem+json");
        let read: serde_json::Value = serde_json::from_str(&body).unwrap();
        assert_eq!(read["detail"], facts.why);
        assert_eq!(pages.body(ErrorFormat::Text, facts), None);
    }
}
