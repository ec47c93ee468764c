//! Messages to people, on their way and delivered.

use merismos_core::time::Wall;
use sqlx::{FromRow, QueryBuilder};

use crate::columns::{JsonText, MaybeMoment, Moment};
use crate::{Store, StoreError};

/// A message as it is kept.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct StoredMessage {
    /// Made by the service; grows with time.
    pub id: u64,
    /// The message of the document that it is one of.
    pub name: String,
    /// How it goes: `webhook` or `mail`.
    pub via: String,
    /// When it was made.
    #[sqlx(try_from = "Moment")]
    pub at: Wall,
    /// The message as it is delivered, in JSON.
    #[sqlx(try_from = "JsonText")]
    pub body: serde_json::Value,
    /// How often it was tried.
    pub tries: u32,
    /// When it is tried next; `None` when it was delivered or given up.
    #[sqlx(try_from = "MaybeMoment")]
    pub next_try: Option<Wall>,
    /// When it was delivered.
    #[sqlx(try_from = "MaybeMoment")]
    pub done: Option<Wall>,
    /// Why the last try failed.
    pub why: Option<String>,
}

impl Store {
    /// Writes messages as they are now, whether they are there already or not.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_messages(&self, messages: &[StoredMessage]) -> Result<(), StoreError> {
        if messages.is_empty() {
            return Ok(());
        }
        let mut query =
            QueryBuilder::new("REPLACE INTO message (id, name, via, at, body, tries, next_try, done, why) ");
        query.push_values(messages, |mut row, message| {
            row.push_bind(message.id)
                .push_bind(&message.name)
                .push_bind(&message.via)
                .push_bind(message.at.0)
                .push_bind(message.body.to_string())
                .push_bind(message.tries)
                .push_bind(message.next_try.map(|at| at.0))
                .push_bind(message.done.map(|at| at.0))
                .push_bind(message.why.as_ref().map(|why| why.chars().take(1_000).collect::<String>()));
        });
        self.call(query.build().execute(&self.pool)).await?;
        Ok(())
    }

    /// The messages that are on their way and the newest others, the newest first; at most `limit` of each.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn messages(&self, limit: u32) -> Result<Vec<StoredMessage>, StoreError> {
        let query = "SELECT id, name, via, at, CAST(body AS CHAR) AS body, tries, next_try, done, why FROM \
                     ((SELECT * FROM message WHERE next_try IS NOT NULL ORDER BY id DESC LIMIT ?) UNION \
                     (SELECT * FROM message ORDER BY id DESC LIMIT ?)) AS both_of ORDER BY id DESC";
        let select = sqlx::query_as(query).bind(limit).bind(limit);
        self.call(select.fetch_all(&self.pool)).await
    }
}
