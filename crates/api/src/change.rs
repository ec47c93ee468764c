//! Changes: of the configuration, of a duty, and the console's session.

use merismos_core::config::Warning;
use merismos_core::config::diff::Change;
use merismos_core::config::impact::ShareMove;
use merismos_core::config::tree::Format;
use merismos_core::duty::{Duty, Order};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A whole document to become the running revision.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ApplyRequest {
    /// The document's text, as it stands in the file, so that mistakes can be told with their lines.
    pub text: String,
    /// How it is written.
    pub format: Format,
    /// Why, in the author's words; kept with the revision.
    #[serde(default)]
    pub note: String,
    /// Only say what would change.
    #[serde(default)]
    pub preview: bool,
    /// The revision that the author looked at: when another one runs by now, the document is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub based_on: Option<u64>,
}

/// One change, with its words.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NamedChange {
    /// The change.
    #[serde(flatten)]
    pub change: Change,
    /// The change in words.
    pub words: String,
}

/// What a document changed, or would change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ApplyAnswer {
    /// The revision that runs now.
    pub revision: u64,
    /// Whether it was made by this call: false for a preview, and when nothing changes.
    pub made: bool,
    /// What changes.
    pub changes: Vec<NamedChange>,
    /// How the expected shares move.
    pub moves: Vec<ShareMove>,
    /// What is allowed and probably not wanted.
    pub warnings: Vec<Warning>,
}

/// A new duty for a server.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DutyRequest {
    /// The duty.
    pub duty: Duty,
    /// Why; at least one character, for whoever finds the server like this.
    #[schema(min_length = 1, max_length = 500)]
    pub reason: String,
    /// Do it even when no eligible server is left in the pool.
    #[serde(default)]
    pub even_if_last: bool,
}

/// A server's duty after the call.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DutyAnswer {
    /// The server, as `pool/server`.
    pub server: String,
    /// Its duty now.
    pub order: Order,
    /// Requests at the server right now.
    pub in_flight: u64,
    /// Whether the database has it already; if not, it is kept in a file and follows when the database is back.
    pub recorded: bool,
}

/// A log-in of the console.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Session {
    /// The token.
    #[schema(min_length = 1)]
    pub token: String,
}
