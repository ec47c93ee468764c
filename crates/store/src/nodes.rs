//! The nodes that share the database: who is there, what each runs, and whether one wrote something that the others follow.

use std::collections::BTreeSet;
use std::time::Duration;

use merismos_core::nodes::NodeReport;
use sqlx::Row;

use crate::{Store, StoreError};

/// A node that gave no sign of life for so long is gone. Each gives one in a third of it.
pub const GONE_AFTER: Duration = Duration::from_secs(10);

/// How many nodes can share a database.
pub const SLOTS: u8 = 128;

/// How long rows of nodes are kept that gave no sign of life, in days.
const KEPT_DAYS: u32 = 7;

/// A node as the database knows it.
#[derive(Clone, Debug, PartialEq)]
pub struct StoredNode {
    /// Its identity, which its state folder keeps.
    pub id: [u8; 16],
    /// What people call it.
    pub name: String,
    /// Grows with whatever it writes that others follow.
    pub changes: u64,
    /// How long ago it gave a sign of life, by the database's clock.
    pub seen: Duration,
    /// What it said of itself then; nothing of a node of an older release.
    pub report: Option<NodeReport>,
}

impl StoredNode {
    /// Whether it gave a sign of life lately.
    #[must_use]
    pub fn is_alive(&self) -> bool {
        self.seen < GONE_AFTER
    }
}

impl Store {
    /// Joins the nodes that share the database; gives this node's slot, which no other one has: what numbers it makes by itself has the slot in it.
    /// A node that was here before keeps its own.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer; [`StoreError::NoSlot`] when there are [`SLOTS`] nodes already.
    pub async fn join(&self, name: &str, report: &NodeReport) -> Result<u8, StoreError> {
        loop {
            self.sign_of_life(name, report).await?;
            let known = sqlx::query("SELECT id, slot FROM node");
            let mut free: BTreeSet<u8> = (0..SLOTS).collect();
            for row in self.call(known.fetch_all(&self.pool)).await? {
                let Some(slot) = row.try_get::<Option<u8>, _>("slot")? else { continue };
                if row.try_get::<Vec<u8>, _>("id")? == self.node {
                    return Ok(slot);
                }
                free.remove(&slot);
            }
            let slot = *free.first().ok_or(StoreError::NoSlot { most: SLOTS })?;
            let take =
                sqlx::query("UPDATE node SET slot = ? WHERE id = ?").bind(slot).bind(self.node.to_vec());
            match self.call(take.execute(&self.pool)).await {
                Ok(_) => return Ok(slot),
                // Another node was faster.
                Err(StoreError::Refused(sqlx::Error::Database(error))) if error.is_unique_violation() => {}
                Err(error) => return Err(error),
            }
        }
    }

    /// A sign of life of this node, with what it says of itself.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn sign_of_life(&self, name: &str, report: &NodeReport) -> Result<(), StoreError> {
        // A row that was removed and is there again begins with another count of changes, so that it counts as changed.
        let note = sqlx::query(
            "INSERT INTO node (id, name, seen, changes, report) VALUES (?, ?, NOW(3), UNIX_TIMESTAMP(NOW(3)) * 1000, ?) \
             ON DUPLICATE KEY UPDATE name = VALUES(name), seen = VALUES(seen), report = VALUES(report)",
        )
        .bind(self.node.to_vec())
        .bind(name)
        .bind(serde_json::to_string(report).expect("numbers and texts make JSON"));
        self.call(note.execute(&self.pool)).await?;
        Ok(())
    }

    /// Forgets nodes that gave no sign of life for a week.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn forget_long_gone_nodes(&self) -> Result<(), StoreError> {
        let gone = sqlx::query("DELETE FROM node WHERE seen < NOW(3) - INTERVAL ? DAY").bind(KEPT_DAYS);
        self.call(gone.execute(&self.pool)).await?;
        Ok(())
    }

    /// Every node that is known, this one too, in the order of their names, and the one that does the work that one node has to do. One cheap
    /// query, which each node asks about twice a second.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn nodes(&self, work: &str) -> Result<(Vec<StoredNode>, Option<[u8; 16]>), StoreError> {
        let query = sqlx::query(
            "SELECT id, name, changes, TIMESTAMPDIFF(MICROSECOND, seen, NOW(3)) AS ago, report, \
             (SELECT holder FROM lease WHERE work = ? AND until > NOW(3)) AS holder FROM node ORDER BY name, id",
        );
        let rows = self.call(query.bind(work).fetch_all(&self.pool)).await?;
        let mut holder = None;
        let mut nodes = Vec::with_capacity(rows.len());
        for row in rows {
            let identity = |bytes: Vec<u8>| <[u8; 16]>::try_from(bytes).ok();
            let Some(id) = identity(row.try_get("id")?) else { continue };
            holder = row.try_get::<Option<Vec<u8>>, _>("holder")?.and_then(identity);
            let ago: i64 = row.try_get("ago")?;
            nodes.push(StoredNode {
                id,
                name: row.try_get("name")?,
                changes: row.try_get("changes")?,
                seen: Duration::from_micros(u64::try_from(ago).unwrap_or(0)),
                report: serde_json::from_str(&row.try_get::<String, _>("report")?).ok(),
            });
        }
        Ok((nodes, holder))
    }

    /// This node is gone.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn leave(&self) -> Result<(), StoreError> {
        let gone = sqlx::query("DELETE FROM node WHERE id = ?").bind(self.node.to_vec());
        self.call(gone.execute(&self.pool)).await?;
        let lets_go = sqlx::query("DELETE FROM lease WHERE holder = ?").bind(self.node.to_vec());
        self.call(lets_go.execute(&self.pool)).await?;
        Ok(())
    }

    /// Forgets a node that is gone; gives whether there was one. A node that is alive is there again with its next sign of life.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn forget_node(&self, id: [u8; 16]) -> Result<bool, StoreError> {
        let gone = sqlx::query("DELETE FROM node WHERE id = ?").bind(id.to_vec());
        Ok(self.call(gone.execute(&self.pool)).await?.rows_affected() > 0)
    }

    /// Notifies the other nodes that this one wrote something that they follow: they see it with their next look.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer. Nodes look at everything from time to time, so nothing is lost then.
    pub async fn tell_others(&self) -> Result<(), StoreError> {
        let tell = sqlx::query("UPDATE node SET changes = changes + 1 WHERE id = ?");
        self.call(tell.bind(self.node.to_vec()).execute(&self.pool)).await?;
        Ok(())
    }
}
