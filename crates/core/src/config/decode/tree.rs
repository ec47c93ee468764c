//! Text as a tree of values that know their lines: the common form of TOML and JSON documents.

use serde::{Deserialize, Serialize};
use toml::de::{DeTable, DeValue};

use crate::config::Problem;

/// How a document is written down.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum DocumentFormat {
    /// TOML 1.0.
    Toml,
    /// JSON (RFC 8259).
    Json,
}

/// A value and the line on which it begins.
#[derive(Clone, Debug)]
pub struct DocumentNode {
    /// The line, from 1; 0 for a value that stands in no text.
    pub line: usize,
    /// The value at this place of the document.
    pub value: Value,
}

/// What a [`DocumentNode`] holds.
#[derive(Clone, Debug)]
pub enum Value {
    /// A text, unescaped.
    Text(String),
    /// A whole number of 64 bits with a sign.
    Number(i64),
    /// A flag: true or false.
    Flag(bool),
    /// A list; its items have lines of their own.
    List(Vec<DocumentNode>),
    /// Keys in the order of the text, each with its own line.
    Table(Vec<(String, usize, DocumentNode)>),
    /// A kind of value that no key of a document takes (a fraction, a date, null), as it was written.
    Other(String),
}

impl From<serde_json::Value> for DocumentNode {
    fn from(value: serde_json::Value) -> Self {
        use serde_json::Value as Json;

        let value = match value {
            Json::String(text) => Value::Text(text),
            Json::Number(number) => {
                number.as_i64().map_or_else(|| Value::Other(number.to_string()), Value::Number)
            }
            Json::Bool(flag) => Value::Flag(flag),
            Json::Array(items) => Value::List(items.into_iter().map(Self::from).collect()),
            Json::Object(entries) => {
                Value::Table(entries.into_iter().map(|(key, value)| (key, 0, Self::from(value))).collect())
            }
            Json::Null => Value::Other("null".to_owned()),
        };
        Self { line: 0, value }
    }
}

impl DocumentNode {
    /// The child under a key, with the key's own line.
    fn child(&self, key: &str) -> Option<(usize, &Self)> {
        match &self.value {
            Value::Table(entries) => {
                entries.iter().find(|(name, _, _)| name == key).map(|(_, line, node)| (*line, node))
            }
            Value::List(items) => {
                let index: usize = key.parse().ok()?;
                items.get(index).map(|node| (node.line, node))
            }
            Value::Text(_) | Value::Number(_) | Value::Flag(_) | Value::Other(_) => None,
        }
    }

    /// Whether a key path leads to something.
    pub(in crate::config) fn holds(&self, path: &str) -> bool {
        path.split('.').try_fold(self, |node, key| node.child(key).map(|(_, child)| child)).is_some()
    }

    /// The line of a key path, or of the nearest object around it that is in the text.
    #[must_use]
    pub fn line_of(&self, path: &str) -> Option<usize> {
        let mut node = self;
        let mut line = None;
        for key in path.split('.') {
            match node.child(key) {
                Some((at, child)) => (line, node) = (Some(at), child),
                None => break,
            }
        }
        line.filter(|line| *line > 0)
    }

    /// The entries of a table under a key, to be changed.
    pub(in crate::config) fn entries_mut(
        &mut self,
        key: &str,
    ) -> impl Iterator<Item = &mut (String, usize, Self)> {
        let found = match &mut self.value {
            Value::Table(entries) => entries.iter_mut().find(|(name, _, _)| name == key),
            Value::Text(_) | Value::Number(_) | Value::Flag(_) | Value::List(_) | Value::Other(_) => None,
        };
        let inner = found.and_then(|(_, _, node)| match &mut node.value {
            Value::Table(entries) => Some(entries),
            Value::Text(_) | Value::Number(_) | Value::Flag(_) | Value::List(_) | Value::Other(_) => None,
        });
        inner.into_iter().flatten()
    }
}

/// Puts a value at a path of keys, making the tables on the way.
pub(in crate::config) fn put(tree: &mut serde_json::Value, keys: &[String], value: serde_json::Value) {
    let mut place = tree;
    for key in keys {
        if !place.is_object() {
            *place = serde_json::json!({});
        }
        place = &mut place[key.as_str()];
    }
    *place = value;
}

/// Offsets of line starts, to turn a byte offset into a line.
struct LineIndex(Vec<usize>);

impl LineIndex {
    fn of(text: &str) -> Self {
        let after_breaks = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1);
        Self(std::iter::once(0).chain(after_breaks).collect())
    }

    fn at(&self, offset: usize) -> usize {
        self.0.partition_point(|start| *start <= offset).max(1)
    }
}

/// Parses a text.
///
/// # Errors
/// Every error of the syntax that the parser can tell apart.
pub fn parse(text: &str, format: DocumentFormat) -> Result<DocumentNode, Vec<Problem>> {
    let lines = LineIndex::of(text);
    match format {
        DocumentFormat::Toml => parse_toml(text, &lines),
        DocumentFormat::Json => parse_json(text, &lines),
    }
}

fn parse_toml(text: &str, lines: &LineIndex) -> Result<DocumentNode, Vec<Problem>> {
    let (table, errors) = DeTable::parse_recoverable(text);
    if errors.is_empty() {
        return Ok(DocumentNode { line: 1, value: toml_table(table.get_ref(), lines) });
    }
    Err(errors
        .iter()
        .map(|error| {
            let found = format!("this is not TOML: {}", error.message().replace('\n', "; "));
            let line = error.span().map(|span| lines.at(span.start));
            Problem { line, ..Problem::at("", found, "TOML 1.0, such as: weight = 3") }
        })
        .collect())
}

fn toml_table(table: &DeTable<'_>, lines: &LineIndex) -> Value {
    let mut entries: Vec<_> = table
        .iter()
        .map(|(key, value)| {
            let node = DocumentNode {
                line: lines.at(value.span().start),
                value: toml_value(value.get_ref(), lines),
            };
            (key.get_ref().to_string(), lines.at(key.span().start), node)
        })
        .collect();
    entries.sort_by_key(|(_, line, _)| *line);
    Value::Table(entries)
}

fn toml_value(value: &DeValue<'_>, lines: &LineIndex) -> Value {
    match value {
        DeValue::String(text) => Value::Text(text.to_string()),
        DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix())
            .map_or_else(|_| Value::Other(number.to_string()), Value::Number),
        DeValue::Boolean(flag) => Value::Flag(*flag),
        DeValue::Array(items) => Value::List(
            items
                .iter()
                .map(|item| DocumentNode {
                    line: lines.at(item.span().start),
                    value: toml_value(item.get_ref(), lines),
                })
                .collect(),
        ),
        DeValue::Table(table) => toml_table(table, lines),
        DeValue::Float(number) => Value::Other(number.as_str().to_owned()),
        DeValue::Datetime(date) => Value::Other(date.to_string()),
    }
}

/// RFC 8259 and nothing more lenient.
const STRICT_JSON: jsonc_parser::ParseOptions = jsonc_parser::ParseOptions {
    allow_comments: false,
    allow_loose_object_property_names: false,
    allow_trailing_commas: false,
    allow_missing_commas: false,
    allow_single_quoted_strings: false,
    allow_hexadecimal_numbers: false,
    allow_unary_plus_numbers: false,
    allow_bare_decimal_point_numbers: false,
    allow_non_finite_numbers: false,
    allow_extended_string_escapes: false,
};

fn parse_json(text: &str, lines: &LineIndex) -> Result<DocumentNode, Vec<Problem>> {
    let wrong = |line, found: String| {
        let found = format!("this is not JSON: {found}");
        vec![Problem { line: Some(line), ..Problem::at("", found, "one JSON object (RFC 8259)") }]
    };
    let parsed = jsonc_parser::parse_to_ast(text, &jsonc_parser::CollectOptions::default(), &STRICT_JSON)
        .map_err(|error| wrong(error.line_display(), error.kind().to_string()))?;
    let value = parsed.value.ok_or_else(|| wrong(1, "the text is empty".to_owned()))?;
    let mut repeated = Vec::new();
    let node = json_node(&value, lines, &mut repeated);
    if repeated.is_empty() { Ok(node) } else { Err(repeated) }
}

fn json_node(
    value: &jsonc_parser::ast::Value<'_>,
    lines: &LineIndex,
    repeated: &mut Vec<Problem>,
) -> DocumentNode {
    use jsonc_parser::ast::Value as Json;
    use jsonc_parser::common::Ranged;

    let line = lines.at(value.range().start);
    let value = match value {
        Json::StringLit(text) => Value::Text(text.value.to_string()),
        Json::NumberLit(number) => {
            number.value.parse().map_or_else(|_| Value::Other(number.value.to_owned()), Value::Number)
        }
        Json::BooleanLit(flag) => Value::Flag(flag.value),
        Json::NullKeyword(_) => Value::Other("null".to_owned()),
        Json::Array(array) => {
            Value::List(array.elements.iter().map(|item| json_node(item, lines, repeated)).collect())
        }
        Json::Object(object) => {
            let mut entries: Vec<(String, usize, DocumentNode)> = Vec::new();
            let mut seen = std::collections::BTreeSet::new();
            for property in &object.properties {
                let key = property.name.as_str().to_owned();
                let at = lines.at(property.range().start);
                if !seen.insert(key.clone()) {
                    let found = format!("the key {key:?} stands here a second time");
                    let problem = Problem::at(&key, found, "each key once in its object");
                    repeated.push(Problem { line: Some(at), ..problem });
                }
                entries.push((key, at, json_node(&property.value, lines, repeated)));
            }
            Value::Table(entries)
        }
    };
    DocumentNode { line, value }
}
