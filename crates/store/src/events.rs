//! Events: dated facts.

use merismos_core::time::Wall;
use sqlx::{QueryBuilder, Row};

use crate::{Store, StoreError};

/// An event as it is kept.
#[derive(Clone, Debug, PartialEq)]
pub struct StoredEvent {
    /// Made by the service; grows with time.
    pub id: u64,
    /// When.
    pub at: Wall,
    /// What kind of fact.
    pub kind: String,
    /// What it is about.
    pub subject: String,
    /// The fact in words.
    pub says: String,
    /// The fact in detail.
    pub detail: serde_json::Value,
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
        let mut query = QueryBuilder::new("INSERT INTO event (id, at, kind, subject, says, detail) ");
        query.push_values(events, |mut row, event| {
            row.push_bind(event.id)
                .push_bind(event.at.0)
                .push_bind(&event.kind)
                .push_bind(shortened(&event.subject, LONGEST_SUBJECT))
                .push_bind(shortened(&event.says, LONGEST_TEXT))
                .push_bind(event.detail.to_string());
        });
        // What is there already stays; all other errors are errors, which IGNORE would hide.
        query.push(" ON DUPLICATE KEY UPDATE id = event.id");
        self.call(query.build().execute(&self.pool)).await?;
        Ok(())
    }

    /// The newest events, the newest first: at most `limit`, all with numbers below `before` when it is given.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn events(&self, before: Option<u64>, limit: u32) -> Result<Vec<StoredEvent>, StoreError> {
        let query = "SELECT id, at, kind, subject, says, CAST(detail AS CHAR) AS detail FROM event \
                     WHERE id < ? ORDER BY id DESC LIMIT ?";
        let select = sqlx::query(query).bind(before.unwrap_or(u64::MAX)).bind(limit);
        let rows = self.call(select.fetch_all(&self.pool)).await?;
        rows.iter()
            .map(|row| {
                let detail: String = row.try_get("detail")?;
                Ok(StoredEvent {
                    id: row.try_get("id")?,
                    at: Wall(row.try_get("at")?),
                    kind: row.try_get("kind")?,
                    subject: row.try_get("subject")?,
                    says: row.try_get("says")?,
                    detail: serde_json::from_str(&detail).unwrap_or_default(),
                })
            })
            .collect()
    }
}
