//! What people read of a key: in the reference, on the command line and in the console's forms.

use serde::Serialize;

use crate::config::key::{DefaultValue, Key, Range, Shape};
use crate::config::keys::{self, DecidedBy, ObjectKey};
use crate::config::object::ObjectKind;

/// A key as forms and help show it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeyHelp {
    /// Its path in the object's table: `weight`, `passive_check.failures`.
    pub key: String,
    /// What forms call it.
    pub label: String,
    /// What the key means, its cost and its dangers.
    pub help: &'static str,
    /// Cost, danger, and what larger and smaller values do; a line is a paragraph.
    #[serde(skip_serializing_if = "str::is_empty")]
    pub about: &'static str,
    /// What its values look like.
    #[serde(rename = "type")]
    pub value: ValueType,
    /// Whether it has to be given.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub needed: bool,
    /// Whether it has to be given as soon as another key of its group is.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub needed_in_group: bool,
    /// Whether a form shows it at once.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub basic: bool,
    /// The heading that it stands under.
    pub group: &'static str,
    /// What holds without it: a value, or words.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub default: String,
    /// A value that is right.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub example: String,
    /// The smallest and the largest value, or how many items there are.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub range: String,
    /// The words that it may be.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub choices: Vec<ChoiceHelp>,
    /// The kind of object that it names.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refers: Option<String>,
    /// The condition under which the key exists; absent when it always does.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub when: Option<DecidedBy>,
    /// When it has an effect.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub effective: Option<DecidedBy>,
    /// Whether people write the text with the escapes of a document.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub escapes: bool,
    /// Whether it is a page, which people keep in files.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub page: bool,
}

/// What values of a key look like, as far as a form has to know.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, strum::Display)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum ValueType {
    /// A text in quotes.
    Text,
    /// A whole number without a unit.
    Number,
    /// A flag: true or false.
    Flag,
    /// One of a few words.
    Choice,
    /// A duration such as `2s`.
    Duration,
    /// A size such as `64KiB`.
    Size,
    /// A list of texts.
    Texts,
    /// A table of texts by name.
    Pairs,
    /// A table of numbers by name.
    Numbers,
    /// Lists of texts by name.
    Lists,
}

/// A word that a key may be.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChoiceHelp {
    /// The word as it is written in a document.
    pub name: &'static str,
    /// What this choice means.
    pub help: &'static str,
    /// When it is one of them.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Object))]
    pub when: Option<DecidedBy>,
}

/// The keys of a kind of object, without those whose entries are objects of their own.
#[must_use]
pub fn of(kind: ObjectKind) -> Vec<KeyHelp> {
    keys::of(kind).iter().filter(|declared| !declared.holds_objects()).map(help).collect()
}

fn help(declared: &ObjectKey) -> KeyHelp {
    let key = declared.key;
    KeyHelp {
        key: declared.path.clone(),
        label: declared.label(),
        help: key.help,
        about: key.about,
        value: value_type(&key.shape),
        needed: declared.is_needed,
        needed_in_group: declared.is_needed_in_group,
        basic: key.is_basic,
        group: declared.group,
        default: default(key),
        example: example(key),
        range: range(key),
        choices: choices(key),
        refers: key.refers.map(|kind| kind.to_string()),
        when: declared.when.clone(),
        effective: declared.effective.clone(),
        escapes: key.has_escapes,
        page: key.is_page(),
    }
}

fn value_type(shape: &Shape) -> ValueType {
    match shape {
        Shape::Text { .. } => ValueType::Text,
        Shape::Duration => ValueType::Duration,
        Shape::Size => ValueType::Size,
        Shape::Number => ValueType::Number,
        Shape::Flag => ValueType::Flag,
        Shape::Choice { .. } => ValueType::Choice,
        Shape::List { .. } | Shape::OneOrMore { .. } => ValueType::Texts,
        Shape::Map { of: Shape::Number, .. } => ValueType::Numbers,
        Shape::Map { of: Shape::List { .. }, .. } => ValueType::Lists,
        Shape::Map { .. } => ValueType::Pairs,
        Shape::Table { .. } => unreachable!("tables are listed key by key"),
    }
}

/// What holds without a key, in words where it is no value.
#[must_use]
pub fn default(key: &Key) -> String {
    match key.default {
        DefaultValue::Value(text) if matches!(key.shape, Shape::List { .. } | Shape::OneOrMore { .. }) => {
            text.replace(' ', ", ")
        }
        DefaultValue::Value(text) | DefaultValue::Described(text) => text.to_owned(),
        DefaultValue::ByKey { values, .. } => by_key(values.iter().map(|(value, text)| (*value, *text))),
        DefaultValue::None => key.choices.map_or_else(String::new, |choices| {
            by_key(choices.names.iter().filter_map(|(value, names)| Some((*value, *names.first()?))))
        }),
    }
}

fn by_key(values: impl Iterator<Item = (&'static str, &'static str)>) -> String {
    values.map(|(value, text)| format!("{value}: {text}")).collect::<Vec<_>>().join(", ")
}

fn example(key: &Key) -> String {
    match key.shape.item() {
        _ if !key.example.is_empty() => key.example.to_owned(),
        Shape::Text { format } => key.format.unwrap_or(format).example.to_owned(),
        _ => String::new(),
    }
}

/// The smallest and the largest value of a key, and how many items it has.
#[must_use]
pub fn range(key: &Key) -> String {
    let values = match key.range {
        Range::None => None,
        Range::Numbers { least, most } => Some(format!("{least} to {most}")),
        Range::Texts { least, most } => Some(format!("{least} to {most}")),
    };
    let items = key.count.map(|count| {
        if count.least == 0 {
            format!("{} items at most", count.most)
        } else {
            format!("{} to {} items", count.least, count.most)
        }
    });
    values.into_iter().chain(items).collect::<Vec<_>>().join(", ")
}

fn choices(key: &Key) -> Vec<ChoiceHelp> {
    let Shape::Choice { names, help } = key.shape.item() else { return Vec::new() };
    let when = |name: &str| {
        let choices = key.choices?;
        let values = choices.names.iter().filter(|(_, names)| names.contains(&name)).map(|(value, _)| *value);
        Some(DecidedBy { key: choices.key, values: values.collect() })
    };
    names.iter().map(|name| ChoiceHelp { name, help: help(name), when: when(name) }).collect()
}

/// The keys of a kind as a table of Markdown.
#[must_use]
pub fn table(kind: ObjectKind) -> String {
    let mut table = String::from("| key | meaning | default | range |\n|---|---|---|---|\n");
    for declared in keys::of(kind) {
        let key = declared.key;
        let for_what = declared.when.as_ref().map_or_else(String::new, |when| {
            let values: Vec<String> = when.values.iter().map(|value| format!("`{value}`")).collect();
            format!("({}) ", values.join(", "))
        });
        let mut meaning = format!("{for_what}{}", key.help);
        for choice in choices(key) {
            meaning += &format!(" `{}`: {}", choice.name, uncapitalised(choice.help));
        }
        if !key.about.is_empty() {
            meaning += " ";
            meaning += &key.about.replace('\n', " ");
        }
        let default = match (declared.is_needed, default(key).as_str()) {
            (true, _) => "needed".to_owned(),
            (false, "") if declared.is_needed_in_group => "needed with the others of its group".to_owned(),
            (false, "") => "none".to_owned(),
            (false, words) => match key.default {
                DefaultValue::Value(_) => format!("`{words}`"),
                _ => words.to_owned(),
            },
        };
        let path =
            if declared.holds_objects() { format!("{}.NAME", declared.path) } else { declared.path.clone() };
        table += &format!("| `{path}` | {} | {default} | {} |\n", meaning.replace('|', "\\|"), range(key));
    }
    table
}

/// A sentence in the middle of a line.
fn uncapitalised(sentence: &str) -> String {
    let second_is_small = sentence.chars().nth(1).is_some_and(|letter| !letter.is_uppercase());
    let mut letters = sentence.chars();
    match letters.next() {
        Some(first) if second_is_small => first.to_lowercase().chain(letters).collect(),
        _ => sentence.to_owned(),
    }
}
