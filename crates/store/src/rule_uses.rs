//! Since when frontends list rules, and when the last request met each: over restarts, and over all nodes that share the database.

use merismos_core::time::Wall;
use sqlx::{FromRow, QueryBuilder};

use crate::columns::{MaybeMoment, Moment};
use crate::{Store, StoreError};

/// How many rows one statement writes.
const ROWS: usize = 500;

/// A rule of a frontend, and its use.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct RuleUse {
    /// Name of the frontend.
    pub frontend: String,
    /// Name of the rule.
    pub rule: String,
    /// Since when the frontend lists it.
    #[sqlx(try_from = "Moment")]
    pub listed: Wall,
    /// When the last request met it.
    #[sqlx(try_from = "MaybeMoment")]
    pub last: Option<Wall>,
}

impl Store {
    /// All uses that are known.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn rule_uses(&self) -> Result<Vec<RuleUse>, StoreError> {
        let all = sqlx::query_as("SELECT frontend, rule, listed, last FROM rule_use");
        self.call(all.fetch_all(&self.pool)).await
    }

    /// Notes uses. Of a rule that is known the earlier listing and the later use count.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn note_rule_uses(&self, uses: &[RuleUse]) -> Result<(), StoreError> {
        for some in uses.chunks(ROWS) {
            let mut query = QueryBuilder::new("INSERT INTO rule_use (frontend, rule, listed, last) ");
            query.push_values(some, |mut row, one| {
                row.push_bind(&one.frontend).push_bind(&one.rule).push_bind(one.listed.0);
                row.push_bind(one.last.map(|last| last.0));
            });
            query.push(
                " ON DUPLICATE KEY UPDATE listed = LEAST(listed, VALUES(listed)), \
                 last = NULLIF(GREATEST(COALESCE(last, 0), COALESCE(VALUES(last), 0)), 0)",
            );
            self.call(query.build().execute(&self.pool)).await?;
        }
        Ok(())
    }

    /// Forgets uses of rules that frontends do not list any more.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn forget_rule_uses(&self, gone: &[(String, String)]) -> Result<(), StoreError> {
        for some in gone.chunks(ROWS) {
            let mut query = QueryBuilder::new("DELETE FROM rule_use WHERE (frontend, rule) IN ");
            query.push_tuples(some, |mut row, (frontend, rule)| {
                row.push_bind(frontend).push_bind(rule);
            });
            self.call(query.build().execute(&self.pool)).await?;
        }
        Ok(())
    }
}
