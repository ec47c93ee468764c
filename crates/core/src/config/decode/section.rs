//! Tables of the tree while they are read.

use std::collections::BTreeMap;

use super::describe;
use super::value::{KeyValue, expected};
use crate::config::Problem;
use crate::config::key::{DefaultValue, Field, Key, KeyCondition, Keys, Shape};
use crate::config::tree::{DocumentNode, Value};
use crate::name::Name;

/// One table of the tree while it is read: knows its path and which keys it was asked for.
#[derive(Debug)]
pub struct Section<'t, 'p> {
    entries: &'t [(String, usize, DocumentNode)],
    path: String,
    line: usize,
    known: Vec<&'static str>,
    /// Choices that were not given, with their defaults: other keys may depend on them.
    defaults: Vec<(&'static str, &'static str)>,
    /// A key that decides about others could not be read: which others there are is not known.
    undecided: bool,
    problems: &'p mut Vec<Problem>,
}

/// Where a value stands, and where the problems with it are noted.
#[derive(Debug)]
pub struct Place<'a, 'p> {
    /// The path of the table around it.
    pub(in crate::config) around: &'a str,
    /// Its key in that table.
    pub(in crate::config) key: &'a str,
    /// The line of its key.
    pub(in crate::config) line: usize,
    pub(in crate::config) problems: &'p mut Vec<Problem>,
}

impl Place<'_, '_> {
    fn path(&self) -> String {
        join(self.around, self.key)
    }

    /// Notes that a value is not as expected.
    pub(in crate::config) fn mismatch(&mut self, value: &Value, expected: impl Into<String>) {
        self.problem(format!("found {}", describe(value)), expected);
    }

    pub(in crate::config) fn problem(&mut self, found: String, expected: impl Into<String>) {
        let problem = Problem::at(&self.path(), found, expected);
        self.problems.push(Problem { line: Some(self.line), ..problem });
    }

    /// Reads a table with keys of its own.
    pub fn table<T: Keys>(&mut self, node: &DocumentNode) -> Option<T> {
        let mut section = Section::open(node, self.path(), self.line, self.problems)?;
        let read = T::read(&mut section);
        section.close();
        read
    }

    /// Reads values by name.
    pub(in crate::config) fn named<T: KeyValue>(
        &mut self,
        node: &DocumentNode,
        key: &'static Key,
    ) -> BTreeMap<Name, T> {
        self.pairs(node, key, |name| name.parse().map_err(|error: crate::name::NameError| error.to_string()))
    }

    /// Reads values by some text that is read by `parse`.
    pub(in crate::config) fn pairs<K: Ord, T: KeyValue>(
        &mut self,
        node: &DocumentNode,
        key: &'static Key,
        parse: impl Fn(&str) -> Result<K, String>,
    ) -> BTreeMap<K, T> {
        let mut pairs = BTreeMap::new();
        let Value::Table(entries) = &node.value else {
            self.mismatch(&node.value, "a table with keys");
            return pairs;
        };
        let around = self.path();
        for (name, line, node) in entries {
            let mut place = Place { around: &around, key: name, line: *line, problems: &mut *self.problems };
            let parsed = parse(name);
            if let Err(expected) = &parsed {
                place.problem(format!("found the name {name:?}"), expected.as_str());
            }
            let value = T::read(node, &mut place, key);
            if let (Ok(name), Some(value)) = (parsed, value) {
                pairs.insert(name, value);
            }
        }
        pairs
    }
}

fn join(around: &str, key: &str) -> String {
    if around.is_empty() { key.to_owned() } else { format!("{around}.{key}") }
}

impl<'t, 'p> Section<'t, 'p> {
    pub(in crate::config) fn open(
        node: &'t DocumentNode,
        path: String,
        line: usize,
        problems: &'p mut Vec<Problem>,
    ) -> Option<Self> {
        if let Value::Table(entries) = &node.value {
            return Some(Self {
                entries,
                path,
                line,
                known: Vec::new(),
                defaults: Vec::new(),
                undecided: false,
                problems,
            });
        }
        let problem = Problem::at(&path, format!("found {}", describe(&node.value)), "a table with keys");
        problems.push(Problem { line: Some(node.line), ..problem });
        None
    }

    fn entry(&self, key: &str) -> Option<(usize, &'t DocumentNode)> {
        self.entries.iter().find(|(name, _, _)| name == key).map(|(_, line, node)| (*line, node))
    }

    /// Whether a key stands in the table.
    pub fn holds(&self, key: &str) -> bool {
        self.entry(key).is_some()
    }

    fn place<'s>(&'s mut self, key: &'s str, line: usize) -> Place<'s, 's> {
        Place { around: &self.path, key, line, problems: &mut *self.problems }
    }

    /// Notes a problem with a key, or with its absence.
    pub fn problem(&mut self, key: &str, found: &str, expected: &str) {
        let line = self.entry(key).map_or(self.line, |(line, _)| line);
        self.place(key, line).problem(found.to_owned(), expected);
    }

    /// Reads the key that a field declares: its value, else its default, else what its type is without one. `None`, with a problem noted,
    /// when it has to be given and is not there, or can't be read.
    pub(crate) fn field<T: KeyValue>(&mut self, field: &'static Field) -> Option<T> {
        let Field::Key(key) = field else { unreachable!("the derive takes other fields for inline ones") };
        self.known.push(key.name);
        match self.applies(key.when) {
            Some(true) => {}
            Some(false) => {
                self.known.pop();
                return T::absent();
            }
            None => return T::absent(),
        }
        let Some((line, node)) = self.entry(key.name) else {
            if key.is_needed() {
                self.missing(key);
                return None;
            }
            if let (Shape::Choice { .. }, DefaultValue::Value(text)) = (key.shape, key.default) {
                self.defaults.push((key.name, text));
            }
            return self.default(key).or_else(T::absent);
        };
        let choices = self.choices(key);
        if let (Some(names), Value::Text(text)) = (choices, &node.value)
            && !names.contains(&text.as_str())
        {
            self.place(key.name, line).mismatch(&node.value, quoted(names));
            return self.default(key).or_else(T::absent);
        }
        let read = T::read(node, &mut self.place(key.name, line), key);
        // What is wrong was noted; the rest of the object is read as if it had not been given.
        if read.is_none() && !key.is_needed() { self.default(key).or_else(T::absent) } else { read }
    }

    fn missing(&mut self, key: &Key) {
        let right = if !key.expected.is_empty() {
            key.expected.to_owned()
        } else if matches!(key.shape, Shape::Choice { .. }) {
            format!("{} = {}", key.name, expected(key))
        } else if key.example.is_empty() {
            format!("{} = ... with {}", key.name, expected(key))
        } else {
            let example = match key.shape {
                Shape::Number | Shape::Flag => key.example.to_owned(),
                Shape::List { .. } | Shape::OneOrMore { .. } => format!("[{:?}]", key.example),
                _ => format!("{:?}", key.example),
            };
            format!("{} = {example}: {}", key.name, key.help)
        };
        self.problem(key.name, &format!("the key {} is missing", key.name), &right);
    }

    /// The default of a key in this table.
    fn default<T: KeyValue>(&self, key: &'static Key) -> Option<T> {
        let text = match key.default {
            DefaultValue::Value(text) => Some(text),
            DefaultValue::ByKey { key, values } => {
                let of = self.text(key)?;
                values.iter().find(|(value, _)| *value == of).map(|(_, text)| *text)
            }
            DefaultValue::None | DefaultValue::Described(_) => self.choices(key)?.first().copied(),
        };
        text.map(|text| T::from_default(text, key))
    }

    /// Which words a key may have beside the other values of this table.
    fn choices(&self, key: &Key) -> Option<&'static [&'static str]> {
        let choices = key.choices?;
        let of = self.text(choices.key)?;
        choices.names.iter().find(|(value, _)| *value == of).map(|(_, names)| *names)
    }

    /// The number of a key.
    pub fn number(&self, key: &str) -> Option<i64> {
        match self.entry(key)?.1.value {
            Value::Number(number) => Some(number),
            _ => None,
        }
    }

    /// The text of a key.
    pub fn text(&self, key: &str) -> Option<&'t str> {
        match &self.entry(key)?.1.value {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Whether a condition is met; `None` when the key that decides could not be read.
    fn applies(&mut self, when: Option<KeyCondition>) -> Option<bool> {
        let Some(when) = when else { return Some(true) };
        let default = || self.defaults.iter().find(|(key, _)| *key == when.key).map(|(_, text)| *text);
        match self.text(when.key).or_else(default) {
            Some(text) if !self.undecided => Some(when.values.contains(&text)),
            _ => {
                self.undecided = true;
                None
            }
        }
    }

    /// Reads the keys of another type from the same table.
    pub fn inline<T: Keys>(&mut self, field: &'static Field) -> Option<T> {
        debug_assert!(matches!(field, Field::Inline { .. }), "the derive takes fields with keys for others");
        T::read(self)
    }

    /// Reads the keys of another type from the same table, if its condition is met, or, where it has none, if any of them is given.
    // A value that is wrong and one that is not there are two things.
    #[allow(clippy::option_option)]
    pub fn inline_option<T: Keys>(&mut self, field: &'static Field) -> Option<Option<T>> {
        let Field::Inline { fields, when, .. } = field else {
            unreachable!("the derive takes these for keys")
        };
        let applies = match when {
            Some(when) => self.applies(Some(*when)).unwrap_or(false),
            None => self.any_of(fields),
        };
        if applies {
            return T::read(self).map(Some);
        }
        if when.is_none() {
            self.known.extend(names(fields));
        }
        Some(None)
    }

    fn any_of(&self, fields: &'static [Field]) -> bool {
        names(fields).any(|name| self.holds(name))
    }

    /// Reads the key that decides which others there are.
    pub fn tag(&mut self, field: &'static Field) -> Option<&'t str> {
        let Field::Key(key) = field else { unreachable!("a tag is a key") };
        self.known.push(key.name);
        let Shape::Choice { names, .. } = key.shape else { unreachable!("a tag is one of a few words") };
        let Some((line, node)) = self.entry(key.name) else {
            self.missing(key);
            self.undecided = true;
            return None;
        };
        match &node.value {
            Value::Text(text) if names.contains(&text.as_str()) => Some(text),
            other => {
                self.place(key.name, line).mismatch(other, quoted(names));
                self.undecided = true;
                None
            }
        }
    }

    /// Says which keys are unknown.
    pub(in crate::config) fn close(self) {
        if self.undecided {
            return;
        }
        for (key, line, _) in self.entries {
            if self.known.contains(&key.as_str()) {
                continue;
            }
            let nearest = self
                .known
                .iter()
                .max_by(|a, b| strsim::jaro_winkler(a, key).total_cmp(&strsim::jaro_winkler(b, key)));
            let expected = match nearest {
                Some(near) if strsim::jaro_winkler(near, key) > 0.8 => format!("the key {near}"),
                _ => format!("one of the keys {}", self.known.join(", ")),
            };
            let problem =
                Problem::at(&join(&self.path, key), format!("there is no key {key:?} here"), expected);
            self.problems.push(Problem { line: Some(*line), ..problem });
        }
    }
}

/// Words in quotes, as a choice: `"a", "b" or "c"`.
pub(in crate::config) fn quoted(names: &[&str]) -> String {
    let quoted: Vec<String> = names.iter().map(|name| format!("{name:?}")).collect();
    match quoted.split_last() {
        Some((last, rest)) if !rest.is_empty() => format!("{} or {last}", rest.join(", ")),
        _ => quoted.concat(),
    }
}

/// The names of keys.
fn names(fields: &'static [Field]) -> Box<dyn Iterator<Item = &'static str>> {
    Box::new(fields.iter().flat_map(|field| match field {
        Field::Key(key) => Box::new(std::iter::once(key.name)) as Box<dyn Iterator<Item = &'static str>>,
        Field::Inline { fields, .. } => names(fields),
    }))
}
