//! Events: dated facts.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use sqlx::{FromRow, QueryBuilder};

use crate::columns::{JsonText, Moment};
use crate::{Store, StoreError};

/// An event as it is kept.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, FromRow)]
pub struct StoredEvent {
    /// Made by the service; grows with time.
    pub id: u64,
    /// Name of the node that wrote it; empty for one of an older release.
    #[serde(default)]
    pub node: String,
    /// When it happened, by the clock of the node.
    #[sqlx(try_from = "Moment")]
    pub at: Wall,
    /// What kind of fact.
    pub kind: String,
    /// What it is about.
    pub subject: String,
    /// The fact in words.
    #[sqlx(rename = "says")]
    pub message: String,
    /// The fact in detail.
    #[sqlx(try_from = "JsonText")]
    pub detail: serde_json::Value,
}

/// Which events are wanted; what is left out does not matter.
#[derive(Clone, Debug, Default)]
pub struct EventQuery {
    /// Only those with numbers below this one.
    pub before: Option<u64>,
    /// Only these kinds; all of them when it is empty.
    pub kinds: Vec<&'static str>,
    /// Only those about this: a subject, or a part of one before a `/` or behind a space.
    pub object: Option<String>,
    /// Only what this one did.
    pub by: Option<String>,
    /// Only what happened then or later.
    pub since: Option<Wall>,
    /// Only what happened before.
    pub until: Option<Wall>,
}

/// The longest subject that is kept, in characters.
const LONGEST_SUBJECT: usize = 200;
/// The longest text that is kept, in characters; each has 4 bytes at most.
const LONGEST_TEXT: usize = 16_000;

fn shortened(text: &str, longest: usize) -> String {
    text.chars().take(longest).collect()
}

impl Store {
    /// Adds events in one step; those that are there already stay as they are.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn add_events(&self, events: &[StoredEvent]) -> Result<(), StoreError> {
        if events.is_empty() {
            return Ok(());
        }
        let mut query = QueryBuilder::new("INSERT INTO event (id, node, at, kind, subject, says, detail) ");
        query.push_values(events, |mut row, event| {
            row.push_bind(event.id)
                .push_bind(&event.node)
                .push_bind(event.at.0)
                .push_bind(&event.kind)
                .push_bind(shortened(&event.subject, LONGEST_SUBJECT))
                .push_bind(shortened(&event.message, LONGEST_TEXT))
                .push_bind(event.detail.to_string());
        });
        // What is there already stays; all other errors are errors, which IGNORE would hide.
        query.push(" ON DUPLICATE KEY UPDATE id = event.id");
        self.call(query.build().execute(&self.pool)).await?;
        Ok(())
    }

    /// Events that other nodes than this one (`node`) recorded, with numbers above `after`: the first of them, the oldest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn events_of_others(
        &self,
        node: &str,
        after: u64,
        limit: u32,
    ) -> Result<Vec<StoredEvent>, StoreError> {
        let query = "SELECT id, node, at, kind, subject, says, CAST(detail AS CHAR) AS detail FROM event \
                     WHERE id > ? AND node <> ? ORDER BY id LIMIT ?";
        self.call(sqlx::query_as(query).bind(after).bind(node).bind(limit).fetch_all(&self.pool)).await
    }

    /// The newest events that are wanted, the newest first: at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn events(&self, wanted: &EventQuery, limit: u32) -> Result<Vec<StoredEvent>, StoreError> {
        let mut query = QueryBuilder::new(
            "SELECT id, node, at, kind, subject, says, CAST(detail AS CHAR) AS detail FROM event WHERE id < ",
        );
        query.push_bind(wanted.before.unwrap_or(u64::MAX));
        if !wanted.kinds.is_empty() {
            query.push(" AND kind IN (");
            let mut kinds = query.separated(", ");
            for kind in &wanted.kinds {
                kinds.push_bind(*kind);
            }
            query.push(")");
        }
        if let Some(object) = &wanted.object {
            // Names and paths hold neither of the two signs that LIKE reads, but who asks may.
            let plain = object.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
            query.push(" AND (subject = ").push_bind(object.clone());
            query.push(" OR subject LIKE ").push_bind(format!("{plain}/%"));
            query.push(" OR subject LIKE ").push_bind(format!("% {plain}")).push(")");
        }
        if let Some(by) = &wanted.by {
            query
                .push(" AND REGEXP_INSTR(says, ")
                .push_bind(format!("by \\Q{by}\\E([^a-zA-Z0-9-]|$)"))
                .push(") > 0");
        }
        if let Some(since) = wanted.since {
            query.push(" AND at >= ").push_bind(since.0);
        }
        if let Some(until) = wanted.until {
            query.push(" AND at < ").push_bind(until.0);
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(limit);
        self.call(query.build_query_as().fetch_all(&self.pool)).await
    }
}
