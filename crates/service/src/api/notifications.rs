//! Messages to people.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::StatusCode;
use merismos_api::SentMessages;
use merismos_core::name::Name;
use serde::Deserialize;
use utoipa::IntoParams;

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Finding, Looking, PathParams, QueryParams};
use crate::notifications;

#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct MessagesQuery {
    /// How many at most.
    #[serde(default = "usual")]
    #[param(minimum = 1, maximum = 500)]
    limit: usize,
}

fn usual() -> usize {
    50
}

/// The newest messages to people, and what became of each.
#[utoipa::path(
    get, path = "/notifications", operation_id = "list_messages", tag = "look", params(MessagesQuery),
    responses((status = 200, body = SentMessages), Looking)
)]
pub(super) async fn sent(
    State(app): State<Arc<ApiState>>,
    QueryParams(query): QueryParams<MessagesQuery>,
) -> Result<Json<SentMessages>, ApiError> {
    if !(1..=500).contains(&query.limit) {
        return Err(ApiError::bad_request("limit is a number from 1 to 500."));
    }
    // A node that does not lead delivers none; the database has those of the one that does.
    if !app.nodes.leads_or_is_cut_off()
        && let Ok(messages) = app.store.messages(query.limit as u32).await
    {
        let messages = messages.iter().map(notifications::shown).collect();
        return Ok(Json(SentMessages { messages }));
    }
    Ok(Json(SentMessages { messages: app.messages.sent(query.limit) }))
}

/// Deliver a message at once that only says that it is a try, and say what came of it by each of its ways.
#[utoipa::path(
    post, path = "/notifications/{name}/try", operation_id = "try_message", tag = "look",
    params(("name" = String, Path, description = "The message's name", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = SentMessages), Finding)
)]
pub(super) async fn try_out(
    State(app): State<Arc<ApiState>>,
    Extension(who): Extension<CallerName>,
    PathParams(name): PathParams<String>,
) -> Result<Json<SentMessages>, ApiError> {
    let name: Name = name.parse().map_err(ApiError::bad_request)?;
    let messages = app.messages.try_out(&name, &who.0).await.map_err(|none| {
        ApiError::new(StatusCode::NOT_FOUND, "no-such-object", "There is no such message", none.to_string())
    })?;
    Ok(Json(SentMessages { messages }))
}
