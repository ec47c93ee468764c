//! Pins of clients.

use std::sync::Arc;

use axum::extract::State;
use axum::{Extension, Json};
use merismos_api::{EventKind, PinKeyTimes, PinQuery, Pins, PinsRemoved};
use merismos_core::name::Name;
use serde_json::json;

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Changing, Finding, Looking, PathParams, QueryParams};
use crate::access::{self, SecretError};
use crate::nodes::PinKeyError;

/// Pins of a pool that are kept here: which client is tied to which server, and until when.
#[utoipa::path(
    get, path = "/pools/{pool}/pins", operation_id = "list_pins", tag = "look",
    params(PinQuery, ("pool" = String, Path, description = "The pool", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = Pins), Finding)
)]
pub(super) async fn list(
    State(app): State<Arc<ApiState>>,
    PathParams(pool): PathParams<String>,
    QueryParams(query): QueryParams<PinQuery>,
) -> Result<Json<Pins>, ApiError> {
    let pool: Name = pool.parse().map_err(ApiError::bad_request)?;
    Ok(Json(app.controller.pins(pool, query).await?.map_err(ApiError::unknown)?))
}

/// Remove pins of a pool: all of them, those of a client, or those of a server. Their clients are distributed anew.
#[utoipa::path(
    delete, path = "/pools/{pool}/pins", operation_id = "remove_pins", tag = "change",
    params(PinQuery, ("pool" = String, Path, description = "The pool", pattern = "^[a-z][a-z0-9-]{0,62}$")),
    responses((status = 200, body = PinsRemoved), Changing)
)]
pub(super) async fn remove(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    PathParams(pool): PathParams<String>,
    QueryParams(query): QueryParams<PinQuery>,
) -> Result<Json<PinsRemoved>, ApiError> {
    let pool: Name = pool.parse().map_err(ApiError::bad_request)?;
    let removed =
        app.controller.remove_pins(pool.clone(), query.clone()).await?.map_err(ApiError::unknown)?;
    let of_server = query.server.as_ref().map(|server| format!(" of server {server}")).unwrap_or_default();
    let of_client = query.client.map(|client| format!(" of clients from {}", client.0)).unwrap_or_default();
    let says = format!("{removed} pins{of_server}{of_client} removed by {who}");
    app.journal.write(
        EventKind::Traffic,
        format!("pool {pool}"),
        says,
        json!({ "removed": removed, "query": query }),
    );
    Ok(Json(PinsRemoved { removed }))
}

/// Tell since when cookies that tie clients are signed with which key.
#[utoipa::path(
    get, path = "/pin-key", operation_id = "show_pin_key", tag = "look",
    responses((status = 200, body = PinKeyTimes), Looking)
)]
pub(super) async fn key(State(app): State<Arc<ApiState>>) -> Result<Json<PinKeyTimes>, ApiError> {
    times(&app).await.map(Json)
}

/// Draw a new key that cookies are signed with. What the last one signed holds until the next is drawn, and its clients get a new cookie
/// when they come; what the one before signed holds no more.
#[utoipa::path(
    post, path = "/pin-key", operation_id = "renew_pin_key", tag = "change",
    responses((status = 200, body = PinKeyTimes), Changing)
)]
pub(super) async fn renew_key(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
) -> Result<Json<PinKeyTimes>, ApiError> {
    app.pin_key.renew(&app.store, &app.controller, &app.troubles).await.map_err(|error| match error {
        PinKeyError::Secret(error) => ApiError::from(error),
        PinKeyError::Stopping(stopping) => stopping.into(),
    })?;
    let says = format!(
        "a new key that pins are signed with, by {who}; what the last one signed holds until the next"
    );
    app.journal.here(says, json!({}));
    times(&app).await.map(Json)
}

async fn times(app: &ApiState) -> Result<PinKeyTimes, ApiError> {
    let folder = app.state_folder.clone();
    let (drawn, before) = on_disk(move || access::pin_key_times(&folder)).await?;
    Ok(PinKeyTimes { drawn, before })
}

async fn on_disk<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, SecretError> + Send + 'static,
) -> Result<T, ApiError> {
    let done = tokio::task::spawn_blocking(work).await;
    done.unwrap_or_else(|panicked| std::panic::resume_unwind(panicked.into_panic())).map_err(ApiError::from)
}
