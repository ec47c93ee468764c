//! Every declaration of a key is held against the reader: defaults, bounds, choices and examples are what they say.

use rstest::rstest;
use serde_json::{Map, Value, json};

use super::super::decode::TextFormat;
use super::super::key::{DefaultValue, Range, Shape};
use super::super::keys::{self, HOMES, ObjectKey};
use super::super::{Document, Problem, defaults, read_value};
use crate::config::object::ObjectKind;

/// The pointer to an object of a kind in a document, and what stands around it.
fn document(kind: ObjectKind, object: Value) -> (Value, String) {
    let home = HOMES.iter().find(|(of, _)| *of == kind).expect("a kind with a home").1;
    let (around, path) = match kind {
        ObjectKind::Server | ObjectKind::Lookup => {
            (json!({ "pools": { "p": { home: { "a": object } } } }), format!("/pools/p/{home}/a"))
        }
        ObjectKind::Network => (json!({ home: { "a": object["prefixes"] } }), format!("/{home}/a")),
        _ => (json!({ home: { "a": object } }), format!("/{home}/a")),
    };
    let mut document = around;
    document["format"] = 3.into();
    (document, path)
}

fn read(kind: ObjectKind, object: &Map<String, Value>) -> Result<Document, Vec<Problem>> {
    read_value(document(kind, nested(object)).0)
}

/// Keys of tables inside, from paths.
fn nested(object: &Map<String, Value>) -> Value {
    let mut whole = json!({});
    for (path, value) in object {
        super::super::tree::put(
            &mut whole,
            &path.split('.').map(str::to_owned).collect::<Vec<_>>(),
            value.clone(),
        );
    }
    whole
}

fn example(declared: &ObjectKey) -> Value {
    let key = declared.key;
    let text = |format: &'static TextFormat| {
        let format = key.format.unwrap_or(format);
        if key.example.is_empty() { format.example } else { key.example }.to_owned()
    };
    match key.shape {
        Shape::Text { format } => text(format).into(),
        Shape::Number if key.example.is_empty() => match key.range {
            Range::Numbers { least, .. } => least.into(),
            Range::None | Range::Texts { .. } => 1.into(),
        },
        Shape::Number => key.example.parse::<i64>().expect("an example of a number").into(),
        Shape::Choice { names, .. } => names[0].into(),
        Shape::List { of: Shape::Text { format } } => json!([text(format)]),
        _ => panic!("{} has no example", declared.path),
    }
}

/// An object with what it needs beside the key, for each value of a deciding key that the key exists with.
fn objects_around(kind: ObjectKind, declared: &ObjectKey) -> Vec<Map<String, Value>> {
    let deciding = declared.when.clone().or_else(|| {
        let key = declared.key.choices.map(|choices| choices.key);
        let key = key.or(match declared.key.default {
            DefaultValue::ByKey { key, .. } => Some(key),
            _ => None,
        })?;
        let decides = keys::of(kind).iter().find(|known| known.path == key).expect("the deciding key");
        let Shape::Choice { names, .. } = decides.key.shape else { panic!("{key} decides") };
        Some(keys::DecidedBy { key: decides.key.name, values: names.to_vec() })
    });
    let with = |decided: Option<(&str, &str)>| {
        let mut object = Map::new();
        if let Some((key, value)) = decided {
            object.insert(key.to_owned(), value.into());
        }
        for needed in keys::of(kind) {
            let exists = needed.when.as_ref().is_none_or(|when| {
                object.get(when.key).and_then(Value::as_str).is_some_and(|value| when.values.contains(&value))
            });
            let in_its_group = needed.is_needed_in_group && needed.group == declared.group;
            if (needed.is_needed || in_its_group) && exists && !object.contains_key(&needed.path) {
                object.insert(needed.path.clone(), example(needed));
            }
        }
        // A notification goes somewhere.
        if kind == ObjectKind::Notification && declared.group != "E-mail" {
            object.insert("webhook".to_owned(), "https://bell.skerry.example/hook".into());
        }
        // Keys that mean nothing without each other.
        for (one, other) in [
            ("authority", "names"),
            ("external_account", "external_account_key"),
            ("tsig_key", "tsig_secret"),
        ] {
            for (given, missing) in [(one, other), (other, one)] {
                let missing = keys::of(kind).iter().find(|known| known.path == missing);
                if let Some(missing) = missing.filter(|_| declared.path == given) {
                    object.insert(missing.path.clone(), example(missing));
                }
            }
        }
        // A certificate comes from somewhere.
        if kind == ObjectKind::Certificate
            && !["self_signed", "authority", "names"].contains(&declared.path.as_str())
        {
            for key in ["chain", "key"] {
                object.insert(key.to_owned(), "file:/etc/merismos/secrets/booking.pem".into());
            }
        }
        object
    };
    match deciding {
        Some(decided) => decided.values.iter().map(|value| with(Some((decided.key, value)))).collect(),
        None => vec![with(None)],
    }
}

fn all() -> impl Iterator<Item = (ObjectKind, &'static ObjectKey)> {
    HOMES.iter().flat_map(|(kind, _)| keys::of(*kind).iter().map(move |declared| (*kind, declared)))
}

#[test]
fn every_key_says_what_it_means() {
    for (kind, declared) in all() {
        let help = declared.key.help;
        assert!(
            help.ends_with('.') && help.split_whitespace().count() > 2,
            "{kind} {}: {help:?}",
            declared.path
        );
        assert!(
            !declared.group.is_empty() || declared.key.is_basic || declared.holds_objects(),
            "{kind} {}",
            declared.path
        );
    }
}

#[test]
fn a_default_is_what_holds_without_the_key() {
    let mut held = 0;
    for (kind, declared) in all() {
        for object in objects_around(kind, declared) {
            let of = |key: &str, values: &[(&str, &'static str)]| {
                values
                    .iter()
                    .find(|(value, _)| object.get(key) == Some(&(*value).into()))
                    .map(|(_, text)| *text)
            };
            let text = match declared.key.default {
                DefaultValue::Value(text) => Some(text),
                DefaultValue::ByKey { key, values } => of(key, values),
                DefaultValue::None | DefaultValue::Described(_) => None,
            };
            let Some(text) = text else { continue };
            let mut said = object.clone();
            said.insert(declared.path.clone(), defaults::json(declared.key, text));
            let without =
                read(kind, &object).unwrap_or_else(|wrong| panic!("{kind} {}: {wrong:?}", declared.path));
            let with =
                read(kind, &said).unwrap_or_else(|wrong| panic!("{kind} {}: {wrong:?}", declared.path));
            // The keys of TLS are one table: any of them makes the check, or the connections to servers, speak TLS.
            let is_optional = match kind {
                ObjectKind::Check => object["kind"] == "http",
                other => other == ObjectKind::Pool,
            };
            if declared.path == "tls" && is_optional {
                continue;
            }
            assert_eq!(with, without, "{kind} {} = {text}", declared.path);
            held += 1;
        }
    }
    assert!(held > 60, "{held} defaults");
}

#[test]
fn the_ends_of_a_range_are_inside_and_what_is_beyond_is_not() {
    let mut held = 0;
    for (kind, declared) in all()
        .filter(|(_, declared)| matches!(declared.key.shape, Shape::Number | Shape::Duration | Shape::Size))
    {
        let (ends, beyond): ([Value; 2], Vec<Value>) = match declared.key.range {
            Range::Numbers { least, most } => {
                ([least.into(), most.into()], vec![(least - 1).into(), (most + 1).into()])
            }
            Range::Texts { least, most } => {
                ([least.into(), most.into()], vec!["1000000h".into(), "1000000GiB".into(), "some".into()])
            }
            Range::None => panic!("{kind} {} has no range", declared.path),
        };
        for object in objects_around(kind, declared) {
            let with = |value: &Value| {
                let mut object = object.clone();
                object.insert(declared.path.clone(), value.clone());
                read(kind, &object)
            };
            for end in &ends {
                assert!(with(end).is_ok(), "{kind} {} = {end}: {:?}", declared.path, with(end));
            }
            for value in &beyond {
                let wrong = with(value).expect_err("beyond the range");
                let own = wrong.iter().find(|problem| problem.path.ends_with(&declared.path));
                assert!(own.is_some(), "{kind} {} = {value}: {wrong:?}", declared.path);
            }
            held += 1;
        }
    }
    assert!(held > 70, "{held} ranges");
}

#[test]
fn every_choice_is_read_and_written_by_its_name() {
    let mut held = 0;
    for (kind, declared) in all() {
        let Shape::Choice { names, help } = declared.key.shape else { continue };
        for object in objects_around(kind, declared) {
            let here = declared.key.choices.map_or(names, |choices| {
                let value = object[choices.key].as_str().unwrap();
                choices.names.iter().find(|(known, _)| *known == value).unwrap().1
            });
            for name in names {
                assert!(help(name).ends_with('.'), "{kind} {} = {name}: {:?}", declared.path, help(name));
                let mut object = object.clone();
                object.insert(declared.path.clone(), (*name).into());
                // What another choice needs beside is not here.
                if ["kind", "protocol", "records", "challenge", "when_pools_fail"]
                    .contains(&declared.key.name)
                {
                    continue;
                }
                let read = read(kind, &object);
                assert_eq!(read.is_ok(), here.contains(name), "{kind} {} = {name}: {read:?}", declared.path);
                let Ok(read) = read else { continue };
                let pointer = format!("{}/{}", document(kind, json!({})).1, declared.path.replace('.', "/"));
                let written = serde_json::to_value(&read).unwrap();
                let written = written.pointer(&pointer).cloned();
                let is_default = declared.key.default == DefaultValue::Value(name);
                assert!(
                    written == Some((*name).into()) || (is_default && written.is_none()),
                    "{pointer} = {name}: {written:?}"
                );
                held += 1;
            }
        }
    }
    assert!(held > 40, "{held} choices");
}

#[test]
fn every_example_is_right() {
    for (kind, declared) in all() {
        let is_text =
            matches!(declared.key.shape, Shape::Text { .. } | Shape::List { of: Shape::Text { .. } });
        for object in objects_around(kind, declared).into_iter().filter(|_| is_text) {
            let example = example(declared);
            if example == "" || example == json!([""]) {
                continue;
            }
            let mut object = object;
            object.insert(declared.path.clone(), example.clone());
            let read = read(kind, &object);
            assert!(read.is_ok(), "{kind} {} = {example}: {read:?}", declared.path);
        }
    }
}

#[rstest]
#[case::pool(ObjectKind::Pool, "passive_check.failures", "Passive check failures")]
#[case::server(ObjectKind::Server, "connect_timeout", "Connect timeout")]
#[case::check(ObjectKind::Check, "accept", "Expected status")]
fn keys_have_labels(#[case] kind: ObjectKind, #[case] path: &str, #[case] label: &str) {
    let declared = keys::of(kind).iter().find(|declared| declared.path == path).unwrap();
    assert_eq!(declared.label(), label);
}
