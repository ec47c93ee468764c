//! Messages to people.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Messages that were made, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SentMessages {
    /// The newest messages first, with their deliveries.
    pub messages: Vec<SentMessage>,
}

/// A message that was made, and what became of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SentMessage {
    /// The message of the configuration that it is one of.
    pub name: String,
    /// How it goes: `webhook` or `mail`.
    pub via: String,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub at: Wall,
    /// What it tells, in one line.
    pub message: String,
    /// How often it was tried.
    pub tries: u32,
    /// When it was delivered.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub delivered: Option<Wall>,
    /// When it is tried next; absent when it was delivered or given up.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next_try: Option<Wall>,
    /// Why the last try failed.
    pub why: Option<String>,
}
