//! What columns hold, on its way into the types that others know: those know nothing of the database.

use merismos_core::config::Acceptance;
use merismos_core::time::Wall;

/// A moment, in milliseconds since 1970.
#[derive(sqlx::Type)]
#[sqlx(transparent)]
pub(crate) struct Moment(i64);

impl From<Moment> for Wall {
    fn from(Moment(millis): Moment) -> Self {
        Self(millis)
    }
}

/// A moment that may not have come.
#[derive(sqlx::Type)]
#[sqlx(transparent)]
pub(crate) struct MaybeMoment(Option<i64>);

impl From<MaybeMoment> for Option<Wall> {
    fn from(MaybeMoment(millis): MaybeMoment) -> Self {
        millis.map(Wall)
    }
}

/// JSON as text. What can not be read is taken for empty: it is beside the facts, and one row must not hide the others.
#[derive(sqlx::Type)]
#[sqlx(transparent)]
pub(crate) struct JsonText(String);

impl From<JsonText> for serde_json::Value {
    fn from(JsonText(text): JsonText) -> Self {
        serde_json::from_str(&text).unwrap_or_default()
    }
}

impl From<JsonText> for Vec<Acceptance> {
    fn from(JsonText(text): JsonText) -> Self {
        serde_json::from_str(&text).unwrap_or_default()
    }
}
