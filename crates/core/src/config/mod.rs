//! The configuration: what the engineer wrote, checked whole, compared and weighed.
//!
//! Text becomes a [`tree`] that knows its lines, the tree becomes a [`document`], and the document becomes
//! [`Checked`] or the list of every [`Problem`] in it. Only a [`Checked`] one can be deployed.

pub mod check;
pub mod diff;
pub mod document;
pub mod impact;
mod problem;
mod read;
pub mod tree;

pub use check::{Checked, Warning};
pub use document::Document;
pub use problem::Problem;
pub use tree::Format;

/// Reads and checks a whole document.
///
/// # Errors
/// Every problem in it, in the order of their lines: of the syntax alone when there is any, else of keys,
/// types and ranges together with those of relations between things.
pub fn load(text: &str, format: Format) -> Result<Checked, Vec<Problem>> {
    let tree = tree::parse(text, format)?;
    let (document, mut problems) = read::read(&tree);
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
