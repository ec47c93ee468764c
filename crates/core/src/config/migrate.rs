//! Documents of older formats, brought to the form of this one.

use super::document::FORMAT;
use super::tree::{DocumentNode, Value};

/// Brings a tree of an older format to this release's; gives the format that it was written in when it was lifted.
///
/// A format that is not known stays as it is, for reading it tells what would be right.
pub(super) fn migrate(tree: &mut DocumentNode) -> Option<i64> {
    let Value::Table(entries) = &mut tree.value else { return None };
    let (_, _, format) = entries.iter_mut().find(|(key, _, _)| key == "format")?;
    let Value::Number(written) = format.value else { return None };
    if !(1..FORMAT).contains(&written) {
        return None;
    }
    format.value = Value::Number(FORMAT);
    if written < 2 {
        from_1_to_2(tree);
    }
    Some(written)
}

/// Format 2 says of what an answer's timeout is: of its first byte, beside the one for the whole answer.
fn from_1_to_2(tree: &mut DocumentNode) {
    for (_, _, pool) in tree.entries_mut("pools") {
        if let Value::Table(keys) = &mut pool.value {
            for (key, _, _) in keys.iter_mut().filter(|(key, _, _)| key == "answer_timeout") {
                "first_byte_timeout".clone_into(key);
            }
        }
    }
}
