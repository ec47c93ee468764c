//! Secrets that nodes share. The database holds them sealed, and has no key to them.

use sqlx::Row;

use crate::{Store, StoreError};

/// A secret as the database keeps it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SharedSecret {
    /// Its place among all changes of this secret.
    pub number: u64,
    /// The secret, sealed.
    pub sealed: Vec<u8>,
}

impl Store {
    /// A secret; `None` when no node has kept one of that name.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn shared_secret(&self, name: &str) -> Result<Option<SharedSecret>, StoreError> {
        let query = sqlx::query("SELECT number, sealed FROM shared_secret WHERE name = ?").bind(name);
        let Some(row) = self.call(query.fetch_optional(&self.pool)).await? else { return Ok(None) };
        Ok(Some(SharedSecret { number: row.try_get("number")?, sealed: row.try_get("sealed")? }))
    }

    /// Keeps a secret unless one of a larger or the same number is kept already, and notifies the other nodes.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_shared_secret(&self, name: &str, secret: &SharedSecret) -> Result<(), StoreError> {
        // `number` is set last: MariaDB assigns from left to right, and the condition compares with the old one.
        let put = sqlx::query(
            "INSERT INTO shared_secret (name, number, sealed) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE \
             sealed = IF(VALUES(number) > number, VALUES(sealed), sealed), number = GREATEST(VALUES(number), number)",
        )
        .bind(name)
        .bind(secret.number)
        .bind(&secret.sealed);
        self.call(put.execute(&self.pool)).await?;
        self.tell_others().await
    }
}
