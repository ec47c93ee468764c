//! The nodes that share the database.

use std::time::Duration;

use sqlx::Row;

use crate::{Store, StoreError};

/// A node that gave no sign of life for so long is gone. Each gives one in a third of it.
pub const GONE_AFTER: Duration = Duration::from_secs(30);

impl Store {
    /// A sign of life of this node; gives how many there are by the database's clock, this one among them.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn sign_of_life(&self, id: [u8; 16]) -> Result<u64, StoreError> {
        let note = sqlx::query("REPLACE INTO node (id, seen) VALUES (?, NOW(3))").bind(id.to_vec());
        self.call(note.execute(&self.pool)).await?;
        let gone = sqlx::query("DELETE FROM node WHERE seen < NOW(3) - INTERVAL 1 DAY");
        self.call(gone.execute(&self.pool)).await?;
        Ok(self.other_nodes(id).await? + 1)
    }

    /// How many other nodes use the database, by its clock.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn other_nodes(&self, id: [u8; 16]) -> Result<u64, StoreError> {
        let text = "SELECT COUNT(*) AS nodes FROM node WHERE seen > NOW(3) - INTERVAL ? SECOND AND id <> ?";
        let count = sqlx::query(text).bind(GONE_AFTER.as_secs()).bind(id.to_vec());
        let row = self.call(count.fetch_one(&self.pool)).await?;
        Ok(u64::try_from(row.try_get::<i64, _>("nodes")?).unwrap_or(0))
    }

    /// This node is gone.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn leave(&self, id: [u8; 16]) -> Result<(), StoreError> {
        let gone = sqlx::query("DELETE FROM node WHERE id = ?").bind(id.to_vec());
        self.call(gone.execute(&self.pool)).await?;
        Ok(())
    }
}
