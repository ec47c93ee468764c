//! Drafts: changes on the way to becoming a revision.

use merismos_core::config::Acceptance;
use merismos_core::time::Wall;
use sqlx::FromRow;

use crate::columns::{JsonText, Moment};
use crate::{Store, StoreError};

/// A draft as it is kept.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct StoredDraft {
    /// Name of the draft, unique in the store.
    pub name: String,
    /// Name of the token that began it.
    pub owner: String,
    /// What it is for.
    pub note: String,
    /// The revision that it began from.
    pub base: u64,
    /// The document as JSON. Its objects can be read, but the relations between them need not hold yet.
    pub document: String,
    /// The warnings that were accepted in it.
    #[sqlx(try_from = "JsonText")]
    pub accepted: Vec<Acceptance>,
    /// Grows by one with each change.
    pub version: u64,
    /// When it was begun.
    #[sqlx(try_from = "Moment")]
    pub created: Wall,
    /// When it was last changed.
    #[sqlx(try_from = "Moment")]
    pub changed: Wall,
}

const COLUMNS: &str = "name, owner, note, base, CAST(document AS CHAR) AS document, \
                       CAST(accepted AS CHAR) AS accepted, version, created, changed";

fn accepted_json(draft: &StoredDraft) -> String {
    serde_json::to_string(&draft.accepted).expect("texts and numbers make JSON")
}

impl Store {
    /// Every draft, the one that was changed last first.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn drafts(&self) -> Result<Vec<StoredDraft>, StoreError> {
        let query = format!("SELECT {COLUMNS} FROM draft ORDER BY changed DESC, name LIMIT 1000");
        self.call(sqlx::query_as(sqlx::AssertSqlSafe(query)).fetch_all(&self.pool)).await
    }

    /// One draft.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn draft(&self, name: &str) -> Result<Option<StoredDraft>, StoreError> {
        let query = format!("SELECT {COLUMNS} FROM draft WHERE name = ?");
        let select = sqlx::query_as(sqlx::AssertSqlSafe(query)).bind(name);
        self.call(select.fetch_optional(&self.pool)).await
    }

    /// Adds a draft; `false` when one of that name exists.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn add_draft(&self, draft: &StoredDraft) -> Result<bool, StoreError> {
        let insert = sqlx::query(
            "INSERT INTO draft (name, owner, note, base, document, accepted, version, created, changed) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(&draft.name)
        .bind(&draft.owner)
        .bind(&draft.note)
        .bind(draft.base)
        .bind(&draft.document)
        .bind(accepted_json(draft))
        .bind(draft.version)
        .bind(draft.created.0)
        .bind(draft.changed.0);
        match self.call(insert.execute(&self.pool)).await {
            Ok(_) => Ok(true),
            Err(StoreError::Refused(sqlx::Error::Database(error))) if error.is_unique_violation() => {
                Ok(false)
            }
            Err(error) => Err(error),
        }
    }

    /// Puts a draft in the place of the version before it; `false` when another author changed or removed it first.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn change_draft(&self, draft: &StoredDraft) -> Result<bool, StoreError> {
        let update = sqlx::query(
            "UPDATE draft SET note = ?, base = ?, document = ?, accepted = ?, version = ?, changed = ? \
             WHERE name = ? AND version = ?",
        )
        .bind(&draft.note)
        .bind(draft.base)
        .bind(&draft.document)
        .bind(accepted_json(draft))
        .bind(draft.version)
        .bind(draft.changed.0)
        .bind(&draft.name)
        .bind(draft.version - 1);
        Ok(self.call(update.execute(&self.pool)).await?.rows_affected() == 1)
    }

    /// Removes a draft; `false` when there was none.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn remove_draft(&self, name: &str) -> Result<bool, StoreError> {
        let delete = sqlx::query("DELETE FROM draft WHERE name = ?").bind(name);
        Ok(self.call(delete.execute(&self.pool)).await?.rows_affected() == 1)
    }
}
