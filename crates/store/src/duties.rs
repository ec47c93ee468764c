//! Duties: what the operators said last of each server.

use merismos_core::duty::{DrainPinsError, Duty, DutyOrder};
use merismos_core::name::PoolServer;
use merismos_core::time::Wall;
use sqlx::mysql::MySqlArguments;
use sqlx::query::Query;
use sqlx::{MySql, Row};

use crate::{Store, StoreError};

fn word(duty: Duty) -> &'static str {
    match duty {
        Duty::InService => "in_service",
        Duty::Draining => "draining",
        Duty::Withdrawn => "withdrawn",
    }
}

fn duty(word: &str) -> Option<Duty> {
    [Duty::InService, Duty::Draining, Duty::Withdrawn].into_iter().find(|duty| self::word(*duty) == word)
}

impl Store {
    /// Every order.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn duties(&self) -> Result<Vec<(PoolServer, DutyOrder)>, StoreError> {
        let query = "SELECT pool, server, CAST(duty AS CHAR) AS duty, reason, who, number, follows, at, deadline, \
                     CAST(pins AS CHAR) AS pins, until_at, window_name FROM duty";
        let rows = self.call(sqlx::query(query).fetch_all(&self.pool)).await?;
        let mut orders = Vec::new();
        for row in rows {
            let unreadable = |why: String| StoreError::Unreadable { what: "a duty".to_owned(), why };
            let (pool, server): (String, String) = (row.try_get("pool")?, row.try_get("server")?);
            let name: PoolServer = format!("{pool}/{server}")
                .parse()
                .map_err(|error: merismos_core::name::PoolServerError| unreadable(error.to_string()))?;
            let word: String = row.try_get("duty")?;
            let pins: String = row.try_get("pins")?;
            let order = DutyOrder {
                duty: duty(&word).ok_or_else(|| unreadable(format!("the duty {word:?}")))?,
                reason: row.try_get("reason")?,
                who: row.try_get("who")?,
                number: row.try_get("number")?,
                follows: row.try_get("follows")?,
                at: Wall(row.try_get("at")?),
                deadline: row.try_get::<Option<i64>, _>("deadline")?.map(Wall),
                pins: pins.parse().map_err(|error: DrainPinsError| unreadable(error.to_string()))?,
                until: row.try_get::<Option<i64>, _>("until_at")?.map(Wall),
                window: row
                    .try_get::<Option<String>, _>("window_name")?
                    .and_then(|window| window.parse().ok()),
            };
            orders.push((name, order));
        }
        Ok(orders)
    }

    /// Keeps an order, unless a newer one for the same server is kept already, and notifies the other nodes.
    ///
    /// # Errors
    /// [`StoreError::Away`] when the database does not answer.
    pub async fn put_duty(&self, server: &PoolServer, order: &DutyOrder) -> Result<(), StoreError> {
        self.call(upsert(server, order).execute(&self.pool)).await?;
        self.tell_others().await
    }
}

/// Writes an order, unless a newer one stands.
pub(crate) fn upsert<'q>(server: &'q PoolServer, order: &'q DutyOrder) -> Query<'q, MySql, MySqlArguments> {
    // `number` is set last: MariaDB assigns from left to right, and the conditions compare with the old one.
    sqlx::query(
            "INSERT INTO duty (pool, server, duty, reason, who, at, deadline, pins, until_at, window_name, follows, number) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) \
             ON DUPLICATE KEY UPDATE \
             duty = IF(VALUES(number) >= number, VALUES(duty), duty), \
             reason = IF(VALUES(number) >= number, VALUES(reason), reason), \
             who = IF(VALUES(number) >= number, VALUES(who), who), \
             at = IF(VALUES(number) >= number, VALUES(at), at), \
             deadline = IF(VALUES(number) >= number, VALUES(deadline), deadline), \
             pins = IF(VALUES(number) >= number, VALUES(pins), pins), \
             until_at = IF(VALUES(number) >= number, VALUES(until_at), until_at), \
             window_name = IF(VALUES(number) >= number, VALUES(window_name), window_name), \
             follows = IF(VALUES(number) >= number, VALUES(follows), follows), number = GREATEST(VALUES(number), number)",
        )
        .bind(server.pool.as_str())
        .bind(server.server.as_str())
        .bind(word(order.duty))
        .bind(&order.reason)
        .bind(&order.who)
        .bind(order.at.0)
        .bind(order.deadline.map(|deadline| deadline.0))
        .bind(order.pins.to_string())
        .bind(order.until.map(|until| until.0))
        .bind(order.window.as_ref().map(|window| window.as_str()))
        .bind(order.follows)
        .bind(order.number)
}
