//! Plans of maintenance and orders that stand: windows, rolls, and orders for addresses and nodes, each as its newest state.

use serde::{Deserialize, Serialize};
use sqlx::Row;

use crate::{Store, StoreError};

/// What kind of plan it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PlanKind {
    /// A planned time of maintenance.
    Window,
    /// Maintenance of many servers one after the other.
    Roll,
    /// An order for an address that moves.
    Address,
    /// An order for a node.
    Node,
}

impl PlanKind {
    const ALL: [Self; 4] = [Self::Window, Self::Roll, Self::Address, Self::Node];

    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Window => "window",
            Self::Roll => "roll",
            Self::Address => "address",
            Self::Node => "node",
        }
    }
}

/// A plan as it is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredPlan {
    /// Its kind.
    pub kind: PlanKind,
    /// Name of a window, an address or a node, or number of a roll.
    pub name: String,
    /// Its place among all changes: of two states of one plan the one with the larger number counts.
    pub number: u64,
    /// The plan; absent when it was removed.
    pub body: Option<serde_json::Value>,
}

impl StoredPlan {
    /// Kind and name, which no two plans share.
    #[must_use]
    pub fn key(&self) -> (PlanKind, String) {
        (self.kind, self.name.clone())
    }
}

impl Store {
    /// Every plan, removed ones too.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn plans(&self) -> Result<Vec<StoredPlan>, StoreError> {
        let query = "SELECT CAST(kind AS CHAR) AS kind, name, number, body FROM plan";
        let rows = self.call(sqlx::query(query).fetch_all(&self.pool)).await?;
        let mut plans = Vec::new();
        for row in rows {
            let (kind, name): (String, String) = (row.try_get("kind")?, row.try_get("name")?);
            let unreadable = |why: String| StoreError::Unreadable { what: format!("{kind} {name}"), why };
            let known = PlanKind::ALL.into_iter().find(|known| known.word() == kind);
            let text: Option<String> = row.try_get("body")?;
            let body = text.map(|text| serde_json::from_str(&text)).transpose();
            plans.push(StoredPlan {
                kind: known.ok_or_else(|| unreadable("no such kind".to_owned()))?,
                number: row.try_get("number")?,
                body: body.map_err(|error| unreadable(error.to_string()))?,
                name,
            });
        }
        Ok(plans)
    }

    /// Keeps a plan, unless a newer state of it is kept already, and notifies the other nodes.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_plan(&self, plan: &StoredPlan) -> Result<(), StoreError> {
        // `number` is set last: MariaDB assigns from left to right, and the condition compares with the old one.
        let put = sqlx::query(
            "INSERT INTO plan (kind, name, number, body) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE \
             body = IF(VALUES(number) >= number, VALUES(body), body), number = GREATEST(VALUES(number), number)",
        )
        .bind(plan.kind.word())
        .bind(&plan.name)
        .bind(plan.number)
        .bind(plan.body.as_ref().map(ToString::to_string));
        self.call(put.execute(&self.pool)).await?;
        self.tell_others().await
    }
}
