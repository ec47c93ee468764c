//! Tokens: only their hashes.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use sqlx::Row;

use crate::{Store, StoreError};

/// What is kept of a token.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Token {
    /// The SHA-256 of the token in hexadecimal.
    pub hash: String,
    /// Whose it is.
    pub name: String,
    /// When it was made.
    pub at: Wall,
}

impl Store {
    /// Keeps a token; one that is there already stays as it is.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn add_token(&self, token: &Token) -> Result<(), StoreError> {
        let insert = sqlx::query("INSERT IGNORE INTO token (hash, name, at) VALUES (?, ?, ?)")
            .bind(&token.hash)
            .bind(&token.name)
            .bind(token.at.0);
        self.call(insert.execute(&self.pool)).await?;
        Ok(())
    }

    /// Every token.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn tokens(&self) -> Result<Vec<Token>, StoreError> {
        let rows = self.call(sqlx::query("SELECT hash, name, at FROM token").fetch_all(&self.pool)).await?;
        let token = |row: &sqlx::mysql::MySqlRow| {
            Ok(Token { hash: row.try_get("hash")?, name: row.try_get("name")?, at: Wall(row.try_get("at")?) })
        };
        rows.iter().map(token).collect()
    }
}
