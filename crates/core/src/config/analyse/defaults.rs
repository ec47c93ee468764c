//! The defaults of an object's keys, for people who compare.

use std::collections::BTreeMap;
use std::rc::Rc;

use serde_json::{Map, Value};

use crate::config::diff::{PlainKeys, keys};
use crate::config::key::{DefaultValue, Key, Shape};
use crate::config::keys::{self, ObjectKey};
use crate::config::object::{ObjectKind, ObjectPath};
use crate::units::{Size, Span};

/// The keys that decide which others an object has, and with them its defaults.
const DECIDING: [&str; 3] = ["protocol", "kind", "records"];

/// The defaults of objects, as their keys are declared. Those of all objects of one kind whose deciding keys are the same are made once.
#[derive(Default)]
pub(in crate::config) struct Defaults {
    known: BTreeMap<(ObjectKind, [Option<String>; 3]), Rc<PlainKeys>>,
}

impl Defaults {
    /// The defaults of the keys of the object at `path`, of which `own` are given.
    pub(in crate::config) fn of(&mut self, path: &str, own: &PlainKeys) -> Rc<PlainKeys> {
        let Ok(object) = path.parse::<ObjectPath>() else { return Rc::default() };
        let deciding = DECIDING.map(|key| own.get(key).cloned());
        let made = || Rc::new(defaults(object.kind(), own));
        Rc::clone(self.known.entry((object.kind(), deciding)).or_insert_with(made))
    }
}

fn defaults(kind: ObjectKind, own: &PlainKeys) -> PlainKeys {
    let mut values = Map::new();
    for declared in keys::of(kind) {
        let applies = declared
            .when
            .as_ref()
            .is_none_or(|when| own.get(when.key).is_some_and(|value| when.values.contains(&value.as_str())));
        // The keys of a table that is not there have no defaults.
        if let (true, false, Some(text)) = (applies, declared.path.contains('.'), default(declared, own)) {
            values.insert(declared.path.clone(), json(declared.key, text));
        }
    }
    keys(&Value::Object(values))
}

/// The default of a key, as a document writes it.
fn default(declared: &ObjectKey, own: &PlainKeys) -> Option<&'static str> {
    let with = |key: &str, value: &str| own.get(key).is_some_and(|own| own == value);
    match declared.key.default {
        DefaultValue::Value(text) => Some(text),
        DefaultValue::ByKey { key, values } => {
            values.iter().find(|(value, _)| with(key, value)).map(|(_, text)| *text)
        }
        DefaultValue::None | DefaultValue::Described(_) => {
            let choices = declared.key.choices?;
            let (_, names) = choices.names.iter().find(|(value, _)| with(choices.key, value))?;
            names.first().copied()
        }
    }
}

/// A default as a value of JSON.
pub(in crate::config) fn json(key: &Key, text: &str) -> Value {
    match key.shape {
        Shape::Number => text.parse::<i64>().map_or(Value::Null, Value::from),
        Shape::Flag => (text == "true").into(),
        Shape::List { .. } | Shape::OneOrMore { .. } => text.split_whitespace().collect::<Vec<_>>().into(),
        // Equal durations print alike, however they are written.
        Shape::Duration => text.parse::<Span>().map_or(Value::Null, |span| span.to_string().into()),
        Shape::Size => text.parse::<Size>().map_or(Value::Null, |size| size.to_string().into()),
        _ => text.into(),
    }
}
