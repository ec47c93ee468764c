//! Rules: conditions on a request, in a small language, and the first of a frontend's rules that a request meets.
//!
//! A condition is read once ([`Condition`]), compiled for a document's networks ([`RuleSet`]), and asked for each request. [`request_path`] is
//! the one way in which paths are read before they are compared.

mod access_list;
mod condition;
mod edits;
mod matcher;
mod network_set;
mod outcome;
mod parse;
mod relations;
pub mod request_path;
mod template;

#[cfg(test)]
mod properties;

pub use access_list::AccessList;
pub use condition::{Condition, Fact, NetworkRef, RequestVersion, Test, TestComparison, Tree};
pub use edits::{
    FieldChanges, FieldTemplate, FieldTemplateError, RequestEdits, RuleEdits, UNTOUCHED_FIELDS, path_pattern,
};
pub use matcher::{AnyField, RuleFacts, RuleSet, TestTrace};
pub(crate) use matcher::{hosts_of, paths_of};
pub use network_set::NetworkSet;
pub use outcome::{RuleOutcome, location, met_prefix, outcome};
pub use parse::ConditionError;
pub use relations::{implies, is_never_met, overlap};
pub use template::{LocationTemplate, TemplateError, TemplateFacts};
