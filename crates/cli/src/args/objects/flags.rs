//! The flags of objects: one for each key that an object of the kind may have, made from the key's declaration.

use std::collections::BTreeMap;
use std::fmt::Debug;
use std::marker::PhantomData;

use clap::builder::PossibleValue;
use clap::{Arg, ArgAction, ArgMatches, Command, FromArgMatches};
use merismos_core::config::key::{Range, Shape};
use merismos_core::config::keys::{self, ObjectKey};
use merismos_core::config::{ObjectKind, key_help};
use merismos_core::text::unescaped;
use serde_json::{Map, Value};

use super::kinds::ObjectFlags;
use crate::args::input;

/// The keys that were given as flags.
pub(crate) struct KeyFlags<K> {
    keys: Map<String, Value>,
    kind: PhantomData<fn() -> K>,
}

impl<K> Debug for KeyFlags<K> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("KeyFlags").field(&self.keys).finish()
    }
}

impl<K> KeyFlags<K> {
    /// The keys, as a document's object has them; those of a table inside are in that table.
    pub(crate) fn into_keys(self) -> Map<String, Value> {
        self.keys
    }
}

impl<K: ObjectFlags> clap::Args for KeyFlags<K> {
    fn augment_args(command: Command) -> Command {
        by_flag(K::KIND).into_iter().fold(command, |command, (_, declared)| command.arg(flag(&declared)))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<K: ObjectFlags> FromArgMatches for KeyFlags<K> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let mut keys = Map::new();
        for (path, declared) in by_flag(K::KIND) {
            if !matches!(matches.value_source(path), Some(clap::parser::ValueSource::CommandLine)) {
                continue;
            }
            let value = value(matches, &declared).map_err(|message| {
                clap::Error::raw(
                    clap::error::ErrorKind::ValueValidation,
                    format!("--{}: {message}\n", long(path)),
                )
            })?;
            match path.split_once('.') {
                None => drop(keys.insert(path.to_owned(), value)),
                Some((table, key)) => {
                    let table = keys.entry(table).or_insert_with(|| Value::Object(Map::new()));
                    table[key] = value;
                }
            }
        }
        Ok(Self { keys, kind: PhantomData })
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}

/// The declarations of each flag: a key may mean something else with each value of another one.
fn by_flag(kind: ObjectKind) -> Vec<(&'static str, Vec<&'static ObjectKey>)> {
    let mut flags: Vec<(&'static str, Vec<&'static ObjectKey>)> = Vec::new();
    for declared in keys::of(kind).iter().filter(|declared| !declared.holds_objects()) {
        match flags.iter_mut().find(|(path, _)| *path == declared.path) {
            Some((_, known)) => known.push(declared),
            None => flags.push((&declared.path, vec![declared])),
        }
    }
    flags
}

/// A flag's name: the key's, with hyphens. Labels are given one by one.
fn long(path: &str) -> String {
    if path == "labels" { "label".to_owned() } else { path.replace(['_', '.'], "-") }
}

fn flag(declared: &[&'static ObjectKey]) -> Arg {
    let first = declared[0];
    let flag = Arg::new(first.path.as_str())
        .long(long(&first.path))
        .help(help(declared))
        .help_heading(first.group)
        .value_name(value_name(first))
        .action(ArgAction::Append);
    let is_of_one_shape = declared.iter().all(|other| same_shape(&other.key.shape, &first.key.shape));
    let flag = match first.key.shape.item() {
        Shape::Choice { names, help } if is_of_one_shape => flag.value_parser(
            names.iter().map(|name| PossibleValue::new(name).help(help(name))).collect::<Vec<_>>(),
        ),
        Shape::Number => match first.key.range {
            Range::Numbers { least, most } => flag.value_parser(clap::value_parser!(i64).range(least..=most)),
            Range::None | Range::Texts { .. } => flag.value_parser(clap::value_parser!(i64)),
        },
        Shape::Flag => {
            flag.value_parser(clap::value_parser!(bool)).num_args(0..=1).default_missing_value("true")
        }
        _ if declared.iter().any(|declared| declared.key.is_page()) => flag.value_parser(input::page),
        _ if declared.iter().any(|declared| declared.key.has_escapes) => flag.value_parser(unescaped),
        _ => flag,
    };
    match first.key.shape {
        // Arguments of a program may hold anything, and values of labels and header fields too.
        Shape::List { .. } if first.key.name == "arguments" => flag.allow_hyphen_values(true),
        Shape::List { .. }
        | Shape::OneOrMore { .. }
        | Shape::Map { of: Shape::Number | Shape::List { .. }, .. } => flag.value_delimiter(','),
        Shape::Map { .. } => flag,
        _ => flag.action(ArgAction::Set),
    }
}

fn same_shape(a: &Shape, b: &Shape) -> bool {
    std::mem::discriminant(a) == std::mem::discriminant(b)
}

/// The help of a flag: what the key means, with its default and range.
fn help(declared: &[&'static ObjectKey]) -> String {
    let mut lines = Vec::new();
    for declared in declared {
        let key = declared.key;
        let mut line = String::new();
        if let Some(when) = &declared.when {
            // Keys of nearly every kind are not listed kind by kind.
            if when.values.len() < 5 {
                line += &format!("{}: ", when.values.join(", "));
            }
        }
        line += key.help.trim_end_matches('.');
        if key.is_page() {
            line += "; @FILE is what stands in a file, and @@ begins a text with @";
        }
        if let Some(several) = several(&declared.key.shape) {
            line += several;
        }
        let default = key_help::default(key);
        if !default.is_empty() {
            line += &format!(" [default: {default}]");
        }
        let range = key_help::range(key);
        if !range.is_empty() {
            line += &format!(" [{range}]");
        }
        lines.push(line);
    }
    lines.join("\n")
}

fn several(shape: &Shape) -> Option<&'static str> {
    match shape {
        Shape::List { .. } | Shape::OneOrMore { .. } => Some("; several with commas between"),
        Shape::Map { of: Shape::Number | Shape::List { .. }, .. } => Some("; several with commas between"),
        Shape::Map { .. } => Some("; may be given several times, and NAME= removes one"),
        _ => None,
    }
}

fn value_name(declared: &ObjectKey) -> String {
    let key = declared.key;
    match key.shape.item() {
        Shape::Text { .. } => key.refers.map_or_else(
            || match key.format {
                Some(_) | None if key.name.ends_with("password") || key.name.ends_with("secret") => {
                    "REFERENCE".to_owned()
                }
                Some(_) | None => key.name.rsplit('_').next().unwrap_or(key.name).to_uppercase(),
            },
            |kind| kind.to_string().to_uppercase(),
        ),
        Shape::Duration => "DURATION".to_owned(),
        Shape::Size => "SIZE".to_owned(),
        Shape::Number if key.help.contains("percent") => "PERCENT".to_owned(),
        Shape::Number => "NUMBER".to_owned(),
        Shape::Flag => "BOOL".to_owned(),
        Shape::Choice { .. } => key.name.rsplit('_').next().unwrap_or(key.name).to_uppercase(),
        Shape::Map { of: Shape::Number, .. } if key.name == "pool_weights" => "POOL=WEIGHT".to_owned(),
        Shape::Map { of: Shape::Number, .. } => "NAME=NUMBER".to_owned(),
        Shape::Map { of: Shape::List { .. }, .. } => "POOL=LIST".to_owned(),
        Shape::Map { .. } => "NAME=VALUE".to_owned(),
        Shape::List { .. } | Shape::OneOrMore { .. } | Shape::Table { .. } => "VALUE".to_owned(),
    }
}

/// The value of a key, from its flag.
fn value(matches: &ArgMatches, declared: &[&'static ObjectKey]) -> Result<Value, String> {
    let first = declared[0];
    let id = first.path.as_str();
    let texts = || matches.get_many::<String>(id).into_iter().flatten();
    let text = || texts().next_back().cloned().unwrap_or_default();
    Ok(match &first.key.shape {
        Shape::Number => matches.get_one::<i64>(id).copied().into(),
        Shape::Flag => matches.get_one::<bool>(id).copied().into(),
        Shape::List { .. } | Shape::OneOrMore { .. } => {
            texts().map(String::as_str).collect::<Vec<_>>().into()
        }
        Shape::Map { of, .. } => pairs(texts(), of)?,
        _ => text().into(),
    })
}

/// `NAME=VALUE` pairs as a table; a name without a value is taken away.
fn pairs<'t>(texts: impl Iterator<Item = &'t String>, of: &Shape) -> Result<Value, String> {
    let mut lists: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for text in texts {
        let (name, value) =
            text.split_once('=').ok_or_else(|| format!("a value is written NAME=VALUE; found {text:?}"))?;
        lists.entry(name).or_default().push(value);
    }
    let value = |values: Vec<&str>| -> Result<Value, String> {
        let last = values.last().copied().unwrap_or_default();
        Ok(match of {
            _ if last.is_empty() => Value::Null,
            Shape::List { .. } | Shape::OneOrMore { .. } => values.into(),
            Shape::Number => {
                last.parse::<i64>().map_err(|_| format!("a whole number is wanted; found {last:?}"))?.into()
            }
            _ => last.into(),
        })
    };
    let pairs: Result<Map<String, Value>, String> =
        lists.into_iter().map(|(name, values)| Ok((name.to_owned(), value(values)?))).collect();
    pairs.map(Value::Object)
}
