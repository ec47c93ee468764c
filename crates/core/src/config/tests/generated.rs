//! What is made from the declarations of keys, and kept in files: they have to be what would be made now.
//! `MERISMOS_WRITE_GOLDEN=1 cargo test -p merismos-core generated` writes them.

use std::path::{Path, PathBuf};

use serde_json::{Value, json};

use super::super::keys::HOMES;
use super::super::{json_schema, key_help};
use crate::config::object::ObjectKind;

fn file(path: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path)
}

/// Holds a file against what it should be, or writes it.
fn hold(path: &str, made: &str) {
    let file = file(path);
    if std::env::var_os("MERISMOS_WRITE_GOLDEN").is_some() {
        std::fs::write(&file, made).unwrap();
    }
    let is = std::fs::read_to_string(&file).unwrap();
    assert!(is == made, "{path} is stale: MERISMOS_WRITE_GOLDEN=1 cargo test -p merismos-core generated");
}

#[test]
fn the_schema_is_the_one_of_the_keys() {
    hold("docs/reference/document.schema.json", json_schema::text());
}

#[test]
fn the_consoles_forms_are_those_of_the_keys() {
    let kinds = HOMES.iter().map(|(kind, _)| *kind).chain([ObjectKind::Reserved]);
    let all: serde_json::Map<String, Value> =
        kinds.map(|kind| (json!(kind).as_str().unwrap().to_owned(), json!(key_help::of(kind)))).collect();
    hold("console/src/lib/desk/keys.json", &(serde_json::to_string_pretty(&all).unwrap() + "\n"));
}

#[test]
fn the_tables_of_the_reference_are_those_of_the_keys() {
    const PATH: &str = "docs/reference/document.md";
    let is = std::fs::read_to_string(file(PATH)).unwrap();
    let mut made = String::new();
    let mut rest = is.as_str();
    let mut tables = 0;
    while let Some((before, after)) = rest.split_once("<!-- keys of ") {
        let (home, after) = after.split_once(" -->\n").expect("a home behind the mark");
        let (_, after) = after.split_once("<!-- end of keys -->").expect("an end of each table");
        let (kind, _) = HOMES.iter().find(|(_, known)| *known == home).expect("a home of objects");
        made +=
            &format!("{before}<!-- keys of {home} -->\n\n{}\n<!-- end of keys -->", key_help::table(*kind));
        rest = after;
        tables += 1;
    }
    made += rest;
    assert_eq!(tables, HOMES.len(), "a table for each kind");
    hold(PATH, &made);
}
