//! One object that is wrong in a document.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::name::Name;

/// One mistake: where it is, what was found, and what would be right.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Problem {
    /// The key path, such as `pools.booking.servers.gull.weight`; empty when the text could not be parsed.
    pub path: String,
    /// The line in the text, from 1; absent when the object that is missing has no line.
    pub line: Option<usize>,
    /// What is wrong, with what was found.
    pub found: String,
    /// What would be right.
    pub expected: String,
    /// The path of the object that is not there, for a reference that leads nowhere.
    #[serde(skip)]
    pub(super) missing: Option<String>,
}

impl Problem {
    /// A problem at a key path that was found outside the document: when it was tried.
    #[must_use]
    pub fn new(path: &str, found: impl Into<String>, wanted: impl Into<String>) -> Self {
        Self::at(path, found, wanted)
    }

    /// A problem at a key path; its line is filled in later from the tree.
    pub(super) fn at(path: &str, found: impl Into<String>, wanted: impl Into<String>) -> Self {
        Self {
            path: path.to_owned(),
            line: None,
            found: found.into(),
            expected: wanted.into(),
            missing: None,
        }
    }

    /// A reference to an object that does not exist.
    pub(super) fn dangling(path: &str, kind: &str, name: &Name, wanted: String) -> Self {
        let found = format!("there is no {kind} named {name}");
        Self { missing: Some(format!("{kind}s.{name}")), ..Self::at(path, found, wanted) }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(line) = self.line {
            write!(f, "line {line}: ")?;
        }
        if !self.path.is_empty() {
            write!(f, "{}: ", self.path)?;
        }
        write!(f, "{}. Right would be: {}", self.found, self.expected)
    }
}
