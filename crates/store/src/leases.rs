//! Leases: work that one node does for all that share the database.

use std::time::Duration;

use sqlx::Row;

use crate::{Store, StoreError};

impl Store {
    /// Takes a piece of work for so long, by the database's clock, unless another node has it; gives whether it is this node's now. Who has
    /// it already has it for longer.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer: then the work is nobody's.
    pub async fn take_lease(
        &self,
        work: &str,
        node: [u8; 16],
        lasting: Duration,
    ) -> Result<bool, StoreError> {
        // MariaDB assigns from left to right: `until` goes by who the holder is now.
        let take = sqlx::query(
            "INSERT INTO lease (work, holder, until) VALUES (?, ?, NOW(3) + INTERVAL ? SECOND) ON DUPLICATE KEY UPDATE \
             holder = IF(until < NOW(3), VALUES(holder), holder), until = IF(holder = VALUES(holder), VALUES(until), until)",
        )
        .bind(work)
        .bind(node.to_vec())
        .bind(lasting.as_secs());
        self.call(take.execute(&self.pool)).await?;
        let holder = sqlx::query("SELECT holder FROM lease WHERE work = ?").bind(work);
        let row = self.call(holder.fetch_optional(&self.pool)).await?;
        let Some(row) = row else { return Ok(false) };
        Ok(row.try_get::<Vec<u8>, _>("holder")? == node)
    }

    /// Lets go of a piece of work, when it is this node's.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer: then it is free when its time is over.
    pub async fn end_lease(&self, work: &str, node: [u8; 16]) -> Result<(), StoreError> {
        let end = sqlx::query("DELETE FROM lease WHERE work = ? AND holder = ?").bind(work);
        self.call(end.bind(node.to_vec()).execute(&self.pool)).await?;
        Ok(())
    }
}
