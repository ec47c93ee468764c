//! Trials.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use merismos_api::{Trial, TrialRequest, Trials};

use super::ApiState;
use super::auth::CallerName;
use super::problem::{ApiError, Changing, Finding, JsonBody, Looking, PathParams};

/// How many trials are listed.
const LISTED: u32 = 50;

/// The newest trials.
#[utoipa::path(
    get, path = "/trials", operation_id = "list_trials", tag = "trials",
    responses((status = 200, body = Trials), Looking)
)]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Json<Trials> {
    Json(Trials { trials: app.trials.list(LISTED).await })
}

/// Begin a trial: real requests through a frontend. Ask for it by its number to see how far it is.
#[utoipa::path(
    post, path = "/trials", operation_id = "begin_trial", tag = "trials", request_body = TrialRequest,
    params(("Idempotency-Key" = Option<String>, Header, description = "What the caller names this call: sent again with it, it creates nothing new", example = "night-417", pattern = "^[!-~]{1,255}$")),
    responses((status = 202, body = Trial), Changing)
)]
pub(super) async fn begin(
    State(app): State<Arc<ApiState>>,
    Extension(CallerName(who)): Extension<CallerName>,
    JsonBody(request): JsonBody<TrialRequest>,
) -> Result<(StatusCode, Json<Trial>), ApiError> {
    Ok((StatusCode::ACCEPTED, Json(app.trials.begin(request, who).await?)))
}

/// One trial: how far it is, or its result.
#[utoipa::path(
    get, path = "/trials/{id}", operation_id = "show_trial", tag = "trials",
    params(("id" = u64, Path, description = "The trial's number")),
    responses((status = 200, body = Trial), Finding)
)]
pub(super) async fn show(
    State(app): State<Arc<ApiState>>,
    PathParams(id): PathParams<u64>,
) -> Result<Json<Trial>, ApiError> {
    match app.trials.get(id).await {
        Ok(Some(trial)) => Ok(Json(trial)),
        Ok(None) => Err(ApiError::unknown(format!("There is no trial {id}; only the last ones are kept."))),
        Err(error) => Err(ApiError::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "database-away",
            "The database does not answer",
            error,
        )),
    }
}
