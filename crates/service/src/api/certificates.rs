//! Certificates as they are shown to clients.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use merismos_api::Certificates;

use super::ApiState;
use super::problem::{ApiError, Looking};

/// Every certificate of the running revision: for which names it is, until when, which frontends show it, and what is wrong with it.
#[utoipa::path(
    get, path = "/certificates", operation_id = "list_certificates", tag = "look",
    responses((status = 200, body = Certificates), Looking)
)]
pub(super) async fn list(State(app): State<Arc<ApiState>>) -> Result<Json<Certificates>, ApiError> {
    let view = app.controller.view().await?;
    Ok(Json(Certificates { certificates: app.certificates.views(view.effective.document()) }))
}
