//! Errors, as problem documents (RFC 9457).

use merismos_core::config::Problem;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{AcceptedWarning, Between};

/// A problem document (RFC 9457, `application/problem+json`). Its `detail` says what to do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProblemDocument {
    /// Which kind of problem: a relative URI that never changes, such as `/problems/refused-document`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind of problem in words.
    pub title: String,
    /// HTTP status of the response (RFC 9457, 3.1.2).
    #[schema(minimum = 400, maximum = 599)]
    pub status: u16,
    /// What happened this time, and what to do.
    pub detail: String,
    /// Every mistake of a refused document.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<Problem>,
    /// What happened since the revision that a refused change was based on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub between: Option<Box<Between>>,
    /// The warnings that have to be accepted first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<AcceptedWarning>,
}
