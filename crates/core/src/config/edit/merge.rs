//! Two people's changes of the same document, joined when they do not touch the same keys; and parts of documents.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::config::document::Document;
use crate::config::tree::put;
use crate::config::{Problem, read_value};

/// Why two changes can't be joined.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MergeError {
    /// Both touched the same.
    #[error("both changed {}", .0.join(", "))]
    Overlap(Vec<String>),
    /// The joined keys make no document.
    #[error("{} problems in the joined document", .0.len())]
    Keys(Vec<Problem>),
}

/// Every plain value of a document by the keys that lead to it; an empty table is a plain value too.
fn leaves(document: &Document) -> BTreeMap<Vec<String>, Value> {
    fn walk(value: Value, path: &mut Vec<String>, found: &mut BTreeMap<Vec<String>, Value>) {
        match value {
            Value::Object(entries) if !entries.is_empty() => {
                for (key, value) in entries {
                    path.push(key);
                    walk(value, path, found);
                    path.pop();
                }
            }
            plain => drop(found.insert(path.clone(), plain)),
        }
    }
    let mut found = BTreeMap::new();
    let value = serde_json::to_value(document).expect("a document's keys are texts");
    walk(value, &mut Vec::new(), &mut found);
    found
}

type Leaves = BTreeMap<Vec<String>, Value>;

/// The leaves that differ, with what stands on the new side.
fn changed<'l>(old: &'l Leaves, new: &'l Leaves) -> BTreeMap<&'l Vec<String>, Option<&'l Value>> {
    let came = new.iter().filter(|(path, value)| old.get(*path) != Some(value));
    let gone = old.keys().filter(|path| !new.contains_key(*path));
    came.map(|(path, value)| (path, Some(value))).chain(gone.map(|path| (path, None))).collect()
}

/// The path of the object around a leaf: what comes or goes as a whole.
fn object_of(path: &[String]) -> &[String] {
    let inside = path.get(2).is_some_and(|key| matches!(key.as_str(), "servers" | "lookups" | "reserved"));
    &path[..path.len().min(if inside { 4 } else { 2 })]
}

/// What one side added or removed as a whole.
fn whole(old: &Leaves, new: &Leaves) -> Vec<Vec<String>> {
    let objects = |leaves: &Leaves| -> std::collections::BTreeSet<Vec<String>> {
        leaves
            .keys()
            .flat_map(|path| [path[..path.len().min(2)].to_vec(), object_of(path).to_vec()])
            .collect()
    };
    let (before, after) = (objects(old), objects(new));
    before.symmetric_difference(&after).cloned().collect()
}

/// Joins what `mine` changed of `base` with what `theirs` changed of it.
///
/// # Errors
/// [`MergeError::Overlap`] with the keys that both touched, or that one touched of something that the other removed
/// or added as a whole.
pub fn merge(base: &Document, mine: &Document, theirs: &Document) -> Result<Document, MergeError> {
    let (base, mine, theirs) = (leaves(base), leaves(mine), leaves(theirs));
    let (my_changes, their_changes) = (changed(&base, &mine), changed(&base, &theirs));
    let (my_whole, their_whole) = (whole(&base, &mine), whole(&base, &theirs));
    let mut overlap = std::collections::BTreeSet::new();
    for (path, value) in &my_changes {
        // The same change on both sides is no conflict.
        let same = their_changes.get(*path) == Some(value);
        let meets =
            |objects: &[Vec<String>], path: &[String]| objects.iter().any(|object| path.starts_with(object));
        if !same && (their_changes.contains_key(*path) || meets(&their_whole, path)) {
            overlap.insert(path.join("."));
        }
    }
    for (path, value) in &their_changes {
        let same = my_changes.get(*path) == Some(value);
        if !same && my_whole.iter().any(|object| path.starts_with(object)) {
            overlap.insert(path.join("."));
        }
    }
    if !overlap.is_empty() {
        return Err(MergeError::Overlap(overlap.into_iter().collect()));
    }
    let mut joined: BTreeMap<&Vec<String>, &Value> = theirs.iter().collect();
    for (path, value) in &my_changes {
        match value {
            Some(value) => drop(joined.insert(path, value)),
            None => drop(joined.remove(path)),
        }
    }
    let mut tree = Value::Object(serde_json::Map::new());
    for (path, value) in joined {
        put(&mut tree, path, value.clone());
    }
    read_value(tree).map_err(MergeError::Keys)
}

/// Takes the parts at some paths from one document over into another: what stands there is replaced, and what stands
/// only in the other is removed.
///
/// # Errors
/// A path that leads to nothing in either.
pub fn take_parts(into: &Document, from: &Document, paths: &[String]) -> Result<Document, Vec<Problem>> {
    let json = |document: &Document| serde_json::to_value(document).expect("a document's keys are texts");
    let (mut tree, source) = (json(into), json(from));
    let mut problems = Vec::new();
    for path in paths {
        let pointer = format!("/{}", path.replace('.', "/"));
        let keys: Vec<String> = path.split('.').map(str::to_owned).collect();
        match (source.pointer(&pointer), tree.pointer(&pointer).is_some()) {
            (Some(part), _) => put(&mut tree, &keys, part.clone()),
            (None, true) => remove(&mut tree, &keys),
            (None, false) => problems.push(Problem::at(
                path,
                "this part is neither in the file nor in the running document",
                "the path of a part, such as pools.booking or frontends",
            )),
        }
    }
    if problems.is_empty() { read_value(tree) } else { Err(problems) }
}

fn remove(tree: &mut Value, keys: &[String]) {
    let Some((last, around)) = keys.split_last() else { return };
    let parent = around.iter().try_fold(tree, |tree, key| tree.get_mut(key.as_str()));
    if let Some(Value::Object(entries)) = parent {
        entries.remove(last);
    }
}
