//! Trials that are over.

use sqlx::FromRow;

use crate::{Store, StoreError};

/// A trial as it is kept.
#[derive(Clone, Debug, PartialEq)]
pub struct StoredTrial {
    /// Its number; grows with time.
    pub id: u64,
    /// The whole trial, as the API shows it.
    pub trial: serde_json::Value,
}

impl Store {
    /// Keeps a trial; one of the same number is replaced.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_trial(&self, trial: &StoredTrial) -> Result<(), StoreError> {
        let replace = sqlx::query("REPLACE INTO trial (id, trial) VALUES (?, ?)")
            .bind(trial.id)
            .bind(trial.trial.to_string());
        self.call(replace.execute(&self.pool)).await?;
        Ok(())
    }

    /// The newest trials, the newest first.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn trials(&self, limit: u32) -> Result<Vec<StoredTrial>, StoreError> {
        let query = "SELECT id, CAST(trial AS CHAR) AS trial FROM trial ORDER BY id DESC LIMIT ?";
        let rows = self.call(sqlx::query(query).bind(limit).fetch_all(&self.pool)).await?;
        rows.iter().map(from_row).collect()
    }

    /// One trial.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn trial(&self, id: u64) -> Result<Option<StoredTrial>, StoreError> {
        let query = "SELECT id, CAST(trial AS CHAR) AS trial FROM trial WHERE id = ?";
        let row = self.call(sqlx::query(query).bind(id).fetch_optional(&self.pool)).await?;
        row.as_ref().map(from_row).transpose()
    }
}

fn from_row(row: &sqlx::mysql::MySqlRow) -> Result<StoredTrial, StoreError> {
    let (id, text) = <(u64, String)>::from_row(row)?;
    let trial = serde_json::from_str(&text)
        .map_err(|error| StoreError::Unreadable { what: format!("trial {id}"), why: error.to_string() })?;
    Ok(StoredTrial { id, trial })
}
