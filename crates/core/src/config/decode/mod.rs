//! From the tree to the document: every value is held against the declaration of its key, and every mistake noted with its place.

pub mod formats;
pub(super) mod migrate;
mod section;
pub mod tree;
mod value;

use crate::config::Problem;
use crate::config::document::Document;
use crate::config::key::Keys;
use tree::{DocumentNode, Value};

pub use formats::TextFormat;
pub use section::{Place, Section};
pub(crate) use value::KeyValue;

/// Reads a tree; what could not be read is left out of the document and stands among the problems.
pub(in crate::config) fn read(tree: &DocumentNode) -> (Document, Vec<Problem>) {
    let mut problems = Vec::new();
    let document = Section::open(tree, String::new(), tree.line, &mut problems).and_then(|mut section| {
        let document = <Document as Keys>::read(&mut section);
        section.close();
        document
    });
    (document.unwrap_or_default(), problems)
}

/// How a value is called in messages.
fn describe(value: &Value) -> String {
    match value {
        Value::Text(text) => format!("the text {text:?}"),
        Value::Number(number) => format!("the number {number}"),
        Value::Flag(flag) => format!("{flag}"),
        Value::List(_) => "a list".to_owned(),
        Value::Table(_) => "a table".to_owned(),
        Value::Other(written) => written.clone(),
    }
}
