//! What rules change about requests on their way, and about responses on theirs.

use std::collections::BTreeMap;
use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;
use std::time::Duration;

use super::condition::{Condition, Fact, Test, TestComparison, Tree};
use super::matcher::{RuleFacts, host_name};
use super::outcome::met_prefix;
use super::request_path;
use super::template::{LocationTemplate, TemplateFacts};
use crate::config::document::{Pattern, RuleChanges, RulePersistence, RuleSpec};
use crate::cookie::cookie_values;
use crate::units::{Span, humane};

/// Fields that delimit messages, direct them or concern one connection: no rule sets or removes them.
pub const UNTOUCHED_FIELDS: [&str; 14] = [
    "host",
    "content-length",
    "transfer-encoding",
    "connection",
    "keep-alive",
    "proxy-connection",
    "te",
    "trailer",
    "upgrade",
    "expect",
    "forwarded",
    "x-forwarded-for",
    "x-forwarded-proto",
    "via",
];

/// How many letters of a label are kept; what rules write is ASCII.
const LONGEST_LABEL: usize = 128;

/// The value of a field, with values of the request in braces.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldTemplate(Vec<FieldPiece>);

#[derive(Clone, Debug, PartialEq, Eq)]
enum FieldPiece {
    Text(String),
    Client,
    Host,
    Method,
    Path,
    Query(String),
    Header(String),
    Cookie(String),
    /// The subject of the client's certificate.
    CertificateSubject,
    /// What the request is called in its `X-Request-Id`.
    RequestId,
    /// A named group of the regular expression that the path is compared with.
    Capture(String),
}

/// Why a text is no template of a field.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FieldTemplateError {
    /// A brace without its partner.
    #[error("a {{ without }}, or the other way round")]
    Brace,
    /// A value that is not known.
    #[error(
        "{{{0}}} is not one of {{client}}, {{host}}, {{method}}, {{path}}, {{query.NAME}}, {{header.NAME}}, {{cookie.NAME}}, {{capture.NAME}}, {{certificate.subject}} and {{request-id}}"
    )]
    Value(String),
    /// A character that no field holds.
    #[error("a control character or a letter beyond ASCII")]
    Character,
}

impl FromStr for FieldTemplate {
    type Err = FieldTemplateError;

    fn from_str(text: &str) -> Result<Self, FieldTemplateError> {
        let (mut pieces, mut rest) = (Vec::new(), text);
        while !rest.is_empty() {
            let (plain, after) = rest.split_at(rest.find(['{', '}']).unwrap_or(rest.len()));
            if !plain.bytes().all(|byte| (0x20..0x7f).contains(&byte)) {
                return Err(FieldTemplateError::Character);
            }
            if !plain.is_empty() {
                pieces.push(FieldPiece::Text(plain.to_owned()));
            }
            if after.is_empty() {
                break;
            }
            let inner = after.strip_prefix('{').ok_or(FieldTemplateError::Brace)?;
            let (name, after) = inner.split_once('}').ok_or(FieldTemplateError::Brace)?;
            let of = name.split_once('.').filter(|(_, of)| !of.is_empty());
            pieces.push(match (name, of) {
                ("client", _) => FieldPiece::Client,
                ("host", _) => FieldPiece::Host,
                ("method", _) => FieldPiece::Method,
                ("path", _) => FieldPiece::Path,
                ("certificate.subject", _) => FieldPiece::CertificateSubject,
                ("request-id", _) => FieldPiece::RequestId,
                (_, Some(("query", of))) => FieldPiece::Query(of.to_owned()),
                (_, Some(("header", of))) => FieldPiece::Header(of.to_ascii_lowercase()),
                (_, Some(("cookie", of))) => FieldPiece::Cookie(of.to_owned()),
                (_, Some(("capture", of))) => FieldPiece::Capture(of.to_owned()),
                _ => return Err(FieldTemplateError::Value(name.to_owned())),
            });
            rest = after;
        }
        Ok(Self(pieces))
    }
}

impl FieldTemplate {
    /// The groups of a regular expression that it names.
    pub fn captures(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|piece| match piece {
            FieldPiece::Capture(name) => Some(name.as_str()),
            _ => None,
        })
    }

    /// The value for a request. What a client says can't break out of the field: only printable ASCII of it is kept.
    fn render(&self, facts: &RuleFacts<'_>, pattern: Option<&Pattern>) -> String {
        let mut value = String::new();
        for piece in &self.0 {
            match piece {
                FieldPiece::Text(text) => value.push_str(text),
                FieldPiece::Client => value.push_str(&client(facts.client)),
                FieldPiece::Host => {
                    push_printable(&mut value, &facts.host.map(host_name).unwrap_or_default())
                }
                FieldPiece::Method => push_printable(&mut value, facts.method.as_bytes()),
                FieldPiece::Path => {
                    let path = facts.target.split('?').next().unwrap_or_default();
                    push_printable(&mut value, path.as_bytes());
                }
                FieldPiece::Query(name) => {
                    let query = facts.target.split_once('?').map_or("", |(_, query)| query);
                    let pairs = query.split('&').map(|pair| pair.split_once('=').unwrap_or((pair, "")));
                    if let Some((_, found)) = pairs.into_iter().find(|(key, _)| key == name) {
                        push_printable(&mut value, found.as_bytes());
                    }
                }
                FieldPiece::Header(name) => push_first(&mut value, facts, name, |field| Some(field)),
                FieldPiece::CertificateSubject => {
                    push_printable(&mut value, (facts.certificate_subject)().as_bytes());
                }
                FieldPiece::RequestId => push_first(&mut value, facts, "x-request-id", |field| Some(field)),
                FieldPiece::Cookie(name) => {
                    push_first(&mut value, facts, "cookie", |field| cookie_values(field, name).next());
                }
                FieldPiece::Capture(name) => {
                    let path = request_path::read(facts.target).bytes;
                    if let Some(found) = pattern.and_then(|pattern| pattern.group(&path, name)) {
                        push_printable(&mut value, found);
                    }
                }
            }
        }
        value.trim().to_owned()
    }
}

fn client(address: IpAddr) -> String {
    address.to_canonical().to_string()
}

fn push_first(value: &mut String, facts: &RuleFacts<'_>, name: &str, find: impl Fn(&[u8]) -> Option<&[u8]>) {
    (facts.any_field)(name, &mut |field| {
        let found = find(field);
        found.inspect(|found| push_printable(value, found)).is_some()
    });
}

fn push_printable(value: &mut String, bytes: &[u8]) {
    value.extend(bytes.iter().filter(|byte| (0x20..0x7f).contains(*byte)).map(|byte| char::from(*byte)));
}

/// What one rule changes.
#[derive(Clone, Debug)]
pub struct RuleEdits {
    when: Condition,
    path: Option<LocationTemplate>,
    host: Option<FieldTemplate>,
    request: FieldEdits,
    response: FieldEdits,
    first_byte: Option<Duration>,
    whole_response: Option<Duration>,
    persistence: Option<RulePersistence>,
    label: Option<FieldTemplate>,
}

#[derive(Clone, Debug, Default)]
struct FieldEdits {
    remove: Vec<String>,
    set: Vec<(String, FieldTemplate)>,
    add: Vec<(String, FieldTemplate)>,
}

/// What is changed about one request and its response.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RequestEdits {
    /// The target that servers get, where it is another one.
    pub target: Option<String>,
    /// The host that servers get, where it is another one.
    pub host: Option<String>,
    /// Fields of the request.
    pub request: FieldChanges,
    /// Fields of the response.
    pub response: FieldChanges,
    /// Longest time until the first byte of the response, where it is another one than the server's.
    pub first_byte: Option<Duration>,
    /// Longest time from there to its end, where it is another one than the server's.
    pub whole_response: Option<Duration>,
    /// Whether pins count, where a rule decides that.
    pub persistence: Option<RulePersistence>,
    /// What the request is called.
    pub label: Option<String>,
}

/// Fields that are taken out, and fields that are put in after that.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FieldChanges {
    /// Names of fields that are taken out, in lower case, those that are set among them.
    pub removed: Vec<String>,
    /// Names and values of fields that are put in.
    pub added: Vec<(String, String)>,
}

impl FieldChanges {
    /// Whether nothing changes.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.removed.is_empty() && self.added.is_empty()
    }

    /// Whether a field is taken out.
    #[must_use]
    pub fn removes(&self, name: &str) -> bool {
        self.removed.iter().any(|removed| removed.eq_ignore_ascii_case(name))
    }

    fn apply(&mut self, edits: &FieldEdits, render: impl Fn(&FieldTemplate) -> String) {
        for name in &edits.remove {
            self.take_out(name);
        }
        for (name, template) in &edits.set {
            self.take_out(name);
            let value = render(template);
            // A field that would say nothing is left out.
            if !value.is_empty() {
                self.added.push((name.clone(), value));
            }
        }
        let more = edits.add.iter().map(|(name, template)| (name.clone(), render(template)));
        self.added.extend(more.filter(|(_, value)| !value.is_empty()));
    }

    fn take_out(&mut self, name: &str) {
        self.added.retain(|(added, _)| !added.eq_ignore_ascii_case(name));
        if !self.removes(name) {
            self.removed.push(name.to_ascii_lowercase());
        }
    }
}

impl RequestEdits {
    /// What is decided about the request besides its fields and its target, in a few words each.
    #[must_use]
    pub fn decisions(&self) -> Vec<String> {
        let within =
            |what: &str, time: Option<Duration>| time.map(|time| format!("{what} within {}", humane(time)));
        let all = [
            self.label.as_ref().map(|label| format!("label {label}")),
            within("first byte", self.first_byte),
            within("response", self.whole_response),
            (self.persistence == Some(RulePersistence::None)).then(|| "without persistence".to_owned()),
        ];
        all.into_iter().flatten().collect()
    }
}

impl RuleEdits {
    /// What a rule changes; `None` when it changes nothing.
    #[must_use]
    pub fn of(rule: &RuleSpec) -> Option<Self> {
        let changes = &rule.changes;
        let templates = |fields: &BTreeMap<String, String>| {
            fields.iter().filter_map(|(name, value)| Some((name.clone(), value.parse().ok()?))).collect()
        };
        let edits = Self {
            when: rule.when.clone(),
            path: changes.rewrite_path.clone(),
            host: changes.rewrite_host.as_ref().and_then(|host| host.parse().ok()),
            request: FieldEdits {
                remove: changes.remove_request_fields.clone(),
                set: templates(&changes.set_request_fields),
                add: templates(&changes.add_request_fields),
            },
            response: FieldEdits {
                remove: changes.remove_response_fields.clone(),
                set: templates(&changes.set_response_fields),
                add: templates(&changes.add_response_fields),
            },
            first_byte: changes.first_byte_timeout.map(Span::get),
            whole_response: changes.response_timeout.map(Span::get),
            persistence: changes.persistence,
            label: changes.request_label.as_ref().and_then(|label| label.parse().ok()),
        };
        (*changes != RuleChanges::default()).then_some(edits)
    }

    /// Adds what the rule changes about a request to what rules before it do.
    pub fn apply(&self, facts: &RuleFacts<'_>, edits: &mut RequestEdits) {
        let pattern = path_pattern(self.when.tree());
        let render = |template: &FieldTemplate| template.render(facts, pattern);
        if let Some(path) = &self.path {
            let host = facts.host.map(host_name).unwrap_or_default();
            let rewritten = path.render(TemplateFacts {
                host: &String::from_utf8_lossy(&host),
                target: facts.target,
                prefix: met_prefix(&self.when, facts.target),
                pattern,
            });
            let query = facts.target.find('?').map_or("", |at| &facts.target[at..]);
            let keeps_query = !path.says_query();
            edits.target = Some(if keeps_query { rewritten + query } else { rewritten });
        }
        if let Some(host) = &self.host {
            edits.host = Some(render(host)).filter(|host| is_host(host)).or(edits.host.take());
        }
        edits.request.apply(&self.request, render);
        edits.response.apply(&self.response, render);
        edits.first_byte = self.first_byte.or(edits.first_byte);
        edits.whole_response = self.whole_response.or(edits.whole_response);
        edits.persistence = self.persistence.or(edits.persistence);
        if let Some(label) = &self.label {
            let mut label = render(label);
            label.truncate(LONGEST_LABEL);
            edits.label = Some(label).filter(|label| !label.is_empty());
        }
    }
}

/// Whether what a client says made a host of a template.
fn is_host(text: &str) -> bool {
    let is_label = |label: &str| {
        !label.is_empty()
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_'))
    };
    match text.rsplit_once(':') {
        // An address of IPv6 stands in brackets as it is written in the document.
        _ if text.starts_with('[') => {
            text.bytes().all(|byte| byte.is_ascii_hexdigit() || b":.[]".contains(&byte))
        }
        Some((host, port)) => host.split('.').all(is_label) && port.parse::<u16>().is_ok(),
        None => text.split('.').all(is_label),
    }
}

/// The regular expression that a condition compares the path with.
#[must_use]
pub fn path_pattern(tree: &Tree) -> Option<&Pattern> {
    match tree {
        Tree::Test(Test { fact: Fact::Path, comparison: TestComparison::Matches(pattern) }) => Some(pattern),
        Tree::All(parts) | Tree::Any(parts) => parts.iter().find_map(path_pattern),
        Tree::Always | Tree::Not(_) | Tree::Test(_) => None,
    }
}

impl fmt::Display for FieldChanges {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let is_set = |name: &&String| !self.added.iter().any(|(added, _)| added.eq_ignore_ascii_case(name));
        let removed = self.removed.iter().filter(is_set).map(|name| format!("without {name}"));
        let added = self.added.iter().map(|(name, value)| format!("with {name}: {value}"));
        f.write_str(&removed.chain(added).collect::<Vec<_>>().join(", "))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::RequestVersion;
    use super::*;

    fn fields(name: &str, is_wanted: &mut dyn FnMut(&[u8]) -> bool) -> bool {
        let values: &[&[u8]] = match name {
            "x-tenant" => &[b"blue\r\nX-Evil: 1", b"green"],
            "cookie" => &[b"a=1; visit=xyz"],
            "x-request-id" => &[b"4711"],
            _ => &[],
        };
        values.iter().any(|value| is_wanted(value))
    }

    fn facts(target: &'static str) -> RuleFacts<'static> {
        RuleFacts {
            client: "::ffff:192.0.2.7".parse().unwrap(),
            method: "GET",
            target,
            path: None,
            host: Some(b"Booking.skerry.example:8080"),
            server_name: None,
            has_certificate: false,
            certificate_subject: &|| "O=Skerry Lines, CN=kiosk\r\n7".to_owned(),
            version: RequestVersion::One,
            local: "192.0.2.10:80".parse().unwrap(),
            any_field: &fields,
        }
    }

    #[rstest]
    #[case("plain", "plain")]
    #[case("{client} at {host}", "192.0.2.7 at booking.skerry.example")]
    #[case("{method} {path}", "GET /v7/ferry")]
    #[case("{query.day}-{query.none}", "3-")]
    #[case("{header.X-Tenant}", "blueX-Evil: 1")]
    #[case("{cookie.visit}", "xyz")]
    #[case("id {request-id}", "id 4711")]
    #[case("{certificate.subject}", "O=Skerry Lines, CN=kiosk7")]
    #[case("version {capture.number}", "version 7")]
    fn values_are_filled_in_and_break_out_of_nothing(#[case] template: &str, #[case] value: &str) {
        let template: FieldTemplate = template.parse().unwrap();
        let pattern: Pattern = "^/v(?P<number>[0-9]+)/".parse().unwrap();
        assert_eq!(template.render(&facts("/v7/ferry?day=3"), Some(&pattern)), value);
    }

    #[rstest]
    #[case("{", FieldTemplateError::Brace)]
    #[case("a}", FieldTemplateError::Brace)]
    #[case("{day}", FieldTemplateError::Value("day".to_owned()))]
    #[case("{query.}", FieldTemplateError::Value("query.".to_owned()))]
    #[case("a\r\nb", FieldTemplateError::Character)]
    fn mistakes_are_named(#[case] template: &str, #[case] error: FieldTemplateError) {
        assert_eq!(template.parse::<FieldTemplate>(), Err(error));
    }

    #[rstest]
    #[case("inside.example", true)]
    #[case("blue.apps.example:8080", true)]
    #[case("192.0.2.7", true)]
    #[case("[2001:db8::7]:80", true)]
    #[case(".apps.example", false)]
    #[case("a b.apps.example", false)]
    #[case("evil.example/.apps.example", false)]
    #[case("evil.example:80@apps.example", false)]
    #[case("a.example:http", false)]
    fn only_a_host_is_taken_for_one(#[case] text: &str, #[case] is_one: bool) {
        assert_eq!(is_host(text), is_one);
    }

    #[test]
    fn fields_that_are_added_stand_beside_others() {
        let mut changes = FieldChanges::default();
        let template = |value: &str| value.parse::<FieldTemplate>().unwrap();
        let edits = FieldEdits {
            remove: Vec::new(),
            set: vec![("Link".to_owned(), template("one"))],
            add: vec![("Link".to_owned(), template("two")), ("X-None".to_owned(), template("{query.none}"))],
        };
        changes.apply(&edits, |template| template.render(&facts("/"), None));
        let added = ["one", "two"].map(|value| ("Link".to_owned(), value.to_owned()));
        assert_eq!((changes.added, changes.removed), (added.to_vec(), vec!["link".to_owned()]));
    }

    #[test]
    fn what_a_later_rule_says_of_a_field_counts() {
        let mut changes = FieldChanges::default();
        let edits = |name: &str, value: &str| FieldEdits {
            remove: vec!["X-Old".to_owned()],
            set: vec![(name.to_owned(), value.parse().unwrap())],
            add: Vec::new(),
        };
        let render = |template: &FieldTemplate| template.render(&facts("/"), None);
        changes.apply(&edits("X-Tenant", "one"), render);
        changes.apply(&edits("x-tenant", "two"), render);
        changes.apply(&edits("X-Empty", "{query.none}"), render);
        assert_eq!(changes.added, [("x-tenant".to_owned(), "two".to_owned())]);
        assert_eq!(changes.removed, ["x-old", "x-tenant", "x-empty"]);
        assert_eq!(changes.to_string(), "without x-old, without x-empty, with x-tenant: two");
    }
}
