//! Tokens: who may use the API.

use merismos_core::name::Name;
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A token without the token itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenView {
    /// Its name, which stands beside what is done with it.
    pub name: String,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub made: Wall,
    /// When it was used last, to the minute; absent when it never was.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used: Option<Wall>,
    /// When it was revoked; absent for one that counts.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub revoked: Option<Wall>,
}

/// All tokens, without their secrets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Tokens {
    /// Those that count come first, the oldest first.
    pub tokens: Vec<TokenView>,
    /// The name of the token of this call.
    pub yours: String,
}

/// A token to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// Its name: who or what uses it.
    #[schema(value_type = String, pattern = "^[a-z][a-z0-9-]{0,62}$", example = "night-shift")]
    pub name: Name,
}

/// A token that was made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// Name of the token, as it stands in events.
    pub name: String,
    /// The token, which is shown this once.
    pub token: String,
    /// Whether the node's state file has it.
    pub saved: bool,
    /// Whether the database has it already; if not, it follows when the database is back.
    pub recorded: bool,
}

/// A token that was revoked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenResponse {
    /// Name of the token that was revoked.
    pub name: String,
    /// Whether the node's state file has it.
    pub saved: bool,
    /// Whether the database has it already; if not, it follows when the database is back.
    pub recorded: bool,
}
