//! What an answer has to be: conditions on values, patterns, and bodies.

use std::fmt;
use std::str::FromStr;

use merismos_derive::Keys;
use regex::bytes::{Regex, RegexBuilder};
use serde::{Serialize, Serializer};

use crate::units::Size;

/// How large a compiled pattern may be, in bytes.
const PATTERN_SIZE: usize = 1 << 20;

/// A regular expression that is matched in a time that grows with the text alone.
#[derive(Clone, Debug)]
pub struct Pattern(Regex);

impl Pattern {
    /// Whether it is found in the bytes.
    #[must_use]
    pub fn matches(&self, bytes: &[u8]) -> bool {
        self.0.is_match(bytes)
    }

    /// What its group of a name finds in the bytes.
    #[must_use]
    pub fn group<'b>(&self, bytes: &'b [u8], name: &str) -> Option<&'b [u8]> {
        Some(self.0.captures(bytes)?.name(name)?.as_bytes())
    }

    /// Whether it has a group of a name.
    #[must_use]
    pub fn has_group(&self, name: &str) -> bool {
        self.0.capture_names().flatten().any(|known| known == name)
    }

    /// What it finds in the bytes: its first group where it has one, else all of the first match.
    #[must_use]
    pub fn find<'b>(&self, bytes: &'b [u8]) -> Option<&'b [u8]> {
        let found = self.0.captures(bytes)?;
        found.get(1).or_else(|| found.get(0)).map(|part| part.as_bytes())
    }
}

impl FromStr for Pattern {
    type Err = regex::Error;

    fn from_str(text: &str) -> Result<Self, regex::Error> {
        RegexBuilder::new(text).size_limit(PATTERN_SIZE).dfa_size_limit(PATTERN_SIZE).build().map(Self)
    }
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        self.0.as_str() == other.0.as_str()
    }
}

impl Eq for Pattern {}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0.as_str())
    }
}

impl Serialize for Pattern {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// How a value is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Comparison {
    Is,
    IsNot,
    Below,
    AtMost,
    Above,
    AtLeast,
}

/// What a value has to be: `= ON`, `!= 1`, `< 30`, `<= 30`, `> 0`, `>= 1`. Numbers are compared as numbers; a value that
/// is none does not meet a comparison by size.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpectedValue {
    comparison: Comparison,
    value: String,
}

impl ExpectedValue {
    const SIGNS: [(&'static str, Comparison); 6] = [
        ("!=", Comparison::IsNot),
        ("<=", Comparison::AtMost),
        (">=", Comparison::AtLeast),
        ("=", Comparison::Is),
        ("<", Comparison::Below),
        (">", Comparison::Above),
    ];

    /// Whether a value is as expected.
    #[must_use]
    pub fn is_met(&self, value: &str) -> bool {
        let numbers = (value.trim().parse::<f64>().ok(), self.value.parse::<f64>().ok());
        let order = match numbers {
            (Some(value), Some(wanted)) => value.partial_cmp(&wanted),
            _ => None,
        };
        let same = order.map_or(value == self.value, |order| order.is_eq());
        match self.comparison {
            Comparison::Is => same,
            Comparison::IsNot => !same,
            Comparison::Below => order.is_some_and(|order| order.is_lt()),
            Comparison::AtMost => order.is_some_and(|order| order.is_le()),
            Comparison::Above => order.is_some_and(|order| order.is_gt()),
            Comparison::AtLeast => order.is_some_and(|order| order.is_ge()),
        }
    }
}

impl FromStr for ExpectedValue {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let (sign, comparison) = Self::SIGNS.iter().find(|(sign, _)| text.starts_with(sign)).ok_or(())?;
        let value = text[sign.len()..].trim().to_owned();
        let by_size = !matches!(comparison, Comparison::Is | Comparison::IsNot);
        if by_size && value.parse::<f64>().is_err() {
            return Err(());
        }
        Ok(Self { comparison: *comparison, value })
    }
}

impl fmt::Display for ExpectedValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = Self::SIGNS
            .iter()
            .find(|(_, comparison)| *comparison == self.comparison)
            .map_or("=", |(sign, _)| sign);
        write!(f, "{sign} {}", self.value)
    }
}

impl Serialize for ExpectedValue {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What is expected of a body. All of it has to be so.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Keys)]
pub struct BodyExpectation {
    /// Text that the body contains.
    #[key(basic, format = TEXT, group = "Body")]
    #[serde(rename = "body_contains", skip_serializing_if = "Option::is_none")]
    pub contains: Option<String>,
    /// Regular expression that the body matches.
    ///
    /// It is matched in a time that grows with the body alone, whatever the expression is.
    #[serde(rename = "body_matches", skip_serializing_if = "Option::is_none")]
    pub matches: Option<Pattern>,
    /// Text that the body does not contain.
    #[key(format = TEXT)]
    #[serde(rename = "body_not_contains", skip_serializing_if = "Option::is_none")]
    pub lacks: Option<String>,
    /// Place of a value in a JSON body (RFC 6901).
    #[key(format = JSON_POINTER, label = "JSON pointer")]
    #[serde(rename = "json_pointer", skip_serializing_if = "Option::is_none")]
    pub pointer: Option<String>,
    /// Condition that the value at `json_pointer` meets; without it the value only has to be there.
    ///
    /// `=` and `!=` compare texts and numbers. `<`, `<=`, `>` and `>=` never match a value that is not a number.
    #[key(label = "JSON expect", example = "= ready")]
    #[serde(rename = "json_expect", skip_serializing_if = "Option::is_none")]
    pub expect: Option<ExpectedValue>,
    /// Number of bytes of the body that are looked at; a longer body fails the probe.
    #[key(range = "1KiB".."10MiB", without = "64KiB")]
    #[serde(rename = "body_limit", skip_serializing_if = "Option::is_none")]
    pub limit: Option<Size>,
}

/// How much of a body is looked at when nothing is said of it.
const BODY_LIMIT: usize = 64 << 10;

impl BodyExpectation {
    /// Whether anything is wanted of it at all.
    #[must_use]
    pub fn is_something(&self) -> bool {
        self.contains.is_some() || self.matches.is_some() || self.lacks.is_some() || self.pointer.is_some()
    }

    /// How many bytes are looked at.
    #[must_use]
    pub fn most(&self) -> usize {
        self.limit.map_or(BODY_LIMIT, |limit| usize::try_from(limit.bytes()).unwrap_or(usize::MAX))
    }

    /// Judges a body.
    ///
    /// # Errors
    /// What of it is not as wanted.
    pub fn judge(&self, body: &[u8]) -> Result<(), String> {
        let contains = |text: &str| memchr::memmem::find(body, text.as_bytes()).is_some();
        if let Some(text) = self.contains.as_ref().filter(|text| !contains(text)) {
            return Err(format!("the body does not contain {text:?}"));
        }
        if let Some(text) = self.lacks.as_ref().filter(|text| contains(text)) {
            return Err(format!("the body contains {text:?}"));
        }
        if let Some(pattern) = self.matches.as_ref().filter(|pattern| !pattern.matches(body)) {
            return Err(format!("the body does not match the pattern {pattern}"));
        }
        let Some(pointer) = &self.pointer else { return Ok(()) };
        let json: serde_json::Value =
            serde_json::from_slice(body).map_err(|error| format!("the body is no JSON: {error}"))?;
        let value =
            json.pointer(pointer).ok_or_else(|| format!("there is no value at {pointer} of the body"))?;
        let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        match &self.expect {
            Some(wanted) if !wanted.is_met(&text) => {
                Err(format!("the value at {pointer} is {text}; expected {wanted}"))
            }
            _ => Ok(()),
        }
    }

    pub(super) fn wants(&self) -> String {
        let mut wants = Vec::new();
        wants.extend(self.contains.iter().map(|text| format!("contains {text:?}")));
        wants.extend(self.lacks.iter().map(|text| format!("lacks {text:?}")));
        wants.extend(self.matches.iter().map(|pattern| format!("matches {pattern}")));
        if let Some(pointer) = &self.pointer {
            let wanted = self.expect.as_ref().map_or_else(|| "is there".to_owned(), ExpectedValue::to_string);
            wants.push(format!("{pointer} {wanted}"));
        }
        wants.join(", ")
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::equal_text("= ON", "ON", true)]
    #[case::unequal_text("= ON", "OFF", false)]
    #[case::equal_number("= 1", "1.0", true)]
    #[case::unequal_number("!= 1", "0", true)]
    #[case::less("< 30", "29", true)]
    #[case::not_less("< 30", "30", false)]
    #[case::at_most("<= 30", "30", true)]
    #[case::greater("> 0", "9", true)]
    #[case::not_at_least(">= 10", "9", false)]
    #[case::null_is_no_number("< 30", "NULL", false)]
    fn conditions(#[case] wanted: &str, #[case] value: &str, #[case] met: bool) {
        let parsed: ExpectedValue = wanted.parse().unwrap();
        assert_eq!(parsed.is_met(value), met);
        assert_eq!(parsed.to_string(), wanted);
    }

    #[test]
    fn what_is_no_condition() {
        for text in ["", "ON", "~ 3", "< many"] {
            assert!(text.parse::<ExpectedValue>().is_err(), "{text:?}");
        }
    }

    #[rstest]
    #[case::contains(BodyExpectation { contains: Some("well".to_owned()), ..BodyExpectation::default() }, None)]
    #[case::does_not_contain(BodyExpectation { contains: Some("ill".to_owned()), ..BodyExpectation::default() }, Some("does not contain \"ill\""))]
    #[case::lacks(BodyExpectation { lacks: Some("well".to_owned()), ..BodyExpectation::default() }, Some("contains \"well\""))]
    #[case::matches(BodyExpectation { matches: "l+\"".parse().ok(), ..BodyExpectation::default() }, None)]
    #[case::does_not_match(BodyExpectation { matches: "^x".parse().ok(), ..BodyExpectation::default() }, Some("does not match the pattern ^x"))]
    #[case::value_at_pointer(BodyExpectation { pointer: Some("/state".to_owned()), ..BodyExpectation::default() }, None)]
    #[case::no_value_at_pointer(BodyExpectation { pointer: Some("/none".to_owned()), ..BodyExpectation::default() }, Some("no value at /none"))]
    #[case::other_value_at_pointer(
        BodyExpectation { pointer: Some("/lag".to_owned()), expect: "< 5".parse().ok(), ..BodyExpectation::default() },
        Some("is 7; expected < 5")
    )]
    fn bodies(#[case] wanted: BodyExpectation, #[case] wrong: Option<&str>) {
        let judged = wanted.judge(br#"{"state": "well", "lag": 7}"#);
        match wrong {
            None => assert_eq!(judged, Ok(())),
            Some(wrong) => assert!(judged.as_ref().unwrap_err().contains(wrong), "{judged:?}"),
        }
    }

    #[test]
    fn a_pattern_takes_a_time_that_grows_with_the_text_alone() {
        // Backtracking would take longer than the universe has lasted.
        let pattern: Pattern = "(a+)+$".parse().unwrap();
        let text = [vec![b'a'; 50_000], vec![b'!']].concat();
        assert!(!pattern.matches(&text));
        assert!("a{1000}{1000}{1000}".parse::<Pattern>().is_err(), "its size is bounded");
    }
}
