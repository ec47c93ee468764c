//! The JSON Schema (draft 2020-12) of a document, made from the declarations of its keys.

use std::sync::LazyLock;

use serde_json::{Map, Value, json};

use crate::config::key::{DefaultValue, Field, ItemCount, Key, KeyCondition, Range, Shape};
use crate::config::keys;

static TEXT: LazyLock<String> =
    LazyLock::new(|| serde_json::to_string_pretty(&document()).expect("a schema is JSON") + "\n");

/// The schema as text, for editors that complete and check.
#[must_use]
pub fn text() -> &'static str {
    &TEXT
}

fn document() -> Value {
    let mut schema = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Merismos document",
        "description": "The configuration of a Merismos service: TOML or JSON with the same keys.",
    });
    let Value::Object(table) = table(keys::of_document()) else { unreachable!("a schema is an object") };
    schema.as_object_mut().expect("made above").extend(table);
    schema
}

/// A table with keys of its own.
fn table(fields: &'static [Field]) -> Value {
    let mut properties = Map::new();
    let mut required = Vec::new();
    let mut conditions: Vec<(KeyCondition, Map<String, Value>, Vec<Value>)> = Vec::new();
    let mut beside = Map::new();
    visit(fields, None, None, &mut |key, when, group| {
        let value = value(key);
        let (properties, required) = match when {
            None => (&mut properties, &mut required),
            Some(when) => {
                let at = conditions.iter().position(|(known, ..)| *known == when).unwrap_or_else(|| {
                    conditions.push((when, Map::new(), Vec::new()));
                    conditions.len() - 1
                });
                let (_, properties, required) = &mut conditions[at];
                (properties, required)
            }
        };
        properties.insert(key.name.to_owned(), value);
        match group {
            None if key.is_needed() => required.push(key.name.into()),
            None => {}
            Some(needed) => {
                let others: Vec<_> = needed.iter().filter(|other| **other != key.name).collect();
                if !others.is_empty() {
                    beside.insert(key.name.to_owned(), json!(others));
                }
            }
        }
    });
    let mut schema = json!({ "type": "object", "properties": properties });
    if !required.is_empty() {
        schema["required"] = required.into();
    }
    if !beside.is_empty() {
        schema["dependentRequired"] = beside.into();
    }
    if conditions.is_empty() {
        schema["additionalProperties"] = false.into();
        return schema;
    }
    // Which keys there are depends on others: `additionalProperties` would not see those of the conditions.
    schema["unevaluatedProperties"] = false.into();
    schema["allOf"] = conditions
        .into_iter()
        .map(|(when, properties, required)| {
            let decides =
                json!({ "properties": { when.key: { "enum": when.values } }, "required": [when.key] });
            let mut then = json!({ "properties": properties });
            if !required.is_empty() {
                then["required"] = required.into();
            }
            json!({ "if": decides, "then": then })
        })
        .collect::<Vec<_>>()
        .into();
    schema
}

/// What is done with a key, its condition, and the keys that are needed beside it.
type Visitor<'v> = dyn FnMut(&'static Key, Option<KeyCondition>, Option<&[&'static str]>) + 'v;

/// Visits each key with the condition under which it exists, and with the keys that it needs beside it.
fn visit(
    fields: &'static [Field],
    when: Option<KeyCondition>,
    group: Option<&[&'static str]>,
    each: &mut Visitor<'_>,
) {
    for field in fields {
        match field {
            Field::Key(key) => each(key, key.when.or(when), group),
            Field::Inline { fields, when: own, is_optional: false } => {
                visit(fields, own.or(when), group, each)
            }
            Field::Inline { fields, when: own, is_optional: true } => {
                let needed: Vec<&'static str> = fields
                    .iter()
                    .filter_map(|field| match field {
                        Field::Key(key) if key.is_needed() => Some(key.name),
                        Field::Key(_) | Field::Inline { .. } => None,
                    })
                    .collect();
                visit(fields, own.or(when), Some(&needed), each);
            }
        }
    }
}

fn value(key: &'static Key) -> Value {
    let mut schema = shape(&key.shape, key);
    let about =
        if key.about.is_empty() { key.help.to_owned() } else { format!("{}\n{}", key.help, key.about) };
    schema["description"] = about.into();
    if let DefaultValue::Value(text) = key.default {
        schema["default"] = crate::config::defaults::json(key, text);
    }
    schema
}

fn shape(shape: &Shape, key: &'static Key) -> Value {
    match shape {
        Shape::Text { format } => {
            let format = key.format.unwrap_or(format);
            let mut schema = json!({ "type": "string" });
            if !format.pattern.is_empty() {
                schema["pattern"] = format.pattern.into();
            }
            let example = if key.example.is_empty() { format.example } else { key.example };
            if !example.is_empty() && matches!(key.shape, Shape::Text { .. }) {
                schema["examples"] = json!([example]);
            }
            schema
        }
        Shape::Duration => json!({ "type": "string", "pattern": "^[0-9]+(ms|s|m|h)$" }),
        Shape::Size => json!({ "type": "string", "pattern": "^[0-9]+(B|KiB|MiB|GiB)$" }),
        Shape::Number => {
            let mut schema = json!({ "type": "integer" });
            if let Range::Numbers { least, most } = key.range {
                schema["minimum"] = least.into();
                schema["maximum"] = most.into();
            }
            schema
        }
        Shape::Flag => json!({ "type": "boolean" }),
        Shape::Choice { names, help } => {
            let meant: Vec<Value> =
                names.iter().map(|name| json!({ "const": name, "description": help(name) })).collect();
            json!({ "oneOf": meant })
        }
        Shape::List { of } => list(of, key),
        Shape::OneOrMore { of } => json!({ "anyOf": [self::shape(of, key), list(of, key)] }),
        Shape::Map { names, of } => json!({
            "type": "object",
            "propertyNames": { "pattern": names.pattern },
            "additionalProperties": self::shape(of, key),
        }),
        Shape::Table { fields } => table(fields),
    }
}

/// What a list looks like.
fn list(of: &'static Shape, key: &'static Key) -> Value {
    let mut schema = json!({ "type": "array", "items": shape(of, key) });
    if let Some(ItemCount { least, most }) = key.count {
        schema["minItems"] = least.into();
        schema["maxItems"] = most.into();
    }
    if key.is_distinct {
        schema["uniqueItems"] = true.into();
    }
    schema
}
