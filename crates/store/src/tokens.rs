//! Tokens: only their hashes.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use sqlx::FromRow;

use crate::columns::{MaybeMoment, Moment};
use crate::{Store, StoreError};

/// What is kept of a token.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, FromRow)]
pub struct Token {
    /// The SHA-256 of the token in hexadecimal.
    pub hash: String,
    /// Name of the token, as it stands in events.
    pub name: String,
    /// When it was made.
    #[sqlx(try_from = "Moment")]
    pub at: Wall,
    /// When it was used last, to the minute.
    #[serde(default)]
    #[sqlx(try_from = "MaybeMoment")]
    pub used: Option<Wall>,
    /// When it was revoked; it is kept so that no older record of it lets it in again.
    #[serde(default)]
    #[sqlx(try_from = "MaybeMoment")]
    pub revoked: Option<Wall>,
}

impl Token {
    /// Joins two records of one token: the later use counts, and once it is revoked it stays so.
    pub fn join(&mut self, other: &Self) {
        self.used = self.used.max(other.used);
        self.revoked = self.revoked.or(other.revoked);
    }
}

impl Store {
    /// Keeps a token, joined with what is kept of it already (see [`Token::join`]), and notifies the other nodes of one that is new or revoked.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_token(&self, token: &Token) -> Result<(), StoreError> {
        let upsert = sqlx::query(
            "INSERT INTO token (hash, name, at, used, revoked) VALUES (?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE \
             used = IF(used IS NULL OR VALUES(used) > used, VALUES(used), used), \
             revoked = COALESCE(revoked, VALUES(revoked))",
        )
        .bind(&token.hash)
        .bind(&token.name)
        .bind(token.at.0)
        .bind(token.used.map(|at| at.0))
        .bind(token.revoked.map(|at| at.0));
        // A use alone is no news to anyone.
        let is_news =
            self.call(upsert.execute(&self.pool)).await?.rows_affected() == 1 || token.revoked.is_some();
        if is_news { self.tell_others().await } else { Ok(()) }
    }

    /// Every token, also those that were revoked.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn tokens(&self) -> Result<Vec<Token>, StoreError> {
        let select = sqlx::query_as("SELECT hash, name, at, used, revoked FROM token");
        self.call(select.fetch_all(&self.pool)).await
    }
}
