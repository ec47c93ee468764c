//! Where redirects lead: texts with values of the request in them.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};

use super::request_path;
use crate::config::document::Pattern;

/// A `Location` (RFC 9110, 10.2.2) with values of the request in braces: `{host}`, `{path}`, `{rest}`, `{query}` and `{capture.NAME}`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LocationTemplate {
    text: String,
    pieces: Vec<LocationPiece>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum LocationPiece {
    Text(String),
    /// The host without its port.
    Host,
    /// The path as it came.
    Path,
    /// What follows the prefix by which the rule was met.
    Rest,
    /// The query with its question mark; nothing where there is none.
    Query,
    /// A named group of the regular expression that the path is compared with.
    Capture(String),
}

/// The values of a request.
#[derive(Clone, Copy, Debug)]
pub struct TemplateFacts<'a> {
    /// The host without its port.
    pub host: &'a str,
    /// The path with its query, as it came.
    pub target: &'a str,
    /// The prefix by which the rule was met; empty where it was met by none.
    pub prefix: &'a str,
    /// The regular expression that the rule compares the path with.
    pub pattern: Option<&'a Pattern>,
}

/// Why a text is no template of a location.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// A brace without its partner.
    #[error("a {{ without }}, or the other way round")]
    Brace,
    /// A value that is not known.
    #[error("{{{0}}} is not one of {{host}}, {{path}}, {{rest}}, {{query}} and {{capture.NAME}}")]
    Value(String),
    /// It leads nowhere.
    #[error("it begins neither with https:// or http:// and a host, nor with /")]
    Start,
    /// What a client says could become a part of the host.
    #[error("{{capture.{0}}} could become a part of the host: a / or ? of the text has to come before it")]
    Capture(String),
    /// A character that no URL holds.
    #[error("{0:?} has to be percent-encoded in a URL")]
    Character(char),
}

impl FromStr for LocationTemplate {
    type Err = TemplateError;

    fn from_str(text: &str) -> Result<Self, TemplateError> {
        let mut pieces = Vec::new();
        let mut rest = text;
        while !rest.is_empty() {
            let (plain, after) = rest.split_at(rest.find(['{', '}']).unwrap_or(rest.len()));
            if let Some(wrong) =
                plain.chars().find(|letter| !letter.is_ascii_graphic() || "\"<>\\^`|".contains(*letter))
            {
                return Err(TemplateError::Character(wrong));
            }
            if !plain.is_empty() {
                pieces.push(LocationPiece::Text(plain.to_owned()));
            }
            let Some(inner) = after.strip_prefix('{') else {
                if after.is_empty() {
                    break;
                }
                return Err(TemplateError::Brace);
            };
            let (name, after) = inner.split_once('}').ok_or(TemplateError::Brace)?;
            pieces.push(match name {
                "host" => LocationPiece::Host,
                "path" => LocationPiece::Path,
                "rest" => LocationPiece::Rest,
                "query" => LocationPiece::Query,
                other => match other.strip_prefix("capture.").filter(|group| !group.is_empty()) {
                    Some(group) => LocationPiece::Capture(group.to_owned()),
                    None => return Err(TemplateError::Value(other.to_owned())),
                },
            });
            rest = after;
        }
        check_start(&pieces)?;
        check_captures(&pieces)?;
        Ok(Self { text: text.to_owned(), pieces })
    }
}

/// A location is a path of the same host, or names its host before anything that a client says can follow.
fn check_start(pieces: &[LocationPiece]) -> Result<(), TemplateError> {
    let Some(LocationPiece::Text(first)) = pieces.first() else {
        return match pieces.first() {
            Some(LocationPiece::Path | LocationPiece::Rest) => Ok(()),
            _ => Err(TemplateError::Start),
        };
    };
    if first.starts_with('/') {
        return if first.starts_with("//") { Err(TemplateError::Start) } else { Ok(()) };
    }
    let host = first
        .strip_prefix("https://")
        .or_else(|| first.strip_prefix("http://"))
        .ok_or(TemplateError::Start)?;
    if host.contains('/') {
        return if host.starts_with('/') { Err(TemplateError::Start) } else { Ok(()) };
    }
    // What comes after the host begins with a slash, a question mark or the colon of a port, or is empty: the path, the rest and the query of a
    // request do.
    let mut others = pieces[1..].iter();
    if host.is_empty() && others.next() != Some(&LocationPiece::Host) {
        return Err(TemplateError::Start);
    }
    match others.next() {
        None | Some(LocationPiece::Path | LocationPiece::Rest | LocationPiece::Query) => Ok(()),
        Some(LocationPiece::Text(text)) if text.starts_with(['/', ':', '?']) => Ok(()),
        Some(LocationPiece::Host | LocationPiece::Capture(_) | LocationPiece::Text(_)) => {
            Err(TemplateError::Start)
        }
    }
}

/// A group holds whatever the expression lets through, so it comes after the end of the host: after a slash or a question mark that is always there.
fn check_captures(pieces: &[LocationPiece]) -> Result<(), TemplateError> {
    let mut is_past_host = false;
    for (place, piece) in pieces.iter().enumerate() {
        match piece {
            LocationPiece::Text(text) => {
                let scheme = text.split_once("://").filter(|_| place == 0);
                is_past_host |= scheme.map_or(text.as_str(), |(_, behind)| behind).contains(['/', '?']);
            }
            LocationPiece::Path => is_past_host = true,
            LocationPiece::Capture(group) if !is_past_host => {
                return Err(TemplateError::Capture(group.clone()));
            }
            LocationPiece::Host | LocationPiece::Rest | LocationPiece::Query | LocationPiece::Capture(_) => {}
        }
    }
    Ok(())
}

impl LocationTemplate {
    /// Whether it is a path, and not a whole URL.
    #[must_use]
    pub fn is_path(&self) -> bool {
        self.text.starts_with('/')
            || matches!(self.pieces.first(), Some(LocationPiece::Path | LocationPiece::Rest))
    }

    /// The groups of a regular expression that it names.
    pub fn captures(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|piece| match piece {
            LocationPiece::Capture(group) => Some(group.as_str()),
            _ => None,
        })
    }

    /// Whether it says what becomes of the query.
    #[must_use]
    pub fn says_query(&self) -> bool {
        self.text.contains('?') || self.pieces.contains(&LocationPiece::Query)
    }

    /// The location for a request. Nothing that a client says can lead to another host or break out of the field.
    #[must_use]
    pub fn render(&self, facts: TemplateFacts<'_>) -> String {
        let (path, query) = match facts.target.find('?') {
            Some(at) => facts.target.split_at(at),
            None => (facts.target, ""),
        };
        // All of a host is asked for with an asterisk, which is no path (RFC 9112, 3.2.4).
        let path = if path.starts_with('/') { path } else { "/" };
        let prefix = facts.prefix.strip_suffix('/').unwrap_or(facts.prefix);
        let rest = path.strip_prefix(prefix).filter(|rest| rest.is_empty() || rest.starts_with('/'));
        let mut location = String::with_capacity(self.text.len() + facts.target.len());
        for piece in &self.pieces {
            match piece {
                LocationPiece::Text(text) => location.push_str(text),
                LocationPiece::Host => location.push_str(facts.host),
                LocationPiece::Path => push_safe(&mut location, path),
                LocationPiece::Rest => push_safe(&mut location, rest.unwrap_or_default()),
                LocationPiece::Query => push_safe(&mut location, query),
                LocationPiece::Capture(group) => {
                    // As it is compared: decoded, so it is encoded again.
                    let read = request_path::read(facts.target).bytes;
                    let found = facts.pattern.and_then(|pattern| pattern.group(&read, group));
                    push_encoded(&mut location, found.unwrap_or_default());
                }
            }
        }
        // The rest may be nothing, and a path begins with a slash.
        if self.is_path() && !location.starts_with('/') {
            location.insert(0, '/');
        }
        // A location that begins with two slashes names a host.
        let extra = location.bytes().take_while(|byte| *byte == b'/').count().saturating_sub(1);
        location.drain(..extra);
        location
    }
}

/// Adds what a client said; a backslash is a slash for browsers, and nothing else can follow the quotes of a URL.
fn push_safe(location: &mut String, text: &str) {
    for letter in text.chars() {
        match letter {
            '\\' => location.push_str("%5C"),
            '"' => location.push_str("%22"),
            '<' => location.push_str("%3C"),
            '>' => location.push_str("%3E"),
            plain if plain.is_ascii_graphic() => location.push(plain),
            _ => {}
        }
    }
}

/// Adds bytes of a decoded path: what delimits parts of a URL, slashes apart, and what no URL holds is percent-encoded (RFC 3986, 2.1).
fn push_encoded(location: &mut String, bytes: &[u8]) {
    for byte in bytes {
        match byte {
            b'-' | b'.' | b'_' | b'~' | b'/' | b'0'..=b'9' | b'A'..=b'Z' | b'a'..=b'z' => {
                location.push(char::from(*byte));
            }
            other => location.push_str(&format!("%{other:02X}")),
        }
    }
}

impl fmt::Display for LocationTemplate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Serialize for LocationTemplate {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn at(template: &str, target: &str) -> String {
        let pattern: Pattern = "^/v(?P<number>[0-9]+)/(?P<rest>.*)".parse().unwrap();
        let (host, pattern) = ("booking.skerry.example", Some(&pattern));
        let facts = TemplateFacts { host, target, prefix: "/old", pattern };
        template.parse::<LocationTemplate>().unwrap().render(facts)
    }

    #[rstest]
    #[case("https://{host}{path}{query}", "/old/x?a=b", "https://booking.skerry.example/old/x?a=b")]
    #[case("https://{host}:8443{path}", "/old", "https://booking.skerry.example:8443/old")]
    #[case("https://www.skerry.example/new{rest}{query}", "/old/x", "https://www.skerry.example/new/x")]
    #[case("https://www.skerry.example/new{rest}", "/old", "https://www.skerry.example/new")]
    #[case("https://www.skerry.example{rest}{query}", "/old?a=b", "https://www.skerry.example?a=b")]
    #[case("https://www.skerry.example{rest}", "/old/x", "https://www.skerry.example/x")]
    #[case("/new{rest}", "/old/x", "/new/x")]
    #[case("/new", "/old/x?y", "/new")]
    #[case("{rest}", "/old/x?y", "/x")]
    #[case("{rest}{query}", "/old?y", "/?y")]
    #[case("{path}/", "/old", "/old/")]
    #[case("{path}", "//evil.example/x", "/evil.example/x")]
    #[case("/{rest}", "/old//evil.example", "/evil.example")]
    #[case("{path}", "/\\evil.example", "/%5Cevil.example")]
    #[case("https://{host}{path}", "*", "https://booking.skerry.example/")]
    #[case("/x{query}", "/old?a=\"<b>\"", "/x?a=%22%3Cb%3E%22")]
    #[case("/new/{capture.number}/{capture.rest}", "/v7/a/b?c", "/new/7/a/b")]
    #[case("/{capture.rest}", "/v7//evil.example", "/evil.example")]
    #[case(
        "https://{host}/?page={capture.rest}&{capture.none}",
        "/v7/a%26b%3f%0d%c3%a9@:x%23",
        "https://booking.skerry.example/?page=a%26b%3F%0D%C3%A9%40%3Ax%23&"
    )]
    #[case("/n{capture.number}", "/other", "/n")]
    fn locations_are_filled_in(#[case] template: &str, #[case] target: &str, #[case] location: &str) {
        assert_eq!(at(template, target), location);
    }

    #[rstest]
    #[case::nothing("", "begins neither")]
    #[case::no_scheme("www.skerry.example/x", "begins neither")]
    #[case::another_scheme("javascript://x/", "begins neither")]
    #[case::no_host("https:///x", "begins neither")]
    #[case::a_host_of_the_path("https://{path}", "begins neither")]
    #[case::two_slashes("//www.skerry.example", "begins neither")]
    #[case::two_hosts("https://{host}{host}", "begins neither")]
    #[case::a_host_behind_a_host("https://www.{host}/", "begins neither")]
    #[case::a_name_that_goes_on("https://{host}.evil.example/", "begins neither")]
    #[case::an_open_brace("/x{path", "a { without }")]
    #[case::a_closing_brace("/x}", "a { without }")]
    #[case::an_unknown_value("/x{page}", "is not one of")]
    #[case::a_space("/a b", "percent-encoded")]
    #[case::a_group_first("{capture.x}", "begins neither")]
    #[case::a_group_in_the_host("https://www.skerry.example{rest}{capture.x}/", "a part of the host")]
    #[case::a_group_as_port("https://{host}:{capture.x}/", "a part of the host")]
    #[case::a_group_without_name("/{capture.}", "is not one of")]
    #[case::a_line_end("/a\r\nSet-Cookie: x", "percent-encoded")]
    fn mistakes_are_named(#[case] template: &str, #[case] message: &str) {
        let error = template.parse::<LocationTemplate>().unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
    }
}
