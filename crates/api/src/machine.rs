//! The machine that a node runs on.

use merismos_core::machine::MachineFinding;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Whether the machine of the node that answers is enough for it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MachineReport {
    /// The node.
    pub node: String,
    /// Over what time those counts were taken that grow for as long as a machine runs, in milliseconds; absent right after the start.
    pub within_ms: Option<u64>,
    /// What was found of each part, those that are short first.
    pub findings: Vec<MachineFinding>,
}
