//! Reads conditions.
//!
//! ```text
//! condition = all *("or" all)
//! all       = one *("and" one)
//! one       = "not" one / "(" condition ")" / "always" / fact comparison
//! fact      = "host" / "path" / "method" / "client" / "server-name" / "certificate" / "version" / "local-address" / "port" / "content-type"
//!           / ("header" / "query" / "cookie") value
//! comparison = "present" / "absent" / "is" ["not"] values / ["not"] "in" values / "under" values / "contains" value / "matches" value
//! values    = value *("," value)
//! value     = a word, or a text in double quotes, in which \" and \\ stand for " and \
//! ```

use std::fmt;

use super::condition::{Fact, RequestVersion, Test, TestComparison, Tree};
use super::request_path;
use crate::config::document::Pattern;
use crate::text::is_token;

/// The most tests of one condition.
const MOST_TESTS: usize = 200;
/// How deep parentheses and `not` may go.
const DEEPEST: usize = 20;

const FACTS: &str = "host, path, method, client, server-name, certificate, version, local-address, port, content-type, header NAME, query NAME or cookie NAME";

/// Why a text is no condition.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("at character {at}: found {found}, expected {expected}")]
pub struct ConditionError {
    /// The place, in characters from 1.
    pub at: usize,
    /// What stands there.
    pub found: String,
    /// What would be right.
    pub expected: String,
}

/// A value as it is written: in quotes where it has to be.
pub(super) fn written(value: &str) -> String {
    let is_word = !value.is_empty() && value.chars().all(is_of_word) && !KEYWORDS.contains(&value);
    if is_word {
        value.to_owned()
    } else {
        format!("\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\""))
    }
}

const KEYWORDS: [&str; 11] =
    ["and", "or", "not", "always", "is", "in", "under", "contains", "matches", "present", "absent"];

fn is_of_word(letter: char) -> bool {
    !letter.is_whitespace() && !matches!(letter, '(' | ')' | ',' | '"')
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum ConditionToken {
    Word(String),
    Quoted(String),
    Open,
    Close,
    Comma,
    End,
}

impl fmt::Display for ConditionToken {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Word(text) | Self::Quoted(text) => write!(f, "{text:?}"),
            Self::Open => f.write_str("\"(\""),
            Self::Close => f.write_str("\")\""),
            Self::Comma => f.write_str("\",\""),
            Self::End => f.write_str("the end"),
        }
    }
}

/// Tokens with their places.
fn tokens(text: &str) -> Result<Vec<(usize, ConditionToken)>, ConditionError> {
    let mut found = Vec::new();
    let mut letters = text.chars().enumerate().peekable();
    while let Some((at, letter)) = letters.next() {
        let token = match letter {
            '(' => ConditionToken::Open,
            ')' => ConditionToken::Close,
            ',' => ConditionToken::Comma,
            '"' => {
                let mut value = String::new();
                loop {
                    match letters.next() {
                        Some((_, '"')) => break,
                        Some((at, '\\')) => match letters.next() {
                            Some((_, escaped @ ('"' | '\\'))) => value.push(escaped),
                            // Patterns are full of them.
                            Some((_, other)) => value.extend(['\\', other]),
                            None => return Err(unclosed(at)),
                        },
                        Some((_, other)) => value.push(other),
                        None => return Err(unclosed(at)),
                    }
                }
                ConditionToken::Quoted(value)
            }
            space if space.is_whitespace() => continue,
            first => {
                let mut word = String::from(first);
                while let Some((_, letter)) = letters.next_if(|(_, letter)| is_of_word(*letter)) {
                    word.push(letter);
                }
                ConditionToken::Word(word)
            }
        };
        found.push((at + 1, token));
    }
    found.push((text.chars().count() + 1, ConditionToken::End));
    Ok(found)
}

fn unclosed(at: usize) -> ConditionError {
    ConditionError {
        at: at + 1,
        found: "a quote without its end".to_owned(),
        expected: "a closing \"".to_owned(),
    }
}

/// Reads a condition.
///
/// # Errors
/// The first thing that is wrong, with its place.
pub(super) fn parse(text: &str) -> Result<Tree, ConditionError> {
    let mut parser = Parser { tokens: tokens(text)?, next: 0, tests: 0 };
    let tree = parser.any(0)?;
    match parser.peek() {
        ConditionToken::End => Ok(tree),
        _ => Err(parser.expected("and, or, or the end")),
    }
}

struct Parser {
    tokens: Vec<(usize, ConditionToken)>,
    next: usize,
    tests: usize,
}

impl Parser {
    fn peek(&self) -> &ConditionToken {
        &self.tokens[self.next.min(self.tokens.len() - 1)].1
    }

    fn take(&mut self) -> ConditionToken {
        let token = self.peek().clone();
        self.next += 1;
        token
    }

    /// Takes a word if it is the next token.
    fn takes(&mut self, word: &str) -> bool {
        let is_next = matches!(self.peek(), ConditionToken::Word(next) if next == word);
        self.next += usize::from(is_next);
        is_next
    }

    fn expected(&self, expected: &str) -> ConditionError {
        self.wrong(self.next, expected)
    }

    /// What is wrong with the token before the next one.
    fn wrong_value(&self, expected: &str) -> ConditionError {
        self.wrong(self.next - 1, expected)
    }

    fn wrong(&self, place: usize, expected: &str) -> ConditionError {
        let (at, token) = &self.tokens[place.min(self.tokens.len() - 1)];
        ConditionError { at: *at, found: token.to_string(), expected: expected.to_owned() }
    }

    fn any(&mut self, depth: usize) -> Result<Tree, ConditionError> {
        let mut parts = vec![self.all(depth)?];
        while self.takes("or") {
            parts.push(self.all(depth)?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Tree::Any(parts) })
    }

    fn all(&mut self, depth: usize) -> Result<Tree, ConditionError> {
        let mut parts = vec![self.one(depth)?];
        while self.takes("and") {
            parts.push(self.one(depth)?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Tree::All(parts) })
    }

    fn one(&mut self, depth: usize) -> Result<Tree, ConditionError> {
        if depth > DEEPEST {
            return Err(self.expected(&format!("at most {DEEPEST} levels of parentheses and not")));
        }
        if self.takes("not") {
            return Ok(Tree::Not(Box::new(self.one(depth + 1)?)));
        }
        if self.takes("always") {
            return Ok(Tree::Always);
        }
        if matches!(self.peek(), ConditionToken::Open) {
            self.next += 1;
            let inner = self.any(depth + 1)?;
            return match self.take() {
                ConditionToken::Close => Ok(inner),
                _ => Err(self.wrong_value("and, or, or \")\"")),
            };
        }
        let fact = self.fact()?;
        self.tests += 1;
        if self.tests > MOST_TESTS {
            return Err(self.wrong_value(&format!("at most {MOST_TESTS} comparisons in one condition")));
        }
        self.comparison(fact)
    }

    fn fact(&mut self) -> Result<Fact, ConditionError> {
        let ConditionToken::Word(word) = self.take() else {
            return Err(self.wrong_value(&format!("what is looked at: {FACTS}")));
        };
        Ok(match word.as_str() {
            "host" => Fact::Host,
            "path" => Fact::Path,
            "method" => Fact::Method,
            "client" => Fact::Client,
            "server-name" => Fact::ServerName,
            "certificate" => Fact::Certificate,
            "version" => Fact::Version,
            "local-address" => Fact::LocalAddress,
            "port" => Fact::Port,
            "content-type" => Fact::ContentType,
            "header" => {
                let name = self.name("the name of a header field")?.to_ascii_lowercase();
                if name == "host" {
                    return Err(self.wrong_value("the fact host instead of its field"));
                }
                Fact::Header(name)
            }
            "query" => Fact::Query(self.value("the name of a parameter of the query")?),
            "cookie" => Fact::Cookie(self.name("the name of a cookie")?),
            _ => return Err(self.wrong_value(&format!("what is looked at: {FACTS}"))),
        })
    }

    fn value(&mut self, expected: &str) -> Result<String, ConditionError> {
        match self.take() {
            ConditionToken::Word(text) | ConditionToken::Quoted(text) => Ok(text),
            _ => Err(self.wrong_value(expected)),
        }
    }

    /// A token of RFC 9110, 5.6.2.
    fn name(&mut self, expected: &str) -> Result<String, ConditionError> {
        let name = self.value(expected)?;
        if is_token(&name) { Ok(name) } else { Err(self.wrong_value(expected)) }
    }

    fn comparison(&mut self, fact: Fact) -> Result<Tree, ConditionError> {
        let is_negated_in = self.takes("not");
        if is_negated_in && !matches!(self.peek(), ConditionToken::Word(word) if word == "in") {
            return Err(self.expected("in, as in: client not in office"));
        }
        let words = words_for(&fact);
        let ConditionToken::Word(word) = self.take() else { return Err(self.wrong_value(words)) };
        let (is_negated, comparison) = match (word.as_str(), &fact) {
            ("present", _) if may_be_absent(&fact) => (false, TestComparison::Present),
            ("absent", _) if may_be_absent(&fact) => (true, TestComparison::Present),
            ("in", Fact::Client | Fact::LocalAddress) => {
                (is_negated_in, TestComparison::In(self.networks()?))
            }
            ("is", Fact::Client | Fact::LocalAddress | Fact::Certificate) => {
                return Err(self.wrong_value(words));
            }
            ("is", _) => {
                let is_negated = self.takes("not");
                (is_negated, TestComparison::Is(self.values(|value| read_value(&fact, value))?))
            }
            ("under", Fact::Path) => {
                (false, TestComparison::Under(self.values(|value| read_value(&fact, value))?))
            }
            ("contains", _) if is_text(&fact) => {
                let value = self.value("the text that is looked for")?;
                if value.is_empty() {
                    return Err(self.wrong_value("a text that is not empty"));
                }
                (false, TestComparison::Contains(value))
            }
            ("matches", _) if is_text(&fact) => {
                let pattern = self.value("a regular expression in quotes")?;
                match pattern.parse::<Pattern>() {
                    Ok(pattern) => (false, TestComparison::Matches(pattern)),
                    Err(error) => {
                        let message = error.to_string();
                        let message = message.lines().last().unwrap_or_default().trim();
                        return Err(self.wrong_value(&format!("a regular expression: {message}")));
                    }
                }
            }
            _ => return Err(self.wrong_value(words)),
        };
        let test = Tree::Test(Test { fact, comparison });
        Ok(if is_negated { Tree::Not(Box::new(test)) } else { test })
    }

    fn values(
        &mut self,
        read: impl Fn(String) -> Result<String, &'static str>,
    ) -> Result<Vec<String>, ConditionError> {
        let mut values = Vec::new();
        loop {
            let value = self.value("a value: a word, or a text in \"quotes\"")?;
            values.push(read(value).map_err(|expected| self.wrong_value(expected))?);
            if !matches!(self.peek(), ConditionToken::Comma) {
                return Ok(values);
            }
            self.next += 1;
        }
    }

    fn networks(&mut self) -> Result<Vec<super::NetworkRef>, ConditionError> {
        let expected = "the name of a list under [networks], an address, or a prefix such as 192.0.2.0/24";
        let mut networks = Vec::new();
        loop {
            let value = self.value(expected)?;
            networks.push(value.parse().map_err(|()| self.wrong_value(expected))?);
            if !matches!(self.peek(), ConditionToken::Comma) {
                return Ok(networks);
            }
            self.next += 1;
        }
    }
}

/// Whether a request may be without it.
fn may_be_absent(fact: &Fact) -> bool {
    !matches!(
        fact,
        Fact::Path | Fact::Method | Fact::Client | Fact::Version | Fact::LocalAddress | Fact::Port
    )
}

fn is_text(fact: &Fact) -> bool {
    matches!(
        fact,
        Fact::Host
            | Fact::Path
            | Fact::ServerName
            | Fact::ContentType
            | Fact::Header(_)
            | Fact::Query(_)
            | Fact::Cookie(_)
    )
}

/// Which comparisons a fact has.
fn words_for(fact: &Fact) -> &'static str {
    match fact {
        Fact::Path => "is, is not, under, contains or matches",
        Fact::Client | Fact::LocalAddress => "in or not in",
        Fact::Certificate => "present or absent",
        Fact::Method | Fact::Version | Fact::Port => "is or is not",
        Fact::Host
        | Fact::ServerName
        | Fact::ContentType
        | Fact::Header(_)
        | Fact::Query(_)
        | Fact::Cookie(_) => "is, is not, contains, matches, present or absent",
    }
}

/// A value as it is compared, or what would be right.
fn read_value(fact: &Fact, value: String) -> Result<String, &'static str> {
    match fact {
        Fact::Host | Fact::ServerName => {
            let name = value.to_ascii_lowercase();
            let name = name.strip_suffix('.').unwrap_or(&name).to_owned();
            let rest = name.strip_prefix("*.").unwrap_or(&name);
            let is_name = !rest.is_empty()
                && rest.bytes().all(|byte| byte.is_ascii_graphic() && !b"*/:,".contains(&byte));
            let is_literal = rest.starts_with('[') && rest.ends_with(']');
            (is_name || is_literal).then_some(name).ok_or(
                "a host without its port, perhaps with * in place of its first label: *.skerry.example",
            )
        }
        Fact::Path => {
            let read = request_path::read(&value);
            let is_read_so =
                value.starts_with('/') && !value.contains('?') && *read.bytes == *value.as_bytes();
            is_read_so.then_some(value).ok_or(
                "a path as it is compared: it begins with /, is decoded, has no ?, no dot segments and no slash twice",
            )
        }
        Fact::Method => is_token(&value).then_some(value).ok_or("a method, such as POST"),
        Fact::Version => {
            value.parse::<RequestVersion>().map(|version| version.to_string()).map_err(|_| "1.0, 1.1 or 2")
        }
        Fact::Port => value
            .parse::<u16>()
            .ok()
            .filter(|port| *port > 0)
            .map(|port| port.to_string())
            .ok_or("a port from 1 to 65535"),
        Fact::ContentType => {
            let is_type = value.split_once('/').is_some_and(|(main, sub)| is_token(main) && is_token(sub));
            is_type
                .then(|| value.to_ascii_lowercase())
                .ok_or("a media type without parameters, such as text/html")
        }
        Fact::Client
        | Fact::LocalAddress
        | Fact::Certificate
        | Fact::Header(_)
        | Fact::Query(_)
        | Fact::Cookie(_) => Ok(value),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::Condition;

    #[rstest]
    #[case("always", "always")]
    #[case("host is Booking.skerry.example.", "host is booking.skerry.example")]
    #[case("host is *.skerry.example, quay.example", "host is *.skerry.example, quay.example")]
    #[case("path under /admin and not client in office", "path under /admin and not client in office")]
    #[case(
        "client not in office, 192.0.2.0/24, 2001:db8::7",
        "not client in office, 192.0.2.0/24, 2001:db8::7"
    )]
    #[case("a or b", "")]
    #[case("method is not GET, HEAD", "not method is GET, HEAD")]
    #[case(
        "(method is GET or method is HEAD) and path is /",
        "(method is GET or method is HEAD) and path is /"
    )]
    #[case(
        "method is GET or method is HEAD and path is /",
        "method is GET or (method is HEAD and path is /)"
    )]
    #[case("not (header X-A present or cookie a absent)", "not (header x-a present or not cookie a present)")]
    #[case(r#"header x-a is "and", "a \"b\" \\ c", """#, r#"header x-a is "and", "a \"b\" \\ c", """#)]
    #[case(r#"path matches "^/v\d+/(?i)x""#, r#"path matches "^/v\\d+/(?i)x""#)]
    #[case("content-type is Text/HTML", "content-type is text/html")]
    #[case(
        "version is 2 and port is 8080 and certificate present",
        "version is 2 and port is 8080 and certificate present"
    )]
    #[case("server-name is booking.skerry.example", "server-name is booking.skerry.example")]
    #[case("query \"from to\" contains x", "query \"from to\" contains x")]
    fn conditions_are_read(#[case] text: &str, #[case] canonical: &str) {
        let read = text.parse::<Condition>();
        if canonical.is_empty() {
            assert!(read.is_err());
            return;
        }
        let printed = read.unwrap().tree().to_string();
        assert_eq!(printed, canonical);
        let again = printed.parse::<Condition>().unwrap();
        assert_eq!(again.tree().to_string(), printed, "what is printed means the same");
    }

    #[rstest]
    #[case::empty("", 1, "the end", "host, path")]
    #[case::unknown_fact("hsot is a", 1, "\"hsot\"", "host, path")]
    #[case::no_comparison("host", 5, "the end", "is, is not")]
    #[case::wrong_comparison("host under /a", 6, "\"under\"", "is, is not")]
    #[case::no_value("path is", 8, "the end", "a value")]
    #[case::a_value_too_many("path is /a /b", 12, "\"/b\"", "and, or")]
    #[case::no_path("path under admin", 12, "\"admin\"", "begins with /")]
    #[case::a_path_that_is_read_otherwise("path is /a/../b", 9, "\"/a/../b\"", "no dot segments")]
    #[case::no_network("client in 192.0.2.1/24", 11, "\"192.0.2.1/24\"", "a prefix")]
    #[case::client_is("client is 192.0.2.1", 8, "\"is\"", "in or not in")]
    #[case::never_absent("path present", 6, "\"present\"", "under")]
    #[case::an_open_parenthesis("(path is /a", 12, "the end", "\")\"")]
    #[case::an_open_quote("path is \"/a", 9, "a quote", "closing")]
    #[case::a_pattern_that_is_none("path matches \"(\"", 14, "\"(\"", "unclosed group")]
    #[case::a_port("port is 0", 9, "\"0\"", "1 to 65535")]
    #[case::a_version("version is 3", 12, "\"3\"", "1.0, 1.1 or 2")]
    #[case::a_host_with_a_port("host is a.example:80", 9, "\"a.example:80\"", "without its port")]
    #[case::the_host_field("header Host is a", 8, "\"Host\"", "the fact host")]
    #[case::not_before_something_else("client not present", 12, "\"present\"", "in, as in")]
    #[case::letters_of_several_bytes("path is /é é", 12, "\"é\"", "and, or")]
    fn mistakes_have_a_place(
        #[case] text: &str,
        #[case] at: usize,
        #[case] found: &str,
        #[case] expected: &str,
    ) {
        let error = text.parse::<Condition>().unwrap_err();
        assert_eq!((error.at, error.found.starts_with(found)), (at, true), "{error}");
        assert!(error.expected.contains(expected), "{error}");
    }

    #[test]
    fn conditions_are_bounded() {
        let deep = format!("{}always{}", "(".repeat(30), ")".repeat(30));
        assert!(deep.parse::<Condition>().unwrap_err().expected.contains("20 levels"));
        let long = vec!["path is /"; 201].join(" or ");
        assert!(long.parse::<Condition>().unwrap_err().expected.contains("200"));
        let pattern = format!("path matches \"{}\"", "(a{1000}){1000}");
        assert!(pattern.parse::<Condition>().unwrap_err().expected.contains("size limit"));
    }
}
