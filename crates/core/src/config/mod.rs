//! The configuration: what the engineer wrote, checked whole, compared and weighed.
//!
//! Text becomes a [`tree`] that knows its lines, the tree becomes a [`document`], and the document becomes
//! [`Checked`] or the list of every [`Problem`] in it. Only a [`Checked`] one can be deployed.
//!
//! A document changes by [`edit`]s of its [`object`]s, or by another one; [`diff`], [`impact`] and [`renames`] say
//! what that means, and [`merge`] joins the work of two people.

pub mod analyse;
pub mod decode;
pub mod edit;
mod problem;
pub mod schema;

pub use analyse::warnings::{
    Acceptance, ClientFate, EligibleCount, SharedServer, Warning, WarningKind, WarningLevel, WarningReason,
};
pub use analyse::{check, diff, discovery, impact, lost_capacity, pool_shares, renames, replay};
pub use check::Checked;
pub use decode::tree::{self, DocumentFormat};
pub use document::Document;
pub use edit::{bulk_add, hosts, merge, object, objects, references};
pub use object::{ObjectKind, ObjectPath};
pub use problem::Problem;
pub use schema::{document, failure_handling, json_schema, key, key_help, keys, listen_address};

use analyse::{defaults, warnings};
use decode::migrate;

/// Reads and checks a whole document.
///
/// # Errors
/// Every problem in it, in the order of their lines: of the syntax alone when there is any, else of keys,
/// types and ranges together with those of relations between objects.
pub fn load(text: &str, format: DocumentFormat) -> Result<Checked, Vec<Problem>> {
    load_tree(tree::parse(text, format)?)
}

/// Reads and checks a whole document that is a JSON value already.
///
/// # Errors
/// Every problem in it, without lines.
pub fn load_value(value: serde_json::Value) -> Result<Checked, Vec<Problem>> {
    load_tree(value.into())
}

/// Reads a document without looking at the relations between its objects: a draft may still be unfinished.
///
/// # Errors
/// Every problem of keys, types and ranges.
pub fn read_value(value: serde_json::Value) -> Result<Document, Vec<Problem>> {
    let (document, problems) = read_tree(&mut value.into());
    if problems.is_empty() { Ok(document) } else { Err(problems) }
}

/// Reads the text of a document without looking at the relations between its objects.
///
/// # Errors
/// Every problem of syntax, or of keys, types and ranges.
pub fn read_text(text: &str, format: DocumentFormat) -> Result<Document, Vec<Problem>> {
    let (document, problems) = read_tree(&mut tree::parse(text, format)?);
    if problems.is_empty() { Ok(document) } else { Err(problems) }
}

fn read_tree(tree: &mut tree::DocumentNode) -> (Document, Vec<Problem>) {
    migrate::migrate(tree);
    let (document, mut problems) = decode::read(tree);
    for problem in &mut problems {
        problem.line = problem.line.filter(|line| *line > 0);
    }
    (document, problems)
}

fn load_tree(mut tree: tree::DocumentNode) -> Result<Checked, Vec<Problem>> {
    let (document, mut problems) = read_tree(&mut tree);
    let related = match check::check(document) {
        Ok(checked) if problems.is_empty() => return Ok(checked.with_lines(&tree)),
        Ok(_) => Vec::new(),
        Err(related) => related,
    };
    for mut problem in related {
        // What stands in the text but could not be read was said already; that it is missing would be an echo.
        if problem.missing.as_ref().is_some_and(|path| tree.holds(path)) {
            continue;
        }
        problem.line = tree.line_of(&problem.path);
        problems.push(problem);
    }
    problems.sort_by_key(|problem| problem.line);
    Err(problems)
}

#[cfg(test)]
mod tests;
