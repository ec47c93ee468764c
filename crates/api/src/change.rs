//! Changes: of the configuration, and the console's session.

use merismos_core::config::diff::DocumentChange;
use merismos_core::config::edit::Edit;
use merismos_core::config::impact::Impact;
use merismos_core::config::tree::DocumentFormat;
use merismos_core::config::{Acceptance, Warning};
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A document, whole or in parts, to become the running revision.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ApplyRequest {
    /// The document's text, as it stands in the file, so that mistakes can be reported with their lines.
    pub text: String,
    /// How it is written.
    pub format: DocumentFormat,
    /// Take only the parts at these paths, such as `pools.booking`; all else stays as it runs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<String>,
    /// How it is to go live.
    #[serde(flatten)]
    pub going: ApplyOptions,
}

/// Edits that together become one revision.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeRequest {
    /// The edits, made one after the other, all of them or none.
    pub edits: Vec<Edit>,
    /// How they are to go live.
    #[serde(flatten)]
    pub going: ApplyOptions,
}

/// How a change is to go live.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ApplyOptions {
    /// Why, in the author's words; kept with the revision.
    #[serde(default)]
    pub note: String,
    /// Only say what would change.
    #[serde(default)]
    pub preview: bool,
    /// Leave out of a preview what has to be tried on the network: whether addresses are free and servers answer.
    #[serde(default)]
    pub quick: bool,
    /// The revision that the author looked at: when another one runs by now, the change is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub based_on: Option<u64>,
    /// Keys of the warnings that the author accepts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub accept: Vec<String>,
    /// Servers that the change adds join withdrawn: clients do not reach them until they are returned.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub withdrawn: bool,
}

/// Makes the content of an older revision the newest revision.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RevertRequest {
    /// How it is to go live.
    #[serde(flatten)]
    pub going: ApplyOptions,
}

/// One change, with its words.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NamedChange {
    /// The change of the document, with both values.
    #[serde(flatten)]
    pub change: DocumentChange,
    /// The change in words.
    pub description: String,
}

impl From<DocumentChange> for NamedChange {
    fn from(change: DocumentChange) -> Self {
        Self { description: change.words(), change }
    }
}

/// A warning, and whether it still has to be accepted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AcceptedWarning {
    /// The warning as it was when it was accepted.
    #[serde(flatten)]
    pub warning: Warning,
    /// Whether the running revision has it already.
    pub known: bool,
    /// Whether it is about something that the change touches.
    pub touched: bool,
    /// Who accepted it, with this change.
    pub accepted: Option<Acceptance>,
}

impl AcceptedWarning {
    /// Whether the change goes live only after a person has accepted this.
    #[must_use]
    pub fn needs_word(&self) -> bool {
        use merismos_core::config::WarningLevel;
        self.warning.level == WarningLevel::Warning && !self.known && self.accepted.is_none()
    }

    /// Whether it is no news: it was there before and has nothing to do with the change.
    #[must_use]
    pub fn stands(&self) -> bool {
        self.known && !self.touched
    }
}

/// Work in flight that a change touches.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TouchedDocument {
    /// Whose: a frontend's connections, or a server's requests.
    pub whose: String,
    /// How many right now.
    pub count: u64,
    /// What becomes of them.
    pub message: String,
}

/// How long a deployment took, in microseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Timings {
    /// Reading and checking the document, in microseconds.
    pub check_us: u64,
    /// Comparing with what runs.
    pub compare_us: u64,
    /// Trying addresses and servers.
    pub try_us: u64,
    /// Committing to the database.
    pub commit_us: u64,
    /// From the commit until every worker had the new snapshot.
    pub run_us: u64,
}

/// What a change does, or would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Review {
    /// The revision that runs now.
    pub revision: u64,
    /// Whether it was made by this call: false for a preview, and when nothing changes.
    pub made: bool,
    /// The changes against the running revision, object by object.
    pub changes: Vec<NamedChange>,
    /// What that touches and moves.
    pub impact: Impact,
    /// Connections and requests that it touches.
    pub touched: Vec<TouchedDocument>,
    /// What is allowed and probably not wanted; those that have to be accepted come first.
    pub warnings: Vec<AcceptedWarning>,
    /// Whether the node's state file holds the new revision too; absent when none was made. Without it, a restart while the
    /// database is away would run an older revision.
    pub saved: Option<bool>,
    /// How long it took.
    pub took: Timings,
}

/// What happened between two revisions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Between {
    /// Number of the older revision.
    pub from: u64,
    /// Number of the newer revision.
    pub to: u64,
    /// The changes from one to the other.
    pub changes: Vec<NamedChange>,
}

/// A pool whose work was sent back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FailbackResponse {
    /// Name of the pool whose work goes back.
    pub pool: String,
    /// The tier that works now.
    pub tier: u8,
}

/// From when on totals are counted anew.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct TotalsReset {
    /// When the totals were set to zero.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
}

/// A log-in of the console.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Session {
    /// The token in clear, as it was given out.
    #[schema(min_length = 1)]
    pub token: String,
}
