//! Revisions: the whole document, one row each, never changed.

use merismos_core::time::Wall;
use serde::{Deserialize, Serialize};
use sqlx::Row;
use sqlx::mysql::MySqlRow;

use crate::{Store, StoreError};

/// One immutable state of the whole configuration.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revision {
    /// Its number, from 1.
    pub number: u64,
    /// The document as JSON.
    pub document: String,
    /// Who made it.
    pub author: String,
    /// Why.
    pub note: String,
    /// When.
    pub at: Wall,
}

fn from_row(row: &MySqlRow) -> Result<Revision, sqlx::Error> {
    Ok(Revision {
        number: row.try_get("number")?,
        document: row.try_get("document")?,
        author: row.try_get("author")?,
        note: row.try_get("note")?,
        at: Wall(row.try_get("at")?),
    })
}

impl Store {
    /// The newest revision.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn latest_revision(&self) -> Result<Option<Revision>, StoreError> {
        let query = "SELECT number, CAST(document AS CHAR) AS document, author, note, at \
                     FROM revision ORDER BY number DESC LIMIT 1";
        let row = self.call(sqlx::query(query).fetch_optional(&self.pool)).await?;
        Ok(row.as_ref().map(from_row).transpose()?)
    }

    /// Adds a revision: the whole of it or nothing.
    ///
    /// # Errors
    /// [`StoreError::Stale`] when one of that number exists; [`StoreError::Away`] when the database does not answer,
    /// in which case it may or may not have been added.
    pub async fn add_revision(&self, revision: &Revision) -> Result<(), StoreError> {
        let insert =
            sqlx::query("INSERT INTO revision (number, document, author, note, at) VALUES (?, ?, ?, ?, ?)")
                .bind(revision.number)
                .bind(&revision.document)
                .bind(&revision.author)
                .bind(&revision.note)
                .bind(revision.at.0);
        match self.call(insert.execute(&self.pool)).await {
            Ok(_) => Ok(()),
            Err(StoreError::Refused(sqlx::Error::Database(error))) if error.is_unique_violation() => {
                Err(StoreError::Stale { number: revision.number })
            }
            Err(error) => Err(error),
        }
    }
}
