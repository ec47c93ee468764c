//! Drafts and revisions.

use merismos_core::config::Acceptance;
use merismos_core::config::Problem;
use merismos_core::config::edit::Edit;
use merismos_core::name::Name;
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{Between, NamedChange, Review};

/// A draft to be begun.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDraft {
    /// Name for the draft; it must be new.
    #[schema(value_type = String, pattern = "^[a-z][a-z0-9-]{0,62}$")]
    pub name: Name,
    /// What it is for; becomes the revision's note.
    #[serde(default)]
    pub note: String,
}

/// A draft, without what is in it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Draft {
    /// Name of the draft, unique in the service.
    pub name: String,
    /// Name of the token that began the draft.
    pub owner: String,
    /// What it is for.
    pub note: String,
    /// The revision that it began from.
    pub base: u64,
    /// Whether another revision runs by now: it has to be rebased before it can be deployed.
    pub stale: bool,
    /// How many times it was changed.
    pub version: u64,
    /// When it was begun.
    #[schema(value_type = String, format = DateTime)]
    pub created: Wall,
    /// When it was last changed.
    #[schema(value_type = String, format = DateTime)]
    pub changed: Wall,
}

/// Drafts, the one that was changed last first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Drafts {
    /// All drafts that were neither deployed nor discarded.
    pub drafts: Vec<Draft>,
}

/// Edits for a draft.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftEdits {
    /// The edits, made one after the other, all of them or none.
    #[serde(default)]
    pub edits: Vec<Edit>,
    /// Only say what the draft would do with them, without trying anything on the network.
    #[serde(default)]
    pub preview: bool,
    /// Keys of the warnings that are accepted.
    #[serde(default)]
    pub accept: Vec<String>,
    /// What the draft is for, when that changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// What a draft would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DraftReview {
    /// The draft under review, with its text.
    pub draft: Draft,
    /// The relations that do not hold yet; while there are any it can't be deployed.
    pub mistakes: Vec<Problem>,
    /// What it changes of the revision that it began from.
    pub changes: Vec<NamedChange>,
    /// What it would do, when it has no mistakes and is not stale.
    pub review: Option<Review>,
    /// What others changed since it was begun, when it is stale.
    pub between: Option<Between>,
    /// The warnings that were accepted in it.
    pub accepted: Vec<Acceptance>,
}

/// A revision, without its document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RevisionHead {
    /// Its number, from 1.
    pub number: u64,
    /// Name of the token that made the revision.
    pub author: String,
    /// The note that its author left; may be empty.
    pub note: String,
    /// When the revision was made.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// What it changed of the one before, in a line; empty for one that an older release made.
    pub changed: String,
    /// Whether this revision is the one that runs.
    pub running: bool,
    /// The warnings that were accepted with it.
    pub accepted: Vec<Acceptance>,
}

/// Revisions, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Revisions {
    /// The newest revisions first, without their documents.
    pub revisions: Vec<RevisionHead>,
}

/// One revision and what it changed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionResponse {
    /// Number, author, note and time of the revision.
    pub revision: RevisionHead,
    /// What it changed of the one before.
    pub changes: Vec<NamedChange>,
    /// Its document as TOML.
    pub document: String,
}
