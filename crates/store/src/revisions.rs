//! Revisions: the whole document, one row each, never changed.

use std::collections::BTreeMap;

use merismos_core::config::Acceptance;
use merismos_core::duty::DutyOrder;
use merismos_core::name::PoolServer;
use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use sqlx::FromRow;

use crate::columns::{JsonText, Moment};
use crate::duties::upsert;
use crate::{Store, StoreError};

/// One immutable state of the whole configuration.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, FromRow)]
pub struct Revision {
    /// Its number, from 1.
    pub number: u64,
    /// The document as JSON.
    pub document: String,
    /// Name of the token that made it.
    pub author: String,
    /// The note that its author left.
    pub note: String,
    /// When it was made.
    #[sqlx(try_from = "Moment")]
    pub at: Wall,
    /// The warnings that were accepted with it.
    #[serde(default)]
    #[sqlx(try_from = "JsonText")]
    pub accepted: Vec<Acceptance>,
    /// The SHA-256 of its content and of the digest before it, in hexadecimal; `None` for one of an older release.
    #[serde(default)]
    pub digest: Option<String>,
    /// The digest of the revision that it follows.
    #[serde(default)]
    pub parent: Option<String>,
    /// What it changed of the one before, in a line; empty for one of an older release.
    #[serde(default)]
    pub changed: String,
}

/// A revision without its document.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct StoredRevisionHead {
    /// Its number, from 1.
    pub number: u64,
    /// Name of the token that made it.
    pub author: String,
    /// The note that its author left.
    pub note: String,
    /// When it was made.
    #[sqlx(try_from = "Moment")]
    pub at: Wall,
    /// The warnings that were accepted with it.
    #[sqlx(try_from = "JsonText")]
    pub accepted: Vec<Acceptance>,
    /// What it changed of the one before, in a line; empty for one of an older release.
    pub changed: String,
}

impl Revision {
    /// Follows another revision: sets its number, its parent and its digest.
    #[must_use]
    pub fn after(mut self, before: Option<&Self>) -> Self {
        self.number = before.map_or(0, |before| before.number) + 1;
        self.parent = before.and_then(|before| before.digest.clone());
        self.digest = Some(self.compute_digest());
        self
    }

    fn compute_digest(&self) -> String {
        let mut sha = Sha256::new();
        // Each part is preceded by its length, so that no two revisions make the same bytes.
        for part in [
            self.number.to_string().as_str(),
            self.parent.as_deref().unwrap_or_default(),
            &self.document,
            &self.author,
            &self.note,
            &self.at.0.to_string(),
        ] {
            sha.update((part.len() as u64).to_be_bytes());
            sha.update(part.as_bytes());
        }
        sha.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
    }

    /// Whether another record of the same number is of the same revision.
    #[must_use]
    pub fn is_same_as(&self, other: &Self) -> bool {
        match (&self.digest, &other.digest) {
            (Some(one), Some(other)) => one == other,
            _ => self.document == other.document && self.at == other.at,
        }
    }

    /// What tells it from another revision of the same number, for people: its number and the beginning of its digest.
    #[must_use]
    pub fn label(&self) -> String {
        let digest = self.digest.as_ref().map(|digest| format!(" ({})", &digest[..8]));
        format!("{}{}", self.number, digest.unwrap_or_default())
    }

    /// The revision without its document.
    #[must_use]
    pub fn head(&self) -> StoredRevisionHead {
        StoredRevisionHead {
            number: self.number,
            author: self.author.clone(),
            note: self.note.clone(),
            at: self.at,
            accepted: self.accepted.clone(),
            changed: self.changed.clone(),
        }
    }
}

impl Store {
    /// The newest revision.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn latest_revision(&self) -> Result<Option<Revision>, StoreError> {
        let query = "SELECT number, CAST(document AS CHAR) AS document, author, note, at, \
                     CAST(accepted AS CHAR) AS accepted, digest, parent, changed FROM revision ORDER BY number DESC LIMIT 1";
        self.call(sqlx::query_as(query).fetch_optional(&self.pool)).await
    }

    /// The number of the newest revision; 0 when there is none.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn latest_revision_number(&self) -> Result<u64, StoreError> {
        let newest: Option<u64> =
            self.call(sqlx::query_scalar("SELECT MAX(number) FROM revision").fetch_one(&self.pool)).await?;
        Ok(newest.unwrap_or(0))
    }

    /// One revision.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn revision(&self, number: u64) -> Result<Option<Revision>, StoreError> {
        let query = "SELECT number, CAST(document AS CHAR) AS document, author, note, at, \
                     CAST(accepted AS CHAR) AS accepted, digest, parent, changed FROM revision WHERE number = ?";
        self.call(sqlx::query_as(query).bind(number).fetch_optional(&self.pool)).await
    }

    /// Revisions without their documents, the newest first: at most `limit`, all with numbers below `before`.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn revisions(
        &self,
        before: Option<u64>,
        limit: u32,
    ) -> Result<Vec<StoredRevisionHead>, StoreError> {
        let query = "SELECT number, author, note, at, CAST(accepted AS CHAR) AS accepted, changed FROM revision \
                     WHERE number < ? ORDER BY number DESC LIMIT ?";
        let select = sqlx::query_as(query).bind(before.unwrap_or(u64::MAX)).bind(limit);
        self.call(select.fetch_all(&self.pool)).await
    }

    /// Adds a revision with the orders of servers that join with it, and notifies the other nodes: the whole of it or nothing.
    ///
    /// # Errors
    /// [`StoreError::Stale`] when one of that number exists; [`StoreError::Away`] when the database does not answer,
    /// in which case it may or may not have been added.
    pub async fn add_revision(
        &self,
        revision: &Revision,
        duties: &BTreeMap<PoolServer, DutyOrder>,
    ) -> Result<(), StoreError> {
        let insert = sqlx::query(
            "INSERT INTO revision (number, document, author, note, at, accepted, digest, parent, changed) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(revision.number)
        .bind(&revision.document)
        .bind(&revision.author)
        .bind(&revision.note)
        .bind(revision.at.0)
        .bind(serde_json::to_string(&revision.accepted).expect("texts and numbers make JSON"))
        .bind(&revision.digest)
        .bind(&revision.parent)
        .bind(&revision.changed);
        let written = async {
            let mut transaction = self.pool.begin().await?;
            insert.execute(&mut *transaction).await?;
            for (server, order) in duties {
                upsert(server, order).execute(&mut *transaction).await?;
            }
            let tell =
                sqlx::query("UPDATE node SET changes = changes + 1 WHERE id = ?").bind(self.node.to_vec());
            tell.execute(&mut *transaction).await?;
            transaction.commit().await
        };
        match self.call(written).await {
            Ok(_) => Ok(()),
            Err(StoreError::Refused(sqlx::Error::Database(error))) if error.is_unique_violation() => {
                Err(StoreError::Stale { number: revision.number })
            }
            Err(error) => Err(error),
        }
    }
}
